"""The main task in two other houses, with other money, other clocks and other addresses: from a rule to a number in the store."""

from __future__ import annotations

import re
from collections.abc import Iterator

import pytest
from playwright.sync_api import Page, expect
from sqlalchemy import select

from amber_lane.data.orders import Order, OrderLine, PurchaseOrder
from amber_lane.data.prices import PriceRule
from amber_lane.services.base.regional import home_of
from amber_lane.settings import Settings

from ..business import Business, Worlds
from .conftest import WEB, Served, eventually, sign_in

HOUSES = {
    "US": {"sign": "$", "least": "3.50", "minor": 350, "amount": r"^[−+]?\$[\d,]+\.\d\d$", "clock": "03:00", "day": r"^Thu Mar 12"},
    "JP": {"sign": "¥", "least": "350", "minor": 350, "amount": r"^[−+]?¥[\d,]+$", "clock": "18:00", "day": r"^Thu Mar 12"},
}


@pytest.fixture(scope="module", params=list(HOUSES))
def abroad(
    request: pytest.FixtureRequest, worlds: Worlds, tmp_path_factory: pytest.TempPathFactory
) -> Iterator[tuple[Business, Served, dict]]:
    folder = tmp_path_factory.mktemp("house")
    with worlds.one(request.param) as world:
        business = Business(world, folder)
        served = Served(Settings(data=folder, world=world.address, call_deadline=2, web=WEB / "dist"))
        yield business, served, HOUSES[request.param]
        served.stop()
        business.close()


def test_from_a_rule_to_a_number_in_the_store(page: Page, abroad) -> None:
    business, served, house = abroad
    sign_in(page, served)
    # The clocks are the house's, wherever the browser is: the world begins at 09:00 UTC.
    expect(page.get_by_role("banner").get_by_text(re.compile(house["day"]))).to_contain_text(house["clock"][:2])
    sku, _ = business.laned(3)
    page.goto(f"{served.address}/price")
    page.get_by_role("button", name=re.compile("margin of 28 %")).click()
    page.get_by_label(re.compile("^Least profit")).fill(house["least"])
    page.get_by_role("button", name="Save as a draft").click()
    page.get_by_role("button", name=re.compile(r"Apply to \d+")).wait_for()
    page.keyboard.press("a")
    expect(page.get_by_text(re.compile("In force"))).to_be_visible()
    assert business.one(select(PriceRule.min_profit)) == house["minor"]
    eventually(lambda: business.world.shown(sku)[-1]["price"] == business.listing(sku).wanted_price)
    number = business.world.post("buy", sku=sku, quantity=1, country=business.world.house)["number"]
    served.app_state.reader.orders(1)
    page.goto(f"{served.address}/orders?state=ready")
    row = page.get_by_role("row", name=re.compile(number))
    expect(row).to_be_visible()
    paid = business.one(select(OrderLine.paid).join(Order, Order.id == OrderLine.order_id).where(Order.number == number))
    assert paid == business.world.shown(sku)[-1]["price"]
    expect(row.get_by_text(re.compile(house["amount"])).first).to_be_visible()
    page.keyboard.press("g")
    expect(page.get_by_text("1 order sent to suppliers", exact=True)).to_be_visible()
    eventually(lambda: any(f"-{number}-" in one["reference"] for one in business.world.record()["purchases"]))
    for _ in range(14):
        business.on(360)
        served.app_state.worker.follow_clock()
        served.app_state.reader.answers(1)
        if business.all(select(OrderLine.state).where(OrderLine.state.in_(("on_the_road", "arrived")))):
            break
    eventually(lambda: [one["number"] for one in business.world.record()["fulfilments"]] == [number])
    # Billed is what was planned, to the smallest coin.
    purchase = business.one(select(PurchaseOrder))
    assert purchase.billed == purchase.goods + purchase.shipping + purchase.handling
    for path in ("today", "price?view=listings", "orders?state=all", "transit?show=all", "setup/limits", "setup/log"):
        page.goto(f"{served.address}/{path}")
        page.get_by_role("main").wait_for()
        page.wait_for_load_state("networkidle")
        words = page.get_by_role("main").inner_text()
        assert "£" not in words and "GBP" not in words and "UTC" not in words, path


def test_another_currency_is_looked_at_before_it_is_saved(page: Page, abroad) -> None:
    _, served, house = abroad
    sign_in(page, served)
    page.goto(f"{served.address}/setup/house")
    page.get_by_label("Sums over all stores").fill("EUR")
    told = page.get_by_role("table", name="What this changes")
    expect(told.get_by_role("row", name=re.compile("Sums over stores are in"))).to_contain_text("EUR")
    expect(told.get_by_text(re.compile("left out until you enter a rate"))).to_be_visible()
    page.get_by_role("button", name="Save").first.click()
    expect(page.get_by_text(re.compile("The business is in .*its sums in EUR"))).to_be_visible()
    page.keyboard.press("z")
    expect(page.get_by_text(re.compile("Undone"))).to_be_visible()
    with served.app_state.db.reading() as s:
        assert home_of(s) == {"$": "USD", "¥": "JPY"}[house["sign"]]
