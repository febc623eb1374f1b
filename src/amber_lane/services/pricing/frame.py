"""The listings with their lanes, items, fees, rules and policies as NumPy columns, ready for the core."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, fields
from datetime import datetime
from functools import cache
from typing import Any, NamedTuple

import numpy as np
from sqlalchemy import BigInteger, bindparam, case, func, select, type_coerce
from sqlalchemy.orm import Session

from ...core import price
from ...core.money import Bools, Ints, half_up_columns
from ...core.numbers import PPM
from ...core.price import NONE
from ...core.risk import sold_twice
from ...core.states import ListingState
from ...data.base import to_ms
from ...data.bulk import in_chunks, quiet
from ...data.columns import Columns, fetch_columns, join, or_none, place_of, sorted_by, spliced
from ...data.shelf import Listing, Sku
from ...data.statements import among
from ..base.context import Context
from .draft_lane import DraftLane
from .inputs import Facts, fee_of
from .lane_columns import splice_lanes
from .lane_costing import Chosen, Lanes, Parts
from .policy import Keys, Overlay, lay_over, policy_columns, price_layers

STATES = (ListingState.live, ListingState.paused, ListingState.ended, ListingState.preparing)
PAUSED_BY = ("", "stock", "hold", "hand")
DAY_MS = 86_400_000
MANY = 4000


@dataclass(frozen=True)
class Book:
    """One entry per listing (n); `parts` hold the chosen lane's items for sharing stock."""

    ids: Ints
    store: Ints
    sku: Ints
    state: Ints
    paused_by: Ints
    wanted_price: Ints
    wanted_quantity: Ints
    hand_price: Ints
    steady: Ints
    version: Ints
    pace: Ints
    # What its store lets us write: prices, and stock with on sale or not; and whether a first mass move of prices was agreed to there.
    prices_on: Bools
    stock_on: Bools
    mass_agreed: Bools
    # What the rule asked, and what stock asked to show, when a person said "only from the next change on"; NONE = nothing rests.
    rest_price: Ints
    rest_stock: Ints
    lane: Ints
    # The lane that its figures came from before, 0 = none.
    had_lane: Ints
    # It has lanes and all of them are shut: nothing can be bought for it.
    closed: Bools
    # Its lane's item is not sold any more.
    gone: Bools
    # It is sent from a depot: how much is there was counted, and nobody sweeps it.
    ours: Bools
    # Rows whose cost is known: only their price is followed, and only their profit is told.
    counted: Bools
    goods: Ints
    ship: Ints
    handling: Ints
    available: Ints
    set_by: Ints
    old_landed: Ints
    old_profit: Ints
    step_price: Ints
    step_at: Ints
    parts: Parts
    # Of each item, units that are not promised yet.
    lanes: Lanes
    terms: price.Terms
    limits: price.Limits
    endings: price.Endings
    policy: dict[str, Ints]
    rebate: Ints
    risk: Ints
    rules: Overlay
    currency: list[str]
    sku_code: list[str]
    category: list[str]
    supplier_code: list[str]

    @property
    def landed(self) -> Ints:
        return self.terms.landed


class ListingColumns(NamedTuple):
    """Listings as columns, as they were read; `Book` says what each is. NONE = nothing stands there."""

    ids: Ints
    store: Ints
    sku: Ints
    state: Ints
    paused_by: Ints
    wanted_price: Ints
    wanted_quantity: Ints
    hand_price: Ints
    steady: Ints
    version: Ints
    pace: Ints
    ceiling: Ints
    least_price: Ints
    set_by: Ints
    old_landed: Ints
    old_profit: Ints
    step_price: Ints
    step_at: Ints
    most: Ints
    rest_price: Ints
    rest_stock: Ints
    had_lane: Ints
    sku_code: list[str]
    category: list[str]
    currency: list[str]


@dataclass
class Raw:
    """Listings and lanes as they were read: what no draft of rules, fees, terms, limits or rates changes."""

    cols: ListingColumns
    lanes: Lanes
    now: datetime
    chosen: Chosen


