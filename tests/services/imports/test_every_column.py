"""Every column that a template offers is taken over, and can be read back where it belongs."""

from __future__ import annotations

from typing import Any

import pytest
from sqlalchemy import select

from amber_lane.data.lanes import Lane
from amber_lane.data.orders import Order, OrderLine, PurchaseOrder
from amber_lane.data.prices import Rate
from amber_lane.data.setup import Origin
from amber_lane.data.shelf import Listing, Sku
from amber_lane.data.source import Item
from amber_lane.data.transit import Parcel
from amber_lane.services.activity import undo
from amber_lane.services.base.errors import Conflict
from amber_lane.services.base.import_frame import Checked
from amber_lane.services.grids import goods_grids
from amber_lane.services.imports import sheet_kinds
from amber_lane.services.purchasing import purchase_orders

from ...small import Small


def bring_in(small: Small, name: str, /, **row: str) -> Checked:
    """One row with every column of the template filled."""
    kind = sheet_kinds.kind_of(name)
    assert set(row) == {*kind.required, *kind.optional}, "each column that the template offers is tried here"
    return take(small, name, row)


def take(small: Small, name: str, row: dict[str, str]) -> Checked:
    kind = sheet_kinds.kind_of(name)

    def do(context: Any) -> Checked:
        checked = kind.check(context, [row], lambda n: None)
        assert not checked.bad, checked.bad
        kind.take(context, checked)
        return checked

    return small.write(do)


def as_row(small: Small, name: str, /, **wanted: str) -> dict[str, str]:
    kind = sheet_kinds.kind_of(name)
    with small.db.reading() as s:
        rows = [
            dict(zip((*kind.required, *kind.optional), map(str, row), strict=False)) for row in sheet_kinds.out_rows(small.context(s), name)
        ]
    return next(row for row in rows if wanted.items() <= row.items())


LISTING = {
    "store": "Shop",
    "sku": "NEW-1",
    "title": "Folding stool",
    "price": "12.50",
    "quantity": "7",
    "gtin": "4006381333931",
    "mpn": "FS-1",
    "brand": "Alder",
    "description": "<p>Folds flat.</p>",
    "weight_g": "900",
    "options": "colour: green",
    "category": "Seats",
    "state": "paused",
}


def test_listings_come_back_as_they_were_told_and_go_as_one(small: Small) -> None:
    store = small.all(select(Listing))[0].store_id
    names = dict(LISTING, store=small.write(lambda context: goods_grids.page(context, "listings", goods_grids.GridQuery())[0][0].store))
    before = small.all(select(Listing.id).order_by(Listing.id))
    bring_in(small, "listings", **names)
    assert as_row(small, "listings", sku="NEW-1") == names and store
    small.write(lambda context: undo.undo(context, undo.last_undoable(context).id))
    assert small.all(select(Listing.id).order_by(Listing.id)) == before and not small.all(select(Sku).where(Sku.code == "NEW-1"))
    # A known SKU gains what it lacks, and keeps what we have said of it.
    bring_in(small, "listings", **dict(names, sku="S-1", title="Other words", price="20.00", state="live"))
    sku = small.all(select(Sku).where(Sku.code == "S-1"))[0]
    assert (sku.mpn, sku.brand, sku.category, sku.weight_g or 900) == ("FS-1", sku.brand, "Seats", sku.weight_g or 900)
    assert small.listing(sku.id).description == "<p>Folds flat.</p>"
    small.write(lambda context: undo.undo(context, undo.last_undoable(context).id))
    sku = small.all(select(Sku).where(Sku.code == "S-1"))[0]
    assert (sku.mpn, sku.category, small.listing(sku.id).description) == ("", "", ""), "what it filled is empty again"


def test_a_sheet_of_listings_that_is_in_use_is_not_taken_back(small: Small) -> None:
    names = dict(LISTING, store=small.write(lambda context: goods_grids.page(context, "listings", goods_grids.GridQuery())[0][0].store))
    bring_in(small, "listings", **names)
    small.order("A", ("NEW-1", 1, 1250))
    act = small.write(lambda context: undo.last_undoable(context).id)
    with pytest.raises(Conflict, match="an order stands on a listing"):
        small.write(lambda context: undo.undo(context, act))


