"""Which lane each listing is filled by, what one unit costs that way, and how many are left to promise."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from ..core import cost
from ..core.money import PPM, Bools, Ints, half_up_columns
from ..core.price import NONE
from ..core.stock import serves
from ..data.lanes import Lane, LanePart
from ..data.orders import OrderLine, PurchaseLine, PurchaseOrder
from ..data.setup import Origin, Supplier
from ..data.source import Item
from .columns import coded, fetch_columns, join, or_none, place_of
from .desk import Desk, in_chunks
from .facts import Facts, NoRate

# Where a supplier does not tell its stock, more than any cap.
UNTOLD = 1_000_000
_FIELDS = (
    "lane",
    "sku",
    "store",
    "supplier",
    "origin",
    "use",
    "state",
    "item",
    "num",
    "den",
    "cost",
    "stock",
    "offer",
    "least",
    "handling",
    "weight",
    "service",
    "money",
)
SHUT, GONE = 3, 2


@dataclass
class Chosen:
    """Per listing: its lane (0 = none), place of that lane among all, units it could sell, shipping in the supplier's money.

    closed: it has lanes, and all of them are shut, so nothing can be bought for it.
    """

    lane: Ints
    place: Ints
    available: Ints
    ship: Ints
    supplier_code: list[str]
    parts: dict[int, tuple[tuple[int, int, int], ...]]
    closed: Bools


@dataclass
class UnitCost:
    """What one sold unit costs by the chosen lane, in the listing's money; the rebate is expected, and counted by nobody here.

    least_price: what its suppliers ask that it be sold for at least, NONE where they ask nothing.
    known: there is a lane, and a rate from its supplier's money; elsewhere the amounts are 0 and mean nothing.
    """

    goods: Ints
    ship: Ints
    handling: Ints
    rebate: Ints
    least_price: Ints
    known: Bools


class Lanes:
    """All open lanes with their items; `free` = supplier units of each item that are not promised yet."""

    def __init__(self, desk: Desk, facts: Facts, skus: list[int] | None) -> None:
        self.facts = facts
        chunks = [None] if skus is None else list(in_chunks(skus))
        parts = [_read(desk.s, chunk) for chunk in chunks] or [_read(desk.s, [])]
        self.p = {name: join([part[i] for part in parts]) for i, name in enumerate(_FIELDS)}
        self.p["money"], self.monies = coded(list(self.p["money"]))
        self.first = np.flatnonzero(np.r_[True, self.p["lane"][1:] != self.p["lane"][:-1]]) if len(self.p["lane"]) else self.p["lane"]
        self.free = self._free(desk)
        self._apply_tiers(desk.s)

    def _free(self, desk: Desk) -> dict[int, int]:
        owed = owed_units(desk)
        stale = {row.id for row in self.facts.suppliers.values() if is_stale(row)}
        rows = zip(*(self.p[name].tolist() for name in ("item", "stock", "offer", "supplier")), strict=True)
        return {
            item: 0 if offer == GONE or supplier in stale else max((UNTOLD if stock < 0 else stock) - owed.get(item, 0), 0)
            for item, stock, offer, supplier in rows
        }

    def _apply_tiers(self, s: Session) -> None:
        """What one sale makes us buy several of, costs what so many cost."""
        units = -(-self.p["num"] // self.p["den"])
        rows = np.flatnonzero(units > 1)
        for chunk in in_chunks(set(self.p["item"][rows].tolist())):
            tiers: dict[int, list[Any] | None] = dict(
                s.execute(select(Item.id, Item.tiers).where(Item.id.in_(chunk), Item.tiers.is_not(None))).tuples().all()
            )
            for row in rows[np.isin(self.p["item"][rows], list(tiers))].tolist() if tiers else []:
                found = tiers[int(self.p["item"][row])] or []
                self.p["cost"][row] = cost.tier_cost(int(self.p["cost"][row]), found, int(units[row]))

    def sweep_minutes(self, lane: int) -> int:
        """How far apart two looks at a lane's supplier are."""
        at = int(np.flatnonzero(self.p["lane"] == lane)[0])
        return self.facts.suppliers[int(self.p["supplier"][at])].sweep_minutes

    def choose(self, sku: Ints, store: Ints) -> Chosen:
        """For each listing the first lane in order that has stock; else the first that works at all; else none.

        A lane whose service does not go to the store's country, or is too light for the goods, serves nobody there.
        """
        n, first, p = len(sku), self.first, self.p
        zero = np.zeros(n, dtype=np.int64)
        out = Chosen(zero, zero.copy(), zero.copy(), zero.copy(), [""] * n, {}, np.zeros(n, dtype=np.bool_))
        if not len(first):
            return out
        free = np.array([self.free[item] for item in p["item"].tolist()], dtype=np.int64)
        can = np.minimum.reduceat(serves(free, np.zeros_like(free), p["num"], p["den"]), first)
        lane_sku, lane_store, usable = p["sku"][first], p["store"][first], p["state"][first] != SHUT
        # Pairs of listing and lane, in the lane's order of use.
        low, high = np.searchsorted(lane_sku, sku, "left"), np.searchsorted(lane_sku, sku, "right")
        counts = high - low
        listing = np.repeat(np.arange(n), counts)
        lane = np.arange(len(listing)) - np.repeat(np.cumsum(counts) - counts, counts) + np.repeat(low, counts)
        meant = (lane_store[lane] == 0) | (lane_store[lane] == store[listing])
        fits = usable[lane] & meant
        out.closed[listing[meant]] = True
        out.closed[listing[fits]] = False
        listing, lane = listing[fits], lane[fits]
        ship, sent = self._shipping(lane, store[listing])
        left = np.where(sent, can[lane], 0)
        # A lane of this very store goes before a general one; one with stock before one without.
        rank = np.lexsort((p["use"][first][lane], lane_store[lane] == 0, left <= 0, listing))
        listing, lane, ship, left = listing[rank], lane[rank], ship[rank], left[rank]
        best = np.flatnonzero(np.r_[True, listing[1:] != listing[:-1]]) if len(listing) else listing
        rows, lanes = listing[best], lane[best]
        out.lane[rows], out.place[rows] = p["lane"][first][lanes], lanes
        out.available[rows], out.ship[rows] = left[best], ship[best]
        self._name_parts(out, rows, lanes)
        return out

    def _name_parts(self, out: Chosen, rows: Ints, lanes: Ints) -> None:
        ends = np.r_[self.first[1:], len(self.p["lane"])]
        parts = list(zip(*(self.p[name].tolist() for name in ("item", "num", "den")), strict=True))
        codes = {number: row.code for number, row in self.facts.suppliers.items()}
        suppliers = self.p["supplier"][self.first][lanes].tolist()
        spans = zip(rows.tolist(), self.first[lanes].tolist(), ends[lanes].tolist(), suppliers, strict=True)
        for row, at, end, supplier in spans:
            out.supplier_code[row] = codes[supplier]
            out.parts[row] = (parts[at],) if end == at + 1 else tuple(parts[at:end])

    def _shipping(self, lane: Ints, store: Ints) -> tuple[Ints, Bools]:
        """Per pair: shipping of the first unit in the supplier's money, and whether the lane's service goes there at all.

        Where it does not, the dearest way from that origin stands in, so that no price is ever made without shipping.
        """
        origin, service = self.p["origin"][self.first].tolist(), self.p["service"]
        routes: dict[tuple[int, str], int] = {}
        route = np.array(
            [routes.setdefault((o, service[i]), len(routes)) for o, i in zip(origin, self.first.tolist(), strict=True)], dtype=np.int64
        )
        lands = {land: i for i, land in enumerate(sorted({row.country for row in self.facts.stores.values()}))}
        to = np.zeros(max(self.facts.stores, default=0) + 1, dtype=np.int64)
        for number, row in self.facts.stores.items():
            to[number] = lands[row.country]
        table = np.full((len(routes), len(lands)), -1, dtype=np.int64)
        dearest: dict[int, int] = {}
        for place, one in enumerate(self.facts.services):
            if (one.origin_id, one.code) in routes and one.country in lands:
                table[routes[one.origin_id, one.code], lands[one.country]] = place
            most = max([one.first, *(band[1] for band in one.weight_bands or [])])
            dearest[one.origin_id] = max(dearest.get(one.origin_id, 0), most)
        chosen = table[route[lane], to[store]]
        firsts = np.array([*(one.first for one in self.facts.services), 0], dtype=np.int64)
        ship, sent = firsts[chosen], chosen >= 0
        weights = np.add.reduceat(-(-self.p["weight"] * self.p["num"] // self.p["den"]), self.first)[lane]
        for place in np.unique(chosen[sent]).tolist():
            bands = self.facts.services[place].weight_bands
            if bands:
                rows = np.flatnonzero(chosen == place)
                at = np.searchsorted(np.array([band[0] for band in bands]), weights[rows], "left")
                ship[rows] = np.array([*(band[1] for band in bands), bands[-1][1]], dtype=np.int64)[at]
                sent[rows] = at < len(bands)
        for pair in np.flatnonzero(chosen < 0).tolist():
            ship[pair] = dearest.get(origin[int(lane[pair])], 0)
        return ship, sent

    def money(self, chosen: Chosen, currency: list[str], cushion: Ints) -> UnitCost:
        """What one unit costs by the chosen lanes, in the listings' currencies with each one's cushion (ppm).

        Where there is no exchange rate nothing is guessed, and the cost is not known.
        """
        n, first, p = len(chosen.lane), self.first, self.p
        goods, ship, handling, rebate = np.zeros((4, n), dtype=np.int64)
        out = UnitCost(goods, ship, handling, rebate, np.full(n, NONE, dtype=np.int64), chosen.lane > 0)
        rows = np.flatnonzero(chosen.lane > 0)
        if not len(rows):
            return out
        codes = {code: i for i, code in enumerate(sorted(set(currency)))}
        of = np.array([codes[code] for code in currency], dtype=np.int64)
        lane_supplier = p["supplier"][first]
        for number in np.unique(lane_supplier[chosen.place[rows]]).tolist():
            supplier = self.facts.suppliers[number]
            mine = np.flatnonzero(p["supplier"] == number)
            starts = np.flatnonzero(np.r_[True, p["lane"][mine][1:] != p["lane"][mine][:-1]])
            here = rows[lane_supplier[chosen.place[rows]] == number]
            of_part = p["money"][mine]
            monies = np.unique(of_part).tolist()
            for code, place in codes.items():
                same = here[of[here] == place]
                # Where the currency is the same, no cushion is counted.
                alike = [self.monies[i] for i in monies] == [code] and code == supplier.currency
                for extra in [0] if alike else np.unique(cushion[same]).tolist():
                    at = same if alike else same[cushion[same] == extra]
                    if not len(at):
                        continue
                    parts, least, lost = np.zeros((3, len(mine)), dtype=np.int64)
                    try:
                        plain = self.facts.conversion(supplier, code, extra, discount=False)
                        for money in monies:
                            some = of_part == money
                            parts[some], least[some], lost[some] = self._parts(supplier, mine[some], code, extra, self.monies[money])
                    except NoRate:
                        # Its stock is followed all the same; Today says which rate is wanting.
                        out.known[at] = False
                        continue
                    per_lane, asked, unknown = np.zeros((3, len(first)), dtype=np.int64)
                    of_supplier = lane_supplier == number
                    per_lane[of_supplier], asked[of_supplier] = np.add.reduceat(parts, starts), np.add.reduceat(least, starts)
                    unknown[of_supplier] = np.add.reduceat(lost, starts)
                    out.known[at] = unknown[chosen.place[at]] == 0
                    out.goods[at] = per_lane[chosen.place[at]]
                    out.least_price[at] = np.where(asked[chosen.place[at]] > 0, asked[chosen.place[at]], NONE)
                    out.rebate[at] = half_up_columns(out.goods[at] * supplier.rebate, PPM)
                    out.handling[at] = plain.apply(p["handling"][first][chosen.place[at]])
                    out.ship[at] = plain.apply(chosen.ship[at])
        return out

    def _parts(self, supplier: Supplier, rows: Ints, code: str, cushion: int, money: str) -> tuple[Ints, Ints, Ints]:
        """Items of one currency in one sold unit: what they cost, the least that is asked for them, whether there is no rate (1)."""
        p, n = self.p, len(rows)
        try:
            convert = self.facts.conversion(supplier, code, cushion, of=money)
            plain = self.facts.conversion(supplier, code, cushion, discount=False, of=money)
        except NoRate:
            return np.zeros(n, np.int64), np.zeros(n, np.int64), np.ones(n, np.int64)
        num, den = p["num"][rows], p["den"][rows]
        parts = cost.goods_cost(convert.apply(p["cost"][rows]), num, den, np.full(n, supplier.tax, dtype=np.int64))
        asked = p["least"][rows]
        least = np.where(asked > 0, -(-plain.apply(np.maximum(asked, 0)) * num // den), 0)
        return parts, least, np.zeros(n, np.int64)


def _read(s: Session, skus: list[int] | None) -> list[object]:
    query = (
        select(
            Lane.id,
            Lane.sku_id,
            func.coalesce(Lane.store_id, 0),
            Lane.supplier_id,
            Lane.origin_id,
            Lane.use,
            place_of(Lane.state, ("new", "open", "slow", "shut")),
            LanePart.item_id,
            LanePart.units_num,
            LanePart.units_den,
            Item.cost,
            Item.stock,
            place_of(Item.offer, ("good", "doubted", "gone")),
            or_none(Item.least_price),
            Origin.handling,
            Item.weight_g,
            Lane.service,
            Item.currency,
        )
        .join(LanePart, LanePart.lane_id == Lane.id)
        .join(Item, Item.id == LanePart.item_id)
        .join(Origin, Origin.id == Lane.origin_id)
        .where(Lane.until.is_(None))
        .order_by(Lane.sku_id, Lane.use, Lane.id)
    )
    return fetch_columns(s, query if skus is None else query.where(Lane.sku_id.in_(skus)))


def lane_pairs(s: Session) -> tuple[Ints, Ints]:
    """Every SKU with every item of its open lanes, as two columns."""
    query = select(Lane.sku_id, LanePart.item_id).join(LanePart, LanePart.lane_id == Lane.id).where(Lane.until.is_(None))
    sku, item = fetch_columns(s, query)
    return sku, item


def is_stale(supplier: Supplier) -> bool:
    """No good sweep for so long that its stock cannot be believed any more."""
    return supplier.stale and supplier.good_sweep_at is not None


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
