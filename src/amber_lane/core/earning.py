"""Luck and skill: how fast things sell, whether that rises or falls, and what is surely worse than its kind (section 11)."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from .money import Bools, Floats, Ints

RISING, FALLING = 0.9, 0.1
WORSE_TIMES, WORSE_SURE = 1.5, 0.95
# A unit's contribution is taken to be as planned, as if that had been seen so many times.
LIKE_PLAN = 5.0


@dataclass(frozen=True, slots=True)
class Prior:
    """A Gamma prior of paces: a units over b days."""

    a: float
    b: float


def gamma_prior(units: Ints, days: Ints) -> Prior:
    """The paces of a category as a Gamma distribution, by the method of moments. units sold over days on sale, one of each per SKU.

    What differs only as chance makes it differ (Poisson) is taken off the spread first.

    >>> same = gamma_prior(np.array([10, 10, 11, 9]), np.array([28, 28, 28, 28]))
    >>> round(float(same.a / same.b), 3)
    0.358
    """
    seen = days > 0
    n, t = units[seen].astype(np.float64), days[seen].astype(np.float64)
    total = t.sum()
    # Half a unit more than was seen, so that a category that never sold is slow, not impossible.
    mean = (n.sum() + 0.5) / (total + 1.0)
    if len(t) < 2:
        return Prior(1.0, 1.0 / mean)
    pace = n / t
    spread = float(np.sum(t * (pace - mean) ** 2) / total) - mean * len(t) / total
    # Goods of one category never sell all alike: at the least a spread of a third of the mean, at the most twice the mean.
    variance = float(np.clip(spread, (mean / 3) ** 2, 4 * mean**2))
    return Prior(mean**2 / variance, mean / variance)


def paces(prior: Prior, units: Ints, days: Ints) -> Floats:
    """Units a day to expect of each SKU, after so many in so many days on sale and in stock."""
    out: Floats = (prior.a + units) / (prior.b + days)
    return out


def chance_rising(prior: Prior, newer: Ints, newer_days: Ints, older: Ints, older_days: Ints) -> Floats:
    """The probability that the newer pace is greater, for each SKU.

    >>> round(float(chance_rising(Prior(1, 2), np.array([5]), np.array([28]), np.array([5]), np.array([28]))[0]), 3)
    0.5
    """
    from scipy.special import betainc

    fresh, past = prior.b + newer_days, prior.b + older_days
    out: Floats = 1.0 - betainc(prior.a + newer, prior.a + older, fresh / (fresh + past))
    return out


def unit_contribution(earned: Ints, units: Ints, planned: Floats) -> Floats:
    """What a unit leaves: the mean of the last ones, shrunk to the present plan. earned: of all of them together, minor units."""
    out: Floats = (earned + LIKE_PLAN * planned) / (units + LIKE_PLAN)
    return out


def usual_share(bad: int, count: int) -> float:
    """The share of a kind that is bad, where little was seen a little more than that.

    >>> round(usual_share(24, 2000), 4)
    0.0122
    """
    return (bad + 0.5) / (count + 1.0)


def surely_worse(bad: Ints, count: Ints, kind_bad: int, kind_count: int) -> Bools:
    """Which items' rate is above 1.5 times their kind's with a probability of 0.95.

    >>> surely_worse(np.array([9, 1]), np.array([60, 60]), 24, 2000).tolist()
    [True, False]
    """
    from scipy.special import betainc

    usual = usual_share(kind_bad, kind_count)
    weight = min(8.0, kind_count + 1.0)
    a, b = weight * usual + bad, weight * (1 - usual) + count - bad
    out: Bools = 1.0 - betainc(a, b, min(WORSE_TIMES * usual, 1.0)) >= WORSE_SURE
    return out
