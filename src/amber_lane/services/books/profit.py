"""Profit by anything: by order, SKU, category, supplier, item, store, country, day, week or month, of any days beside any others."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date, timedelta
from typing import Any

import numpy as np
from sqlalchemy import func, literal, select

from ...core.books import Ledger, Sums
from ...core.money import Floats, Ints
from ...data.books import JournalEntry
from ...data.bulk import in_chunks
from ...data.orders import Order
from ...data.printing import Artwork
from ...data.setup import Store, Supplier
from ...data.shelf import Sku
from ...data.source import Item
from ..base import house_days
from ..base.context import Context
from ..base.errors import Invalid
from . import columns
from .columns import Columns
from .grouping import DIMENSIONS, EPOCH, FILTERS, PLACES, TIMES, Figures, Grouped, Period, compact, keys_of, narrowed


@dataclass(frozen=True)
class Group:
    """One row (or cell): key: the value of its dimension, name: as people call it, code: a SKU's, an item's or an order's number."""

    key: int
    name: str
    code: str
    now: Figures
    before: Figures


@dataclass
class Table:
    rows: list[Group]
    total: Group
    count: int
    # Currencies of entries that no rate is known for: they are in no sum.
    left_out: list[str] = field(default_factory=list)


@dataclass(frozen=True)
class View:
    """What a table shows. by: one of DIMENSIONS; sort: a figure, `change` of the profit, `margin` or `name`; limit: rows at most."""

    by: str
    period: Period
    against: Period
    filters: Mapping[str, int] = field(default_factory=dict)
    sort: str = "profit"
    down: bool = True
    offset: int = 0
    limit: int = 200

    def __post_init__(self) -> None:
        if self.by not in DIMENSIONS:
            raise Invalid(f"profit cannot be shown by {self.by!r}; by {', '.join(DIMENSIONS)}")


@dataclass(frozen=True)
class _Side:
    """The sums of one period, and where each of all rows stands in them (-1: nothing there)."""

    sums: Grouped
    at: Ints

    def column(self, name: str) -> Ints:
        values = self.sums.column(name)
        if not len(values):
            return np.zeros(len(self.at), dtype=np.int64)
        out: Ints = np.where(self.at >= 0, values[self.at], 0)
        return out

    def figures(self, row: int) -> Figures:
        at = int(self.at[row])
        return self.sums.figures(None if at < 0 else at)


def table(context: Context, view: View) -> Table:
    """Profit by a dimension in a period, beside another period."""
    by, period, against = view.by, view.period, view.against
    of = columns.read(context.session)
    keys, some = keys_of(of, by), narrowed(of, view.filters)
    now_sums, before_sums = (Grouped(of, keys, one.mask(of) if some is None else one.mask(of) & some) for one in (period, against))
    had = before_sums.keys
    if by in TIMES:
        # The other period's days are other days: they stand beside these in their order.
        had = _beside(had, by, period, against)
    everything, _ = compact(np.concatenate([now_sums.keys, had]))
    now, before = _Side(now_sums, _places(now_sums.keys, everything)), _Side(before_sums, _places(had, everything))
    order = _order(view.sort, len(everything), now, before)
    if view.down:
        order = order[::-1]
    shown = order[view.offset : view.offset + view.limit].tolist()
    labels = Names(context, of, by).of([int(everything[n]) for n in shown])
    rows = [Group(int(everything[n]), *labels[int(everything[n])], now.figures(n), before.figures(n)) for n in shown]
    total = Group(0, "Total", "", now_sums.total(), before_sums.total())
    return Table(rows, total, len(everything), left_out(context))


def _beside(had: Ints, by: str, period: Period, against: Period) -> Ints:
    """Days, weeks and months of the other period, each as the one of this period that stands in its place."""
    if by in ("day", "week"):
        return had + keys_day(period.first, by) - keys_day(against.first, by)
    months = (period.first.year - against.first.year) * 12 + period.first.month - against.first.month
    moved = had.astype("datetime64[D]").astype("datetime64[M]") + months
    out: Ints = moved.astype("datetime64[D]").astype(np.int64)
    return out


def keys_day(day: date, by: str) -> int:
    """The key of the week (or day) that a day is in."""
    n = (day - EPOCH).days
    return (n + 3) // 7 * 7 - 3 if by == "week" else n


