"""Orders of the weeks before the doors opened: bought, sent and arrived, with figures that add up.

They were brought in as a past, not lived through, so the practice world's own record begins after them.
"""

from __future__ import annotations

import json
import random
from collections.abc import Callable
from datetime import datetime, timedelta
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from ..core.ids import make_s10
from ..core.states import LaneCause, LaneState
from ..data.base import day_ms, to_ms
from ..data.bulk import bulk_insert
from ..data.depot import HeldGoods
from ..data.lanes import Lane, LanePart
from ..data.orders import FillPlan, Order, OrderLine, PurchaseLine, PurchaseOrder
from ..data.setup import Origin, Service, Store
from ..data.shelf import Listing, Sku
from ..data.source import Item
from ..data.transit import CarrierEvent, Parcel, ParcelLine, PassedOn
from ..services.base.context import Context
from ..services.books.posting import post_orders
from ..services.fulfilment.delivery_exceptions import RETURNED_FOR
from ..services.mapping import lane_states
from ..services.orders.intake import keep_lines
from ..services.pricing import sales_velocity
from ..services.pricing.inputs import fee_of, fee_rows
from .partners import Land
from .past_books import write_money

FIRST = ("Rowan", "Tilda", "Emeka", "Marit", "Callum", "Wren", "Nadia", "Theo", "Aoife", "Selma")
LAST = ("Lindqvist", "Abara", "Prewitt", "Marrow", "Dunmore", "Fennimore", "Okello", "Thackray", "Sorrel", "Quill")
# How many of each thing in the depot are sold a day, of about so many orders.
PACES, A_DAY = (2.1, 4.4, 1.6, 0.8, 0.6), 52
# Returns of the last days would still ask for somebody.
BACK_AFTER = 9 * 86_400_000
# Table -> the columns of its past rows; the number of the order is the number of every row that belongs to it.
TABLES: dict[Any, tuple[str, ...]] = {
    Order: ("id", "version", "store_id", "number", "buyer", "mail", "phone", "address", "country", "currency", "ordered_at", "came_at",
            "promised_by", "note", "channel", "manual_release", "allowed"),
    OrderLine: ("id", "version", "order_id", "line_no", "sku_code", "sku_id", "title", "quantity", "paid", "tax", "store_fee",
                "payment_fee", "net_revenue", "state", "reason", "lane_id", "chosen_by"),
    FillPlan: ("order_id", "at", "goods", "shipping", "handling", "billed_more", "profit", "lanes"),
    PurchaseOrder: ("id", "version", "reference", "supplier_id", "order_id", "origin_id", "service", "state", "currency", "goods",
                    "shipping", "handling", "billed", "their_number", "made_at", "answered_at", "message"),
    PurchaseLine: ("purchase_id", "order_line_id", "line_no", "item_id", "quantity", "planned_cost", "billed_cost", "live"),
    Parcel: ("id", "version", "carrier_id", "number", "state", "made_at", "moved_at", "ended_at", "last_word"),
    ParcelLine: ("parcel_id", "purchase_id"),
    PassedOn: ("parcel_id", "order_id", "at", "confirmed_at"),
    CarrierEvent: ("parcel_id", "at", "kind", "message", "place"),
}  # fmt: skip


def write_past(context: Context, land: Land, stocked: Callable[[Context], None], days: int = 56, a_day: int = A_DAY, seed: int = 7) -> int:
    """Write `days` of past orders at about `a_day` each. stocked: writes the ledger of what they took from a depot.

    Returns how many.
    """
    rng, s, start = random.Random(f"past-{seed}"), context.session, context.now - timedelta(days=days)
    past = Past(context, land, rng)
    for day in range(days):
        weekend = (start + timedelta(days=day)).weekday() >= 5
        for _ in range(rng.randint(a_day - 9, a_day + 9) + (14 if weekend else 0)):
            past.sell(start + timedelta(days=day))
    for table, columns in TABLES.items():
        bulk_insert(s, table, columns, past.rows[table])
    for lane, reference in past.first.items():
        if lane.state == LaneState.new:
            lane_states.move(lane, "prove", LaneCause.proven, f"proven by {reference}")
    sales_velocity.refresh(context)
    stocked(context)
    post_orders(context, range(1, past.number + 1), past=True)
    write_money(context, land)
    return past.number


