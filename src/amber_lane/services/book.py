"""The listings with their lanes, items, fees, rules and policies as NumPy columns, ready for the core."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from decimal import Decimal
from typing import Any

import numpy as np
from sqlalchemy import BigInteger, case, func, literal, select, type_coerce
from sqlalchemy.orm import Session

from ..core import cost, price
from ..core.money import Ints, minor_digits
from ..core.price import NONE
from ..core.stock import serves
from ..data.base import to_ms
from ..data.lanes import Lane, LanePart
from ..data.orders import OrderLine, PurchaseLine, PurchaseOrder
from ..data.prices import PriceRule, Rate
from ..data.setup import FeeRow, Origin, Service, Store, Supplier
from ..data.shelf import Listing, Sku
from ..data.source import Item
from .desk import Desk, in_chunks
from .policy import Keys, Overlay, lay_over, policy_columns, price_layers

STATES = ("live", "paused", "ended", "preparing")
PAUSED_BY = ("", "stock", "hold", "hand")
DAY_MS = 86_400_000
MANY = 4000
# Where a supplier does not tell its stock, more than any cap.
UNTOLD = 1_000_000


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
    writes: Ints
    lane: Ints
    goods: Ints
    ship: Ints
    handling: Ints
    available: Ints
    set_by: Ints
    old_landed: Ints
    old_profit: Ints
    step_price: Ints
    step_at: Ints
    parts: dict[int, tuple[tuple[int, int, int], ...]]
    stock: dict[int, int]
    terms: price.Terms
    limits: price.Limits
    endings: price.Endings
    policy: dict[str, Ints]
    rules: Overlay
    currency: list[str]
    sku_code: list[str]

    @property
    def landed(self) -> Ints:
        return self.terms.landed


def fetch_columns(s: Session, query: Any) -> list[Any]:
    """A query's rows as one int64 column per field; text fields as lists. NULL becomes NONE."""
    rows = s.connection().execute(query).fetchall()
    if not rows:
        return [np.zeros(0, dtype=np.int64) for _ in query.selected_columns]
    out: list[Any] = []
    for column in zip(*rows, strict=True):
        if isinstance(column[0], str):
            out.append(list(column))
        else:
            out.append(np.array(column, dtype=np.int64))
    return out


def _or_none(column: Any) -> Any:
    return func.coalesce(column, literal(NONE))


def _place(column: Any, words: Sequence[str]) -> Any:
    return case({word: i for i, word in enumerate(words)}, value=column, else_=-1)


def load(desk: Desk, skus: Iterable[int] | None = None, rules: Sequence[PriceRule] | None = None) -> Book:
    """Read listings of some SKUs (None = all) with all that decides about them. `rules`: a draft instead of the real ones."""
    s, now = desk.s, desk.now
    wanted = None if skus is None else sorted(set(skus))
    # Many SKUs are read faster all at once and sifted here than named one by one in the query.
    sift = wanted is not None and len(wanted) > MANY
    columns = [_listings(s, now, chunk) for chunk in ([None] if wanted is None or sift else in_chunks(wanted))] or [_listings(s, now, [])]
    cols = [_join([part[i] for part in columns]) for i in range(len(columns[0]))]
    if sift and len(cols[0]):
        keep = np.isin(cols[2], np.array(wanted, dtype=np.int64))
        if not keep.all():
            cols = [[v for v, k in zip(c, keep.tolist(), strict=True) if k] if isinstance(c, list) else c[keep] for c in cols]
    (
        ids,
        store,
        sku,
        state,
        paused_by,
        wprice,
        wquantity,
        hand,
        steady,
        version,
        pace,
        ceiling,
        least,
        set_by,
        old_landed,
        old_profit,
        step_price,
        step_at,
        code,
        category,
        currency,
    ) = cols
    n = len(ids)
    stores = {row.id: row for row in s.scalars(select(Store))}
    store_code = [stores[i].code for i in store.tolist()]
    lanes = _Lanes(desk, None if sift else wanted, stores)
    chosen = lanes.choose(sku, store, currency)
    keys = Keys(chosen.supplier_code, category, store_code, code)
    policy = policy_columns(s, n, keys)
    landed = np.where(chosen.lane > 0, chosen.goods + chosen.ship + chosen.handling, 0)
    endings = price.Endings()
    over = lay_over(n, price_layers(s.scalars(select(PriceRule)) if rules is None else rules, endings), keys, landed)
    # The largest step is a day's: within a day it is counted from the price that the day began with.
    fresh = (step_at != NONE) & (step_at > to_ms(now) - DAY_MS) & (step_price > 0)
    base = np.where(fresh, step_price, wprice)
    terms, limits = _terms(s, stores, store, category, landed, over, chosen.least_price, ceiling, least, base)
    return Book(
        ids,
        store,
        sku,
        state,
        paused_by,
        wprice,
        wquantity,
        hand,
        steady,
        version,
        pace,
        np.array([stores[i].write_listings for i in store.tolist()], dtype=np.int64),
        chosen.lane,
        chosen.goods,
        chosen.ship,
        chosen.handling,
        chosen.available,
        set_by,
        old_landed,
        old_profit,
        base,
        np.where(fresh, step_at, NONE),
        chosen.parts,
        lanes.free,
        terms,
        limits,
        endings,
        policy,
        over,
        currency,
        code,
    )


