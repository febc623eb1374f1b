"""All waiting orders together: which are filled by which lanes, for the most profit, with proof (computation, section 7).

An order's ways are written out, and only those are kept that no other way beats while asking no more of anything scarce.
Orders that share nothing scarce are solved apart. A linear program over the ways is nearly always whole already; where it
is not, its prices name the few ways that could still be better, and a mixed-integer program decides among these.
"""

from __future__ import annotations

import time
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from math import floor

import numpy as np

from .program import INF, Floats, Program
from .route import WAYS_MOST, Cap, Considered, Key, OrderPlan, OrderToFill, Usable, Way, consider, count_ways, usable, way_of, ways
from .route_lines import Block, Wants, add_order, limit, supply_of
from .route_reasons import plan_of

# Values are whole minor units, so a bound less than one above a solution proves it.
_WHOLE = 1e-6


@dataclass
class Look:
    """One order while it is routed. all_ways: every way it can be filled; able: those worth taking; big: not written out."""

    order: OrderToFill
    considered: tuple[Considered, ...]
    lanes: Usable
    all_ways: list[Way] = field(default_factory=list)
    able: list[Way] = field(default_factory=list)
    value: dict[tuple[int, ...], int] = field(default_factory=dict)
    big: bool = False
    chosen: Way | None = None


@dataclass(frozen=True)
class Routed:
    """objective: profit and spared cancelling costs of all filled orders, house minor units; bound: nothing can earn more."""

    plans: dict[int, OrderPlan]
    objective: int
    bound: int

    @property
    def filled(self) -> int:
        return sum(1 for plan in self.plans.values() if plan.reason is None)

    @property
    def gap(self) -> float:
        """How far below the best this could be at most, as a share."""
        return (self.bound - self.objective) / max(abs(self.objective), 1)


def route(orders: Sequence[OrderToFill], caps: Mapping[int, Cap] | None = None, cancel_cost: int = 0, seconds: float = 60.0) -> Routed:
    """Fill the orders for the most profit within stock and caps. cancel_cost: house minor units, what holding an order costs.

    Stops after about `seconds` with the best that was found, and says by the gap how good it is.
    """
    end = time.monotonic() + seconds
    supply = supply_of(orders, caps or {})
    looks = [look(order, cancel_cost, supply) for order in orders]
    parts, scarce = _parts([one for one in looks if one.able or one.big], supply)
    bound = _fill(parts, scarce, cancel_cost, end)
    left = _left(looks, supply)
    _fill_up(looks, left)
    _older_first(looks, left)
    objective = sum(one.value[one.chosen.lanes] for one in looks if one.chosen)
    plans = {one.order.order: plan_of(one.order, one.considered, one.lanes, one.all_ways, one.able, one.chosen, left) for one in looks}
    return Routed(plans, objective, max(bound, objective))


def look(order: OrderToFill, cancel_cost: int, supply: Mapping[Key, int]) -> Look:
    """What can be done with one order by itself."""
    considered = tuple(consider(line, lane, order.promised) for line in order.lines for lane in line.lanes)
    lanes = usable(order, considered)
    one = Look(order, considered, lanes)
    count = count_ways(lanes)
    if not count or not order.lines:
        return one
    if count > WAYS_MOST:
        one.big = True
        return one
    one.all_ways = list(ways(order, lanes))
    for way in one.all_ways:
        if way.takes and way.profit >= order.least_profit and all(n <= supply.get(key, n) for key, n in way.uses.items()):
            value = order.worth(way, cancel_cost)
            if value >= 0:
                one.value[way.lanes] = value
                one.able.append(way)
    one.able.sort(key=lambda way: (-one.value[way.lanes], way.lanes))
    return one


