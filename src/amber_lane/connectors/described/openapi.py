"""A first description made of an OpenAPI 3 document: which of its calls may be which of ours, how it signs in, and where fields may be.

Everything in it is a proposal to be looked at beside live answers.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any

from .expressions import BadDocument
from .fields import FINDS, OPERATIONS
from .propose import plain_name, propose
from .schema import Description, Owner
from .specs import OperationSpec

_DEEP = 6
_CALLS_MOST = 2_000
# Which methods an operation of ours may be, by whether it changes something.
_ASKS, _WRITES = ("get",), ("post", "put", "patch")
_PAGES = {"page": "page", "pagenumber": "page", "offset": "offset", "skip": "offset"}
_PAGES |= dict.fromkeys(("cursor", "after", "since"), "cursor")
_SIZES = ("limit", "size", "perpage", "pagesize", "first", "count")
# What is asked of one thing has its number at the end of the path; what is changed of one, too.
_OF_ONE = {"listing", "item", "change", "find_label"}
_UNDER_ONE = {"fulfil", "fulfilments", "cancel", "refund", "recall", "answer_return"}


@dataclass(frozen=True)
class _Call:
    method: str
    path: str
    about: Mapping[str, Any]

    @property
    def parts(self) -> list[str]:
        return [one for one in self.path.split("/") if one]


def draft(document: Any, owner: Owner, name: str) -> dict[str, Any]:  # noqa: ANN401 - whatever was parsed
    """A description's data. BadDocument where it is no OpenAPI document."""
    if not isinstance(document, dict) or not isinstance(document.get("paths"), dict):
        raise BadDocument("this is no OpenAPI document: it names no paths")
    calls = list(_calls(document))[:_CALLS_MOST]
    out: dict[str, Any] = {"version": 1, "name": name, "owner": owner.value, "about": _text(document, "info", "title")}
    server = next((one.get("url", "") for one in document.get("servers") or [] if isinstance(one, dict)), "")
    if str(server).startswith("http"):
        out["address"] = str(server)[:300]
    out |= _sign_in(document)
    empty = Description.model_validate({**out, "operations": {}})
    operations: dict[str, Any] = {}
    for key, spec in OPERATIONS[owner].items():
        if call := _best(key, spec, calls):
            operations[key] = _operation(document, empty, key, spec, call)
    unasked = [write for write, find in FINDS.items() if write in operations and find not in operations]
    return out | {"operations": operations} | ({"cannot_find": unasked} if unasked else {})


def _text(document: Mapping[str, Any], *keys: str) -> str:
    found: Any = document
    for key in keys:
        found = found.get(key) if isinstance(found, dict) else None
    return str(found or "")[:300]


def _calls(document: Mapping[str, Any]) -> Iterator[_Call]:
    for path, methods in document["paths"].items():
        for method, about in methods.items() if isinstance(methods, dict) else ():
            if method in (*_ASKS, *_WRITES) and isinstance(about, dict):
                shared = methods.get("parameters") or []
                yield _Call(method, str(path), {**about, "parameters": [*shared, *(about.get("parameters") or [])]})


def _sign_in(document: Mapping[str, Any]) -> dict[str, Any]:
    schemes = (document.get("components") or {}).get("securitySchemes") or {}
    for scheme in schemes.values():
        kind, where = str(scheme.get("type", "")), str(scheme.get("scheme", "")).lower()
        if kind == "http" and where == "bearer":
            return {"sign_in": {"kind": "bearer"}}
        if kind == "http" and where == "basic":
            return {"sign_in": {"kind": "basic"}, "key": ["name", "secret"]}
        if kind == "apiKey" and scheme.get("in") in ("header", "query"):
            return {"sign_in": {"kind": scheme["in"], "name": str(scheme.get("name", ""))[:100]}}
        flow = (scheme.get("flows") or {}).get("clientCredentials") if kind == "oauth2" else None
        if flow:
            return {"sign_in": {"kind": "oauth_client", "token_address": str(flow.get("tokenUrl", ""))[:300]}, "key": ["client", "secret"]}
        flow = (scheme.get("flows") or {}).get("authorizationCode") if kind == "oauth2" else None
        if flow:
            places = {
                "authorize_address": str(flow.get("authorizationUrl", ""))[:300],
                "token_address": str(flow.get("tokenUrl", ""))[:300],
            }
            return {"sign_in": {"kind": "oauth_code", **places}, "key": ["client", "secret", "token"]}
    return {}


def _best(key: str, spec: OperationSpec, calls: list[_Call]) -> _Call | None:
    rated = [(worth, -len(call.path), n) for n, call in enumerate(calls) if (worth := _worth(key, spec, call)) > 0]
    return calls[max(rated)[2]] if rated else None


def _worth(key: str, spec: OperationSpec, call: _Call) -> float:
    """How well a call of theirs fits an operation of ours; 0 = not at all."""
    if call.method not in (_WRITES if spec.writes else _ASKS):
        return 0.0
    names = [plain_name(one) for one in call.parts if not one.startswith("{")]
    own = bool(call.parts) and call.parts[-1].startswith("{")
    if not names or own != (key in _OF_ONE) or ("{" in call.path and key not in _OF_ONE | _UNDER_ONE and not (key == "purchases" and own)):
        return 0.0
    if (key in _UNDER_ONE) and "{" not in call.path:
        return 0.0
    if call.method in ("put", "patch") and key not in ("change", "publish", "label", "claim"):
        return 0.0
    words = [plain_name(one) for one in (key, *spec.words)]
    for place, word in enumerate(words):
        if names[-1] in (word, f"{word}s", word.rstrip("s")):
            return 10.0 - place * 0.5
    return 0.0


