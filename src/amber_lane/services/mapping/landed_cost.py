"""What one unit costs by a lane to a country, part by part; for lanes that stand and for items that might make one."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction

import numpy as np

from ...core import cost
from ...core.numbers import PPM, half_up
from ...core.price import Endings
from ...core.terms import proceeds
from ...data.bulk import by_id
from ...data.lanes import Lane, LanePart, service_of
from ...data.setup import Origin, Service, Store, Supplier
from ...data.shelf import Listing, Sku
from ...data.source import Item
from ..base.context import Context
from ..pricing.frame import OwnLimits, terms_of
from ..pricing.inputs import Facts, NoRate
from ..pricing.packs import usual_sizes
from ..pricing.policy import Keys, lay_over, policy_for, price_layers


@dataclass(frozen=True)
class LegCost:
    """What comes from one place: its items with their units, and the service to the country (None: it is not sent there)."""

    supplier: Supplier
    origin: Origin
    parts: tuple[tuple[Item, Fraction], ...]
    service: Service | None
    # How many an order usually asks for: so many share the packs that must be bought whole.
    usual: int = 1


@dataclass(frozen=True)
class UnitLanded:
    """One unit at the door, in the store's money. why: not sent there, too heavy, no rate; '' when the figures stand."""

    goods: int = 0
    ship: int = 0
    handling: int = 0
    days_low: int = 0
    days_high: int = 0
    service: str = ""
    reason: str = ""

    @property
    def landed(self) -> int:
        return self.goods + self.ship + self.handling


class Costing:
    """Facts read once, for as many lanes and items as are looked at."""

    def __init__(self, context: Context, facts: Facts | None = None) -> None:
        self.context, self.facts = context, facts or Facts.read(context.session)
        self.origins = {row.id: row for row in context.session.query(Origin)}
        self.cheapest: dict[tuple[int, str], Service] = {}
        for one in sorted(self.facts.services, key=lambda row: -row.first):
            self.cheapest[one.origin_id, one.country] = one
        self.cushions: dict[tuple[str, str], int] = {}
        self.sizes: dict[int, int] = {}

    def usual(self, sku: int) -> int:
        """How many of a SKU an order usually asks for."""
        if sku not in self.sizes:
            self.sizes[sku] = usual_sizes(self.context.session, [sku]).get(sku, 1)
        return self.sizes[sku]

    def of_item(self, item: Item, units: Fraction, country: str, usual: int = 1) -> list[LegCost]:
        """An item as a lane of its own, by the cheapest service."""
        origin = self.origins.get(item.origin_id or 0)
        if origin is None:
            return []
        return [LegCost(self.facts.suppliers[item.supplier_id], origin, ((item, units),), self.cheapest.get((origin.id, country)), usual)]

    def of_lane(self, lane: Lane, parts: Sequence[LanePart], items: dict[int, Item], country: str) -> list[LegCost]:
        legs: dict[int, list[LanePart]] = {}
        for part in parts:
            legs.setdefault(part.origin_id or lane.origin_id, []).append(part)
        return [
            LegCost(
                self.facts.suppliers[self.origins[origin].supplier_id],
                self.origins[origin],
                tuple((items[part.item_id], Fraction(part.units_num, part.units_den)) for part in mine),
                self.facts.service_to.get((origin, service_of(lane, mine[0], country), country)),
                self.usual(lane.sku_id) if any(part.units_den > 1 for part in mine) else 1,
            )
            for origin, mine in legs.items()
        ]

    def cushion(self, supplier: Supplier, store: Store) -> int:
        key = (supplier.code, store.code)
        if key not in self.cushions:
            self.cushions[key] = int(policy_for(self.context.session, supplier=supplier.code, store=store.code)["currency_cushion"])
        return self.cushions[key]

    def landed(self, legs: Sequence[LegCost], store: Store) -> UnitLanded:
        """The sum of the legs (section 1), exactly as listings are priced."""
        if not legs:
            return UnitLanded(reason="the supplier does not say where it is sent from")
        goods = ship = handling = low = high = 0
        for leg in legs:
            if leg.service is None:
                return UnitLanded(reason="not sent there")
            extra = self.cushion(leg.supplier, store)
            weight = sum(-(-item.weight_g * units.numerator // units.denominator) for item, units in leg.parts)
            try:
                parcel = self.facts.parcel(leg.supplier, leg.origin, leg.service, store.currency, extra)
                for item, units in leg.parts:
                    turn = self.facts.conversion(leg.supplier, store.currency, extra, of=item.currency)
                    bought = -(-units.numerator // units.denominator)
                    unit = cost.convert_one(cost.tier_cost(item.cost, item.tiers or [], bought), turn)
                    paid = Fraction(-(-leg.usual * units.numerator // units.denominator), leg.usual) if units.denominator > 1 else units
                    goods += half_up(unit * paid.numerator * (PPM + leg.supplier.tax), paid.denominator * PPM)
            except NoRate:
                return UnitLanded(reason="no exchange rate")
            if not parcel.takes(weight):
                return UnitLanded(reason="too heavy for its service")
            handling += parcel.handling
            band = cost.band_at(parcel.bands, weight) if parcel.bands else None
            ship += band[0] if band else parcel.first
            low, high = max(low, leg.service.days_low), max(high, leg.service.days_high)
        named = legs[0].service
        return UnitLanded(goods, ship, handling, low, high, named.code if named else "")

    def profit(self, listing: Listing, sku: Sku, supplier: Supplier, landed: Sequence[int]) -> list[tuple[int, int]]:
        """Profit and net of one unit at the listing's price, for several landed costs."""
        n = len(landed)
        if not n:
            return []
        store = self.facts.stores[listing.store_id]
        column = np.array(landed, dtype=np.int64)
        keys = Keys([supplier.code] * n, [sku.category] * n, [store.code] * n, [sku.code] * n)
        turned = self.facts.turned
        over = lay_over(n, price_layers(self.facts, Endings()), keys, column, lambda money: turned(money, [store.currency] * n))
        terms, _ = terms_of(self.facts, np.full(n, store.id, dtype=np.int64), [sku.category] * n, column, over, OwnLimits.none(n))
        kept = proceeds(np.full(n, listing.wanted_price, dtype=np.int64), terms)
        return list(zip(kept.profit.tolist(), kept.net.tolist(), strict=True))


def stock_of(parts: Sequence[tuple[Item, Fraction]]) -> int | None:
    """How many units sold the items' stock makes; None where one of them does not tell its stock."""
    counts = []
    for item, units in parts:
        if item.offer == "gone":
            return 0
        if item.stock < 0:
            return None
        counts.append(int(item.stock / units))
    return min(counts, default=0)


def parts_of(context: Context, lanes: Sequence[Lane]) -> tuple[dict[int, list[LanePart]], dict[int, Item]]:
    """Parts by lane, and their items."""
    found: dict[int, list[LanePart]] = {lane.id: [] for lane in lanes}
    for part in context.session.query(LanePart).filter(LanePart.lane_id.in_(list(found))).order_by(LanePart.id):
        found[part.lane_id].append(part)
    return found, by_id(context.session, Item, (part.item_id for parts in found.values() for part in parts))