def load(
    context: Context,
    skus: Iterable[int] | None = None,
    facts: Facts | None = None,
    preparing: bool = False,
    within_allowance: bool = True,
    lane: DraftLane | None = None,
) -> Book:
    """Read listings of some SKUs (None = all) with all that decides about them. `facts`: a draft instead of what stands.

    preparing: those that are not on sale yet too. within_allowance False: as if no store limited what it shows.
    lane: one more, as if it stood.
    """
    facts = facts or Facts.read(context.session)
    return build(read(context, facts, skus, preparing, lane), facts, within_allowance)


def read(context: Context, facts: Facts, skus: Iterable[int] | None = None, preparing: bool = False, lane: DraftLane | None = None) -> Raw:
    """The rows of `load`, from which books under several drafts can be built."""
    with quiet():
        return _read(context, facts, skus, preparing, lane)


def _read(context: Context, facts: Facts, skus: Iterable[int] | None, preparing: bool, lane: DraftLane | None) -> Raw:
    s, now = context.session, context.now
    wanted = None if skus is None else sorted(set(skus))
    # Many SKUs are read faster all at once and sifted here than named one by one in the query.
    sift = wanted is not None and len(wanted) > MANY
    columns = [_listings(s, now, chunk, preparing) for chunk in ([None] if wanted is None or sift else in_chunks(wanted))] or [
        _listings(s, now, [], preparing)
    ]
    cols = [join([part[i] for part in columns]) for i in range(len(columns[0]))]
    if sift and len(cols[0]):
        keep = np.isin(cols[ListingColumns._fields.index("sku")], np.array(wanted, dtype=np.int64))
        if not keep.all():
            cols = [[v for v, k in zip(c, keep.tolist(), strict=True) if k] if isinstance(c, list) else c[keep] for c in cols]
    lanes, read = Lanes(context, facts, None if sift else wanted, draft=lane), ListingColumns(*cols)
    return Raw(read, lanes, now, lanes.choose(read.sku, read.store))


def build(raw: Raw, facts: Facts, within_allowance: bool = True) -> Book:
    """A book of what was read, under facts that may be a draft."""
    cols, chosen = raw.cols, raw.chosen
    lanes = raw.lanes.under(facts)
    n = len(cols.ids)
    store_code = [facts.stores[i].code for i in cols.store.tolist()]
    keys = Keys(chosen.supplier_code, cols.category, store_code, cols.sku_code)
    policy = policy_columns(facts, n, keys, cols.currency)
    # A store's allowance lets some listings show less than the policy would.
    if within_allowance:
        policy["cap"] = np.where(cols.most == NONE, policy["cap"], np.minimum(policy["cap"], cols.most))
    policy["resume_sweeps"] = np.where(chosen.ours, 1, policy["resume_sweeps"])
    cost = lanes.money(chosen, cols.currency, policy["currency_cushion"])
    risk = _risk_of_sharing(chosen, lanes, cols.sku, cols.pace, policy)
    off = np.where(policy["rebate_counts"] == 1, cost.rebate, 0)
    landed = np.where(cost.known, cost.goods + cost.ship + cost.handling + risk - off, 0)
    endings = price.Endings()
    over = lay_over(n, price_layers(facts, endings), keys, landed, lambda money: facts.turned(money, cols.currency))
    known = cost.known & ~over.no_rate
    # The largest step is a day's: within a day it is counted from the price that the day began with.
    fresh = (cols.step_at != NONE) & (cols.step_at > to_ms(raw.now) - DAY_MS) & (cols.step_price > 0)
    base = np.where(fresh, cols.step_price, cols.wanted_price)
    if facts.returns and policy["reserve_real"].any():
        _reserve_what_came_back(over, facts, cols.store, cols.category, policy["reserve_real"] == 1)
    own = OwnLimits(cost.least_price, cols.ceiling, cols.least_price, base)
    terms, limits = terms_of(facts, cols.store, cols.category, landed, over, own)
    prices_on, stock_on, agreed = _switches(facts, cols.store)
    return Book(
        **{name: getattr(cols, name) for name in _AS_READ},
        prices_on=prices_on,
        stock_on=stock_on,
        mass_agreed=agreed,
        lane=chosen.lane,
        closed=chosen.closed,
        gone=chosen.gone,
        ours=chosen.ours,
        counted=known,
        goods=cost.goods,
        ship=cost.ship,
        handling=cost.handling,
        available=chosen.available,
        step_price=base,
        step_at=np.where(fresh, cols.step_at, NONE),
        parts=chosen.parts,
        lanes=lanes,
        terms=terms,
        limits=limits,
        endings=endings,
        policy=policy,
        rebate=cost.rebate,
        risk=risk,
        rules=over,
        supplier_code=chosen.supplier_code,
    )