def _join(parts: list[Any]) -> Any:
    if isinstance(parts[0], list):
        return [value for part in parts for value in part]
    filled = [part for part in parts if len(part)]
    if filled and isinstance(filled[0], list):
        return [value for part in filled for value in part]
    return np.concatenate(filled) if filled else parts[0]


def _listings(s: Session, now: datetime, skus: list[int] | None) -> list[Any]:
    in_force = (Listing.hand_until.is_(None)) | (Listing.hand_until > now)
    query = (
        select(
            Listing.id,
            Listing.store_id,
            Listing.sku_id,
            _place(Listing.state, STATES),
            _place(Listing.paused_by, PAUSED_BY),
            Listing.wanted_price,
            Listing.wanted_quantity,
            _or_none(case((in_force, Listing.hand_price), else_=None)),
            Listing.steady,
            Listing.version,
            Sku.pace,
            _or_none(Listing.ceiling),
            _or_none(Listing.least_price),
            Listing.set_by,
            _or_none(Listing.landed),
            _or_none(Listing.profit),
            _or_none(Listing.step_price),
            _or_none(type_coerce(Listing.step_at, BigInteger)),
            Sku.code,
            Sku.category,
            Listing.currency,
        )
        .join(Sku, Sku.id == Listing.sku_id)
        .where(Listing.state.in_(("live", "paused")))
        .order_by(Listing.id)
    )
    return fetch_columns(s, query if skus is None else query.where(Listing.sku_id.in_(skus)))


def lane_pairs(s: Session) -> tuple[Ints, Ints]:
    """Every SKU with every item of its open lanes, as two columns."""
    query = select(Lane.sku_id, LanePart.item_id).join(LanePart, LanePart.lane_id == Lane.id).where(Lane.until.is_(None))
    sku, item = fetch_columns(s, query)
    return sku, item


@dataclass
class _Chosen:
    lane: Ints
    goods: Ints
    ship: Ints
    handling: Ints
    available: Ints
    least_price: Ints
    supplier_code: list[str]
    parts: dict[int, tuple[tuple[int, int, int], ...]]


