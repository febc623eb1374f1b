"""A buyer's parcel that is lost: from the order to money in the journal, by a person's hands."""

from __future__ import annotations

import re

from playwright.sync_api import Page, expect
from sqlalchemy import func, select

from amber_lane.data.books import JournalEntry
from amber_lane.data.claims import Claim
from amber_lane.data.orders import Order
from amber_lane.services.purchasing import purchase_orders

from ..drawings import png
from .conftest import eventually, flaws


def test_a_case_from_the_order_to_money_in_the_journal(app: Page, shop) -> None:
    business, served = shop
    code, _ = business.laned()
    number = business.buy(sku=code, quantity=1, country="GB")
    order = business.one(select(Order).where(Order.number == number))
    with served.app_state.db.writing() as s:
        purchase_orders.send(business.context(s), [order.id])
    business.settle()
    for _ in range(4):
        business.on(8 * 60)
        served.app_state.reader.answers(1)

    app.goto(f"{served.address}/orders?state=all&words={number}")
    app.get_by_role("row", name=re.compile(number)).first.click()
    app.get_by_role("button", name="Open a case for line 1").click()
    form = app.get_by_role("dialog")
    form.get_by_label("What is wrong").select_option(label="Damaged")
    form.get_by_label(re.compile("^How much")).fill("9999")
    form.get_by_label("What happened").fill("The lens is cracked.")
    form.get_by_role("button", name="Open the case").click()
    expect(form.get_by_role("alert")).to_contain_text("no more can be asked back")
    form.get_by_label(re.compile("^How much")).fill("")
    form.get_by_role("button", name="Open the case").click()
    bench = app.get_by_role("complementary", name="The case")
    expect(bench.get_by_text("Without a picture it is likely to ask for one first.")).to_be_visible()
    app.set_viewport_size({"width": 1024, "height": 760})
    assert flaws(app) == []
    app.set_viewport_size({"width": 1280, "height": 800})
    bench.get_by_label("A picture that shows it").set_input_files(
        {"name": "crack.png", "mimeType": "image/png", "buffer": png(700, "#803020")}
    )
    expect(bench.get_by_role("img", name="Evidence")).to_be_visible()

    app.keyboard.press("a")
    expect(app.get_by_text("Northlight Trade is asked", exact=True)).to_be_visible()
    expect(bench.get_by_text("Asked", exact=True)).to_be_visible()
    bench.get_by_role("button", name="Refund the buyer").click()
    expect(bench.get_by_text("Refund the buyer: done")).to_be_visible()
    business.settle()
    refunds = [one for one in business.world.record().get("refunds", []) if number in str(one)]
    assert len(refunds) == 1
    for _ in range(5):
        business.on(24 * 60)
        served.app_state.reader.answers(1)
    claim = business.one(select(Claim))
    assert claim.state == "settled" and claim.came_back == claim.paid
    with served.app_state.db.reading() as s:
        assert s.scalar(select(func.sum(JournalEntry.amount)).where(JournalEntry.kind == "claim")) == claim.came_back
    app.goto(f"{served.address}/transit?show=cases")
    expect(app.get_by_text("No case is open")).to_be_visible()
    app.get_by_role("button", name="Settled and let go").click()
    expect(app.get_by_role("row", name=re.compile(number))).to_contain_text("Settled")
    eventually(lambda: "came back" in app.get_by_role("complementary", name="The case").inner_text(), page=app)
