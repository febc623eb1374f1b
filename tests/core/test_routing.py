"""Routing: equal to trying everything on small batches and to one whole program on larger ones, limits never broken."""

from __future__ import annotations

from collections import Counter
from datetime import date
from itertools import product

import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from amber_lane.core import route as values
from amber_lane.core import routing
from amber_lane.core.cost import ParcelTerms
from amber_lane.core.route import Cap, LaneChoice, Leg, LineToFill, OrderToFill, consider, usable, way_of
from amber_lane.core.route_lines import one_program, supply_of
from amber_lane.core.routing import route
from tests.batches import batch, worth

CANCEL = 150


def places(orders, plans) -> list[tuple[int, ...] | None]:
    """The chosen lane's place per line of every order, None where it is held."""
    out = []
    for order in orders:
        plan = plans[order.order]
        by_line = {line.line: [lane.lane for lane in line.lanes] for line in order.lines}
        out.append(None if plan.reason else tuple(by_line[line.line].index(plan.chosen[line.line]) for line in order.lines))
    return out


def keeps_limits(orders, caps, chosen) -> None:
    spent: Counter = Counter()
    for order, picked in zip(orders, chosen, strict=True):
        if picked is not None:
            way = way_of(order, picked)
            assert way.takes and way.profit >= order.least_profit
            spent.update(way.uses)
    supply = supply_of(orders, caps)
    assert all(n <= supply.get(key, n) for key, n in spent.items())


def by_trying_everything(orders, caps) -> int:
    supply = supply_of(orders, caps)
    ways = []
    for order in orders:
        lanes = usable(order, [consider(line, lane, order.promised) for line in order.lines for lane in line.lanes])
        made = [way_of(order, picked) for picked in product(*lanes)]
        ways.append([None, *(way for way in made if way.takes and way.profit >= order.least_profit)])
    best = 0
    for combo in product(*ways):
        asked: Counter = Counter()
        for way in combo:
            asked.update(way.uses if way else {})
        if all(n <= supply.get(key, n) for key, n in asked.items()):
            best = max(best, sum(order.home(way.profit) + CANCEL for order, way in zip(orders, combo, strict=True) if way))
    return best


@settings(max_examples=60, deadline=None)
@given(st.integers(0, 10**6), st.booleans())
# Here the solver hands back the solution that it was given in place of the better one that it found.
@example(55860, False)
def test_a_small_batch_earns_what_trying_everything_finds(seed, by_lines) -> None:
    orders, caps = batch(5, seed, scarce=True, skus=4, most_lines=3)
    caps = {one: Cap(cap.money and cap.money * 4, cap.orders) for one, cap in caps.items()}
    with pytest.MonkeyPatch.context() as patch:
        # With hardly any ways written out, orders go to the solver line by line.
        patch.setattr(routing, "WAYS_MOST", 1 if by_lines else values.WAYS_MOST)
        done = route(orders, caps, CANCEL)
    chosen = places(orders, done.plans)
    keeps_limits(orders, caps, chosen)
    assert done.objective == worth(orders, chosen, CANCEL) == by_trying_everything(orders, caps) and done.gap == 0


@pytest.mark.parametrize(("seed", "scarce"), [(1, True), (2, True), (3, False)])
def test_a_large_batch_earns_what_one_whole_program_finds(seed, scarce) -> None:
    orders, caps = batch(250, seed, scarce, most_lines=5)
    done = route(orders, caps, CANCEL)
    lanes = [usable(order, done.plans[order.order].considered) for order in orders]
    able = [(order, one) for order, one in zip(orders, lanes, strict=True) if all(one)]
    solved, _ = one_program(able, supply_of(orders, caps), CANCEL, 60)
    chosen = places(orders, done.plans)
    keeps_limits(orders, caps, chosen)
    assert done.gap == 0 and done.objective == worth(orders, chosen, CANCEL)
    assert done.objective == pytest.approx(solved.bound, abs=2), "money of another currency is rounded order by order"


def test_when_time_runs_out_the_best_found_is_inside_the_limits_and_its_gap_is_no_lie() -> None:
    orders, caps = batch(600, 5, scarce=True)
    best, hasty = route(orders, caps, CANCEL), route(orders, caps, CANCEL, seconds=0.0)
    keeps_limits(orders, caps, places(orders, hasty.plans))
    assert 0 < hasty.objective <= best.objective == best.bound <= hasty.bound and hasty.gap > 0


