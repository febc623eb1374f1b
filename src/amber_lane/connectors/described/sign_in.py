"""How a described partner knows us: keys, tokens that run out, signatures over the call. What the key holds never leaves this file but in
the call itself."""

from __future__ import annotations

import base64
import hashlib
import hmac
import json
import threading
import time
from collections.abc import Callable, Generator, Mapping
from datetime import UTC, datetime
from urllib.parse import parse_qsl, urlencode

import httpx
from oauthlib.oauth2 import BackendApplicationClient, OAuth2Error, WebApplicationClient

from ..errors import Denied, Malformed, RateLimited, Unavailable
from .expressions import BadDocument, evaluate
from .requests import build
from .schema import Description, SignIn
from .templates import fill
from .values import as_text

# A token that nobody says an end of is fetched anew after so many seconds; one that has so many left is not begun with.
_USUAL, _EARLY = 3_000.0, 30.0
_TOKEN_MOST = 100_000
Save = Callable[[str], None]


def parts_of(description: Description, key: str) -> dict[str, str]:
    """The parts of a key as it was typed; the last one may hold colons."""
    names = description.key
    return {"key": key, **dict(zip(names, [*key.split(":", len(names) - 1), *[""] * len(names)], strict=False))}


def digest(name: str, secret: str, text: str, encoding: str) -> str:
    """A keyed signature, HMAC with a hash of the SHA-2 family."""
    made = hmac.new(secret.encode(), text.encode(), getattr(hashlib, name))
    return made.hexdigest() if encoding == "hex" else base64.b64encode(made.digest()).decode()


def _bounded(response: httpx.Response) -> bytes:
    """What a token's answer holds, which is never much."""
    body = b""
    for part in response.iter_bytes():
        body += part
        if len(body) > _TOKEN_MOST:
            raise Malformed("the partner's token is longer than any")
    return body


