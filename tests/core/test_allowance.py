"""What to show within a store's allowance, against trying everything."""

from __future__ import annotations

import itertools
import math

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from amber_lane.core.allowance import gains, plan, worth_of

CASE = st.lists(st.tuples(st.floats(0, 4), st.integers(-500, 3000), st.integers(0, 3)), min_size=1, max_size=5)
LIMIT = st.one_of(st.none(), st.integers(0, 9))


def columns(rows):
    pace, profit, most = zip(*rows, strict=True)
    return np.array(pace), np.array(profit, dtype=np.int64), np.array(most, dtype=np.int64)


def best_of_all(gain, units_most, listings_most) -> float:
    best = 0.0
    for units in itertools.product(*[range(int(row) + 1) for row in (gain > 0).sum(axis=1)]):
        if (units_most is not None and sum(units) > units_most) or (
            listings_most is not None and sum(n > 0 for n in units) > listings_most
        ):
            continue
        best = max(best, worth_of(np.array(units), gain))
    return best


@settings(deadline=None, max_examples=150)
@given(CASE, LIMIT, LIMIT)
def test_the_plan_is_the_best_of_all_or_says_how_far_it_may_be_from_it(rows, units_most, listings_most) -> None:
    pace, profit, most = columns(rows)
    made = plan(pace, profit, most, units_most, listings_most)
    assert (made.units <= most).all() and (made.units >= 0).all()
    assert units_most is None or made.units.sum() <= units_most
    assert listings_most is None or (made.units > 0).sum() <= listings_most
    best = best_of_all(gains(pace, profit, most), units_most, listings_most)
    assert made.worth <= best + 1e-6 and best <= made.worth + made.gap + 1e-6
    if units_most is None or listings_most is None:
        assert made.gap == 0 and math.isclose(made.worth, best, abs_tol=1e-6)


@given(st.floats(0, 6), st.integers(1, 2000), st.integers(1, 40))
def test_all_units_together_earn_what_sells_times_what_a_sale_keeps(pace: float, profit: int, most: int) -> None:
    gain = gains(np.array([pace]), np.array([profit]), np.array([most]))[0]
    assert (np.diff(gain) <= 1e-9).all()
    sold = sum(min(n, most) * math.exp(-pace) * pace**n / math.factorial(n) for n in range(60))
    assert math.isclose(gain.sum(), sold * profit, rel_tol=1e-6, abs_tol=0.02 * most)


def test_a_loss_is_never_shown_and_the_better_earner_comes_first() -> None:
    made = plan(np.array([2.0, 2.0, 0.1]), np.array([-100, 500, 900]), np.array([5, 5, 5]), 3, None)
    assert made.units.tolist() == [0, 3, 0]
    assert plan(np.array([2.0, 2.0, 0.1]), np.array([-100, 500, 900]), np.array([5, 5, 5]), None, 1).units.tolist()[1:] == [5, 0]


def best_within(gain, units_most, listings_most, price, value_most) -> float:
    best = 0.0
    for units in itertools.product(*[range(int(row) + 1) for row in (gain > 0).sum(axis=1)]):
        fits = units_most is None or sum(units) <= units_most
        fits &= listings_most is None or sum(n > 0 for n in units) <= listings_most
        if fits and int(np.dot(units, price)) <= value_most:
            best = max(best, worth_of(np.array(units), gain))
    return best


@settings(deadline=None, max_examples=120)
@given(CASE, LIMIT, LIMIT, st.lists(st.integers(1, 3000), min_size=5, max_size=5), st.integers(0, 12_000))
def test_a_limit_of_value_holds_and_what_may_be_missing_is_told(rows, units_most, listings_most, prices, value_most) -> None:
    pace, profit, most = columns(rows)
    price = np.array(prices[: len(rows)], dtype=np.int64)
    made = plan(pace, profit, most, units_most, listings_most, price, value_most)
    assert int((made.units * price).sum()) <= value_most and (made.units <= most).all()
    assert units_most is None or made.units.sum() <= units_most
    assert listings_most is None or (made.units > 0).sum() <= listings_most
    gain = gains(pace, profit, most)
    best = best_within(gain, units_most, listings_most, price, value_most)
    assert made.worth <= best + 1e-6 and best <= made.worth + made.gap + 1e-6
    # Nothing that still fits and earns is left out.
    for row in np.flatnonzero((made.units < (gain > 0).sum(axis=1)) & (price <= value_most - int((made.units * price).sum()))):
        full = units_most is not None and made.units.sum() >= units_most
        closed = listings_most is not None and made.units[row] == 0 and (made.units > 0).sum() >= listings_most
        assert full or closed or made.gap > 0 or int((made.units * price).sum()) == value_most or gain[row, made.units[row]] <= 0


def test_what_earns_most_for_its_price_is_shown_first() -> None:
    pace, most = np.array([3.0, 3.0, 3.0]), np.array([1, 1, 1])
    made = plan(pace, np.array([900, 500, 500]), most, None, None, np.array([9000, 1000, 1200]), 2500)
    assert made.units.tolist() == [0, 1, 1]
    assert plan(pace, np.array([900, 500, 500]), most, None, None, np.array([9000, 1000, 1200]), 0).units.sum() == 0
