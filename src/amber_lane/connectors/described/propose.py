"""Proposals: where in an answer our fields may be, and which of a partner's calls may be which of ours. A person decides; nothing is taken
for true because it was proposed."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any

from ...core.currency import MINOR_DIGITS
from .expressions import BadDocument, Node, document
from .fields import OPERATIONS
from .schema import Description, FieldRead, Form, Operation
from .specs import Spec, Type
from .values import maker, money

_PLAIN = FieldRead(at="@")
# What the value of a thing is called where the thing has more to it, as price.amount.
_ITSELF = ("amount", "value", "text", "content")
_DEEP, _MANY = 4, 60
# A currency with the most decimals, so that any amount looks like one.
_WIDEST = max(MINOR_DIGITS, key=lambda one: MINOR_DIGITS[one])
_CURSORS = ("next", "nextcursor", "endcursor", "cursor", "nexttoken", "continuefrom", "nextstart")
_MORE, _PAGES = ("more", "hasmore", "hasnext"), ("pages", "totalpages", "pagecount", "lastpage")
# The usual ways in which a partner's row says what a unit of a namespace is called.
_SPACE = "n"


@dataclass(frozen=True)
class Proposal:
    """rows: where they are; fields: ours -> where; namespaces: of XML, the short names that are used."""

    read: Form
    rows: str = ""
    fields: dict[str, Any] = field(default_factory=dict)
    whole: dict[str, Any] = field(default_factory=dict)
    namespaces: dict[str, str] = field(default_factory=dict)
    delimiter: str = ","
    paging: dict[str, str] = field(default_factory=dict)


def form_of(text: str) -> Form:
    """What an example is written in."""
    start = text.lstrip("\ufeff \r\n\t")[:1]
    return Form.json if start in "{[" and start else Form.xml if start == "<" else Form.csv


def plain_name(name: str) -> str:
    """A name without capitals and signs, as two of them are held together."""
    return re.sub(r"[^a-z0-9]", "", name.lower())


def _score(spec: Spec, name: str, key: str) -> float:
    """How well a partner's name fits a field of ours."""
    told = plain_name(key.rpartition(".")[2].rpartition(":")[2].removeprefix("@"))
    if not told:
        return 0.0
    ours = [plain_name(name), *map(plain_name, spec.words)]
    if told in ours:
        return 10.0 - ours.index(told) * 0.1
    parts = [plain_name(one.rpartition(":")[2]) for one in re.split(r"[./]", key)]
    if "".join(parts) in ours or (len(parts) > 1 and told in _ITSELF and parts[-2] in ours):
        return 9.0
    alike = (one for one in ours if len(one) > 2 and (one in told or told in one))
    return max((4.0 * min(len(one), len(told)) / max(len(one), len(told)) for one in alike), default=0.0)


def _fits(spec: Spec, values: list[Any], description: Description) -> bool:
    """Whether what stands in the first rows could be a value of a field."""
    told = [one for one in values if one not in (None, "")]
    if not told:
        return not spec.needed
    for value in told[:20]:
        try:
            if spec.type is Type.money:
                money(value, description.money.currency or _WIDEST, description.money)
            elif spec.type is not Type.code:
                maker(spec, _PLAIN, description.time)(value)
            elif isinstance(value, dict | list):
                return False
        except (ValueError, TypeError, KeyError):
            return False
    return True


def fields_of(specs: Mapping[str, Spec], rows: list[Node], form: Form, description: Description) -> dict[str, Any]:
    """For each of our fields the place that fits it best by name and value; each place once."""
    places = _places(rows, form, description)
    rated = sorted(
        (
            (-(_score(spec, name, key)), len(key), name, key)
            for name, spec in specs.items()
            for key, values in places.items()
            if spec.type not in (Type.rows, Type.one) and _score(spec, name, key) >= 2.0 and _fits(spec, values, description)
        )
    )
    out: dict[str, Any] = {}
    used: set[str] = set()
    for _, _, name, key in rated:
        if name not in out and key not in used:
            used.add(key)
            out[name] = _with_codes(specs[name], key, places[key])
    for name, spec in specs.items():
        if spec.type in (Type.rows, Type.one):
            inner = _inner(spec, name, rows, form, description)
            if inner:
                out[name] = inner
    return out


