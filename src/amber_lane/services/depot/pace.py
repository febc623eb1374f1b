"""How fast goods sell, day by day, with the days on which they could not be sold left out; and how long loads really take."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass
from datetime import date, timedelta
from statistics import mean, stdev

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import BigInteger, func, select, type_coerce

from ...core.states import LOAD_COMING, DecisionState, ListingState, OrderLineState
from ...data.base import to_ms
from ...data.bulk import in_chunks
from ...data.depot import DepotTerms, HeldGoods, Inbound, InboundLine
from ...data.orders import Order, OrderLine
from ...data.setup import Origin, Service, Supplier
from ...data.shelf import Listing
from ...data.source import Item
from ...data.watch import ListingDecision
from ..base import house_days
from ..base.context import Context

DAYS = 90
LOADS = 8


@dataclass(frozen=True)
class Demand:
    """units: [SKU, day], NaN where it could not be sold all day; days: the days of the house, the oldest first, today left out."""

    skus: list[int]
    days: list[date]
    units: NDArray[np.float64]

    def moments(self) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """Mean and sample variance of a day, as `core.reorder_plan` has them."""
        sold = ~np.isnan(self.units)
        n = sold.sum(axis=1)
        plain = np.where(sold, self.units, 0.0)
        middle = np.divide(plain.sum(axis=1), n, out=np.zeros(len(n)), where=n > 0)
        square = (np.where(sold, self.units - middle[:, None], 0.0) ** 2).sum(axis=1)
        return middle, np.divide(square, n - 1, out=np.zeros(len(n)), where=n > 1)


def demand_of(context: Context, skus: Collection[int], days: int = DAYS) -> Demand:
    """Daily sales of SKUs over the last days; a young business is measured over the days it has."""
    s, wanted = context.session, sorted(set(skus))
    today = house_days.today(context)
    first = s.scalar(select(func.min(Order.ordered_at)))
    if first is not None:
        days = max(1, min(days, (today - house_days.day_of(context, first)).days))
    span = [today - timedelta(days=days - n) for n in range(days)]
    begins = np.array([to_ms(house_days.begin(context, day)) for day in (*span, today)], dtype=np.int64)
    units = np.zeros((len(wanted), days))
    at_row = {sku: n for n, sku in enumerate(wanted)}
    start = house_days.begin(context, span[0])
    for chunk in in_chunks(wanted):
        rows = (
            select(OrderLine.sku_id, type_coerce(Order.ordered_at, BigInteger), OrderLine.quantity)
            .join(Order, Order.id == OrderLine.order_id)
            .where(OrderLine.sku_id.in_(chunk), Order.ordered_at >= start, OrderLine.state != OrderLineState.cancelled)
        )
        for sku, at, quantity in s.execute(rows):
            day = int(np.searchsorted(begins, at, side="right")) - 1
            if 0 <= day < days:
                units[at_row[int(sku or 0)], day] += quantity
    for sku, shut in _shut_days(context, wanted, begins).items():
        row = units[at_row[sku]]
        # Where something was sold it could be sold, whatever else is known of that day.
        row[shut & (row == 0)] = np.nan
    return Demand(wanted, span, units)


def _shut_days(context: Context, skus: Collection[int], begins: NDArray[np.int64]) -> dict[int, NDArray[np.bool_]]:
    """Days on which none of a SKU's listings could be bought from beginning to end, by what was decided of them."""
    out: dict[int, NDArray[np.bool_]] = {}
    for chunk in in_chunks(skus):
        listings: dict[int, list[Listing]] = {}
        for one in context.session.scalars(select(Listing).where(Listing.sku_id.in_(chunk), Listing.state != ListingState.preparing)):
            listings.setdefault(one.sku_id, []).append(one)
        d = ListingDecision
        told: dict[int, list[tuple[int, bool, bool]]] = {}
        rows = (
            select(d.listing_id, type_coerce(d.at, BigInteger), d.old_state, d.old_quantity, d.new_state, d.new_quantity)
            .join(Listing, Listing.id == d.listing_id)
            .where(Listing.sku_id.in_(chunk), d.state == DecisionState.sent)
            .order_by(d.listing_id, d.at, d.id)
        )
        for listing, at, old_state, old_quantity, new_state, new_quantity in context.session.execute(rows):
            was, now = old_state == "live" and old_quantity > 0, new_state == "live" and new_quantity > 0
            if was != now:
                told.setdefault(listing, []).append((int(at), was, now))
        for sku, mine in listings.items():
            open_ = np.zeros(len(begins) - 1, dtype=bool)
            for one in mine:
                open_ |= _open_days(told.get(one.id, []), one.shown_state == "live" and one.shown_quantity > 0, begins)
            out[sku] = ~open_
    return out


