"""Orders: each once, held by what stands in the way, bought once, followed to the door."""

from __future__ import annotations

import pytest
from sqlalchemy import select

from amber_lane.connectors.protocols import Tracking
from amber_lane.data.lanes import Lane
from amber_lane.data.orders import Hold, Order, OrderLine, PurchaseLine, PurchaseOrder
from amber_lane.data.outbox import AuditEntry
from amber_lane.data.transit import Message, Parcel, PassedOn
from amber_lane.services.activity import undo
from amber_lane.services.alerts import today
from amber_lane.services.base.errors import Conflict, Invalid
from amber_lane.services.delivery import sheet_export
from amber_lane.services.fulfilment import parcel_tracking
from amber_lane.services.grids import goods_grids
from amber_lane.services.imports import sheet_kinds
from amber_lane.services.listings import going_live
from amber_lane.services.mapping import lanes, similarity
from amber_lane.services.orders import orders
from amber_lane.services.partners import connections, partner_terms
from amber_lane.services.pricing.drafts import PolicyChange
from amber_lane.services.purchasing import purchase_orders
from amber_lane.sheets.table import read_sheet


def line_of(business, number):
    return business.one(select(OrderLine).join(Order, Order.id == OrderLine.order_id).where(Order.number == number))


def send(business):
    with business.app_state.db.writing() as s:
        return purchase_orders.send(business.context(s), purchase_orders.ready_orders(business.context(s)))


def test_the_whole_way_from_a_sale_to_the_door(business):
    sku, item = business.laned()
    number = business.buy(sku=sku, quantity=2)
    line = line_of(business, number)
    assert (line.state, line.quantity) == ("ready", 2) and line.net_revenue == line.paid
    assert len(send(business)) == 1 and not send(business)
    reference = f"DDS-{number}-1"
    for _ in range(260):
        business.round(30)
        if line_of(business, number).state == "arrived":
            break
        for purchase in business.all(select(PurchaseOrder).where(PurchaseOrder.message != "", PurchaseOrder.state == "accepted")):
            assert "check digit" in purchase.message
    assert line_of(business, number).state == "arrived"
    record = business.world.record()
    bought = [one for one in record["purchases"] if one["reference"] == reference]
    passed = [one for one in record["fulfilments"] if one["number"] == number]
    assert len(bought) == len(passed) == 1 and bought[0]["tracking_number"] == passed[0]["tracking_number"]
    purchase = business.one(select(PurchaseOrder).where(PurchaseOrder.reference == reference))
    assert purchase.billed == bought[0]["billed"] == purchase.goods + purchase.shipping + purchase.handling
    mail = business.one(select(Message).join(Order, Order.id == Message.order_id).where(Order.number == number))
    assert mail.state == "sent" and passed[0]["tracking_number"] in mail.body
    assert record["mails"][f"mail-DDS-{number}-shipped-{passed[0]['tracking_number']}"] == 1
    assert (
        business.one(select(PassedOn)).confirmed_at
        and business.one(
            select(Lane).join(lanes.LanePart, lanes.LanePart.lane_id == Lane.id).where(lanes.LanePart.item_id == item.id)
        ).state
        == "open"
    )


def test_what_stands_in_the_way_is_told_and_mended(business):
    sku, item = business.laned(1)
    far = business.buy(sku=sku, quantity=1, country="NO")
    assert "not sent to NO" in business.one(select(Hold).where(Hold.ended.is_(None))).message
    with business.app_state.db.writing() as s:
        context = business.context(s)
        order = s.scalars(select(Order).where(Order.number == far)).one()
        with pytest.raises(Conflict, match="changed this order"):
            orders.mend_address(context, order.id, order.version - 1, {})
    with business.app_state.db.writing() as s:
        context = business.context(s)
        order = s.scalars(select(Order).where(Order.number == far)).one()
        orders.mend_address(
            context, order.id, order.version, {"name": "A B", "address_1": "1 Row", "city": "Hull", "postcode": "HU1 1AA", "country": "gb"}
        )
        assert order.address["country"] == "NO" and order.address_override["country"] == "GB"
    assert line_of(business, far).state == "ready"
    # The item gets dear: the order would lose money, and a person decides.
    with business.app_state.db.writing() as s:
        s.get(type(item), item.id).cost = line_of(business, far).paid + 500
    with business.app_state.db.writing() as s:
        business.context(s).reroute()
    hold = business.one(select(Hold).where(Hold.ended.is_(None)))
    assert hold.limit == "least_profit" and "−£" in hold.message and not send(business)
    with business.app_state.db.writing() as s:
        orders.allow(business.context(s), hold.order_id, "a good customer")
    assert line_of(business, far).state == "ready" and len(send(business)) == 1


