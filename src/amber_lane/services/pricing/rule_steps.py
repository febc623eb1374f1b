"""Where a rule's bands make a dearer item cheaper: just over a band's edge the price falls, until the cost has grown by so much more."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from typing import NamedTuple

import numpy as np

from ...core import price as pricing
from ...core.money import Ints
from ...core.numbers import PPM, half_up
from ...core.price import NONE, Endings
from ...data.prices import PriceRule
from ...data.setup import Store
from .frame import Book, OwnLimits, terms_of
from .inputs import Facts, house_ppm
from .policy import Keys, lay_over, price_layers

# So far beyond its edge a dip is looked for, as a share of the edge, in steps of at least a minor unit.
REACH, STEPS = 3.0, 4000


@dataclass(frozen=True)
class Dip:
    """A fall of a store's price at a band's edge. below, at: the price just under the edge and on it; until: the landed cost from which the
    price is as high again; curve: (landed, price) to draw it; listings: of the store that stand in it now. Money in minor units of the
    store's currency. band_from, money: the band as its rule says it; least: `below` in the rule's money, so that a price of it is no less.
    """

    store: int
    edge: int
    below: int
    at: int
    until: int
    curve: list[tuple[int, int]]
    band_from: int
    money: str
    least: int
    listings: int = 0


def dips(facts: Facts, book: Book | None = None) -> list[Dip]:
    """Every dip of the house's and the stores' rules, by each store's general fees; the deepest first."""
    found = []
    for store in facts.stores.values():
        if store.ended_at is not None:
            continue
        mine = [rule for rule in facts.rules if rule.scope == "house" or (rule.scope, rule.scope_key) == ("store", store.code)]
        for edge in sorted(_edges(facts, store, mine)):
            one = _dip(facts, store, mine, edge)
            if one is not None:
                found.append(one if book is None else _counted(one, book))
    # Stores with the same fees have the same dips; one of each is told.
    seen: dict[tuple[str, int, int, int, int], Dip] = {}
    for one in found:
        key = (facts.stores[one.store].currency, one.edge, one.below, one.at, one.until)
        seen[key] = replace(seen[key], listings=seen[key].listings + one.listings) if key in seen else one
    return sorted(seen.values(), key=lambda one: one.at - one.below)


class _Edge(NamedTuple):
    """Where a band of landed cost begins, in a store's money, and as its rule says it. ppm: from the rule's minor unit to the store's."""

    at: int
    band_from: int
    money: str
    ppm: int


def _edges(facts: Facts, store: Store, rules: Iterable[PriceRule]) -> set[_Edge]:
    """Those of rules that have a rate to the store's money."""
    found = set()
    for rule in rules:
        money = rule.currency or facts.rule_money(rule.scope, rule.scope_key)
        ppm = house_ppm(facts.rates, money, store.currency)
        if rule.band_from > 0 and ppm is not None and (at := half_up(rule.band_from * ppm, PPM)):
            found.add(_Edge(at, rule.band_from, money, ppm))
    return found


def _dip(facts: Facts, store: Store, rules: Sequence[PriceRule], band: _Edge) -> Dip | None:
    edge = band.at
    step = max(int(edge * (REACH - 1)) // STEPS, 1)
    landed = np.concatenate([[edge - 1], edge + np.arange(0, int(edge * (REACH - 1)) + step, step)]).astype(np.int64)
    prices = _prices(facts, store, rules, landed)
    before, after = int(prices[0]), prices[1:]
    if before == NONE or int(after[0]) == NONE or int(after[0]) >= before:
        return None
    high = np.flatnonzero((after == NONE) | (after >= before))
    until = int(landed[1:][high[0]]) if len(high) else int(landed[-1])
    around = np.unique(np.linspace(max(edge - (until - edge) // 2 - 1, 1), until + (until - edge) // 2 + 1, 60).astype(np.int64))
    around = np.unique(np.concatenate([around, [edge - 1, edge]]))
    shown = _prices(facts, store, rules, around)
    curve = [(int(cost), int(price)) for cost, price in zip(around, shown, strict=True) if int(price) != NONE]
    least = -(-before * PPM // band.ppm)
    return Dip(store.id, edge, before, int(after[0]), until, curve, band.band_from, band.money, least)


def _prices(facts: Facts, store: Store, rules: Sequence[PriceRule], landed: Ints) -> Ints:
    n, endings = len(landed), Endings()
    keys = Keys([""] * n, [""] * n, [store.code] * n, [""] * n)
    over = lay_over(n, price_layers(facts, endings, rules), keys, landed, lambda money: facts.turned(money, [store.currency] * n))
    which = np.full(n, store.id, dtype=np.int64)
    terms, limits = terms_of(facts, which, [""] * n, landed, over, OwnLimits.none(n))
    return pricing.solve(terms, limits, endings).price


def _counted(one: Dip, book: Book) -> Dip:
    inside = (book.store == one.store) & book.counted & (book.landed >= one.edge) & (book.landed < one.until)
    return replace(one, listings=int(inside.sum()))
