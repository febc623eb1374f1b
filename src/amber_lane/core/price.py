"""What we keep at a price, and the price itself (computation, sections 2 and 3).

One formula on NumPy columns of int64 serves one listing and a million. Money is in minor units
of one currency per row, rates are in parts per million. A missing value is `NONE`.

profit(p) is not monotone: each rounded part steps on its own, and a fee with a least or a cap
bends the line. So a condition's smallest price is not solved in closed form but found: a bound
from the unrounded line, then an exact walk upward that can never step over an answer.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, fields, replace
from enum import IntEnum

import numpy as np

from .money import AMOUNT_MAX, PPM, Bools, Ints

NONE = int(np.iinfo(np.int64).min)
PRICE_MAX = 1_000_000_000
_PAST = PRICE_MAX + 1
_BLOCK = 1 << 14


class Rule(IntEnum):
    """How the rule asks for a price; its value is ppm, but minor units for `add`."""

    multiple = 0
    add = 1
    margin = 2
    ret = 3

    @property
    def label(self) -> str:
        return "return" if self is Rule.ret else self.name

    @classmethod
    def named(cls, name: str) -> Rule:
        """The rule of that name in a sheet; ValueError lists the names."""
        try:
            return {rule.label: rule for rule in cls}[name]
        except KeyError:
            raise ValueError(f"rule: {name!r} is not one of multiple, add, margin, return") from None


class SetBy(IntEnum):
    """Which condition or limit set the price."""

    nothing = -1
    rule = 0
    min_margin = 1
    min_profit = 2
    least_price = 3
    ceiling = 4
    step = 5


class Outcome(IntEnum):
    ok = 0
    held = 1
    loss = 2
    no_price = 3


class Endings:
    """Allowed minor parts as look-up tables. Set 0 allows every price."""

    def __init__(self, sets: Sequence[Sequence[int]] = ()) -> None:
        self._index: dict[tuple[int, ...], int] = {(): 0}
        self._up = [np.zeros(100, dtype=np.int64)]
        self._down = [np.zeros(100, dtype=np.int64)]
        self._flat: tuple[int, Ints, Ints] | None = None
        for one in sets:
            self.add(one)

    def add(self, endings: Sequence[int]) -> int:
        """The number of a set of endings, entered on first use; ValueError outside 0 to 99."""
        key = tuple(sorted(set(endings)))
        if any(not 0 <= e <= 99 for e in key):
            raise ValueError("endings: each must be a minor part from 0 to 99")
        if key not in self._index:
            rest = np.arange(100)
            ends = np.array(key)
            self._up.append(((ends[None, :] - rest[:, None]) % 100).min(axis=1).astype(np.int64))
            self._down.append(((rest[:, None] - ends[None, :]) % 100).min(axis=1).astype(np.int64))
            self._index[key] = len(self._up) - 1
        return self._index[key]

    def _tables(self) -> tuple[Ints, Ints]:
        """All sets behind one another, so that one look-up serves rows of different sets."""
        if self._flat is None or self._flat[0] != len(self._up):
            self._flat = (len(self._up), np.concatenate(self._up), np.concatenate(self._down))
        return self._flat[1:]

    @property
    def count(self) -> int:
        return len(self._up)

    def listed(self, which: int) -> list[int]:
        """The minor parts of one set."""
        return list(list(self._index)[which])

    def at_or_above(self, price: Ints, which: Ints) -> Ints:
        """The smallest allowed price that is not under `price`."""
        if len(self._up) == 1:
            return price
        return np.asarray(price + self._tables()[0][which * 100 + price % 100], dtype=np.int64)

    def at_or_under(self, price: Ints, which: Ints) -> Ints:
        """The largest allowed price that is not over `price`; below 1 where there is none."""
        if len(self._down) == 1:
            return price
        return np.asarray(price - self._tables()[1][which * 100 + price % 100], dtype=np.int64)


@dataclass(frozen=True)
class Terms:
    """Columns of length n that say what a store takes and what a unit costs."""

    landed: Ints
    reserve: Ints
    fee: Ints
    fee_least: Ints
    fee_cap: Ints
    fee_fixed: Ints
    payment: Ints
    payment_fixed: Ints
    tax: Ints

    def take(self, rows: Bools | Ints) -> Terms:
        return Terms(*(getattr(self, f.name)[rows] for f in fields(self)))


@dataclass(frozen=True)
class Kept:
    """What becomes of a price: columns that add up, price = tax + fee + payment + reserve + landed + profit."""

    price: Ints
    tax: Ints
    net: Ints
    fee: Ints
    payment: Ints
    reserve: Ints
    profit: Ints


def keep(price: Ints, terms: Terms) -> Kept:
    """Section 2 for a column of prices."""
    scale = PPM + terms.tax
    tax = (2 * price * terms.tax + scale) // (2 * scale) if terms.tax.any() else np.zeros_like(price)
    net = price - tax
    fee = np.maximum(terms.fee_least, (price * terms.fee + PPM // 2) // PPM)
    fee = np.where(terms.fee_cap == NONE, fee, np.minimum(terms.fee_cap, fee)) + terms.fee_fixed
    payment = (price * terms.payment + PPM // 2) // PPM + terms.payment_fixed
    reserve = (price * terms.reserve + PPM // 2) // PPM
    return Kept(price, tax, net, fee, payment, reserve, net - fee - payment - reserve - terms.landed)


@dataclass(frozen=True)
class Limits:
    """Columns of length n that say how the price is made; `endings` are numbers of sets in `Endings`."""

    rule: Ints
    rule_value: Ints
    min_margin: Ints
    min_profit: Ints
    least_price: Ints
    ceiling: Ints
    endings: Ints
    old: Ints
    step: Ints

    def take(self, rows: Bools | Ints) -> Limits:
        return Limits(*(getattr(self, f.name)[rows] for f in fields(self)))


@dataclass(frozen=True)
class Priced:
    """The answer. `own` is (4, n): each condition's own smallest price in the order of `SetBy`; NONE if unset."""

    price: Ints
    set_by: Ints
    outcome: Ints
    own: Ints
    kept: Kept


