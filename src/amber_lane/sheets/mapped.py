"""Catalogue sheets in a supplier's own words: looked at once with a person, remembered, and read the same way ever after.

A sheet that has changed its make since is told, and where its meaning is in doubt it is not read at all.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import asdict, dataclass, field
from itertools import islice
from typing import Any

from ..core.writing import grouped
from . import values
from .headings import guess, known_names
from .opened import BYTES_MAX, ENCODINGS, NotASheet, guess_encoding, is_packed, open_sheet

# Our columns of a catalogue.
FIELDS = (
    "item", "title", "cost", "stock", "currency", "gtin", "mpn", "brand", "category", "options", "pack_size", "weight_g", "least_price",
    "lead_days", "origin", "link",
)  # fmt: skip
NEEDED = ("item", "title", "cost", "stock")
_SAMPLE = 200
# More rows than this would take more memory than a desk should; it is said before anything is read.
ROWS_MOST = 300_000
_TOO_LONG = f"the sheet has more than {grouped(ROWS_MOST)} rows; ask for it in parts, nothing was changed"


class SheetChanged(NotASheet):
    """The sheet is not made as it was when its columns were named; says what changed and what to do."""


@dataclass(frozen=True)
class Reading:
    """How a sheet is read: ours -> the column's name there; separator '' = a workbook; decimal '' = no decimals seen.

    tab: which sheet of a workbook, '' = the one whose header says most. pieces: the sign before the decimals of whole numbers.
    """

    columns: dict[str, str]
    encoding: str
    separator: str
    decimal: str
    header: list[str] = field(default_factory=list)
    tab: str = ""
    pieces: str = "."

    @classmethod
    def of(cls, kept: dict[str, Any]) -> Reading:
        return cls(**kept)

    def kept(self) -> dict[str, Any]:
        return asdict(self)


@dataclass(frozen=True)
class SheetLook:
    """A first look at a sheet: how it seems to be made, its first rows, and which columns seem to be ours.

    doubts: ours -> other columns that it could be as well; above: rows before the header.
    """

    reading: Reading
    rows: list[list[str]]
    missing: list[str]
    doubts: dict[str, list[str]] = field(default_factory=dict)
    tabs: list[str] = field(default_factory=list)
    above: int = 0


def look(data: bytes, encoding: str = "", rows: int = 6, tab: str = "", house: str = ".") -> SheetLook:
    """Look at a sheet that nobody has named the columns of. encoding, tab: what a person chose instead of our guess; house: the sign
    before decimals where no value shows it."""
    _check_size(data)
    opened = open_sheet(data, known_names(FIELDS), encoding, tab)
    names = opened.names
    if len([name for name in names if name]) < 2:
        raise NotASheet("no row names the columns; this sheet cannot be read without")
    first = list(islice(opened.rows, _SAMPLE))
    found = guess(names, first, NEEDED, [name for name in FIELDS if name not in NEEDED])
    decimal = _decimal(first, names.index(found.columns["cost"])) if "cost" in found.columns else ""
    pieces = values.thousands_in(_column(first, names, found.columns.get("stock")), decimal or house)
    reading = Reading(found.columns, opened.encoding, opened.separator, decimal, names, opened.tab if len(opened.tabs) > 1 else "", pieces)
    missing = [name for name in NEEDED if name not in found.columns]
    return SheetLook(reading, first[:rows], missing, found.doubts, opened.tabs, opened.above)


def _column(rows: Sequence[Sequence[str]], names: Sequence[str], name: str | None) -> list[str]:
    if name is None or name not in names:
        return []
    at = names.index(name)
    return [row[at] for row in rows if at < len(row)]


def read_rows(data: bytes, reading: Reading) -> tuple[Iterator[list[str]], dict[str, int], list[str]]:
    """Rows of a sheet as lists of text, where each of our columns stands, and what was noticed.

    SheetChanged when a named column is gone, or its letters or numbers cannot surely be read as before.
    """
    _check_size(data)
    notices: list[str] = []
    encoding = _encoding(data, reading, notices)
    opened = open_sheet(data, {*known_names(FIELDS), *reading.columns.values()}, encoding, reading.tab)
    if not opened.separator and reading.separator:
        notices.append("the sheet comes as a workbook now")
    elif opened.separator and reading.separator and opened.separator != reading.separator:
        notices.append(f"its columns are told apart by {_called(opened.separator)} now, not by {_called(reading.separator)}")
    names, body = opened.names, opened.rows
    gone = [theirs for theirs in reading.columns.values() if theirs not in names]
    fresh = [name for name in names if name and name not in reading.header]
    if gone:
        hint = f"; new there: {', '.join(fresh[:4])}" if fresh else ""
        raise SheetChanged(f"the column {', '.join(gone[:4])} is gone from the sheet{hint}. Name its columns again; nothing was changed")
    if fresh:
        notices.append(f"new columns, not read: {', '.join(fresh[:6])}")
    places = {ours: names.index(theirs) for ours, theirs in reading.columns.items()}
    first = [row for _, row in zip(range(_SAMPLE), body, strict=False)]
    decimal = _decimal(first, places["cost"])
    if decimal and reading.decimal and decimal != reading.decimal:
        raise SheetChanged(
            f"amounts are written with {_called(decimal)} for the decimals now, with {_called(reading.decimal)} before. "
            "Name its columns again to say which is right; nothing was changed"
        )
    return _chain(first, body), places, notices


def amount(text: str, decimal: str) -> str:
    """An amount as a supplier writes it, with a point for decimals and nothing between thousands; ValueError if it is none.

    >>> amount("1.234,50", ","), amount("12", ",")
    ('1234.50', '12')
    """
    return values.money_text(text, decimal or ".")


def count(text: str, decimal: str = ".") -> int:
    """A stock as suppliers write it: a whole number, also as 50+ or >50 (at least so many); ValueError if it is none.

    >>> count("50+"), count(" 7 "), count("12,00")
    (50, 7, 12)
    """
    if text.isascii() and text.isdecimal() and len(text) <= 9:
        return int(text)
    number = int(values.whole_text(text, decimal))
    if number < 0:
        raise ValueError(f"{text[:40]!r} is not a whole number of pieces")
    return number


def _chain(first: list[list[str]], body: Iterator[list[str]]) -> Iterator[list[str]]:
    n = 0
    for part in (iter(first), body):
        for row in part:
            n += 1
            if n > ROWS_MOST:
                raise NotASheet(_TOO_LONG)
            yield row


def _encoding(data: bytes, reading: Reading, notices: list[str]) -> str:
    """The sheet's letters. UTF-8 with signs of its own is never anything else; what is not UTF-8 cannot be read as it."""
    if is_packed(data):
        return ""
    found = guess_encoding(data)
    was = reading.encoding or found
    if found != was and "utf" in found + was and any(byte > 0x7F for byte in data):
        if not was.startswith("utf"):
            notices.append(f"its letters are {found} now, {was} before")
            return found
        raise SheetChanged(f"its letters are not {was} any more. Name its columns again to choose how they are read; nothing was changed")
    return was


