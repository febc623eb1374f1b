"""Profit by anything: by order, SKU, category, supplier, item, store, country, day, week or month, of any days beside any others."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date, timedelta
from typing import Any

import numpy as np
from sqlalchemy import func, select

from ...core.books import BELOW, FEES, Basis, Kind, Ledger, Sums
from ...core.money import Bools, Ints
from ...data.books import JournalEntry
from ...data.bulk import in_chunks
from ...data.orders import Order
from ...data.setup import Store, Supplier
from ...data.shelf import Sku
from ...data.source import Item
from ..base import house_days
from ..base.context import Context
from ..base.errors import Invalid
from . import columns
from .columns import BASES, KINDS, Columns

EPOCH = date(1970, 1, 1)
DIMENSIONS = ("order", "sku", "category", "supplier", "item", "store", "country", "day", "week", "month")
TIMES = ("day", "week", "month")
# What may be narrowed down to one value.
FILTERS = ("sku", "category", "supplier", "item", "store", "country")

_KIND = {Kind(name): n for n, name in enumerate(KINDS)}
_REFUND_BASIS = BASES.index(Basis.refund.value)
_PLANNED = [BASES.index(one.value) for one in (Basis.planned, Basis.reversal)]
# Figure -> the kinds of money it is the sum of. Refunds take the tax and the fees given back with them.
FIGURES: dict[str, tuple[Kind, ...]] = {
    "sales": (Kind.sale, Kind.shipping_paid, Kind.discount),
    "tax": (Kind.tax,),
    "fees": FEES,
    "goods": (Kind.goods, Kind.supplier_tax),
    "sending": (Kind.shipping, Kind.handling),
    "refunds": (Kind.refund, Kind.fee_back),
    "claims": (Kind.claim, Kind.return_cost, Kind.rebate, Kind.correction),
    "below": BELOW,
}
# The others are sums of these.
DERIVED = ("net", "contribution", "profit", "planned", "margin")
COUNTS = ("orders", "units")
FINE: dict[str, tuple[Kind, ...]] = {
    name: (kind,)
    for name, kind in (
        ("price", Kind.sale), ("shipping_paid", Kind.shipping_paid), ("discount", Kind.discount), ("store_fee", Kind.store_fee),
        ("payment_fee", Kind.payment_fee), ("shipping", Kind.shipping), ("handling", Kind.handling), ("rebates", Kind.rebate),
    )
}  # fmt: skip
# What stands in one column where there is no room for more: so every row still adds up.
FINE["other"] = FIGURES["claims"] + FIGURES["below"]


@dataclass(frozen=True)
class Period:
    """Days of the house, both ends in."""

    first: date
    last: date

    @property
    def days(self) -> int:
        return (self.last - self.first).days + 1

    def before(self) -> Period:
        """As many days right before; of whole months the months before."""
        if self.first.day == 1 and (self.last + timedelta(days=1)).day == 1:
            months = (self.last.year - self.first.year) * 12 + self.last.month - self.first.month + 1
            year, month = divmod(self.first.year * 12 + self.first.month - 1 - months, 12)
            return Period(date(year, month + 1, 1), self.first - timedelta(days=1))
        return Period(self.first - timedelta(days=self.days), self.first - timedelta(days=1))

    def year_before(self) -> Period:
        """The same days of last year; a leap day is the one before."""

        def back(day: date) -> date:
            return day.replace(year=day.year - 1, day=28) if (day.month, day.day) == (2, 29) else day.replace(year=day.year - 1)

        return Period(back(self.first), back(self.last))

    def mask(self, of: Columns) -> Bools:
        days = of["day"]
        out: Bools = (days >= (self.first - EPOCH).days) & (days <= (self.last - EPOCH).days)
        return out


@dataclass(frozen=True)
class Figures:
    """Sums of a group, minor units of the house's currency; costs and fees with a minus. margin in ppm of the net revenue, None without."""

    of: Mapping[str, int]

    def __getitem__(self, name: str) -> int:
        return self.of[name]

    @property
    def margin(self) -> int | None:
        return self.of["profit"] * 1_000_000 // self.of["net"] if self.of["net"] > 0 else None


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


