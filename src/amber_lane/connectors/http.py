"""One careful HTTP caller for all connectors: a deadline on every call, and errors in our words."""

from __future__ import annotations

import ssl
from collections.abc import Callable, Mapping
from contextlib import suppress
from datetime import UTC, datetime
from email.utils import parsedate_to_datetime
from functools import lru_cache
from pathlib import Path
from typing import Any, TypeVar

import httpx
from pydantic import BaseModel, TypeAdapter, ValidationError

from . import outside
from .errors import Denied, Malformed, NotThere, OutsideError, Postponed, RateLimited, Refused, Unavailable, UnknownOutcome
from .protocols import Budget

M = TypeVar("M", bound=BaseModel)
ANSWER_MAX = 50_000_000
FILE_MAX = 120_000_000
# A call may take so many times its deadline altogether, which is that of each of its steps; one for a file, longer.
TIMES, FILE_TIMES = 2.0, 12.0
# What holds for the answer as it came, not as it is kept.
_ABOUT_THE_BODY = ("content-encoding", "content-length", "transfer-encoding")


class _TooMuch(Exception):
    def __init__(self, most: int) -> None:
        self.most = most


@lru_cache(maxsize=1)
def _trust() -> ssl.SSLContext:
    """Reading the machine's certificates takes a while, so it is done once."""
    return ssl.create_default_context()


