"""Price and Watch in full, as a person works them: exceptions, plans, replay, what stores show otherwise, and groups."""

from __future__ import annotations

import re

from playwright.sync_api import Page, expect
from sqlalchemy import func, select

from amber_lane.data.prices import PriceRule
from amber_lane.data.setup import Supplier
from amber_lane.data.watch import Drift, ListingDecision, Sweep

from ..business import Business
from .conftest import eventually


def shown(business: Business, sku: str) -> int:
    return int(business.world.shown(sku)[-1]["price"])


def test_an_exception_for_one_sku_is_drafted_seen_applied_and_undone(app: Page, shop) -> None:
    business, served = shop
    sku, _ = business.laned(5)
    before = shown(business, sku)
    app.goto(f"{served.address}/price")
    expect(app.get_by_text("None: every supplier")).to_be_visible()
    app.get_by_role("button", name="Add an exception").click()
    app.get_by_label("Whose").select_option("sku")
    app.get_by_role("button", name="Save as a draft").click()
    expect(app.get_by_role("region", name="The rule in hand").get_by_role("alert")).to_have_text("is needed")
    app.get_by_placeholder("its number").fill(sku)
    app.get_by_label("Least profit, £").fill("400")
    # It is seen while it is typed, before anything is kept.
    expect(app.get_by_role("heading", name="If you make it so")).to_be_visible()
    app.get_by_role("button", name="Save as a draft").click()
    expect(app.locator("tbody").get_by_text(sku)).to_be_visible()
    assert shown(business, sku) == before
    app.get_by_role("button", name=re.compile("^Apply")).click()
    eventually(lambda: shown(business, sku) > before + 2000)
    assert business.one(select(PriceRule.min_profit).where(PriceRule.scope == "sku")) == 40_000
    app.goto(f"{served.address}/price?view=listings&words={sku}")
    app.locator("tbody tr").filter(has_text=sku).click()
    expect(app.get_by_text(f"SKU {sku}")).to_be_visible()
    app.keyboard.press("z")
    eventually(lambda: shown(business, sku) == before)


def test_a_plan_is_entered_tried_and_joined(app: Page, shop) -> None:
    business, served = shop
    app.goto(f"{served.address}/price?view=plans")
    expect(app.get_by_text("No plan is known")).to_be_visible()
    app.get_by_role("button", name="Add a plan").click()
    app.get_by_label("Name").fill("Trade circle")
    app.get_by_label("Discount on goods, %").fill("much")
    app.get_by_role("button", name="See what it does").click()
    expect(app.get_by_text("Give it a name, a discount")).to_be_visible()
    app.get_by_label("Discount on goods, %").fill("5")
    app.get_by_label(re.compile("Fee a month")).fill("10")
    app.get_by_role("button", name="See what it does").click()
    app.get_by_role("button", name=re.compile("^Save")).click()
    expect(app.locator("tbody").get_by_text("£200.00")).to_be_visible()
    landed = business.listing(business.laned(0)[0]).landed
    app.get_by_role("button", name="See it joined").click()
    expect(app.get_by_text("Nothing has happened yet")).to_be_visible()
    app.get_by_role("button", name=re.compile("^Save")).click()
    expect(app.get_by_text("joined, it counts")).to_be_visible()
    assert business.listing(business.laned(0)[0]).landed < landed
    assert business.one(select(Supplier.plans).where(Supplier.id == 1))[0]["taken"]
    app.keyboard.press("z")
    eventually(lambda: business.listing(business.laned(0)[0]).landed == landed)


def test_replay_lays_two_sets_beside_each_other(app: Page, shop) -> None:
    _, served = shop
    app.goto(f"{served.address}/price?view=replay")
    expect(app.get_by_role("heading", name="The two come to the same")).to_be_visible()
    app.get_by_role("button", name="Nothing followed").click()
    expect(app.get_by_text("As if nobody had watched")).to_be_visible()
    app.get_by_role("button", name="2 weeks").click()
    expect(app.get_by_text(re.compile("over 14 days"))).to_be_visible()


def test_what_somebody_changed_in_the_store_is_found_and_ours_is_sent_again(app: Page, shop) -> None:
    business, served = shop
    sku, _ = business.laned(6)
    mine = shown(business, sku)
    business.on(10)
    business.world.post("listings", sku=sku, price=mine + 777)
    app.goto(f"{served.address}/watch?state=differs")
    # The house has followed the world's clock: what went out at its opening is not "just now" any more.
    expect(app.get_by_role("button", name="Set-up and clock")).to_contain_text("09:1")
    app.get_by_role("button", name="Read the stores now").click()
    row = app.locator("tbody tr").filter(has_text=sku)
    expect(row).to_be_visible()
    assert business.one(select(func.count()).select_from(Drift).where(Drift.ended_at.is_(None))) == 1
    row.get_by_role("button", name="Send ours again").click()
    eventually(lambda: shown(business, sku) == mine)
    expect(app.get_by_text("All stores show what we asked")).to_be_visible()


def test_a_rise_is_one_line_that_is_taken_back_as_one_and_its_item_has_a_page(app: Page, shop) -> None:
    business, served = shop
    sku, item = business.laned(2)
    before = shown(business, sku)
    business.world.post("items", number=item.number, cost=item.cost * 13 // 10)
    business.on(3)
    app.goto(f"{served.address}/watch")
    expect(app.get_by_text(re.compile("09:1[3-9]")).first).to_be_visible()
    app.get_by_role("button", name="Sweep now").first.click()
    eventually(lambda: shown(business, sku) > before)
    last = business.one(select(func.max(Sweep.id)))
    app.get_by_role("button", name="By cause").click()
    row = app.locator("tbody tr").filter(has_text="1 up").first
    expect(row).to_contain_text("a sweep of Northlight Trade")
    row.get_by_role("button", name=re.compile("^Undo")).click()
    eventually(lambda: shown(business, sku) == before)
    assert set(business.all(select(ListingDecision.state).where(ListingDecision.sweep_id == last, ListingDecision.kind == "reprice"))) == {
        "undone"
    }
    app.goto(f"{served.address}/item/{item.id}")
    expect(app.get_by_role("heading", name=item.title)).to_be_visible()
    expect(app.locator("tbody").get_by_text(sku)).to_be_visible()
    expect(app.get_by_text(re.compile(r"60 days: \d+ change"))).to_be_visible()
    app.goto(f"{served.address}/item/999999")
    expect(app.get_by_role("alert")).to_contain_text("there is no item 999999")
