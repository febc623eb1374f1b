"""The careful caller, led by a description: each operation with its pages, its limits, and the partner's own ways of saying no."""

from __future__ import annotations

import threading
import time
from collections import deque
from collections.abc import Iterator, Mapping
from typing import Any
from urllib.parse import urlsplit

import httpx

from ...core.writing import grouped
from ..errors import (
    CannotAsk,
    CarrierUnknown,
    Denied,
    Malformed,
    NotThere,
    OutsideError,
    Postponed,
    RateLimited,
    Refused,
    Unavailable,
    UnknownOutcome,
)
from ..http import Caller
from .expressions import BadDocument, document, getter
from .fields import FINDS, OPERATIONS
from .records import AnswerReader, Record, Rows
from .requests import build
from .schema import Description, FailureRule, Form, Means, Operation, Paging
from .sign_in import Save, SignedIn
from .specs import OperationSpec
from .values import as_text

# A call that would have to wait longer than so many seconds for its turn is put off instead.
_WAIT_MOST = 2.0
_DAY = 86_400


class DescribedCaller(Caller):
    """Calls one described partner."""

    def __init__(
        self,
        description: Description,
        address: str,
        key: str,
        deadline: float,
        transport: httpx.BaseTransport | None = None,
        save: Save | None = None,
    ) -> None:
        super().__init__(description.name, address, {"Accept": _accepts(description)}, deadline, transport)
        self.description = description
        self.client.auth = SignedIn(description, key, self.client, save)
        self.specs = OPERATIONS[description.owner]
        self.readers: dict[str, AnswerReader] = {}
        self.turns: deque[float] = deque()
        self.lock = threading.Lock()
        self.heads = (description.limits.limit, description.limits.left, description.limits.wait)
        self.currency = description.money.currency or str(description.facts.get("currency", ""))

    # What may be asked of it

    def has(self, name: str) -> bool:
        return name in self.description.operations

    def operation(self, name: str) -> Operation:
        """Refused where the description has none of that name."""
        try:
            return self.description.operations[name]
        except KeyError:
            raise Refused(f"{self.name} cannot be asked to {self.specs[name].about}: its description does not say how") from None

    def reader(self, name: str) -> AnswerReader:
        if name not in self.readers:
            self.readers[name] = AnswerReader(self.description, name, self.specs[name], self.operation(name))
        return self.readers[name]

    # One call

    def perform(self, name: str, given: Mapping[str, Any], data: bytes = b"", kind: str = "", target: str = "") -> httpx.Response:
        """Carry out an operation. target: where its next portion is, by the partner's own word."""
        operation, spec = self.operation(name), self.specs[name]
        built = build(operation.call, given, data, kind)
        self._await_turn()
        response = self._send(
            built.method, target or built.target, asking=not spec.writes, file=spec.many and not spec.writes,
            content=built.content, headers=built.headers,
        )  # fmt: skip
        self._failed_all_the_same(response, spec)
        return response

    def one(self, name: str, given: Mapping[str, Any], data: bytes = b"", kind: str = "") -> Record:
        """An operation whose answer is one row. Of a write whose answer cannot be read the outcome is unknown."""
        response = self.perform(name, given, data, kind)
        try:
            return self.reader(name).one(response.content, self.currency, self.name)
        except Malformed as error:
            if self.specs[name].writes:
                raise UnknownOutcome(error.message) from error
            raise

    def done(self, name: str, given: Mapping[str, Any]) -> None:
        """A write whose answer says nothing that we need; one that is no document at all leaves its outcome unknown."""
        response = self.perform(name, given)
        operation = self.operation(name)
        if response.content and (operation.fields or operation.whole):
            try:
                document(operation, response.content)
            except BadDocument as error:
                raise UnknownOutcome(f"{self.name}'s answer cannot be read ({name}): {error}") from error

    def rows(self, name: str, given: Mapping[str, Any]) -> Rows:
        return self.reader(name).read(self.perform(name, given).content, self.currency, self.name)

    # Long lists

    def portion(self, name: str, page: int, cursor: str) -> tuple[Rows, str, int]:
        """One portion of a long list by its number and the cursor of the one before. Returns its rows, the next cursor ('' = it was the
        last), and how many portions there are as far as is known."""
        operation = self.operation(name)
        paging = operation.paging
        if paging is None:
            return self.rows(name, place_of(Paging(by="page"), 1, "")), "", 1
        if page > paging.most:
            raise Malformed(f"{self.name} never comes to an end: more than {paging.most} portions ({name})")
        target = cursor if paging.by == "link" and cursor else ""
        response = self.perform(name, place_of(paging, page, cursor), target=target)
        found = self.reader(name).read(response.content, self.currency, self.name)
        after, pages = self._onward(operation, paging, page, cursor, found, response)
        return found, after, pages

    def _onward(
        self, operation: Operation, paging: Paging, page: int, cursor: str, found: Rows, response: httpx.Response
    ) -> tuple[str, int]:
        told = len(found.rows) + len(found.bad)
        said = {key: self._said(operation, getattr(paging, key), found.raw) for key in ("pages", "total", "next", "more")}
        if paging.by in ("page", "offset"):
            last = _count(said["pages"]) if paging.pages else None
            if last is None and paging.total and paging.size:
                last = -(-(_count(said["total"]) or 0) // paging.size)
            if last is None:
                last = page + 1 if told and told >= max(paging.size, 1) and _yes(said["more"], paging) else page
            return (str(page + 1) if page < last else "", min(last, paging.most))
        if paging.by == "link":
            after = self._same_place(response.links.get("next", {}).get("url", ""), response)
        else:
            after = "" if said["next"] is None else as_text(said["next"])
        if after and after == cursor:
            if not told or not _yes(said["more"], paging):
                return "", page
            raise Malformed(f"{self.name} gives the same cursor again and again ({after[:60]})")
        if paging.more and not _yes(said["more"], paging):
            after = ""
        return after, page + 1 if after else page

    def _said(self, operation: Operation, expression: str, raw: Any) -> Any:  # noqa: ANN401 - whatever an answer holds
        if not expression:
            return None
        node = raw[-1] if operation.read is Form.csv and raw else raw
        return getter(operation.read, expression, self.description.namespaces)(node)

    def _same_place(self, link: str, response: httpx.Response) -> str:
        if not link:
            return ""
        whole = urlsplit(str(response.request.url.join(link)))
        here = urlsplit(str(self.client.base_url))
        if (whole.scheme, whole.netloc) != (here.scheme, here.netloc):
            raise Malformed(f"{self.name} says that its next portion is at another address ({whole.netloc[:60]}); it is not followed")
        return whole.geturl()

    def all_of(self, name: str) -> Iterator[Rows]:
        """Portion by portion to the end."""
        page, cursor = 1, ""
        while True:
            found, cursor, _ = self.portion(name, page, cursor)
            yield found
            if not cursor:
                return
            page += 1

    def since(self, name: str, cursor: str) -> tuple[Rows, str, bool]:
        """What came after a cursor that is kept between readings: rows, the new cursor, whether there is more."""
        operation = self.operation(name)
        paging = operation.paging or Paging(by="cursor")
        response = self.perform(name, place_of(paging, 1, cursor or paging.first))
        found = self.reader(name).read(response.content, self.currency, self.name)
        said = self._said(operation, paging.next, found.raw)
        after = as_text(said) if said is not None else found.whole.get("cursor", "")
        more = _yes(self._said(operation, paging.more, found.raw), paging) if paging.more else bool(found.whole.get("more", False))
        if more and after == cursor:
            raise Malformed(f"{self.name} says that there is more, and gives the same cursor again ({after[:60]})")
        return found, after or cursor, more

    def asked_of(self, name: str, references: list[str]) -> list[Record]:
        """Rows about some references of ours, so many a call as the partner takes; what is not there is left out."""
        most = self.operation(name).most
        out: list[Record] = []
        for start in range(0, len(references), max(most, 1)):
            some = references[start : start + max(most, 1)]
            try:
                found = self.rows(name, {"references": some, "reference": some[0], "numbers": some, "number": some[0]})
            except NotThere:
                continue
            if found.bad:
                raise Malformed(f"{self.name}'s answer cannot be read ({name}): {found.bad[0]}")
            out += found.rows
        return out

    def must_find(self, write: str) -> None:
        """CannotAsk where the description says that nobody there knows what became of a write."""
        if write in self.description.cannot_find or not self.has(FINDS.get(write, write)):
            raise CannotAsk(f"{self.name} cannot be asked whether it arrived; look there, and say here what you find")

    # Limits and failures

    def _await_turn(self) -> None:
        said = self.description.limits
        limits = [(most, seconds) for most, seconds in ((said.calls, said.seconds), (said.day, _DAY)) if most]
        if not limits:
            return
        with self.lock:
            now, longest = time.monotonic(), max(seconds for _, seconds in limits)
            while self.turns and self.turns[0] <= now - longest:
                self.turns.popleft()
            wait = 0.0
            for most, seconds in limits:
                wait = max(wait, self.turns[-most] + seconds - now if len(self.turns) >= most else 0.0)
                if wait > _WAIT_MOST:
                    span = "a day" if seconds == _DAY else f"{seconds} s"
                    raise RateLimited(f"{self.name} takes {grouped(most)} calls in {span}, and they are used up", wait)
            self.turns.append(now + wait)
        if wait > 0:
            time.sleep(wait)

    def _failed_all_the_same(self, response: httpx.Response, spec: OperationSpec) -> None:
        """Some partners answer with success and say within that it failed."""
        failures = self.description.failures
        if not failures.when:
            return
        found = self._of_failure(response, failures.when)
        if found in (None, False, "", [], 0, "0", "false"):
            return
        words, code = self._words(response)
        rule = self._rule(response.status_code, code, coded=True)
        raise self._as_error(rule.means if rule else failures.otherwise, words, response, not spec.writes)

    def _of_failure(self, response: httpx.Response, expression: str) -> Any:  # noqa: ANN401 - whatever an answer holds
        if not expression:
            return None
        failures = self.description.failures
        try:
            said = document(Operation(read=failures.read, delimiter=failures.delimiter), response.content)
            node = said[0] if failures.read is Form.csv and said else said
            return getter(failures.read, expression, self.description.namespaces)(node)
        except (BadDocument, ValueError, LookupError, AttributeError, TypeError):
            return None

    def _words(self, response: httpx.Response) -> tuple[str, str]:
        failures = self.description.failures
        words, code = (self._of_failure(response, one) for one in (failures.words, failures.code))
        said = []
        for one in (words, code):
            try:
                said.append("" if one is None else as_text(one)[:300])
            except ValueError:
                said.append("")
        return said[0] or f"status {response.status_code}", said[1]

    def _rule(self, status: int, code: str, coded: bool = False) -> FailureRule | None:
        for rule in self.description.failures.rules:
            if rule.codes and code in rule.codes and (not rule.status or status in rule.status):
                return rule
            if not rule.codes and status in rule.status and not coded:
                return rule
        return None

    def _failure(self, response: httpx.Response, asking: bool) -> OutsideError:
        words, code = self._words(response)
        rule = self._rule(response.status_code, code)
        return self._as_error(rule.means, words, response, asking) if rule else super()._failure(response, asking)

    def _as_error(self, means: Means, words: str, response: httpx.Response, asking: bool) -> OutsideError:
        said = f"{self.name} says: {words}"
        if means is Means.busy:
            return self._busy(response)
        if means is Means.denied:
            return Denied(f"{self.name} does not accept the key: {words}")
        if means is Means.away or (means is Means.unknown and asking):
            return Unavailable(f"{self.name} is out of order for the moment ({words})")
        if means is Means.unknown:
            return UnknownOutcome(f"{self.name} failed ({words})")
        kinds: dict[Means, type[OutsideError]] = {Means.later: Postponed, Means.not_there: NotThere, Means.carrier: CarrierUnknown}
        return kinds.get(means, Refused)(said)


def place_of(paging: Paging, page: int, cursor: str) -> dict[str, Any]:
    first = int(paging.first) if paging.by in ("page", "offset") and paging.first.isdecimal() else 1 if paging.by == "page" else 0
    return {
        "page": page - 1 + first,
        "offset": first + (page - 1) * paging.size,
        "cursor": cursor or ("" if paging.by in ("page", "offset") else paging.first),
        "size": paging.size,
    }


def _count(said: Any) -> int | None:  # noqa: ANN401 - whatever an answer holds
    try:
        return None if said is None else max(int(as_text(said)), 0)
    except ValueError as error:
        raise Malformed(f"how many portions there are cannot be read: {str(said)[:60]}") from error


def _yes(said: Any, paging: Paging) -> bool:  # noqa: ANN401 - whatever an answer holds
    """Whether there is more, where something says so; True where nothing does."""
    return not paging.more or said in (True, "true", "1", 1, "yes")


def _accepts(description: Description) -> str:
    forms = {one.read for one in description.operations.values()}
    kinds = {Form.json: "application/json", Form.xml: "application/xml", Form.csv: "text/csv"}
    return ", ".join([*(kinds[form] for form in Form if form in forms), "*/*;q=0.1"])


def first_place(paging: Paging | None) -> dict[str, Any]:
    """What is given to a call for the first portion of a list."""
    return place_of(paging or Paging(by="page"), 1, "")
