"""When to send how many, over many SKUs at once: the same answer as `reorder`, on columns, and what of it fits into a budget or a
container (section 13)."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]
Bools = NDArray[np.bool_]


@dataclass(frozen=True)
class Stocks:
    """One row a SKU. demand: [SKU, day], NaN where it could not be sold; boost: times its usual pace over the days that count; lead,
    lead_sd, review: days; service: 0 to 1; unit_cost, order_cost, keeps (what one sale leaves): money in one unit; hold: a year, of the
    cost; litres: of one unit."""

    demand: Floats
    boost: Floats
    lead: Floats
    lead_sd: Floats
    review: Floats
    service: Floats
    on_hand: Ints
    on_the_way: Ints
    owed: Ints
    carton: Ints
    least: Ints
    unit_cost: Floats
    hold: Floats
    order_cost: Floats
    keeps: Floats
    litres: Floats


@dataclass(frozen=True)
class Moments:
    """mean, variance: of a day; mu, spread: of all days until the next load after this one is there."""

    mean: Floats
    variance: Floats
    mu: Floats
    spread: Floats


@dataclass(frozen=True)
class Wanted:
    """point: reorder point; order: units, whole cartons, before any budget; out: the chance of running out before a load arrives
    that is ordered at the next look only; above what is allowed just where something is to be ordered now."""

    moments: Moments
    point: Ints
    position: Ints
    order: Ints
    out: Floats


@dataclass(frozen=True)
class Chosen:
    """What fits. order: units of each SKU; spent: money; litres; avoided: the contribution that is expected not to be lost by it."""

    order: Ints
    spent: float
    litres: float
    avoided: Floats


def moments(of: Stocks) -> Moments:
    """Mean and sample variance of the days on which it could be sold, and of the span that a reorder has to last for."""
    sold = ~np.isnan(of.demand)
    n = sold.sum(axis=1)
    plain = np.where(sold, of.demand, 0.0)
    mean = np.divide(plain.sum(axis=1), n, out=np.zeros(len(n)), where=n > 0)
    square = (np.where(sold, of.demand - mean[:, None], 0.0) ** 2).sum(axis=1)
    variance = np.divide(square, n - 1, out=np.zeros(len(n)), where=n > 1)
    mean, variance = mean * of.boost, variance * of.boost**2
    span = of.lead + of.review
    return Moments(mean, variance, mean * span, variance * span + mean**2 * of.lead_sd**2)


def below(k: Floats, mu: Floats, spread: Floats, more: int = 0) -> Floats:
    """P(demand <= k) by column; 0 below nought. more: of the law that is one step further on, by which part expectations are told."""
    from scipy.special import betainc, pdtr

    plain = spread <= mu
    # Where nothing is sold, nothing is asked of the law.
    safe_mu, over = np.where(mu > 0, mu, 1.0), np.where(plain, 1.0, spread - mu)
    r, p = safe_mu**2 / over, np.where(plain, 0.5, safe_mu / np.where(plain, 2 * safe_mu, spread))
    known = np.maximum(k, 0.0)
    found = np.where(plain, pdtr(known, safe_mu), betainc(r + more, known + 1, p))
    out: Floats = np.where(k < 0, 0.0, np.where(mu > 0, found, 1.0))
    return out


def points(of: Moments, service: Floats) -> Ints:
    """The smallest k with P(demand <= k) >= service, for each row; 0 where nothing is sold."""
    low, high = np.full(len(service), -1.0), np.maximum(np.ceil(of.mu), 1.0)
    open_ = of.mu > 0
    while True:
        short = open_ & (below(high, of.mu, of.spread) < service)
        if not short.any():
            break
        low[short], high[short] = high[short], high[short] * 2
    while (wide := open_ & (high - low > 1)).any():
        middle = np.floor((low + high) / 2)
        enough = below(middle, of.mu, of.spread) >= service
        high = np.where(wide & enough, middle, high)
        low = np.where(wide & ~enough, middle, low)
    return np.where(open_, high, 0).astype(np.int64)


def wanted(of: Stocks) -> Wanted:
    """What each SKU asks for by itself: the same as `core.reorder.reorder` says of it."""
    found = moments(of)
    position = of.on_hand + of.on_the_way - of.owed
    point = points(found, of.service)
    holding = of.unit_cost * of.hold
    formed = (holding > 0) & (of.order_cost > 0)
    economic = np.sqrt(np.divide(2 * 365 * found.mean * of.order_cost, holding, out=np.zeros(len(holding)), where=formed))
    units = np.maximum(np.ceil(np.maximum((point - position).astype(float), economic)), of.least)
    due = (found.mean > 0) & (position < point)
    order = np.where(due, np.ceil(units / of.carton) * of.carton, 0).astype(np.int64)
    out = np.where(found.mean > 0, 1.0 - below(position.astype(float), found.mu, found.spread), 0.0)
    return Wanted(found, point, position, order, out)


def served(k: Floats, mu: Floats, spread: Floats) -> Floats:
    """Expected units sold out of a stock of k: E[min(demand, k)], by the part expectation of each law."""
    plain = spread <= mu
    # Of the Poisson law the next one is itself with one less; of the negative binomial that with one success more.
    part = np.where(plain, below(k - 2, mu, spread), below(k - 2, mu, spread, more=1))
    out: Floats = np.where(k <= 0, 0.0, mu * part + k * (1.0 - below(k - 1, mu, spread)))
    return out


def choose(of: Stocks, ask: Wanted, budget: float | None = None, litres: float | None = None) -> Chosen:
    """What of all orders is taken within a budget and the room of one container: carton by carton, by the lost contribution that each is
    expected to avoid per money; the first step of a SKU is as large as its least order. None = no such bound."""
    rows = np.flatnonzero(ask.order > 0)
    if not len(rows):
        return Chosen(np.zeros(len(ask.order), dtype=np.int64), 0.0, 0.0, np.zeros(len(ask.order)))
    carton = of.carton[rows]
    first = np.maximum(-(-of.least[rows] // carton), 1)
    steps = np.maximum(ask.order[rows] // carton - first + 1, 1)
    row = np.repeat(rows, steps)
    nth = np.arange(len(row)) - np.repeat(np.cumsum(steps) - steps, steps)
    size = of.carton[row]
    before = np.where(nth == 0, 0, (np.repeat(first, steps) + nth - 1) * size)
    after = (np.repeat(first, steps) + nth) * size
    at = ask.position[row]
    mu, spread = ask.moments.mu[row], ask.moments.spread[row]
    gain = of.keeps[row] * (served((at + after).astype(float), mu, spread) - served((at + before).astype(float), mu, spread))
    units = after - before
    money, room = of.unit_cost[row] * units, of.litres[row] * units
    worth = _falling(np.divide(gain, money, out=np.full(len(row), _WORTH_MOST), where=money > 0), row)
    # Of two that are worth the same, the one that comes first in the list; a step never comes before the one that it builds on.
    ranked = np.lexsort((nth, row, -worth))
    taken = _fitting(ranked, row, money, room, budget, litres)
    order = np.zeros(len(ask.order), dtype=np.int64)
    avoided = np.zeros(len(ask.order))
    np.add.at(order, row[taken], units[taken])
    np.add.at(avoided, row[taken], gain[taken])
    return Chosen(order, float(money[taken].sum()), float(room[taken].sum()), avoided)


# What a unit of money can save at most, as far as anybody would tell two such steps apart.
_WORTH_MOST = 1e4


def _falling(worth: Floats, row: Ints) -> Floats:
    """Each step of a SKU is worth no more than the one before it; what arithmetic makes of next to nothing must not turn them round."""
    offset = (np.cumsum(np.diff(row, prepend=row[:1]) != 0)) * (_WORTH_MOST + 1)
    out: Floats = np.minimum.accumulate(np.clip(worth, 0.0, _WORTH_MOST) - offset) + offset
    return out


def _fitting(ranked: Ints, row: Ints, money: Floats, room: Floats, budget: float | None, litres: float | None) -> Ints:
    """Steps in their order as far as they fit; after one that does not, nothing more of the same SKU."""
    bounds = [(cost, bound) for cost, bound in ((money, budget), (room, litres)) if bound is not None]
    if not bounds:
        return ranked
    ends = [int(np.searchsorted(np.cumsum(cost[ranked]), bound, side="right")) for cost, bound in bounds]
    end = min(ends)
    taken, left = list(ranked[:end]), [bound - float(cost[ranked[:end]].sum()) for cost, bound in bounds]
    smallest = [float(cost.min()) for cost, _ in bounds]
    shut: set[int] = set()
    for one in ranked[end:]:
        if any(room_left < least for room_left, least in zip(left, smallest, strict=True)):
            break
        if int(row[one]) in shut:
            continue
        if all(cost[one] <= room_left for (cost, _), room_left in zip(bounds, left, strict=True)):
            taken.append(one)
            left = [room_left - float(cost[one]) for (cost, _), room_left in zip(bounds, left, strict=True)]
        else:
            shut.add(int(row[one]))
    return np.array(taken, dtype=np.int64)
