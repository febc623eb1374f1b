"""Answers as documents, and expressions that read values of them: JMESPath of JSON, XPath of XML, columns of CSV.

Expressions are read once and kept. None of them can run anything, and none can make an answer grow: lists may not be doubled over and over.
"""

from __future__ import annotations

import csv
import io
from collections.abc import Callable, Mapping
from functools import lru_cache
from typing import Any

import jmespath
import orjson
from jmespath.exceptions import JMESPathError
from jmespath.parser import ParsedResult
from lxml import etree

from .schema import Form, Operation

# A row or a whole answer, whatever it is written in, and what reads a value of it.
Node = Any
Getter = Callable[[Node], Any]
_GROWS = {"multi_select_list", "multi_select_hash"}
_FEEDS = {
    "pipe", "subexpression", "flatten", "projection", "index_expression", "filter_projection", "value_projection",
}  # fmt: skip
ROWS_MOST = 500_000


class BadDocument(ValueError):
    """An answer that is not what the description says it is."""


class BadExpression(BadDocument):
    """An expression that cannot be read, or that could make an answer grow without end."""


def _grows(tree: dict[str, Any]) -> bool:
    return tree["type"] in _GROWS or any(_grows(child) for child in tree.get("children", ()) if isinstance(child, dict))


def _check_tree(tree: dict[str, Any]) -> None:
    children = [child for child in tree.get("children", ()) if isinstance(child, dict)]
    if tree["type"] in _FEEDS and children and _grows(children[0]):
        raise BadExpression("an expression may make a list or an object only as its last step")
    if tree["type"] == "function_expression":
        for child in children:
            if child["type"] == "function_expression" and _grows(child):
                raise BadExpression("an expression may make a list or an object only as its last step")
    for child in children:
        _check_tree(child)


@lru_cache(maxsize=4_000)
def compile_json(text: str) -> ParsedResult:
    """A JMESPath expression. BadExpression where it is none."""
    try:
        found: ParsedResult = jmespath.compile(text)
    except JMESPathError as error:
        raise BadExpression(f"{text[:80]!r} is not an expression: {str(error).splitlines()[0]}") from error
    _check_tree(dict(found.parsed))
    return found


def evaluate(text: str, given: Node) -> Any:  # noqa: ANN401 - whatever an answer holds
    """The value of a JMESPath expression; BadDocument where it does not fit what it is asked of."""
    try:
        return compile_json(text).search(given)
    except JMESPathError as error:
        raise BadDocument(f"{text[:80]!r} does not fit: {str(error).splitlines()[0]}") from error


def _json_getter(text: str) -> Getter:
    if text == "@":
        return lambda node: node
    if text.isidentifier():
        return lambda node: node.get(text) if isinstance(node, dict) else None
    tree: dict[str, Any] = dict(compile_json(text).parsed)
    if tree["type"] == "field":
        name = tree["value"]
        return lambda node: node.get(name) if isinstance(node, dict) else None
    return lambda node: evaluate(text, node)


def _xml_getter(text: str, spaces: tuple[tuple[str, str], ...]) -> Getter:
    find = compile_xml(text, spaces)

    def get(node: Node) -> Any:  # noqa: ANN401 - whatever an answer holds
        found = find(node)
        if isinstance(found, list):
            if not found:
                return None
            if len(found) > 1:
                return [_xml_text(one) for one in found]
            return _xml_text(found[0])
        return found

    return get


def _xml_text(one: Any) -> str:  # noqa: ANN401 - a node or a text
    return str(one) if isinstance(one, str) else "".join(one.itertext()).strip()


@lru_cache(maxsize=4_000)
def compile_xml(text: str, spaces: tuple[tuple[str, str], ...]) -> etree.XPath:
    """An XPath expression. BadExpression where it is none, or could take for ever."""
    if text.count("//") > 2 or len(text) > 300:
        raise BadExpression(f"{text[:80]!r} is too long a way: at most 300 signs, and '//' at most twice")
    try:
        made = etree.XPath(text, namespaces=dict(spaces) or None, regexp=False, smart_strings=False)
        # What names a namespace or a function that is none is seen only when it is tried.
        made(etree.Element("nothing"))
    except (etree.XPathError, etree.XPathSyntaxError) as error:
        raise BadExpression(f"{text[:80]!r} is not an expression: {error}") from error
    return made


def _csv_getter(text: str) -> Getter:
    return lambda node: node if text == "@" else node.get(text)


def getter(form: Form, text: str, spaces: Mapping[str, str]) -> Getter:
    """What reads a value of a row: a text, a number, a truth, a list, or None where there is nothing. BadExpression."""
    if form is Form.json:
        return _json_getter(text)
    if form is Form.xml:
        return _xml_getter(text, tuple(sorted(spaces.items())))
    return _csv_getter(text)


def nodes(form: Form, text: str, spaces: Mapping[str, str], node: Node) -> list[Node]:
    """Rows within an answer or a row. BadDocument where there is something else."""
    if form is Form.xml:
        found = compile_xml(text, tuple(sorted(spaces.items())))(node) if text and text != "@" else [node]
        if not isinstance(found, list) or any(isinstance(one, str) for one in found):
            raise BadDocument(f"{text!r} does not lead to rows")
        return found
    if form is Form.csv:
        return node if isinstance(node, list) else [node]
    found = node if not text or text == "@" else evaluate(text, node)
    if found is None:
        return []
    if isinstance(found, dict):
        return [found]
    if not isinstance(found, list):
        raise BadDocument(f"{text!r} does not lead to rows")
    return found


def document(operation: Operation, body: bytes) -> Node:
    """An answer's text as a document. BadDocument where it is none."""
    if operation.read is Form.json:
        try:
            return orjson.loads(body or b"null")
        except orjson.JSONDecodeError as error:
            raise BadDocument(f"it is not JSON: {error}") from error
    if operation.read is Form.xml:
        return parse_xml(body)
    return _table(operation, body)


def parse_xml(body: bytes) -> Node:
    """An XML text, without anything that it could fetch or blow up."""
    parser = etree.XMLParser(
        resolve_entities=False,
        no_network=True,
        load_dtd=False,
        huge_tree=False,
        remove_comments=True,
        remove_pis=True,
    )
    try:
        root = etree.fromstring(body, parser)
    except (etree.XMLSyntaxError, ValueError) as error:
        raise BadDocument(f"it is not XML: {error}") from error
    if root.getroottree().docinfo.doctype:  # type: ignore[union-attr]
        raise BadDocument("it brings a document type of its own, and such are not read")
    return root


def _table(operation: Operation, body: bytes) -> list[dict[str, str]]:
    try:
        text = body.decode("utf-8-sig" if operation.encoding == "utf-8" else operation.encoding)
    except UnicodeDecodeError as error:
        raise BadDocument(f"its letters are not {operation.encoding}") from error
    if text and not text.endswith("\n"):
        # Torn off, so that nobody knows what is missing.
        raise BadDocument("its last line has no end")
    try:
        reader = csv.DictReader(io.StringIO(text, newline=""), delimiter=operation.delimiter, strict=True)
        head = reader.fieldnames or []
        if not head or len(set(head)) < len(head):
            raise BadDocument("its first line must name its columns, each once")
        rows = []
        for row in reader:
            if None in row or None in row.values():
                raise BadDocument(f"line {reader.line_num} has not as many fields as the first one")
            rows.append({name.strip(): value for name, value in row.items()})
            if len(rows) > ROWS_MOST:
                raise BadDocument(f"it has more than {ROWS_MOST} lines")
        return rows
    except csv.Error as error:
        raise BadDocument(f"it is not a sheet of that make: {error}") from error
