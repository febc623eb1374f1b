"""A described call, made of what is given."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any
from urllib.parse import urlencode

import orjson

from ..errors import Refused
from .expressions import BadDocument, evaluate
from .schema import Request
from .templates import fill


@dataclass(frozen=True)
class Built:
    """A call as it goes out, but for the sign-in. target: path with its query."""

    method: str
    target: str
    headers: dict[str, str]
    content: bytes | None


def build(request: Request, given: Mapping[str, Any], data: bytes = b"", kind: str = "") -> Built:
    """The call that a description makes of what is given; data, kind: a file that is handed over, and its content type.

    Refused where the description does not fit what is given.
    """
    said = _in_their_words(request, given)
    target = fill(request.path, said, "path")
    pairs = [(name, text) for name, template in request.query.items() if (text := fill(template, said)) or not request.drop_empty]
    if pairs:
        target += ("&" if "?" in target else "?") + urlencode(pairs)
    headers = {name: fill(template, said) for name, template in request.headers.items()}
    for text in headers.values():
        if "\n" in text or "\r" in text or not text.isascii():
            raise Refused("a header of the description holds what no header can carry")
    try:
        content, usual = _body(request, said, data, kind)
    except BadDocument as error:
        raise Refused(f"a body of the description cannot be made: {error}") from error
    if content is not None:
        headers.setdefault("Content-Type", request.kind or usual)
    return Built(request.method, target, headers, content)


def _in_their_words(request: Request, given: Mapping[str, Any]) -> dict[str, Any]:
    out = dict(given)
    for name, codes in request.given.items():
        if name in out and out[name] is not None:
            out[name] = codes.get(str(out[name]), out[name])
        if "changes" in out:
            out["changes"] = [
                one | {name: codes.get(str(one[name]), one[name])} if one.get(name) is not None else one for one in out["changes"]
            ]
    return out


def _body(request: Request, said: Mapping[str, Any], data: bytes, kind: str) -> tuple[bytes | None, str]:
    if request.bytes:
        return data, kind
    if request.json_:
        return orjson.dumps(_value(request, request.json_, said)), "application/json"
    if request.graphql:
        variables = _value(request, request.variables, said) if request.variables else {}
        return orjson.dumps({"query": request.graphql, "variables": variables}), "application/json"
    if request.form:
        return urlencode(_flat(_value(request, request.form, said))).encode(), "application/x-www-form-urlencoded"
    if request.xml:
        return fill(request.xml, said, "xml").encode(), "application/xml; charset=utf-8"
    if request.text:
        return fill(request.text, said).encode(), "text/plain; charset=utf-8"
    return None, ""


def _value(request: Request, expression: str, said: Mapping[str, Any]) -> Any:  # noqa: ANN401 - a body of any shape
    found = evaluate(expression, dict(said))
    return _without_empty(found) if request.drop_empty else found


def _without_empty(value: Any) -> Any:  # noqa: ANN401 - a body of any shape
    if isinstance(value, dict):
        return {name: _without_empty(one) for name, one in value.items() if one is not None}
    return [_without_empty(one) for one in value] if isinstance(value, list) else value


def _flat(value: Any, name: str = "") -> list[tuple[str, str]]:  # noqa: ANN401 - a body of any shape
    """Names and values of a form: what is within is named by brackets, as lines[0][item]."""
    if isinstance(value, dict):
        return [pair for key, one in value.items() for pair in _flat(one, f"{name}[{key}]" if name else key)]
    if isinstance(value, list):
        return [pair for n, one in enumerate(value) for pair in _flat(one, f"{name}[{n}]")]
    if not name:
        raise BadDocument("a form needs names and values")
    return [(name, "" if value is None else str(value).lower() if isinstance(value, bool) else str(value))]
