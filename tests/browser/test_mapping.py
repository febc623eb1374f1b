"""Mapping as a person does it, by keys; an order that lacked a lane is filled right there, and what was bought stands in the world."""

from __future__ import annotations

import re

from playwright.sync_api import Page, expect
from sqlalchemy import select

from amber_lane.data.lanes import Lane, LanePart, Rejection
from amber_lane.data.orders import Order, OrderLine
from amber_lane.data.shelf import Sku
from amber_lane.data.source import Item
from amber_lane.services.mapping import lanes

from .conftest import eventually


def _bare(business, places: tuple[int, ...]) -> list[tuple[Sku, Item]]:
    """SKUs whose lanes are closed, with the item that filled them."""
    out = []
    for code, item in [business.laned(place) for place in places]:
        sku = business.one(select(Sku).where(Sku.code == code))
        with business.app_state.db.writing() as s:
            for lane, _ in lanes.lanes_of(business.context(s), sku.id):
                lanes.close_lane(business.context(s), lane.id, lane.version)
        out.append((sku, item))
    return out


def _items(business, sku: int) -> list[int]:
    rows = select(LanePart.item_id).join(Lane, Lane.id == LanePart.lane_id).where(Lane.sku_id == sku, Lane.closed_at.is_(None))
    return business.all(rows.order_by(Lane.priority))


def test_one_key_settles_each_and_the_next_stands_there(app: Page, shop) -> None:
    business, served = shop
    first, second, third = _bare(business, (11, 13, 15))
    app.goto(f"{served.address}/lanes?sku={first[0].id}")
    heading = app.get_by_role("heading", level=1)
    expect(heading).to_have_text(first[0].title)
    expect(app.get_by_role("row", name=re.compile(first[1].number)).get_by_text(re.compile("^barcode"))).to_be_visible()
    app.keyboard.press("1")
    expect(heading).not_to_have_text(first[0].title)
    eventually(lambda: _items(business, first[0].id) == [first[1].id])
    eventually(lambda: business.listing(first[0].code).lane_id is not None)
    # A spare first, which leaves the SKU there; then the main lane before it.
    app.goto(f"{served.address}/lanes?sku={second[0].id}")
    app.get_by_role("row", name=re.compile(second[1].number)).first.wait_for()
    app.keyboard.press("Shift+Digit2")
    eventually(lambda: len(_items(business, second[0].id)) == 1)
    app.keyboard.press("1")
    eventually(lambda: len(_items(business, second[0].id)) == 2 and _items(business, second[0].id)[0] == second[1].id)
    # None of these: they are not offered again, and undo offers them anew.
    app.goto(f"{served.address}/lanes?sku={third[0].id}")
    app.get_by_role("row", name=re.compile(third[1].number)).first.wait_for()
    app.keyboard.press("n")
    eventually(lambda: third[1].id in business.all(select(Rejection.item_id).where(Rejection.sku_id == third[0].id)))
    app.goto(f"{served.address}/lanes?sku={third[0].id}")
    app.get_by_text(re.compile("Supplier units per sale")).wait_for()
    expect(app.get_by_role("row", name=re.compile(third[1].number))).to_have_count(0)
    expect(app.get_by_text(re.compile("not it, and not offered again"))).to_be_visible()
    app.keyboard.press("z")
    expect(app.get_by_text(re.compile("Undone: .*not offered again"))).to_be_visible()
    expect(app.get_by_role("row", name=re.compile(third[1].number)).first).to_be_visible()
    with business.app_state.db.writing() as s:
        lanes.open_lane(business.context(s), third[0].id, [lanes.LaneItem(third[1].id, lanes.Fraction(1))])


def test_an_order_without_a_lane_is_filled_right_there_and_bought_once(app: Page, shop) -> None:
    business, served = shop
    ((sku, item),) = _bare(business, (17,))
    number = business.world.post("buy", sku=sku.code, quantity=1, country="GB", store="shop")["number"]
    served.app_state.reader.orders(1)
    app.goto(f"{served.address}/orders?state=needs_lane")
    app.get_by_role("row", name=re.compile(number)).click()
    expect(app.get_by_text(f"Which item fills {sku.title}?")).to_be_visible()
    expect(app.get_by_text(item.number).first).to_be_visible()
    app.keyboard.press("1")
    expect(app.get_by_text(re.compile("Lane opened for"))).to_be_visible()
    line = select(OrderLine).join(Order, Order.id == OrderLine.order_id).where(Order.number == number)
    eventually(lambda: business.one(line).state == "ready")
    app.get_by_role("button", name="Send this order").click()
    eventually(lambda: business.one(line).state in ("bought", "with_supplier", "on_the_road"))
    eventually(lambda: len([one for one in business.world.record()["purchases"] if f"-{number}-" in one["reference"]]) == 1)


def test_many_lanes_are_shut_and_let_be_used_at_once_and_one_explains_itself(app: Page, shop) -> None:
    business, served = shop
    app.goto(f"{served.address}/lanes?view=settled&lane=new")
    for row in (1, 2, 3):
        app.get_by_label(f"Choose row {row}", exact=True).click()
    expect(app.get_by_text("3 chosen", exact=True)).to_be_visible()
    app.keyboard.press("x")
    expect(app.get_by_text("3 lanes changed")).to_be_visible()
    assert len(business.all(select(Lane).where(Lane.state == "shut", Lane.closed_at.is_(None)))) == 3
    app.keyboard.press("z")
    expect(app.get_by_text(re.compile("Undone: 3 lanes shut"))).to_be_visible()
    assert business.all(select(Lane).where(Lane.state == "shut", Lane.closed_at.is_(None))) == []
    app.keyboard.press("Enter")
    bench = app.get_by_label("Why")
    for what in ("One unit at the door", "Promise against actual", "Who opened it, and why"):
        expect(bench.get_by_role("heading", name=what)).to_be_visible()
    bench.get_by_role("button", name="Units, services, dates").click()
    bench.get_by_label("Units per sale").fill("0")
    bench.get_by_role("button", name="Save").click()
    expect(app.get_by_text(re.compile("must lie between"))).to_be_visible()