def keys_of(of: Columns, dimension: str) -> Ints:
    """The value of a dimension per entry; of times the day that it begins with, in days since 1970."""
    if dimension == "week":
        # 1 January 1970 was a Thursday; weeks begin on Mondays.
        out: Ints = (of["day"].astype(np.int64) + 3) // 7 * 7 - 3
        return out
    if dimension == "month":
        months: Ints = of["day"].astype("datetime64[D]").astype("datetime64[M]").astype("datetime64[D]").astype(np.int64)
        return months
    return of[dimension].astype(np.int64)


def narrowed(of: Columns, filters: Mapping[str, int]) -> Bools | None:
    """Which entries have these values; None where nothing is asked."""
    out: Bools | None = None
    for name, value in filters.items():
        one = of[name] == value
        out = one if out is None else out & one
    return out


def summed(of: Columns, keys: Ints, chosen: Bools) -> tuple[Ints, dict[str, Ints]]:
    """Every figure by key: the keys that there are, and per figure one sum for each of them."""
    picked = np.flatnonzero(chosen)
    found, place = np.unique(keys[picked], return_inverse=True)
    n, k = len(found), len(KINDS)
    kind, basis, home = of["kind"][picked].astype(np.int64), of["basis"][picked], of["home"][picked]
    place = place.reshape(-1).astype(np.int64)
    # What is given back with a refund counts as one with it.
    kind = np.where((basis == _REFUND_BASIS) & (kind == _KIND[Kind.tax]), _KIND[Kind.refund], kind)
    # Sums of whole numbers below 2^53 are exact in doubles, and this is by far the quickest way.
    sums = np.bincount(place * k + kind, weights=home, minlength=n * k).reshape(n, k)
    out: dict[str, Ints] = {
        name: np.rint(sums[:, [_KIND[kind] for kind in kinds]].sum(axis=1)).astype(np.int64) for name, kinds in {**FIGURES, **FINE}.items()
    }
    out["net"] = out["sales"] + out["tax"]
    out["contribution"] = out["net"] + out["fees"] + out["goods"] + out["sending"] + out["refunds"] + out["claims"]
    out["profit"] = out["contribution"] + out["below"]
    planned = np.isin(basis, _PLANNED)
    out["planned"] = np.rint(np.bincount(place[planned], weights=home[planned], minlength=n)).astype(np.int64)
    out["units"] = np.rint(np.bincount(place, weights=of["units"][picked], minlength=n)).astype(np.int64)
    out["orders"] = _orders(of, picked, place, n)
    return found, out


