"""Any sheet brought in, whatever its columns are called: which of them are ours, and its values in our plain way of writing.

A column is named by the sheet's own name for it, or by `=` and a value that stands in every row.
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import asdict, dataclass, field
from datetime import UTC, tzinfo
from itertools import chain, islice
from typing import Any

from . import values
from .headings import DAYS, MONEY, PIECES, guess, known_names
from .opened import NotASheet, OpenedFile, open_sheet

ROWS_MAX = 1_000_000
_SAMPLE = 200
ALWAYS = "="
# Words of states and answers, as people and their programs write them.
_WORDS = {
    "state": {
        "on sale": "live",
        "active": "live",
        "published": "live",
        "yes": "live",
        "off sale": "paused",
        "inactive": "paused",
        "draft": "paused",
        "hidden": "paused",
        "no": "paused",
        "archived": "ended",
        "deleted": "ended",
    },
    "answer": {
        "accept": "accepted",
        "ok": "accepted",
        "confirmed": "accepted",
        "yes": "accepted",
        "bestätigt": "accepted",
        "accepté": "accepted",
        "aceptado": "accepted",
        "refuse": "refused",
        "rejected": "refused",
        "declined": "refused",
        "cancelled": "refused",
        "canceled": "refused",
        "no": "refused",
        "out of stock": "refused",
        "abgelehnt": "refused",
        "refusé": "refused",
        "rechazado": "refused",
        "sent": "shipped",
        "dispatched": "shipped",
        "versendet": "shipped",
        "expédié": "shipped",
        "enviado": "shipped",
    },
}


@dataclass(frozen=True)
class Manner:
    """How a house writes: the sign before decimals, days in numbers (dmy, mdy, ymd), its time zone."""

    decimal: str = "."
    dates: str = "dmy"
    tz: tzinfo = UTC


@dataclass(frozen=True)
class Columns:
    """How a sheet is to be read. columns: ours -> the sheet's name, lower case, or `=` and a value for all rows."""

    columns: dict[str, str] = field(default_factory=dict)
    tab: str = ""
    encoding: str = ""

    @classmethod
    def of(cls, kept: Mapping[str, Any] | None) -> Columns | None:
        return cls(dict(kept["columns"]), kept.get("tab", ""), kept.get("encoding", "")) if kept else None

    def kept(self) -> dict[str, Any]:
        return asdict(self)


class MappedRow(dict[str, str]):
    """A row by our columns; `raw` is the row as it stood, by the sheet's own names; `wrong` is what of it cannot be read at all."""

    raw: dict[str, str]
    wrong: str = ""


@dataclass
class Read:
    """A sheet being read. header: its own names; unknown: those that are not used; left: what was passed over, filled while reading."""

    header: list[str]
    rows: Iterator[MappedRow]
    unknown: list[str]
    left: list[str]


@dataclass(frozen=True)
class ColumnSeen:
    """A first look: the columns as they seem to be, what is missing, what could be something else, the first rows as they would be read."""

    columns: Columns
    header: list[str]
    tabs: list[str]
    above: int
    missing: list[str]
    doubts: dict[str, list[str]]
    rows: list[dict[str, str]]
    mark: str


def mark_of(names: Sequence[str]) -> str:
    """By which a sheet's make is known again: its column names, in any order."""
    return hashlib.sha256("\n".join(sorted(name for name in names if name)).encode()).hexdigest()[:16]


def look(
    data: bytes,
    needed: Sequence[str],
    optional: Sequence[str],
    manner: Manner | None = None,
    chosen: Columns | None = None,
    kept: Mapping[str, Mapping[str, Any]] | None = None,
    rows: int = 10,
) -> ColumnSeen:
    """Look at a sheet. chosen: what a person said; kept: what was said of sheets before, by their mark."""
    manner, chosen = manner or Manner(), chosen or Columns()
    opened = open_sheet(data, known_names((*needed, *optional)), chosen.encoding, chosen.tab)
    names = opened.names
    mark = mark_of(names)
    first = list(islice(opened.rows, _SAMPLE))
    found = guess(names, first, needed, optional)
    said = chosen.columns or (Columns.of((kept or {}).get(mark)) or Columns()).columns
    usable = {ours: theirs for ours, theirs in said.items() if theirs.startswith(ALWAYS) or theirs in names}
    # Our own names always mean what they say; a person's word goes before any guess.
    columns = {**({} if chosen.columns else found.columns), **usable}
    doubts = {} if usable else {ours: [columns[ours], *others] for ours, others in found.doubts.items() if ours in columns}
    how = Columns(columns, opened.tab if len(opened.tabs) > 1 else "", opened.encoding)
    shown = [dict(row) for row in _rows(opened, iter(first[:rows]), first, how, manner)]
    return ColumnSeen(how, opened.header, opened.tabs, opened.above, [name for name in needed if name not in columns], doubts, shown, mark)