class _Lanes:
    """All open lanes with their items; `free` = supplier units of each item that are not promised yet."""

    def __init__(self, desk: Desk, skus: list[int] | None, stores: dict[int, Store]) -> None:
        self.desk, self.stores = desk, stores
        s = desk.s
        query = (
            select(
                Lane.id,
                Lane.sku_id,
                func.coalesce(Lane.store_id, 0),
                Lane.supplier_id,
                Lane.origin_id,
                Lane.use,
                _place(Lane.state, ("new", "open", "slow", "shut")),
                LanePart.item_id,
                LanePart.units_num,
                LanePart.units_den,
                Item.cost,
                Item.stock,
                _place(Item.offer, ("good", "doubted", "gone")),
                _or_none(Item.least_price),
                Origin.handling,
                Lane.service,
            )
            .join(LanePart, LanePart.lane_id == Lane.id)
            .join(Item, Item.id == LanePart.item_id)
            .join(Origin, Origin.id == Lane.origin_id)
            .where(Lane.until.is_(None))
            .order_by(Lane.sku_id, Lane.use, Lane.id)
        )
        parts = [
            fetch_columns(s, query if chunk is None else query.where(Lane.sku_id.in_(chunk)))
            for chunk in ([None] if skus is None else in_chunks(skus))
        ]
        cols = [_join([part[i] for part in parts]) for i in range(16)] if parts else [np.zeros(0, dtype=np.int64)] * 16
        (
            self.p_lane,
            self.p_sku,
            self.p_store,
            self.p_supplier,
            self.p_origin,
            self.p_use,
            self.p_state,
            self.p_item,
            self.p_num,
            self.p_den,
            self.p_cost,
            self.p_stock,
            self.p_offer,
            self.p_least,
            self.p_handling,
            self.p_service,
        ) = cols
        owed = owed_units(desk)
        self.free: dict[int, int] = {}
        stale = {row.id for row in s.scalars(select(Supplier)) if is_stale(desk, row)}
        for item, stock, offer, supplier in zip(
            self.p_item.tolist(), self.p_stock.tolist(), self.p_offer.tolist(), self.p_supplier.tolist(), strict=True
        ):
            have = UNTOLD if stock < 0 else stock
            self.free[item] = 0 if offer == 2 or supplier in stale else max(have - owed.get(item, 0), 0)

    def choose(self, sku: Ints, store: Ints, currency: list[str]) -> _Chosen:
        """For each listing the first lane in order that has stock; else the first that works at all; else none."""
        n = len(sku)
        zero = np.zeros(n, dtype=np.int64)
        out = _Chosen(zero.copy(), zero.copy(), zero.copy(), zero.copy(), zero.copy(), np.full(n, NONE, dtype=np.int64), [""] * n, {})
        if not len(self.p_lane):
            return out
        # Lanes: the first part of each stands for the whole.
        first = np.flatnonzero(np.r_[True, self.p_lane[1:] != self.p_lane[:-1]])
        free = np.array([self.free[item] for item in self.p_item.tolist()], dtype=np.int64)
        can = np.minimum.reduceat(serves(free, np.zeros_like(free), self.p_num, self.p_den), first)
        lane_sku, lane_store, usable = self.p_sku[first], self.p_store[first], self.p_state[first] != 3
        # Pairs of listing and lane, in the lane's order of use.
        low, high = np.searchsorted(lane_sku, sku, "left"), np.searchsorted(lane_sku, sku, "right")
        counts = high - low
        listing = np.repeat(np.arange(n), counts)
        lane = np.arange(len(listing)) - np.repeat(np.cumsum(counts) - counts, counts) + np.repeat(low, counts)
        fits = usable[lane] & ((lane_store[lane] == 0) | (lane_store[lane] == store[listing]))
        listing, lane = listing[fits], lane[fits]
        # A lane of this very store goes before a general one; one with stock before one without.
        rank = np.lexsort((self.p_use[first][lane], lane_store[lane] == 0, can[lane] <= 0, listing))
        listing, lane = listing[rank], lane[rank]
        best = np.flatnonzero(np.r_[True, listing[1:] != listing[:-1]]) if len(listing) else listing
        rows, lanes = listing[best], lane[best]
        money = self._money(first, lanes, store[rows], [currency[i] for i in rows.tolist()])
        out.lane[rows], out.available[rows] = self.p_lane[first][lanes], can[lanes]
        out.goods[rows], out.ship[rows], out.handling[rows] = money
        least = np.maximum.reduceat(self.p_least, first)
        out.least_price[rows] = least[lanes]
        codes = {row.id: row.code for row in self.desk.s.scalars(select(Supplier))}
        ends = np.r_[first[1:], len(self.p_lane)]
        items, num, den = self.p_item.tolist(), self.p_num.tolist(), self.p_den.tolist()
        suppliers = self.p_supplier[first][lanes].tolist()
        for row, at, end, supplier in zip(rows.tolist(), first[lanes].tolist(), ends[lanes].tolist(), suppliers, strict=True):
            out.supplier_code[row] = codes[supplier]
            out.parts[row] = tuple((items[i], num[i], den[i]) for i in range(at, end))
        return out

    def _money(self, first: Ints, lanes: Ints, store: Ints, currency: list[str]) -> tuple[Ints, Ints, Ints]:
        """Goods, shipping and handling of one unit by these lanes, in the listings' currency."""
        s = self.desk.s
        suppliers = {row.id: row for row in s.scalars(select(Supplier))}
        firsts = {
            (o, code, country): ship
            for o, code, country, ship in s.execute(select(Service.origin_id, Service.code, Service.country, Service.first))
        }
        tax = np.array([suppliers[i].tax for i in self.p_supplier.tolist()], dtype=np.int64)
        origin, service, supplier = self.p_origin[first].tolist(), self.p_service, self.p_supplier[first].tolist()
        goods = np.zeros(len(lanes), dtype=np.int64)
        ship, handling = goods.copy(), goods.copy()
        # One conversion per pair of currencies and terms; nearly always there is one.
        groups: dict[tuple[int, str], list[int]] = {}
        for place, (lane, code) in enumerate(zip(lanes.tolist(), currency, strict=True)):
            groups.setdefault((supplier[lane], code), []).append(place)
        starts = first.tolist()
        for (number, code), places in groups.items():
            convert = conversion(s, suppliers[number], code)
            plain = replace(convert, discount=0)
            part_cost = cost.goods_cost(convert.apply(self.p_cost), self.p_num, self.p_den, tax)
            per_lane = np.add.reduceat(part_cost, first)
            at = lanes[places]
            goods[places] = per_lane[at]
            handling[places] = plain.apply(self.p_handling[first][at])
            country = [self.stores[i].country for i in store[places].tolist()]
            raw = [firsts.get((origin[lane], service[starts[lane]], land), 0) for lane, land in zip(at.tolist(), country, strict=True)]
            ship[places] = plain.apply(np.array(raw, dtype=np.int64))
        return goods, ship, handling


