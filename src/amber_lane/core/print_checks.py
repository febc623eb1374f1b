"""Whether artwork may be printed: sharp enough, inside its area, and readable on the cloth's colour (section 12)."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum
from fractions import Fraction
from math import floor

import numpy as np
import numpy.typing as npt

from .colour import difference, lab

# From this difference on a pixel stands out from the cloth.
STANDS_OUT = 20.0
# Places are looked at to a hundredth of a millimetre.
EXACT = 100
Pixels = npt.NDArray[np.uint8]


class Outcome(StrEnum):
    ok = "ok"
    soft = "soft"
    refused = "refused"


@dataclass(frozen=True)
class Placed:
    """Where artwork lies on its area, in millimetres. h None: as high as the artwork's sides make it."""

    area_w: Fraction
    area_h: Fraction
    x: Fraction
    y: Fraction
    w: Fraction
    h: Fraction | None


@dataclass(frozen=True)
class Checked:
    """dpi: dots an inch, rounded down; readable: tenths of a percent of what is seen, half up."""

    dpi: int
    inside: bool
    readable: int
    outcome: Outcome


def height(placed: Placed, width_px: int, height_px: int) -> Fraction:
    return placed.h if placed.h is not None else placed.w * height_px / width_px


def dpi(placed: Placed, width_px: int, height_px: int) -> int:
    """Dots an inch of the coarser side.

    >>> dpi(Placed(Fraction(300), Fraction(400), Fraction(0), Fraction(0), Fraction(254, 10), None), 300, 100)
    300
    """
    inch = Fraction(254, 10)
    return floor(min(inch * width_px / placed.w, inch * height_px / height(placed, width_px, height_px)))


def inside(placed: Placed, width_px: int, height_px: int) -> bool:
    """Whether all of it lies on the area, to 0.01 mm."""

    def cents(value: Fraction) -> int:
        return floor(value * EXACT + Fraction(1, 2))

    across = cents(placed.x + placed.w) <= cents(placed.area_w)
    return (
        cents(placed.x) >= 0
        and cents(placed.y) >= 0
        and across
        and cents(placed.y + height(placed, width_px, height_px)) <= cents(placed.area_h)
    )


def readable(pixels: Pixels, cloth: tuple[int, int, int]) -> Fraction:
    """The share of what is seen (by alpha) that stands out from the cloth, 0 to 1; nothing seen is nothing readable.

    pixels: RGBA of shape (…, 4), of at most a megapixel.
    """
    flat = pixels.reshape(-1, 4)
    codes = flat.astype(np.uint32) @ np.array([1 << 24, 1 << 16, 1 << 8, 1], dtype=np.uint32)
    kinds, counts = np.unique(codes[flat[:, 3] > 0], return_counts=True)
    if not len(kinds):
        return Fraction(0)
    rgb = np.stack([(kinds >> shift) & 255 for shift in (24, 16, 8)], axis=-1).astype(np.float64)
    alpha = (kinds & 255).astype(np.int64)
    ground = np.array(cloth, dtype=np.float64)
    share = alpha[:, None] / 255.0
    seen = rgb * share + ground * (1 - share)
    out = difference(lab(seen), lab(ground)) >= STANDS_OUT
    weights = alpha * counts
    return Fraction(int(weights[out].sum()), int(weights.sum()))


@dataclass(frozen=True)
class Limits:
    """dpi_least, dpi_good in dots an inch; read_least in percent."""

    dpi_least: Fraction
    dpi_good: Fraction
    read_least: Fraction


def check(placed: Placed, size: tuple[int, int], share: Fraction, limits: Limits) -> Checked:
    """All checks of one job. size: the artwork's pixels; share: as `readable` says."""
    dots, fits = dpi(placed, *size), inside(placed, *size)
    refused = dots < limits.dpi_least or not fits or share * 100 < limits.read_least
    outcome = Outcome.refused if refused else Outcome.soft if dots < limits.dpi_good else Outcome.ok
    return Checked(dots, fits, floor(share * 1000 + Fraction(1, 2)), outcome)


def reduction(width: int, height_px: int, most: int = 1_000_000) -> int:
    """The whole factor by which artwork is reduced until it is no more than a megapixel.

    >>> reduction(1700, 1300), reduction(1000, 1000)
    (2, 1)
    """
    factor = 1
    while -(-width // factor) * -(-height_px // factor) > most:
        factor += 1
    return factor