def lane(number: int, cost: int, stock: int = 9, arrives: int = 3, supplier: int = 1, over: int | None = None, **more) -> LaneChoice:
    leg = Leg(supplier, supplier, ((number, 1, 1, cost, stock),), ParcelTerms(0, 100, 10, over))
    return LaneChoice(number, (leg,), date(2026, 3, arrives), **more)


def order(number: int, *lines: LineToFill, least: int = 0, promised: date | None = None) -> OrderToFill:
    return OrderToFill(number, lines, promised, least)


def test_a_plan_takes_the_cheapest_that_may_and_says_why_the_others_may_not() -> None:
    lanes = (lane(1, 90, stock=1), lane(2, 80, arrives=20), lane(3, 70, reason_not="no_lane"), lane(4, 500), lane(5, 400, risk=30))
    asked = order(1, LineToFill(1, 2, 5000, lanes), promised=date(2026, 3, 10))
    plan = route([asked]).plans[1]
    assert plan.chosen == {1: 5} and (plan.goods, plan.shipping, plan.risk, plan.profit, plan.reason) == (800, 110, 30, 4060, None)
    assert {one.lane: one.reason for one in plan.considered} == {1: "no_stock", 2: "too_late", 3: "no_lane", 4: None, 5: None}
    assert (plan.next_best[1].lane, plan.next_best[1].costs_more) == (4, 170)


def test_a_value_that_frees_the_parcel_is_reached_by_planning() -> None:
    """Line by line the cheapest is supplier 2 for both; together at supplier 1 the parcel is free and the order earns more."""
    lines = [LineToFill(n, 1, 3000, (lane(n, 1000, supplier=1, over=2000), lane(n + 10, 960, supplier=2))) for n in (1, 2)]
    plan = route([order(1, *lines)]).plans[1]
    assert plan.chosen == {1: 1, 2: 2} and (plan.goods, plan.shipping, plan.parcels) == (2000, 0, 1)
    # Another lane for one line leaves the other below that value, and splits the parcel; both at supplier 2 is the better other way.
    assert plan.next_best[1].costs_more == 960 * 2 + 110 - 2000


def test_every_held_order_has_its_reason() -> None:
    def one(number: int, *lanes: LaneChoice, net: int = 500, units: int = 1, **more) -> OrderToFill:
        return order(number, LineToFill(number, units, net, lanes), **more)

    shared = lane(1, 100, stock=2)
    orders = [
        one(1, shared, net=900, units=2),
        one(2, shared, net=500),
        one(3),
        one(4, LaneChoice(9, (), None)),
        one(5, lane(5, 100, arrives=9), promised=date(2026, 3, 4)),
        one(6, lane(6, 450)),
        one(7, lane(7, 300, supplier=7), net=900),
        one(8, lane(8, 100, supplier=7)),
        order(9, *(LineToFill(90 + n, 2, 900, (lane(20, 50, stock=3),)) for n in (0, 1))),
    ]
    plans = route(orders, {7: Cap(money=250)}).plans
    told = {number: plan.reason for number, plan in plans.items()}
    assert told == {
        1: None, 2: "no_stock", 3: "no_lane", 4: "not_sent_there", 5: "too_late", 6: "least_profit", 7: "spend_limit", 8: None, 9: "no_stock",
    }  # fmt: skip
    assert plans[2].chosen == {2: 1} and plans[2].profit == 300, "a held order shows by which lane it would best go"


def test_a_cap_in_orders_goes_to_those_that_earn_most() -> None:
    orders = [order(n, LineToFill(n, 1, 400 + n, (lane(n, 100), lane(n + 50, 150, supplier=2)))) for n in range(6)]
    done = route(orders, {1: Cap(orders=2)})
    assert done.filled == 6 and Counter(chosen >= 50 for plan in done.plans.values() for chosen in plan.chosen.values()) == {
        True: 4,
        False: 2,
    }
    assert route(orders, {1: Cap(orders=0), 2: Cap(money=0)}).filled == 0
