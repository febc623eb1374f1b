"""Looking at a partner through its description: what is asked, what comes back, and what is read of it, row by row."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import UTC, date, datetime
from decimal import Decimal
from typing import Any

import orjson
from lxml import etree

from ...core.currency import show
from ..errors import OutsideError, Refused
from .caller import DescribedCaller, first_place
from .expressions import BadDocument, Node, document
from .fields import OPERATIONS
from .records import RecordReader
from .requests import Built, build
from .schema import Description, Form
from .specs import Type

ROWS, SAMPLE = 100, 20_000
HIDDEN = "(hidden)"


@dataclass(frozen=True)
class ShownCall:
    """A call as it goes out, but for what is secret."""

    method: str
    address: str
    headers: dict[str, str]
    body: str


@dataclass(frozen=True)
class Cell:
    """A field of a row. raw: what stands there; value: what it is to us; fault: why it cannot be read."""

    raw: str
    value: str
    fault: str = ""


@dataclass(frozen=True)
class Tried:
    """rows: by our fields, at most ROWS of them; sample: the answer, cut; error: why there is none that can be read."""

    call: ShownCall
    sample: str = ""
    rows: list[dict[str, Cell]] = field(default_factory=list)
    whole: dict[str, Cell] = field(default_factory=dict)
    more: bool = False
    error: str = ""
    size: int = 0


def show_call(description: Description, address: str, name: str, given: Mapping[str, Any]) -> ShownCall:
    """A call as it would be. Refused where the description does not fit what is given."""
    operation = description.operations.get(name)
    if operation is None:
        raise Refused("the description has no such operation")
    return _shown(description, address, build(operation.call, given, b"(the picture)", "image/png"))


def _shown(description: Description, address: str, built: Built) -> ShownCall:
    how, headers = description.sign_in, dict(built.headers)
    target = built.target
    if how.kind in ("header", "token", "signature"):
        headers[how.name or "Authorization"] = HIDDEN
        headers |= dict.fromkeys(how.headers, HIDDEN)
    elif how.kind == "query":
        target += f"{'&' if '?' in target else '?'}{how.name}={HIDDEN}"
    elif how.kind != "none":
        headers["Authorization"] = HIDDEN
    body = (built.content or b"").decode("utf-8", "replace")
    if headers.get("Content-Type", "").startswith("application/json") and body:
        body = orjson.dumps(orjson.loads(body), option=orjson.OPT_INDENT_2).decode()
    return ShownCall(built.method, address.rstrip("/") + target, headers, body[:SAMPLE])


def try_read(call: DescribedCaller, name: str, given: Mapping[str, Any]) -> Tried:
    """Ask one of a partner's questions, and show what is read of its first portion."""
    description = call.description
    operation, spec = call.operation(name), OPERATIONS[description.owner][name]
    if spec.writes:
        raise Refused("this changes something there; it is tried on one chosen thing alone")
    asked = {**first_place(operation.paging), **given} if spec.paged else dict(given)
    shown = _shown(description, str(call.client.base_url), build(operation.call, asked))
    try:
        response = call.perform(name, asked)
    except OutsideError as error:
        return Tried(shown, error=error.message)
    sample = pretty(operation.read, response.content)
    try:
        reader = call.reader(name)
        raw = document(operation, response.content)
        found = reader.nodes(raw)
    except BadDocument as error:
        return Tried(shown, sample, error=f"the answer cannot be read: {error}", size=len(response.content))
    currency = call.currency
    rows = [cells(reader.row, node, operation.fields, currency) for node in found[:ROWS]]
    head = raw[0] if operation.read is Form.csv and isinstance(raw, list) and raw else raw
    return Tried(shown, sample, rows, cells(reader.head, head, operation.whole, currency), len(found) > ROWS, size=len(response.content))


def cells(reader: RecordReader, node: Node, fields: Mapping[str, Any], currency: str) -> dict[str, Cell]:
    """A row's fields, each by itself."""
    raw, each = reader.raw(node, fields), reader.each(node, currency)
    told = each.get("currency", ("", ""))[0] or currency
    out = {}
    for name, (value, fault) in each.items():
        spec = reader.specs.get(name)
        amount = spec is not None and spec.type is Type.money and value is not None
        said = show(value, reader.description.money.currency or told) if amount else _said(value)
        out[name] = Cell("" if raw.get(name) is None else _short(raw[name]), said, fault)
    return out


def _short(value: object) -> str:
    text = value if isinstance(value, str) else orjson.dumps(value, default=str).decode()
    return text if len(text) <= 200 else text[:199] + "…"


def _said(value: Any) -> str:  # noqa: ANN401 - a value of ours
    if value is None:
        return ""
    if isinstance(value, datetime):
        return value.astimezone(UTC).strftime("%Y-%m-%d %H:%M UTC")
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, date | int | Decimal):
        return str(value)
    if isinstance(value, bytes):
        return f"a file of {len(value)} bytes"
    if isinstance(value, tuple):
        return ", ".join(value)
    return _short(value)


def pretty(form: Form, body: bytes) -> str:
    """An answer to be looked at: laid out, and cut where it is long."""
    try:
        if form is Form.json:
            return orjson.dumps(orjson.loads(body), option=orjson.OPT_INDENT_2).decode()[:SAMPLE]
        if form is Form.xml:
            parser = etree.XMLParser(resolve_entities=False, no_network=True, load_dtd=False, remove_blank_text=True)
            return etree.tostring(etree.fromstring(body, parser), pretty_print=True, encoding="unicode")[:SAMPLE]
    except (ValueError, etree.XMLSyntaxError):
        pass
    return body[:SAMPLE].decode("utf-8", "replace")
