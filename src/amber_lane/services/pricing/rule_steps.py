"""Where a rule's bands make a dearer item cheaper: just over a band's edge the price falls, until the cost has grown by so much more."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from ...core import price as pricing
from ...core.money import Ints
from ...core.price import NONE, Endings
from ...data.prices import PriceRule
from .frame import Book, OwnLimits, terms_of
from .inputs import Facts
from .policy import Keys, lay_over, price_layers

# So far beyond its edge a dip is looked for, as a share of the edge, in steps of at least a minor unit.
REACH, STEPS = 3.0, 4000


@dataclass(frozen=True)
class Dip:
    """A fall of a store's price at a band's edge. below, at: the price just under the edge and on it; until: the landed cost from which the
    price is as high again; curve: (landed, price) to draw it; listings: of the store that stand in it now. Money in minor units."""

    store: int
    edge: int
    below: int
    at: int
    until: int
    curve: list[tuple[int, int]]
    listings: int = 0


def dips(facts: Facts, book: Book | None = None) -> list[Dip]:
    """Every dip of the house's and the stores' rules, by each store's general fees; the deepest first."""
    found = []
    for number, store in facts.stores.items():
        if store.ended_at is not None:
            continue
        mine = [rule for rule in facts.rules if rule.scope == "house" or (rule.scope, rule.scope_key) == ("store", store.code)]
        for edge in sorted({rule.band_from for rule in mine if rule.band_from > 0}):
            one = _dip(facts, number, store.code, mine, edge)
            if one is not None:
                found.append(one if book is None else _counted(one, book))
    # Stores with the same fees have the same dips; one of each is told.
    seen: dict[tuple[int, int, int, int], Dip] = {}
    for one in found:
        key = (one.edge, one.below, one.at, one.until)
        if key in seen:
            old = seen[key]
            one = Dip(old.store, old.edge, old.below, old.at, old.until, old.curve, old.listings + one.listings)
        seen[key] = one
    return sorted(seen.values(), key=lambda one: one.at - one.below)


def _dip(facts: Facts, store: int, code: str, rules: Sequence[PriceRule], edge: int) -> Dip | None:
    step = max(int(edge * (REACH - 1)) // STEPS, 1)
    landed = np.concatenate([[edge - 1], edge + np.arange(0, int(edge * (REACH - 1)) + step, step)]).astype(np.int64)
    prices = _prices(facts, store, code, rules, landed)
    before, after = int(prices[0]), prices[1:]
    if before == NONE or int(after[0]) == NONE or int(after[0]) >= before:
        return None
    high = np.flatnonzero((after == NONE) | (after >= before))
    until = int(landed[1:][high[0]]) if len(high) else int(landed[-1])
    around = np.unique(np.linspace(max(edge - (until - edge) // 2 - 1, 1), until + (until - edge) // 2 + 1, 60).astype(np.int64))
    around = np.unique(np.concatenate([around, [edge - 1, edge]]))
    shown = _prices(facts, store, code, rules, around)
    curve = [(int(cost), int(price)) for cost, price in zip(around, shown, strict=True) if int(price) != NONE]
    return Dip(store, edge, before, int(after[0]), until, curve)


def _prices(facts: Facts, store: int, code: str, rules: Sequence[PriceRule], landed: Ints) -> Ints:
    n, endings = len(landed), Endings()
    over = lay_over(n, price_layers(rules, endings), Keys([""] * n, [""] * n, [code] * n, [""] * n), landed, facts.rules_in)
    np.full(n, NONE, dtype=np.int64)
    which = np.full(n, store, dtype=np.int64)
    terms, limits = terms_of(facts, which, [""] * n, landed, over, OwnLimits.none(n))
    return pricing.solve(terms, limits, endings).price


def _counted(one: Dip, book: Book) -> Dip:
    inside = (book.store == one.store) & book.counted & (book.landed >= one.edge) & (book.landed < one.until)
    return Dip(one.store, one.edge, one.below, one.at, one.until, one.curve, int(inside.sum()))