class Past:
    """Rows of all tables, one order after the other."""

    def __init__(self, context: Context, land: Land, rng: random.Random) -> None:
        s = context.session
        self.rng, self.land, self.now, self.number = rng, land, context.now, 0
        self.stores = {row.id: row for row in s.scalars(select(Store))}
        self.fees = fee_rows(s)
        self.sold = s.execute(
            select(Sku, Listing, Lane, Item, Origin, Service)
            .join(Listing, Listing.sku_id == Sku.id)
            .join(Lane, (Lane.sku_id == Sku.id) & Lane.closed_at.is_(None))
            .join(LanePart, LanePart.lane_id == Lane.id)
            .join(Item, Item.id == LanePart.item_id)
            .join(Origin, Origin.id == Lane.origin_id)
            .join(Service, (Service.origin_id == Origin.id) & (Service.code == Lane.service) & (Service.country == land.country))
            .where(Listing.profit > 0, Lane.priority == 0, Item.currency == Listing.currency)
            .order_by(Sku.id, Listing.store_id)
        ).all()
        # The own shop sells most, the craft market least.
        share = {"own_site": 1.0, "market_api": 0.6, "program": 0.4}
        self.weights = [rng.paretovariate(1.2) * share[self.stores[row[1].store_id].kind] for row in self.sold]
        self._steady(s)
        self.towns = [town for town, weight in land.towns if town[3] == land.country and weight > 3]
        self.rows: dict[Any, list[tuple[Any, ...]]] = {table: [] for table in TABLES}
        self.first: dict[Lane, str] = {}

    def _steady(self, s: Session) -> None:
        """What a depot holds sells steadily; the last thing there hardly at all."""
        held = list(s.scalars(select(HeldGoods.item_id).order_by(HeldGoods.id)))
        paces = dict(zip(held, [*PACES[: max(len(held) - 1, 0)], 0.04], strict=False))
        whole = sum(self.weights)
        for n, row in enumerate(self.sold):
            if (pace := paces.get(row[3].id)) is not None:
                stores = sum(1 for other in self.sold if other[3].id == row[3].id)
                self.weights[n] = whole * pace / A_DAY / stores

    def sell(self, day: datetime) -> None:
        """One order of a day, from its sale to the door."""
        self.number += 1
        rng, number = self.rng, self.number
        sku, listing, lane, item, origin, service = rng.choices(self.sold, self.weights)[0]
        store = self.stores[listing.store_id]
        at = day + timedelta(minutes=rng.randint(0, 1439))
        # Most come in time; a few lanes are often late, and show it.
        late = rng.random() < (0.62 if sku.id % 23 == 0 else 0.03)
        arrived = to_ms(at + timedelta(days=rng.uniform(8.5, 12.0) if late else rng.uniform(1.5, 3.2)))
        quantity = 1 if rng.random() < 0.88 else 2
        # Below the numbers that the practice stores give out now.
        shown = str(400 + number)
        self._order(store, shown, at)
        reference = f"{store.code}-{shown}-1"
        self.first.setdefault(lane, reference)
        # One in forty finds nobody and goes back, long enough ago that most of them are settled.
        back = number % 40 == 11 and to_ms(self.now) - arrived > BACK_AFTER
        open_still = back and to_ms(self.now) - arrived < RETURNED_FOR // timedelta(milliseconds=1)
        paid = listing.wanted_price * quantity
        money = keep_lines(store, [fee_of(self.fees, store.id, sku.category)], [(quantity, paid, True)])[0]
        state = "on_the_road" if open_still else "cancelled" if back else "arrived"
        what = (number, 1, number, 1, sku.code, sku.id, sku.title, quantity, paid)
        self.rows[OrderLine].append((*what, *money, state, "", lane.id, "plan"))
        goods, ship, pack = item.cost * quantity, service.first + service.following * (quantity - 1), origin.handling
        whose = (number, 1, reference, lane.supplier_id, number, origin.id, lane.service, "shipped", item.currency)
        # A few are billed above the plan.
        more = goods * rng.randint(3, 9) // 100 if number % 37 == 5 else 0
        bill, answered = (goods, ship, pack, goods + ship + pack + more), to_ms(at + timedelta(minutes=20))
        self.rows[PurchaseOrder].append((*whose, *bill, f"NLP-{shown}", to_ms(at), answered, ""))
        kept = 0 if state == "cancelled" else money[-1]
        self.rows[FillPlan].append((number, to_ms(at), goods, ship, pack, more, kept - goods - ship - pack - more, "[]"))
        self.rows[PurchaseLine].append((number, number, 1, item.id, quantity, goods, goods + more, True))
        self._parcel(to_ms(at + timedelta(hours=9)), arrived, back)

    def _order(self, store: Store, shown: str, at: datetime) -> None:
        rng, land = self.rng, self.land
        town, region, postcode, _ = rng.choice(self.towns)
        name = f"{rng.choice(FIRST)} {rng.choice(LAST)}"
        street = f"{rng.randint(1, 90)} Lantern Row"
        to = {"name": name, "address_1": street, "city": town, "region": region, "postcode": postcode, "country": land.country}
        mail = f"{name.split()[0].lower()}.{shown.lower()}@post.example"
        who = (self.number, 1, store.id, shown, name, mail, "", json.dumps(to), land.country, store.currency)
        promised = day_ms((at + timedelta(days=7)).date())
        self.rows[Order].append((*who, to_ms(at), to_ms(at), promised, "", "past", False, "[]"))

    def _parcel(self, made: int, arrived: int, back: bool) -> None:
        number, home = self.number, self.land.warehouses[0][1]
        end, message, place = ("returned", "Back to its sender", home) if back else ("delivered", "Delivered", "At the door")
        code = make_s10("SW", 90_000_000 + number, self.land.country)
        self.rows[Parcel].append((number, 1, 1, code, end, made, arrived, arrived, f"{message}, {place}"))
        self.rows[ParcelLine].append((number, number))
        self.rows[PassedOn].append((number, number, made, made))
        self.rows[CarrierEvent].append((number, arrived, end, message, place))
