"""Stock in a depot: many SKUs at once are as each alone, a year's service is as wished, futures add up, cartons hold what they may."""

from __future__ import annotations

from fractions import Fraction

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.stats import nbinom, poisson

from amber_lane.core import cartons, holding, reorder
from amber_lane.core.cartons import Boxed, CartonLimits
from amber_lane.core.reorder_plan import Moments, Stocks, choose, points, served, wanted
from amber_lane.core.stock_ahead import ahead, day_law, first_day


def stocks(n: int, seed: int = 3, days: int = 120) -> Stocks:
    """SKUs of every sort: fast, slow, never sold, with days on which they could not be sold."""
    rng = np.random.default_rng(seed)
    pace = rng.choice([0.0, 0.2, 1.5, 6.0, 40.0], (n, 1))
    demand = rng.poisson(pace * rng.gamma(1.0, 1.0, (n, days))).astype(float)
    demand[rng.random((n, days)) < 0.1] = np.nan

    def some(*values: float) -> np.ndarray:
        return rng.choice(values, n).astype(float)

    whole = rng.integers
    return Stocks(
        demand, np.ones(n), some(3, 9, 21), some(0, 1, 4), some(1, 7), some(0.8, 0.95, 0.99), whole(0, 60, n), whole(0, 20, n), whole(0, 9, n),
        rng.choice([1, 6, 24], n), rng.choice([0, 10], n), some(50, 1200, 9000), some(0, 0.25), some(0, 1500), some(90, 700), some(0.1, 2),
    )  # fmt: skip


def test_many_at_once_are_as_each_alone():
    of = stocks(400)
    found = wanted(of)
    for n in range(400):
        sold = tuple(Fraction(int(one)) for one in of.demand[n] if not np.isnan(one))
        one = reorder.Stocked(
            sold, Fraction(of.lead[n]), Fraction(of.lead_sd[n]), Fraction(of.review[n]), Fraction(str(of.service[n])), int(of.on_hand[n]),
            int(of.on_the_way[n]), int(of.owed[n]), int(of.carton[n]), int(of.least[n]), Fraction(of.unit_cost[n]), Fraction(of.hold[n]),
            Fraction(of.order_cost[n]),
        )  # fmt: skip
        alone = reorder.reorder(one)
        assert (alone.point, alone.position, alone.order) == (found.point[n], found.position[n], found.order[n])
    # It is ordered just where waiting for the next look would be less sure than wished.
    due = (found.order > 0) == ((found.out > 1 - of.service + 1e-9) & (found.moments.mean > 0))
    assert due.all()


def test_what_a_stock_serves_is_the_sum_of_what_each_unit_does():
    for mu, spread in ((0.4, 0.4), (7.3, 5.0), (7.3, 20.0), (60.0, 400.0)):
        law = poisson(mu) if spread <= mu else nbinom(mu * mu / (spread - mu), mu / spread)
        for k in (0, 1, 2, 9, 80):
            told = served(np.array([float(k)]), np.array([mu]), np.array([spread]))[0]
            assert told == pytest.approx(sum(law.sf(j) for j in range(k)), abs=1e-9)


@given(st.integers(0, 40_000), st.sampled_from([None, 30.0, 400.0]), st.integers(1, 30))
def test_a_plan_keeps_its_bounds_and_takes_whole_cartons_by_what_they_save(budget, room, seed):
    of = stocks(40, seed)
    ask = wanted(of)
    free = choose(of, ask)
    assert (free.order == ask.order).all()
    within = choose(of, ask, float(budget), room)
    assert within.spent <= budget and (room is None or within.litres <= room + 1e-9)
    assert (within.order <= ask.order).all() and (within.order % of.carton == 0).all()
    # What is taken at all is no less than the least order.
    taken = within.order[within.order > 0]
    assert (taken >= of.least[within.order > 0]).all()
    assert within.avoided.sum() <= free.avoided.sum() + 1e-6
    assert choose(of, ask, budget * 2.0, room).avoided.sum() >= within.avoided.sum() * 0.95 - 1e-6
    spent = float((within.order * of.unit_cost).sum())
    assert spent == pytest.approx(within.spent)


def year(level: np.ndarray, demand: np.ndarray, lead: int, review: int) -> tuple[float, float]:
    """Lived through day by day, filled up to a level at each look: the share of looks whose load lasted until that of the next
    one came, and the mean stock."""
    n, days = demand.shape
    shelf, coming = level.astype(float).copy(), np.zeros((n, lead + 1))
    lost = np.zeros((n, days))
    held = 0.0
    for day in range(days):
        shelf += coming[:, 0]
        coming = np.roll(coming, -1, axis=1)
        coming[:, -1] = 0
        if day % review == 0:
            coming[:, lead - 1] += np.maximum(level - shelf - coming.sum(axis=1), 0)
        sold = np.minimum(shelf, demand[:, day])
        lost[:, day] = demand[:, day] - sold
        shelf -= sold
        held += shelf.mean()
    looks = [lost[:, day + lead : day + lead + review].sum(axis=1) == 0 for day in range(2 * (lead + review), days - lead - review, review)]
    return float(np.mean(looks)), held / days


