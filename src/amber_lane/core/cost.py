"""Landed cost of one sold unit (computation, section 1)."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from decimal import Decimal

import numpy as np

from .money import Ints
from .numbers import PPM, half_up

_FACTOR = 10**12


@dataclass(frozen=True)
class Conversion:
    """From a supplier's currency into a store's: discount, rate and cushion as one exact factor.

    rate: store units per supplier unit (at most six decimals); cushion and discount in ppm.
    Minor digits of both currencies are part of the factor, so minor units go in and come out.
    """

    rate: Decimal = Decimal(1)
    cushion: int = 0
    discount: int = 0
    digits_from: int = 2
    digits_to: int = 2

    @property
    def factor(self) -> int:
        """The factor in units of 1e-12, exact to that place."""
        exact = self.rate * (PPM + self.cushion) * (PPM - self.discount)
        exact = exact.scaleb(self.digits_to - self.digits_from)
        value = int(exact.to_integral_value())
        if not 0 < value < 10**16:
            raise ValueError("an exchange rate must be more than 0 and less than 10,000")
        return value

    def apply(self, minor: Ints) -> Ints:
        """Convert a column of minor units (each at most 1e10), rounding half up once."""
        factor = self.factor
        if factor == _FACTOR:
            return minor
        high, low = divmod(factor, PPM)
        # Two halves keep amount x factor inside int64; the remainder below 1e-6 cannot move the rounding.
        return np.asarray((minor * high + (minor * low) // PPM + PPM // 2) // PPM, dtype=np.int64)


Tiers = Sequence[tuple[int, int]]
"""(from quantity, cost of one unit), in order; the item's own cost holds below the first."""

Bands = Sequence[tuple[int, int, int]]
"""(up to grams, first unit, each next), in order; heavier than the last one is not taken."""


def tier_cost(cost: int, tiers: Tiers, quantity: int) -> int:
    """Cost of one supplier unit when `quantity` are bought.

    >>> tier_cost(500, [(10, 450)], 9), tier_cost(500, [(10, 450)], 12)
    (500, 450)
    """
    for least, price in tiers:
        if quantity >= least:
            cost = price
    return cost


def believable_tiers(cost: int, tiers: Iterable[tuple[int, int]]) -> list[tuple[int, int]]:
    """Tiers as told, in order, or none at all where one of them makes no sense; the plain cost is the safe one.

    Quantities must be 2 or more and differ, costs must fall with the quantity and stay above a fifth of the plain cost.

    >>> believable_tiers(500, [(50, 400), (10, 450)]), believable_tiers(500, [(10, 1)])
    ([(10, 450), (50, 400)], [])
    """
    ordered, last = sorted(tiers), (1, cost)
    for least, price in ordered:
        if least <= last[0] or not 0 < price <= last[1] or price * 5 < cost:
            return []
        last = (least, price)
    return ordered


def band_at(bands: Bands, weight: int) -> tuple[int, int] | None:
    """First unit and each next for a parcel of `weight` grams; None when it is too heavy for the service.

    >>> band_at([(1000, 160, 55), (5000, 280, 90)], 1200), band_at([(1000, 160, 55)], 1200)
    ((280, 90), None)
    """
    return next(((first, following) for up_to, first, following in bands if weight <= up_to), None)


def landed_cost(item_cost: Ints, units_num: Ints, units_den: Ints, supplier_tax: Ints, ship: Ints, handling: Ints) -> Ints:
    """round_half_up(item_cost x units x (1 + tax)) + ship + handling, on columns.

    All in the store's minor units; units = units_num / units_den; supplier_tax in ppm.
    """
    return goods_cost(item_cost, units_num, units_den, supplier_tax) + ship + handling


def goods_cost(item_cost: Ints, units_num: Ints, units_den: Ints, supplier_tax: Ints) -> Ints:
    """The goods alone, with the supplier's tax, rounded half up once."""
    denominator = 2 * units_den * PPM
    return np.asarray((2 * item_cost * units_num * (PPM + supplier_tax) + units_den * PPM) // denominator, dtype=np.int64)


def packs_needed(quantity: int, units_num: int, units_den: int) -> int:
    """Whole supplier units that an order of `quantity` sold units makes us buy.

    >>> packs_needed(3, 1, 5), packs_needed(6, 1, 5), packs_needed(3, 2, 1)
    (1, 2, 6)
    """
    return -(-quantity * units_num // units_den)


def counted_units(num: Ints, den: Ints, usual: Ints) -> tuple[Ints, Ints]:
    """Supplier units that one sold unit is charged with, as (numerator, denominator): an order of the usual size buys whole units, and
    what is left over of them is worth nothing. usual: how many an order asks for, at least 1.

    >>> [column.tolist() for column in counted_units(np.array([1, 1, 2]), np.array([12, 5, 1]), np.array([1, 6, 3]))]
    [[1, 2, 2], [1, 6, 1]]
    """
    parted = den > 1
    return np.where(parted, -(-usual * num // den), num), np.where(parted, usual, den)


@dataclass(frozen=True)
class ParcelTerms:
    """What sending costs for one (order, supplier, origin); bands replace first and following where there are any."""

    handling: int
    first: int
    following: int
    free_over: int | None = None
    bands: tuple[tuple[int, int, int], ...] = ()

    def takes(self, weight: int) -> bool:
        """Whether a parcel of so many grams may go this way."""
        return not self.bands or band_at(self.bands, weight) is not None

    def cost(self, units: int, goods: int, weight: int = 0) -> int:
        """Handling plus shipping of `units` sold units whose goods cost `goods`; too heavy counts as the last band."""
        if self.free_over is not None and goods >= self.free_over:
            return self.handling
        first, following = self.first, self.following
        if self.bands:
            first, following = band_at(self.bands, weight) or self.bands[-1][1:]
        return self.handling + first + following * (units - 1)


def unit_bought(item_cost: int, tiers: Tiers, quantity: int, conversion: Conversion, tax: int) -> int:
    """What one supplier unit costs when `quantity` are bought: by its tier, converted, with the supplier's tax (ppm)."""
    return half_up(convert_one(tier_cost(item_cost, tiers, quantity), conversion) * (PPM + tax), PPM)


def convert_one(minor: int, conversion: Conversion) -> int:
    """`Conversion.apply` for a single amount."""
    return half_up(minor * conversion.factor, _FACTOR)
