"""Print checks and reorder points: exact cases, and properties against a plain way of working them out."""

from __future__ import annotations

import io
from fractions import Fraction
from math import exp, factorial
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image

from amber_lane.core import print_checks
from amber_lane.core.colour import difference, lab
from amber_lane.core.print_checks import Placed
from amber_lane.core.reorder import Stocked, cdf, reorder, reorder_point
from amber_lane.sheets.print_jobs import print_sheet
from amber_lane.sheets.reorder import reorder_sheet

# Pairs published with the formula, among them those that tell wrong hue means apart.
PUBLISHED = (
    ((50.0, 2.6772, -79.7751), (50.0, 0.0, -82.7485), 2.0425),
    ((50.0, -1.3802, -84.2814), (50.0, 0.0, -82.7485), 1.0),
    ((50.0, 2.49, -0.001), (50.0, -2.49, 0.0009), 7.1792),
    ((50.0, 2.49, -0.001), (50.0, -2.49, 0.0011), 7.2195),
    ((50.0, -0.001, 2.49), (50.0, 0.0011, -2.49), 4.7461),
    ((50.0, 2.5, 0.0), (73.0, 25.0, -18.0), 27.1492),
    ((60.2574, -34.0099, 36.2677), (60.4626, -34.1751, 39.4387), 1.2644),
    ((2.0776, 0.0795, -1.135), (0.9033, -0.0636, -0.5514), 0.9082),
)


@pytest.mark.parametrize(("one", "other", "told"), PUBLISHED)
def test_the_difference_of_two_colours_is_the_published_one(one: tuple[float, ...], other: tuple[float, ...], told: float) -> None:
    assert round(float(difference(np.array(one), np.array(other))), 4) == told
    assert round(float(difference(np.array(other), np.array(one))), 4) == told


def test_white_black_and_grey_lie_on_the_axis() -> None:
    white, black, grey = (lab(np.array([value] * 3, dtype=float)) for value in (255, 0, 119))
    assert np.allclose(white, [100, 0, 0], atol=0.02) and np.allclose(black, [0, 0, 0]) and np.allclose(grey[1:], 0, atol=0.02)
    assert float(difference(white, white)) == 0


def test_readable_counts_what_is_seen() -> None:
    cloth = (16, 20, 24)
    half = np.array([[[255, 255, 255, 255], [18, 22, 26, 255], [255, 0, 0, 0], [255, 255, 255, 0]]], dtype=np.uint8)
    assert print_checks.readable(half, cloth) == Fraction(1, 2)
    faint = np.array([[[255, 255, 255, 10], [255, 255, 255, 245]]], dtype=np.uint8)
    # What is nearly transparent does not stand out, and weighs little.
    assert print_checks.readable(faint, cloth) == Fraction(245, 255)
    assert print_checks.readable(np.zeros((4, 4, 4), dtype=np.uint8), cloth) == 0


@given(st.integers(1, 3000), st.integers(1, 3000), st.integers(1, 9000), st.integers(-50, 400), st.integers(-50, 400))
def test_dpi_and_place_are_exact(width: int, high: int, w: int, x: int, y: int) -> None:
    placed = Placed(Fraction(300), Fraction(400), Fraction(x), Fraction(y), Fraction(w, 10), None)
    dots = print_checks.dpi(placed, width, high)
    # With its own proportions both sides have the same dots an inch.
    assert dots * Fraction(w, 10) <= Fraction(254, 10) * width < (dots + 1) * Fraction(w, 10)
    fits = print_checks.inside(placed, width, high)
    far = placed.y + print_checks.height(placed, width, high)
    assert fits == (x >= 0 and y >= 0 and placed.x + placed.w < 300 + Fraction(1, 200) and far < 400 + Fraction(1, 200))


PRINT = "job,art,area_w_mm,area_h_mm,x_mm,y_mm,w_mm,h_mm,colour,dpi_least,dpi_good,read_least\n"


def test_jobs_of_a_sheet_say_what_is_wrong_with_each(tmp_path: Path) -> None:
    Image.new("RGBA", (600, 400), (255, 255, 255, 255)).save(tmp_path / "white.png")
    Image.new("I;16", (60, 40)).save(tmp_path / "deep.png")
    (tmp_path / "no.png").write_bytes(b"not a picture")
    Image.new("RGB", (60, 40)).save(tmp_path / "cut.png")
    (tmp_path / "cut.png").write_bytes((tmp_path / "cut.png").read_bytes()[:60])
    jobs = [
        ("good", "white.png", "10,10,50,", "#000000", "ok"),
        ("soft", "white.png", "10,10,80,", "#000000", "soft"),
        ("coarse", "white.png", "10,10,200,", "#000000", "refused"),
        ("outside", "white.png", "260,10,50,", "#000000", "refused"),
        ("unreadable", "white.png", "10,10,50,", "#fafafa", "refused"),
        ("gone", "nowhere.png", "10,10,50,", "#000000", "there is no"),
        ("away", "../white.png", "10,10,50,", "#000000", "outside of the sheet's folder"),
        ("deep", "deep.png", "10,10,50,", "#000000", "16 bits"),
        ("none", "no.png", "10,10,50,", "#000000", "no PNG"),
        ("cut", "cut.png", "10,10,50,", "#000000", "no PNG"),
        ("colour", "white.png", "10,10,50,", "navy", "not a colour"),
        ("flat", "white.png", "10,10,0,", "#000000", "wider and higher"),
        ("empty", "white.png", ",10,50,", "#000000", "x_mm is empty"),
    ]
    sheet = PRINT + "".join(f"{job},{art},300,400,{place},{colour},150,300,85\n" for job, art, place, colour, _ in jobs)
    for row, (job, *_, says) in zip(print_sheet(sheet.encode(), tmp_path), jobs, strict=True):
        assert row[0] == job and says in (row[4] or row[5]), row


