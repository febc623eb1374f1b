"""Patterns of file names: what they mean, what order they give, and that ours never make a name twice."""

from __future__ import annotations

from datetime import datetime

import pytest
from hypothesis import given
from hypothesis import strategies as st

from amber_lane.core.file_names import FileNames, check_ours, ours

MOMENTS = st.datetimes(datetime(2000, 1, 1), datetime(2099, 12, 31))


@given(MOMENTS, MOMENTS)
def test_a_name_made_by_a_pattern_is_meant_by_it_and_stands_in_order(one: datetime, other: datetime) -> None:
    pattern = "stock_{day}.{month}.{year}-{hour}{minute}*.csv"
    names = FileNames.of(pattern)
    made = [ours(pattern.replace("*", "-{number}"), at, 7) for at in (one, other)]
    assert all(names.matches(name) for name in made)
    first, second = (names.stamp(name) for name in made)
    assert (first < second) == (one.replace(second=0, microsecond=0) < other.replace(second=0, microsecond=0))


@given(st.lists(st.integers(1, 10**9), unique=True, min_size=2, max_size=8), MOMENTS)
def test_no_two_sheets_of_ours_have_one_name(numbers: list[int], at: datetime) -> None:
    text = check_ours("out/{year}/order-{purchase}-{number}.csv", each=True)
    made = {ours(text, at, number, "../DDS 50/1") for number in numbers}
    assert len(made) == len(numbers)
    assert all(name.count("/") == 2 and "/../" not in name for name in made)


@pytest.mark.parametrize(
    ("pattern", "name", "meant"),
    [
        ("stock.csv", "STOCK.csv", True),
        ("stock.csv", "stock.csv.part", False),
        ("a?-{month}.csv", "ab-03.csv", True),
        ("a?-{month}.csv", "ab-3.csv", False),
        ("{year}{year}.csv", "20262025.csv", False),
        ("(x)+[y].csv", "(x)+[y].csv", True),
    ],
)
def test_which_names_a_pattern_means(pattern: str, name: str, meant: bool) -> None:
    assert FileNames.of(pattern).matches(name) is meant


@pytest.mark.parametrize("text", ["", "../a.csv", "a//b.csv", "{years}.csv", "{year.csv", "x*/a.csv", "**.csv", "a\\b.csv", "x" * 201])
def test_a_pattern_that_could_mean_anything_else_is_refused(text: str) -> None:
    with pytest.raises(ValueError, match=" "):
        FileNames.of(text)


@pytest.mark.parametrize(("text", "each"), [("orders.csv", False), ("o-*-{number}.csv", False), ("{purchase}.csv", False), ("a/", True)])
def test_our_own_names_must_each_be_the_only_one(text: str, each: bool) -> None:
    with pytest.raises(ValueError, match=" "):
        check_ours(text, each)
