"""Help is let in: an invited mapper settles the queue and sees no money, and an act above a buyer's limit goes through two browsers."""

from __future__ import annotations

import re
from collections.abc import Iterator

import pytest
from playwright.sync_api import Browser, Page, expect
from sqlalchemy import select

from amber_lane.core.permissions import built_in
from amber_lane.data.lanes import Lane
from amber_lane.data.orders import Order, PurchaseOrder
from amber_lane.data.outbox import AuditEntry, Outbox
from amber_lane.data.shelf import Sku
from amber_lane.services.mapping import lanes
from amber_lane.services.people import roles, users

from ..business import Business
from .conftest import Served, eventually, flaws

WORD = "eleven loud otters"


@pytest.fixture
def second(browser: Browser, browser_context_args: dict[str, object]) -> Iterator[Page]:
    """Another person's browser."""
    context = browser.new_context(**browser_context_args)
    page = context.new_page()
    page.set_default_timeout(12_000)
    yield page
    context.close()


def test_an_invited_mapper_settles_the_queue_and_sees_no_money(app: Page, second: Page, shop: tuple[Business, Served]) -> None:
    business, served = shop
    code, _ = business.laned()
    lane = business.one(select(Lane).join(Sku, Sku.id == Lane.sku_id).where(Sku.code == code, Lane.closed_at.is_(None)))
    with served.app_state.db.writing() as s:
        lanes.close_lane(business.context(s), lane.id, None, "another maker")
    business.buy(sku=code, quantity=1, country="GB")
    app.goto(f"{served.address}/setup/people")
    app.get_by_label("Mail address").fill("noor@helpers.example")
    app.get_by_role("combobox", name="Role").select_option("mapper")
    app.get_by_role("button", name="Invite", exact=True).click()
    expect(app.get_by_text("A link is on its way to noor@helpers.example")).to_be_visible()
    row = app.get_by_role("row", name=re.compile("noor@helpers"))
    expect(row.get_by_text("invited")).to_be_visible()
    mailed = select(Outbox).where(Outbox.key.startswith("invite:"))
    eventually(lambda: business.world.record()["mails"].get(business.one(mailed).key) == 1)

    second.goto(re.findall(r"http\S+", business.one(mailed).body["body"])[0])
    expect(second.get_by_text("noor@helpers.example")).to_be_visible()
    second.get_by_label("Your name").fill("Noor Vale")
    second.get_by_label(re.compile("Password")).fill("short")
    second.get_by_role("button", name="Come in").click()
    expect(second.get_by_role("alert")).to_contain_text("at least 12")
    second.get_by_label(re.compile("Password")).fill(WORD)
    second.keyboard.press("Enter")
    expect(second.get_by_role("heading", name="You are in, Noor Vale")).to_be_visible()
    second.get_by_role("button", name="Not now, go to the desk").click()
    road = second.get_by_role("navigation", name="The road")
    expect(road.get_by_role("link")).to_have_count(2)
    expect(second.get_by_text(re.compile("order waits on"))).to_be_visible()
    assert flaws(second) == []
    road.get_by_role("link", name=re.compile("Lanes")).click()
    expect(second.get_by_text("1 order waits").first).to_be_visible()
    offers = second.get_by_role("row").filter(has_text="Northlight")
    expect(offers.first).to_be_visible()
    assert not re.search(r"[£€$]\s?\d|Landed|Margin", second.locator("main").inner_text())
    second.set_viewport_size({"width": 1024, "height": 760})
    assert flaws(second) == []
    second.keyboard.press("1")
    expect(second.get_by_text(f"Lane opened for {code}")).to_be_visible()
    opened = business.one(select(Lane).join(Sku, Sku.id == Lane.sku_id).where(Sku.code == code, Lane.closed_at.is_(None)))
    assert opened.opened_by == "Noor Vale"
    # What they may not see is shut, by its address too.
    second.goto(f"{served.address}/books")
    expect(second.get_by_text("This is not yours to see")).to_be_visible()
    # Removed, they are out at once.
    app.reload()
    app.get_by_role("button", name="Remove Noor Vale").click()
    app.get_by_role("button", name="Remove them").click()
    expect(app.get_by_text("Noor Vale does not sign in any more", exact=True)).to_be_visible()
    second.goto(f"{served.address}/lanes")
    expect(second.get_by_label("Mail address")).to_be_visible()


def test_an_act_above_a_limit_goes_through_two_browsers(app: Page, second: Page, shop: tuple[Business, Served]) -> None:
    business, served = shop
    with served.app_state.db.writing() as s:
        context = business.context(s)
        users.make_person(context, "Tilda Marsh", "tilda@helpers.example", WORD, "buyer")
        roles.keep(context, roles.Role("buyer", built_in("GBP")["buyer"].permissions, 100, 100), 0)
    code, _ = business.laned()
    numbers = [business.buy(sku=code, quantity=1, country="GB") for _ in range(2)]
    ids = [business.one(select(Order.id).where(Order.number == number)) for number in numbers]
    second.goto(served.address)
    second.get_by_label("Mail address").fill("tilda@helpers.example")
    second.get_by_label("Password").fill(WORD)
    second.get_by_role("button", name="Sign in").click()
    second.get_by_role("navigation", name="The road").wait_for()
    second.goto(f"{served.address}/orders?state=ready")
    before = len(business.all(select(PurchaseOrder)))
    second.get_by_role("button", name=re.compile("^Send")).first.click()
    expect(second.get_by_text("Nothing is done yet: Tilda Marsh may spend £1.00 a day. Somebody who may is asked")).to_be_visible()
    assert len(business.all(select(PurchaseOrder))) == before

    app.goto(f"{served.address}/today")
    waits = app.get_by_role("row", name=re.compile("Tilda Marsh asks for your word: buy"))
    expect(waits).to_be_visible()
    waits.get_by_role("button", name=re.compile("Look and decide")).click()
    case = app.get_by_role("article")
    expect(case).to_contain_text("Tilda Marsh asks for it")
    assert flaws(app) == []
    if case.get_by_role("checkbox").count():
        for box in case.get_by_role("listitem").filter(has_not_text=numbers[0]).get_by_role("checkbox").all():
            box.uncheck()
    app.keyboard.press("a")
    expect(app.get_by_text("1 order sent to suppliers", exact=True)).to_be_visible()
    business.settle()
    bought = [one.order_id for one in business.all(select(PurchaseOrder))]
    assert bought.count(ids[0]) == 1 and ids[1] not in bought
    sent = business.one(select(AuditEntry).where(AuditEntry.kind == "order.send").order_by(AuditEntry.id.desc()).limit(1))
    assert sent.who == "Tester, asked by Tilda Marsh"
    # The rest is asked for anew, refused with a reason, and whoever asked reads it.
    second.reload()
    second.get_by_role("button", name=re.compile("^Send")).first.click()
    expect(second.get_by_text(re.compile("Nothing is done yet")).first).to_be_visible()
    app.goto(f"{served.address}/today/approvals")
    app.get_by_placeholder("why not, for who asked").fill("It is cheaper on Monday")
    app.get_by_role("button", name="Refuse").click()
    expect(app.get_by_text("Refused; Tilda Marsh reads why")).to_be_visible()
    second.goto(f"{served.address}/today")
    told = second.get_by_role("row", name=re.compile("Tester refused what you asked for"))
    expect(told).to_be_visible()
    told.get_by_role("button", name="why").click()
    expect(second.get_by_text("It is cheaper on Monday")).to_be_visible()