def _resolved(document: Mapping[str, Any], schema: Any, deep: int = 0) -> Mapping[str, Any]:  # noqa: ANN401 - whatever it holds
    """A schema with its reference followed, and what it is all of in one."""
    for _ in range(_DEEP):
        if not isinstance(schema, dict):
            return {}
        if "$ref" not in schema:
            break
        found: Any = document
        for part in str(schema["$ref"]).removeprefix("#/").split("/"):
            found = found.get(part.replace("~1", "/").replace("~0", "~")) if isinstance(found, dict) else None
        schema = found
    if not isinstance(schema, dict):
        return {}
    for several in ("allOf", "oneOf", "anyOf"):
        if isinstance(schema.get(several), list) and deep < _DEEP:
            parts = [_resolved(document, one, deep + 1) for one in (schema[several] if several == "allOf" else schema[several][:1])]
            merged = {name: one for part in parts for name, one in (part.get("properties") or {}).items()}
            return {**next(iter(parts), {}), **schema, "properties": merged | (schema.get("properties") or {})}
    return schema


def _example(document: Mapping[str, Any], schema: Any, deep: int = 0) -> Any:  # noqa: ANN401 - whatever it holds
    """A made-up answer of a schema's shape."""
    shape = _resolved(document, schema)
    if "example" in shape and deep:
        return shape["example"]
    if shape.get("enum"):
        return shape["enum"][0]
    if shape.get("properties") and deep < _DEEP:
        return {name: _example(document, one, deep + 1) for name, one in list(shape["properties"].items())[:60]}
    if shape.get("type") == "array" and deep < _DEEP:
        return [_example(document, shape.get("items"), deep + 1)] * 2
    kind, form = shape.get("type"), shape.get("format")
    known = {"integer": 1, "number": 1.5, "boolean": True, "date-time": "2026-01-01T00:00:00Z", "date": "2026-01-01"}
    return known.get(str(form), known.get(str(kind), "1"))


def _json_of(part: Any) -> Any:  # noqa: ANN401 - a schema or nothing
    content = part.get("content") if isinstance(part, dict) else None
    found = next((one for kind, one in (content or {}).items() if "json" in kind), None)
    return found.get("schema") if isinstance(found, dict) else None


def _operation(document: Mapping[str, Any], empty: Description, key: str, spec: OperationSpec, call: _Call) -> dict[str, Any]:
    request: dict[str, Any] = {"method": call.method.upper(), "path": _path(key, spec, call.path)}
    out: dict[str, Any] = {"call": request}
    query, paging = _paging(document, spec, call)
    if query:
        request["query"] = query
    if body := _body(document, spec, call):
        request["json"] = body
        request["drop_empty"] = True
    responses = call.about.get("responses") or {}
    schema = next((_json_of(_resolved(document, one)) for code, one in responses.items() if str(code).startswith("2")), None)
    if schema is not None and spec.fields:
        try:
            found = propose(empty, key, json.dumps(_example(document, schema), default=str))
        except BadDocument:
            found = None
        if found is not None:
            out |= {"rows": found.rows, "fields": found.fields} | ({"whole": found.whole} if found.whole else {})
            if spec.paged and found.paging and paging.get("by") in (None, found.paging["by"]):
                paging = paging | found.paging
    if spec.paged and "by" in paging and (paging["by"] != "cursor" or "next" in paging):
        out["paging"] = paging
    return out


def _path(key: str, spec: OperationSpec, path: str) -> str:
    """Their path with what is given in the places of their names."""
    first = next((one for one in ("sku", "number", "order", "reference", "key") if one in spec.given), "")
    return re.sub(r"\{[^}]*\}", "{{ " + first + " }}" if first else "1", path)


def _paging(document: Mapping[str, Any], spec: OperationSpec, call: _Call) -> tuple[dict[str, str], dict[str, Any]]:
    query: dict[str, str] = {}
    paging: dict[str, Any] = {}
    for raw in call.about["parameters"]:
        one = _resolved(document, raw)
        name = plain_name(str(one.get("name", "")))
        if one.get("in") != "query":
            continue
        if spec.paged and name in _PAGES:
            query[str(one["name"])] = "{{ " + _PAGES[name] + " }}"
            paging["by"] = _PAGES[name]
        elif spec.paged and name in _SIZES:
            most = _resolved(document, one.get("schema")).get("maximum", 100)
            paging["size"] = min(int(most), 500) if isinstance(most, int | float) else 100
            query[str(one["name"])] = "{{ size }}"
        elif "references" in spec.given and name in ("reference", "references", "ref", "refs"):
            query[str(one["name"])] = "{{ references | join(',') }}"
    return query, paging


def _body(document: Mapping[str, Any], spec: OperationSpec, call: _Call) -> str:
    """The body of a write, of what is given by the same names."""
    schema = _json_of(_resolved(document, call.about.get("requestBody")))
    if not spec.writes or schema is None:
        return ""
    given = {plain_name(one): one for one in spec.given}
    names = list((_resolved(document, schema).get("properties") or {}).items())[:60]
    pairs = [f'"{name}": {given[plain_name(name)]}' for name, _ in names if plain_name(name) in given and '"' not in name]
    return "{" + ", ".join(pairs) + "}" if pairs else ""