def _parts(looks: list[Look], supply: Mapping[Key, int]) -> tuple[list[list[Look]], dict[Key, int]]:
    """Orders in groups that share nothing scarce, and what is scarce: that of which all together could want more than there is."""
    keep = {id(one): one.able for one in looks}
    before = -1
    while True:
        asked: dict[Key, int] = {}
        for one in looks:
            for key, most in (_most_of_big(one) if one.big else _most(keep[id(one)])).items():
                asked[key] = asked.get(key, 0) + most
        scarce = {key: supply[key] for key, most in asked.items() if key in supply and most > supply[key]}
        if len(scarce) == before:
            break
        before = len(scarce)
        keep = {number: _undominated(able, scarce) for number, able in keep.items()}
    for one in looks:
        one.able = keep[id(one)]
    return _joined(looks, scarce), scarce


def _most(able: Iterable[Way]) -> dict[Key, int]:
    most: dict[Key, int] = {}
    for way in able:
        for key, n in way.uses.items():
            if n > most.get(key, 0):
                most[key] = n
    return most


def _most_of_big(one: Look) -> dict[Key, int]:
    """An upper limit of what an order that is not written out could want."""
    most: dict[Key, int] = {}
    for line, places in zip(one.order.lines, one.lanes, strict=True):
        for place in places:
            alone = way_of(OrderToFill(0, (line,), rate=one.order.rate), (place,))
            for key, n in alone.uses.items():
                most[key] = most.get(key, 0) + n
    return most


def _undominated(able: Sequence[Way], scarce: Mapping[Key, int]) -> list[Way]:
    """Ways (best first) that no better one beats while asking no more of anything scarce."""
    kept: list[tuple[Way, dict[Key, int]]] = []
    for way in able:
        needs = {key: n for key, n in way.uses.items() if key in scarce}
        if not any(all(n <= needs.get(key, 0) for key, n in other.items()) for _, other in kept):
            kept.append((way, needs))
            if not needs:
                break
    return [way for way, _ in kept]


def _joined(looks: list[Look], scarce: Mapping[Key, int]) -> list[list[Look]]:
    root: dict[object, object] = {}

    def find(one: object) -> object:
        while root.setdefault(one, one) != one:
            root[one] = root[root[one]]
            one = root[one]
        return one

    for number, one in enumerate(looks):
        for key in _most_of_big(one) if one.big else {key for way in one.able for key in way.uses}:
            if key in scarce:
                root[find(key)] = find(number)
    groups: dict[object, list[Look]] = {}
    for number, one in enumerate(looks):
        groups.setdefault(find(number), []).append(one)
    return list(groups.values())


def _fill(parts: list[list[Look]], scarce: Mapping[Key, int], cancel_cost: int, end: float) -> int:
    """Choose a way for every order. Returns the sum of what each part could earn at most."""
    bound = 0
    shared = []
    for part in parts:
        if len(part) == 1 and len(part[0].able) == 1 and not part[0].big:
            part[0].chosen = part[0].able[0]
            bound += part[0].value[part[0].chosen.lanes]
        elif any(one.big for one in part):
            bound += _by_lines(part, scarce, cancel_cost, end)
        else:
            shared.append(part)
    return bound + _by_ways(shared, scarce, end)


def _program(
    looks: Sequence[Look], supply: Mapping[Key, int], able: Mapping[int, Sequence[Way]], open_end: bool
) -> tuple[Program, list[tuple[int, Way]], dict[Key, int]]:
    """A program over ways: its columns in order as (which look, way), and the row of every scarce thing."""
    program, columns = Program(), list[tuple[int, Way]]()
    of_order = [program.row(-INF, 1.0) for _ in looks]
    rows: dict[Key, int] = {}
    for number, one in enumerate(looks):
        for way in able[number]:
            inside: list[tuple[int, float]] = [(of_order[number], 1.0)]
            for key, n in way.uses.items():
                if key in supply:
                    if key not in rows:
                        rows[key] = program.row(-INF, float(supply[key]))
                    inside.append((rows[key], float(n)))
            program.column(one.value[way.lanes], INF if open_end else 1.0, inside=inside)
            columns.append((number, way))
    return program, columns, rows


