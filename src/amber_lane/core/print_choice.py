"""Where artwork lies on each size, and which of its versions is printed on each colour (section 12).

Lengths are hundredths of a millimetre.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum
from fractions import Fraction
from math import ceil, floor

from .print_checks import Checked, Limits, Outcome, Placed, check

UNIT = 100
# What is asked for a vector drawing is as sharp as its house makes use of.
INCH = 2540


class PrintFault(StrEnum):
    """Why something may not be printed."""

    none = ""
    soft = "soft"
    outside = "outside"
    unreadable = "unreadable"
    no_version = "no_version"
    no_area = "no_area"


@dataclass(frozen=True)
class Spot:
    """Top left corner and width of artwork on its area."""

    x: int
    y: int
    w: int

    def height(self, width: int, height: int) -> int:
        """How high it is, of artwork of that shape."""
        return max(1, round(Fraction(self.w * height, width)))


@dataclass(frozen=True)
class Area:
    w: int
    h: int


@dataclass(frozen=True)
class Candidate:
    """A version of an artwork for one cloth. width, height: its shape (pixels, where it is no vector); share: what of it reads, 0 to 1.

    own: it is made for just this colour.
    """

    version: int
    width: int
    height: int
    share: Fraction
    vector: bool = False
    own: bool = False

    def pixels(self, w: int, best: int) -> tuple[int, int]:
        """How many pixels it has when it is w wide; a vector has as many as its house makes use of."""
        if not self.vector:
            return self.width, self.height
        across = max(1, ceil(w * best / INCH))
        return across, max(1, ceil(Fraction(across * self.height, self.width)))


@dataclass(frozen=True)
class Chosen:
    """What is printed, with its checks; version None where there is none to print."""

    version: int | None
    checked: Checked | None
    fault: PrintFault


def on_area(spot: Spot, shape: tuple[int, int], own: Area, area: Area, keep: str) -> Spot:
    """Where what was placed on one area lies on another one. keep: millimetres, or proportion (by the widths, no higher than fits).

    >>> on_area(Spot(400, 1200, 22400), (1, 1), Area(24000, 30000), Area(22000, 24000), "proportion")
    Spot(x=366, y=960, w=20533)
    """
    if keep == "millimetres" or own == area:
        return spot
    x, y = spot.x * area.w // own.w, spot.y * area.h // own.h
    w = spot.w * area.w // own.w
    # Higher than the room that is left only where it was so on its own area.
    if spot.y + spot.height(*shape) <= own.h:
        w = min(w, floor(Fraction((area.h - y) * shape[0], shape[1])))
    return Spot(x, y, max(w, 1))


def fitted(shape: tuple[int, int], area: Area) -> Spot:
    """As large as the area allows, in its middle.

    >>> fitted((100, 50), Area(20000, 30000))
    Spot(x=0, y=10000, w=20000)
    """
    w = min(area.w, floor(Fraction(area.h * shape[0], shape[1])))
    h = floor(Fraction(w * shape[1], shape[0]))
    return Spot((area.w - w) // 2, (area.h - h) // 2, w)


def choose(candidates: Sequence[Candidate], spot: Spot, area: Area | None, limits: Limits, best: int) -> Chosen:
    """The version for a colour: the one made for it, else the more readable one, then the one with more dots an inch; with its checks."""
    if area is None:
        return Chosen(None, None, PrintFault.no_area)
    if not candidates:
        return Chosen(None, None, PrintFault.no_version)
    judged = []
    for one in candidates:
        w, h, x, y, wide = (Fraction(value, UNIT) for value in (area.w, area.h, spot.x, spot.y, spot.w))
        placed = Placed(w, h, x, y, wide, Fraction(spot.height(one.width, one.height), UNIT))
        judged.append((one, check(placed, one.pixels(spot.w, best), one.share, limits)))
    own = [pair for pair in judged if pair[0].own] or judged
    version, done = max(own, key=lambda pair: (pair[0].share, pair[1].dpi))
    return Chosen(version.version, done, _fault(done, limits))


def _fault(done: Checked, limits: Limits) -> PrintFault:
    if done.outcome is not Outcome.refused:
        return PrintFault.none
    if done.dpi < limits.dpi_least:
        return PrintFault.soft
    return PrintFault.outside if not done.inside else PrintFault.unreadable