def _places(found: Ints, everything: Ints) -> Ints:
    """Where each of all keys stands among those found; -1 where it does not."""
    if not len(found):
        return np.full(len(everything), -1, dtype=np.int64)
    at = np.minimum(np.searchsorted(found, everything), len(found) - 1)
    out: Ints = np.where(found[at] == everything, at, -1).astype(np.int64)
    return out


def _order(sort: str, n: int, now: _Side, before: _Side) -> Ints:
    """Rows from the smallest to the largest; by name they stand as their keys do, which of times is their order."""
    if sort in ("name", ""):
        return np.arange(n, dtype=np.int64)
    if sort == "change":
        values: Ints | Floats = now.column("profit") - before.column("profit")
    elif sort == "margin":
        net = now.column("net")
        values = np.where(net > 0, now.column("profit") / np.maximum(net, 1), -np.inf)
    elif sort in (*PLACES, "planned", "units", "orders"):
        # Of what is taken off, the largest stands first.
        values = now.column(sort) * (-1 if sort in ("fees", "goods", "sending", "tax", "refunds") else 1)
    else:
        raise Invalid(f"there is no column {sort!r} to sort by")
    out: Ints = np.argsort(values, kind="stable").astype(np.int64)
    return out


class Names:
    """What the values of a dimension are called."""

    def __init__(self, context: Context, of: Columns, by: str) -> None:
        self.context, self.words, self.by = context, of.words, by

    def of(self, keys: Sequence[int]) -> dict[int, tuple[str, str]]:
        """(name, code) by key."""
        if self.by in TIMES:
            return {key: (self._time(key), (EPOCH + timedelta(days=key)).isoformat()) for key in keys}
        if self.by in ("category", "country"):
            return {key: (self.words[key] or ("No category" if self.by == "category" else "No country"), self.words[key]) for key in keys}
        s = self.context.session
        query: dict[str, Callable[[list[int]], Any]] = {
            "order": lambda some: select(Order.id, Order.buyer, Order.number).where(Order.id.in_(some)),
            "sku": lambda some: select(Sku.id, Sku.title, Sku.code).where(Sku.id.in_(some)),
            "item": lambda some: select(Item.id, Item.title, Item.number).where(Item.id.in_(some)),
            "artwork": lambda some: select(Artwork.id, Artwork.name, literal("")).where(Artwork.id.in_(some)),
            "supplier": lambda some: select(Supplier.id, Supplier.name, Supplier.code).where(Supplier.id.in_(some)),
            "store": lambda some: select(Store.id, Store.name, Store.code).where(Store.id.in_(some)),
        }
        found = {0: (NOTHING[self.by], "")}
        for chunk in in_chunks(keys):
            found |= {number: (name, code) for number, name, code in s.execute(query[self.by](chunk))}
        return {key: found.get(key, ("Removed", "")) for key in keys}

    def _time(self, key: int) -> str:
        day = EPOCH + timedelta(days=key)
        if self.by == "month":
            return f"{day:%B} {day.year}"
        if self.by == "week":
            return f"Week {day.isocalendar().week}, {house_days.day_text(self.context, day)}"
        return house_days.day_text(self.context, day, weekday=True)


NOTHING = {
    "artwork": "Nothing printed", "order": "Of no order", "sku": "Of no SKU", "item": "Of no item", "supplier": "Of no supplier",
    "store": "Of no store",
}  # fmt: skip


def left_out(context: Context) -> list[str]:
    """Currencies of entries of profit that have no rate."""
    e = JournalEntry
    unrated = select(e.currency).where(e.home.is_(None), e.account == Ledger.profit.value).group_by(e.currency)
    return sorted(context.session.scalars(unrated.having(func.sum(e.amount) != 0)))


