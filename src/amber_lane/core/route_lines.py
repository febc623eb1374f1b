"""An order put to the solver line by line, for one with too many ways to write out; and a whole batch so, as one program."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from .cost import ParcelTerms
from .numbers import PPM
from .program import INF, Floats, Program, Solved
from .route import Cap, Ends, Key, OrderToFill, Usable, ends_of


@dataclass(frozen=True)
class Block:
    """The columns of one order: per line (place of a lane, its column)."""

    picks: tuple[tuple[tuple[int, int], ...], ...]
    filled: int

    def read(self, values: Floats) -> tuple[int, ...] | None:
        """The place of the chosen lane per line, or None where the order is held."""
        if values[self.filled] < 0.5:
            return None
        return tuple(max(line, key=lambda one: values[one[1]])[0] for line in self.picks)


Wants = dict[Key, list[tuple[int, float]]]
"""Per scarce thing who wants how much of it: (column, amount)."""


def add_order(program: Program, order: OrderToFill, lanes: Usable, cancel_cost: int, wants: Wants) -> Block:
    """Add one order's columns and rows; what it asks of scarce things goes into `wants`."""
    scale = order.rate / PPM
    sale = sum(line.sale_net for line in order.lines)
    filled = program.column(scale * sale + cancel_cost)
    left: dict[int, float] = {filled: float(sale - order.least_profit)}
    parcels: dict[tuple[int, int], tuple[ParcelTerms, list[tuple[int, int, int, int]]]] = {}
    picks = []
    for line, places in zip(order.lines, lanes, strict=True):
        cells = []
        for place in places:
            ends = ends_of(line, line.lanes[place])
            column = program.column(-scale * (ends.goods + ends.risk))
            left[column] = -float(ends.goods + ends.risk)
            _want(wants, ends, column, scale)
            for where, units, goods, weight, parcel in ends.parcels:
                parcels.setdefault(where, (parcel, []))[1].append((column, units, goods, weight))
            cells.append((place, column))
        program.row(0, 0, {filled: -1.0, **{column: 1.0 for _, column in cells}})
        picks.append(tuple(cells))
    for (supplier, _), (parcel, inside) in parcels.items():
        sent, ship = _parcel(program, parcel, inside, scale)
        left[sent], left[ship] = -float(parcel.handling), -1.0
        # A parcel's money is rounded by itself into the house's, so a penny more is kept back where it is converted.
        wants.setdefault(("money", supplier), []).extend([(sent, scale * parcel.handling + (scale != 1)), (ship, scale)])
        wants.setdefault(("orders", supplier), []).append((sent, 1.0))
    program.row(0, INF, left)
    return Block(tuple(picks), filled)


def _want(wants: Wants, ends: Ends, column: int, scale: float) -> None:
    for item, packs, _ in ends.items:
        wants.setdefault(("stock", item), []).append((column, float(packs)))
    for (supplier, _), _, goods, _, _ in ends.parcels:
        wants.setdefault(("money", supplier), []).append((column, scale * goods))


def _parcel(program: Program, parcel: ParcelTerms, inside: Sequence[tuple[int, int, int, int]], scale: float) -> tuple[int, int]:
    """A parcel of an order: the column that says it is sent, and the one of its shipping."""
    sent = program.column(-scale * parcel.handling)
    ship = program.column(-scale, INF, whole=False)
    for column, *_ in inside:
        program.row(0, INF, {sent: 1.0, column: -1.0})
    units = {column: n for column, n, _, _ in inside}
    most = sum(units.values())
    bands = parcel.bands or ((0, parcel.first, parcel.following),)
    dearest = max(max(first, 0) + following * most for _, first, following in bands)
    free: dict[int, float] = {}
    if parcel.free_over is not None:
        gratis = program.column(0.0)
        program.row(0, INF, {gratis: -float(parcel.free_over), **{column: float(goods) for column, _, goods, _ in inside}})
        free = {gratis: float(dearest)}
    if not parcel.bands:
        first, following = parcel.first, parcel.following
        rest = {column: -float(following * n) for column, n in units.items()}
        program.row(0, INF, {ship: 1.0, sent: -float(first - following), **rest, **free})
        return sent, ship
    chosen = [program.column(0.0) for _ in bands]
    program.row(0, 0, {sent: -1.0, **dict.fromkeys(chosen, 1.0)})
    weights = {column: -float(weight) for column, _, _, weight in inside}
    program.row(0, INF, {**{column: float(up_to) for column, (up_to, _, _) in zip(chosen, bands, strict=True)}, **weights})
    for column, (_, first, following) in zip(chosen, bands, strict=True):
        rest = {one: -float(following * n) for one, n in units.items()}
        # Counts in full only in its own band: ship >= first - following + following x units - dearest x (1 - chosen).
        program.row(first - following - dearest, INF, {ship: 1.0, column: -float(dearest), **rest, **free})
    return sent, ship


def limit(program: Program, wants: Wants, supply: Mapping[Key, int]) -> None:
    """Rows that keep all wants inside what there is."""
    for key, asked in wants.items():
        if key in supply:
            of: dict[int, float] = {}
            for column, amount in asked:
                of[column] = of.get(column, 0.0) + amount
            program.row(-INF, float(supply[key]), of)


def supply_of(orders: Sequence[OrderToFill], caps: Mapping[int, Cap]) -> dict[Key, int]:
    """What there is of everything that may be scarce."""
    supply: dict[Key, int] = {
        ("stock", item): free for order in orders for line in order.lines for lane in line.lanes for item, _, _, _, free in lane.parts
    }
    for supplier, cap in caps.items():
        if cap.money is not None:
            supply["money", supplier] = max(cap.money, 0)
        if cap.orders is not None:
            supply["orders", supplier] = max(cap.orders, 0)
    return supply


def one_program(
    orders: Sequence[tuple[OrderToFill, Usable]], supply: Mapping[Key, int], cancel_cost: int, seconds: float, gap: float = 0.0
) -> tuple[Solved, list[tuple[int, ...] | None]]:
    """All orders as one mixed-integer program, nothing split: the plain way, to compare with."""
    program, wants = Program(), dict[Key, list[tuple[int, float]]]()
    blocks = [add_order(program, order, lanes, cancel_cost, wants) for order, lanes in orders]
    limit(program, wants, supply)
    solved = program.solve(seconds, gap=gap)
    return solved, [block.read(solved.values) if solved.objective is not None else None for block in blocks]