# What stands in a book as it was read.
_AS_READ = [one.name for one in fields(Book) if one.name in ListingColumns._fields and one.name not in ("step_price", "step_at")]


def _switches(facts: Facts, store: Ints) -> tuple[Bools, Bools, Bools]:
    """Per listing: whether its store lets prices and stock be written, and whether a first mass move was agreed to there."""
    switches = {
        number: (one.write_prices and one.ended_at is None, one.write_stock and one.ended_at is None, one.mass_agreed)
        for number, one in facts.stores.items()
    }
    rows = np.array([switches[i] for i in store.tolist()], dtype=np.bool_).reshape(-1, 3)
    return rows[:, 0], rows[:, 1], rows[:, 2]


@cache
def _columns(some: bool, preparing: bool) -> Columns:
    """some: of SKUs that are named."""
    in_force = (Listing.hand_until.is_(None)) | (Listing.hand_until > bindparam("now"))
    query = (
        select(
            Listing.id,
            Listing.store_id,
            Listing.sku_id,
            place_of(Listing.state, STATES),
            place_of(Listing.paused_by, PAUSED_BY),
            Listing.wanted_price,
            Listing.wanted_quantity,
            or_none(case((in_force, Listing.hand_price), else_=None)),
            Listing.steady,
            Listing.version,
            Sku.pace,
            or_none(Listing.ceiling),
            or_none(Listing.least_price),
            Listing.set_by,
            or_none(Listing.landed),
            or_none(Listing.profit),
            or_none(Listing.step_price),
            or_none(type_coerce(Listing.step_at, BigInteger)),
            or_none(Listing.most),
            or_none(Listing.rest_price),
            or_none(Listing.rest_stock),
            func.coalesce(Listing.lane_id, 0),
            Sku.code,
            Sku.category,
            Listing.currency,
        )
        .join(Sku, Sku.id == Listing.sku_id)
        .where(Listing.state.in_((ListingState.live, ListingState.paused, *((ListingState.preparing,) if preparing else ()))))
    )
    if some:
        return Columns(query.where(Listing.sku_id.in_(among("skus"))))
    # By their numbers, so that nothing is sorted.
    return Columns(query.with_hint(Listing, "NOT INDEXED", "sqlite").order_by(Listing.id))


def _listings(s: Session, now: datetime, skus: list[int] | None, preparing: bool) -> list[Any]:
    if skus is None:
        return fetch_columns(s, _columns(False, preparing), {"now": now})
    return sorted_by(fetch_columns(s, _columns(True, preparing), {"now": now, "skus": skus}), [0])


def splice(context: Context, raw: Raw, facts: Facts, skus: list[int]) -> Raw:
    """What was read of all listings, with those of some SKUs as they are now, and what is promised of all."""
    s, now = context.session, context.now
    cols, columns = raw.cols, raw.lanes.columns
    for chunk in in_chunks(skus):
        mine = np.isin(cols.sku, np.array(chunk, dtype=np.int64))
        cols = ListingColumns(*spliced(list(cols), _listings(s, now, chunk, False), mine, [0]))
        columns = splice_lanes(s, columns, chunk)
    lanes = Lanes(context, facts, None, columns)
    return Raw(cols, lanes, now, lanes.choose(cols.sku, cols.store))


def _reserve_what_came_back(over: Overlay, facts: Facts, store: Ints, category: list[str], rows: Bools) -> None:
    """Where no rule says a returns reserve, the share of sales that really came back is kept for it."""
    n = len(store)
    values = over.values.setdefault("reserve", np.full(n, NONE, dtype=np.int64))
    source = over.source.setdefault("reserve", np.full(n, -1, dtype=np.int64))
    back = facts.returns
    shares = [back.get((shop, name), back.get((shop, ""), NONE)) for shop, name in zip(store.tolist(), category, strict=True)]
    real = np.array(shares, dtype=np.int64)
    fill = rows & (values == NONE) & (real != NONE)
    over.names.append("what came back")
    values[fill], source[fill] = real[fill], len(over.names) - 1


