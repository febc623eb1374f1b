"""A house that writes 1.234,50: what is typed there is read so, by the page, the server and the store."""

from __future__ import annotations

import re

from playwright.sync_api import Page, expect
from sqlalchemy import select

from amber_lane.core import writing
from amber_lane.data.prices import PriceRule

from .conftest import eventually


def fix(app: Page, typed: str) -> None:
    """Type a price by hand in the bench that is open."""
    app.get_by_label("Why this price").get_by_role("button", name="Set by hand").click()
    app.get_by_label("Price in GBP").fill(typed)
    app.get_by_role("button", name="Fix this price").click()


def test_what_is_typed_with_a_comma_is_what_the_store_gets(app: Page, shop) -> None:
    business, served = shop
    sku, _ = business.laned(2)
    app.goto(f"{served.address}/setup/house")
    app.get_by_label("Country, two letters").fill("GB")
    app.get_by_label("Country, two letters").press("Tab")
    # Chosen while what is usual in that country is still on its way: the choice stands.
    app.get_by_label("Numbers are written").select_option(label="1.234,50")
    app.get_by_label("Amounts are written").select_option(index=1)
    expect(app.get_by_role("table", name="What this changes").get_by_text("1.234,50 £")).to_be_visible()
    app.get_by_role("button", name="Save").first.click()
    expect(app.get_by_text(re.compile("^The business is in .* numbers written 1.234,50"))).to_be_visible()
    # A rule: its fields stand as they are written here, and are read as they are typed.
    app.goto(f"{served.address}/price")
    app.get_by_role("button", name=re.compile("margin of 28 %")).click()
    expect(app.get_by_label(re.compile("^Least profit"))).to_have_value("1,50")
    app.get_by_label(re.compile("^Least profit")).fill("3,50")
    app.get_by_role("button", name="Save as a draft").click()
    expect(app.get_by_text("at least 3,50 £")).to_be_visible()
    app.get_by_role("button", name=re.compile(r"^Apply to \d+")).wait_for()
    app.keyboard.press("a")
    expect(app.get_by_text(re.compile("In force"))).to_be_visible()
    assert business.one(select(PriceRule.min_profit)) == 350
    # A price by hand: thousands are thousands, and what can be read in two ways is refused and stays.
    app.goto(f"{served.address}/price?view=listings&words={sku}")
    app.get_by_role("row", name=re.compile(sku)).click()
    fix(app, "12.34.5")
    expect(app.get_by_role("alert").get_by_text(re.compile("12.34.5"))).to_be_visible()
    app.get_by_label("Price in GBP").fill("1.234,50")
    app.get_by_role("button", name="Fix this price").click()
    expect(app.get_by_role("heading", name="Why 1.234,50 £")).to_be_visible()
    eventually(lambda: business.world.shown(sku)[-1]["price"] == 123_450)
    # What the server says of it is written alike, and it is taken back with one key.
    app.goto(f"{served.address}/setup/log")
    expect(app.get_by_text(re.compile(rf"{sku}: price fixed at 1.234,50 £")).first).to_be_visible()
    app.goto(f"{served.address}/setup/house")
    app.get_by_label("Numbers are written").select_option(label="1,234.50")
    app.get_by_label("Amounts are written").select_option(index=0)
    app.get_by_role("button", name="Save").first.click()
    expect(app.get_by_text(re.compile("^The business is in .* numbers written 1,234.50"))).to_be_visible()
    eventually(lambda: writing.grouped(1000) == "1,000")