class Caller:
    """Calls one partner. `asking` calls change nothing there, so their failures are never an unknown outcome.

    codes: what the partner's own codes for saying no mean in our words; a code that is not among them is a plain refusal.
    """

    def __init__(
        self,
        name: str,
        address: str,
        headers: dict[str, str],
        deadline: float,
        transport: httpx.BaseTransport | None = None,
        codes: Mapping[str, type[Refused | Postponed]] | None = None,
    ) -> None:
        self.name, self.codes = name, codes or {}
        # The headers that tell how often it may be called, how often still, and how long to wait.
        self.heads = ("calls-limit", "calls-left", "retry-after")
        self.budget: Budget | None = None
        try:
            self.client = httpx.Client(
                base_url=address.rstrip("/"),
                headers=headers,
                transport=transport or outside.Transport(_trust),
                follow_redirects=False,
                timeout=httpx.Timeout(deadline, connect=min(deadline, 5.0)),
                trust_env=False,
            )
        except (httpx.InvalidURL, UnicodeError, ValueError, TypeError) as error:
            # Also a key that no header can carry.
            raise Refused(f"{address[:100]} is not an address that can be called, or its key holds signs that none has") from error
        self.deadline = deadline

    def ask(self, path: str, model: type[M], **params: object) -> M:
        """A question; it may be repeated at will."""
        response = self._send("GET", path, asking=True, params=params)
        return self._read(response, model)

    def tell(self, method: str, path: str, body: object, model: type[M], headers: dict[str, str] | None = None) -> M:
        """A change; when its answer is lost or torn the outcome is unknown."""
        response = self._send(method, path, asking=False, json=body, headers=headers)
        try:
            return self._read(response, model)
        except Malformed as error:
            raise UnknownOutcome(error.message) from error

    def tell_bytes(self, path: str, data: bytes, kind: str, model: type[M]) -> M:
        """Hand over a file, and read the answer."""
        return self._read(self._send("POST", path, asking=False, content=data, headers={"content-type": kind}), model)

    def fetch(self, path: str, **options: object) -> httpx.Response:
        """A question whose answer is a file or a page."""
        return self._send("GET", path, asking=True, file=True, **options)

    def look(self, method: str, path: str, **options: Any) -> httpx.Response:  # noqa: ANN401 - passed on to httpx
        """A question by another method than GET, which may be repeated at will."""
        return self._send(method, path, asking=True, **options)

    def download(self, path: str, into: Path, keep: Callable[[Path, bytes], object]) -> None:
        """Fetch a file in parts that are kept as they come (by `keep`), going on where `into` ends; what came stays after a failure."""
        done = into.stat().st_size if into.exists() else 0
        try:
            with (
                outside.within(self.deadline * FILE_TIMES),
                self.client.stream("GET", path, headers={"Range": f"bytes={done}-"} if done else None) as came,
            ):
                if came.status_code == 416:
                    return
                if not came.is_success:
                    came.read()
                    raise self._failure(came, asking=True)
                if done and came.status_code != 206:
                    # It sends no parts, so all of it comes again.
                    into.unlink()
                into.touch()
                for part in came.iter_bytes(262_144):
                    keep(into, part)
        except httpx.HTTPError as error:
            raise Unavailable(f"{self.name} did not send the whole file in time") from error

    def send(self, method: str, path: str, **options: Any) -> httpx.Response:  # noqa: ANN401 - passed on to httpx
        """A change by a form or a file; whatever else is sent comes in `options`."""
        return self._send(method, path, asking=False, **options)

    def _send(self, method: str, path: str, asking: bool, file: bool = False, **options: object) -> httpx.Response:
        try:
            with outside.within(self.deadline * (FILE_TIMES if file else TIMES)):
                response = self._whole(method, path, FILE_MAX if file else ANSWER_MAX, **options)
        except _TooMuch as error:
            message = f"{self.name} answered more than {error.most // 1_000_000} MB"
            raise (Malformed(message) if asking else UnknownOutcome(message)) from error
        except (httpx.ConnectError, httpx.ConnectTimeout, httpx.PoolTimeout) as error:
            raise Unavailable(f"{self.name} cannot be reached at {self.client.base_url}; is the address right?") from error
        except httpx.HTTPError as error:
            late = isinstance(error, httpx.TimeoutException)
            message = f"{self.name} did not answer in time" if late else f"the line to {self.name} broke off before its answer was here"
            raise (Unavailable(message) if asking else UnknownOutcome(message)) from error
        except (httpx.InvalidURL, UnicodeError, ValueError) as error:
            raise Refused(f"{self.client.base_url} is not an address that can be called") from error
        self._note_budget(response)
        if response.is_success:
            return response
        raise self._failure(response, asking)

    def _whole(self, method: str, path: str, most: int, **options: Any) -> httpx.Response:  # noqa: ANN401 - passed on to httpx
        """An answer with all that it holds, unpacked; _TooMuch as soon as that is more than so many bytes."""
        with self.client.stream(method, path, **options) as came:
            body = bytearray()
            for part in came.iter_bytes():
                body += part
                if len(body) > most:
                    raise _TooMuch(most)
            kept = ("content-length",) if method == "HEAD" else ()
            heads = [(name, value) for name, value in came.headers.multi_items() if name in kept or name not in _ABOUT_THE_BODY]
            return httpx.Response(came.status_code, headers=heads, content=bytes(body), request=came.request)

    def _note_budget(self, response: httpx.Response) -> None:
        limit, left = (response.headers.get(name, "") for name in self.heads[:2])
        if limit.isdecimal() and left.isdecimal():
            self.budget = Budget(min(int(limit), 10**9), min(int(left), 10**9))

    def _failure(self, response: httpx.Response, asking: bool) -> OutsideError:
        status, (said, code) = response.status_code, self._words(response)
        if status == 429:
            return self._busy(response)
        if status in (401, 403):
            return Denied(f"{self.name} does not accept the key: {said}")
        if status == 503:
            # By its meaning, 503 says that the work was not taken up.
            return Unavailable(f"{self.name} is out of order for the moment")
        if status >= 500:
            message = f"{self.name} failed ({status})"
            return Unavailable(message) if asking else UnknownOutcome(message)
        if status in (423, 425):
            # Locked, or too early: the same will be taken another time.
            return Postponed(f"{self.name} says: {said}")
        if code in self.codes:
            return self.codes[code](f"{self.name} says: {said}")
        if status == 404 and asking:
            return NotThere(f"{self.name} says: {said}")
        if 300 <= status < 400:
            return Refused(f"{self.name} sends us elsewhere; check the address")
        return Refused(f"{self.name} says: {said}")

    def _busy(self, response: httpx.Response) -> RateLimited:
        """Too many calls; it says for how long as a number of seconds or as a moment."""
        text = response.headers.get(self.heads[2], "")
        wait = 5.0
        if text.isdecimal():
            wait = float(text)
        else:
            with suppress(TypeError, ValueError):
                wait = max((parsedate_to_datetime(text) - datetime.now(UTC)).total_seconds(), 1.0)
        return RateLimited(f"{self.name} takes no more calls for the moment", min(wait, 86_400.0))

    def _words(self, response: httpx.Response) -> tuple[str, str]:
        """What a partner says of a failure: its words for a person, and its code, where it has one."""
        try:
            body = response.json()
            said = body.get("detail") or body.get("error") if isinstance(body, dict) else ""
        except ValueError:
            said = ""
        code = ""
        if isinstance(said, dict):
            said, code = said.get("says", ""), str(said.get("code", ""))
        return str(said)[:300] if said else f"status {response.status_code}", code

    def _read(self, response: httpx.Response, model: type[M]) -> M:
        try:
            return TypeAdapter(model).validate_json(response.content)
        except ValidationError as error:
            where = error.errors()[0]
            place = ".".join(str(part) for part in where["loc"]) or "the text"
            raise Malformed(f"{self.name}'s answer cannot be read: {place}: {where['msg']}") from error
