"""A return from the buyer's wish in the store to what became of the goods."""

from __future__ import annotations

import re

from playwright.sync_api import Page, expect
from sqlalchemy import select

from amber_lane.data.orders import Order
from amber_lane.data.returns import GoodsReturn

from .conftest import flaws


def test_what_a_buyer_wants_to_send_back_is_answered_followed_and_written_off(app: Page, shop) -> None:
    business, served = shop
    line = business.on_the_road(3)[0]
    number = business.one(select(Order.number).where(Order.id == line.order_id))
    asked = business.world.post("return", number=number, reason="not_as_described")["number"]
    served.app_state.reader.orders(1)

    app.goto(f"{served.address}/today")
    app.get_by_role("row", name=re.compile(f"wants to send back .* order {number}")).click()
    app.keyboard.press("a")
    row = app.get_by_role("row", name=re.compile("It looks nothing like the picture"))
    expect(row).to_contain_text("the store decides")
    assert flaws(app) == []
    app.set_viewport_size({"width": 1024, "height": 760})
    assert flaws(app) == []
    app.set_viewport_size({"width": 1280, "height": 800})
    app.keyboard.press("n")
    form = app.get_by_role("dialog")
    expect(form.get_by_role("button", name="Refuse it")).to_be_disabled()
    form.get_by_role("button", name="Cancel").click()
    app.keyboard.press("o")
    bench = app.get_by_role("complementary", name="The case")
    expect(bench).to_contain_text(f"Asked for in Dusk & Dial shop as {asked}")
    bench.get_by_role("button", name="Let it be sent back").click()
    form = app.get_by_role("dialog")
    form.get_by_label("Address").fill("short")
    form.get_by_role("button", name="Tell the buyer").click()
    expect(form.get_by_role("alert")).to_contain_text("must be a whole address")
    form.get_by_label("Address").fill("Northlight returns, Dock 4, Aire Street, Leeds LS1 4HY")
    form.get_by_role("button", name="Tell the buyer").click()
    expect(bench.get_by_role("link", name="The label")).to_be_visible(timeout=15_000)
    with app.expect_download() as got:
        bench.get_by_role("link", name="The label").click()
    with open(got.value.path(), "rb") as file:
        assert file.read(5) == b"%PDF-"
    shown = business.world.client.get("/shop/api/returns", auth=("dusk-dial", "practice-shop")).json()["returns"]
    assert [one["state"] for one in shown if one["number"] == asked] == ["accepted"]
    for _ in range(10):
        business.on(12 * 60)
        served.app_state.reader.orders(1)
        served.app_state.reader.parcels(1)
        business.settle()
    app.reload()
    expect(bench.get_by_text("Arrived, not looked at")).to_be_visible()
    expect(bench.get_by_text("Refund the buyer: done")).to_be_visible()
    app.get_by_role("button", name=re.compile("Coming back")).click()
    expect(app.get_by_role("row", name=re.compile("Arrived, not looked at"))).to_be_visible()
    bench.get_by_label("How it came").fill("the frame is bent")
    bench.get_by_role("button", name="Note it").click()
    expect(app.get_by_text("Nothing is on its way back")).to_be_visible()
    there = business.one(select(GoodsReturn))
    assert (there.state, there.sound, there.note) == ("looked_at", 0, "the frame is bent")
    given = [one for one in business.world.record()["refunds"].values() if one["order"] == number]
    assert [one["paid"] for one in given] == [f"{line.total / 100:.2f}"]
