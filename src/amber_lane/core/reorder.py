"""When to send how many: reorder points from daily sales and lead times, economic quantities, whole cartons (section 13)."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from fractions import Fraction
from math import ceil, floor, sqrt


@dataclass(frozen=True)
class Stocked:
    """One SKU. demand: units of the days on which it could be sold; service: 0 to 1; money in one unit throughout; hold: what a year of
    holding costs, of its cost."""

    demand: tuple[Fraction, ...]
    lead_days: Fraction
    lead_sd: Fraction
    review_days: Fraction
    service: Fraction
    on_hand: int
    on_the_way: int
    owed: int
    carton_units: int
    min_units: int
    unit_cost: Fraction
    hold: Fraction
    order_cost: Fraction


@dataclass(frozen=True)
class Reorder:
    """mean: units a day; cover: days, tenths, half up and never below 0, None where nothing is sold."""

    mean: Fraction
    point: int
    position: int
    order: int
    cover: int | None


def moments(demand: Sequence[Fraction]) -> tuple[Fraction, Fraction]:
    """Mean and sample variance (0 with fewer than two days).

    >>> moments([Fraction(1), Fraction(3)])
    (Fraction(2, 1), Fraction(2, 1))
    """
    n = len(demand)
    if not n:
        return Fraction(0), Fraction(0)
    mean = sum(demand, Fraction(0)) / n
    return mean, sum(((one - mean) ** 2 for one in demand), Fraction(0)) / (n - 1) if n > 1 else Fraction(0)


def reorder(of: Stocked) -> Reorder:
    """What to do about one SKU now."""
    mean, variance = moments(of.demand)
    position = of.on_hand + of.on_the_way - of.owed
    point = reorder_point(mean, variance, of) if mean else 0
    order = 0
    if mean and position < point:
        wanted = max(ceil(max(float(point - position), economic(mean, of))), of.min_units)
        order = -(-wanted // of.carton_units) * of.carton_units
    cover = None if not mean else max(floor(Fraction(position) / mean * 10 + Fraction(1, 2)), 0)
    return Reorder(mean, point, position, order, cover)


def economic(mean: Fraction, of: Stocked) -> float:
    """The quantity at which ordering and holding cost least together; 0 where one of them costs nothing."""
    holding = of.unit_cost * of.hold
    return sqrt(float(2 * 365 * mean * of.order_cost / holding)) if holding > 0 and of.order_cost > 0 else 0.0


def reorder_point(mean: Fraction, variance: Fraction, of: Stocked) -> int:
    """The smallest stock that lasts until the next load with the wished probability."""
    span = of.lead_days + of.review_days
    mu, spread = mean * span, variance * span + mean**2 * of.lead_sd**2
    return smallest(cdf(mu, spread), float(of.service)) if mu else 0


def cdf(mu: Fraction, variance: Fraction) -> Callable[[int], float]:
    """P(demand <= k): Poisson where the spread is no larger than the mean, else the negative binomial with both."""
    from scipy.special import betainc, pdtr

    if variance <= mu:
        return lambda k: float(pdtr(k, float(mu)))
    r, p = float(mu * mu / (variance - mu)), float(mu / variance)
    return lambda k: float(betainc(r, k + 1, p))


def smallest(below: Callable[[int], float], service: float) -> int:
    """The smallest k >= 0 with below(k) >= service.

    >>> smallest(lambda k: 1 - 0.5 ** (k + 1), 0.75)
    1
    """
    if below(0) >= service:
        return 0
    low, high = 0, 1
    while below(high) < service:
        low, high = high, high * 2
    while high - low > 1:
        middle = (low + high) // 2
        low, high = (low, middle) if below(middle) >= service else (middle, high)
    return high
