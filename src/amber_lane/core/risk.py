"""Money at risk per open trouble (computation, section 9), in minor units of one currency."""

from __future__ import annotations

import numpy as np

from .money import Ints
from .numbers import PPM, half_up


def oversell_a_day(pace_ppm: int, profit: int, refund_cost: int) -> int:
    """A listing on sale with nothing behind it: sales a day (ppm) x (refund cost + lost profit).

    refund_cost: what one refund costs beyond the lost profit, as the payment fee that is not given back and the handling.
    """
    return half_up(pace_ppm * (refund_cost + max(profit, 0)), PPM)


def waiting_order(profit: int, waited_hours: int, refund_cost: int) -> int:
    """An order that cannot go on: its profit, and the chance of a cancellation that grows by age.

    >>> waiting_order(500, 0, 150), waiting_order(500, 48, 150)
    (500, 590)
    """
    chance = min(waited_hours * PPM // 80, PPM)
    return max(profit, 0) + half_up(refund_cost * chance, PPM)


def sold_twice(pace_ppm: Ints, minutes: Ints) -> Ints:
    """Chance (ppm) of two sales or more within one sweep's interval, at a pace of sales a day in ppm.

    Sales come by themselves (Poisson): 1 - exp(-x) (1 + x). Source: computation, section 4.
    """
    x = pace_ppm / PPM * minutes / (24 * 60)
    return np.asarray(np.rint(-np.expm1(-x) * PPM - x * np.exp(-x) * PPM), dtype=np.int64)


# What share of late or lost parcels ends in a refund, as first guesses: at once, and more for every day that passes.
PARCEL_SHARES = {"unmoved": 150_000, "stuck": 200_000, "late": 80_000, "returned": PPM, "elsewhere": 700_000}
A_DAY_MORE = 50_000


def parcel_at_risk(trouble: str, days_late: int, paid: int, refund_cost: int) -> int:
    """Refunds expected for a parcel: its share, growing by a twentieth a day past the promise, of what was paid and a refund's cost.

    >>> parcel_at_risk("late", 0, 2000, 150), parcel_at_risk("late", 4, 2000, 150), parcel_at_risk("returned", 0, 2000, 150)
    (172, 602, 2150)
    """
    share = min(PARCEL_SHARES[trouble] + A_DAY_MORE * max(days_late, 0), PPM)
    return half_up((paid + refund_cost) * share, PPM)