def _orders(of: Columns, picked: Ints, place: Ints, n: int) -> Ints:
    """How many orders are in each of n groups: those of which something was sold, and not taken back."""
    sold = np.flatnonzero((of["units"][picked] != 0) & (of["order"][picked] > 0))
    most = int(of["order"].max(initial=0)) + 1
    pairs, at = np.unique(place[sold] * most + of["order"][picked][sold], return_inverse=True)
    net = np.bincount(at.reshape(-1), weights=of["units"][picked][sold], minlength=len(pairs))
    out: Ints = np.bincount(pairs[net > 0] // most, minlength=n).astype(np.int64)
    return out


def _total(sums: dict[str, Ints], of: Columns, chosen: Bools) -> Figures:
    out = {name: int(column.sum()) for name, column in sums.items()}
    # An order of several rows is one order.
    picked = np.flatnonzero(chosen)
    out["orders"] = int(_orders(of, picked, np.zeros(len(picked), dtype=np.int64), 1)[0])
    return Figures(out)


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
    """The sums of one period, and where each of all rows stands in them (None: nothing there)."""

    sums: dict[str, Ints]
    at: list[int | None]

    def value(self, name: str, row: int) -> int:
        at = self.at[row]
        return 0 if at is None else int(self.sums[name][at])

    def figures(self, row: int) -> Figures:
        return Figures({name: self.value(name, row) for name in self.sums})


def table(context: Context, view: View) -> Table:
    """Profit by a dimension in a period, beside another period."""
    by, period, against = view.by, view.period, view.against
    of = columns.read(context.session)
    keys, some = keys_of(of, by), narrowed(of, view.filters)
    now_in, before_in = (one.mask(of) if some is None else one.mask(of) & some for one in (period, against))
    found, now_sums = summed(of, keys, now_in)
    had, before_sums = summed(of, keys, before_in)
    if by in TIMES:
        # The other period's days are other days: they stand beside these in their order.
        had = _beside(had, by, period, against)
    everything = np.union1d(found, had)
    now, before = _Side(now_sums, _places(found, everything)), _Side(before_sums, _places(had, everything))
    order = _order(view.sort, len(everything), now, before)
    if view.down:
        order.reverse()
    shown = order[view.offset : view.offset + view.limit]
    labels = Names(context, of, by).of([int(everything[n]) for n in shown])
    rows = [Group(int(everything[n]), *labels[int(everything[n])], now.figures(n), before.figures(n)) for n in shown]
    total = Group(0, "Total", "", _total(now_sums, of, now_in), _total(before_sums, of, before_in))
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


def _places(found: Ints, everything: Ints) -> list[int | None]:
    at = np.searchsorted(found, everything)
    there = (
        (at < len(found)) & (found[np.minimum(at, max(len(found) - 1, 0))] == everything) if len(found) else np.zeros(len(everything), bool)
    )
    return [int(n) if yes else None for n, yes in zip(at.tolist(), there.tolist(), strict=True)]


def _order(sort: str, n: int, now: _Side, before: _Side) -> list[int]:
    """Rows from the smallest to the largest; by name they stand as their keys do, which of times is their order."""
    if sort in ("name", ""):
        return list(range(n))
    if sort not in now.sums and sort not in ("change", "margin"):
        raise Invalid(f"there is no column {sort!r} to sort by")
    # Of what is taken off, the largest stands first.
    sign = -1 if sort in ("fees", "goods", "sending", "tax", "refunds") else 1

    def key(row: int) -> tuple[float, int]:
        if sort == "change":
            return now.value("profit", row) - before.value("profit", row), row
        if sort == "margin":
            net = now.value("net", row)
            return (now.value("profit", row) / net if net > 0 else -1e18), row
        return sign * now.value(sort, row), row

    return sorted(range(n), key=key)


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


NOTHING = {"order": "Of no order", "sku": "Of no SKU", "item": "Of no item", "supplier": "Of no supplier", "store": "Of no store"}


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
    found, sums = summed(of, both, chosen)
    values = sums[figure]
    out: dict[int, dict[int, int]] = {}
    for key, value in zip(found.tolist(), values.tolist(), strict=True):
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
    found, sums = summed(of, keys_of(of, "sku"), chosen)
    cost = -(sums["goods"] + sums["sending"])
    other = sums["refunds"] + sums["claims"] + sums["below"]
    rows = zip(
        found.tolist(), sums["units"].tolist(), sums["net"].tolist(), cost.tolist(), (-sums["fees"]).tolist(), other.tolist(), strict=True
    )
    return {sku: Sums(units, revenue, paid, fees, rest) for sku, units, revenue, paid, fees, rest in rows}


def days_of(context: Context, period: Period, filters: Mapping[str, int] | None = None) -> list[tuple[date, int, int]]:
    """(day, sales, profit) for every day of a period, also those on which nothing was."""
    of = columns.read(context.session)
    some = narrowed(of, filters or {})
    chosen = period.mask(of) if some is None else period.mask(of) & some
    found, sums = summed(of, keys_of(of, "day"), chosen)
    have = {int(day): n for n, day in enumerate(found.tolist())}
    out = []
    for n in range(period.days):
        day = period.first + timedelta(days=n)
        at = have.get((day - EPOCH).days)
        out.append((day, 0 if at is None else int(sums["sales"][at]), 0 if at is None else int(sums["profit"][at])))
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
