"""A description's text, read with limits and checked through: every template and expression in it, before anything is called by it."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterator
from dataclasses import dataclass
from functools import lru_cache
from importlib import resources
from typing import Any
from zoneinfo import ZoneInfo

import yaml
from pydantic import ValidationError

from . import templates
from .expressions import BadExpression, compile_json, compile_xml
from .fields import FINDS, NEEDED, OPERATIONS
from .schema import SIZE_MOST, Description, FieldRead, Form, Operation, Request
from .specs import OperationSpec, Spec, Type
from .templates import BadTemplate

# What a description is called that ships, by the kind of partner that it makes.
SHIPPED = "descriptions"


@dataclass(frozen=True)
class Fault:
    """What is wrong in a description, and where: names and numbers down to the place."""

    place: str
    message: str


class BadDescription(ValueError):
    """A description that cannot be used as it is."""

    def __init__(self, faults: list[Fault]) -> None:
        super().__init__("; ".join(f"{one.place}: {one.message}" if one.place else one.message for one in faults[:5]))
        self.faults = faults


class _Loader(yaml.BaseLoader):
    """Texts, lists and tables alone: no word of YAML means yes or no, nothing is built, and nothing stands for something else."""

    def compose_node(self, parent: Any, index: Any) -> Any:  # noqa: ANN401 - as the library has it
        if self.check_event(yaml.AliasEvent):
            raise yaml.YAMLError("a description repeats nothing by a mark (*)")
        return super().compose_node(parent, index)

    def construct_mapping(self, node: Any, deep: bool = False) -> dict[Any, Any]:  # noqa: ANN401 - as the library has it
        keys = [self.construct_object(key, deep=True) for key, _ in node.value]
        twice = {str(key) for key in keys if keys.count(key) > 1}
        if twice:
            raise yaml.YAMLError(f"{sorted(twice)[0]!r} is said twice (line {node.start_mark.line + 1})")
        return super().construct_mapping(node, deep)


def parse(text: str, most: int = SIZE_MOST) -> Any:  # noqa: ANN401 - whatever it holds
    """YAML or JSON as plain data. BadDescription where it is neither."""
    if len(text) > most:
        raise BadDescription([Fault("", f"it is larger than {most // 1000} KB")])
    try:
        if text.lstrip().startswith("{"):
            return json.loads(text)
        return yaml.load(text, _Loader)  # noqa: S506 - it builds nothing
    except (yaml.YAMLError, ValueError, RecursionError) as error:
        raise BadDescription([Fault("", f"it cannot be read: {' '.join(str(error).split())[:300]}")]) from error


def read(data: Any) -> Description:  # noqa: ANN401 - whatever was parsed
    """Plain data as a description, checked through. BadDescription names every fault that was found."""
    try:
        made = Description.model_validate(data)
    except ValidationError as error:
        faults = [Fault(".".join(str(part) for part in one["loc"]), one["msg"].removeprefix("Value error, ")) for one in error.errors()]
        raise BadDescription(faults[:40]) from error
    except RecursionError as error:
        raise BadDescription([Fault("", "it is too deep")]) from error
    found = list(faults_of(made))
    if found:
        raise BadDescription(found)
    return made


@lru_cache(maxsize=200)
def load(text: str) -> Description:
    """A description of its text."""
    return read(parse(text))


def checksum(text: str) -> str:
    """SHA-256 of what a description says, whatever its spaces and whether it is YAML or JSON."""
    said = json.dumps(load(text).model_dump(mode="json", by_alias=True, exclude_defaults=True), sort_keys=True, ensure_ascii=False)
    return hashlib.sha256(said.encode()).hexdigest()


@lru_cache(maxsize=1)
def shipped() -> dict[str, str]:
    """Descriptions that come with the application: name -> text."""
    folder = resources.files("amber_lane") / SHIPPED
    return {one.name.removesuffix(".yaml"): one.read_text() for one in sorted(folder.iterdir(), key=str) if one.name.endswith(".yaml")}


def faults_of(description: Description) -> Iterator[Fault]:
    """What is wrong in a description that its form alone does not show."""
    specs = OPERATIONS[description.owner]
    for name, operation in description.operations.items():
        if name not in specs:
            yield Fault(f"operations.{name}", f"a {description.owner.value} has no such operation; it has {', '.join(specs)}")
        else:
            yield from _operation(description, name, specs[name], operation)
    for one_of in NEEDED[description.owner]:
        if not one_of & set(description.operations):
            yield Fault("operations", f"there is no {' or '.join(sorted(one_of))}; without it nothing can be read")
    yield from _sign_in(description)
    for name in ("when", "code", "words"):
        yield from _expression(description, description.failures.read, getattr(description.failures, name), f"failures.{name}")
    if description.word:
        yield from _template(description.word.text, {"time", "body"}, "word.text")
    yield from _zone(description.time.zone, "time.zone")
    if description.batch_most and "send_batch" not in description.operations:
        yield Fault("batch_most", "there is no send_batch")
    yield from _in_money(description)
    yield from _findable(description)


def _in_money(description: Description) -> Iterator[Fault]:
    """Of every amount something says what money it is in."""
    account = description.operations.get("account")
    told = description.money.currency or description.facts.get("currency") or (account and "currency" in account.fields)
    specs = OPERATIONS[description.owner]
    for name, operation in description.operations.items():
        if name not in specs:
            continue
        amounts = [one for one in operation.fields if one in specs[name].fields and specs[name].fields[one].type is Type.money]
        if amounts and not told and "currency" not in operation.fields:
            yield Fault(
                f"operations.{name}.fields.currency",
                "nothing says what money its amounts are in: say where it is, or the partner's one currency",
            )


def _findable(description: Description) -> Iterator[Fault]:
    """Of every write either somebody can be asked afterwards, or the description says that nobody can."""
    for write, find in FINDS.items():
        there = write in description.operations
        if there and find not in description.operations and write not in description.cannot_find:
            yield Fault(
                f"operations.{write}",
                f"after a lost answer nobody could be asked whether it was done: describe {find}, or name {write} in cannot_find",
            )
    if "send_batch" in description.operations and "batch" not in description.operations:
        yield Fault("operations.send_batch", "what became of a batch is fetched afterwards: describe batch")
    for write in description.cannot_find:
        if write not in description.operations:
            yield Fault("cannot_find", f"there is no {write}")


def _sign_in(description: Description) -> Iterator[Fault]:
    how, parts = description.sign_in, {"key", *description.key}
    if how.kind in ("header", "query", "signature") and not how.name:
        yield Fault("sign_in.name", "say which header or parameter it is")
    if how.kind == "token" and (how.call is None or not how.token):
        yield Fault("sign_in", "say by which call a token is fetched, and where it is in the answer")
    if how.kind == "signature" and not how.text:
        yield Fault("sign_in.text", "say what is signed")
    least = {"basic": 2, "oauth_client": 2, "oauth_code": 3}.get(how.kind, 1)
    if len(description.key) < least:
        yield Fault("key", f"a sign-in of this kind has a key of {least} parts")
    if how.kind.startswith("oauth") and not how.token_address:
        yield Fault("sign_in.token_address", "say where tokens are given out")
    more = {"token", "signature", "time"}
    yield from _template(how.value, parts | more, "sign_in.value")
    yield from _template(how.text, {"method", "path", "query", "target", "time", "body", "body_hash", *parts}, "sign_in.text")
    for name, text in how.headers.items():
        yield from _template(text, parts | more, f"sign_in.headers.{name}")
    if how.call:
        yield from _request(how.call, parts, "sign_in.call")
    for name in ("token", "seconds"):
        yield from _expression(description, Form.json, getattr(how, name), f"sign_in.{name}")


def _operation(description: Description, name: str, spec: OperationSpec, operation: Operation) -> Iterator[Fault]:
    place = f"operations.{name}"
    yield from _request(operation.call, set(spec.given), f"{place}.call")
    if not spec.writes and operation.call.method not in ("GET", "POST"):
        yield Fault(f"{place}.call.method", "a question is asked with GET or POST")
    yield from _expression(description, operation.read, operation.rows, f"{place}.rows")
    yield from _fields(
        description, operation.read, spec.fields, operation.fields, f"{place}.fields", not spec.writes or bool(operation.fields)
    )
    yield from _fields(description, operation.read, spec.whole, operation.whole, f"{place}.whole", False)
    paging = operation.paging
    if paging and not spec.paged:
        yield Fault(f"{place}.paging", "this does not come in portions")
    if paging:
        for one in ("pages", "total", "next", "more"):
            yield from _expression(description, operation.read, getattr(paging, one), f"{place}.paging.{one}")
        if "cursor" in spec.whole and paging.by not in ("cursor", "since"):
            yield Fault(f"{place}.paging.by", "this is read on from where the last reading ended: by a cursor, or since")
        if paging.by in ("cursor", "since") and not paging.next and "cursor" not in operation.whole:
            yield Fault(f"{place}.paging.next", "say where the next cursor is")
        if paging.by == "offset" and not paging.size:
            yield Fault(f"{place}.paging.size", "say how many rows a portion has")
    if name in ("buy", "claim", "item", "account") and not operation.fields:
        yield Fault(f"{place}.fields", "say where in the answer our fields are")


def _request(request: Request, given: set[str], place: str) -> Iterator[Fault]:
    for one, text in (("path", request.path), ("xml", request.xml), ("text", request.text)):
        yield from _template(text, given, f"{place}.{one}")
    for group in ("query", "headers"):
        for name, text in getattr(request, group).items():
            yield from _template(text, given, f"{place}.{group}.{name}")
    for one, text in (("json", request.json_), ("form", request.form), ("variables", request.variables)):
        if text:
            yield from _compiled(Form.json, text, {}, f"{place}.{one}")
    if request.path and not request.path.startswith(("/", "?")):
        yield Fault(f"{place}.path", "a path begins with /")


def _template(text: str, given: set[str], place: str) -> Iterator[Fault]:
    if not text:
        return
    try:
        templates.check(text)
        unknown = sorted(templates.names(text) - given)
    except BadTemplate as error:
        yield Fault(place, str(error))
        return
    if unknown:
        yield Fault(place, f"{unknown[0]!r} is not given here; there is {', '.join(sorted(given)) or 'nothing'}")


def _expression(description: Description, form: Form, text: str, place: str) -> Iterator[Fault]:
    if text:
        yield from _compiled(form, text, description.namespaces, place)


def _compiled(form: Form, text: str, spaces: dict[str, str], place: str) -> Iterator[Fault]:
    try:
        if form is Form.json and text != "@":
            compile_json(text)
        elif form is Form.xml:
            compile_xml(text, tuple(sorted(spaces.items())))
    except BadExpression as error:
        yield Fault(place, str(error))


def _fields(
    description: Description, form: Form, specs: dict[str, Spec], fields: dict[str, FieldRead], place: str, all_of: bool
) -> Iterator[Fault]:
    for name, read in fields.items():
        spec = specs.get(name)
        if spec is None:
            yield Fault(f"{place}.{name}", f"there is no such field; there is {', '.join(specs)}")
            continue
        yield from _expression(description, form, read.at, f"{place}.{name}.at")
        yield from _expression(description, form, read.rows, f"{place}.{name}.rows")
        if read.time:
            yield from _zone(read.time.zone, f"{place}.{name}.time.zone")
        if spec.type in (Type.rows, Type.one):
            yield from _fields(description, form, spec.fields, read.fields, f"{place}.{name}.fields", True)
        elif not read.at and read.value is None and read.default is None:
            yield Fault(f"{place}.{name}", "say where it is, or what it always is")
        for word, ours in read.codes.items():
            if spec.codes and ours not in spec.codes:
                yield Fault(f"{place}.{name}.codes.{word}", f"{ours!r} is none of {', '.join(one or 'nothing' for one in spec.codes)}")
        if spec.codes and read.otherwise is not None and read.otherwise not in spec.codes:
            yield Fault(f"{place}.{name}.otherwise", f"it is none of {', '.join(one or 'nothing' for one in spec.codes)}")
    if all_of:
        for name, spec in specs.items():
            if spec.needed and name not in fields:
                yield Fault(f"{place}.{name}", f"it is needed: {spec.about}")


def _zone(name: str, place: str) -> Iterator[Fault]:
    try:
        ZoneInfo(name)
    except (ValueError, OSError, KeyError):
        yield Fault(place, f"{name!r} is no time zone; they are written as Area/City")
