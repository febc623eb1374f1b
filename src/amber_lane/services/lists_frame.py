"""What a list is, and what a person may ask of one."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any


@dataclass(frozen=True)
class Wish:
    """What a person asks of a list. words: all must be found; filters: exact values by name."""

    words: str = ""
    sort: str = ""
    down: bool = False
    offset: int = 0
    limit: int = 100
    filters: dict[str, str] | None = None


@dataclass(frozen=True)
class Listed:
    """columns: name -> expression; search: where words are looked for; filters: name -> expression.

    slim: narrower sources with the same rows, the narrowest first. Where a wish needs no more than one of them, rows are
    counted and picked there, and only the page's rows are joined with the rest.
    """

    source: Any
    columns: dict[str, Any]
    search: tuple[Any, ...]
    filters: dict[str, Any]
    order: tuple[Any, ...]
    where: Any = None
    slim: tuple[tuple[Any, frozenset[Any]], ...] = ()
    # A word -> where it is found, if that can be told without joining everything.
    seek: Callable[[Callable[..., Any], str], Any] | None = None
    # A filter -> a condition that holds for all that it finds and is told by an index, where the filter itself is not.
    narrow: Mapping[str, Callable[[list[Any]], Any]] = field(default_factory=dict)
