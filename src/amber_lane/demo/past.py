"""Orders of the weeks before the doors opened: bought, sent and arrived, with figures that add up.

They were brought in as a past, not lived through, so the practice world's own record begins after them.
"""

from __future__ import annotations

import random
from datetime import timedelta

from sqlalchemy import select

from ..core.ids import make_s10
from ..data.lanes import Lane, LanePart
from ..data.orders import Order, OrderLine, Plan, PurchaseLine, PurchaseOrder
from ..data.setup import Origin, Service, Store
from ..data.shelf import Listing, Sku
from ..data.source import Item
from ..data.transit import CarrierEvent, Parcel, ParcelLine, PassedOn
from ..services import pace
from ..services.book import fee_of, fee_rows
from ..services.desk import Desk
from ..services.orders import keep_line

FIRST = ("Rowan", "Tilda", "Emeka", "Marit", "Callum", "Wren", "Nadia", "Theo", "Aoife", "Selma")
LAST = ("Lindqvist", "Abara", "Prewitt", "Marrow", "Dunmore", "Fennimore", "Okello", "Thackray", "Sorrel", "Quill")
TOWNS = (("Hull", "HU3 1AB"), ("Ely", "CB7 4DL"), ("Whitby", "YO21 3PR"), ("Bristol", "BS1 4ST"), ("Truro", "TR1 2SF"))


def write_past(desk: Desk, days: int = 24, a_day: int = 24, seed: int = 7) -> int:
    """Write `days` of past orders at about `a_day` each. Returns how many."""
    rng, s, start = random.Random(f"past-{seed}"), desk.s, desk.now - timedelta(days=days)
    store = s.scalars(select(Store)).one()
    fees = fee_rows(s, [store.id])
    sold = s.execute(select(Sku, Listing, Lane, Item, Origin, Service)
                     .join(Listing, Listing.sku_id == Sku.id).join(Lane, (Lane.sku_id == Sku.id) & Lane.until.is_(None))
                     .join(LanePart, LanePart.lane_id == Lane.id).join(Item, Item.id == LanePart.item_id).join(Origin, Origin.id == Lane.origin_id)
                     .join(Service, (Service.origin_id == Origin.id) & (Service.code == Lane.service) & (Service.country == "GB"))
                     .where(Listing.profit > 0).order_by(Sku.id)).all()
    weights = [rng.paretovariate(1.2) for _ in sold]
    number = 2000
    for day in range(days):
        weekend = (start + timedelta(days=day)).weekday() >= 5
        for _ in range(rng.randint(a_day - 6, a_day + 6) + (7 if weekend else 0)):
            number += 1
            sku, listing, lane, item, origin, service = rng.choices(sold, weights)[0]
            at = start + timedelta(days=day, minutes=rng.randint(0, 1439))
            quantity = 1 if rng.random() < 0.88 else 2
            town, postcode = rng.choice(TOWNS)
            name = f"{rng.choice(FIRST)} {rng.choice(LAST)}"
            arrived = at + timedelta(days=rng.uniform(1.5, 3.2))
            order = Order(store_id=store.id, number=str(number), buyer=name, mail="", country="GB", currency=store.currency, ordered_at=at, came_at=at,
                          address={"name": name, "address_1": f"{rng.randint(1, 90)} Lantern Row", "city": town, "postcode": postcode, "country": "GB"},
                          promised_by=at + timedelta(days=7), came_by="past")
            s.add(order)
            s.flush()
            line = OrderLine(order_id=order.id, line_no=1, sku_code=sku.code, sku_id=sku.id, title=sku.title, quantity=quantity,
                             paid=listing.wanted_price * quantity, state="arrived", lane_id=lane.id)
            keep_line(store, fee_of(fees, store.id, sku.category), line, first=True)
            goods = item.cost * quantity
            ship = service.first + service.following * (quantity - 1)
            s.add(line)
            s.flush()
            s.add(Plan(order_id=order.id, at=at, goods=goods, shipping=ship, handling=origin.handling, profit=line.kept - goods - ship - origin.handling, lanes=[]))
            purchase = PurchaseOrder(reference=f"{store.code}-{number}-1", supplier_id=lane.supplier_id, order_id=order.id, origin_id=origin.id,
                                     service=lane.service, state="shipped", currency=item.currency, goods=goods, shipping=ship, handling=origin.handling,
                                     billed=goods + ship + origin.handling, made_at=at, answered_at=at + timedelta(minutes=20), their_number=f"NLP-{number}")
            parcel = Parcel(carrier_id=1, number=make_s10("SW", 90_000_000 + number, "GB"), state="delivered", made_at=at + timedelta(hours=9),
                            moved_at=arrived, ended_at=arrived, last_word="Delivered, At the door")
            s.add_all((purchase, parcel))
            s.flush()
            s.add_all((
                PurchaseLine(purchase_id=purchase.id, order_line_id=line.id, line_no=1, item_id=item.id, quantity=quantity, planned_cost=goods, billed_cost=goods),
                ParcelLine(parcel_id=parcel.id, purchase_id=purchase.id),
                PassedOn(parcel_id=parcel.id, order_id=order.id, at=at + timedelta(hours=9), confirmed_at=at + timedelta(hours=9)),
                CarrierEvent(parcel_id=parcel.id, at=arrived, kind="delivered", told="Delivered", place="At the door")))
    s.flush()
    pace.refresh(desk)
    return number - 2000
