"""Every view is accessible and fits a narrow window; and the first start of an empty house."""

from __future__ import annotations

import re

from playwright.sync_api import Page, expect
from sqlalchemy import select, update

from amber_lane.data.setup import Carrier
from amber_lane.data.shelf import Sku
from amber_lane.services.base.regional import Place, place_of

from .conftest import flaws

VIEWS = [
    "/today",
    "/source",
    "/source?view=looking",
    "/source?view=samples",
    "/source?view=requests",
    "/shelf",
    "/shelf?view=live",
    "/shelf/print",
    "/lanes",
    "/lanes?view=settled",
    "/lanes?view=faults",
    "/price",
    "/price?view=listings",
    "/price?view=fees",
    "/price?view=plans",
    "/watch",
    "/watch?state=doubted",
    "/watch?view=groups",
    "/watch?view=calls",
    "/orders",
    "/orders?state=all",
    "/transit",
    "/transit?show=numbers",
    "/transit?show=cases",
    "/depot",
    "/depot?view=worth",
    "/depot?view=loads",
    "/depot?view=slow",
    "/depot?view=ledger",
    "/books",
    "/books?view=profit",
    "/books?view=profit&by=sku&across=week",
    "/books?view=earning",
    "/books?view=partners",
    "/books?view=settled",
    "/books?view=costs",
    "/setup/partners",
    "/setup/carriers",
    "/setup/limits",
    "/setup/mail",
    "/setup/world",
    "/setup/log",
    "/setup/outbox",
    "/setup/people",
]


def test_every_view_is_accessible_and_fits(app: Page, shop) -> None:
    problems: list[str] = []
    app.on("pageerror", lambda error: problems.append(str(error)))
    app.on("console", lambda said: problems.append(said.text) if "Content Security Policy" in said.text else None)
    app.set_viewport_size({"width": 1024, "height": 760})
    for view in VIEWS:
        app.goto(f"{shop[1].address}{view}")
        app.get_by_role("main").locator("h1, h2").first.wait_for(state="attached")
        problems += [f"{view}: {one}" for one in flaws(app)]
    assert not problems


def test_a_first_start_leads_through_joining(page: Page, empty) -> None:
    world, served = empty
    page.set_default_timeout(12_000)
    page.goto(served.address)
    page.get_by_label("Your name").fill("Ada")
    page.get_by_label("Mail address").fill("ada@amber-lane.example")
    page.get_by_label("Password").fill("long-enough-word")
    page.get_by_label("Country").fill("us")
    page.get_by_label("Time zone").fill("America/Denver")
    page.get_by_role("button", name="Make my account").click()
    steps = page.get_by_role("region", name="First steps")
    expect(page.get_by_role("heading", name=re.compile("first steps are open"))).to_be_visible()
    with served.app_state.db.reading() as s:
        assert place_of(s) == Place("US", "America/Denver", "mdy", ".", "USD", group=",")
    steps.get_by_role("button", name="Connect a store").click()
    page.get_by_label("Address", exact=True).fill(f"{world.address}/shop/api")
    page.get_by_label(re.compile("^Its key")).fill("dusk-dial:wrong")
    page.get_by_role("button", name="Check and connect").click()
    expect(page.get_by_role("alert")).to_contain_text("does not accept the key")
    page.get_by_label(re.compile("^Its key")).fill("dusk-dial:practice-shop")
    page.get_by_role("button", name="Check and connect").click()
    page.get_by_role("dialog").wait_for(state="detached")
    expect(page.get_by_text("in practice")).to_be_visible()
    page.get_by_role("link", name=re.compile("^Today")).click()
    steps.get_by_role("button", name="Connect a supplier").click()
    page.get_by_label("Address", exact=True).fill(f"{world.address}/wholesale/api")
    page.get_by_label(re.compile("^Its key")).fill("practice-northlight")
    page.get_by_role("button", name="Check and connect").click()
    page.get_by_role("dialog").wait_for(state="detached")
    page.get_by_role("link", name=re.compile("^Today")).click()
    expect(steps.get_by_text(re.compile("0 of .* SKUs on sale have one"))).to_be_visible()
    expect(page.get_by_text(re.compile("SKUs on sale without a lane"))).to_be_visible()


def test_a_page_asks_again_for_what_changed_and_for_nothing_else(app: Page, shop) -> None:
    business, served = shop
    asked: list[str] = []
    app.goto(f"{served.address}/setup/carriers")
    carrier = business.one(select(Carrier.name))
    expect(app.get_by_text(carrier).first).to_be_visible()
    app.on("request", lambda request: asked.append(request.url.split("/api/v1/")[-1]))

    def change(column, value: str) -> None:
        with business.app_state.db.writing() as s:
            s.execute(update(column.class_).values({column.key: value}))

    with app.expect_response(lambda answer: "/carriers" in answer.url):
        change(Sku.title, "A lamp of another name")
        change(Carrier.name, "Slow Heron Post")
    expect(app.get_by_text("Slow Heron Post").first).to_be_visible()
    assert asked and all("carriers" in one or one == "pulse" for one in asked), asked
