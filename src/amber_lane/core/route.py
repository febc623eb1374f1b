"""Which lane fills an order, order by order (computation, section 7, without shared scarcity)."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date

from .cost import Parcel, packs_needed


@dataclass(frozen=True)
class Leg:
    """What of a lane comes from one place. parts: (item, units num, den, cost of one supplier unit, free stock); weight in grams."""

    supplier: int
    origin: int
    parts: tuple[tuple[int, int, int, int, int], ...]
    parcel: Parcel | None
    weight: int = 0


@dataclass(frozen=True)
class LaneChoice:
    """One lane of one line; a kit from several places has a leg for each, and arrives with the last of them."""

    lane: int
    legs: tuple[Leg, ...]
    arrives: date | None
    # A reason known beforehand: the lane is shut, or its supplier refused this very line.
    why_not: str | None = None

    @property
    def parts(self) -> tuple[tuple[int, int, int, int, int], ...]:
        return tuple(part for leg in self.legs for part in leg.parts)


@dataclass(frozen=True)
class LineToFill:
    line: int
    quantity: int
    sale_net: int
    lanes: tuple[LaneChoice, ...]


@dataclass(frozen=True)
class Considered:
    """A lane looked at for a line: its money, and the reason where it cannot be used."""

    line: int
    lane: int
    goods: int
    shipping: int
    handling: int
    arrives: date | None
    reason: str | None

    @property
    def all_in(self) -> int:
        return self.goods + self.shipping + self.handling


@dataclass(frozen=True)
class OrderPlan:
    """chosen: lane per line (empty when held). Money of the whole order in minor units."""

    chosen: dict[int, int]
    considered: tuple[Considered, ...]
    goods: int
    shipping: int
    handling: int
    profit: int
    reason: str | None


# The order in which reasons are told: what a person can mend first comes first.
REASONS = (
    "no_lane",
    "not_yet",
    "no_rate",
    "part_bought",
    "refused_before",
    "not_sent_there",
    "too_heavy",
    "too_late",
    "no_stock",
    "spend_limit",
    "least_profit",
)


def plan_order(lines: Sequence[LineToFill], promised: date | None, least_profit: int) -> OrderPlan:
    """Fill every line by the cheapest lane that keeps the promise; the order is filled whole or held.

    Lines of one supplier and origin share a parcel, so shipping is counted once per parcel.
    """
    considered: list[Considered] = []
    chosen: dict[int, LaneChoice] = {}
    reason: str | None = None
    for line in lines:
        best: tuple[int, LaneChoice] | None = None
        why: list[str] = []
        for lane in line.lanes:
            seen = _consider(line, lane, promised)
            considered.append(seen)
            if seen.reason:
                why.append(seen.reason)
            elif best is None or seen.all_in < best[0]:
                best = (seen.all_in, lane)
        if best:
            chosen[line.line] = best[1]
        else:
            # The reason nearest to being filled: a lane without stock is closer than one that is too late.
            reason = reason or max(why, key=REASONS.index, default="no_lane")
    goods, shipping, handling, fits = _cost(lines, chosen)
    profit = sum(line.sale_net for line in lines) - goods - shipping - handling
    if reason is None and not fits:
        reason = "too_heavy"
    if reason is None and _short(lines, chosen):
        reason = "no_stock"
    if reason is None and profit < least_profit:
        reason = "least_profit"
    picked = {line: lane.lane for line, lane in chosen.items()}
    return OrderPlan(picked, tuple(considered), goods, shipping, handling, profit, reason)


def _consider(line: LineToFill, lane: LaneChoice, promised: date | None) -> Considered:
    goods = sum(_goods(line, leg) for leg in lane.legs)
    ship = handling = 0
    reason: str | None = None
    if lane.why_not:
        reason = lane.why_not
    elif lane.arrives is None or any(leg.parcel is None for leg in lane.legs):
        reason = "not_sent_there"
    elif any(leg.parcel and not leg.parcel.takes(leg.weight) for leg in lane.legs):
        reason = "too_heavy"
    elif promised and lane.arrives > promised:
        reason = "too_late"
    elif any(packs_needed(line.quantity, n, d) > stock for _, n, d, _, stock in lane.parts):
        reason = "no_stock"
    for leg in lane.legs:
        if leg.parcel:
            handling += leg.parcel.handling
            ship += leg.parcel.cost(line.quantity, _goods(line, leg), leg.weight) - leg.parcel.handling
    return Considered(line.line, lane.lane, goods, ship, handling, lane.arrives, reason)


def _goods(line: LineToFill, leg: Leg) -> int:
    return sum(packs_needed(line.quantity, n, d) * cost for _, n, d, cost, _ in leg.parts)


def _cost(lines: Sequence[LineToFill], chosen: dict[int, LaneChoice]) -> tuple[int, int, int, bool]:
    """Goods, shipping and handling of the whole order, and whether no parcel of it is too heavy for its service."""
    parcels: dict[tuple[int, int], tuple[int, int, int, Parcel]] = {}
    for line in lines:
        lane = chosen.get(line.line)
        for leg in lane.legs if lane else ():
            if leg.parcel:
                units, goods, weight, parcel = parcels.get((leg.supplier, leg.origin), (0, 0, 0, leg.parcel))
                parcels[leg.supplier, leg.origin] = (units + line.quantity, goods + _goods(line, leg), weight + leg.weight, parcel)
    goods = sum(one[1] for one in parcels.values())
    handling = sum(one[3].handling for one in parcels.values())
    shipping = sum(parcel.cost(units, value, weight) - parcel.handling for units, value, weight, parcel in parcels.values())
    return goods, shipping, handling, all(parcel.takes(weight) for _, _, weight, parcel in parcels.values())


def _short(lines: Sequence[LineToFill], chosen: dict[int, LaneChoice]) -> bool:
    """Whether two lines of the order together ask for more of an item than is free."""
    asked: dict[int, int] = {}
    free: dict[int, int] = {}
    for line in lines:
        if lane := chosen.get(line.line):
            for item, n, d, _, stock in lane.parts:
                asked[item] = asked.get(item, 0) + packs_needed(line.quantity, n, d)
                free[item] = stock
    return any(asked[item] > free[item] for item in asked)
