"""Orders of the weeks before the doors opened: bought, sent and arrived, with figures that add up.

They were brought in as a past, not lived through, so the practice world's own record begins after them.
"""

from __future__ import annotations

import json
import random
from datetime import timedelta
from typing import Any

from sqlalchemy import select

from ..core.ids import make_s10
from ..core.states import LaneCause
from ..data.base import day_ms, to_ms
from ..data.bulk import bulk_insert
from ..data.lanes import Lane, LanePart
from ..data.orders import Order, OrderLine, Plan, PurchaseLine, PurchaseOrder
from ..data.setup import Origin, Service, Store
from ..data.shelf import Listing, Sku
from ..data.source import Item
from ..data.transit import CarrierEvent, Parcel, ParcelLine, PassedOn
from ..services.base.context import Context
from ..services.fulfilment.delivery_exceptions import RETURNED_FOR
from ..services.mapping import lane_states
from ..services.orders.intake import keep_lines
from ..services.pricing import sales_velocity
from ..services.pricing.inputs import fee_of, fee_rows
from .partners import Land

FIRST = ("Rowan", "Tilda", "Emeka", "Marit", "Callum", "Wren", "Nadia", "Theo", "Aoife", "Selma")
LAST = ("Lindqvist", "Abara", "Prewitt", "Marrow", "Dunmore", "Fennimore", "Okello", "Thackray", "Sorrel", "Quill")
# Returns of the last days would still ask for somebody.
BACK_AFTER = 9 * 86_400_000
# Table -> the columns of its past rows; the number of the order is the number of every row that belongs to it.
TABLES: dict[Any, tuple[str, ...]] = {
    Order: (
        "id",
        "version",
        "store_id",
        "number",
        "buyer",
        "mail",
        "phone",
        "address",
        "country",
        "currency",
        "ordered_at",
        "came_at",
        "promised_by",
        "note",
        "channel",
        "manual_release",
        "allowed",
    ),
    OrderLine: (
        "id",
        "version",
        "order_id",
        "line_no",
        "sku_code",
        "sku_id",
        "title",
        "quantity",
        "paid",
        "tax",
        "store_fee",
        "payment_fee",
        "net_revenue",
        "state",
        "reason",
        "lane_id",
        "chosen_by",
    ),
    Plan: ("order_id", "at", "goods", "shipping", "handling", "profit", "lanes"),
    PurchaseOrder: (
        "id",
        "version",
        "reference",
        "supplier_id",
        "order_id",
        "origin_id",
        "service",
        "state",
        "currency",
        "goods",
        "shipping",
        "handling",
        "billed",
        "their_number",
        "made_at",
        "answered_at",
        "message",
    ),
    PurchaseLine: ("purchase_id", "order_line_id", "line_no", "item_id", "quantity", "planned_cost", "billed_cost", "live"),
    Parcel: ("id", "version", "carrier_id", "number", "state", "made_at", "moved_at", "ended_at", "last_word"),
    ParcelLine: ("parcel_id", "purchase_id"),
    PassedOn: ("parcel_id", "order_id", "at", "confirmed_at"),
    CarrierEvent: ("parcel_id", "at", "kind", "message", "place"),
}


