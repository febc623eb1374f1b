"""Cartons: how many units go into one, how a load is split into them, and the number (GS1 SSCC-18) that each carries."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from itertools import permutations

# Of a carton's room so much can be filled with goods.
FILLED = 0.9
# Numbers that begin so are anybody's own, for use among those who agreed on them; with a prefix of one's own they are unique worldwide.
OWN_USE = "0400000"


@dataclass(frozen=True)
class CartonLimits:
    """What one carton may be: grams with its goods, and the longest sides inside, mm, the longest first."""

    weight_g: int
    sides_mm: tuple[int, int, int]

    @property
    def litres(self) -> float:
        a, b, c = self.sides_mm
        return a * b * c / 1_000_000


@dataclass(frozen=True)
class Boxed:
    """One SKU in a load. inner: units that are packed together and stay so; carton: units that a carton is filled with, 0 = as many as fit;
    sides_mm: of one unit."""

    key: int
    units: int
    weight_g: int
    sides_mm: tuple[int, int, int]
    inner: int = 1
    carton: int = 0

    def most(self, limits: CartonLimits) -> int:
        """Units in a full carton; 0 where not even one pack goes in."""
        room = fits(limits, self.weight_g, self.sides_mm, self.inner)
        return min(room, self.carton // self.inner * self.inner or room) if self.carton else room


def fits(limits: CartonLimits, weight_g: int, sides_mm: Sequence[int], inner: int = 1) -> int:
    """Most units of one sort in a carton, whole inner packs; 0 where not even one inner pack goes in.

    >>> fits(CartonLimits(15_000, (600, 400, 400)), 400, (120, 100, 100))
    37
    >>> fits(CartonLimits(15_000, (600, 400, 400)), 400, (120, 100, 100), inner=6)
    36
    >>> fits(CartonLimits(15_000, (600, 400, 400)), 400, (700, 100, 100))
    0
    """
    if any(mine > room for mine, room in zip(sorted(sides_mm, reverse=True), limits.sides_mm, strict=True)):
        return 0
    by_weight = limits.weight_g // weight_g if weight_g > 0 else 10**6
    by_room = max(
        (limits.sides_mm[0] // a) * (limits.sides_mm[1] // b) * (limits.sides_mm[2] // c) for a, b, c in set(permutations(sides_mm))
    )
    return max(min(by_weight, by_room), 0) // inner * inner


def litres(sides_mm: Sequence[int]) -> float:
    a, b, c = sides_mm
    return a * b * c / 1_000_000


@dataclass(frozen=True)
class Carton:
    """holds: (key, units)."""

    holds: tuple[tuple[int, int], ...]
    weight_g: int


def pack(limits: CartonLimits, goods: Sequence[Boxed]) -> list[Carton]:
    """Split a load into cartons: full ones of one sort first, what is left over together where it fits by weight and room.

    ValueError where something goes into no carton, or its units are no whole inner packs.
    """
    full: list[Carton] = []
    rest: list[Boxed] = []
    for one in goods:
        most = one.most(limits)
        if not most:
            raise ValueError(f"{one.key}: one of it goes into no carton")
        if one.units % one.inner:
            raise ValueError(f"{one.key}: {one.units} are no whole packs of {one.inner}")
        whole, left = divmod(one.units, most)
        full += [Carton(((one.key, most),), most * one.weight_g)] * whole
        if left:
            rest.append(replace(one, units=left))
    return full + _together(limits, rest)


def _together(limits: CartonLimits, rest: Sequence[Boxed]) -> list[Carton]:
    """Left-overs, the largest first, each into the first carton that has room for all of it."""
    open_: list[tuple[list[tuple[int, int]], int, float]] = []
    room = limits.litres * FILLED
    for one in sorted(rest, key=lambda it: -litres(it.sides_mm) * it.units):
        weight, volume = one.weight_g * one.units, litres(one.sides_mm) * one.units
        for n, (holds, has, filled) in enumerate(open_):
            if has + weight <= limits.weight_g and filled + volume <= room:
                open_[n] = ([*holds, (one.key, one.units)], has + weight, filled + volume)
                break
        else:
            open_.append(([(one.key, one.units)], weight, volume))
    return [Carton(tuple(holds), weight) for holds, weight, _ in open_]


def sscc(prefix: str, serial: int) -> str:
    """The number of a carton: an extension digit, the company's GS1 prefix, a serial number, and the check digit; 18 digits.

    ValueError where the prefix has not 7 to 10 digits, or its serial numbers are used up.

    >>> sscc("0400000", 7)
    '004000000000000077'
    """
    if not (prefix.isascii() and prefix.isdecimal() and 7 <= len(prefix) <= 10):
        raise ValueError(f"{prefix!r} is no GS1 company prefix of 7 to 10 digits")
    room = 16 - len(prefix)
    if not 0 <= serial < 10 ** (room + 1):
        raise ValueError("the serial numbers of this GS1 prefix are used up")
    body = f"{serial // 10**room}{prefix}{serial % 10**room:0{room}d}"
    return body + str(gs1_check(body))


def gs1_check(body: str) -> int:
    """The check digit of a GS1 number without it.

    >>> gs1_check("34012345123456789"), gs1_check("629104150021")
    (5, 3)
    """
    return -sum(int(one) * (3 if n % 2 == 0 else 1) for n, one in enumerate(reversed(body))) % 10
