"""Why profit changed, shares of a sum, luck and skill: exact sums whatever the figures are."""

from __future__ import annotations

from fractions import Fraction

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from amber_lane.core import earning
from amber_lane.core.books import EFFECTS, MOVES, PROFIT_KINDS, Kind, Ledger, Sums, allocate, bridge, share_out
from amber_lane.sheets.bridge import bridge_sheets

amounts = st.integers(-10_000_000, 10_000_000)
sums = st.builds(
    Sums, st.sampled_from([0, 0, 1, 2, 3, 7, 17, 230]), amounts, st.integers(0, 10_000_000), st.integers(0, 10_000_000), amounts
)
periods = st.dictionaries(st.integers(1, 12), sums, max_size=9)


@given(periods, periods)
def test_the_effects_are_the_change_and_every_part_is_its_effect(before: dict[int, Sums], after: dict[int, Sums]) -> None:
    found = bridge(before, after)
    assert found.before == sum(one.contribution + one.other for one in before.values())
    assert found.after == sum(one.contribution + one.other for one in after.values())
    assert found.before + sum(found.effects.values()) == found.after
    for name in EFFECTS:
        assert sum(found.parts(name).values()) == found.effects[name], name


@given(periods)
def test_nothing_changed_is_told_as_nothing(one: dict[int, Sums]) -> None:
    assert set(bridge(one, one).effects.values()) == {0}


@given(periods, periods)
def test_the_formulas_of_the_effects(before: dict[int, Sums], after: dict[int, Sums]) -> None:
    """Beside the parts by SKU: the sums of section 10 as they are written, each within one minor unit of what is told."""
    both = [one for one in before.keys() & after.keys() if before[one].units and after[one].units]
    q_a, q_b = sum(before[one].units for one in both), sum(after[one].units for one in both)
    k = sum(before[one].contribution for one in both)
    if not both:
        return
    times = {one: Fraction(after[one].units, before[one].units) for one in both}
    volume = Fraction((q_b - q_a) * k, q_a)
    exact = {
        "volume": volume,
        "mix": sum(times[one] * before[one].contribution for one in both) - k - volume,
        "price": sum(after[one].revenue - times[one] * before[one].revenue for one in both),
        "cost": -sum(after[one].cost - times[one] * before[one].cost for one in both),
        "fees": -sum(after[one].fees - times[one] * before[one].fees for one in both),
    }
    found = bridge(before, after).effects
    for name, amount in exact.items():
        assert -1 < found[name] - amount < 1, name


@given(st.integers(-(10**9), 10**9), st.lists(st.integers(0, 10**6), min_size=1, max_size=20))
def test_shares_add_up_and_none_is_off_by_a_whole_unit(total: int, weights: list[int]) -> None:
    parts = allocate(total, weights)
    assert sum(parts) == total
    base = sum(weights)
    if base:
        assert all(-1 < part - Fraction(total * weight, base) < 1 for part, weight in zip(parts, weights, strict=True))


def test_missing_units_go_to_the_largest_remainders_and_on_a_tie_to_the_first() -> None:
    assert share_out([Fraction(1, 2), Fraction(1, 2), Fraction(0)], 1) == [1, 0, 0]
    assert share_out([Fraction(1, 4), Fraction(3, 4), Fraction(-1, 2), Fraction(1, 2)], 1) == [0, 1, 0, 0]


def test_all_money_moves_between_two_accounts() -> None:
    assert set(MOVES) == set(Kind)
    assert all(to is not against for to, against in MOVES.values())
    assert {kind for kind in Kind if MOVES[kind][0] is Ledger.profit} == set(PROFIT_KINDS)


HEAD = "sku,units,sales,tax,store_fee,payment_fee,goods,shipping,handling,other\n"


def test_sheets_of_two_periods() -> None:
    before, after = HEAD + "A,2,20.00,,2.00,,8.00,,,\nB,1,5,,,,2,,,-0.50", HEAD + "A,3,33.00,,3.30,,12.60,,,1\nC,1,4,,,,1,,,"
    rows = dict(bridge_sheets(before.encode(), after.encode(), "GBP"))
    assert rows == {
        "profit_before": "12.50", "new": "3.00", "ended": "-3.00", "volume": "5.00", "mix": "0.00", "price": "3.00", "cost": "-0.60",
        "fees": "-0.30", "other": "1.50", "profit_after": "21.10",
    }  # fmt: skip
    assert bridge_sheets(HEAD.encode(), HEAD.encode(), "JPY")[0] == ["profit_before", "0"]


@pytest.mark.parametrize(
    ("row", "says"),
    [
        ("A,1,1\nA,2,1", "twice"),
        ("A,1.5,1", "units"),
        ("A,-1,1", "units"),
        (",1,1", "sku is empty"),
        ("A,1,x", "sales"),
        ("A,1,1.001", "decimals"),
    ],
)
def test_a_sheet_that_cannot_be_read_says_where(row: str, says: str) -> None:
    with pytest.raises(ValueError, match=says) as error:
        bridge_sheets((HEAD + row).encode(), HEAD.encode(), "GBP")
    assert str(error.value).startswith("before, row ")


def test_a_faster_pace_is_told_from_luck() -> None:
    days = np.array([28] * 30)
    usual = np.array([4, 5, 6, 3, 5, 4] * 5)
    prior = earning.gamma_prior(usual, days)
    assert 0.12 < prior.a / prior.b < 0.2
    newer, older = np.array([5, 14, 1]), np.array([5, 3, 12])
    same, risen, fallen = earning.chance_rising(prior, newer, np.full(3, 28), older, np.full(3, 28))
    assert abs(same - 0.5) < 0.01 and risen > earning.RISING and fallen < earning.FALLING
    # What was out of stock half of the time is measured by the other half.
    half, whole = earning.paces(prior, np.array([5, 5]), np.array([14, 28]))
    assert half > whole


def test_a_category_that_never_sold_and_one_of_a_single_sku_have_a_prior() -> None:
    for units, days in (([0, 0, 0], [28, 28, 28]), ([3], [28]), ([], []), ([0], [0])):
        prior = earning.gamma_prior(np.array(units, dtype=np.int64), np.array(days, dtype=np.int64))
        assert prior.a > 0 and prior.b > 0 and np.isfinite(prior.a / prior.b)


def test_a_unit_is_thought_to_leave_what_was_planned_until_it_has_shown_otherwise() -> None:
    few, many = earning.unit_contribution(np.array([-100, -10_000]), np.array([1, 100]), np.array([500.0, 500.0]))
    assert few > 0 > many
