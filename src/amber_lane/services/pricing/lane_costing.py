"""Which lane each listing is filled by, what one unit costs that way, and how many are left to promise."""

from __future__ import annotations

from copy import copy
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from ...connectors.kinds import DEPOTS
from ...core import cost
from ...core.money import Bools, Ints, half_up_columns
from ...core.numbers import PPM
from ...core.price import NONE
from ...core.stock import first_of, serves
from ...data.bulk import in_chunks
from ...data.columns import coded
from ...data.setup import Supplier
from ...data.source import Item
from ..base.context import Context
from .draft_lane import NUMBER, DraftLane, owed_by_draft, with_draft
from .inputs import Facts, NoRate
from .lane_columns import FIELDS, GONE, SHUT, lane_columns, owed_units, services_by_country
from .packs import usual_sizes

# Where a supplier does not tell its stock, more than any cap.
UNKNOWN_STOCK = 1_000_000


@dataclass(frozen=True)
class Parts:
    """The items that listings are filled by: columns of one entry for each listing's row and item, in the order of rows."""

    row: Ints
    item: Ints
    num: Ints
    den: Ints

    @classmethod
    def none(cls) -> Parts:
        return cls(*np.zeros((4, 0), dtype=np.int64))

    @cached_property
    def of(self) -> dict[int, tuple[tuple[int, int, int], ...]]:
        """By row: (item, units as num and den) of each."""
        out: dict[int, list[tuple[int, int, int]]] = {}
        for row, *part in zip(self.row.tolist(), self.item.tolist(), self.num.tolist(), self.den.tolist(), strict=True):
            out.setdefault(row, []).append((part[0], part[1], part[2]))
        return {row: tuple(parts) for row, parts in out.items()}

    def take(self, rows: Ints) -> Parts:
        """Those of some rows alone, which are numbered anew."""
        at = np.flatnonzero(np.isin(self.row, rows))
        return Parts(np.searchsorted(rows, self.row[at]), self.item[at], self.num[at], self.den[at])

    def of_rows(self, rows: Ints) -> Parts:
        """Those of some rows, as they are numbered."""
        at = np.flatnonzero(np.isin(self.row, rows))
        return Parts(self.row[at], self.item[at], self.num[at], self.den[at])

    def shared(self) -> Parts:
        """Those whose item several rows draw on."""
        items, counts = np.unique(self.item, return_counts=True)
        at = np.flatnonzero(np.isin(self.item, items[counts > 1]))
        return Parts(self.row[at], self.item[at], self.num[at], self.den[at])


