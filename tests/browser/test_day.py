"""A person's whole tasks in the real interface; what counts is what reached the practice world."""

from __future__ import annotations

import re

from playwright.sync_api import Page, expect
from sqlalchemy import func, select

from amber_lane.data.orders import Order, OrderLine
from amber_lane.data.shelf import Listing, Sku
from amber_lane.data.watch import Sweep

from ..business import Business
from .conftest import eventually


def test_from_a_missing_lane_to_a_number_in_the_store_by_keyboard(app: Page, shop) -> None:
    business, served = shop
    bare = business.one(select(Sku).where(Sku.gtin == "").limit(1))
    number = business.world.post("buy", sku=bare.code, quantity=1, country="GB")["number"]
    served.app_state.reader.orders(1)
    app.goto(f"{served.address}/today")
    app.get_by_text(re.compile("1 order waits on")).wait_for()
    app.get_by_role("button", name=re.compile("Choose its item")).first.click()
    app.get_by_role("button", name=re.compile("Open lane to")).wait_for()
    expect(app.get_by_text("1 waiting order is planned anew")).to_be_visible()
    app.keyboard.press("1")
    expect(app.get_by_text(re.compile("Lane opened for"))).to_be_visible()
    app.goto(f"{served.address}/orders?state=ready")
    expect(app.get_by_role("row", name=re.compile(number))).to_be_visible()
    app.keyboard.press("g")
    expect(app.get_by_text("1 order sent to suppliers", exact=True)).to_be_visible()
    for _ in range(14):
        business.on(360)
        served.app_state.worker.follow_clock()
        served.app_state.reader.answers(1)
        line = business.one(select(OrderLine).join(Order, Order.id == OrderLine.order_id).where(Order.number == number))
        if line.state in ("on_the_road", "arrived"):
            break
    app.goto(f"{served.address}/orders?state=all&words={number}")
    expect(app.get_by_text("On the road").or_(app.get_by_text("Arrived")).first).to_be_visible()
    eventually(lambda: [one["number"] for one in business.world.record()["fulfilments"] if one["number"] == number] == [number])
    assert [one["reference"] for one in business.world.record()["purchases"] if f"-{number}-" in one["reference"]] == [f"DDS-{number}-1"]


def test_a_rule_is_tried_applied_and_undone(app: Page, shop) -> None:
    business, served = shop
    sku, _ = business.laned(5)
    before = business.listing(sku).wanted_price
    app.goto(f"{served.address}/price")
    app.get_by_role("button", name=re.compile("margin of 28 %")).click()
    app.get_by_label("How much").fill("not much")
    app.get_by_role("button", name="Save as a draft").click()
    expect(app.get_by_text("is not a number that fits here")).to_be_visible()
    app.get_by_label("How much").fill("40")
    app.get_by_role("button", name="Save as a draft").click()
    expect(app.get_by_role("heading", name="If you make it so")).to_be_visible()
    assert business.listing(sku).wanted_price == before
    apply = app.get_by_role("button", name=re.compile(r"Apply to \d+"))
    apply.wait_for()
    app.keyboard.press("a")
    expect(app.get_by_text(re.compile("In force, [0-9,]+ price"))).to_be_visible()
    after = business.listing(sku).wanted_price
    assert after > before
    eventually(lambda: business.world.shown(sku)[-1]["price"] == after)
    expect(app.get_by_text(re.compile("Your last: price rules changed"))).to_be_visible()
    app.keyboard.press("z")
    expect(app.get_by_text(re.compile("Undone: price rules"))).to_be_visible()
    eventually(lambda: business.world.shown(sku)[-1]["price"] == before)


def test_why_a_price_and_a_price_by_hand(app: Page, shop) -> None:
    business, served = shop
    sku, _ = business.laned(6)
    app.goto(f"{served.address}/price?view=listings&words={sku}")
    app.get_by_role("row", name=re.compile(sku)).click()
    bench = app.get_by_label("Why this price")
    expect(bench.get_by_text(re.compile("You ask for a margin of"))).to_be_visible()
    expect(bench.get_by_text("Profit", exact=True).first).to_be_visible()
    bench.get_by_role("button", name="Set by hand").click()
    app.get_by_label("Price in GBP").fill("0.50")
    app.get_by_role("button", name="Fix this price").click()
    expect(app.get_by_text(re.compile("every sale loses"))).to_be_visible()
    app.get_by_label("Price in GBP").fill("88,88")
    app.get_by_role("button", name="Fix this price").click()
    expect(bench.get_by_role("heading", name="Why £88.88")).to_be_visible()
    eventually(lambda: business.world.shown(sku)[-1]["price"] == 8888)


