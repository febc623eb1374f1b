"""The frame of every sheet brought in: rows checked one by one, the good kept apart from the bad with their reason."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from typing import Any

from sqlalchemy import select

from ..data.setup import Store, Supplier
from ..sheets.table import unsafe
from .desk import Desk, DeskError

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
    # SKUs whose listings are to be looked at once the rows are taken, in stretches, so that nobody waits long for the lock.
    follow: set[int] = field(default_factory=set)

    def add(self, kind: str, good: Any, told: str) -> None:
        self.counts[kind] += 1
        if kind != "same":
            self.good.append(good)
            if len(self.changes) < SHOWN:
                self.changes.append({"kind": kind, "told": told})

    def refuse(self, row: Row, why: str) -> None:
        self.counts["bad"] += 1
        self.bad.append((row, why))


@dataclass(frozen=True)
class Kind:
    """One sheet: its columns, an example for its template, how it is checked and taken."""

    name: str
    required: tuple[str, ...]
    optional: tuple[str, ...]
    example: tuple[str, ...]
    check: Callable[[Desk, Iterable[Row], Callable[[int], None]], Checked]
    take: Callable[[Desk, Checked], int]


class Names:
    """Stores and suppliers by code or name, whatever the capitals."""

    def __init__(self, desk: Desk) -> None:
        self.stores = _by_name(desk.s.scalars(select(Store)))
        self.suppliers = _by_name(desk.s.scalars(select(Supplier)))

    def store(self, row: Row) -> Store:
        found: Store = self._find(self.stores, row.get("store", ""), "store")
        return found

    def supplier(self, row: Row) -> Supplier:
        found: Supplier = self._find(self.suppliers, row.get("supplier", ""), "supplier")
        return found

    def _find(self, names: dict[str, Any], text: str, what: str) -> Any:
        if not text:
            raise ValueError(f"{what} is empty")
        try:
            return names[text.strip().lower()]
        except KeyError:
            raise ValueError(
                f"there is no {what} {text!r}; use one of {', '.join(sorted({n.name for n in names.values()})) or 'none yet'}"
            ) from None


def _by_name(rows: Iterable[Any]) -> dict[str, Any]:
    return {name: row for row in rows for name in (row.code.lower(), row.name.lower())}


def need(row: Row, name: str) -> str:
    value = unsafe(row.get(name, "").strip())
    if not value:
        raise ValueError(f"{name} is empty")
    if len(value) > 500:
        raise ValueError(f"{name} is longer than 500 letters")
    return value


def whole(row: Row, name: str, least: int, most: int) -> int:
    text = need(row, name)
    if not text.lstrip("-").isdigit() or not least <= int(text) <= most:
        raise ValueError(f"{name}: {text!r} is not a whole number from {least} to {most:,}")
    return int(text)


def each(rows: Iterable[Row], progress: Callable[[int], None], out: Checked, read: Callable[[Row], None]) -> None:
    for n, row in enumerate(rows, 1):
        try:
            read(row)
        except (ValueError, DeskError) as error:
            out.refuse(row, error.told if isinstance(error, DeskError) else str(error))
        if n % 2000 == 0:
            progress(n)
