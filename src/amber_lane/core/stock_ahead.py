"""A SKU's stock in the days to come: what is expected, how sure that is, and the chance that nothing is left, day by day."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
LOW, HIGH = 0.1, 0.9
# A day sells more than that once in a million days.
_TAIL = 1e-6
# Beyond so many units they are counted in heaps, so that a large stock is no slower than a small one.
_CELLS = 1500


@dataclass(frozen=True)
class Ahead:
    """By day, the first one being the end of today. expected, low, high (one in ten is below, above): units; out: chance of none left."""

    expected: list[float]
    low: list[int]
    high: list[int]
    out: list[float]


def day_law(mean: float, variance: float) -> Floats:
    """P(0), P(1), … of a day's sales: Poisson where the variance is no larger than the mean, else the negative binomial with both."""
    from scipy.special import gammaln, xlogy

    if mean <= 0:
        return np.ones(1)
    most = int(mean + 12 * np.sqrt(max(mean, variance)) + 12)
    k = np.arange(most + 1, dtype=np.float64)
    if variance <= mean:
        law = np.exp(xlogy(k, mean) - mean - gammaln(k + 1))
    else:
        r, p = mean * mean / (variance - mean), mean / variance
        law = np.exp(gammaln(k + r) - gammaln(r) - gammaln(k + 1) + r * np.log(p) + k * np.log1p(-p))
    keep = int(np.searchsorted(np.cumsum(law), 1 - _TAIL)) + 1
    law = law[:keep]
    whole: Floats = law / law.sum()
    return whole


def ahead(there: int, arrivals: Mapping[int, int], laws: Sequence[Floats]) -> Ahead:
    """there: units that may be sold now; arrivals: day (0 = today) -> units that come in at its beginning; laws: of each day's sales.

    What nobody could have is not sold later: a stock that is out stays at nought until a load comes.
    """
    total = max(there, 0) + sum(arrivals.values())
    heap = max(1, -(-total // _CELLS))
    cells = total // heap + 2
    stock = np.zeros(cells)
    stock[min(round(max(there, 0) / heap), cells - 1)] = 1.0
    units = np.arange(cells) * heap
    expected, low, high, out = [], [], [], []
    for day, law in enumerate(laws):
        come = round(arrivals.get(day, 0) / heap)
        if come:
            stock = np.concatenate((np.zeros(come), stock[: cells - come]))
        stock = _sold(stock, _heaped(law, heap))
        summed = np.cumsum(stock)
        expected.append(float(stock @ units))
        low.append(int(units[min(int(np.searchsorted(summed, LOW)), cells - 1)]))
        high.append(int(units[min(int(np.searchsorted(summed, HIGH)), cells - 1)]))
        out.append(float(stock[0]))
    return Ahead(expected, low, high, out)


def _sold(stock: Floats, law: Floats) -> Floats:
    """After a day: what is asked for beyond the stock leaves nought."""
    whole = np.convolve(stock, law[::-1])
    left = len(law) - 1
    after: Floats = whole[left:].copy()
    after[0] += whole[:left].sum()
    return after


def _heaped(law: Floats, heap: int) -> Floats:
    """A day's law counted in heaps, its mean kept: units between two heaps are shared out to both."""
    if heap == 1:
        return law
    k = np.arange(len(law)) / heap
    down = np.floor(k).astype(int)
    part = k - down
    out = np.zeros(int(down[-1]) + 2)
    np.add.at(out, down, law * (1 - part))
    np.add.at(out, down + 1, law * part)
    return out


def first_day(out: Sequence[float], chance: float) -> int | None:
    """The first day on which it is out with more than this chance; None where there is none."""
    return next((day for day, one in enumerate(out) if one > chance), None)