@dataclass(frozen=True)
class _Want:
    """profit x PPM - share x net - amount >= 0 for the rows where it is set."""

    rows: Bools
    share: Ints
    amount: Ints

    def gap(self, price: Ints, terms: Terms, rows: Ints) -> Ints:
        kept = keep(price, terms)
        return np.asarray(kept.profit * PPM - self.share[rows] * kept.net - self.amount[rows])


def solve(terms: Terms, limits: Limits, endings: Endings) -> Priced:
    """The price of every row.

    Shapes: all columns have length n. Units: minor units and ppm. Errors: ValueError when an
    amount lies outside +-1e10 or a rate outside 0 to 100 times, where int64 would not be exact.
    Source: computation, section 3.
    """
    _check(terms, limits)
    n = len(terms.landed)
    zero = np.zeros(n, dtype=np.int64)
    value, rule = limits.rule_value, limits.rule
    floor = np.where(rule == Rule.add, terms.landed + value, -(-terms.landed * value // PPM))
    by_floor = (rule == Rule.add) | (rule == Rule.multiple)
    wants = [
        _Want(
            ~by_floor,
            np.where(rule == Rule.margin, value, 0),
            np.where(rule == Rule.ret, terms.landed * np.where(rule == Rule.ret, value, 0), 0),
        ),
        _Want(limits.min_margin != NONE, np.where(limits.min_margin != NONE, limits.min_margin, 0), zero),
        _Want(limits.min_profit != NONE, zero, np.where(limits.min_profit != NONE, limits.min_profit, 0) * PPM),
    ]

    def allowed(price: Ints) -> Ints:
        return endings.at_or_above(np.maximum(price, 1), limits.endings)

    own = np.full((4, n), NONE, dtype=np.int64)
    own[0] = np.where(by_floor, np.minimum(allowed(np.where(by_floor, floor, 1)), _PAST), NONE)
    for place, want in enumerate(wants):
        rows = np.flatnonzero(want.rows)
        if len(rows):
            own[place, rows] = _search(want, terms, limits.endings, endings, rows, None)
    has_least = limits.least_price != NONE
    own[3] = np.where(has_least, np.minimum(allowed(np.where(has_least, limits.least_price, 1)), _PAST), NONE)

    price = np.maximum(own.max(axis=0), 1)
    set_by = own.argmax(axis=0).astype(np.int64)
    price = _meet_all(price, wants, terms, limits, endings)
    none = price > PRICE_MAX
    price = np.where(none, 1, price)
    set_by[none] = SetBy.nothing

    # Ceiling first; the step only for what the ceiling left alone.
    over = ~none & (limits.ceiling != NONE) & (price > limits.ceiling)
    capped = endings.at_or_under(np.where(over, limits.ceiling, 1), limits.endings)
    no_room = over & (capped < 1)
    price = np.where(over & ~no_room, capped, price)
    set_by[over] = SetBy.ceiling

    stepped = ~none & ~over & (limits.old != NONE) & (limits.step != NONE)
    old, step = np.where(stepped, limits.old, 1), np.where(stepped, limits.step, 0)
    high = old * (PPM + step) // PPM
    low = -(-old * np.maximum(PPM - step, 0) // PPM)
    rising = stepped & (price > high)
    under = endings.at_or_under(high, limits.endings)
    stuck = rising & (under < 1)
    price = np.where(rising & ~stuck, under, price)
    above = endings.at_or_above(np.maximum(low, 1), limits.endings)
    falling = stepped & ~rising & (price < low) & ((limits.ceiling == NONE) | (above <= limits.ceiling))
    price = np.where(falling, above, price)
    set_by[rising | falling] = SetBy.step

    kept = keep(price, terms)
    held = np.zeros(n, dtype=bool)
    for want in wants[1:]:
        held |= want.rows & (kept.profit * PPM - want.share * kept.net - want.amount < 0)
    held |= has_least & (price < limits.least_price)
    lowered = (over & ~no_room) | (rising & ~stuck)
    outcome = np.where(lowered & held, int(Outcome.held), int(Outcome.ok))
    outcome = np.where(lowered & (kept.profit < 0), int(Outcome.loss), outcome)
    outcome = np.where(stuck, int(Outcome.held), outcome)
    gone = none | no_room
    outcome = np.where(gone, int(Outcome.no_price), outcome)
    return Priced(np.where(gone, NONE, price), set_by, outcome.astype(np.int64), own, kept)


def _search(want: _Want, terms: Terms, which: Ints, endings: Endings, rows: Ints, start: Ints | None) -> Ints:
    """Smallest allowed price of each row in `rows` that meets one condition; _PAST when there is none."""
    result = np.full(len(rows), _PAST, dtype=np.int64)
    part, sets = terms.take(rows), which[rows]
    price = _bound(want, part, rows)
    if start is not None:
        price = np.maximum(price, start)
    price = endings.at_or_above(price, sets)
    active = np.flatnonzero(price <= PRICE_MAX)
    # A penny more of price adds at most one penny of net, so a shortfall tells how far one may jump.
    most = np.maximum(PPM - want.share[rows], 1)
    for _ in range(200):
        if not len(active):
            return result
        now = price[active]
        gap = want.gap(now, part.take(active) if len(active) < len(rows) else part, rows[active])
        met = gap >= 0
        result[active[met]] = now[met]
        active, now, gap = active[~met], now[~met], gap[~met]
        ahead = np.minimum(now - gap // most[active], _PAST)
        price[active] = endings.at_or_above(ahead, sets[active])
        active = active[price[active] <= PRICE_MAX]
    for i in active:
        result[i] = _scan(want, part.take(np.array([i])), int(price[i]), sets[i : i + 1], endings, rows[i : i + 1])
    return result


def _scan(want: _Want, terms: Terms, start: int, which: Ints, endings: Endings, row: Ints) -> int:
    """The last resort for a line that is nearly flat: look at every price, a block at a time."""
    while start <= PRICE_MAX:
        block = np.arange(start, min(start + _BLOCK, _PAST), dtype=np.int64)
        block = block[endings.at_or_above(block, np.full(len(block), which[0])) == block]
        if len(block):
            index = np.zeros(len(block), dtype=np.int64)
            good = want.gap(block, terms.take(index), row[index]) >= 0
            if good.any():
                return int(block[good.argmax()])
        start += _BLOCK
    return _PAST


def _bound(want: _Want, terms: Terms, rows: Ints) -> Ints:
    """A price that no answer can lie under, from the unrounded line.

    Floats are safe here: four roundings move profit by at most two minor units, the bound is
    taken four units lower, and every price is checked exactly afterwards.
    """
    share = want.share[rows] / PPM
    need = (terms.landed + terms.fee_fixed + terms.payment_fixed) + want.amount[rows] / PPM - 4.0
    slope = (1.0 - share) / (1.0 + terms.tax / PPM) - (terms.payment + terms.reserve) / PPM
    fee, least = terms.fee / PPM, terms.fee_least
    cap = np.where(terms.fee_cap == NONE, np.inf, terms.fee_cap)
    least = np.minimum(least, cap)
    nowhere = float(_PAST)
    with np.errstate(divide="ignore", invalid="ignore"):
        rises = slope > 1e-12
        at_least = np.where(need + least <= 0, 0.0, np.where(rises, (need + least) / slope, nowhere))
        middle = np.where(slope - fee > 1e-12, need / (slope - fee), nowhere)
        at_cap = np.where(rises & np.isfinite(cap), (need + np.where(np.isfinite(cap), cap, 0)) / slope, nowhere)
        in_first = at_least * fee <= least + 1
        in_middle = middle * fee <= cap + 1
    found = np.where(in_first, at_least, np.where(in_middle, middle, at_cap))
    return np.asarray(np.clip(np.floor(np.nan_to_num(found, nan=0.0)) - 2, 1, nowhere), dtype=np.int64)


def _meet_all(price: Ints, wants: list[_Want], terms: Terms, limits: Limits, endings: Endings) -> Ints:
    """Walk on until every condition holds at once, for the rows where the highest one broke another."""
    price = np.minimum(price, _PAST)
    rows = np.flatnonzero(price <= PRICE_MAX)
    while len(rows):
        part = terms if len(rows) == len(price) else terms.take(rows)
        kept = keep(price[rows], part)
        broken = np.zeros(len(rows), dtype=np.bool_)
        for want in wants:
            gap = kept.profit * PPM - want.share[rows] * kept.net - want.amount[rows]
            short = want.rows[rows] & (gap < 0)
            if short.any():
                again = rows[short]
                price[again] = _search(want, terms, limits.endings, endings, again, price[again])
                broken |= short
        rows = rows[broken]
        rows = rows[price[rows] <= PRICE_MAX]
    return price


def _check(terms: Terms, limits: Limits) -> None:
    amounts = [terms.landed, terms.fee_least, terms.fee_cap, terms.fee_fixed, terms.payment_fixed]
    for column in (*amounts, limits.min_profit, limits.least_price, limits.ceiling, limits.old):
        if len(column) and (column.max() > AMOUNT_MAX or _least(column) < -AMOUNT_MAX):
            raise ValueError("an amount lies outside what can be computed exactly (100,000,000.00)")
    rates = (terms.fee, terms.payment, terms.reserve, terms.tax, limits.min_margin, limits.step)
    for column in (*rates, np.where(limits.rule == Rule.add, 0, limits.rule_value)):
        if len(column) and (column.max() > 100 * PPM or _least(column) < 0):
            raise ValueError("a rate lies outside 0 to 10,000 %")


def _least(column: Ints) -> int:
    """The least value that is set; 0 where none is."""
    low = int(column.min())
    return low if low != NONE else int(np.where(column == NONE, 0, column).min())


def margin_hundredths(profit: int, net: int) -> int | None:
    """Margin in hundredths of a percent, half up; None where nothing is left after tax."""
    return (2 * profit * 10_000 + net) // (2 * net) if net > 0 else None


def without_endings(limits: Limits) -> Limits:
    """The same limits with every price allowed: shows how low each condition alone would go."""
    return replace(limits, endings=np.zeros_like(limits.endings))
