"""What columns are called where people work: English, German, French, Spanish, and what suppliers have been seen to write.

A guess looks at the names first and at the values then; where two columns could be one thing, both are named.
"""

from __future__ import annotations

import re
import tomllib
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field
from pathlib import Path

from ..core.ids import check_gtin
from . import values

# Our column -> names that it has been seen under, the surest first.
WORDS: dict[str, list[str]] = tomllib.loads(Path(__file__).with_name("headings.toml").read_text("utf-8"))
MONEY = frozenset(("price", "cost", "unit_price", "billed", "least_price", "ceiling", "shipping_paid", "discount", "tax"))
PIECES = frozenset(("quantity", "stock", "pack_size", "lead_days", "line_no"))
DAYS = frozenset(("ordered_at", "promised_by", "shipped_at", "until", "day"))


def _money(text: str) -> bool:
    try:
        values.money_text(text)
    except ValueError:
        return False
    return True


def _pieces(text: str) -> bool:
    try:
        values.whole_text(text)
    except ValueError:
        # Written with the other mark, it may still be one.
        return _money(text) and "." in text
    return True


def _barcode(text: str) -> bool:
    try:
        check_gtin(text)
    except ValueError:
        return False
    return True


# Our column -> what its values look like. Half of those there must.
LOOKS: dict[str, Callable[[str], bool]] = {
    **dict.fromkeys(MONEY, _money),
    **dict.fromkeys(PIECES, _pieces),
    "gtin": lambda text: (text.strip().isdecimal() and 8 <= len(text.strip()) <= 14) or _barcode(text),
    "title": lambda text: any(letter.isalpha() for letter in text),
    "email": lambda text: "@" in text,
    "link": lambda text: "." in text,
}


@dataclass(frozen=True)
class Guess:
    """columns: ours -> the sheet's name, lower case. doubts: ours -> other columns that it could be as well."""

    columns: dict[str, str] = field(default_factory=dict)
    doubts: dict[str, list[str]] = field(default_factory=dict)


def known_names(wanted: Iterable[str]) -> set[str]:
    """All names under which the wanted columns are known, as they are compared with a header."""
    return {name for ours in wanted for name in (*WORDS.get(ours, ()), ours, ours.replace("_", " "))}


def _bare(name: str) -> str:
    """A name without punctuation and units: Weight (lb) is weight lb, Part # is part number."""
    name = name.replace("#", " number ").replace("_", " ")
    return " ".join(re.sub(r"[^\w\s'/-]", " ", name.casefold()).split())


def guess(names: Sequence[str], rows: Sequence[Sequence[str]], needed: Sequence[str], optional: Sequence[str] = ()) -> Guess:
    """Which of a sheet's columns are ours, by their names and their values. names: as `Opened.names`; rows: some of its first rows."""
    wanted = (*needed, *optional)
    bare = {name: _bare(name) for name in names if name}
    at = {name: place for place, name in enumerate(names)}
    fits: dict[str, list[tuple[int, str]]] = {}
    for ours in wanted:
        words = [_bare(ours), *(_bare(word) for word in WORDS.get(ours, ()))]
        found = [(words.index(said), name) for name, said in bare.items() if said in words]
        fits[ours] = sorted((rank, name) for rank, name in found if _looks(ours, [row[at[name]] for row in rows if at[name] < len(row)]))
    columns: dict[str, str] = {}
    # What is needed comes first, then the surest, so that "part number" is an item's number only where nothing names it better.
    ranked = sorted((ours not in needed, rank, wanted.index(ours), ours, name) for ours, found in fits.items() for rank, name in found)
    for _, _, _, ours, name in ranked:
        if ours not in columns and name not in columns.values():
            columns[ours] = name
    doubts = {
        ours: others
        for ours, name in columns.items()
        if (others := [other for _, other in fits[ours] if other != name and other not in columns.values()])
    }
    return Guess({ours: columns[ours] for ours in wanted if ours in columns}, doubts)


def _looks(ours: str, cells: Iterable[str]) -> bool:
    """Whether the values of a column may be what its name says; an empty column may be anything."""
    test = LOOKS.get(ours)
    given = [cell.strip() for cell in cells if cell.strip()]
    return test is None or not given or 2 * sum(1 for cell in given if test(cell)) >= len(given)
