"""How far a lane can be trusted, from what really happened (section 8)."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from .money import Floats, Ints

# A lane without a history of its own is taken to be like its supplier, as if that had been seen so many times.
LIKE_POOL = 8.0
LOW, HIGH, PROMISE = 0.05, 0.95, 0.9


@dataclass(frozen=True, slots=True)
class Share:
    """A share of what happened. good of count; mean and the interval (5 to 95 %) of what to expect, 0 to 1."""

    good: int
    count: int
    mean: float
    low: float
    high: float


@dataclass(frozen=True, slots=True)
class Days:
    """Days to the door. count parcels seen; usual: half arrive within; sure: nine in ten do. 0 = nothing is known."""

    count: int
    usual: int
    sure: int


def pooled(good: int, count: int) -> float:
    """What a supplier's pool says: its share, with one good and one bad thing more, so that it is never all or nothing.

    >>> pooled(0, 0), round(pooled(98, 98), 2)
    (0.5, 0.99)
    """
    return (good + 1) / (count + 2)


def shrunk(good: int, count: int, house_good: int, house_count: int) -> float:
    """A supplier's share, shrunk to the house's: with little history it is taken to be like all suppliers together.

    >>> shrunk(0, 0, 98, 98) > 0.98, 0.5 < shrunk(0, 2, 98, 98) < 0.9
    (True, True)
    """
    return (LIKE_POOL * pooled(house_good, house_count) + good) / (LIKE_POOL + count)


def share(good: int, count: int, pool_good: int, pool_count: int) -> Share:
    """A Beta posterior with the supplier's pool as its prior (a lane's own events are part of the pool).

    >>> one = share(40, 50, 95, 100)
    >>> 0.8 < one.mean < 0.95, one.low < one.mean < one.high
    (True, True)
    """
    if not 0 <= good <= count or not 0 <= pool_good <= pool_count:
        raise ValueError("good must lie between 0 and how many there were")
    one = np.array([[good], [count], [pool_good], [pool_count]], dtype=np.int64)
    mean, low, high = shares(*one)
    return Share(good, count, float(mean[0]), float(low[0]), float(high[0]))


def shares(good: Ints, count: Ints, pool_good: Ints, pool_count: Ints) -> tuple[Floats, Floats, Floats]:
    """`share` for columns of one length: mean, low and high of each."""
    # Loaded where it is used, since it takes as much memory as all that follows prices.
    from scipy.special import betaincinv

    middle = (pool_good + 1) / (pool_count + 2)
    weight = np.minimum(LIKE_POOL, pool_count + 2.0)
    a, b = weight * middle + good, weight * (1 - middle) + count - good
    return a / (a + b), betaincinv(a, b, LOW), betaincinv(a, b, HIGH)


def days(own: Sequence[int], pool: Sequence[int]) -> Days:
    """The distribution of a lane's days shrunk to its supplier's: each of the pool counts as LIKE_POOL / len(pool) of one.

    own, pool: whole days of parcels that arrived (at least 0).

    >>> days([], []), days([2] * 9 + [9], [2] * 9 + [9])
    (Days(count=0, usual=0, sure=0), Days(count=10, usual=2, sure=2))
    """
    if not own and not pool:
        return Days(0, 0, 0)
    weights: dict[int, float] = {}
    for one in own:
        weights[one] = weights.get(one, 0.0) + 1.0
    for one in pool:
        weights[one] = weights.get(one, 0.0) + LIKE_POOL / len(pool)
    total = sum(weights.values())

    def within(part: float) -> int:
        seen = 0.0
        for day in sorted(weights):
            seen += weights[day]
            if seen >= part * total - 1e-9:
                return day
        return max(weights)

    return Days(len(own), within(0.5), within(PROMISE))


def states_by_trust(decided: Ints, on_time: Floats, slow_below: Floats, answered: Ints, accepted: Floats, shut_below: Floats) -> list[str]:
    """Whether each lane is open, slow or shut by what happened: only where even the better end of the interval says so.

    on_time, accepted: those better ends, of so many decided and answered; slow_below, shut_below: the shares asked for.

    >>> one, late, good = np.array([1]), np.array([0.5]), np.array([0.99])
    >>> [states_by_trust(one, on_time, good, one, taken, good * 0.6)[0] for on_time, taken in ((good, good), (late, good), (late, late))]
    ['open', 'slow', 'shut']
    """
    state = np.where((decided > 0) & (on_time < slow_below), "slow", "open")
    return [str(one) for one in np.where((answered > 0) & (accepted < shut_below), "shut", state)]
