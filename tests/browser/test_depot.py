"""From what is worth holding to a thing that a depot has counted in and sent to a buyer, by a person's own hands."""

from __future__ import annotations

import re
from datetime import timedelta

from playwright.sync_api import Page, expect
from sqlalchemy import select

from amber_lane.data.depot import DepotEntry, HeldGoods, Inbound
from amber_lane.data.lanes import Lane
from amber_lane.data.orders import Order, OrderLine, PurchaseOrder
from amber_lane.data.setup import Supplier
from amber_lane.data.shelf import Sku
from amber_lane.services.mapping import lanes
from amber_lane.services.pricing import sales_velocity

from .conftest import eventually, flaws


def sold_steadily(business, served, code: str, days: int = 30) -> None:
    """Two a day for a month, brought in as a past."""
    with served.app_state.db.writing() as s:
        context = business.context(s)
        sku = s.scalars(select(Sku).where(Sku.code == code)).one()
        lane = s.scalars(select(Lane.id).where(Lane.sku_id == sku.id)).first()
        for day in range(1, days + 1):
            order = Order(
                store_id=1, number=f"OLD-{day}", buyer="Old Buyer", address={}, country="GB", currency="GBP", came_at=context.now,
                ordered_at=context.now - timedelta(days=day), channel="past",
            )  # fmt: skip
            s.add(order)
            s.flush()
            line = {"order_id": order.id, "line_no": 1, "sku_code": code, "sku_id": sku.id, "lane_id": lane}
            s.add(OrderLine(**line, quantity=1 + day % 3, paid=2000, state="arrived"))
        s.flush()
        sales_velocity.refresh(context)