def test_a_known_listing_that_is_told_otherwise_is_never_the_same_without_a_word(small: Small) -> None:
    names = dict(
        LISTING, store=small.write(lambda context: goods_grids.page(context, "listings", goods_grids.GridQuery())[0][0].store), state="live"
    )
    bring_in(small, "listings", **names)
    assert bring_in(small, "listings", **names).counts["same"] == 1, "what it says is there already"
    checked = bring_in(small, "listings", **dict(names, title="Folding stool, oak", brand="Rowan"))
    assert checked.counts["changed"] == 1 and "another title" in checked.note and "ours is kept" in checked.note
    (row,) = small.all(select(Listing).join(Sku).where(Sku.code == "NEW-1"))
    assert (row.title, row.theirs) == ("Folding stool", {"title": "Folding stool, oak"}), "both stand on the Shelf"
    assert bring_in(small, "listings", **dict(names, title="Folding stool, oak")).counts["same"] == 1
    # A poorer sheet changes nothing of what it does not speak of.
    poor = {name: names[name] for name in ("store", "sku", "title", "price", "quantity")}
    assert take(small, "listings", poor).counts["changed"] == 1
    (row,) = small.all(select(Listing).join(Sku).where(Sku.code == "NEW-1"))
    assert row.theirs is None and row.description == "<p>Folds flat.</p>"
    (sku,) = small.all(select(Sku).where(Sku.code == "NEW-1"))
    assert (sku.brand, sku.weight_g, sku.gtin) == ("Alder", 900, "4006381333931")


def test_an_item_follows_in_all_that_a_sheet_says_and_keeps_what_it_does_not(small: Small) -> None:
    name = small.write(lambda context: sheet_kinds.lists_of(context, "items")["supplier"][0])
    lane = small.lane(1)
    (item,) = small.all(select(Item).where(Item.number == "I-1"))
    poor = {"supplier": name, "item": "I-1", "title": item.title, "cost": "1.00", "currency": "GBP", "stock": "20"}
    rich = dict(
        poor, gtin="4006381333931", mpn="FS-1", brand="Alder", pack_size="1", weight_g="950", category="Seats", link="https://a.invalid"
    )
    assert take(small, "items", rich).counts["changed"] == 1
    assert take(small, "items", rich).counts["same"] == take(small, "items", poor).counts["same"] == 1
    small.later(minutes=5)
    assert take(small, "items", dict(poor, cost="1.05")).counts["changed"] == 1
    (item,) = small.all(select(Item).where(Item.number == "I-1"))
    assert (item.cost, item.gtin, item.brand, item.weight_g, item.link) == (105, "4006381333931", "Alder", 950, "https://a.invalid")
    assert small.lane(1).state == lane.state
    # Nothing but the pack is another: that is a change, and the most dangerous of all.
    assert take(small, "items", dict(poor, cost="1.05", pack_size="12")).counts["changed"] == 1
    assert small.lane(1).state == "shut" and "packs of 12" in small.lane(1).reason
    assert take(small, "items", dict(poor, cost="1.10")).counts["changed"] == 1
    assert small.all(select(Item.pack_size).where(Item.number == "I-1")) == [12]