def _by_ways(parts: list[list[Look]], scarce: Mapping[Key, int], end: float) -> int:
    looks = [one for part in parts for one in part]
    if not looks:
        return 0
    program, columns, rows = _program(looks, scarce, {n: one.able for n, one in enumerate(looks)}, True)
    # The linear program is what proves most, so it may take most of the time.
    solved = program.solve((end - time.monotonic()) * 0.6, linear=True)
    part_of = [n for n, part in enumerate(parts) for _ in part]
    shares: list[list[tuple[Look, Way, float, float]]] = [[] for _ in parts]
    for (number, way), share, spare in zip(columns, solved.values, solved.spare, strict=True):
        shares[part_of[number]].append((looks[number], way, float(share), float(spare)))
    bounds = _bounds(parts, scarce, solved.duals, rows) if solved.bound < INF else [_loose(part) for part in parts]
    total = 0
    waiting = []
    for part, cells, top in zip(parts, shares, bounds, strict=True):
        if all(share < _WHOLE or share > 1 - _WHOLE for _, _, share, _ in cells) and solved.bound < INF:
            for one, way, share, _ in cells:
                if share > 0.5:
                    one.chosen = way
            total += max(floor(top + 1e-3), sum(one.value[one.chosen.lanes] for one in part if one.chosen))
        else:
            waiting.append((part, cells, top))
    for done, (part, cells, top) in enumerate(sorted(waiting, key=lambda one: len(one[1]))):
        share_of_time = (end - time.monotonic()) / (len(waiting) - done)
        total += _whole(part, cells, top, scarce, max(share_of_time, 0.2))
    return total


def _bounds(parts: list[list[Look]], scarce: Mapping[Key, int], duals: Floats, rows: Mapping[Key, int]) -> list[float]:
    """Per part what its linear program is worth, by its prices."""
    bounds, number = [], 0
    for part in parts:
        worth = float(sum(duals[number : number + len(part)]))
        number += len(part)
        keys = {key for one in part for way in one.able for key in way.uses if key in rows}
        bounds.append(worth + sum(float(duals[rows[key]]) * scarce[key] for key in keys))
    return bounds


def _loose(part: Iterable[Look]) -> float:
    return float(sum(max(one.value.values(), default=0) for one in part))


def _whole(part: list[Look], cells: list[tuple[Look, Way, float, float]], top: float, scarce: Mapping[Key, int], seconds: float) -> int:
    """Make a part's shares whole: the settled orders first, the others with what is left, then all that could be better."""
    end = time.monotonic() + seconds
    for one, way, share, _ in cells:
        if share > 1 - _WHOLE:
            one.chosen = way
    left = _left(part, scarce)
    rest = [one for one in part if one.chosen is None]
    able = [[way for way in one.able if _fits(way, left)] for one in rest]
    _choose(rest, able, left, seconds / 3, None)
    earned = sum(one.value[one.chosen.lanes] for one in part if one.chosen)
    if floor(top + 1e-3) <= earned:
        return earned
    # What lies further below the linear bound than the gap is wide can be in no better solution.
    near: dict[int, list[Way]] = {id(one): [] for one in part}
    for one, way, _, spare in cells:
        if -spare <= top - earned + 1e-3 or way is one.chosen:
            near[id(one)].append(way)
    found = _choose(part, [near[id(one)] for one in part], scarce, end - time.monotonic(), [one.chosen for one in part])
    earned = sum(one.value[one.chosen.lanes] for one in part if one.chosen)
    return max(min(floor(top + 1e-3), found), earned)


def _choose(
    looks: list[Look], able: Sequence[Sequence[Way]], supply: Mapping[Key, int], seconds: float, start: list[Way | None] | None
) -> int:
    """Solve a program over ways in whole numbers and keep it where it is better. Returns its bound."""
    program, columns, _ = _program(looks, supply, dict(enumerate(able)), False)
    begin = None
    if start is not None:
        begin = np.array([1.0 if start[number] is way else 0.0 for number, way in columns])
    solved = program.solve(seconds, start=begin)
    had = sum(one.value[one.chosen.lanes] for one in looks if one.chosen)
    if solved.objective is not None and round(solved.objective) > had:
        for one in looks:
            one.chosen = None
        left = dict(supply)
        for (number, way), value in sorted(zip(columns, solved.values, strict=True), key=lambda one: -one[1]):
            # The solver works with a small tolerance; what it chose is counted again in whole numbers.
            if value > 0.5 and _fits(way, left):
                looks[number].chosen = way
                _take(way, left)
    return floor(min(solved.bound, 1e15) + 1e-3)