@dataclass
class Chosen:
    """Per listing: its lane (0 = none), place of that lane among all, units it could sell.

    closed: it has lanes, and all of them are shut, so nothing can be bought for it.
    gone: an item of its lane is not sold by the supplier any more.
    ours: it is sent from a depot that holds our own stock.
    leg_row, leg, leg_ship: the parcels that fill it, one entry for each listing and origin: the listing's row, the place
    among all legs, shipping in that supplier's money.
    """

    lane: Ints
    place: Ints
    available: Ints
    leg_row: Ints
    leg: Ints
    leg_ship: Ints
    supplier_code: list[str]
    parts: Parts
    closed: Bools
    gone: Bools
    ours: Bools


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
    """All open lanes with their items; `free` = supplier units of each item that are not promised yet.

    A lane has one leg for each place that its items are sent from; nearly all have just one. Replacements are not among
    them: a listing never shows what is there of other goods.
    """

    def __init__(
        self, context: Context, facts: Facts, skus: list[int] | None, columns: list[Any] | None = None, draft: DraftLane | None = None
    ) -> None:
        """skus: of these alone. columns: where the lanes were read already (see lane_columns). draft: a lane more, as if it stood."""
        self.facts = facts
        chunks = [None] if skus is None else list(in_chunks(skus))
        self.columns = lane_columns(context.session, skus) if columns is None else columns
        if draft:
            self.columns = with_draft(self.columns, draft)
        self.p = dict(zip(FIELDS, self.columns, strict=True))
        self.p["money"], self.monies = coded(list(self.p["money"]))
        self.p["service"], self.services = coded(list(self.p["service"]))
        p, none = self.p, np.zeros(0, dtype=np.int64)
        new = p["lane"][1:] != p["lane"][:-1]
        self.first = np.flatnonzero(np.r_[True, new]) if len(p["lane"]) else none
        self.leg = np.flatnonzero(np.r_[True, new | (p["origin"][1:] != p["origin"][:-1])]) if len(p["lane"]) else none
        self.lane_leg = np.searchsorted(self.leg, self.first)
        self.legs_of = np.diff(np.r_[self.lane_leg, len(self.leg)])
        self.plain = len(self.leg) == len(self.first)
        self.by_country = {lane: one for chunk in chunks for lane, one in services_by_country(context.session, chunk).items()}
        if draft and draft.services:
            self.by_country[NUMBER] = draft.services
        self._count_whole_packs(context.session)
        self.free_of_part = self._free(context, draft)
        self._apply_tiers(context.session)

    def under(self, facts: Facts) -> Lanes:
        """The same lanes under other facts: what they cost may differ, not which they are."""
        other = copy(self)
        other.facts = facts
        return other

    def _free(self, context: Context, draft: DraftLane | None) -> Ints:
        """Units of each part's item that are not promised yet."""
        p, owed = self.p, owed_units(context)
        if draft:
            owed = owed_by_draft(context, draft, owed)
        stale = np.isin(p["supplier"], np.array([row.id for row in self.facts.suppliers.values() if is_stale(row)], dtype=np.int64))
        items = np.array(sorted(owed), dtype=np.int64)
        promised = np.zeros(len(p["item"]), dtype=np.int64)
        if len(items):
            place = np.minimum(np.searchsorted(items, p["item"]), len(items) - 1)
            units = np.array([owed[item] for item in items.tolist()], dtype=np.int64)
            promised = np.where(items[place] == p["item"], units[place], 0)
        left = np.maximum(np.where(p["stock"] < 0, UNKNOWN_STOCK, p["stock"]) - promised, 0)
        return np.asarray(np.where((p["offer"] == GONE) | stale, 0, left), dtype=np.int64)

    @cached_property
    def free(self) -> dict[int, int]:
        """Units of each item that are not promised yet."""
        return dict(zip(self.p["item"].tolist(), self.free_of_part.tolist(), strict=True))

    def free_of(self, items: Ints) -> Ints:
        """The same for a column of items that lanes have."""
        order = np.argsort(self.p["item"], kind="stable")
        at = np.searchsorted(self.p["item"], items, sorter=order)
        return np.asarray(self.free_of_part[order[at]], dtype=np.int64)

    def _count_whole_packs(self, s: Session) -> None:
        """What a sold unit is charged with where it is a part of a pack that must be bought whole."""
        p = self.p
        rows = np.flatnonzero(p["den"] > 1)
        p["pay_num"], p["pay_den"] = p["num"], p["den"]
        if len(rows):
            sizes = usual_sizes(s, p["sku"][rows].tolist())
            usual = np.array([sizes.get(sku, 1) for sku in p["sku"].tolist()], dtype=np.int64)
            p["pay_num"], p["pay_den"] = cost.counted_units(p["num"], p["den"], usual)

    def _apply_tiers(self, s: Session) -> None:
        """What one sale makes us buy several of, costs what so many cost."""
        units = -(-self.p["num"] // self.p["den"])
        rows = np.flatnonzero(units > 1)
        if len(rows):
            self.p["cost"] = self.p["cost"].copy()
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
        none = np.zeros(0, dtype=np.int64)
        out = Chosen(
            zero,
            zero.copy(),
            zero.copy(),
            none,
            none,
            none,
            [""] * n,
            Parts.none(),
            np.zeros(n, dtype=np.bool_),
            np.zeros(n, dtype=np.bool_),
            np.zeros(n, dtype=np.bool_),
        )
        if not len(first):
            return out
        free = self.free_of_part
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
        # Pairs of listing and leg: where every lane has one leg, they are the pairs of listing and lane.
        legs = self.legs_of[lane]
        at = np.cumsum(legs) - legs
        of_pair = np.arange(len(lane)) if self.plain else np.repeat(np.arange(len(lane)), legs)
        leg = self.lane_leg[lane] if self.plain else np.arange(len(of_pair)) - np.repeat(at, legs) + np.repeat(self.lane_leg[lane], legs)
        ship, leg_sent = self._shipping(leg, store[listing[of_pair]])
        sent = leg_sent if self.plain or not len(leg_sent) else np.logical_and.reduceat(leg_sent, at)
        left = np.where(sent, can[lane], 0)
        # A lane of this very store goes before a general one; one with stock before one without.
        best = first_of(listing, left <= 0, lane_store[lane] == 0, p["priority"][first][lane])
        rows, lanes = listing[best], lane[best]
        out.lane[rows], out.place[rows] = p["lane"][first][lanes], lanes
        out.available[rows] = left[best]
        out.gone[rows] = np.maximum.reduceat(p["offer"] == GONE, first)[lanes]
        picked = at[best] if self.plain else np.repeat(at[best] - (np.cumsum(legs[best]) - legs[best]), legs[best])
        if not self.plain:
            picked = picked + np.arange(len(picked))
        out.leg_row, out.leg, out.leg_ship = listing[of_pair[picked]], leg[picked], ship[picked]
        self._name_parts(out, rows, lanes)
        return out

    def _name_parts(self, out: Chosen, rows: Ints, lanes: Ints) -> None:
        p, begin = self.p, self.first[lanes]
        end = np.r_[self.first[1:], len(p["lane"])][lanes]
        codes = {number: row.code for number, row in self.facts.suppliers.items()}
        depots = [number for number, row in self.facts.suppliers.items() if row.kind in DEPOTS]
        out.ours[rows] = np.isin(p["supplier"][self.first][lanes], np.array(depots, dtype=np.int64))
        for row, supplier in zip(rows.tolist(), p["supplier"][self.first][lanes].tolist(), strict=True):
            out.supplier_code[row] = codes[supplier]
        many = end - begin
        at = np.repeat(begin, many) + np.arange(int(many.sum())) - np.repeat(np.cumsum(many) - many, many)
        out.parts = Parts(np.repeat(rows, many), p["item"][at], p["num"][at], p["den"][at])

    def _shipping(self, leg: Ints, store: Ints) -> tuple[Ints, Bools]:
        """Per pair: shipping of the first unit in the supplier's money, and whether the leg's service goes there at all.

        Where it does not, the dearest way from that origin stands in, so that no price is ever made without shipping.
        """
        p = self.p
        origin, service = p["origin"][self.leg], p["service"][self.leg]
        # Lanes that send to some countries otherwise are few; each such way is a route of its own.
        others = {number: tuple(sorted(one.items())) for number, one in self.by_country.items()}
        way = np.zeros(len(self.leg), dtype=np.int64)
        ways: list[tuple[tuple[str, str], ...]] = [()]
        for at in np.flatnonzero(np.isin(p["lane"][self.leg], np.array(list(others), dtype=np.int64))).tolist():
            other = others[int(p["lane"][self.leg[at]])]
            if other not in ways:
                ways.append(other)
            way[at] = ways.index(other)
        kinds, route = np.unique(np.stack([origin, service, way]), axis=1, return_inverse=True)
        route = route.reshape(-1)
        lands = {land: i for i, land in enumerate(sorted({row.country for row in self.facts.stores.values()}))}
        to = np.zeros(max(self.facts.stores, default=0) + 1, dtype=np.int64)
        for number, row in self.facts.stores.items():
            to[number] = lands[row.country]
        place = {(one.origin_id, one.code, one.country): at for at, one in enumerate(self.facts.services)}
        table = np.full((max(kinds.shape[1], 1), len(lands)), -1, dtype=np.int64)
        for row_at, (number, code, by) in enumerate(kinds.T.tolist()):
            for land, column in lands.items():
                table[row_at, column] = place.get((number, dict(ways[by]).get(land, self.services[code]), land), -1)
        dearest: dict[int, int] = {}
        for one in self.facts.services:
            most = max([one.first, *(band[1] for band in one.weight_bands or [])])
            dearest[one.origin_id] = max(dearest.get(one.origin_id, 0), most)
        chosen = table[route[leg], to[store]]
        firsts = np.array([*(one.first for one in self.facts.services), 0], dtype=np.int64)
        ship, sent = firsts[chosen], chosen >= 0
        weights = np.add.reduceat(-(-p["weight"] * p["num"] // p["den"]), self.leg)[leg] if len(leg) else leg
        for at in np.unique(chosen[sent]).tolist():
            bands = self.facts.services[at].weight_bands
            if bands:
                rows = np.flatnonzero(chosen == at)
                band = np.searchsorted(np.array([one[0] for one in bands]), weights[rows], "left")
                ship[rows] = np.array([*(one[1] for one in bands), bands[-1][1]], dtype=np.int64)[band]
                sent[rows] = band < len(bands)
        for pair in np.flatnonzero(chosen < 0).tolist():
            ship[pair] = dearest.get(int(origin[int(leg[pair])]), 0)
        return ship, sent

    def money(self, chosen: Chosen, currency: list[str], cushion: Ints) -> UnitCost:
        """What one unit costs by the chosen lanes, in the listings' currencies with each one's cushion (ppm).

        Where there is no exchange rate nothing is guessed, and the cost is not known.
        """
        n, p = len(chosen.lane), self.p
        goods, ship, handling, rebate, asked = np.zeros((5, n), dtype=np.int64)
        out = UnitCost(goods, ship, handling, rebate, np.full(n, NONE, dtype=np.int64), chosen.lane > 0)
        if not len(chosen.leg):
            return out
        codes = {code: i for i, code in enumerate(sorted(set(currency)))}
        of = np.array([codes[code] for code in currency], dtype=np.int64)[chosen.leg_row]
        extras = cushion[chosen.leg_row]
        leg_supplier, leg_handling = p["supplier"][self.leg], p["handling"][self.leg]
        leg_at = np.repeat(np.arange(len(self.leg)), np.diff(np.r_[self.leg, len(p["lane"])]))
        used = leg_supplier[chosen.leg]
        for number in np.unique(used).tolist():
            supplier = self.facts.suppliers[number]
            mine = np.flatnonzero(p["supplier"] == number)
            starts = np.flatnonzero(np.r_[True, leg_at[mine][1:] != leg_at[mine][:-1]])
            here = np.flatnonzero(used == number)
            of_part = p["money"][mine]
            monies = np.unique(of_part).tolist()
            of_supplier = leg_supplier == number
            for code, place in codes.items():
                same = here[of[here] == place]
                # Where the currency is the same, no cushion is counted.
                alike = [self.monies[i] for i in monies] == [code] and code == supplier.currency
                for extra in [0] if alike else np.unique(extras[same]).tolist():
                    at = same if alike else same[extras[same] == extra]
                    if not len(at):
                        continue
                    rows, leg = chosen.leg_row[at], chosen.leg[at]
                    parts, least, lost = np.zeros((3, len(mine)), dtype=np.int64)
                    try:
                        plain = self.facts.conversion(supplier, code, extra, discount=False)
                        for money in monies:
                            some = of_part == money
                            parts[some], least[some], lost[some] = self._parts(supplier, mine[some], code, extra, self.monies[money])
                    except NoRate:
                        # Its stock is followed all the same; Today says which rate is wanting.
                        out.known[rows] = False
                        continue
                    per_leg, least_leg, unknown = np.zeros((3, len(self.leg)), dtype=np.int64)
                    for target, values in ((per_leg, parts), (least_leg, least), (unknown, lost)):
                        target[of_supplier] = np.add.reduceat(values, starts)
                    self._add(out.goods, rows, per_leg[leg])
                    self._add(asked, rows, least_leg[leg])
                    self._add(out.rebate, rows, half_up_columns(per_leg[leg] * supplier.rebate, PPM))
                    self._add(out.handling, rows, plain.apply(leg_handling[leg]))
                    self._add(out.ship, rows, plain.apply(chosen.leg_ship[at]))
                    out.known[rows[unknown[leg] > 0]] = False
        for column in (out.goods, out.ship, out.handling, out.rebate):
            column[~out.known] = 0
        out.least_price[:] = np.where(out.known & (asked > 0), asked, NONE)
        return out

    def _add(self, column: Ints, rows: Ints, values: Ints) -> None:
        """Add to rows; where every lane has one leg, each row comes once."""
        if self.plain:
            column[rows] += values
        else:
            np.add.at(column, rows, values)

    def _parts(self, supplier: Supplier, rows: Ints, code: str, cushion: int, money: str) -> tuple[Ints, Ints, Ints]:
        """Items of one currency in one sold unit: what they cost, the least that is asked for them, whether there is no rate (1)."""
        p, n = self.p, len(rows)
        try:
            convert = self.facts.conversion(supplier, code, cushion, of=money)
            plain = self.facts.conversion(supplier, code, cushion, discount=False, of=money)
        except NoRate:
            return np.zeros(n, np.int64), np.zeros(n, np.int64), np.ones(n, np.int64)
        num, den = p["num"][rows], p["den"][rows]
        paid = (p["pay_num"][rows], p["pay_den"][rows])
        parts = cost.goods_cost(convert.apply(p["cost"][rows]), *paid, np.full(n, supplier.tax, dtype=np.int64))
        asked = p["least"][rows]
        least = np.where(asked > 0, -(-plain.apply(np.maximum(asked, 0)) * num // den), 0)
        return parts, least, np.zeros(n, np.int64)


def is_stale(supplier: Supplier) -> bool:
    """No good sweep for so long that its stock cannot be believed any more."""
    return supplier.stale and supplier.good_sweep_at is not None
