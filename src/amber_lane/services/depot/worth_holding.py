"""Which SKUs would be cheaper from a depot: for each that sells steadily, by its lane now against bought in bulk and sent from there."""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction

import numpy as np
from sqlalchemy import select

from ...connectors.kinds import DEPOTS
from ...core.cartons import Boxed
from ...core.holding import Worth, usual_load, worth
from ...core.states import HeldState, ListingState
from ...data.bulk import in_chunks
from ...data.depot import DepotTerms, HeldGoods
from ...data.lanes import Lane, LanePart
from ...data.setup import Service, Store, Supplier
from ...data.shelf import Listing, Sku
from ...data.source import Item
from ..base.context import Context
from ..pricing.exchange_rates import HomeWorth
from ..pricing.inputs import Facts
from . import pace
from .costs import Want, bulk_of, fees_of, guessed_sides, in_money
from .terms import DepotWishes, depots, limits_of, terms_of, wishes_of

# The fastest of all SKUs that are looked at; and how many days of the last ones it has to be sold on to sell steadily.
MOST, SOLD_DAYS = 250, 8


@dataclass(frozen=True)
class Candidate:
    """One SKU and a depot. Money in the depot's currency, minor units; pace: units a day; direct: landed cost by its lane now, with the
    days that takes; guessed: nobody has measured it, so its room is guessed from its weight; units: of a first load."""

    sku: Sku
    depot: Supplier
    source: Item
    part: Fraction
    supplier: str
    pace: float
    variance: float
    sold_days: int
    direct: int
    direct_days: int
    days: int
    units: int
    carton: int
    worth: Worth
    sides: tuple[int, int, int]
    guessed: bool
    held: HeldGoods | None


def candidates(context: Context, depot: int | None = None, only: int | None = None, times: float = 1.0) -> list[Candidate]:
    """The dearest saving first. only: one SKU; times: as if it sold so many times as fast."""
    houses = [one for one in depots(context) if depot is None or one.id == depot]
    if not houses:
        return []
    look = _Looking(context, only)
    out = []
    for house in houses:
        terms = terms_of(context, house.id)
        out += [found for sku in look.skus if (found := look.at(sku, house, terms, times)) is not None]
    return sorted(out, key=lambda one: (-one.worth.saving, one.sku.code))


class _Looking:
    """What is read once for all of them."""

    def __init__(self, context: Context, only: int | None) -> None:
        s = context.session
        self.context, self.facts, self.home = context, Facts.read(s), HomeWorth(context)
        self.wishes: DepotWishes = wishes_of(context)
        fast = select(Sku).where(Sku.pace > 0).order_by(Sku.pace.desc(), Sku.id).limit(MOST)
        self.skus = list(s.scalars(select(Sku).where(Sku.id == only) if only else fast))
        numbers = [one.id for one in self.skus]
        self.demand = pace.demand_of(context, numbers)
        self.mean, self.variance = self.demand.moments()
        self.at_row = {sku: n for n, sku in enumerate(self.demand.skus)}
        self.held = {(one.supplier_id, one.sku_id): one for one in s.scalars(select(HeldGoods)) if one.sku_id in set(numbers)}
        self.lanes: dict[int, list[tuple[Lane, LanePart, Item]]] = {}
        self.listings: dict[int, Listing] = {}
        for chunk in in_chunks(numbers):
            rows = (
                select(Lane, LanePart, Item)
                .join(LanePart, LanePart.lane_id == Lane.id)
                .join(Item, Item.id == LanePart.item_id)
                .join(Supplier, Supplier.id == Item.supplier_id)
                .where(Lane.sku_id.in_(chunk), Lane.closed_at.is_(None), Lane.items == 1, ~Lane.is_substitute, Supplier.kind.not_in(DEPOTS))
                .order_by(Lane.priority, Lane.id)
            )
            for lane, part, item in s.execute(rows):
                self.lanes.setdefault(lane.sku_id, []).append((lane, part, item))
            sold = select(Listing).where(
                Listing.sku_id.in_(chunk), Listing.state.in_((ListingState.live, ListingState.paused)), Listing.landed.is_not(None)
            )
            for listing in s.scalars(sold.order_by(Listing.store_id)):
                self.listings.setdefault(listing.sku_id, listing)
        self.stores = {one.id: one for one in s.scalars(select(Store))}
        self.days = {(one.origin_id, one.code, one.country): one.days_high for one in s.scalars(select(Service))}

    def at(self, sku: Sku, depot: Supplier, terms: DepotTerms, times: float) -> Candidate | None:
        """None where it does not sell steadily, nothing fills it alone, it cannot be had in bulk, or no rate is known."""
        n = self.at_row[sku.id]
        sold = int(np.nansum(self.demand.units[n] > 0))
        mean = float(self.mean[n]) * times
        lanes, listing = self.lanes.get(sku.id, []), self.listings.get(sku.id)
        held = self.held.get((depot.id, sku.id))
        if sold < SOLD_DAYS or mean <= 0 or not lanes or listing is None or (held is not None and held.state == HeldState.agreed):
            return None
        lane, part, item = lanes[0]
        store = self.stores[listing.store_id]
        weight = (held.weight_g if held else 0) or item.weight_g or sku.weight_g
        sides = (held.sides[0], held.sides[1], held.sides[2]) if held else guessed_sides(weight)
        if (terms.weight_most and weight > terms.weight_most) or (terms.side_most and max(sides) > terms.side_most):
            return None
        limits = limits_of(terms)
        inner = held.inner if held else 1
        carton = Boxed(sku.id, 1, max(weight, 1), sides, inner, held.carton if held else 0).most(limits)
        fees = fees_of(self.facts, depot, terms, store.country, weight)
        direct = in_money(self.context, listing.landed or 0, listing.currency, depot.currency, self.home)
        if not carton or fees is None or direct is None or item.offer == "gone":
            return None
        units = self._units(mean, item, part, depot, carton)
        want = Want(sku.id, item, units, part.units_num, part.units_den, max(weight, 1), sides, inner)
        country = terms.address.get("country") or depot.country
        bulk = bulk_of(self.facts, depot, want, limits, country, self.home)
        if bulk is None:
            return None
        found = worth(fees[0], bulk, mean, float(self.variance[n]) * times * times, direct)
        days = self.days.get((lane.origin_id, (lane.services or {}).get(store.country, lane.service), store.country), 0)
        name = self.facts.suppliers[item.supplier_id].name
        whose = Fraction(part.units_num, part.units_den)
        return Candidate(
            sku, depot, item, whose, name, mean, float(self.variance[n]), sold, direct, days, fees[1], units, carton, found, sides,
            held is None, held,
        )  # fmt: skip

    def _units(self, mean: float, item: Item, part: LanePart, depot: Supplier, carton: int) -> int:
        unit = in_money(self.context, item.cost * part.units_num // part.units_den, item.currency, depot.currency, self.home) or 0
        order_cost = in_money(self.context, self.wishes.order_cost, self.home.home, depot.currency, self.home) or 0
        return usual_load(mean, unit, order_cost, self.wishes.hold / 1_000_000, carton)
