"""What a price is made of and what we keep at it (computation, section 2), as NumPy columns.

One formula on columns of int64 serves one listing and a million. Money is in minor units of one
currency per row, rates are in parts per million. A missing value is `NONE`.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, fields
from enum import IntEnum

import numpy as np

from .money import Bools, Ints
from .numbers import PPM

NONE = int(np.iinfo(np.int64).min)
PRICE_MAX = 1_000_000_000
PAST = PRICE_MAX + 1


class Rule(IntEnum):
    """How the rule asks for a price; its value is ppm, but minor units for `add`."""

    multiple = 0
    add = 1
    margin = 2
    ret = 3
    # No rule applies: no price is asked for.
    unset = -1

    @property
    def label(self) -> str:
        return "return" if self is Rule.ret else self.name

    @classmethod
    def named(cls, name: str) -> Rule:
        """The rule of that name in a sheet; ValueError lists the names."""
        try:
            return {rule.label: rule for rule in cls if rule is not cls.unset}[name]
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
    # No price rule applies, so none is made. 4 stands in responses for what waits since too many moved at once.
    no_rule = 5


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
        return np.asarray(price + self._tables()[0][_place(price, which)], dtype=np.int64)

    def at_or_under(self, price: Ints, which: Ints) -> Ints:
        """The largest allowed price that is not over `price`; below 1 where there is none."""
        if len(self._down) == 1:
            return price
        return np.asarray(price - self._tables()[1][_place(price, which)], dtype=np.int64)


def _place(price: Ints, which: Ints) -> Ints:
    """Where a price's minor part stands in the tables; dividing by a constant is several times faster than `%`."""
    return np.asarray((which - price // 100) * 100 + price, dtype=np.int64)


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
class Proceeds:
    """What becomes of a price: columns that add up, price = tax + fee + payment + reserve + landed + profit."""

    price: Ints
    tax: Ints
    net: Ints
    fee: Ints
    payment: Ints
    reserve: Ints
    profit: Ints


def proceeds(price: Ints, terms: Terms) -> Proceeds:
    """Section 2 for a column of prices."""
    scale = PPM + terms.tax
    tax = (2 * price * terms.tax + scale) // (2 * scale) if terms.tax.any() else np.zeros_like(price)
    net = price - tax
    fee = np.maximum(terms.fee_least, (price * terms.fee + PPM // 2) // PPM)
    fee = np.where(terms.fee_cap == NONE, fee, np.minimum(terms.fee_cap, fee)) + terms.fee_fixed
    payment = (price * terms.payment + PPM // 2) // PPM + terms.payment_fixed
    reserve = (price * terms.reserve + PPM // 2) // PPM
    return Proceeds(price, tax, net, fee, payment, reserve, net - fee - payment - reserve - terms.landed)


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
