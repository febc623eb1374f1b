"""What a step would bring before it is taken: another price, or another lane first."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from sqlalchemy import select

from ...core.numbers import PPM, half_up
from ...core.price import proceeds
from ...data.setup import Store, Supplier
from ...data.shelf import Listing, Sku
from ..base.context import Context
from ..pricing.exchange_rates import HomeWorth
from ..pricing.frame import load
from . import ranking
from .partners_compared import lane_totals

# Steps of a price that are shown, in ppm of the price of now.
STEPS = (-50_000, 0, 50_000, 100_000)
PACE = 1_000_000


@dataclass(frozen=True)
class AtPrice:
    """A listing at another price. price, unit (what a unit is planned to leave): the store's minor units; a_day: what that is more a day at
    the expected pace (less: minus), house minor units.

    sales: how many sales it then takes to leave as much as now, in ppm of those of now; None where no number of sales does.
    """

    price: int
    unit: int
    a_day: int
    sales: int | None


@dataclass(frozen=True)
class ByLane:
    """One lane of the SKU. house minor units.

    unit: what a unit leaves more (less: minus) than by the main lane; a_day: that at the expected pace.
    """

    lane: int
    supplier: str
    priority: int
    unit: int
    a_day: int


@dataclass(frozen=True)
class StepsWorth:
    """store and currency: of the prices; '' where the SKU is on sale nowhere with a known cost."""

    store: str
    currency: str
    prices: list[AtPrice]
    lanes: list[ByLane]


def steps_worth(context: Context, sku: int) -> StepsWorth:
    """For the listing of a SKU that sells at the best profit, and for all its lanes."""
    row = context.get(Sku, sku, "SKU")
    # The same pace as in the ranking, so that both say the same of a day.
    seen = next((one.pace for one in ranking.ranked(context, 10**6) if one.sku == sku), row.pace / PACE)
    store, currency, prices = _prices(context, row, seen)
    found = sorted(lane_totals(context, [sku]).get(sku, []), key=lambda one: one[0])
    main = next((total for total, lane in found if lane.priority == 0), None)
    names = {one.id: one.name for one in context.session.scalars(select(Supplier))}
    lanes = [] if main is None else [
        ByLane(lane.id, names[lane.supplier_id], lane.priority, main - total, round((main - total) * seen))
        for total, lane in found
    ]  # fmt: skip
    return StepsWorth(store, currency, prices, lanes)


def _prices(context: Context, sku: Sku, pace: float) -> tuple[str, str, list[AtPrice]]:
    book, worth = load(context, [sku.id]), HomeWorth(context)
    counted = np.flatnonzero(book.counted & (book.wanted_price > 0))
    if not len(counted):
        return "", "", []
    kept = proceeds(book.wanted_price, book.terms).profit
    at = int(counted[np.argmax(kept[counted])])
    listing = context.get(Listing, int(book.ids[at]), "listing")
    now, unit_now = int(book.wanted_price[at]), int(kept[at])
    out = []
    for step in STEPS:
        price = half_up(now * (PPM + step), PPM)
        unit = int(proceeds(np.full_like(book.wanted_price, price), book.terms).profit[at])
        needed = half_up(unit_now * PPM, unit) if unit > 0 and unit_now > 0 else None
        out.append(AtPrice(price, unit, round(worth.of(unit - unit_now, listing.currency) * pace), needed))
    return context.get(Store, listing.store_id, "store").name, listing.currency, out