def _check_size(data: bytes) -> None:
    if not data.strip():
        raise NotASheet("the sheet is empty; nothing was changed")
    if len(data) > BYTES_MAX:
        raise NotASheet("the sheet is larger than 120 MB; ask for it in parts")
    if not is_packed(data) and data.count(b"\n") > ROWS_MOST + 1:
        raise NotASheet(_TOO_LONG)


def _decimal(rows: list[list[str]], place: int) -> str:
    """Which sign stands before the decimals of a column: ',' or '.', or '' where no row shows it."""
    comma = point = 0
    for row in rows:
        text = row[place].strip() if place < len(row) else ""
        tail = re.search(r"([.,])(\d{1,2}|\d{4,})$", text)
        if tail:
            comma += tail[1] == ","
            point += tail[1] == "."
    return "" if comma == point == 0 else "," if comma >= point else "."


def _called(sign: str) -> str:
    return {";": "semicolons", ",": "a comma", "\t": "tabs", "|": "upright strokes", ".": "a point", "": "nothing"}.get(sign, sign)


__all__ = [
    "ENCODINGS",
    "FIELDS",
    "NEEDED",
    "NotASheet",
    "Reading",
    "SheetChanged",
    "SheetLook",
    "amount",
    "count",
    "guess_encoding",
    "look",
    "read_rows",
]
