"""The price (computation, section 3): the smallest allowed one that meets every condition, then ceiling and step.

Conditions are looked for in `lowest`, what a price is made of stands in `terms`. The columns are
worked through a block at a time, so that what is in hand stays in the processor's own memory.
"""

from __future__ import annotations

from dataclasses import dataclass, fields, replace
from typing import TypeVar

import numpy as np

from .currency import AMOUNT_MAX
from .lowest import Asked, lowest, meet_all
from .money import Ints
from .numbers import PPM
from .terms import NONE, PAST, PRICE_MAX, Endings, Limits, Outcome, Proceeds, Rule, SetBy, Terms, proceeds

__all__ = [
    "NONE",
    "PAST",
    "PRICE_MAX",
    "Endings",
    "Limits",
    "Outcome",
    "Priced",
    "Proceeds",
    "Rule",
    "SetBy",
    "Terms",
    "lowest",
    "margin_hundredths",
    "proceeds",
    "solve",
    "without_endings",
]

_BLOCK = 16_000
C = TypeVar("C", Terms, Limits)


@dataclass(frozen=True)
class Priced:
    """The answer, columns of length n; `price` is NONE where there is none. needed: the price before ceiling and step."""

    price: Ints
    needed: Ints
    set_by: Ints
    outcome: Ints
    kept: Proceeds


def solve(terms: Terms, limits: Limits, endings: Endings) -> Priced:
    """The price of every row.

    Shapes: all columns have length n. Units: minor units and ppm. Errors: ValueError when an
    amount lies outside +-1e10 or a rate outside 0 to 100 times, where int64 would not be exact.
    Source: computation, section 3.
    """
    n = len(terms.landed)
    if n <= _BLOCK:
        return _solve(terms, limits, endings)
    parts = [_solve(_rows(terms, at), _rows(limits, at), endings) for at in range(0, n, _BLOCK)]
    kept = Proceeds(*(np.concatenate([getattr(part.kept, f.name) for part in parts]) for f in fields(Proceeds)))
    names = ("price", "needed", "set_by", "outcome")
    price, needed, set_by, outcome = (np.concatenate([getattr(part, name) for part in parts]) for name in names)
    return Priced(price, needed, set_by, outcome, kept)


def _rows(columns: C, at: int) -> C:
    return type(columns)(*(getattr(columns, f.name)[at : at + _BLOCK] for f in fields(columns)))


def _solve(terms: Terms, limits: Limits, endings: Endings) -> Priced:
    _check(terms, limits)
    asked = lowest(terms, limits, endings, every=False)
    price, set_by = _highest(asked)
    price = meet_all(price, asked, terms, limits, endings)
    none = price > PRICE_MAX
    if none.any():
        price[none] = 1
        set_by[none] = SetBy.nothing
    needed = price.copy()

    # Ceiling first; the step only for what the ceiling left alone.
    over = (limits.ceiling != NONE) & (price > limits.ceiling) & ~none
    capped = endings.at_or_under(limits.ceiling, limits.endings)
    no_room = over & (capped < 1)
    lowered = over & ~no_room
    price = np.where(lowered, capped, price)
    set_by[over] = SetBy.ceiling

    stepped = (limits.old != NONE) & (limits.step != NONE) & ~(none | over)
    old, step = np.where(stepped, limits.old, 1), np.where(stepped, limits.step, 0)
    high = old * (PPM + step) // PPM
    low = -(-old * np.maximum(PPM - step, 0) // PPM)
    rising = stepped & (price > high)
    under = endings.at_or_under(high, limits.endings)
    stuck = rising & (under < 1)
    lowered |= rising & ~stuck
    falling = stepped & (price < low)
    above = endings.at_or_above(np.maximum(low, 1), limits.endings)
    falling &= (limits.ceiling == NONE) | (above <= limits.ceiling)
    price = np.where(rising & ~stuck, under, np.where(falling, above, price))
    set_by[rising | falling] = SetBy.step

    kept = proceeds(price, terms)
    outcome = np.zeros(len(price), dtype=np.int64)
    at = np.flatnonzero(lowered)
    outcome[at[_breaks(asked, kept, limits, at)]] = Outcome.held
    outcome[lowered & (kept.profit < 0)] = Outcome.loss
    outcome[stuck] = Outcome.held
    gone = none | no_room
    outcome[gone] = Outcome.no_price
    unset = limits.rule == Rule.unset
    outcome[unset], set_by[unset] = Outcome.no_rule, SetBy.nothing
    price[gone | unset] = NONE
    return Priced(price, needed, set_by, outcome, kept)


def _highest(asked: Asked) -> tuple[Ints, Ints]:
    """The highest of the conditions' own prices and the first one that asks for it; at least one minor unit."""
    price = asked.own[0].copy()
    set_by = np.zeros(len(price), dtype=np.int64)
    for place in (1, 2, 3):
        set_by[asked.own[place] > price] = place
        np.maximum(price, asked.own[place], out=price)
    return np.maximum(price, 1), set_by


def _breaks(asked: Asked, kept: Proceeds, limits: Limits, rows: Ints) -> Ints:
    """Which of the rows, lowered by a limit, break a condition other than the rule."""
    price, profit, net = kept.price[rows], kept.profit[rows], kept.net[rows]
    least, margin, least_profit = limits.least_price[rows], limits.min_margin[rows], limits.min_profit[rows]
    broken = (least != NONE) & (price < least)
    broken |= (margin != NONE) & (profit * PPM < np.where(margin == NONE, 0, margin) * net)
    return np.asarray(broken | ((least_profit != NONE) & (profit < least_profit)))


def _check(terms: Terms, limits: Limits) -> None:
    amounts = (terms.landed, terms.fee_least, terms.fee_cap, terms.fee_fixed, terms.payment_fixed)
    for column in (*amounts, limits.min_profit, limits.least_price, limits.ceiling, limits.old):
        if _outside(column, -AMOUNT_MAX, AMOUNT_MAX):
            raise ValueError("an amount lies outside what can be computed exactly (100,000,000.00)")
    rates = (terms.fee, terms.payment, terms.reserve, terms.tax, limits.min_margin, limits.step)
    for column in (*rates, np.where(limits.rule == Rule.add, 0, limits.rule_value)):
        if _outside(column, 0, 100 * PPM):
            raise ValueError("a rate lies outside 0 to 10,000 %")


def _outside(column: Ints, low: int, high: int) -> bool:
    """Whether a value that is set lies outside the bounds."""
    if column.max(initial=low) > high:
        return True
    under = column < low
    return bool(under.any()) and int(np.count_nonzero(under)) != int(np.count_nonzero(column == NONE))


def margin_hundredths(profit: int, net: int) -> int | None:
    """Margin in hundredths of a percent, half up; None where nothing is left after tax."""
    return (2 * profit * 10_000 + net) // (2 * net) if net > 0 else None


def without_endings(limits: Limits) -> Limits:
    """The same limits with every price allowed: shows how low each condition alone would go."""
    return replace(limits, endings=np.zeros_like(limits.endings))
