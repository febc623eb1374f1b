"""Shared stock is never promised twice; odd sweeps stop at the door; exact cases of both."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from amber_lane.core.explain import explain
from amber_lane.core.ids import check_country, check_gtin, check_s10, make_s10
from amber_lane.core.machine import NotAllowed
from amber_lane.core.price import NONE
from amber_lane.core.states import MACHINES, ORDER_LINE
from amber_lane.core.stock import Draw, presence, share_out
from amber_lane.core.watch import Belief, Verdict, hold_sweep, judge


def ints(*values):
    return np.array(values, dtype=np.int64)


parts = st.lists(st.tuples(st.integers(1, 3), st.integers(1, 5), st.integers(1, 5)), min_size=1, max_size=2, unique_by=lambda p: p[0])
draws = st.lists(st.builds(lambda w, p: Draw(w, tuple(p)), st.integers(0, 9), parts), min_size=1, max_size=5)


@settings(deadline=None)
@given(st.dictionaries(st.integers(1, 3), st.integers(0, 30)), draws)
def test_shown_quantities_never_add_up_to_more_than_the_stock_serves(stock, asked):
    given_out = share_out(stock, asked)
    taken = dict.fromkeys((1, 2, 3), 0)
    for draw, units in zip(asked, given_out, strict=True):
        assert 0 <= units <= draw.wanted
        for item, num, den in draw.parts:
            taken[item] += -(-units * num // den)
    assert all(taken[item] <= stock.get(item, 0) for item in taken)
    # And nobody goes short while there is enough: one more unit would not have fitted.
    for draw, units in zip(asked, given_out, strict=True):
        more = {item: taken[item] - -(-units * n // d) + -(-(units + 1) * n // d) for item, n, d in draw.parts}
        assert units == draw.wanted or any(more[item] > stock.get(item, 0) for item in more)


def test_a_listing_pauses_at_once_and_comes_back_only_when_steady():
    paused, steady, seen = False, ints(0), []
    for quantity in (5, 0, 1, 5, 0, 5, 5, 5):
        step = presence(ints(quantity), np.array([paused]), steady, ints(0), ints(3), ints(3))
        paused = bool((paused or step.pause[0]) and not step.resume[0])
        steady = step.steady
        seen.append(paused)
    assert seen == [False, True, True, True, True, True, True, False]


def belief(n=25, cost=1000, stock=40):
    return Belief(*(np.full(n, v, dtype=np.int64) for v in (cost, stock, -1, -1, 0)))


def repeated(cost):
    """Verdicts on three sweeps that see the same odd cost of an item that cost 1000."""
    verdicts, doubt, repeats = [], -1, 0
    for _ in range(3):
        b = Belief(ints(1000), ints(40), ints(doubt), ints(40), ints(repeats))
        found = judge(ints(cost), ints(40), np.array([True]), b, percent=400_000, again=2)
        verdicts.append(Verdict(int(found.verdict[0])))
        doubt, repeats = cost, int(found.doubt_seen[0])
    return verdicts


def test_a_far_move_is_doubted_until_it_was_seen_again_but_next_to_nothing_for_ever():
    assert repeated(500) == repeated(1900) == [Verdict.doubted, Verdict.doubted, Verdict.good]
    assert repeated(1) == [Verdict.doubted] * 3


@pytest.mark.parametrize(
    ("cost", "stock", "known", "expected"),
    [
        (0, 5, True, Verdict.refused),
        (-3, 5, True, Verdict.refused),
        (1000, -2, True, Verdict.refused),
        (1000, 5, False, Verdict.refused),
        (10**9, 5, True, Verdict.refused),
        (1000, 40, True, Verdict.same),
        (1000, -1, True, Verdict.same),
        (1399, 40, True, Verdict.good),
        (1401, 40, True, Verdict.doubted),
        (599, 40, True, Verdict.doubted),
    ],
)
def test_what_of_a_sighting_may_be_believed(cost, stock, known, expected):
    found = judge(ints(cost), ints(stock), np.array([known]), belief(1), percent=400_000, again=2)
    assert Verdict(int(found.verdict[0])) is expected


def test_a_sweep_of_zeros_or_of_moved_costs_is_held():
    b = belief()
    zeros = np.where(np.arange(25) < 8, 0, 40)
    assert hold_sweep(b.cost, zeros, b, gone=0).reason == "zero"
    assert hold_sweep(b.cost, np.where(np.arange(25) < 7, 0, 40), b, gone=0) is None
    assert hold_sweep(b.cost * 116 // 100, b.stock, b, gone=0).reason == "median"
    assert hold_sweep(b.cost[:10], zeros[:10] * 0, belief(10), gone=0) is None
    assert hold_sweep(b.cost[:17], b.stock[:17], Belief(*(column[:17] for column in vars(b).values())), gone=8).reason == "zero"


@settings(deadline=None)
@given(st.integers(0, 99_999_999))
def test_numbers_with_a_check_digit(serial):
    number = make_s10("SW", serial, "GB")
    assert check_s10(number.lower()) == number
    wrong = number[:10] + str((int(number[10]) + 1) % 10) + number[11:]
    with pytest.raises(ValueError, match="check digit"):
        check_s10(wrong)


def test_bad_codes_are_told_in_plain_words():
    with pytest.raises(ValueError, match="spreadsheet"):
        check_gtin("5.01E+12")
    with pytest.raises(ValueError, match="ISO 3166"):
        check_country("UK")


def test_no_state_is_reached_but_by_its_rule():
    with pytest.raises(NotAllowed, match="arrived cannot buy"):
        ORDER_LINE.step("arrived", "buy")
    for machine in MACHINES:
        reached = {machine.first} | {move.target for move in machine.moves}
        assert reached == set(machine.states), machine.name


terms = st.fixed_dictionaries(
    {
        "landed": st.integers(1, 9000),
        "reserve": st.sampled_from([0, 20_000]),
        "fee": st.integers(0, 200_000),
        "fee_least": st.integers(0, 100),
        "fee_cap": st.none(),
        "fee_fixed": st.integers(0, 30),
        "payment": st.just(19_000),
        "payment_fixed": st.just(20),
        "tax": st.sampled_from([0, 200_000]),
        "rule": st.integers(0, 3),
        "rule_value": st.integers(1, 500_000),
        "min_margin": st.none(),
        "min_profit": st.sampled_from([None, 250]),
        "least_price": st.none(),
        "ceiling": st.sampled_from([None, 2500]),
        "old": st.just(1500),
        "step": st.sampled_from([None, 80_000]),
        "endings": st.sampled_from([[], [95], [49, 99]]),
        "goods": st.just(0),
        "ship": st.just(0),
        "handling": st.just(0),
    }
)


@settings(deadline=None)
@given(terms, st.integers(1, 20_000))
def test_the_waterfall_adds_up_to_what_is_kept(given_terms, shown):
    split = given_terms | {"goods": given_terms["landed"]}
    told = explain(split, shown, "GBP")
    assert sum(step.amount for step in told.steps[:-1]) == told.steps[-1].amount == told.profit
    assert told.steps[0].amount == shown and "£" in told.sentence
    assert told.best is None or told.best != NONE