def _risk_of_sharing(chosen: Chosen, lanes: Lanes, sku: Ints, pace: Ints, policy: dict[str, Ints]) -> Ints:
    """Per unit: what selling one item twice costs on average, where listings each show all of an item's stock.

    Counted only where they together show more than there is: chance of two sales within one sweep's interval
    x cost of a refund.
    """
    risk = np.zeros(len(sku), dtype=np.int64)
    alone = policy["share"] == 1
    if alone.all():
        return risk
    users: dict[int, list[int]] = {}
    several = chosen.parts.shared()
    for row, item in zip(several.row.tolist(), several.item.tolist(), strict=True):
        users.setdefault(item, []).append(row)
    show = np.maximum(np.minimum(policy["cap"], chosen.available - policy["cushion"]), 0)
    for item, rows in users.items():
        if len(rows) < 2 or alone[rows].all() or int(show[rows].sum()) <= lanes.free[item]:
            continue
        # One SKU in two stores has one pace.
        together = sum({int(sku[row]): int(pace[row]) for row in rows}.values())
        minutes = lanes.sweep_minutes(int(chosen.lane[rows[0]]))
        chance = sold_twice(np.array([together]), np.array([minutes]))
        open_ = np.array([row for row in rows if not alone[row]])
        risk[open_] = np.maximum(risk[open_], half_up_columns(chance * policy["refund_cost"][open_], PPM))
    return risk


class OwnLimits(NamedTuple):
    """What stands at each row itself: the least price that its item may be advertised at, its own ceiling and least price, and the price
    that a largest step is counted from. NONE = nothing."""

    item_least: Ints
    ceiling: Ints
    least_price: Ints
    old: Ints

    @classmethod
    def none(cls, n: int) -> OwnLimits:
        empty = np.full(n, NONE, dtype=np.int64)
        return cls(empty, empty, empty, np.zeros(n, dtype=np.int64))


def _fees_of(facts: Facts, store: Ints, category: list[str], rows: Ints | None) -> Ints:
    """A row for each listing: the store's fee in percent, its least and most, fixed; payment in percent and fixed; tax in the price."""
    kinds: dict[tuple[int, str], int] = {}
    pairs = zip(store.tolist(), category, strict=True)
    which = np.fromiter((kinds.setdefault(pair, len(kinds)) for pair in pairs), np.int64, len(category))
    table = np.zeros((max(len(kinds), 1), 7), dtype=np.int64)
    for (number, name), place in kinds.items():
        shop, fee = facts.stores[number], fee_of(facts.fees, number, name)
        fees = (fee.percent, fee.least, NONE if fee.cap is None else fee.cap, fee.fixed) if fee else (0, 0, NONE, 0)
        table[place] = [*fees, shop.payment, shop.payment_fixed, shop.tax_in_price]
    return np.asarray(table[which if rows is None else which[rows]])


def terms_of(
    facts: Facts, store: Ints, category: list[str], landed: Ints, over: Overlay, own: OwnLimits, rows: Ints | None = None
) -> tuple[price.Terms, price.Limits]:
    """What prices are made of, a row for each landed cost. rows: which store and category each has, where they stand once for many."""
    n = len(landed)
    picked = _fees_of(facts, store, category, rows)

    def rule(name: str, empty: int) -> Ints:
        values = over.values.get(name)
        return np.full(n, empty, dtype=np.int64) if values is None else np.where(values == NONE, empty, values)

    def tighter(one: Ints, other: Ints, pick: np.ufunc) -> Ints:
        return np.asarray(np.where(one == NONE, other, np.where(other == NONE, one, pick(one, other))))

    terms = price.Terms(landed, rule("reserve", 0), *(picked[:, at] for at in range(7)))
    # Where nobody said how to price, nothing is priced.
    limits = price.Limits(
        rule("rule", int(price.Rule.unset)),
        rule("rule_value", 0),
        rule("min_margin", NONE),
        rule("min_profit", NONE),
        tighter(tighter(own.item_least, own.least_price, np.maximum), rule("least_price", NONE), np.maximum),
        tighter(rule("ceiling", NONE), own.ceiling, np.minimum),
        rule("endings", 0),
        np.where(own.old > 0, own.old, NONE),
        rule("step", NONE),
    )
    return terms, limits