def _with_codes(spec: Spec, key: str, values: list[Any]) -> Any:  # noqa: ANN401 - a field, in short or in full
    """Of a field that is one of a few words, the partner's words are put beside ours where they are other ones."""
    if spec.type is not Type.code:
        return key
    words = list(dict.fromkeys(str(one) for one in values if one not in (None, "")))[:12]
    if all(word in spec.codes for word in words):
        return key
    return {"at": key, "codes": {word: _nearest(word, spec.codes) for word in words}}


def _nearest(word: str, codes: tuple[str, ...]) -> str:
    plain = plain_name(word)
    return next((code for code in codes if code and (plain_name(code)[:4] == plain[:4] or plain_name(code) in plain)), codes[0])


def _inner(spec: Spec, name: str, rows: list[Node], form: Form, description: Description) -> dict[str, Any] | None:
    """Rows in rows: a list, or an object, whose name fits."""
    found: dict[str, list[Node]] = {}
    for row in rows[:20]:
        for key, inside in _within(row, form, description):
            found.setdefault(key, []).extend(inside)
    best = max(found, key=lambda key: _score(spec, name, key), default="")
    if not best or _score(spec, name, best) < 2.0:
        return None
    fields = fields_of(spec.fields, found[best], form, description)
    return {"rows": best, "fields": fields} if fields else None


def _within(row: Node, form: Form, description: Description) -> Iterator[tuple[str, list[Node]]]:
    if form is Form.json and isinstance(row, dict):
        for key, value in row.items():
            if isinstance(value, dict):
                yield key, [value]
            elif isinstance(value, list) and value and isinstance(value[0], dict):
                yield key, value
    elif form is Form.xml:
        for child in row:
            if len(child):
                names = {one.tag for one in child}
                if len(names) == 1 and len(child[0]):
                    yield f"{_named(child, description)}/{_named(child[0], description)}", list(child)
                yield _named(child, description), [child]


def _places(rows: list[Node], form: Form, description: Description) -> dict[str, list[Any]]:
    """Every place in the first rows that holds a value, with its values."""
    out: dict[str, list[Any]] = {}
    for row in rows[:20]:
        for key, value in _leaves(row, form, description, "", 0):
            if key in out or len(out) < _MANY * 2:
                out.setdefault(key, []).append(value)
    return out


def _leaves(row: Node, form: Form, description: Description, before: str, deep: int) -> Iterator[tuple[str, Any]]:
    if deep > 2:
        return
    if form is Form.xml:
        for name, value in row.attrib.items():
            yield f"{before}@{name}", value
        for child in row:
            if isinstance(child.tag, str):
                key = before + _named(child, description)
                if len(child):
                    yield from _leaves(child, form, description, f"{key}/", deep + 1)
                else:
                    yield key, (child.text or "").strip()
                    for name, value in child.attrib.items():
                        yield f"{key}/@{name}", value
        return
    for key, value in row.items() if isinstance(row, dict) else ():
        name = before + (key if form is Form.csv or str(key).isidentifier() else f'"{key}"')
        if isinstance(value, dict):
            yield from _leaves(value, form, description, f"{name}.", deep + 1)
        else:
            yield name, value


def _named(node: Node, description: Description) -> str:
    """An element's name with the short one of its namespace."""
    space, _, local = node.tag.rpartition("}")
    if not space:
        return str(local)
    short = next((name for name, one in description.namespaces.items() if one == space[1:]), _SPACE)
    return f"{short}:{local}"


def _lists(raw: Node, form: Form, description: Description) -> Iterator[tuple[str, list[Node]]]:
    """Places of an answer that hold several things alike, and the answer itself."""
    if form is Form.csv:
        yield "", raw
    elif form is Form.json:
        yield from _json_lists(raw, "", 0)
    else:
        yield from _xml_lists(raw, description)


