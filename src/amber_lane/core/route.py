"""Which lanes fill an order: the values of routing, and the ways of one order by itself (computation, section 7)."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date
from itertools import product
from math import prod

from .cost import ParcelTerms, packs_needed
from .numbers import PPM, half_up

Key = tuple[str, int]
"""Something that many orders may want of: ("stock", item), ("money", supplier) or ("orders", supplier)."""

# More ways than this are not written out one by one; such an order is put to the solver line by line.
WAYS_MOST = 2_000


@dataclass(frozen=True)
class Leg:
    """What of a lane comes from one place. parts: (item, units num, den, cost of one supplier unit, free stock); weight in grams."""

    supplier: int
    origin: int
    parts: tuple[tuple[int, int, int, int, int], ...]
    parcel: ParcelTerms | None
    weight: int = 0


@dataclass(frozen=True)
class LaneChoice:
    """One lane of one line; a kit from several places has a leg for each, and arrives with the last of them.

    risk: what a refusal or lateness may cost, by its chance, in minor units for the line.
    """

    lane: int
    legs: tuple[Leg, ...]
    arrives: date | None
    # A reason known beforehand: the lane is shut, or its supplier refused this very line.
    reason_not: str | None = None
    risk: int = 0

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
class OrderToFill:
    """An order is filled whole or held. least_profit: in its own money; rate: ppm of that money in the house's.

    must: a person wants it filled, so it counts as worth nothing where it would lose, instead of being left out.
    """

    order: int
    lines: tuple[LineToFill, ...]
    promised: date | None = None
    least_profit: int = 0
    rate: int = PPM
    must: bool = False

    def worth(self, way: Way, cancel_cost: int) -> int:
        """What filling it so is worth to the whole plan, in the house's money; less than nothing: better held."""
        value = self.home(way.profit) + cancel_cost
        return max(value, 0) if self.must else value

    def home(self, minor: int) -> int:
        """An amount of the order's money in the house's."""
        return minor if self.rate == PPM else half_up(minor * self.rate, PPM)


@dataclass(frozen=True)
class Cap:
    """What may be spent at one supplier, in the house's money, and how many purchase orders it may get; None = any."""

    money: int | None = None
    orders: int | None = None


@dataclass(frozen=True)
class Considered:
    """A lane looked at for a line as if it had a parcel to itself: its money, and the reason where it cannot be used."""

    line: int
    lane: int
    goods: int
    shipping: int
    handling: int
    risk: int
    arrives: date | None
    reason: str | None

    @property
    def all_in(self) -> int:
        return self.goods + self.shipping + self.handling + self.risk


@dataclass(frozen=True, slots=True)
class Way:
    """One way to fill a whole order. lanes: the place of the chosen lane per line; money in the order's minor units."""

    lanes: tuple[int, ...]
    goods: int
    shipping: int
    handling: int
    risk: int
    profit: int
    parcels: int
    uses: Mapping[Key, int]
    takes: bool = True


@dataclass(frozen=True)
class Next:
    """The next best lane of a line, and by how much the order would earn less with it; the other orders stay as planned."""

    lane: int
    costs_more: int


@dataclass(frozen=True)
class OrderPlan:
    """chosen: lane per line (where held: by which lanes it would go, as far as there are any). Money in minor units."""

    chosen: dict[int, int]
    considered: tuple[Considered, ...]
    goods: int = 0
    shipping: int = 0
    handling: int = 0
    risk: int = 0
    profit: int = 0
    parcels: int = 0
    reason: str | None = None
    next_best: dict[int, Next] = field(default_factory=dict)
    # Held although it could go by itself: other orders earn more with what is scarce.
    outbid: bool = False


# The order in which reasons are told: what a person can mend first comes first.
REASONS = (
    "no_lane",
    "not_yet",
    "no_rate",
    "supplier_paused",
    "part_bought",
    "refused_before",
    "not_sent_there",
    "too_heavy",
    "too_late",
    "no_stock",
    "spend_limit",
    "least_profit",
)


def consider(line: LineToFill, lane: LaneChoice, promised: date | None) -> Considered:
    """One lane of one line by itself."""
    goods = sum(_goods(line, leg) for leg in lane.legs)
    ship = handling = 0
    for leg in lane.legs:
        if leg.parcel:
            handling += leg.parcel.handling
            ship += leg.parcel.cost(line.quantity, _goods(line, leg), leg.weight) - leg.parcel.handling
    return Considered(line.line, lane.lane, goods, ship, handling, lane.risk, lane.arrives, _reason(line, lane, promised))