@pytest.mark.parametrize(("mean", "spread", "service"), [(4.0, 4.0, 0.95), (4.0, 12.0, 0.95), (12.0, 30.0, 0.98)])
def test_a_year_reaches_the_wished_service_with_hardly_more_than_the_least_stock(mean, spread, service):
    rng, n, lead, review = np.random.default_rng(11), 500, 9, 7

    def days(count: int) -> np.ndarray:
        if spread <= mean:
            return rng.poisson(mean, (n, count)).astype(float)
        return rng.negative_binomial(mean * mean / (spread - mean), mean / spread, (n, count)).astype(float)

    past, future = days(365), days(365)
    m, v = past.mean(axis=1), past.var(axis=1, ddof=1)
    span = lead + review
    mine = points(Moments(m, v, m * span, v * span), np.full(n, service))
    reached, held = year(mine, future, lead, review)
    assert abs(reached - service) <= 0.02
    # The best of all fixed levels that reach as much, found by trying them.
    best = min(
        stock
        for level in range(int(m.mean() * span), int(m.mean() * span * 2))
        for got, stock in [year(np.full(n, level), future, lead, review)]
        if got >= reached
    )
    assert held <= best * 1.05


def test_what_lies_ahead_agrees_with_the_sum_of_its_days():
    law = day_law(2.1, 2.1)
    found = ahead(46, {}, [law] * 40)
    for day in (0, 9, 39):
        mu = np.array([2.1 * (day + 1)])
        assert found.expected[day] == pytest.approx(46 - served(np.array([46.0]), mu, mu)[0], abs=1e-3)
        assert found.out[day] == pytest.approx(1 - poisson.cdf(45, mu[0]), abs=1e-4)
    assert found.low[9] <= found.expected[9] <= found.high[9]
    # A load that comes is there from that day on, and what could not be had before is not sold later.
    late = ahead(4, {20: 100}, [law] * 40)
    assert late.out[19] > 0.99 and late.expected[20] == pytest.approx(100 - 2.1, abs=0.01)
    assert first_day(late.out, 0.5) == 1 and first_day(ahead(10, {}, [day_law(0, 0)] * 5).out, 0.5) is None
    # A large stock is counted in heaps, and says the same.
    many = ahead(40_000, {3: 10_000}, [day_law(210, 4000)] * 30)
    assert many.expected[29] == pytest.approx(50_000 - 210 * 30, rel=0.002)


@given(
    st.lists(
        st.tuples(
            st.integers(1, 300),
            st.integers(20, 4000),
            st.tuples(*[st.integers(10, 380)] * 3),
            st.sampled_from([1, 2, 6]),
            st.sampled_from([0, 12]),
        ),
        min_size=1,
        max_size=6,
    )
)
def test_cartons_hold_all_of_a_load_and_no_more_than_they_may(goods):
    limits = CartonLimits(15_000, (600, 400, 400))
    load = [Boxed(n, units * inner, weight, sides, inner, full) for n, (units, weight, sides, inner, full) in enumerate(goods)]
    if any(not one.most(limits) for one in load):
        with pytest.raises(ValueError, match="into no carton"):
            cartons.pack(limits, load)
        return
    made = cartons.pack(limits, load)
    packed = {one.key: 0 for one in load}
    for carton in made:
        assert 0 < carton.weight_g <= limits.weight_g
        for key, units in carton.holds:
            packed[key] += units
            assert units % load[key].inner == 0 and units <= load[key].most(limits)
    assert packed == {one.key: one.units for one in load}


def test_numbers_of_cartons_are_never_the_same_and_check():
    made = [cartons.sscc("0400000", n) for n in (*range(3), 10**9 - 1, 10**9)]
    assert len(set(made)) == 5 and all(len(one) == 18 and int(one[-1]) == cartons.gs1_check(one[:-1]) for one in made)
    assert made[4][0] == "1"
    for prefix, serial in (("12", 1), ("12345678901", 1), ("0400000", 10**10), ("04000x0", 1)):
        with pytest.raises(ValueError, match=r"prefix|used up"):
            cartons.sscc(prefix, serial)


def test_a_unit_from_the_depot_costs_the_sum_of_its_parts():
    fees = holding.DepotFees(storage=1000, receive=90, pick=20, pack=30, parcel=125)
    bulk = holding.Bulk(units=48, unit=410, freight=1430, cartons=2, litres=1.5)
    found = holding.worth(fees, bulk, pace=2.0, variance=3.0, direct=760)
    # 1430 / 48 = 29.8; 180 / 48 = 3.75; 0.001 a litre and day, 1.5 litres, 12 days.
    assert found.unit.parts() == {"goods": 410, "freight": 30, "receive": 4, "storage": 0, "pick": 20, "pack": 30, "parcel": 125}
    assert found.unit.landed == 619 and found.saving == (760 - 619) * 60 and found.days == 12
    assert found.tied == 410 * 48 + 1430 + 180 and found.payback == pytest.approx(found.tied / found.saving)
    assert found.dead < 1e-9 and holding.unsold(400, 2.0, 3.0) > 0.9 and holding.unsold(5, 0.0, 0.0) == 1
    assert holding.worth(fees, bulk, 2.0, 3.0, direct=600).payback is None
    assert holding.usual_load(2.0, 410, 1500, 0.25, 24) == 168 and holding.usual_load(0.1, 410, 0, 0, 24) == 24
