"""The lowest allowed price that meets each condition (computation, section 3).

profit(p) is not monotone: each rounded part steps on its own, and a fee with a least or a cap
bends the line. So a condition's lowest price is not solved in closed form. The unrounded line
gives two prices, one that no answer lies under and one from which on the condition always holds;
where an allowed price lies between the two, an exact walk upward decides, and that walk can never
step over an answer. Floats only ever place the walk: whatever they say is checked in whole pennies.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from .money import Bools, Floats, Ints
from .numbers import PPM
from .terms import NONE, PAST, PRICE_MAX, Endings, Limits, Rule, Terms, proceeds

_BLOCK = 1 << 14
# Four roundings move profit by at most two minor units; a little more pays for the floats.
_ROUNDED = 2.05
_FLAT = 1e-6


@dataclass(frozen=True)
class Want:
    """profit x PPM - share x net - amount >= 0 for the rows where it is set; None = nothing asked of that kind."""

    set: Bools
    share: Ints | None
    amount: Ints | None

    def gap(self, price: Ints, terms: Terms, rows: Ints | slice) -> Ints:
        """How far above (or, below zero, under) what is asked the given rows are, in ppm of a minor unit."""
        kept = proceeds(price, terms)
        gap = kept.profit * PPM
        if self.share is not None:
            gap -= self.share[rows] * kept.net
        if self.amount is not None:
            gap -= self.amount[rows]
        return gap


@dataclass(frozen=True)
class Asked:
    """All conditions of n rows: floors are known exactly, wants have to be looked for.

    own: for rule, least margin, least profit and least price the lowest allowed price; 0 where it is not set.
    high: for the three wants a price from which on the condition always holds; 0 where it is not set.
    """

    own: list[Ints]
    high: list[Ints]
    wants: list[Want]


def lowest(terms: Terms, limits: Limits, endings: Endings, every: bool = True) -> Asked:
    """Each condition's own lowest allowed price, `PAST` where there is none.

    Shapes: columns of length n. Units: minor units. With `every` false, a condition that another
    one certainly outbids is left at a price no higher than its true one. Source: computation, section 3.
    """
    wants, floor = _wants(terms, limits)
    own, high = _bounds(wants, terms, limits, endings)
    if floor is not None:
        own[0] = np.maximum(own[0], np.where(floor > 0, np.minimum(endings.at_or_above(floor, limits.endings), PAST), 0))
    least = limits.least_price
    own.append(np.where(least == NONE, 0, np.minimum(endings.at_or_above(np.maximum(least, 1), limits.endings), PAST)))
    # An allowed price under the highest of the own ones from which a condition already holds: it is outbid.
    top = np.maximum(np.maximum(own[0], own[1]), np.maximum(own[2], own[3]))
    before = None if every else endings.at_or_under(np.maximum(top, 1) - 1, limits.endings)
    places, rows = [], []
    for place in range(3):
        open_ = high[place] > own[place]
        if before is not None:
            open_ &= high[place] > before
        found = np.flatnonzero(open_)
        rows.append(found)
        places.append(np.full(len(found), place))
    _search(wants, np.concatenate(places), np.concatenate(rows), terms, limits.endings, endings, own)
    return Asked(own, high, wants)


def meet_all(price: Ints, asked: Asked, terms: Terms, limits: Limits, endings: Endings) -> Ints:
    """Walk on until every condition holds at once, for the rows where the highest one breaks another."""
    while True:
        moved = False
        for place, want in enumerate(asked.wants):
            rows = np.flatnonzero((asked.high[place] > price) & (asked.own[place] != price) & (price <= PRICE_MAX))
            if not len(rows):
                continue
            short = rows[want.gap(price[rows], terms.take(rows), rows) < 0]
            if len(short):
                own = asked.own[place].copy()
                own[short] = price[short]
                _search([want], np.zeros(len(short), dtype=np.int64), short, terms, limits.endings, endings, [own])
                price[short] = own[short]
                moved = True
        if not moved:
            return price


def _wants(terms: Terms, limits: Limits) -> tuple[list[Want], Ints | None]:
    """The three conditions on profit, and the price under which the rule never goes where it is a plain floor."""
    rule, value = limits.rule, limits.rule_value
    adds, times = rule == Rule.add, rule == Rule.multiple
    floor = None
    by_floor = adds | times
    if by_floor.any():
        floor = np.where(adds, terms.landed + value, -(-terms.landed * value // PPM))
        floor = np.where(by_floor, np.maximum(floor, 1), 0)
    ret = rule == Rule.ret
    wants = [
        Want(
            ~by_floor & (rule != Rule.unset),
            np.where(rule == Rule.margin, value, 0),
            terms.landed * np.where(ret, value, 0) if ret.any() else None,
        ),
        _limit(limits.min_margin, 1, True),
        _limit(limits.min_profit, PPM, False),
    ]
    return wants, floor


def _limit(column: Ints, scale: int, share: bool) -> Want:
    there = column != NONE
    value = np.where(there, column, 0) * scale
    return Want(there, value, None) if share else Want(there, None, value)


def _bounds(wants: list[Want], terms: Terms, limits: Limits, endings: Endings) -> tuple[list[Ints], list[Ints]]:
    """Per want: the first allowed price that is not ruled out, and a price from which on it always holds.

    The fee is the middle one of its least, its share of the price and its cap, so the unrounded
    line meets a need x at min((x + cap) / slope, max((x + least) / slope, x / (slope - fee))).
    """
    part, kept_of = 1e-6, PPM / (PPM + terms.tax)
    taken, fee = (terms.payment + terms.reserve) * part, terms.fee * part
    cap = np.where(terms.fee_cap == NONE, np.inf, terms.fee_cap)
    least = np.minimum(terms.fee_least, cap)
    base = (terms.landed + terms.fee_fixed + terms.payment_fixed) - _ROUNDED
    own, highs = [], []
    for want in wants:
        slope = kept_of - taken if want.share is None else (1.0 - want.share * part) * kept_of - taken
        steep = slope - fee
        need = base if want.amount is None else base + want.amount * part
        if steep.min(initial=1.0) > _FLAT:
            found = np.minimum((need + cap) / slope, np.maximum((need + least) / slope, need / steep))
            beyond = found + 2 * _ROUNDED / steep
        else:
            found, beyond = _flat_lines(need, slope, steep, cap, least)
        low = np.minimum(np.maximum(found, 1.0), PAST).astype(np.int64)
        high = np.minimum(np.maximum(beyond, 1.0), PAST).astype(np.int64) + 1
        own.append(np.where(want.set, endings.at_or_above(low, limits.endings), 0))
        highs.append(np.where(want.set, high, 0))
    return own, highs


def _flat_lines(need: Floats, slope: Floats, steep: Floats, cap: Floats, least: Floats) -> tuple[Floats, Floats]:
    """The same where fees eat nearly all, or more than all, of each further penny."""
    with np.errstate(divide="ignore", invalid="ignore"):
        rises, sure = slope > 1e-12, steep > _FLAT
        middle = np.where(steep > 1e-12, need / steep, np.where(need > 0, np.inf, 0.0))
        found = np.minimum((need + cap) / slope, np.maximum((need + least) / slope, middle))
        found = np.where(rises, found, np.where(need + least <= 0, 0.0, PAST))
        found = np.nan_to_num(found, nan=0.0, posinf=PAST)
        return found, np.where(sure, found + 2 * _ROUNDED / np.where(sure, steep, 1.0), PAST)


def _search(wants: list[Want], place: Ints, rows: Ints, terms: Terms, which: Ints, endings: Endings, own: list[Ints]) -> None:
    """Walk from `own` up to the first allowed price that meets the condition, for pairs of a row and a want; in place."""
    if not len(rows):
        return
    sets, part = which[rows], terms.take(rows)
    share, amount = np.zeros(len(rows), dtype=np.int64), np.zeros(len(rows), dtype=np.int64)
    price = np.zeros(len(rows), dtype=np.int64)
    for number, want in enumerate(wants):
        mine = slice(*np.searchsorted(place, [number, number + 1]).tolist())
        price[mine] = own[number][rows[mine]]
        for column, values in ((share, want.share), (amount, want.amount)):
            if values is not None:
                column[mine] = values[rows[mine]]
    price = endings.at_or_above(price, sets)
    done = np.full(len(rows), PAST, dtype=np.int64)
    one = Want(done > 0, share, amount)
    active = np.flatnonzero(price <= PRICE_MAX)
    # A penny more of price adds at most one penny of net, so a shortfall tells how far one may jump.
    most = np.maximum(PPM - share, 1)
    for _ in range(200):
        if not len(active):
            break
        now = price[active]
        gap = one.gap(now, part.take(active) if len(active) < len(rows) else part, active)
        met = gap >= 0
        done[active[met]] = now[met]
        active, now, gap = active[~met], now[~met], gap[~met]
        ahead = np.minimum(now - gap // most[active], PAST)
        price[active] = endings.at_or_above(ahead, sets[active])
        active = active[price[active] <= PRICE_MAX]
    for i in active.tolist():
        done[i] = _scan(one, part.take(np.array([i])), int(price[i]), int(sets[i]), endings, i)
    for number in range(len(wants)):
        mine = slice(*np.searchsorted(place, [number, number + 1]).tolist())
        own[number][rows[mine]] = done[mine]


def _scan(want: Want, terms: Terms, start: int, which: int, endings: Endings, row: int) -> int:
    """The last resort for a line that is nearly flat: look at every price, a block at a time."""
    while start <= PRICE_MAX:
        block = np.arange(start, min(start + _BLOCK, PAST), dtype=np.int64)
        block = block[endings.at_or_above(block, np.full(len(block), which)) == block]
        if len(block):
            index = np.zeros(len(block), dtype=np.int64)
            good = want.gap(block, terms.take(index), index + row) >= 0
            if good.any():
                return int(block[good.argmax()])
        start += _BLOCK
    return PAST