def test_an_order_without_a_lane_goes_on_once_its_lane_is_open(business):
    bare = business.one(select(lanes.Sku).where(lanes.Sku.gtin == "").limit(1))
    number = business.buy(sku=bare.code, quantity=1)
    assert line_of(business, number).state == "needs_lane"
    with business.app_state.db.writing() as s:
        context = business.context(s)
        best = similarity.candidates(context, s.get(lanes.Sku, bare.id))[0]
        lanes.open_lane(context, bare.id, [lanes.LaneItem(best.item.id, lanes.Fraction(1))])
    assert line_of(business, number).state == "ready"
    with business.app_state.db.writing() as s:
        context = business.context(s)
        with pytest.raises(Conflict, match="already"):
            lanes.open_lane(context, bare.id, [lanes.LaneItem(best.item.id, lanes.Fraction(1))])
        undo.undo(context, s.scalars(select(AuditEntry.id).where(AuditEntry.kind == "lane.open").order_by(AuditEntry.id.desc())).first())
    assert line_of(business, number).state == "needs_lane"


def test_a_refusal_goes_back_through_the_plan_and_is_never_bought_again_there(business):
    sku, item = business.laned(2)
    number = business.buy(sku=sku, quantity=1)
    business.world.post("items", number=item.number, stock=0)
    send(business)
    business.settle()
    business.on(15)
    business.app_state.reader.answers(1)
    line = line_of(business, number)
    assert line.state == "refused" and "not in stock" in line.reason and not send(business)
    assert not business.one(select(PurchaseLine).where(PurchaseLine.order_line_id == line.id)).live
    business.world.post("items", number=item.number, stock=60)
    with business.app_state.db.writing() as s:
        orders.cancel(business.context(s), line.order_id)
    business.settle()
    assert next(one["state"] for one in business.world.record()["orders"] if one["number"] == number) == "cancelled"


def test_a_sending_can_be_taken_back_only_before_it_has_gone(business):
    sku, _ = business.laned(3)
    number = business.buy(sku=sku, quantity=1)
    send(business)
    with business.app_state.db.writing() as s:
        undo.undo(business.context(s), undo.last_undoable(business.context(s)).id)
    assert line_of(business, number).state == "ready"
    business.settle()
    assert not [one for one in business.world.record()["purchases"] if one["reference"].startswith(f"DDS-{number}-")]
    send(business)
    business.settle()
    sent = business.all(select(AuditEntry).where(AuditEntry.kind == "order.send").order_by(AuditEntry.id))[-1]
    with business.app_state.db.writing() as s, pytest.raises(Conflict, match="cannot be undone"):
        undo.undo(business.context(s), sent.id)
    with business.app_state.db.writing() as s, pytest.raises(Conflict, match="gone out"):
        purchase_orders.take_back(business.context(s), sent.after["references"])
    assert [one["reference"] for one in business.world.record()["purchases"] if f"-{number}-" in one["reference"]] == [f"DDS-{number}-2"]


def test_a_wrong_tracking_number_is_not_passed_on(business):
    sku, _ = business.laned(4)
    number = business.buy(sku=sku, quantity=1)
    send(business)
    business.settle()
    with business.app_state.db.writing() as s:
        purchase = s.scalars(select(PurchaseOrder)).one()
        assert parcel_tracking.take_tracking(business.context(s), purchase, Tracking("SW000012340GB", "Swiftwing Post")) is None
        assert "check digit" in purchase.message
    assert not business.all(select(Parcel))
    with business.app_state.db.writing() as s, pytest.raises(Invalid, match="check digit"):
        parcel_tracking.enter_tracking(business.context(s), f"DDS-{number}-1", "SW000012340GB", "")
    for _ in range(2):
        with business.app_state.db.writing() as s:
            parcel_tracking.enter_tracking(business.context(s), f"DDS-{number}-1", "sw 000 012 349 gb", "Swiftwing Post")
    business.settle()
    assert [one["tracking_number"] for one in business.world.record()["fulfilments"] if one["number"] == number] == ["SW000012349GB"]


def check_and_take(business, name, text):
    kind = sheet_kinds.kind_of(name)
    rows = list(read_sheet(text.encode(), kind.required, kind.optional).rows)
    with business.app_state.db.writing() as s:
        checked = kind.check(business.context(s), rows, lambda n: None)
        if checked.good:
            kind.take(business.context(s), checked)
    return checked