def _reason(line: LineToFill, lane: LaneChoice, promised: date | None) -> str | None:
    if lane.reason_not:
        return lane.reason_not
    if lane.arrives is None or any(leg.parcel is None for leg in lane.legs):
        return "not_sent_there"
    if any(leg.parcel and not leg.parcel.takes(leg.weight) for leg in lane.legs):
        return "too_heavy"
    if promised and lane.arrives > promised:
        return "too_late"
    if any(packs_needed(line.quantity, n, d) > stock for _, n, d, _, stock in lane.parts):
        return "no_stock"
    return None


def _goods(line: LineToFill, leg: Leg) -> int:
    return sum(packs_needed(line.quantity, n, d) * cost for _, n, d, cost, _ in leg.parts)


Usable = list[list[int]]
"""Per line the places of the lanes that nothing speaks against."""


def usable(order: OrderToFill, considered: Sequence[Considered]) -> Usable:
    """Which lanes may fill each line; `considered` has every lane of every line in order."""
    rest = iter(considered)
    return [[place for place, one in zip(range(len(line.lanes)), rest, strict=False) if one.reason is None] for line in order.lines]


def count_ways(lanes: Usable) -> int:
    return prod(len(one) for one in lanes)


@dataclass(frozen=True, slots=True)
class Ends:
    """One lane of one line, ready to be added up: what it asks of which parcel and item."""

    goods: int
    risk: int
    parcels: tuple[tuple[tuple[int, int], int, int, int, ParcelTerms], ...]
    items: tuple[tuple[int, int, int], ...]


def ends_of(line: LineToFill, lane: LaneChoice) -> Ends:
    """parcels: ((supplier, origin), units sold, goods, grams, terms); items: (item, supplier units, free stock)."""
    return Ends(
        sum(_goods(line, leg) for leg in lane.legs),
        lane.risk,
        tuple(((leg.supplier, leg.origin), line.quantity, _goods(line, leg), leg.weight, leg.parcel) for leg in lane.legs if leg.parcel),
        tuple((item, packs_needed(line.quantity, n, d), stock) for item, n, d, _, stock in lane.parts),
    )


def ways(order: OrderToFill, lanes: Usable) -> Iterator[Way]:
    """Every way to fill the order by these lanes; lines of one supplier and origin share a parcel."""
    ends = [{place: ends_of(line, line.lanes[place]) for place in places} for line, places in zip(order.lines, lanes, strict=True)]
    sale = sum(line.sale_net for line in order.lines)
    for picked in product(*lanes):
        yield _add_up(order, picked, [one[place] for one, place in zip(ends, picked, strict=True)], sale)


def way_of(order: OrderToFill, picked: Sequence[int]) -> Way:
    """The way by one lane per line, each named by its place."""
    ends = [ends_of(line, line.lanes[place]) for line, place in zip(order.lines, picked, strict=True)]
    return _add_up(order, tuple(picked), ends, sum(line.sale_net for line in order.lines))


def _add_up(order: OrderToFill, picked: tuple[int, ...], ends: Sequence[Ends], sale: int) -> Way:
    goods = risk = 0
    parcels: dict[tuple[int, int], tuple[int, int, int, ParcelTerms]] = {}
    uses: dict[Key, int] = {}
    free: dict[Key, int] = {}
    for one in ends:
        goods += one.goods
        risk += one.risk
        for place, units, value, weight, parcel in one.parcels:
            had = parcels.get(place)
            parcels[place] = (had[0] + units, had[1] + value, had[2] + weight, parcel) if had else (units, value, weight, parcel)
        for item, packs, stock in one.items:
            key = ("stock", item)
            uses[key] = uses.get(key, 0) + packs
            free[key] = stock
    takes = all(uses[key] <= stock for key, stock in free.items())
    handling = shipping = 0
    for (supplier, _), (units, value, weight, parcel) in parcels.items():
        whole = parcel.cost(units, value, weight)
        handling += parcel.handling
        shipping += whole - parcel.handling
        takes = takes and parcel.takes(weight)
        uses["money", supplier] = uses.get(("money", supplier), 0) + order.home(value + whole)
        uses["orders", supplier] = uses.get(("orders", supplier), 0) + 1
    return Way(picked, goods, shipping, handling, risk, sale - goods - shipping - handling - risk, len(parcels), uses, takes)
