"""What a list is, and what a person may ask of one."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any

from sqlalchemy import or_, select

from ...data import words
from ...data.shelf import Listing, Sku
from ...data.source import Item
from ..base.context import Context


@dataclass(frozen=True)
class GridQuery:
    """What a person asks of a list. words: all must be found; filters: exact values by name."""

    words: str = ""
    sort: str = ""
    down: bool = False
    offset: int = 0
    limit: int = 100
    filters: dict[str, str] | None = None


class Seeker:
    """Where a word is found. plain: SQLite, which has indexes of words, and whose own comparing does not mind capitals."""

    def __init__(self, plain: bool) -> None:
        self.plain = plain

    def holds(self, column: Any, word: str) -> Any:
        """Whether a column holds a word, whatever its capitals."""
        return (column.contains if self.plain else column.icontains)(word, autoescape=True)

    def skus(self, word: str) -> Any:
        """Ids of SKUs whose code or title holds a word."""
        if self.plain and len(word) >= words.LEAST:
            return words.holding("sku_fts", word)
        return select(Sku.id).where(or_(self.holds(Sku.code, word), self.holds(Sku.title, word)))

    def listings(self, word: str) -> Any:
        """Ids of listings whose own title holds a word."""
        if self.plain and len(word) >= words.LEAST:
            return words.holding("listing_fts", word)
        return select(Listing.id).where(self.holds(Listing.title, word))

    def items(self, word: str) -> Any:
        """Ids of items that say a word that begins so: in their title, number, brand, options, category or codes."""
        if self.plain and any(one.isalnum() for one in word):
            return words.holding("item_fts", word, start=True)
        return select(Item.id).where(or_(self.holds(Item.number, word), self.holds(Item.title, word)))


def seeker(context: Context) -> Seeker:
    return Seeker(context.session.get_bind().dialect.name == "sqlite")


@dataclass(frozen=True)
class GridSpec:
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
    seek: Callable[[Seeker, str], Any] | None = None
    # A filter -> the same condition told by an index, where its expression is not.
    message: Mapping[str, Callable[[list[Any]], Any]] = field(default_factory=dict)
    # A sort, or a filter as name:value -> the table and its index by which it is walked, where the database would not see that by itself.
    by: Mapping[str, tuple[Any, str]] = field(default_factory=dict)
