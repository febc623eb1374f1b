"""The frame of every sheet brought in: rows checked one by one, the good kept apart from the bad with their reason."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, field, replace
from datetime import date, datetime
from typing import Any

from sqlalchemy import select

from ...core.writing import grouped
from ...data.setup import Store, Supplier
from ...sheets.table import unsafe
from . import house_days
from .context import Context
from .errors import UseCaseError

Row = dict[str, str]
# So many changes are told one by one.
SHOWN = 200


@dataclass
class Checked:
    """What a sheet would do: counts by kind of change, the changes, the rows that cannot be taken."""

    counts: dict[str, int] = field(default_factory=lambda: {"new": 0, "changed": 0, "same": 0, "bad": 0})
    changes: list[dict[str, Any]] = field(default_factory=list)
    good: list[Any] = field(default_factory=list)
    bad: list[tuple[Row, str]] = field(default_factory=list)
    # What a person should know before they take it.
    note: str = ""

    def add(self, kind: str, good: object, message: str) -> None:
        self.counts[kind] = self.counts.get(kind, 0) + 1
        if kind != "same":
            self.good.append(good)
            if len(self.changes) < SHOWN:
                self.changes.append({"kind": kind, "message": message})

    def refuse(self, row: Row, reason: str) -> None:
        self.counts["bad"] += 1
        # As it stood in the sheet, so that it can be mended there.
        self.bad.append((getattr(row, "raw", row), reason))


@dataclass(frozen=True)
class SheetKind:
    """One sheet: its columns, an example for its template, how it is checked and taken."""

    name: str
    required: tuple[str, ...]
    optional: tuple[str, ...]
    example: tuple[str, ...]
    check: Callable[[Context, Iterable[Row], Callable[[int], None]], Checked]
    take: Callable[[Context, Checked], int]
    # What may be taken apart: rows of one key stay together. None: all of it in one transaction.
    key: Callable[[Any], Any] | None = None
    # How rows are taken that want more than their portions, in place of `take`: (database, what makes a context, rows, progress).
    carry: Callable[[Any, Callable[[Any], Context], Checked, Callable[[int], None]], None] | None = None

    def portions(self, checked: Checked, size: int) -> list[Checked]:
        """The good rows in portions, each with the note and counts of the whole."""
        if self.key is None or len(checked.good) <= size:
            return [checked]
        groups: dict[Any, list[Any]] = {}
        for one in checked.good:
            groups.setdefault(self.key(one), []).append(one)
        out: list[list[Any]] = []
        for group in groups.values():
            if out and len(out[-1]) + len(group) <= size:
                out[-1] += group
            else:
                out.append(list(group))
        return [replace(checked, good=part) for part in out]


class KnownNames:
    """Stores and suppliers by code or name, whatever the capitals."""

    def __init__(self, context: Context) -> None:
        self.stores = _by_name(context.session.scalars(select(Store)))
        self.suppliers = _by_name(context.session.scalars(select(Supplier)))

    def store(self, row: Row) -> Store:
        found: Store = self._find(self.stores, row.get("store", ""), "store")
        return found

    def supplier(self, row: Row) -> Supplier:
        found: Supplier = self._find(self.suppliers, row.get("supplier", ""), "supplier")
        return found

    def _find(self, names: dict[str, list[Any]], text: str, what: str) -> Any:  # noqa: ANN401 - a row of whatever table the names are of
        if not text:
            raise ValueError(f"{what} is empty")
        found = names.get(_plain(text), [])
        if len(found) == 1:
            return found[0]
        if found:
            raise ValueError(f"{text!r} could mean {_any_of(found)}; write its whole name")
        everyone = {row.id: row for rows in names.values() for row in rows}
        words = set(_plain(text).split())
        near = [row for row in everyone.values() if words & set(_plain(row.name).split()) or _plain(row.name).startswith(_plain(text))]
        if near:
            raise ValueError(f"there is no {what} called {text!r}; it could mean {_any_of(near)}")
        raise ValueError(
            f"there is no {what} {text!r}; use one of {', '.join(sorted(row.name for row in everyone.values())) or 'none yet'}"
        )


def _plain(text: str) -> str:
    return " ".join(text.casefold().split())


def _any_of(rows: Iterable[Any]) -> str:
    names = sorted(f"{row.name} ({row.code})" for row in rows)
    return names[0] if len(names) == 1 else f"{', '.join(names[:-1])} or {names[-1]}"


def _by_name(rows: Iterable[Any]) -> dict[str, list[Any]]:
    """Rows by code and by name; a name that is another one's code leads to both."""
    found: dict[str, list[Any]] = {}
    for row in rows:
        for name in {_plain(row.code), _plain(row.name)}:
            found.setdefault(name, []).append(row)
    return found


def need(row: Row, name: str) -> str:
    value = unsafe(row.get(name, "").strip())
    if not value:
        raise ValueError(f"{name} is empty")
    if len(value) > 500:
        raise ValueError(f"{name} is longer than 500 letters")
    return value


def whole(row: Row, name: str, least: int, most: int) -> int:
    text = need(row, name)
    if not text.lstrip("-").isdecimal() or not least <= int(text) <= most:
        raise ValueError(f"{name}: {text!r} is not a whole number from {least} to {grouped(most)}")
    return int(text)


def moment(context: Context, text: str, name: str) -> datetime:
    """A moment, or the beginning of a day; both of the house's zone where they do not say another."""
    try:
        value = datetime.fromisoformat(text) if len(text) > 10 else house_days.begin(context, date.fromisoformat(text))
    except ValueError:
        raise ValueError(f"{name}: {text!r} is not a date such as 2026-03-12") from None
    return value if value.tzinfo else value.replace(tzinfo=house_days.zone_of(context))


def each(rows: Iterable[Row], progress: Callable[[int], None], out: Checked, read: Callable[[Row], None]) -> None:
    for n, row in enumerate(rows, 1):
        try:
            if wrong := getattr(row, "wrong", ""):
                raise ValueError(wrong)
            read(row)
        except (ValueError, UseCaseError) as error:
            out.refuse(row, error.message if isinstance(error, UseCaseError) else str(error))
        if n % 2000 == 0:
            progress(n)