def _open_days(steps: list[tuple[int, bool, bool]], now: bool, begins: NDArray[np.int64]) -> NDArray[np.bool_]:
    """Days in which it could be bought at some moment; without any word of it, as it is now."""
    days = len(begins) - 1
    if not steps:
        return np.full(days, now)
    out = np.zeros(days, dtype=bool)
    state, since = steps[0][1], int(begins[0])
    for at, _, after in (*steps, (int(begins[-1]), False, False)):
        if state and at > since:
            first, last = np.searchsorted(begins, [since, at - 1], side="right") - 1
            out[max(int(first), 0) : max(int(last) + 1, 0)] = True
        state, since = after, max(at, int(begins[0]))
    return out


@dataclass(frozen=True)
class Lead:
    """Days from ordering a load to being counted in. seen: of how many loads; 0 = as supplier and depot say."""

    days: float
    sd: float
    seen: int


def leads(context: Context, goods: Collection[HeldGoods], terms: Mapping[int, DepotTerms]) -> dict[int, Lead]:
    """How long loads of goods take, by what really happened to the last ones from the same supplier to the same depot."""
    s = context.session
    sources = dict(
        s.execute(select(HeldGoods.id, Item.supplier_id).join(Item, Item.id == HeldGoods.source_id).where(HeldGoods.source_id.is_not(None)))
        .tuples()
        .all()
    )
    took: dict[tuple[int, int | None], list[float]] = {}
    rows = select(Inbound).where(Inbound.counted_at.is_not(None), Inbound.ordered_at.is_not(None)).order_by(Inbound.counted_at.desc())
    for one in s.scalars(rows.limit(2000)):
        mine = took.setdefault((one.supplier_id, one.from_id), [])
        if len(mine) < LOADS and one.counted_at and one.ordered_at:
            mine.append((one.counted_at - one.ordered_at) / timedelta(days=1))
    out = {}
    for held in goods:
        seen = took.get((held.supplier_id, sources.get(held.id)), [])
        if len(seen) >= 2:
            out[held.id] = Lead(mean(seen), stdev(seen), len(seen))
            continue
        low, high = _told_days(context, sources.get(held.id), held.supplier_id, terms[held.supplier_id])
        days = seen[0] if seen else (low + high) / 2
        out[held.id] = Lead(days, max((high - low) / 4, 0.5), len(seen))
    return out


def _told_days(context: Context, source: int | None, depot: int, terms: DepotTerms) -> tuple[float, float]:
    """As supplier and depot say: a day to be sent, the road, and the counting."""
    low, high = 2.0, 5.0
    if source is not None:
        country = terms.address.get("country") or context.get(Supplier, depot, "depot").country
        found = ways_to(context, source, country)
        if found:
            low, high = min(one.days_low for one in found), max(one.days_high for one in found)
    return low + 1 + terms.days_low, high + 1 + terms.days_high


def ways_to(context: Context, supplier: int, country: str) -> list[Service]:
    """Services by which a supplier sends to a country."""
    rows = select(Service).join(Origin, Origin.id == Service.origin_id).where(Origin.supplier_id == supplier, Service.country == country)
    return list(context.session.scalars(rows.order_by(Service.id)))


def coming(context: Context, goods: Collection[int]) -> dict[int, list[tuple[Inbound, InboundLine]]]:
    """Loads that are still to come in, by the goods in them."""
    out: dict[int, list[tuple[Inbound, InboundLine]]] = {}
    for chunk in in_chunks(goods):
        rows = (
            select(Inbound, InboundLine)
            .join(InboundLine, InboundLine.inbound_id == Inbound.id)
            .where(InboundLine.held_id.in_(chunk), Inbound.state.in_(LOAD_COMING))
            .order_by(Inbound.due, Inbound.id)
        )
        for load, line in context.session.execute(rows):
            out.setdefault(line.held_id, []).append((load, line))
    return out


def boost(seasons: list[dict[str, object]], first: date, days: int) -> float:
    """How many times as much as usual is sold over the days from one on, by seasons and promotions; where two meet, both count."""
    if days <= 0 or not seasons:
        return 1.0
    return float(sum(boosts(seasons, first, days)) / days)


def boosts(seasons: list[dict[str, object]], first: date, days: int) -> list[float]:
    """The same day by day."""
    out = [1.0] * days
    for one in seasons:
        begin, end = date.fromisoformat(str(one["first"])), date.fromisoformat(str(one["last"]))
        for n in range(max((begin - first).days, 0), min((end - first).days + 1, days)):
            out[n] *= int(str(one["times"])) / 1_000_000
    return out