def _json_lists(raw: Node, path: str, deep: int) -> Iterator[tuple[str, list[Node]]]:
    if isinstance(raw, list):
        if raw and isinstance(raw[0], dict):
            yield path or "@", raw
    elif isinstance(raw, dict):
        yield path or "@", [raw]
        if deep < _DEEP:
            for key, value in raw.items():
                name = key if str(key).isidentifier() else f'"{key}"'
                yield from _json_lists(value, f"{path}.{name}" if path else name, deep + 1)


def _xml_lists(root: Node, description: Description) -> Iterator[tuple[str, list[Node]]]:
    def walk(node: Node, path: str, deep: int) -> Iterator[tuple[str, list[Node]]]:
        yield path, [node]
        if deep < _DEEP:
            groups: dict[str, list[Node]] = {}
            for child in node:
                if isinstance(child.tag, str) and (len(child) or child.attrib):
                    groups.setdefault(_named(child, description), []).append(child)
            for name, some in groups.items():
                yield f"{path}/{name}", some
                yield from (one for one in walk(some[0], f"{path}/{name}", deep + 1) if one[0] != f"{path}/{name}")

    yield from walk(root, f"/{_named(root, description)}", 0)


def propose(description: Description, name: str, text: str) -> Proposal:
    """Where an operation's fields may be in an example of its answer. BadDocument where it cannot be read at all."""
    spec, form = OPERATIONS[description.owner][name], form_of(text)
    delimiter = max(",;\t|", key=lambda mark: text.partition("\n")[0].count(mark)) if form is Form.csv else ","
    ended = text if text.endswith("\n") or form is not Form.csv else f"{text}\n"
    raw = document(Operation(read=form, delimiter=delimiter), ended.encode())
    if form is Form.xml:
        description = _with_spaces(description, raw)
    best: tuple[float, str, dict[str, Any]] = (-1.0, "", {})
    for path, rows in _lists(raw, form, description):
        fields = fields_of(spec.fields, rows, form, description)
        worth = sum(2.0 if spec.fields[one].needed else 1.0 for one in fields)
        # Of two places with the same fields the nearer one is meant.
        worth -= 0.05 * sum(place.count("/") + place.count(".") for place in fields.values() if isinstance(place, str))
        # Where several places have as many fields, the one with more rows is the list.
        if spec.many and len(rows) > 1:
            worth += 2.5
        if worth > best[0]:
            best = (worth, path, fields)
    if best[0] <= 0:
        raise BadDocument("nothing in it looks like what is asked for")
    head = [raw[0]] if form is Form.csv and raw else [raw]
    whole = {key: place for key, place in fields_of(spec.whole, head, form, description).items() if spec.whole}
    paging = _paging(raw, form, description) if spec.paged else {}
    return Proposal(form, "" if best[1] == "@" else best[1], best[2], whole, description.namespaces, delimiter, paging)


def _paging(raw: Node, form: Form, description: Description) -> dict[str, str]:
    """Where a cursor of the next portion, or the number of portions, may be said."""
    if form is Form.csv:
        return {}
    start = f"/{_named(raw, description)}/" if form is Form.xml else ""
    places = [key for key in _places([raw], form, description) if key.count("/") + key.count(".") <= 2]
    out: dict[str, str] = {}
    for key in places:
        plain = plain_name(re.split(r"[./:]", key)[-1].removeprefix("@"))
        if plain in _CURSORS and "next" not in out:
            out |= {"by": "cursor", "next": start + key}
        elif plain in _MORE and "more" not in out:
            out["more"] = start + key
        elif plain in _PAGES and "by" not in out:
            out |= {"by": "page", "pages": start + key}
    return out if "by" in out else {}


def _with_spaces(description: Description, root: Node) -> Description:
    """The description with a short name for each namespace of an answer."""
    known = dict(description.namespaces)
    for node in root.iter():
        for short, space in node.nsmap.items():
            if space not in known.values():
                name = short or _SPACE
                while name in known:
                    name += "x"
                known[name] = space
    return description.model_copy(update={"namespaces": known})