def swept(business: Business, state: str) -> None:
    """Let time pass until a sweep by schedule ends so; one that a slow machine lets fail is followed by the next."""
    newest = select(Sweep).where(Sweep.state != "running").order_by(Sweep.id.desc()).limit(1)
    for _ in range(4):
        last = business.one(select(func.max(Sweep.id))) or 0
        business.on(16)
        eventually(lambda last=last: any(one.id > last for one in business.all(newest)), within=30)
        if business.one(newest).state == state:
            return
    raise AssertionError(f"no sweep was {state}")


def test_a_held_feed_is_settled_from_today(app: Page, shop) -> None:
    business, served = shop
    swept(business, "good")
    live = len(business.all(select(Listing).where(Listing.state == "live")))
    assert live > 10
    business.world.dial("wholesale", "zero_stock", 1)
    swept(business, "held")
    business.world.calm()
    app.goto(f"{served.address}/watch")
    expect(app.get_by_text(re.compile("items fell to zero"))).to_be_visible()
    app.goto(f"{served.address}/today")
    app.get_by_role("button", name=re.compile("Keep last good stock")).click()
    expect(app.get_by_text(re.compile("Keep last good stock: "))).to_be_visible()
    assert len(business.all(select(Listing).where(Listing.state == "live"))) == live


def test_orders_come_in_as_a_sheet_and_bad_rows_are_told(app: Page, shop, tmp_path) -> None:
    business, served = shop
    sku, _ = business.laned(0)
    sheet = tmp_path / "orders.csv"
    head = "store;order_no;sku;quantity;name;address_1;city;postcode;country;unit_price"
    sheet.write_text(
        f"{head}\nDusk & Dial shop;S-1;{sku};1;Wren Sorrel;4 Row;Whitby;YO21 3PR;GB;49,95\nDusk & Dial shop;S-2;{sku};none;X;1;Y;Z;GB;1\n"
    )
    app.goto(f"{served.address}/orders?state=all")
    app.get_by_role("button", name="Import orders").click()
    app.get_by_label("The sheet").set_input_files(sheet)
    expect(app.get_by_text("is not a whole number")).to_be_visible()
    app.get_by_role("button", name="Take 1 good row").click()
    app.get_by_role("button", name="Done").click()
    expect(app.get_by_role("row", name=re.compile("S-1"))).to_be_visible()
    assert business.one(select(OrderLine).join(Order, Order.id == OrderLine.order_id).where(Order.number == "S-1")).paid == 4995


def test_keys_finder_and_a_lost_address(app: Page, shop) -> None:
    business, served = shop
    sku, _ = business.laned(0)
    app.keyboard.press("?")
    expect(app.get_by_role("heading", name="Keys of this view")).to_be_visible()
    app.keyboard.press("Escape")
    app.keyboard.press("Control+k")
    app.keyboard.type(sku)
    expect(app.get_by_role("option", name=re.compile(sku)).first).to_be_visible()
    app.keyboard.press("Enter")
    expect(app).to_have_url(re.compile(f"words={sku}"))
    app.goto(f"{served.address}/no/such/place")
    expect(app.get_by_text("There is nothing at this address")).to_be_visible()
    app.goto(f"{served.address}/orders?row=999999")
    expect(app.get_by_text("there is no order 999999")).to_be_visible()


def test_when_the_back_end_is_gone_the_page_says_so_and_goes_on(app: Page, shop) -> None:
    app.goto(f"{shop[1].address}/setup/people")
    app.get_by_label("Name, if you know it").fill("Half typed")
    app.context.set_offline(True)
    app.get_by_role("button", name="Invite", exact=True).click()
    expect(app.get_by_role("alert").filter(has_text="does not answer").first).to_be_visible()
    assert app.get_by_label("Name, if you know it").input_value() == "Half typed"
    app.context.set_offline(False)