def is_stale(desk: Desk, supplier: Supplier) -> bool:
    """No good sweep for so long that its stock cannot be believed any more."""
    return supplier.stale and supplier.good_sweep_at is not None


def conversion(s: Session, supplier: Supplier, currency: str, cushion: int = 20_000) -> cost.Conversion:
    """From a supplier's money into a store's: the newest rate, with the cushion only where currencies differ."""
    if supplier.currency == currency:
        return cost.Conversion(discount=supplier.discount)
    nano = s.scalar(select(Rate.nano).where(Rate.base == supplier.currency, Rate.quote == currency).order_by(Rate.day.desc()).limit(1))
    if nano is None:
        raise ValueError(f"there is no exchange rate from {supplier.currency} to {currency}; bring one in under Price")
    return cost.Conversion(Decimal(nano).scaleb(-9), cushion, supplier.discount, minor_digits(supplier.currency), minor_digits(currency))


def owed_units(desk: Desk) -> dict[int, int]:
    """Supplier units per item that are sold and not yet bought, or bought and not yet seen in the supplier's stock."""
    s = desk.s
    owed: dict[int, int] = {}
    chosen = func.coalesce(
        OrderLine.lane_id,
        select(Lane.id).where(Lane.sku_id == OrderLine.sku_id, Lane.until.is_(None), Lane.use == 0).limit(1).scalar_subquery(),
    )
    open_lines = (
        select(OrderLine.quantity, chosen.label("lane"))
        .where(OrderLine.state.in_(("new", "needs_lane", "held", "ready", "refused")))
        .subquery()
    )
    for item, quantity, num, den in s.execute(
        select(LanePart.item_id, open_lines.c.quantity, LanePart.units_num, LanePart.units_den).join(
            open_lines, open_lines.c.lane == LanePart.lane_id
        )
    ):
        owed[item] = owed.get(item, 0) + cost.packs_needed(quantity, num, den)
    pending = (PurchaseOrder.state.in_(("waiting", "sent"))) | (
        (PurchaseOrder.state == "accepted") & (PurchaseOrder.answered_at > func.coalesce(Supplier.good_sweep_at, 0))
    )
    for item, quantity in s.execute(
        select(PurchaseLine.item_id, func.sum(PurchaseLine.quantity))
        .join(PurchaseOrder, PurchaseOrder.id == PurchaseLine.purchase_id)
        .join(Supplier, Supplier.id == PurchaseOrder.supplier_id)
        .where(PurchaseLine.live, pending)
        .group_by(PurchaseLine.item_id)
    ):
        owed[item] = owed.get(item, 0) + quantity
    return owed


