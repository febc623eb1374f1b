"""What each item would land at, sell for and leave at one store, by the same rules and solver as listings."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from ...core import cost, price
from ...core.money import Bools, Ints, half_up_columns
from ...core.numbers import PPM
from ...core.price import NONE
from ...data.columns import fetch_columns
from ...data.lanes import Lane, LanePart
from ...data.setup import Origin, Store
from ...data.shelf import Sku
from ...data.source import Item
from ..base.context import Context
from ..pricing.frame import OwnLimits, terms_of
from ..pricing.inputs import Facts, NoRate
from ..pricing.policy import Keys, lay_over, policy_columns, price_layers
from .stability import kept_promises


@dataclass
class Goods:
    """All items in the order of their ids. Columns of one length; category and money: places in their lists of words."""

    ids: Ints
    supplier: Ints
    origin: Ints
    cost: Ints
    stock: Ints
    weight: Ints
    lead: Ints
    least: Ints
    offer: Ints
    category: Ints
    categories: list[str]
    money: Ints
    monies: list[str]
    seen: int


@dataclass
class View:
    """What each item would be in one store: landed, price and so on in the store's money; days to its country.

    known: something is sent to that country, at a known rate, and a price meets every condition.
    """

    mark: int
    landed: Ints
    ship: Ints
    price: Ints
    profit: Ints
    net: Ints
    days_low: Ints
    days_high: Ints
    known: Bools
    service: Ints
    set_by: Ints


def _empty_view(n: int, mark: int) -> View:
    def zeros() -> Ints:
        return np.zeros(n, dtype=np.int64)

    unknown, unset = np.zeros(n, dtype=np.bool_), np.full(n, NONE, dtype=np.int64)
    return View(mark, zeros(), zeros(), zeros(), zeros(), zeros(), zeros(), zeros(), unknown, zeros() - 1, unset)


@dataclass(frozen=True)
class Worked:
    """Some items worked out for one store and country, from cost to what is kept (sections 1 to 3); columns of one length."""

    goods: Ints
    ship: Ints
    handling: Ints
    rebate: Ints
    known: Bools
    service: Ints
    days_low: Ints
    days_high: Ints
    terms: price.Terms
    limits: price.Limits
    endings: price.Endings
    priced: price.Priced


def work_out(s: Session, facts: Facts, store: Store, goods: Goods, rows: Ints, country: str = "") -> Worked:
    """Price items by the rules of a store; country: where to, if it is not the store's own."""
    n = len(rows)
    supplier, origin, weight = goods.supplier[rows], goods.origin[rows], goods.weight[rows]
    codes = {number: row.code for number, row in facts.suppliers.items()}
    names = [goods.categories[i] for i in goods.category[rows].tolist()]
    keys = Keys([codes[i] for i in supplier.tolist()], names, [store.code] * n, [""] * n)
    policy = policy_columns(facts, n, keys, [store.currency] * n)
    first, service, low, high = sending(facts, origin, weight, country or store.country)
    handling_of = dict(s.execute(select(Origin.id, Origin.handling)).tuples().all())
    pack = np.array([handling_of.get(i, 0) for i in origin.tolist()], dtype=np.int64)
    parts, ship, handling, rebate = np.zeros((4, n), dtype=np.int64)
    least, known = np.full(n, NONE, dtype=np.int64), service >= 0
    money_of = goods.money[rows]
    for number in np.unique(supplier).tolist():
        one = facts.suppliers[number]
        mine = np.flatnonzero(supplier == number)
        wide = len(goods.monies)
        pair = policy["currency_cushion"][mine] * wide + money_of[mine]
        for one_pair in np.unique(pair).tolist():
            (cushion, money), at = divmod(one_pair, wide), mine[pair == one_pair]
            try:
                rate = facts.conversion(one, store.currency, cushion, of=goods.monies[money])
                asks = facts.conversion(one, store.currency, cushion, discount=False, of=goods.monies[money])
                plain = facts.conversion(one, store.currency, cushion, discount=False)
            except NoRate:
                known[at] = False
                continue
            unit = np.ones(len(at), dtype=np.int64)
            parts[at] = cost.goods_cost(rate.apply(goods.cost[rows][at]), unit, unit, unit * one.tax)
            ship[at], handling[at] = plain.apply(first[at]), plain.apply(pack[at])
            asked = goods.least[rows][at]
            least[at] = np.where(asked > 0, asks.apply(np.maximum(asked, 0)), NONE)
            rebate[at] = half_up_columns(parts[at] * one.rebate, PPM)
    off = np.where(policy["rebate_counts"] == 1, rebate, 0)
    landed = np.where(known, parts + ship + handling - off, 0)
    endings = price.Endings()
    over = lay_over(n, price_layers(facts, endings), keys, landed, lambda money: facts.turned(money, [store.currency] * n))
    terms, limits = terms_of(facts, np.full(n, store.id, dtype=np.int64), names, landed, over, OwnLimits.none(n)._replace(item_least=least))
    priced = price.solve(terms, limits, endings)
    known &= (priced.price != NONE) & ~over.no_rate
    lead = goods.lead[rows]
    return Worked(parts, ship, handling, rebate, known, service, low + lead, high + lead, terms, limits, endings, priced)


def sending(facts: Facts, origin: Ints, weight: Ints, country: str) -> tuple[Ints, Ints, Ints, Ints]:
    """Per item the cheapest way to a country: what one unit costs in the supplier's money, which service (-1 = none), days."""
    n = len(origin)
    best = np.full(n, np.iinfo(np.int64).max, dtype=np.int64)
    which, low, high = np.full(n, -1, dtype=np.int64), np.zeros(n, dtype=np.int64), np.zeros(n, dtype=np.int64)
    for place, one in enumerate(facts.services):
        if one.country != country:
            continue
        rows = np.flatnonzero(origin == one.origin_id)
        bands = one.weight_bands or []
        if bands:
            at = np.searchsorted(np.array([band[0] for band in bands]), weight[rows], "left")
            rows, at = rows[at < len(bands)], at[at < len(bands)]
            first = np.array([band[1] for band in bands], dtype=np.int64)[at]
        else:
            first = np.full(len(rows), one.first, dtype=np.int64)
        better = first < best[rows]
        rows, first = rows[better], first[better]
        best[rows], which[rows], low[rows], high[rows] = first, place, one.days_low, one.days_high
    return np.where(which >= 0, best, 0), which, low, high


def ours_of(s: Session) -> Ints:
    """Items that fill a SKU of ours, or carry the barcode of one."""
    laned = select(LanePart.item_id).join(Lane, Lane.id == LanePart.lane_id).where(Lane.closed_at.is_(None))
    same = select(Item.id).join(Sku, (Sku.gtin == Item.gtin) & (Item.gtin != ""))
    return np.unique(np.concatenate([*fetch_columns(s, laned), *fetch_columns(s, same)]))


def ratings(context: Context) -> dict[int, tuple[int, int]]:
    """Per supplier: purchase orders that it sent and that came by the promise, of all that were decided."""
    return kept_promises(context)