class SignedIn(httpx.Auth):
    """Puts the sign-in on each call. One that is refused for its token is made once more with a new one."""

    requires_request_body = True

    def __init__(self, description: Description, key: str, client: httpx.Client, save: Save | None = None) -> None:
        self.how: SignIn = description.sign_in
        self.names = description.key
        self.client, self.base = client, str(client.base_url).rstrip("/")
        self.parts, self.save = parts_of(description, key), save
        self.token, self.until = "", 0.0
        self.lock = threading.Lock()
        # One call fetches a token for all that wait for one: a renewed key replaces the one that another would still send.
        self.fetching = threading.Lock()

    def auth_flow(self, request: httpx.Request) -> Generator[httpx.Request, httpx.Response, None]:
        kind = self.how.kind
        if kind in ("token", "oauth_client", "oauth_code"):
            yield from self._with_token(request)
            return
        if kind == "header":
            request.headers[self.how.name] = self._filled(self.how.value)
        elif kind == "bearer":
            request.headers["Authorization"] = f"Bearer {self._filled(self.how.value)}"
        elif kind == "basic":
            said = f"{self._part(0)}:{self._part(1)}"
            request.headers["Authorization"] = "Basic " + base64.b64encode(said.encode()).decode()
        elif kind == "query":
            request.url = request.url.copy_merge_params({self.how.name: self._filled(self.how.value)})
        elif kind == "signature":
            self._sign(request)
        yield request

    def _part(self, place: int) -> str:
        """A part of the key; '' where the description names fewer."""
        return self.parts[self.names[place]] if place < len(self.names) else ""

    def _filled(self, text: str, **more: str) -> str:
        return fill(text, {**self.parts, **more})

    def _sign(self, request: httpx.Request) -> None:
        how, now = self.how, time.time()
        moment = {
            "seconds": str(int(now)),
            "milliseconds": str(int(now * 1000)),
            "iso": datetime.fromtimestamp(now, UTC).strftime("%Y-%m-%dT%H:%M:%SZ"),
        }[how.time]
        target = request.url.raw_path.decode()
        path, _, query = target.partition("?")
        said = {"method": request.method, "path": path, "query": query, "target": target, "time": moment}
        said["body"] = request.content.decode("utf-8", "replace")
        said["body_hash"] = hashlib.sha256(request.content).hexdigest()
        secret = self._part(len(self.names) - 1)
        signature = digest(how.hash, secret, fill(how.text, said | {k: v for k, v in self.parts.items() if v != secret}), how.encoding)
        for name, text in how.headers.items():
            request.headers[name] = self._filled(text, time=moment)
        request.headers[how.name] = fill(how.value, {**self.parts, "signature": signature, "time": moment, "key": signature})

    def _with_token(self, request: httpx.Request) -> Generator[httpx.Request, httpx.Response, None]:
        used = self._token()
        self._put_on(request, used)
        response = yield request
        if response.status_code in (401, 403):
            # A refused token says that nothing was done, so the call may be made again with a new one.
            with self.lock:
                if self.token == used:
                    self.token = ""
            self._put_on(request, self._token())
            yield request

    def _token(self) -> str:
        """The token that is held, or a new one."""
        with self.fetching:
            if not self._held():
                self._fetch()
            return self.token

    def _held(self) -> str:
        with self.lock:
            return self.token if self.token and time.monotonic() < self.until else ""

    def _put_on(self, request: httpx.Request, token: str) -> None:
        if self.how.kind == "token":
            request.headers[self.how.name or "Authorization"] = fill(self.how.value, {"token": token, **self.parts})
        else:
            request.headers["Authorization"] = f"Bearer {token}"

    def _fetch(self) -> None:
        """A new token, by a call of its own over the same way out."""
        method, address, headers, content = self._token_request()
        with self.client.stream(method, address, headers=headers, content=content, auth=None) as response:
            body = _bounded(response)
        if response.status_code in (400, 401, 403):
            raise Denied("the partner gives no token for this key; is it still good?")
        if response.status_code == 429:
            raise RateLimited("the partner gives no more tokens for the moment", 10.0)
        if not response.is_success:
            raise Unavailable(f"the partner gives no token for the moment ({response.status_code})")
        try:
            token, seconds = self._read(body)
        except (BadDocument, ValueError, TypeError, KeyError, OAuth2Error) as error:
            raise Malformed("the partner's token cannot be read") from error
        with self.lock:
            self.token, self.until = token, time.monotonic() + max(seconds - _EARLY, seconds / 2)

    def _token_request(self) -> tuple[str, str, dict[str, str], bytes | None]:
        """Method, address, headers and body of the call that fetches a token."""
        how = self.how
        if how.kind == "token":
            if how.call is None:
                raise Denied("the description does not say how a token is fetched")
            built = build(how.call, self.parts)
            return built.method, self.base + built.target, built.headers, built.content
        client, secret = self._part(0), self._part(1)
        if how.kind == "oauth_client":
            body = BackendApplicationClient(client).prepare_request_body(scope=how.scope or None)
        else:
            body = WebApplicationClient(client).prepare_refresh_body(refresh_token=self._part(2), scope=how.scope or None)
        sign = base64.b64encode(f"{client}:{secret}".encode()).decode()
        head = {"Authorization": f"Basic {sign}", "Content-Type": "application/x-www-form-urlencoded", "Accept": "application/json"}
        address = how.token_address if "://" in how.token_address else self.base + how.token_address
        return "POST", address, head, urlencode(parse_qsl(body)).encode()

    def _read(self, body: bytes) -> tuple[str, float]:
        if self.how.kind == "token":
            said = json.loads(body)
            token = as_text(evaluate(self.how.token, said) or "")
            seconds = evaluate(self.how.seconds, said) if self.how.seconds else None
            if not 1 <= len(token) <= 4_000:
                raise BadDocument("there is no token")
            return token, float(seconds or _USUAL)
        client = self._part(0)
        reader = BackendApplicationClient(client) if self.how.kind == "oauth_client" else WebApplicationClient(client)
        found: Mapping[str, object] = reader.parse_request_body_response(body.decode())
        fresh = str(found.get("refresh_token") or "")
        if self.how.kind == "oauth_code" and fresh and fresh != self._part(2) and self.save:
            # The old one may count no longer.
            self.parts[self.names[2]] = fresh
            self.save(":".join(self._part(n) for n in range(3)))
        return str(found["access_token"]), float(str(found.get("expires_in") or _USUAL))