def fee_rows(s: Session, stores: Iterable[int]) -> dict[tuple[int, str], FeeRow]:
    """What each store takes, by category; the row without a category is for all others."""
    return {(row.store_id, row.category): row for row in s.scalars(select(FeeRow).where(FeeRow.store_id.in_(list(stores))))}


def fee_of(fees: dict[tuple[int, str], FeeRow], store: int, category: str) -> FeeRow | None:
    return fees.get((store, category)) or fees.get((store, ""))


def _terms(
    s: Session,
    stores: dict[int, Store],
    store: Ints,
    category: list[str],
    landed: Ints,
    over: Overlay,
    item_least: Ints,
    ceiling: Ints,
    least: Ints,
    old: Ints,
) -> tuple[price.Terms, price.Limits]:
    n = len(landed)
    fees = fee_rows(s, stores)
    kinds: dict[tuple[int, str], int] = {}
    which = np.fromiter((kinds.setdefault(pair, len(kinds)) for pair in zip(store.tolist(), category, strict=True)), np.int64, n)
    table = np.zeros((max(len(kinds), 1), 8), dtype=np.int64)
    for (number, name), place in kinds.items():
        shop, fee = stores[number], fee_of(fees, number, name)
        table[place] = [
            fee.percent if fee else 0,
            fee.least if fee else 0,
            NONE if fee is None or fee.cap is None else fee.cap,
            fee.fixed if fee else 0,
            shop.payment,
            shop.payment_fixed,
            shop.tax_in_price,
            0,
        ]
    picked = table[which] if n else np.zeros((0, 8), dtype=np.int64)

    def rule(name: str, empty: int) -> Ints:
        values = over.values.get(name)
        return np.full(n, empty, dtype=np.int64) if values is None else np.where(values == NONE, empty, values)

    def tighter(one: Ints, other: Ints, pick: Any) -> Ints:
        return np.asarray(np.where(one == NONE, other, np.where(other == NONE, one, pick(one, other))))

    terms = price.Terms(
        landed, rule("reserve", 0), picked[:, 0], picked[:, 1], picked[:, 2], picked[:, 3], picked[:, 4], picked[:, 5], picked[:, 6]
    )
    # Without any rule a listing is priced to lose nothing.
    limits = price.Limits(
        rule("rule", int(price.Rule.margin)),
        rule("rule_value", 0),
        rule("min_margin", NONE),
        rule("min_profit", NONE),
        tighter(item_least, least, np.maximum),
        tighter(rule("ceiling", NONE), ceiling, np.minimum),
        rule("endings", 0),
        np.where(old > 0, old, NONE),
        rule("step", NONE),
    )
    return terms, limits
