"""Profit by anything: by order, SKU, category, supplier, item, store, country, day, week or month, of any days beside any others."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date, timedelta
from functools import cached_property
from typing import Any

import numpy as np
from sqlalchemy import func, select

from ...core.books import BELOW, FEES, Basis, Kind, Ledger, Sums
from ...core.money import Bools, Floats, Ints
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
FINE: dict[str, tuple[Kind, ...]] = {
    name: (kind,)
    for name, kind in (
        ("price", Kind.sale), ("shipping_paid", Kind.shipping_paid), ("discount", Kind.discount), ("store_fee", Kind.store_fee),
        ("payment_fee", Kind.payment_fee), ("shipping", Kind.shipping), ("handling", Kind.handling), ("rebates", Kind.rebate),
    )
}  # fmt: skip
# What stands in one column where there is no room for more: so every row still adds up.
FINE["other"] = FIGURES["claims"] + FIGURES["below"]
_CONTRIBUTION = tuple(kind for name, kinds in FIGURES.items() if name != "below" for kind in kinds)
# Every figure that is a sum of kinds -> their places.
_PLACES = {
    name: [_KIND[kind] for kind in kinds]
    for name, kinds in {
        **FIGURES,
        **FINE,
        "net": FIGURES["sales"] + FIGURES["tax"],
        "contribution": _CONTRIBUTION,
        "profit": _CONTRIBUTION + FIGURES["below"],
    }.items()
}
_IS_PLANNED = np.isin(np.arange(len(BASES)), _PLANNED)


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


class Grouped:
    """Sums of the chosen entries by key. keys: the ones that there are, in their order; figures are worked out when they are asked for,
    since of very many groups only some are shown."""

    def __init__(self, of: Columns, keys: Ints, chosen: Bools) -> None:
        self.of, self.picked = of, np.flatnonzero(chosen)
        self.keys, self.place = compact(keys[self.picked])
        n, k = len(self.keys), len(KINDS)
        kind, basis, home = of["kind"][self.picked].astype(np.int64), of["basis"][self.picked], of["home"][self.picked]
        # What is given back with a refund counts as one with it.
        kind[(basis == _REFUND_BASIS) & (kind == _KIND[Kind.tax])] = _KIND[Kind.refund]
        # Sums of whole numbers below 2^53 are exact in doubles, and this is by far the quickest way.
        self.sums = np.bincount(self.place * k + kind, weights=home, minlength=n * k).reshape(n, k)
        planned = _IS_PLANNED[basis]
        self.planned = np.bincount(self.place[planned], weights=home[planned], minlength=n)
        self.units = np.bincount(self.place, weights=of["units"][self.picked], minlength=n)

    @cached_property
    def orders(self) -> Ints:
        """How many orders are in each group: those of which something was sold, and not taken back."""
        return _orders(self.of, self.picked, self.place, len(self.keys))

    def column(self, name: str) -> Ints:
        """A figure of every group."""
        if name == "orders":
            return self.orders
        values = self.planned if name == "planned" else self.units if name == "units" else self.sums[:, _PLACES[name]].sum(axis=1)
        out: Ints = np.rint(values).astype(np.int64)
        return out

    def figures(self, at: int | None) -> Figures:
        """All figures of one group; of none: noughts."""
        if at is None:
            return Figures(dict.fromkeys((*_PLACES, "planned", "units", "orders"), 0))
        return self._of(self.sums[at], self.planned[at], self.units[at], int(self.orders[at]))

    def total(self) -> Figures:
        """All groups together; an order of several of them is one order."""
        orders = _orders(self.of, self.picked, np.zeros(len(self.picked), dtype=np.int64), 1)
        return self._of(self.sums.sum(axis=0), self.planned.sum(), self.units.sum(), int(orders[0]))

    @staticmethod
    def _of(sums: Floats, planned: float, units: float, orders: int) -> Figures:
        amounts = {name: round(float(sums[places].sum())) for name, places in _PLACES.items()}
        return Figures({**amounts, "planned": round(float(planned)), "units": round(float(units)), "orders": orders})


# What is not too spread out is counted out instead of sorted, which is much quicker.
SPREAD = 4_000_000


def compact(keys: Ints) -> tuple[Ints, Ints]:
    """The different keys in their order, and for each entry the place of its own among them."""
    if len(keys) and int(keys.min()) >= 0 and int(keys.max()) < SPREAD:
        there = np.zeros(int(keys.max()) + 1, dtype=bool)
        there[keys] = True
        found: Ints = np.flatnonzero(there)
        return found, (np.cumsum(there) - 1)[keys]
    found, place = np.unique(keys, return_inverse=True)
    return found, place.reshape(-1).astype(np.int64)


def _orders(of: Columns, picked: Ints, place: Ints, n: int) -> Ints:
    sold = np.flatnonzero((of["units"][picked] != 0) & (of["order"][picked] > 0))
    most = int(of["order"].max(initial=0)) + 1
    pairs, at = compact(place[sold] * most + of["order"][picked][sold])
    net = np.bincount(at, weights=of["units"][picked][sold], minlength=len(pairs))
    out: Ints = np.bincount(pairs[net > 0] // most, minlength=n).astype(np.int64)
    return out


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
    elif sort in (*_PLACES, "planned", "units", "orders"):
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