def test_somebody_with_only_sheets_can_go_the_whole_road(business):
    with business.app_state.db.writing() as s:
        context = business.context(s)
        store = connections.join_uncalled(context, connections.Join("store", "sheet", "Market stall", "", "", "GB", "GBP"))
        going_live.all_on(context, store)
        supplier = connections.join_uncalled(context, connections.Join("supplier", "sheet", "Barn", "", "", "GB", "GBP"))
        partner_terms.write_one_origin(context, supplier, 200, 50, 3)
        store_id, supplier_id = store.id, supplier.id
    assert (
        check_and_take(
            business, "listings", "store,sku,title,price,quantity\nMarket stall,ST-1,Lamp,12.00,5\nNowhere,ST-2,Lamp,1,1\n"
        ).counts["bad"]
        == 1
    )
    bad = check_and_take(
        business,
        "items",
        "supplier,item,title,cost,currency,stock,gtin\nBarn,B-1,Lamp,4.00,GBP,30,\nBarn,B-2,Lamp,0,GBP,1,\nBarn,B-3,L,1,EUR,1,\nBarn,B-4,L,1,GBP,1,5.01E+12\n",
    )
    assert [why.split(":")[0].split(" ")[0] for _, why in bad.bad] == ["cost", "currency", "barcode"]
    sheet = "store,sku,supplier,item,units_per_sale,use\nMarket stall,ST-1,Barn,B-1,1,main\nMarket stall,ST-9,Barn,B-1,1,\nMarket stall,ST-1,Barn,B-1,zero,spare 1\n"
    first, again = check_and_take(business, "lanes", sheet), check_and_take(business, "lanes", sheet)
    assert first.counts == {"new": 1, "changed": 0, "same": 0, "bad": 2} and again.counts == {"new": 0, "changed": 0, "same": 1, "bad": 2}
    orders_sheet = (
        "store,order_no,sku,quantity,name,address_1,city,postcode,country\n"
        "Market stall,77,ST-1,2,Wren Sorrel,4 Row,Whitby,YO21 3PR,GB\n"
        "Market stall,78,ST-1,1,X,1 Row,Hull,HU1,UK\n"
    )
    assert check_and_take(business, "orders", orders_sheet).counts == {"new": 1, "changed": 0, "same": 0, "bad": 1}
    assert check_and_take(business, "orders", orders_sheet).counts["same"] == 1
    assert line_of(business, "77").state == "ready" and len(send(business)) == 1
    with business.app_state.db.writing() as s:
        context = business.context(s)
        assert {(one.what, one.count) for one in sheet_export.waiting(context)} == {("purchases", 1), ("changes", 1)}
        sheet = sheet_export.take_out(context, "supplier", supplier_id, "purchases")
        assert dict(zip(sheet.header, sheet.rows[0], strict=True))["item"] == "B-1" and sheet.rows[0][3] == 2
        assert sheet_export.take_out(context, "store", store_id, "changes").rows
        assert [one.key for one in today.open_alerts(context) if one.key.startswith("sheet:")] == []
    # Handed over is not accepted; taken back, it waits and is in the next sheet.
    assert business.one(select(PurchaseOrder).where(PurchaseOrder.supplier_id == supplier_id)).state == "sent"
    assert line_of(business, "77").state == "bought"
    with business.app_state.db.writing() as s:
        context = business.context(s)
        sheet_export.take_back(context, sheet_export.sheets_out(context, "supplier", supplier_id)[0].id)
        again = sheet_export.take_out(context, "supplier", supplier_id, "purchases")
        assert [row[0] for row in again.rows] == ["MS-77-1"]
    with business.app_state.db.writing() as s, pytest.raises(Conflict):
        sheet_export.take_out(business.context(s), "supplier", supplier_id, "purchases")
    answer = "purchase_order,answer,their_number,tracking_number,carrier,shipped_at\nMS-77-1,accepted,A-1,,,\n"
    assert check_and_take(business, "answers", answer).counts["new"] == 1 and line_of(business, "77").state == "with_supplier"
    with business.app_state.db.writing() as s, pytest.raises(Conflict, match="answered"):
        context = business.context(s)
        sheet_export.take_back(context, sheet_export.sheets_out(context, "supplier", supplier_id)[0].id)
    assert (
        check_and_take(
            business,
            "tracking",
            "purchase_order,tracking_number,carrier\nMS-77-1,SW000012349GB,Swiftwing Post\nMS-77-1,SW1,Swiftwing Post\n",
        ).counts["bad"]
        == 1
    )
    assert line_of(business, "77").state == "on_the_road"
    # Its store has no interface either: the number goes there by a sheet, once.
    with business.app_state.db.writing() as s:
        context = business.context(s)
        assert any(one.key == f"sheet:store:{store_id}:tracking" for one in today.open_alerts(context))
        sheet = sheet_export.take_out(context, "store", store_id, "tracking")
        assert [row[1:5] for row in sheet.rows] == [["77", "shipped", "SW000012349GB", "Swiftwing Post"]]
        with pytest.raises(Conflict, match="nothing waits"):
            sheet_export.take_out(context, "store", store_id, "tracking")
    with business.app_state.db.reading() as s:
        assert goods_grids.states_of_orders(business.context(s))["on_the_road"] == 1


def test_limits_are_checked_before_they_are_kept(business):
    with business.app_state.db.writing() as s, pytest.raises(Invalid, match="at_none"):
        PolicyChange("house", "", {"at_none": "burn"}).keep(business.context(s))