def test_items_lanes_prices_and_rates_keep_every_column(small: Small) -> None:
    supplier = small.write(lambda context: context.get(Origin, 1, "origin"))
    with small.db.reading() as s:
        house = small.context(s).session.get(Origin, 1)
        assert house is not None
        origin, name = house.code, sheet_kinds.lists_of(small.context(s), "items")["supplier"][0]
        store = sheet_kinds.lists_of(small.context(s), "listings")["store"][0]
    bring_in(
        small,
        "items",
        supplier=name,
        item="NEW-9",
        title="Stool, green",
        cost="4.10",
        currency="GBP",
        stock="55",
        gtin="4006381333931",
        mpn="FS-1",
        brand="Alder",
        pack_size="3",
        origin=origin,
        weight_g="950",
        lead_days="4",
        category="Seats",
        options="colour: green",
        link="https://example.invalid/stool",
        least_price="9.90",
    )
    item = small.all(select(Item).where(Item.number == "NEW-9"))[0]
    assert (item.title, item.cost, item.stock, item.gtin, item.mpn, item.brand, item.pack_size) == (
        "Stool, green",
        410,
        55,
        "4006381333931",
        "FS-1",
        "Alder",
        3,
    )
    assert (item.origin_id, item.weight_g, item.lead_days, item.category, item.options, item.link, item.least_price) == (
        supplier.id,
        950,
        4,
        "Seats",
        "colour: green",
        "https://example.invalid/stool",
        990,
    )
    bring_in(
        small,
        "lanes",
        store="all",
        sku="S-2",
        supplier=name,
        item="NEW-9",
        units_per_sale="1/3",
        origin=origin,
        service="fast",
        use="spare 1",
    )
    lane = small.all(select(Lane).where(Lane.sku_id == 2, Lane.closed_at.is_(None)).order_by(Lane.id.desc()))[0]
    assert (lane.service, lane.priority, lane.origin_id) == ("fast", 1, supplier.id)
    assert as_row(small, "lanes", sku="S-2", item="NEW-9")["units_per_sale"] == "1/3"
    price = {
        "store": store,
        "sku": "S-1",
        "price": "21.95",
        "until": "2099-01-31",
        "reason": "agreed",
        "least_price": "15.50",
        "ceiling": "30.00",
    }
    bring_in(small, "prices", **price)
    assert as_row(small, "prices", sku="S-1") == price
    bring_in(small, "rates", **{"from": "PLN", "to": "GBP", "rate": "0.196", "day": "2026-03-01"})
    (rate,) = small.all(select(Rate).where(Rate.base == "PLN", Rate.quote == "GBP"))
    assert (rate.nano, f"{rate.day:%Y-%m-%d}") == (196_000_000, "2026-03-01")


def test_orders_answers_and_tracking_keep_every_column(small: Small) -> None:
    with small.db.reading() as s:
        store = sheet_kinds.lists_of(small.context(s), "listings")["store"][0]
    told = {
        "store": store,
        "order_no": "7001",
        "sku": "S-1",
        "quantity": "2",
        "name": "Wren Sorrel",
        "address_1": "4 Lantern Row",
        "city": "Whitby",
        "postcode": "YO21 3PR",
        "country": "GB",
        "address_2": "Top floor",
        "region": "Yorkshire",
        "phone": "01632 960001",
        "email": "wren@example.invalid",
        "unit_price": "20.00",
        "currency": "GBP",
        "ordered_at": f"{small.clock.now():%Y-%m-%d %H:%M}",
        "promised_by": f"{small.clock.now():%Y}-12-31",
        "note": "ring twice",
        "shipping_paid": "2.95",
        "discount": "4.00",
        "tax": "6.49",
    }
    bring_in(small, "orders", **told)
    order = small.all(select(Order).where(Order.number == "7001"))[0]
    line = small.all(select(OrderLine).where(OrderLine.order_id == order.id))[0]
    kept = {**{key: order.address.get(key) for key in order.address}, "note": order.note, "currency": order.currency}
    for column in ("name", "address_1", "address_2", "city", "region", "postcode", "country", "phone", "email", "note", "currency"):
        assert kept[column] == told[column], column
    assert (line.quantity, line.paid, f"{order.promised_by:%Y-%m-%d}") == (2, 4000, told["promised_by"])
    assert (line.shipping_paid, line.discount, line.tax, line.total) == (295, 400, 649, 3895)
    assert order.ordered_at.replace(second=0, microsecond=0) == small.clock.now().replace(second=0, microsecond=0)
    small.write(lambda context: purchase_orders.send(context, [order.id]))
    reference = small.all(select(PurchaseOrder.reference))[0]
    bring_in(
        small,
        "answers",
        purchase_order=reference,
        answer="accepted",
        reason="partly by hand",
        their_number="A-77",
        billed="9.40",
        tracking_number="",
        carrier="",
        line_no="",
        shipped_at="",
    )
    purchase = small.all(select(PurchaseOrder))[0]
    assert (purchase.state, purchase.their_number, purchase.billed) == ("accepted", "A-77", 940)
    day = f"{small.clock.now():%Y-%m-%d}"
    bring_in(
        small, "tracking", purchase_order=reference, tracking_number="SW000012349GB", carrier="Hill Post", shipped_at=day, state="moving"
    )
    parcel = small.all(select(Parcel))[0]
    assert (parcel.number, f"{parcel.made_at:%Y-%m-%d}", parcel.state) == ("SW000012349GB", day, "moving")