def read(data: bytes, needed: Sequence[str], optional: Sequence[str], manner: Manner | None = None, how: Columns | None = None) -> Read:
    """Read a sheet by its columns; without `how`, by what they are called. NotASheet names what is missing or in doubt."""
    manner = manner or Manner()
    opened = open_sheet(data, known_names((*needed, *optional)), how.encoding if how else "", how.tab if how else "")
    names = opened.names
    first = list(islice(opened.rows, _SAMPLE))
    if how is None:
        found = guess(names, first, needed, optional)
        how = Columns(found.columns)
        unsure = next(((ours, others) for ours, others in found.doubts.items() if ours in needed and ours != how.columns[ours]), None)
        if unsure:
            ours, others = unsure
            raise NotASheet(f"{ours} could be the column {how.columns[ours]} or {' or '.join(others)}; say which of them it is")
    gone = [theirs for theirs in how.columns.values() if not theirs.startswith(ALWAYS) and theirs not in names]
    if gone:
        raise NotASheet(f"the column {', '.join(gone[:4])} is not in the sheet any more; name its columns again")
    missing = [name for name in needed if name not in how.columns]
    if missing:
        many = len(missing) > 1
        raise NotASheet(
            f"the column{'s' if many else ''} {', '.join(missing)} {'are' if many else 'is'} missing; "
            "say which column it is, or name the columns as in the template"
        )
    used = set(how.columns.values())
    rows = _rows(opened, chain(first, opened.rows), first, how, manner)
    return Read(opened.header, rows, [name for name in opened.header if name and " ".join(name.split()).lower() not in used], opened.left)


def _rows(
    opened: OpenedFile, rows: Iterator[list[str]], sample: Sequence[Sequence[str]], how: Columns, manner: Manner
) -> Iterator[MappedRow]:
    names = opened.names
    fixed = {ours: theirs[len(ALWAYS) :].strip() for ours, theirs in how.columns.items() if theirs.startswith(ALWAYS)}
    places = {ours: names.index(theirs) for ours, theirs in how.columns.items() if not theirs.startswith(ALWAYS)}
    readers = {ours: _reader(ours, names[at], [row[at] for row in sample if at < len(row)], manner) for ours, at in places.items()}
    for n, cells in enumerate(rows):
        if n >= ROWS_MAX:
            raise NotASheet("the sheet has more than a million rows; split it")
        out = MappedRow(fixed)
        for ours, at in places.items():
            text = cells[at].strip() if at < len(cells) else ""
            try:
                out[ours] = readers[ours](text) if text else ""
            except ValueError as error:
                out[ours], out.wrong = text, f"{ours}: {error}"
        out.raw = {name: cells[at] if at < len(cells) else "" for at, name in enumerate(opened.header) if name}
        yield out


def _reader(ours: str, heading: str, sample: Sequence[str], manner: Manner) -> Any:
    """How a column's values become ours; what cannot be read stays as it is, and is refused by the check with its reason."""
    if ours in MONEY or ours in ("rate", "weight_g"):
        decimal = values.decimal_of(sample, manner.decimal)
        unit = values.unit_in(heading)
        return _trying(lambda text: values.grams_text(text, decimal, unit) if ours == "weight_g" else values.money_text(text, decimal))
    if ours in PIECES:
        mark = values.thousands_in(sample, values.decimal_of(sample, manner.decimal))
        return _trying(lambda text: values.whole_text(text, mark))
    if ours in DAYS:
        longest = 10 if ours in ("until", "day") else None
        return lambda text: values.when_text(text, manner.dates, manner.tz)[:longest]
    if ours == "country":
        return values.country_text
    if ours == "units_per_sale":
        return lambda text: text.replace(",", ".")
    if ours in _WORDS:
        words = _WORDS[ours]
        return lambda text: words.get(text.casefold(), text.casefold())
    return lambda text: text


def _trying(read: Any) -> object:
    def one(text: str) -> str:
        try:
            value: str = read(text)
        except ValueError:
            return text
        return value

    return one
