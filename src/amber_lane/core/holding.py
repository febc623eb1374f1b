"""Whether a SKU is worth holding in a depot: what one unit costs by way of it against what it costs by its lane, and what that comes to."""

from __future__ import annotations

from dataclasses import dataclass
from math import ceil, sqrt

MONTH = 30
# Stock that is not sold within so many days is dead.
DEAD_AFTER = 180


@dataclass(frozen=True)
class DepotFees:
    """Minor units of one money. storage: a litre and day, in millionths; receive: a carton; pick: a unit; pack, parcel: an order."""

    storage: int
    receive: int
    pick: int
    pack: int
    parcel: int


@dataclass(frozen=True)
class Bulk:
    """A load of so many. unit: what one costs at that quantity; freight: of the whole load; litres: of one unit."""

    units: int
    unit: int
    freight: int
    cartons: int
    litres: float


@dataclass(frozen=True)
class UnitCost:
    """What one unit costs by way of the depot, to a hundredth of a minor unit, part by part."""

    goods: float
    freight: float
    receive: float
    storage: float
    pick: float
    pack: float
    parcel: float

    @property
    def landed(self) -> float:
        """As it is shown: each part rounded, so that they add up."""
        return sum(self.parts().values())

    def parts(self) -> dict[str, int]:
        """Rounded half up, in whole minor units."""
        return {name: int(value + 0.5) for name, value in vars(self).items()}


@dataclass(frozen=True)
class Worth:
    """saving: a month, minor units; tied: money that lies in the first load; payback: months until the savings have paid what the first
    load ties up beyond buying one by one, None where nothing is saved; dead: the chance that a part of it is unsold after DEAD_AFTER days;
    days: that a unit lies there in the mean."""

    unit: UnitCost
    saving: int
    tied: int
    payback: float | None
    dead: float
    days: float


def usual_load(pace: float, unit: int, order_cost: int, hold: float, carton: int, days: int = 45) -> int:
    """A first load: what is cheapest to order at once, but for no less than `days` and no more than four times that; whole cartons."""
    cover = pace * days
    economic = sqrt(2 * 365 * pace * order_cost / (unit * hold)) if unit > 0 and hold > 0 and order_cost > 0 else cover
    return max(ceil(min(max(cover, economic), 4 * cover) / carton), 1) * carton


def unit_cost(fees: DepotFees, bulk: Bulk, pace: float) -> UnitCost:
    """Storage counts for the time that a unit lies there in the mean: half of what the load lasts."""
    days = bulk.units / pace / 2 if pace > 0 else 0.0
    return UnitCost(
        float(bulk.unit),
        bulk.freight / bulk.units,
        fees.receive * bulk.cartons / bulk.units,
        fees.storage * bulk.litres * days / 1_000_000,
        float(fees.pick),
        float(fees.pack),
        float(fees.parcel),
    )


def worth(fees: DepotFees, bulk: Bulk, pace: float, variance: float, direct: int) -> Worth:
    """pace, variance: units of a day; direct: landed cost of one unit by its lane now, same money."""
    unit = unit_cost(fees, bulk, pace)
    each = direct - unit.landed
    saving = int(each * pace * MONTH + 0.5) if each > 0 else -int(-each * pace * MONTH + 0.5)
    tied = round(bulk.unit * bulk.units + bulk.freight + fees.receive * bulk.cartons)
    payback = None if saving <= 0 else tied / saving
    return Worth(unit, saving, tied, payback, unsold(bulk.units, pace, variance), bulk.units / pace / 2 if pace > 0 else 0.0)


def unsold(units: int, pace: float, variance: float, days: int = DEAD_AFTER) -> float:
    """The chance that fewer than these units are sold in so many days."""
    from scipy.special import betainc, pdtr

    mu, spread = pace * days, variance * days
    if units <= 0:
        return 0.0
    if mu <= 0:
        return 1.0
    if spread <= mu:
        return float(pdtr(units - 1, mu))
    return float(betainc(mu * mu / (spread - mu), units, mu / spread))
