"""What goods cost on their way into a depot and out of it: money turned, freight of loads, fees; for loads, for what is worth holding."""

from __future__ import annotations

from dataclasses import dataclass

from ...core.cartons import Boxed, CartonLimits, litres, pack
from ...core.cost import packs_needed, unit_bought
from ...core.holding import Bulk, DepotFees
from ...data.depot import DepotTerms
from ...data.setup import Origin, Service, Supplier
from ...data.source import Item
from ..base.context import Context
from ..pricing.exchange_rates import HomeWorth
from ..pricing.inputs import NANO, Facts, NoRate

# Where nobody has measured it: so many grams go into a litre.
GRAMS_A_LITRE = 250


def nano_between(worth: HomeWorth, base: str, quote: str) -> int | None:
    """Units of one money for one of another, billionths, by what both are worth at home; None where no rate is known."""
    if base == quote:
        return NANO
    one, other = worth.ppm(base), worth.ppm(quote)
    if not one or not other:
        return None
    return one * NANO // other


def in_money(context: Context, minor: int, base: str, quote: str, worth: HomeWorth | None = None) -> int | None:
    """An amount in another money; None where no rate is known. Minor units of both are what HomeWorth turns."""
    nano = nano_between(worth or HomeWorth(context), base, quote)
    return None if nano is None else (2 * minor * nano + NANO) // (2 * NANO)


@dataclass(frozen=True)
class Want:
    """Units of goods for a load. source_num / source_den: how many of the item a unit takes."""

    key: int
    item: Item
    units: int
    num: int
    den: int
    weight_g: int
    sides: tuple[int, int, int]
    inner: int = 1
    carton: int = 0

    @property
    def boxed(self) -> Boxed:
        return Boxed(self.key, self.units, self.weight_g, self.sides, self.inner, self.carton)

    @property
    def packs(self) -> int:
        return packs_needed(self.units, self.num, self.den)


@dataclass(frozen=True)
class LoadCost:
    """What a load costs, in its supplier's money: goods by line, and sending by the cheapest service that takes it; service None = none
    goes there. prices: of one pack."""

    goods: list[int]
    prices: list[int]
    freight: int
    service: Service | None
    origin: Origin | None


def load_cost(facts: Facts, supplier: Supplier, wants: list[Want], country: str) -> LoadCost:
    """NoRate where an item's money cannot be turned into its supplier's."""
    prices = [unit_bought(w.item.cost, w.item.tiers or [], w.packs, facts.billing(supplier, w.item.currency), supplier.tax) for w in wants]
    goods = [price * want.packs for price, want in zip(prices, wants, strict=True)]
    packs, weight = sum(want.packs for want in wants), sum(want.weight_g * want.units for want in wants)
    best: tuple[int, Service, Origin] | None = None
    origins = [one for one in facts.origins.values() if one.supplier_id == supplier.id]
    mine = {want.item.origin_id for want in wants} & {one.id for one in origins}
    for origin in origins:
        if mine and origin.id not in mine:
            continue
        for service in facts.services:
            if service.origin_id != origin.id or service.country != country:
                continue
            parcel = facts.parcel(supplier, origin, service, supplier.currency, 0)
            if not parcel.takes(weight):
                continue
            cost = parcel.cost(packs, sum(goods), weight)
            if best is None or cost < best[0]:
                best = (cost, service, origin)
    return LoadCost(goods, prices, best[0] if best else 0, best[1] if best else None, best[2] if best else None)


def fees_of(facts: Facts, depot: Supplier, terms: DepotTerms, country: str, weight_g: int) -> tuple[DepotFees, int] | None:
    """A depot's fees for one unit to a country by its cheapest service, in its money, and the days that takes; None = it does not send
    there."""
    best: tuple[int, int, int] | None = None
    for origin in facts.origins.values():
        if origin.supplier_id != depot.id:
            continue
        for service in facts.services:
            if service.origin_id != origin.id or service.country != country:
                continue
            parcel = facts.parcel(depot, origin, service, depot.currency, 0)
            if not parcel.takes(weight_g):
                continue
            whole = parcel.cost(1, 0, weight_g)
            if best is None or whole < best[0]:
                best = (whole, origin.handling, service.days_high)
    if best is None:
        return None
    whole, pack_fee, days = best
    return DepotFees(terms.storage, terms.receive, terms.pick, pack_fee, max(whole - pack_fee - terms.pick, 0)), days


def guessed_sides(weight_g: int) -> tuple[int, int, int]:
    """What something of a weight measures about, where nobody has measured it."""
    side = max(round((max(weight_g, 50) / GRAMS_A_LITRE * 1_000_000) ** (1 / 3)), 20)
    return side, side, side


def bulk_of(facts: Facts, depot: Supplier, want: Want, limits: CartonLimits, country: str, worth: HomeWorth) -> Bulk | None:
    """A load of one sort of goods, in the depot's money; None where it cannot be had or sent there, or no rate is known."""
    supplier = facts.suppliers[want.item.supplier_id]
    try:
        cost = load_cost(facts, supplier, [want], country)
        cartons = pack(limits, [want.boxed])
    except (NoRate, ValueError):
        return None
    nano = nano_between(worth, supplier.currency, depot.currency)
    if cost.service is None or nano is None:
        return None

    def turned(minor: int) -> int:
        return (2 * minor * nano + NANO) // (2 * NANO)

    whole = turned(cost.goods[0])
    return Bulk(want.units, (2 * whole + want.units) // (2 * want.units), turned(cost.freight), len(cartons), litres(want.sides))
