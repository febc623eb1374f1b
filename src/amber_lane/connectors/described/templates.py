"""Templates that make a text of what is given, and can do nothing else.

They are Jinja2's, held to a few of its parts: names that are given, what is in them, `if`, `for` over a given list (one within another at
most), `==`, `and`, `or`, `not`, and a handful of filters. No call, no attribute of any object, no arithmetic, no other template.
"""

from __future__ import annotations

from collections.abc import Mapping
from functools import lru_cache
from typing import Any
from urllib.parse import quote
from xml.sax.saxutils import escape

from jinja2 import StrictUndefined, Template, TemplateError, nodes
from jinja2.runtime import Undefined
from jinja2.sandbox import ImmutableSandboxedEnvironment

from ..errors import Refused

OUT_MOST = 5_000_000
_ALLOWED: tuple[type[nodes.Node], ...] = (
    nodes.Template, nodes.Output, nodes.TemplateData, nodes.Name, nodes.Getattr, nodes.Getitem, nodes.Const, nodes.Filter, nodes.If,
    nodes.For, nodes.Compare, nodes.Operand, nodes.And, nodes.Or, nodes.Not, nodes.CondExpr,
)  # fmt: skip
FILTERS = ("join", "length", "upper", "lower", "path", "trim", "first", "last", "date", "default")
_DEEP = 2


class _Environment(ImmutableSandboxedEnvironment):
    """What is in a value is looked up in it as in a table; objects have no attributes here."""

    def getattr(self, obj: Any, attribute: str) -> Any:  # noqa: ANN401 - as the library has it
        if isinstance(obj, Mapping) and attribute in obj:
            return obj[attribute]
        return self.undefined(obj=obj, name=attribute)

    def getitem(self, obj: Any, argument: Any) -> Any:  # noqa: ANN401 - as the library has it
        if isinstance(obj, Mapping | list | tuple):
            try:
                return obj[argument]
            except (LookupError, TypeError):
                pass
        return self.undefined(obj=obj, name=str(argument))


def _path(value: object) -> str:
    return quote(_text(value), safe="")


def _text(value: object) -> str:
    if isinstance(value, Undefined):
        return str(value)
    if isinstance(value, bool):
        return "true" if value else "false"
    return "" if value is None else str(value)


def _join(value: object, between: str = "") -> str:
    """Of a list alone: a text joined by its letters, over and over, would grow without end."""
    if not isinstance(value, list | tuple):
        raise TypeError("only a list can be joined")
    return str(between).join(map(_text, value))


def _xml(value: object) -> str:
    return escape(_text(value), {'"': "&quot;"})


def _environment(finalize: Any) -> _Environment:  # noqa: ANN401 - as the library has it
    made = _Environment(undefined=StrictUndefined, finalize=finalize, autoescape=False, keep_trailing_newline=True)
    made.globals = {}
    filters = {
        "path": _path,
        "date": lambda value: _text(value)[:10],
        **{k: made.filters[k] for k in FILTERS if k in made.filters},
        "join": _join,
    }
    made.filters = filters
    made.tests = {}
    return made


_PLAIN, _IN_XML, _IN_PATH = _environment(_text), _environment(_xml), _environment(_path)


class BadTemplate(ValueError):
    """A template that does what none may, or that cannot be read."""


def _check(node: nodes.Node, deep: int) -> None:
    if not isinstance(node, _ALLOWED):
        raise BadTemplate(f"a template cannot do this: {type(node).__name__.lower()}")
    if isinstance(node, nodes.For):
        deep += 1
        if deep > _DEEP or node.recursive or node.test is not None or not isinstance(node.iter, nodes.Name | nodes.Getattr):
            raise BadTemplate("a template goes over a given list only, and over one within another at most")
    if isinstance(node, nodes.Filter) and node.name not in FILTERS:
        raise BadTemplate(f"a template knows no {node.name!r}; it knows {', '.join(FILTERS)}")
    if isinstance(node, nodes.Name) and node.ctx != "load" and node.name.startswith("_"):
        raise BadTemplate("a name in a template begins with a letter")
    for child in node.iter_child_nodes():
        _check(child, deep)


@lru_cache(maxsize=2_000)
def _compiled(text: str, manner: str) -> Template:
    environment = {"plain": _PLAIN, "xml": _IN_XML, "path": _IN_PATH}[manner]
    try:
        _check(environment.parse(text), 0)
        return environment.from_string(text)
    except TemplateError as error:
        raise BadTemplate(f"the template cannot be read: {error.message or error}") from error


def check(text: str) -> None:
    """BadTemplate where it is none, or does what none may."""
    _compiled(text, "plain")


def names(text: str) -> set[str]:
    """What a template asks to be given."""
    tree = _PLAIN.parse(text)
    own = {node.target.name for node in tree.find_all(nodes.For) if isinstance(node.target, nodes.Name)} | {"loop"}
    return {node.name for node in tree.find_all(nodes.Name)} - own


def fill(text: str, given: Mapping[str, Any], manner: str = "plain") -> str:
    """The text with what is given put in. manner: how that is written (plain, xml, path). Refused where it asks for what is not given."""
    if "{" not in text:
        return text
    try:
        out: list[str] = []
        size = 0
        for piece in _compiled(text, manner).generate(given):
            size += len(piece)
            if size > OUT_MOST:
                raise Refused("a template of the description makes more than a call may hold")
            out.append(piece)
        return "".join(out)
    except (TemplateError, TypeError, ValueError) as error:
        raise Refused(f"a template of the description cannot be filled: {error}") from error
