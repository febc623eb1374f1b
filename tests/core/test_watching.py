"""Calls that go where being wrong costs most, usual moves, plans that pay, and past orders sold again."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from amber_lane.core import calls
from amber_lane.core.plans import Membership, discount_given, plan_faults, worth
from amber_lane.core.replay import LOSS, MISSED, OVERSOLD, SOLD, Shown, Truth, sell
from amber_lane.core.stock import first_of
from amber_lane.core.terms import NONE, Terms
from amber_lane.core.watch import Belief, Verdict, judge, usual_moves

RATES = st.lists(
    st.tuples(st.floats(0.01, 20), st.just(0.0) | st.floats(0.01, 500), st.sampled_from((0.0, 0.1, 0.5, 2.0))), min_size=2, max_size=12
)


@settings(max_examples=60, deadline=None)
@given(RATES, st.floats(0.1, 60))
# So rare are looks here that the worth of one cannot be told from that of the first in the digits there are.
@example([(1.0, 0.0, 0.0), (12.153181186323339, 1.0, 0.0)], 0.25)
def test_no_other_way_to_spend_the_calls_loses_less(items: list[tuple[float, float, float]], budget: float) -> None:
    rate, weight, least = (np.array(column) for column in zip(*items, strict=True))
    looks = calls.plan(rate, weight, budget, least)
    assert looks.sum() == pytest.approx(budget, rel=1e-6)
    if least.sum() >= budget:
        assert np.allclose(looks * least.sum(), least * budget)
        return
    assert (looks >= least - 1e-9).all()
    best = calls.stale_loss(rate, weight, looks)
    for a in range(len(rate)):
        for b in range(len(rate)):
            # Moving some of one item's calls to another is never better.
            step = min(looks[a] - least[a], 0.05 * budget)
            if a != b and step > 1e-6:
                moved = looks.copy()
                moved[a], moved[b] = moved[a] - step, moved[b] + step
                assert calls.stale_loss(rate, weight, moved) >= best * (1 - 1e-6) - 1e-9
    assert best <= calls.stale_loss(rate, weight, np.maximum(calls.in_turn(len(rate), budget - least.sum()) + least, 0)) + 1e-9


def test_change_rates_are_found_again_and_what_was_never_looked_at_is_like_the_rest() -> None:
    rng = np.random.default_rng(3)
    rate = rng.lognormal(-0.5, 1.0, 4000)
    looks = np.full(4000, 240.0)
    seen = rng.binomial(240, 1 - np.exp(-rate / 4)).astype(float)
    looks[:5], seen[:5] = 0, 0
    found = calls.change_rates(seen, looks, np.full(4000, 60.0))
    assert np.median(np.abs(found[5:] / rate[5:] - 1)) < 0.12
    assert found[:5] == pytest.approx(np.full(5, found[5:].mean()), rel=0.2)
    # A look that always finds a change says that there are more than it can see.
    assert calls.change_rates(np.array([60.0, 0.0]), np.array([60.0, 60.0]), np.array([60.0, 60.0]))[0] > 1.5
    with pytest.raises(ValueError, match="negative"):
        calls.plan(np.array([-1.0]), np.array([1.0]), 1.0, np.zeros(1))


def test_a_move_far_from_what_an_item_usually_does_is_doubted_and_small_ones_never_are() -> None:
    item = np.array([1] * 10 + [2] * 10 + [3] * 3)
    old = np.full(23, 1000)
    new = np.array([1010, 990, 1008, 992, 1011, 1005, 995, 1009, 991, 1003, *([1200, 850] * 5), 1100, 1100, 1100])
    usual = usual_moves(item, old, new, 6)
    assert set(usual) == {1, 2} and usual[1][1] < 0.12 and usual[2][1] > 0.5
    low = np.array([usual[1][0], usual[1][0], usual[2][0], -np.inf])
    high = np.array([usual[1][1], usual[1][1], usual[2][1], np.inf])
    full = np.full(4, 1000)
    belief = Belief(full, np.full(4, 5), np.full(4, -1), np.full(4, -1), np.zeros(4, dtype=np.int64))
    seen = judge(np.array([1180, 1040, 1180, 1180]), np.full(4, 5), np.ones(4, dtype=bool), belief, 400_000, 2, (low, high))
    assert seen.verdict.tolist() == [Verdict.doubted, Verdict.good, Verdict.good, Verdict.good]
    # Seen again often enough it is true.
    again = Belief(full, np.full(4, 5), np.full(4, 1180), np.full(4, 5), np.full(4, 1))
    assert judge(np.full(4, 1180), np.full(4, 5), np.ones(4, dtype=bool), again, 400_000, 2, (low, high)).verdict[0] == Verdict.good


@given(st.integers(1, 999_999), st.integers(0, 900_000), st.integers(0, 500_000), st.integers(0, 3_000_000), st.integers(0, 3_000_000))
def test_a_plan_pays_exactly_from_the_purchases_that_it_says(discount: int, other: int, fee: int, spend: int, pace: int) -> None:
    one = worth(Membership("club", discount, fee, spend), other, pace)
    if one.pays_from is None:
        assert discount <= other and one.saves == -fee
        return
    more = discount - other
    assert one.pays_from >= spend and one.pays_from * more >= fee * 1_000_000
    assert one.pays_from == spend or (one.pays_from - 1) * more < fee * 1_000_000
    assert (one.saves >= 0) == (pace >= one.pays_from) or abs(one.saves) <= 1 or (pace < spend and fee == 0)


def test_discounts_are_not_added_up_and_a_volume_counts_only_once_it_is_reached() -> None:
    club, volume = Membership("club", 30_000, 900, taken=True), Membership("pallet", 50_000, from_spend=10_000, taken=True)
    assert discount_given(10_000, [club, volume]) == 30_000
    assert discount_given(10_000, [club, Membership("pallet", 50_000, from_spend=10_000, taken=True, reached=True)]) == 50_000
    assert discount_given(40_000, [club]) == 40_000
    assert (
        "same name" in plan_faults([club, club]) and "between 0" in plan_faults([Membership("x", 0)]) and plan_faults([club, volume]) == ""
    )


@settings(max_examples=80)
@given(st.lists(st.tuples(st.integers(0, 6), st.booleans(), st.integers(0, 5)), max_size=40))
def test_the_first_by_its_keys_is_what_sorting_says(entries: list[tuple[int, bool, int]]) -> None:
    entries = sorted(entries, key=lambda one: one[0])
    rows = np.array([one[0] for one in entries], dtype=np.int64)
    empty, use = np.array([one[1] for one in entries], dtype=bool), np.array([one[2] for one in entries], dtype=np.int64)
    best: dict[int, int] = {}
    for place in sorted(range(len(entries)), key=lambda i: (entries[i][0], entries[i][1], entries[i][2], i)):
        best.setdefault(entries[place][0], place)
    assert first_of(rows, empty, use).tolist() == [best[row] for row in sorted(best)]


def test_past_orders_are_sold_at_the_price_shown_and_the_cost_that_was_true() -> None:
    shown = Shown(*(np.array(c) for c in ([0, 0, 0], [0, 100, 200], [1000, 1200, 1200], [5, 5, 0])), np.array([True, True, False]))
    truth = Truth(*(np.array(c) for c in ([0, 0], [0, 150], [700, 1300], [3, 9])))
    n = np.zeros(1, dtype=np.int64)
    terms = Terms(n, n, n + 100_000, n, n + NONE, n, n, n, n)
    at, quantity = np.array([10, 120, 140, 20, 250, -5]), np.array([1, 1, 1, 4, 1, 1])
    got = sell(shown, truth, terms, np.array([150]), np.zeros(6, dtype=np.int64), at, quantity, np.array([0, 0, 20, 0, 0, 0]))
    # 1000 - 100 - 700; 1200 - 120 - 700; seen 20 too late it cost 1300 already; four of three; off sale; before it was there.
    assert got.outcome.tolist() == [SOLD, SOLD, LOSS, OVERSOLD, MISSED, MISSED]
    assert got.earned.tolist() == [200, 380, -220, -150, 0, 0]