def write_past(context: Context, land: Land, days: int = 56, a_day: int = 52, seed: int = 7) -> int:
    """Write `days` of past orders at about `a_day` each. Returns how many."""
    rng, s, start = random.Random(f"past-{seed}"), context.session, context.now - timedelta(days=days)
    stores = {row.id: row for row in s.scalars(select(Store))}
    fees = fee_rows(s)
    sold = s.execute(
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
    weights = [rng.paretovariate(1.2) * share[stores[row[1].store_id].kind] for row in sold]
    rows: dict[Any, list[tuple[Any, ...]]] = {table: [] for table in TABLES}
    number = 0
    towns = [town for town, weight in land.towns if town[3] == land.country and weight > 3]
    first: dict[Lane, str] = {}
    for day in range(days):
        weekend = (start + timedelta(days=day)).weekday() >= 5
        for _ in range(rng.randint(a_day - 9, a_day + 9) + (14 if weekend else 0)):
            number += 1
            sku, listing, lane, item, origin, service = rng.choices(sold, weights)[0]
            store = stores[listing.store_id]
            at = start + timedelta(days=day, minutes=rng.randint(0, 1439))
            ms, made = to_ms(at), to_ms(at + timedelta(hours=9))
            # Most come in time; a few lanes are often late, and show it.
            late = rng.random() < (0.62 if sku.id % 23 == 0 else 0.03)
            arrived = to_ms(at + timedelta(days=rng.uniform(8.5, 12.0) if late else rng.uniform(1.5, 3.2)))
            quantity = 1 if rng.random() < 0.88 else 2
            town, region, postcode, _ = rng.choice(towns)
            name = f"{rng.choice(FIRST)} {rng.choice(LAST)}"
            street = f"{rng.randint(1, 90)} Lantern Row"
            address = {"name": name, "address_1": street, "city": town, "region": region, "postcode": postcode, "country": land.country}
            line = OrderLine(quantity=quantity, paid=listing.wanted_price * quantity)
            kept = keep_lines(store, [fee_of(fees, store.id, sku.category)], [(quantity, line.paid, True)])[0]
            line.tax, line.store_fee, line.payment_fee, line.net_revenue = kept
            goods, ship, pack = item.cost * quantity, service.first + service.following * (quantity - 1), origin.handling
            # Below the numbers that the practice stores give out now.
            shown = str(400 + number)
            first.setdefault(lane, f"{store.code}-{shown}-1")
            rows[Order].append(
                (
                    number,
                    1,
                    store.id,
                    shown,
                    name,
                    "",
                    "",
                    json.dumps(address),
                    land.country,
                    store.currency,
                    ms,
                    ms,
                    day_ms((at + timedelta(days=7)).date()),
                    "",
                    "past",
                    False,
                    "[]",
                )
            )
            # One in forty finds nobody and goes back, long enough ago that most of them are settled.
            back = number % 40 == 11 and to_ms(context.now) - arrived > BACK_AFTER
            open_still = back and to_ms(context.now) - arrived < RETURNED_FOR // timedelta(milliseconds=1)
            rows[OrderLine].append(
                (
                    number,
                    1,
                    number,
                    1,
                    sku.code,
                    sku.id,
                    sku.title,
                    quantity,
                    line.paid,
                    line.tax,
                    line.store_fee,
                    line.payment_fee,
                    line.net_revenue,
                    "on_the_road" if open_still else "arrived",
                    "",
                    lane.id,
                    "plan",
                )
            )
            rows[Plan].append((number, ms, goods, ship, pack, line.net_revenue - goods - ship - pack, "[]"))
            rows[PurchaseOrder].append(
                (
                    number,
                    1,
                    f"{store.code}-{shown}-1",
                    lane.supplier_id,
                    number,
                    origin.id,
                    lane.service,
                    "shipped",
                    item.currency,
                    goods,
                    ship,
                    pack,
                    goods + ship + pack,
                    f"NLP-{shown}",
                    ms,
                    to_ms(at + timedelta(minutes=20)),
                    "",
                )
            )
            rows[PurchaseLine].append((number, number, 1, item.id, quantity, goods, goods, True))
            end, message, place = (
                ("returned", "Back to its sender", land.warehouses[0][1]) if back else ("delivered", "Delivered", "At the door")
            )
            rows[Parcel].append(
                (number, 1, 1, make_s10("SW", 90_000_000 + number, land.country), end, made, arrived, arrived, f"{message}, {place}")
            )
            rows[ParcelLine].append((number, number))
            rows[PassedOn].append((number, number, made, made))
            rows[CarrierEvent].append((number, arrived, end, message, place))
    for table, columns in TABLES.items():
        bulk_insert(s, table, columns, rows[table])
    for lane, reference in first.items():
        if lane.state == "new":
            lane_states.move(lane, "prove", LaneCause.proven, f"proven by {reference}")
    sales_velocity.refresh(context)
    return number