def test_from_worth_holding_to_counted_in_and_sold(app: Page, shop) -> None:
    business, served = shop
    world = business.world
    world.post("facts", name="depot_slips", value=0)
    code, item = business.laned()
    sold_steadily(business, served, code)
    app.goto(f"{served.address}/depot")
    expect(app.get_by_text("No depot holds stock of yours")).to_be_visible()
    app.get_by_role("button", name="Connect a depot").click()
    app.get_by_role("button", name="Connect a supplier").click()
    app.get_by_label("What kind of supplier").select_option(label="Depot that holds our stock")
    app.get_by_label("Address", exact=True).fill(f"{world.address}/depot/api")
    app.get_by_label(re.compile("^Its key")).fill("practice-larkfield")
    app.get_by_role("button", name="Check and connect").click()
    eventually(lambda: len(business.all(select(Supplier.id).where(Supplier.kind == "depot_api"))) == 1)
    depot = business.one(select(Supplier.id).where(Supplier.kind == "depot_api"))
    served.app_state.reader.answers(depot)

    # What it would cost from there, part by part, and as if it sold half as fast.
    app.goto(f"{served.address}/depot?view=worth")
    app.get_by_label("also those that save nothing").check()
    app.get_by_role("row", name=re.compile(code)).click()
    bench = app.get_by_role("complementary", name="What it would cost")
    expect(bench.get_by_text("Goods in bulk")).to_be_visible()
    bench.get_by_role("slider").fill("50")
    expect(bench.get_by_text("If it sold 50 % of now, 1.0 a day")).to_be_visible()
    app.set_viewport_size({"width": 1024, "height": 760})
    assert flaws(app) == []
    app.set_viewport_size({"width": 1280, "height": 800})

    bench.get_by_role("button", name="Ask Larkfield Depot to hold it").click()
    form = app.get_by_role("dialog")
    form.get_by_label("Long, mm").fill("1200")
    form.get_by_role("button", name="Ask to hold it").click()
    expect(form.get_by_role("alert")).to_contain_text("up to 900 mm")
    for name, value in (
        ("Long, mm", "120"),
        ("Wide, mm", "100"),
        ("High, mm", "80"),
        ("Weight, g", "300"),
        ("In packs of", "6"),
        ("In a carton", "12"),
    ):
        form.get_by_label(name).fill(value)
    form.get_by_role("button", name="Ask to hold it").click()
    expect(app.get_by_text(re.compile("is asked to hold"))).to_be_visible()
    business.settle()

    def agreed() -> bool:
        # The worker beside us may still be carrying word there: the depot thinks from when it has it.
        if business.one(select(HeldGoods.state)) == "question":
            app.reload()
            app.get_by_role("button", name="Answer").click()
            app.get_by_label("Your answer").fill("Two AA cells, alkaline.")
            app.get_by_role("button", name="Send the answer").click()
            eventually(lambda: business.one(select(HeldGoods.state)) != "question", page=app)
        business.settle()
        business.on(150)
        served.app_state.reader.answers(depot)
        return business.one(select(HeldGoods.state)) == "agreed"

    eventually(agreed, page=app)
    held = business.one(select(HeldGoods))
    assert (held.state, held.sides, held.carton) == ("agreed", [120, 100, 80], 12)

    # It holds nothing yet, and so many should be ordered; a load by hand, in whole packs, with labels.
    app.goto(f"{served.address}/depot")
    expect(app.get_by_role("heading", name="1 to order today")).to_be_visible()
    assert flaws(app) == []
    app.goto(f"{served.address}/depot?view=loads")
    app.get_by_role("button", name="Put a load together").wait_for()
    app.keyboard.press("n")
    load = app.get_by_role("dialog")
    load.get_by_label(re.compile("^Units of")).fill("20")
    load.get_by_role("button", name="Put it together").click()
    expect(load.get_by_role("alert")).to_contain_text("packs of 6")
    load.get_by_label(re.compile("^Units of")).fill("24")
    load.get_by_label(re.compile("^Lot of")).fill("A7")
    load.get_by_role("button", name="Put it together").click()
    expect(app.get_by_role("heading", name="24 units from Northlight Trade")).to_be_visible()
    assert len(business.one(select(Inbound)).cartons) == 2 and business.one(select(Inbound)).state == "planned"
    with app.context.expect_page() as opened:
        app.get_by_role("link", name="Labels on A4").click()
    opened.value.close()
    app.get_by_role("button", name="Order it").click()
    eventually(lambda: business.one(select(Inbound.state)) == "ordered", page=app)
    reference = business.one(select(Inbound.reference))
    business.settle()
    for _ in range(30):
        business.on(8 * 60)
        for number in (1, depot):
            served.app_state.reader.answers(number)
        if business.one(select(Inbound.state)) == "counted":
            break
    bought = [one for one in world.record()["purchases"] if one["reference"] == reference]
    assert len(bought) == 1 and bought[0]["supplier"] == "wholesale"
    app.goto(f"{served.address}/depot?view=ledger")
    row = app.get_by_role("row", name=re.compile("Counted in"))
    expect(row).to_contain_text("+24")
    expect(row).to_contain_text("lot A7")

    # The supplier has run out, so it is off sale, however much of it lies at the depot that nobody chose yet.
    world.post("items", number=item.number, stock=0)

    def is_off() -> bool:
        business.on(16)
        served.app_state.worker.sweep()
        return (business.listing(code).state, world.shown(code)[-1]["state"]) == ("paused", "paused")

    eventually(is_off, page=app)

    # One key makes it the main lane, and it is on sale at once; the next buyer is sent from there.
    app.goto(f"{served.address}/depot")
    app.get_by_role("button", name="Make it the main lane").click()
    expect(app.get_by_text("It is the main lane now")).to_be_visible()
    other = business.one(select(Lane).join(Sku, Sku.id == Lane.sku_id).where(Sku.code == code, Lane.supplier_id == 1))
    with served.app_state.db.writing() as s:
        lanes.close_lane(business.context(s), other.id, other.version)

    eventually(lambda: (business.listing(code).state, world.shown(code)[-1]["state"]) == ("live", "live"), page=app)
    number = business.buy(sku=code, quantity=1, country="GB")
    coming = select(OrderLine.state).join(Order).where(Order.number == number)
    eventually(lambda: business.one(coming) == "ready", within=90, page=app)
    app.goto(f"{served.address}/orders?state=ready")
    app.get_by_role("row", name=re.compile(number)).click()
    app.get_by_role("button", name="Send this order").wait_for()
    app.keyboard.press("a")
    eventually(lambda: bool(business.all(select(PurchaseOrder).where(PurchaseOrder.supplier_id == depot))), page=app)
    business.settle()
    for _ in range(5):
        business.on(8 * 60)
        served.app_state.reader.answers(depot)
    sent = [one for one in world.record()["purchases"] if one["supplier"] == "depot"]
    assert len(sent) == 1 and sent[0]["state"] == "shipped"
    assert [(one.kind, one.units, one.there) for one in business.all(select(DepotEntry).order_by(DepotEntry.nth))] == [
        ("counted_in", 24, 24),
        ("sent", -1, 23),
    ]
    app.goto(f"{served.address}/depot?view=ledger")
    expect(app.get_by_role("row", name=re.compile("Sent to a buyer"))).to_contain_text("−1")
