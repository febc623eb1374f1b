"""Routing alone: whole batches, few things scarce and most of them, against one program for all and against cheapest-first."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from functools import partial

from amber_lane.core.route import Cap, Key, OrderToFill, Usable, Way, consider, usable, way_of
from amber_lane.core.route_lines import one_program, supply_of
from amber_lane.core.routing import Routed, route
from tests.batches import batch

from .measure import Report

CANCEL = 150
# orders -> (seconds it may take, gap that it may leave)
AIMS = {100: (1.0, 0.0), 1000: (6.0, 0.0001), 10_000: (60.0, 0.005)}


def run(report: Report) -> None:
    for n, (most, gap) in AIMS.items():
        for scarce in (False, True):
            orders, caps = batch(n, 7, scarce)
            start = time.perf_counter()
            done = route(orders, caps, CANCEL, most * 0.8)
            took = time.perf_counter() - start
            what = f"{n:,} orders, {'most things scarce' if scarce else 'few things scarce'}"
            report.add(
                f"routing: {what}",
                f"{took:.2f} s, proven gap {done.gap:.4%}",
                f"under {most:.0f} s, at most {gap:.2%}",
                took < most and done.gap <= gap,
            )
            _whole(report, what, orders, caps, done, took, most)
            _plain(report, what, orders, caps, done)


def _whole(report: Report, what: str, orders: Sequence[OrderToFill], caps: dict[int, Cap], done: Routed, took: float, most: float) -> None:
    """The same batch as one mixed-integer program, to the same gap; it is not waited for longer than the aim and a half."""
    able = [(order, usable(order, done.plans[order.order].considered)) for order in orders]
    able = [(order, lanes) for order, lanes in able if all(lanes)]
    start = time.perf_counter()
    solved, _ = one_program(able, supply_of(orders, caps), CANCEL, most * 1.5, gap=max(done.gap, 1e-6))
    whole = time.perf_counter() - start
    reached = solved.objective is not None and solved.bound - solved.objective <= max(done.gap, 1e-4) * abs(solved.objective)
    told = f"{whole:.1f} s" if reached else f"not proven so far after {whole:.0f} s"
    report.add(
        f"routing: {what}, as one program", f"{told}; ours takes {took / whole:.2f} of it", "never slower than it", took <= whole * 1.1
    )


def _plain(report: Report, what: str, orders: Sequence[OrderToFill], caps: dict[int, Cap], done: Routed) -> None:
    """What is lost where every line, or every order, takes its cheapest in turn as long as there is any."""
    lanes = {order.order: usable(order, done.plans[order.order].considered) for order in orders}

    def by_line(order: OrderToFill, mine: Usable, left: dict[Key, int]) -> Way | None:
        cost = lambda line, place: consider(line, line.lanes[place], order.promised).all_in  # noqa: E731
        free = [
            [place for place in places if all(left.get(("stock", item), n) >= n for item, n in _needs(order, at, place).items())]
            for at, places in enumerate(mine)
        ]
        if not all(free):
            return None
        return way_of(order, [min(places, key=partial(cost, order.lines[at])) for at, places in enumerate(free)])

    def by_order(order: OrderToFill, mine: Usable, left: dict[Key, int]) -> Way | None:
        from amber_lane.core.route import ways

        fits = (way for way in ways(order, mine) if way.takes and all(n <= left.get(key, n) for key, n in way.uses.items()))
        return max(fits, key=lambda way: way.profit, default=None)

    lost = [_lost(orders, caps, lanes, done, choose) for choose in (by_line, by_order)]
    report.add(
        f"routing: {what}, left on the table",
        f"{lost[0]:.1%} by cheapest per line, {lost[1]:.1%} by cheapest per order in turn",
        "nothing, by ours",
        min(lost) >= -1e-9,
    )


def _needs(order: OrderToFill, at: int, place: int) -> dict[int, int]:
    one = way_of(OrderToFill(0, (order.lines[at],)), (place,))
    return {int(key[1]): n for key, n in one.uses.items() if key[0] == "stock"}


def _lost(
    orders: Sequence[OrderToFill],
    caps: dict[int, Cap],
    lanes: dict[int, Usable],
    done: Routed,
    choose: Callable[[OrderToFill, Usable, dict[Key, int]], Way | None],
) -> float:
    left = supply_of(orders, caps)
    earned = 0
    for order in orders:
        mine = lanes[order.order]
        way = choose(order, mine, left) if all(mine) else None
        if way and way.takes and way.profit >= order.least_profit and all(n <= left.get(key, n) for key, n in way.uses.items()):
            earned += order.worth(way, CANCEL)
            for key, n in way.uses.items():
                if key in left:
                    left[key] -= n
    return 1 - earned / done.objective