def cells(
    context: Context, by: str, across: str, period: Period, figure: str, filters: Mapping[str, int] | None = None, most: int = 14
) -> tuple[list[tuple[int, str]], list[tuple[int, str, str, dict[int, int], int]]]:
    """A figure by two dimensions: the columns (the largest ones; times in their order), and per row its cells and its sum."""
    of = columns.read(context.session)
    some = narrowed(of, filters or {})
    chosen = period.mask(of) if some is None else period.mask(of) & some
    rows, cols = keys_of(of, by), keys_of(of, across)
    wide, place = np.unique(cols[chosen], return_inverse=True)
    both = np.full(len(of), -1, dtype=np.int64)
    both[chosen] = rows[chosen] * max(len(wide), 1) + place.reshape(-1)
    sums = Grouped(of, both, chosen)
    out: dict[int, dict[int, int]] = {}
    for key, value in zip(sums.keys.tolist(), sums.column(figure).tolist(), strict=True):
        row, column = divmod(key, max(len(wide), 1))
        out.setdefault(row, {})[int(wide[column])] = value
    weight = {int(key): sum(abs(cells.get(int(key), 0)) for cells in out.values()) for key in wide}
    kept = sorted(weight, key=lambda key: -weight[key])[:most] if across not in TIMES else sorted(weight)[-most:]
    kept.sort(key=(lambda key: key) if across in TIMES else (lambda key: -weight[key]))
    heads, labels = Names(context, of, across).of(kept), Names(context, of, by).of(list(out))
    lines = [(key, *labels[key], cells_of, sum(cells_of.values())) for key, cells_of in out.items()]
    lines.sort(key=(lambda one: (one[0], 0)) if by in TIMES else (lambda one: (-one[4], one[0])))
    return [(key, heads[key][0]) for key in kept], lines


def by_sku(context: Context, period: Period, filters: Mapping[str, int] | None = None) -> dict[int, Sums]:
    """Each SKU's part of a period, for the bridge; what belongs to no SKU, such as fixed costs, is the other money of SKU 0."""
    of = columns.read(context.session)
    some = narrowed(of, filters or {})
    chosen = period.mask(of) if some is None else period.mask(of) & some
    sums = Grouped(of, keys_of(of, "sku"), chosen)
    of_sku = [sums.keys, sums.column("units"), sums.column("net"), -(sums.column("goods") + sums.column("sending")), -sums.column("fees")]
    of_sku.append(sums.column("refunds") + sums.column("claims") + sums.column("below"))
    rows = zip(*(column.tolist() for column in of_sku), strict=True)
    return {sku: Sums(units, revenue, paid, fees, rest) for sku, units, revenue, paid, fees, rest in rows}


def days_of(context: Context, period: Period, filters: Mapping[str, int] | None = None) -> list[tuple[date, int, int]]:
    """(day, sales, profit) for every day of a period, also those on which nothing was."""
    of = columns.read(context.session)
    some = narrowed(of, filters or {})
    chosen = period.mask(of) if some is None else period.mask(of) & some
    sums = Grouped(of, keys_of(of, "day"), chosen)
    have = {int(day): n for n, day in enumerate(sums.keys.tolist())}
    sold, left = sums.column("sales"), sums.column("profit")
    out = []
    for n in range(period.days):
        day = period.first + timedelta(days=n)
        at = have.get((day - EPOCH).days)
        out.append((day, 0 if at is None else int(sold[at]), 0 if at is None else int(left[at])))
    return out


USUAL_DAYS = 56


def usual(context: Context, period: Period, filters: Mapping[str, int] | None = None) -> tuple[int, int, int]:
    """Profit of a usual day in the eight weeks before a period, and the band in which nine of ten such days lie (by their middle and their
    median distance from it, so that one odd day moves nothing); of days since the first entry alone."""
    of = columns.read(context.session)
    if not len(of):
        return 0, 0, 0
    start = EPOCH + timedelta(days=int(of["day"].min()))
    first = max(period.first - timedelta(days=USUAL_DAYS), start)
    if first >= period.first:
        # Nothing is older: the days themselves say what is usual.
        first, last = max(period.first, start), period.last
    else:
        last = period.first - timedelta(days=1)
    values = np.array([left for _, _, left in days_of(context, Period(first, last), filters)] or [0], dtype=np.int64)
    level = float(np.median(values))
    spread = 1.645 * 1.4826 * float(np.median(np.abs(values - level)))
    return round(level), round(level - spread), round(level + spread)


def filter_value(context: Context, name: str, text: str) -> int:
    """The key of a value as it stands in an address: a number, or the word itself for category and country."""
    if name not in FILTERS:
        raise Invalid(f"profit cannot be narrowed down by {name!r}; by {', '.join(FILTERS)}")
    if name in ("category", "country"):
        words = columns.read(context.session).words
        return words.index(text) if text in words else -1
    if not text.isdecimal() or len(text) > 15:
        raise Invalid(f"{name}: {text!r} is not a number of one")
    return int(text)
