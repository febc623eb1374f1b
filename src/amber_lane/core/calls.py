"""How often to look at each item where a supplier allows few calls (computation, section 5: calls plan).

Item i changes `rate` times a day, and being wrong about it costs `weight` a day. Looked at f times a day we are right for
the share (f / rate)(1 - exp(-rate / f)) of the time. The best f within a limit of calls has one price of a call for all items.
"""

from __future__ import annotations

import numpy as np

from .money import Floats

DAY = 86_400.0
# u = rate / f against what one more call is worth, h(u) = 1 - exp(-u)(1 + u): a table that is read backwards.
_U = np.geomspace(1e-7, 60.0, 40_000)
_H = -np.expm1(-_U) - _U * np.exp(-_U)


def right_share(rate: Floats, looks: Floats) -> Floats:
    """The share of the time that we are right about an item, 0 to 1; never looked at = 0, never changing = 1."""
    with np.errstate(divide="ignore", invalid="ignore"):
        u = np.where(rate > 0, rate / looks, 0.0)
        share = np.where(u > 1e-9, -np.expm1(-u) / u, 1.0)
    return np.asarray(np.where((looks <= 0) & (rate > 0), 0.0, share))


def stale_loss(rate: Floats, weight: Floats, looks: Floats) -> float:
    """Money a day that stale knowledge is expected to cost."""
    return float((weight * (1.0 - right_share(rate, looks))).sum())


def plan(rate: Floats, weight: Floats, calls: float, least: Floats) -> Floats:
    """Looks a day per item, for the least expected loss within `calls` a day.

    Shapes: columns of length n. rate: changes a day; weight: money a day while wrong; least: looks a day that each item gets
    in any case. Where `calls` does not even reach for these, all get the same part of them. Errors: ValueError for negative
    columns. Source: computation, section 5; solved by bisection over the price of a call.
    """
    if min(rate.min(initial=0), weight.min(initial=0), least.min(initial=0), calls) < 0:
        raise ValueError("rates, weights, least looks and calls cannot be negative")
    if not len(rate):
        return np.zeros(0)
    floor = float(least.sum())
    if floor >= calls:
        return np.asarray(least * (calls / floor if floor else 0.0))
    # What costs less than a billionth of a penny a day is not worth a call of its own.
    live = (rate > 1e-9) & (weight > 1e-9)
    if not live.any():
        return np.asarray(least + (calls - floor) / len(rate))
    # A call's price times rate / weight is what h(u) has to be.
    slope = rate[live] / weight[live]

    def looks(price: float) -> Floats:
        asked = np.minimum(price * slope, 2.0)
        u = np.interp(asked, _H, _U)
        # For very frequent looks h(u) is u^2 / 2, which no table reaches.
        u = np.where(asked < _H[200], np.sqrt(2 * asked), u)
        return np.asarray(np.maximum(np.where(asked >= _H[-1], 0.0, rate[live] / np.maximum(u, 1e-12)), least[live]))

    rest = calls - float(least[~live].sum())
    # At twice the price at which no look is worth its call there are none, however the last digits are rounded.
    low, high = 1e-15 / float(slope.max()), 2.0 / float(slope.min())
    for _ in range(70):
        middle = float(np.sqrt(low * high))
        if looks(middle).sum() > rest:
            low = middle
        else:
            high = middle
    # Very rare looks are all worth the same, so that at their price the sum leaps; what is left is shared on the way.
    out = np.asarray(least, dtype=np.float64).copy()
    few, many = looks(high), looks(low)
    leap = float((many - few).sum())
    out[live] = few + (many - few) * ((rest - float(few.sum())) / leap) if leap > 0 else few
    return out


def in_turn(n: int, calls: float) -> Floats:
    """Looks a day where every item has its turn."""
    return np.full(n, calls / n if n else 0.0)


def change_rates(changes: Floats, looks: Floats, days: Floats) -> Floats:
    """Changes a day of each item from what looks saw, shrunk to what its supplier's items do.

    changes: looks that found a change; looks: how many there were; days: over which time. A look tells only whether
    something changed since the last, so many changes behind one look count as what they were on average:
    -log(1 - share). An item without looks is taken to be like the others.
    """
    changes, looks = np.minimum(changes, looks), np.maximum(looks, 0.0)
    seen = looks > 0
    if not seen.any():
        return np.full(len(changes), 1.0)
    # Half a look without a change keeps the estimate finite where every look found one.
    true = np.where(seen, -np.log((looks - changes + 0.5) / (looks + 0.5)) * looks, 0.0)
    pooled = float(true[seen].sum() / max(days[seen].sum(), 1e-9))
    if pooled <= 0:
        return np.full(len(changes), 0.5 / max(float(days.sum()), 1.0))
    # How different the items are from one another says how far each is moved towards the rest (gamma prior, by moments).
    own = true[seen] / np.maximum(days[seen], 1e-9)
    noise = pooled / np.maximum(days[seen], 1e-9)
    spread = max(float(np.average((own - pooled) ** 2 - noise, weights=days[seen])), pooled**2 * 0.02)
    shape = pooled**2 / spread
    return np.asarray(np.where(seen, (true + shape) / (days + shape / pooled), pooled))
