"""Landed cost of one sold unit (computation, section 1)."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from decimal import Decimal

import numpy as np

from .money import PPM, Ints, half_up

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


def tier_cost(tiers: Sequence[tuple[int, int]], quantity: int) -> int:
    """Cost of one supplier unit when `quantity` are bought; tiers are (from quantity, cost), in order.

    >>> tier_cost([(1, 500), (10, 450)], 12)
    450
    """
    cost = tiers[0][1]
    for least, price in tiers:
        if quantity >= least:
            cost = price
    return cost


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


@dataclass(frozen=True)
class Parcel:
    """What sending costs for one (order, supplier, origin)."""

    handling: int
    first: int
    following: int
    free_over: int | None = None

    def cost(self, units: int, goods: int) -> int:
        """Handling plus shipping of `units` sold units whose goods cost `goods`."""
        if self.free_over is not None and goods >= self.free_over:
            return self.handling
        return self.handling + self.first + self.following * (units - 1)


def convert_one(minor: int, conversion: Conversion) -> int:
    """`Conversion.apply` for a single amount."""
    return half_up(minor * conversion.factor, _FACTOR)