def _by_lines(part: list[Look], scarce: Mapping[Key, int], cancel_cost: int, end: float) -> int:
    """A part with an order of too many ways: that order line by line, the others by their ways, in one program."""
    program, wants = Program(), Wants()
    blocks: list[tuple[Look, Block]] = []
    columns: list[tuple[Look, Way, int]] = []
    for one in part:
        if one.big:
            blocks.append((one, add_order(program, one.order, one.lanes, cancel_cost, wants)))
            continue
        row = program.row(-INF, 1.0)
        for way in one.able:
            column = program.column(one.value[way.lanes], inside=[(row, 1.0)])
            columns.append((one, way, column))
            for key, n in way.uses.items():
                wants.setdefault(key, []).append((column, float(n)))
    supply = {**scarce, **{key: n for one in part if one.big for key, n in supply_of([one.order], {}).items()}}
    limit(program, wants, supply)
    solved = program.solve((end - time.monotonic()) * 0.5)
    left = dict(supply)
    if solved.objective is not None:
        for one, way, column in columns:
            if solved.values[column] > 0.5 and _fits(way, left):
                one.chosen = way
                _take(way, left)
        for one, block in blocks:
            if (picked := block.read(solved.values)) is not None:
                _take_big(one, picked, cancel_cost, left)
    bound = floor(solved.bound + 1e-3) if solved.bound < 1e15 else 10**12
    return max(bound, sum(one.value[one.chosen.lanes] for one in part if one.chosen))


def _take_big(one: Look, picked: tuple[int, ...], cancel_cost: int, left: dict[Key, int]) -> None:
    way = way_of(one.order, picked)
    value = one.order.worth(way, cancel_cost)
    if way.takes and way.profit >= one.order.least_profit and value >= 0 and _fits(way, left):
        one.chosen, one.value[picked] = way, value
        _take(way, left)


def _fits(way: Way, left: Mapping[Key, int]) -> bool:
    return all(n <= left[key] for key, n in way.uses.items() if key in left)


def _take(way: Way, left: dict[Key, int]) -> None:
    for key, n in way.uses.items():
        if key in left:
            left[key] -= n


def _left(looks: Iterable[Look], supply: Mapping[Key, int]) -> dict[Key, int]:
    left = dict(supply)
    for one in looks:
        if one.chosen:
            _take(one.chosen, left)
    return left


def _fill_up(looks: Iterable[Look], left: dict[Key, int]) -> None:
    """Where time ran out, an order that still fits is not left behind."""
    for one in looks:
        if one.chosen is None and (way := next((way for way in one.able if _fits(way, left)), None)):
            one.chosen = way
            _take(way, left)


def _older_first(looks: Sequence[Look], left: dict[Key, int]) -> None:
    """Where two orders are worth the same and only one can have what is scarce, the one that stands first in the batch has it."""
    filled: dict[int, list[Look]] = {}
    for one in looks:
        if one.chosen and not one.big:
            filled.setdefault(one.value[one.chosen.lanes], []).append(one)
    place = {id(one): number for number, one in enumerate(looks)}
    for one in looks:
        for way in one.able if one.chosen is None else ():
            value = one.value[way.lanes]
            others = (other for other in filled.get(value, ()) if place[id(other)] > place[id(one)])
            if taken := next((other for other in others if _fits(way, _without(other, left))), None):
                left.update(_without(taken, left))
                _take(way, left)
                one.chosen, taken.chosen = way, None
                filled[value] = [one, *(other for other in filled[value] if other is not taken)]
                break


def _without(one: Look, left: Mapping[Key, int]) -> dict[Key, int]:
    """What would be left of everything if an order were not filled."""
    uses = one.chosen.uses if one.chosen else {}
    return {key: n + uses.get(key, 0) for key, n in left.items()}
