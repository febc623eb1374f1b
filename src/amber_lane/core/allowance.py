"""Which listings show how many units where a store limits them, for the most expected profit (computation, section 4).

Each next unit of a listing is worth the chance that it sells before the next refresh (sales are Poisson) times its profit.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from .money import Bools, Ints

MOST_OF_ONE = 60
# Steps of bisection, and in how many of the last ones a plan is made.
_LAPS, _TRIED = 48, 16
# Below this, minor units, what a unit adds is noise of the figures.
WORTH_LEAST = 1e-9
Floats = np.ndarray[tuple[int], np.dtype[np.float64]]
Table = np.ndarray[tuple[int, int], np.dtype[np.float64]]


@dataclass(frozen=True)
class AllowancePlan:
    """units: how many each listing shows. worth: expected profit until the next refresh, minor units.

    gap: how much more the best plan could be worth at most; 0 where this one is proven to be the best.
    """

    units: Ints
    worth: float
    gap: float


def gains(pace: Floats, profit: Ints, most: Ints) -> Table:
    """What each next unit of each listing adds, minor units: shape (listings, units), falling along a row.

    pace: units expected to sell until the next refresh; profit: of one sale; most: how many there are to show.
    """
    wide = int(min(max(int(most.max(initial=0)), 0), MOST_OF_ONE))
    out = np.zeros((len(pace), wide))
    chance = np.exp(-pace)
    left = 1.0 - chance
    for unit in range(wide):
        gain = np.where(most > unit, left * profit, 0.0)
        out[:, unit] = np.where(gain > WORTH_LEAST, gain, 0.0)
        chance = chance * pace / (unit + 1)
        left = left - chance
    return out


def worth_of(units: Ints, gain: Table) -> float:
    """Expected profit when each listing shows so many."""
    shown = np.arange(gain.shape[1])[None, :] < units[:, None]
    return float((gain * shown).sum())


def plan(
    pace: Floats,
    profit: Ints,
    most: Ints,
    units_most: int | None,
    listings_most: int | None,
    price: Ints | None = None,
    value_most: int | None = None,
) -> AllowancePlan:
    """The plan of most expected profit. Only sales that leave something are shown.

    One limit of units or listings alone is solved exactly by marginal gain. With both, or with a limit of value (the prices of all
    units shown together, minor units), the price of what is scarce is found by bisection, and the gap to what could be better at
    most is told.
    """
    gain = gains(pace, profit, most)
    made = _limited(gain, units_most, listings_most)
    if price is None or value_most is None or int((made.units * price).sum()) <= value_most:
        return made
    return _by_value(gain, units_most, listings_most, price, value_most)


def _by_value(gain: Table, units_most: int | None, listings_most: int | None, price: Ints, value_most: int) -> AllowancePlan:
    """Within a limit of value: a unit counts what it adds less what its price takes of the limit; the rate of that is bisected."""
    each = np.maximum(price, 1).astype(np.float64)
    low, high, bound = 0.0, float((gain[:, 0] / each).max(initial=0.0)), np.inf
    best, worth = np.zeros(len(gain), dtype=np.int64), 0.0
    for _ in range(_LAPS):
        rate = (low + high) / 2
        made = _limited(np.maximum(gain - rate * each[:, None], 0.0), units_most, listings_most)
        bound = min(bound, made.worth + made.gap + rate * value_most)
        if int((made.units * price).sum()) > value_most:
            low = rate
            continue
        high = rate
        if (value := worth_of(made.units, gain)) > worth:
            best, worth = made.units, value
    best = _fill_up(best, gain, units_most, listings_most, price, value_most)
    worth = worth_of(best, gain)
    return AllowancePlan(best, worth, max(bound - worth, 0.0) if bound - worth > 1e-6 * max(worth, 1.0) else 0.0)


def _fill_up(units: Ints, gain: Table, units_most: int | None, listings_most: int | None, price: Ints, value_most: int) -> Ints:
    """What is left of the limits goes to the next units that add most for their price, as long as any fits."""
    units, left = units.copy(), value_most - int((units * price).sum())
    rows = np.arange(len(gain))
    while True:
        at = np.minimum(units, gain.shape[1] - 1)
        adds = np.where(units < gain.shape[1], gain[rows, at], 0.0)
        fits = (adds > 0) & (price <= left)
        if units_most is not None and int(units.sum()) >= units_most:
            return units
        if listings_most is not None and int((units > 0).sum()) >= listings_most:
            fits &= units > 0
        if not fits.any():
            return units
        one = int(np.argmax(np.where(fits, adds / np.maximum(price, 1), -1.0)))
        units[one] += 1
        left -= int(price[one])


def _limited(gain: Table, units_most: int | None, listings_most: int | None) -> AllowancePlan:
    wanted = gain > 0
    if not wanted.any():
        return AllowancePlan(np.zeros(len(gain), dtype=np.int64), 0.0, 0.0)
    if listings_most is None or int(wanted[:, 0].sum()) <= listings_most:
        units = _by_gain(gain, wanted, units_most)
        return AllowancePlan(units, worth_of(units, gain), 0.0)
    if units_most is None:
        best = _best_rows(gain.sum(axis=1), listings_most)
        units = np.where(best, wanted.sum(axis=1), 0).astype(np.int64)
        return AllowancePlan(units, worth_of(units, gain), 0.0)
    return _both(gain, units_most, listings_most)


def _by_gain(gain: Table, allowed: Bools, units_most: int | None) -> Ints:
    """The units of highest gain, as many as may be shown; gains fall along a row, so these are always a row's first ones."""
    flat = np.flatnonzero(allowed)
    if units_most is not None and len(flat) > units_most:
        order = np.argsort(-gain.ravel()[flat], kind="stable")
        flat = flat[order[: max(units_most, 0)]]
    return np.bincount(flat // gain.shape[1], minlength=len(gain)).astype(np.int64)


def _best_rows(value: Floats, count: int) -> Bools:
    out = np.zeros(len(value), dtype=np.bool_)
    out[np.argsort(-value, kind="stable")[: max(count, 0)]] = True
    return np.asarray(out & (value > 0), dtype=np.bool_)


def _both(gain: Table, units_most: int, listings_most: int) -> AllowancePlan:
    """Both limits: for each price of a unit the best listings are those of most surplus; the price that uses all units is best."""
    low, high, bound = 0.0, float(gain.max()), np.inf
    best, worth = np.zeros(len(gain), dtype=np.int64), -1.0
    for lap in range(_LAPS):
        price = (low + high) / 2
        surplus = np.maximum(gain - price, 0.0).sum(axis=1)
        rows = _best_rows(surplus, listings_most)
        used = int(((gain > price) & rows[:, None]).sum())
        # Whatever the price, this is never less than the best plan.
        bound = min(bound, float(surplus[rows].sum()) + price * units_most)
        if lap >= _LAPS - _TRIED:
            # Giving the units out is the dear part, and worth it only where the price has nearly settled.
            units = _by_gain(gain, (gain > 0) & rows[:, None], units_most)
            value = worth_of(units, gain)
            if value > worth:
                best, worth = units, value
        if used > units_most:
            low = price
        else:
            high = price
    return AllowancePlan(best, worth, max(bound - worth, 0.0) if bound - worth > 1e-6 * max(worth, 1.0) else 0.0)
