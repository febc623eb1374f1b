"""The journal's columns summed by whatever is asked: periods, keys, and every figure of each group."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import date, timedelta
from functools import cached_property

import numpy as np

from ...core.books import BELOW, FEES, Basis, Kind
from ...core.money import Bools, Floats, Ints
from .columns import BASES, KINDS, Columns

EPOCH = date(1970, 1, 1)
DIMENSIONS = ("order", "sku", "category", "supplier", "item", "artwork", "store", "country", "day", "week", "month")
TIMES = ("day", "week", "month")
# What may be narrowed down to one value.
FILTERS = ("sku", "category", "supplier", "item", "artwork", "store", "country")

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
PLACES = {
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
        values = self.planned if name == "planned" else self.units if name == "units" else self.sums[:, PLACES[name]].sum(axis=1)
        out: Ints = np.rint(values).astype(np.int64)
        return out

    def figures(self, at: int | None) -> Figures:
        """All figures of one group; of none: noughts."""
        if at is None:
            return Figures(dict.fromkeys((*PLACES, "planned", "units", "orders"), 0))
        return self._of(self.sums[at], self.planned[at], self.units[at], int(self.orders[at]))

    def total(self) -> Figures:
        """All groups together; an order of several of them is one order."""
        orders = _orders(self.of, self.picked, np.zeros(len(self.picked), dtype=np.int64), 1)
        return self._of(self.sums.sum(axis=0), self.planned.sum(), self.units.sum(), int(orders[0]))

    @staticmethod
    def _of(sums: Floats, planned: float, units: float, orders: int) -> Figures:
        amounts = {name: round(float(sums[places].sum())) for name, places in PLACES.items()}
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
