"""Landed cost, what is kept, plans and codes, against their plain restatement in exact fractions."""

from __future__ import annotations

import math
from decimal import Decimal
from fractions import Fraction

import numpy as np
import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st

from amber_lane.core.cost import (
    Conversion,
    ParcelTerms,
    believable_tiers,
    convert_one,
    goods_cost,
    landed_cost,
    packs_needed,
    tier_cost,
    unit_bought,
)
from amber_lane.core.currency import parse_money, plain, show
from amber_lane.core.numbers import parse_rate, parse_units, show_rate
from amber_lane.core.risk import sold_twice
from amber_lane.core.stock import serves, shown

PPM = 1_000_000


def half_up(value: Fraction) -> int:
    return (value + Fraction(1, 2)).__floor__()


def column(*values: int) -> np.ndarray:
    return np.array(values, dtype=np.int64)


rates = st.decimals("0.0001", "9000", places=6)


@settings(deadline=None)
@given(st.integers(0, 10**9), rates, st.integers(0, 100_000), st.integers(0, 900_000), st.sampled_from([(2, 2), (2, 0), (0, 2)]))
def test_money_is_turned_into_another_exactly_and_rounded_once(minor, rate, cushion, discount, digits) -> None:
    assume(rate < 80)
    convert = Conversion(rate, cushion, discount, *digits)
    exact = Fraction(minor) * Fraction(rate) * (PPM + cushion) * (PPM - discount) / PPM**2 * Fraction(10) ** (digits[1] - digits[0])
    # The factor is kept to 1e-12, which on a thousand million pence is a thousandth of a penny: it can only tip a half.
    assert convert_one(minor, convert) == half_up(exact) or abs(exact % 1 - Fraction(1, 2)) < Fraction(1, 500)
    if minor < 10**10 and exact < 10**15:
        assert int(convert.apply(column(minor))[0]) == convert_one(minor, convert)


@settings(deadline=None)
@given(st.integers(0, 10**7), st.integers(1, 500), st.integers(1, 500), st.integers(0, 10**6), st.integers(0, 10**5), st.integers(0, 10**4))
def test_landed_cost_is_goods_with_tax_rounded_once_and_the_rest_as_it_is(cost, num, den, tax, ship, handling) -> None:
    goods = half_up(Fraction(cost * num, den) * Fraction(PPM + tax, PPM))
    args = (column(cost), column(num), column(den), column(tax))
    assert int(goods_cost(*args)[0]) == goods and int(landed_cost(*args, column(ship), column(handling))[0]) == goods + ship + handling
    assert unit_bought(cost, [], 1, Conversion(), tax) == half_up(Fraction(cost * (PPM + tax), PPM))


@given(st.integers(1, 10**5), st.lists(st.tuples(st.integers(-2, 60), st.integers(-5, 10**5)), max_size=5), st.integers(1, 80))
def test_more_never_costs_more_by_tiers_that_are_believed(cost, told, quantity) -> None:
    tiers = believable_tiers(cost, told)
    assert tiers == [] or (sorted(tiers) == tiers and all(least >= 2 and cost <= price * 5 <= cost * 5 for least, price in tiers))
    assert cost / 5 <= tier_cost(cost, tiers, quantity) <= cost and tier_cost(cost, tiers, 1) == cost
    assert tier_cost(cost, tiers, quantity + 1) <= tier_cost(cost, tiers, quantity)


@given(st.integers(0, 300), st.integers(1, 12), st.integers(1, 12), st.integers(0, 40))
def test_what_stock_serves_is_what_can_be_bought_for_it(stock, num, den, cushion) -> None:
    sold = int(serves(column(stock), column(0), column(num), column(den))[0])
    assert packs_needed(sold, num, den) <= stock < packs_needed(sold + 1, num, den)
    promised = int(shown(column(sold), column(8), column(cushion))[0])
    assert 0 <= promised <= min(8, max(sold - cushion, 0))


@pytest.mark.parametrize(
    ("parcel", "units", "goods", "weight", "expected"),
    [
        (ParcelTerms(30, 160, 55), 1, 0, 0, 190),
        (ParcelTerms(30, 160, 55), 4, 0, 0, 355),
        (ParcelTerms(30, 160, 55, 2000), 4, 2000, 0, 30),
        (ParcelTerms(30, 160, 55, 2000), 4, 1999, 0, 355),
        (ParcelTerms(0, 160, 55, None, ((1000, 100, 10), (5000, 200, 20))), 3, 0, 1000, 120),
        (ParcelTerms(0, 160, 55, None, ((1000, 100, 10), (5000, 200, 20))), 3, 0, 1001, 240),
        (ParcelTerms(0, 160, 55, None, ((1000, 100, 10), (5000, 200, 20))), 3, 0, 9999, 240),
    ],
)
def test_what_a_parcel_costs(parcel, units, goods, weight, expected) -> None:
    assert parcel.cost(units, goods, weight) == expected and parcel.takes(weight) is (weight <= 5000)


@given(st.integers(0, 5 * PPM), st.integers(1, 1440))
def test_the_chance_of_selling_one_twice_grows_with_sales_and_with_the_time_between_looks(pace, minutes) -> None:
    chance = int(sold_twice(column(pace), column(minutes))[0])
    x = pace / PPM * minutes / 1440
    assert 0 <= chance <= PPM and abs(chance / PPM - (1 - math.exp(-x) * (1 + x))) < 1e-6
    assert int(sold_twice(column(pace + PPM), column(minutes))[0]) >= chance <= int(sold_twice(column(pace), column(minutes + 60))[0])


@pytest.mark.parametrize(
    ("text", "currency", "minor"),
    [("12.00", "GBP", 1200), ("12.5", "EUR", 1250), ("0.01", "GBP", 1), ("1200", "JPY", 1200), ("-3.10", "GBP", -310), ("7", "GBP", 700)],
)
def test_money_is_read_as_it_is_written(text, currency, minor) -> None:
    assert parse_money(text, currency) == minor and parse_money(plain(minor, currency), currency) == minor


@pytest.mark.parametrize("text", ["", "12.345", "NaN", "1e3", "9e999999", "٣", "Infinity", "12.00 GBP", "1 200", "0x10", "12,5", "1" * 30])
def test_money_that_is_none_is_told(text) -> None:
    with pytest.raises(ValueError, match=r"."):
        parse_money(text, "GBP", "cost")


@given(st.fractions(min_value=Fraction(1, 999), max_value=999, max_denominator=999))
def test_units_are_read_as_they_are_shown(units) -> None:
    assert parse_units(f"{units.numerator}/{units.denominator}", "units") == units
    assert show(-5, "GBP") == "−£0.05" and Decimal(plain(-5, "GBP")) == Decimal("-0.05")


@pytest.mark.parametrize("text", ["9e9999999999", "1_000", "½", "1/0", "0", "1001", "1/1001", "-1", "2/-1", "nan"])
def test_units_that_are_none_are_told_at_once(text) -> None:
    with pytest.raises(ValueError, match="units"):
        parse_units(text)


def test_rates_have_nine_decimals_and_no_exponent() -> None:
    assert (
        parse_rate("0.87") == 870_000_000
        and parse_rate("190.5") == 190_500_000_000
        and show_rate(parse_rate("0.000000001")) == "0.000000001"
    )
    for text in ("1e5", "9e999999", "1.0123456789", "", "lots", "99999"):
        with pytest.raises(ValueError, match="rate"):
            parse_rate(text)
