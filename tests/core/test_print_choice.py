"""Where artwork lies on each size, and which version a colour takes."""

from __future__ import annotations

from fractions import Fraction

from hypothesis import given
from hypothesis import strategies as st

from amber_lane.core.print_checks import Limits
from amber_lane.core.print_choice import Area, Candidate, PrintFault, Spot, choose, fitted, on_area

LIMITS = Limits(Fraction(150), Fraction(300), Fraction(80))
SIDE = st.integers(100, 200_000)
AREAS = st.builds(Area, SIDE, SIDE)
SHAPES = st.tuples(st.integers(16, 10_000), st.integers(16, 10_000))


def inside(spot: Spot, shape: tuple[int, int], area: Area, slack: int = 1) -> bool:
    high = spot.height(*shape)
    return spot.x >= 0 and spot.y >= 0 and spot.x + spot.w <= area.w + slack and spot.y + high <= area.h + slack


@given(SHAPES, AREAS)
def test_what_is_fitted_lies_inside_in_the_middle_and_could_not_be_larger(shape: tuple[int, int], area: Area) -> None:
    spot = fitted(shape, area)
    if spot.w < 1:
        return
    assert inside(spot, shape, area)
    larger = Spot(spot.x, spot.y, spot.w + 1 + shape[0] // shape[1])
    assert larger.w > area.w or larger.height(*shape) >= area.h
    assert abs(2 * spot.x + spot.w - area.w) <= 1


@given(SHAPES, AREAS, AREAS, st.floats(0.1, 1), st.floats(0, 1), st.floats(0, 1))
def test_what_lies_inside_of_one_size_lies_inside_of_every_size_in_proportion(
    shape: tuple[int, int], own: Area, other: Area, part: float, right: float, down: float
) -> None:
    whole = fitted(shape, own)
    w = max(1, int(whole.w * part))
    spot = Spot(0, 0, w)
    high = spot.height(*shape)
    spot = Spot(int((own.w - w) * right), max(0, int((own.h - high) * down)), w)
    if not inside(spot, shape, own, 0):
        return
    there = on_area(spot, shape, own, other, "proportion")
    # Thin things are as wide as a hundredth of a millimetre at least.
    assert there.w == 1 or inside(there, shape, other, 2)
    assert on_area(spot, shape, own, other, "millimetres") == spot
    assert on_area(spot, shape, own, own, "proportion") == spot


def test_a_colour_takes_its_own_version_else_the_one_that_reads_better_then_the_sharper_one() -> None:
    area, spot = Area(20_000, 20_000), Spot(0, 0, 10_000)
    light = Candidate(1, 2000, 2000, Fraction(97, 100))
    dark = Candidate(2, 2000, 2000, Fraction(3, 100))
    assert choose([dark, light], spot, area, LIMITS, 300).version == 1
    sharper = Candidate(3, 4000, 4000, Fraction(97, 100))
    assert choose([light, sharper, dark], spot, area, LIMITS, 300).version == 3
    own = Candidate(4, 2000, 2000, Fraction(85, 100), own=True)
    assert choose([light, own], spot, area, LIMITS, 300).version == 4
    drawn = Candidate(5, 100, 100, Fraction(1), vector=True)
    told = choose([drawn], spot, area, LIMITS, 300)
    assert told.checked and told.checked.dpi == 300 and not told.fault, "a drawing is as sharp as its house makes use of"


def test_each_reason_why_something_may_not_be_printed_is_told_apart() -> None:
    area, good = Area(20_000, 20_000), Candidate(1, 2000, 2000, Fraction(1))
    faults = {
        PrintFault.none: choose([good], Spot(0, 0, 10_000), area, LIMITS, 300),
        PrintFault.soft: choose([Candidate(1, 500, 500, Fraction(1))], Spot(0, 0, 10_000), area, LIMITS, 300),
        PrintFault.outside: choose([good], Spot(12_000, 0, 10_000), area, LIMITS, 300),
        PrintFault.unreadable: choose([Candidate(1, 2000, 2000, Fraction(79, 100))], Spot(0, 0, 10_000), area, LIMITS, 300),
        PrintFault.no_version: choose([], Spot(0, 0, 10_000), area, LIMITS, 300),
        PrintFault.no_area: choose([good], Spot(0, 0, 10_000), None, LIMITS, 300),
    }
    assert {fault: told.fault for fault, told in faults.items()} == {fault: fault for fault in faults}