def test_large_artwork_is_reduced_with_its_alpha(tmp_path: Path) -> None:
    # White lines on nothing that is black underneath: what is invisible must not darken them.
    picture = np.zeros((1200, 1200, 4), dtype=np.uint8)
    picture[::2, :, :] = 255
    buffer = io.BytesIO()
    Image.fromarray(picture, "RGBA").save(buffer, "PNG")
    (tmp_path / "lines.png").write_bytes(buffer.getvalue())
    rows = print_sheet((PRINT + "a,lines.png,300,400,0,0,50,,#000000,1,1,85\n").encode(), tmp_path)
    assert rows[0][3:5] == ["100.0", "ok"]


def stocked(demand: list[int], **more: object) -> Stocked:
    terms = {"lead_days": Fraction(5), "lead_sd": Fraction(0), "review_days": Fraction(2), "service": Fraction(95, 100), "on_hand": 0,
             "on_the_way": 0, "owed": 0, "carton_units": 1, "min_units": 0, "unit_cost": Fraction(0), "hold": Fraction(0),
             "order_cost": Fraction(0)} | more  # fmt: skip
    return Stocked(tuple(Fraction(one) for one in demand), **terms)  # type: ignore[arg-type]


@given(st.fractions(Fraction(1, 20), 30), st.fractions(0, 40), st.sampled_from(["0.8", "0.95", "0.995"]))
def test_the_reorder_point_is_the_smallest_that_is_enough(mu: Fraction, spread: Fraction, service: str) -> None:
    found = reorder_point(mu, spread, stocked([], lead_days=Fraction(1), review_days=Fraction(0), service=Fraction(service)))
    below = cdf(mu, spread)
    assert below(found) >= float(service) and (found == 0 or below(found - 1) < float(service))


@given(st.fractions(Fraction(1, 10), 20))
def test_poisson_is_summed_as_it_is_written(mu: Fraction) -> None:
    below, sums = cdf(mu, mu), 0.0
    for k in range(30):
        sums += exp(-mu) * float(mu) ** k / factorial(k)
        assert abs(below(k) - sums) < 1e-9


def test_negative_binomial_has_the_mean_and_variance_asked_for() -> None:
    below = cdf(Fraction(8), Fraction(20))
    parts = [below(k) - (below(k - 1) if k else 0.0) for k in range(400)]
    mean = sum(k * part for k, part in enumerate(parts))
    assert abs(mean - 8) < 1e-6 and abs(sum((k - mean) ** 2 * part for k, part in enumerate(parts)) - 20) < 1e-5


def test_orders_come_in_whole_cartons_and_never_when_there_is_enough() -> None:
    demand = [2, 3, 1, 2, 2, 4, 0, 2]
    low = reorder(stocked(demand, on_hand=3, owed=1, carton_units=12, min_units=20))
    assert low.position == 2 and low.order == 24 and low.order % 12 == 0
    assert reorder(stocked(demand, on_hand=low.point)).order == 0
    cheap = reorder(stocked(demand, unit_cost=Fraction(100), hold=Fraction(3, 10), order_cost=Fraction(900)))
    # sqrt(2 x 365 x 2 x 900 / 30) = 209.3
    assert cheap.order == 210
    never = reorder(stocked([0, 0, 0], owed=9))
    assert (never.point, never.order, never.cover) == (0, 0, None)


def test_reorder_rows_that_cannot_be_read_say_why() -> None:
    head = "sku,demand,lead_days,lead_sd,review_days,service_pct,on_hand,on_the_way,owed,carton_units,min_units,unit_cost,hold_pct,order_cost\n"
    bad = {"1|x": "demand", "1|-2": "negative"}
    rows = [f"A,{demand},5,0,2,95,0,0,0,6,0,1.00,20,5.00" for demand in bad]
    rows += [
        "B,1|2,5,0,2,100,0,0,0,6,0,1.00,20,5.00",
        "C,1|2,5,0,2,95,1.5,0,0,6,0,1.00,20,5.00",
        ",1,5,0,2,95,0,0,0,6,0,1,20,5",
        "D,,5,0,2,95,7,0,0,,0,1,20,5",
    ]
    out = reorder_sheet((head + "\n".join(rows)).encode(), "GBP")
    said = [row[-1] for row in out]
    for says, told in zip([*bad.values(), "service_pct", "whole number", "sku is empty"], said, strict=False):
        assert says in told
    assert out[-1] == ["D", "0.0000", "0", "7", "0", "", ""]
