"""What stores take, suppliers give and limits hold: seen first, then made, then undone, with the store following each time."""

from __future__ import annotations

import re

from playwright.sync_api import Page, expect
from sqlalchemy import select, update

from amber_lane.data.lanes import Lane
from amber_lane.data.outbox import AuditEntry, Outbox
from amber_lane.data.setup import Supplier
from amber_lane.data.shelf import Listing, Sku
from amber_lane.services.mapping import lanes

from ..business import Business
from .conftest import eventually


def shown(business: Business, sku: str) -> int:
    return int(business.world.shown(sku)[-1]["price"])


def draft(app: Page) -> None:
    """Look at what is typed, and keep it."""
    app.get_by_role("button", name="See what it does").first.click()
    expect(app.get_by_text("Nothing has happened yet")).to_be_visible()
    app.get_by_role("button", name=re.compile("^Save")).click()
    expect(app.get_by_role("dialog")).to_have_count(0)


def test_a_fee_is_typed_once_and_every_price_follows_and_comes_back(app: Page, shop) -> None:
    business, served = shop
    sku, _ = business.laned(3)
    before = business.listing(sku).wanted_price
    app.goto(f"{served.address}/price?view=fees")
    app.get_by_label("Payment fee, %").fill("lots")
    app.get_by_role("button", name="See what it does").first.click()
    expect(app.get_by_text("is not a number such as")).to_be_visible()
    app.get_by_label("Payment fee, %").fill("12,5")
    app.get_by_role("button", name="See what it does").first.click()
    expect(app.get_by_text("Nothing has happened yet")).to_be_visible()
    expect(app.get_by_text(re.compile(r"prices rise")).first).to_be_visible()
    app.get_by_role("button", name="Cancel").click()
    assert business.listing(sku).wanted_price == before, "looking changes nothing"
    draft(app)
    eventually(lambda: shown(business, sku) > before)
    app.keyboard.press("z")
    expect(app.get_by_text(re.compile("^Undone: what .* takes"))).to_be_visible()
    eventually(lambda: shown(business, sku) == before)
    app.reload()
    assert app.get_by_label("Payment fee, %").input_value() != "12.5"


def test_what_a_supplier_gives_lowers_what_things_cost(app: Page, shop) -> None:
    business, served = shop
    sku, _ = business.laned(4)
    before, landed = business.listing(sku).wanted_price, business.listing(sku).landed
    app.goto(f"{served.address}/setup/partners")
    app.get_by_role("button", name="Terms").click()
    app.get_by_label(re.compile("^Discount on goods")).fill("100")
    app.get_by_role("button", name="See what it does").click()
    expect(app.get_by_role("alert")).to_contain_text("below 100")
    app.get_by_label(re.compile("^Discount on goods")).fill("30")
    draft(app)
    eventually(lambda: shown(business, sku) < before)
    assert business.listing(sku).landed < landed
    app.keyboard.press("z")
    eventually(lambda: shown(business, sku) == before)
    assert business.one(select(Supplier.discount)) == 0


def test_a_limit_is_seen_made_and_undone_and_nonsense_is_refused(app: Page, shop) -> None:
    business, served = shop
    sku, _ = business.laned(2)
    assert business.listing(sku).wanted_quantity == 8
    app.goto(f"{served.address}/setup/limits")
    app.get_by_label("Show at most", exact=True).fill("few")
    app.get_by_role("button", name="See what it does").click()
    expect(app.get_by_text('"Show at most" needs a number')).to_be_visible()
    app.get_by_label("Show at most", exact=True).fill("3")
    draft(app)
    eventually(lambda: business.world.shown(sku)[-1]["quantity"] == 3)
    app.keyboard.press("z")
    eventually(lambda: business.world.shown(sku)[-1]["quantity"] == 8)
    expect(app.get_by_label("Show at most", exact=True)).to_have_value("8")


def test_a_rate_is_entered_where_two_currencies_meet(app: Page, shop) -> None:
    business, served = shop
    with business.app_state.db.writing() as s:
        s.execute(update(Supplier).values(currency="EUR"))
    try:
        app.goto(f"{served.address}/today")
        app.get_by_role("button", name="Enter the rate").click()
        field = app.get_by_label("What 1 EUR is in GBP")
        expect(app.get_by_text("not entered yet")).to_be_visible()
        field.fill("0,86")
        field.press("Enter")
        app.get_by_role("button", name=re.compile("^Save")).click()
        expect(app.get_by_text(re.compile("1 EUR is 0.86 GBP")).first).to_be_visible()
        with business.app_state.db.reading() as s:
            row = s.scalars(select(AuditEntry).where(AuditEntry.kind == "rate.change")).one()
        assert row.undo == "open" and "change of rate" not in row.message
    finally:
        with business.app_state.db.writing() as s:
            s.execute(update(Supplier).values(currency="GBP"))


def test_lanes_are_put_in_order_and_shut_from_the_desk(app: Page, shop) -> None:
    business, served = shop
    sku, _ = business.laned(7)
    other = business.laned(8)[1]
    with business.app_state.db.writing() as s:
        number = s.scalars(select(Sku.id).where(Sku.code == sku)).one()
        lanes.open_lane(business.context(s), number, [lanes.LaneItem(other.id, lanes.Fraction(1))], use=1)
    app.goto(f"{served.address}/lanes?sku={number}")
    app.get_by_role("button", name="Make main").click()
    expect(app.get_by_text(re.compile("lane is now main lane")).first).to_be_visible()

    def main() -> Lane:
        return business.one(select(Lane).where(Lane.sku_id == number, Lane.priority == 0, Lane.closed_at.is_(None)))

    assert business.listing(sku).lane_id == main().id
    row = app.get_by_role("row").filter(has_text=re.compile("^Main")).filter(has_text=other.number)
    row.get_by_role("button", name="Shut", exact=True).click()
    expect(row.get_by_role("button", name="It is right")).to_be_visible()
    assert main().state == "shut" and business.listing(sku).lane_id != main().id, "the spare fills it"
    for what in ("shut", "main lane"):
        app.keyboard.press("z")
        expect(app.get_by_text(re.compile(f"Undone: .*lane is now {what}"))).to_be_visible()
    assert main().state == "new" and business.listing(sku).lane_id == main().id


def test_two_people_at_one_lane_and_a_number_of_the_past(app: Page, shop) -> None:
    """The second person is told, nothing is overwritten, and the page shows what the first one did."""
    business, served = shop
    sku, _ = business.laned(9)
    number = business.one(select(Sku.id).where(Sku.code == sku))
    app.goto(f"{served.address}/lanes?sku={number}")
    app.get_by_role("button", name="Shut", exact=True).wait_for()
    with business.app_state.db.writing() as s:
        lane = lanes.lanes_of(business.context(s, "Somebody else"), number)[0][0]
        lanes.change_lane(business.context(s, "Somebody else"), lane.id, lane.version, units=lanes.Fraction(2))
    app.get_by_role("button", name="Shut", exact=True).first.click()
    expect(app.get_by_text("somebody changed this lane")).to_be_visible()
    with business.app_state.db.reading() as s:
        assert lanes.lanes_of(business.context(s), number)[0][0].state != "shut"
    app.goto(f"{served.address}/lanes?sku=99999999")
    expect(app.get_by_text("there is no SKU 99999999")).to_be_visible()


def test_the_outbox_says_what_was_asked_in_words(app: Page, shop) -> None:
    business, served = shop
    row = business.all(select(Outbox).where(Outbox.kind == "listing", Outbox.state == "done").order_by(Outbox.id.desc()))[0]
    listing = business.one(select(Listing).where(Listing.id == row.body["listing"]))
    sku = business.one(select(Sku.code).where(Sku.id == listing.sku_id))
    app.goto(f"{served.address}/setup/outbox")
    app.keyboard.press("/")
    app.keyboard.type(sku)
    line = app.get_by_role("row").filter(has_text=sku).first
    expect(line).to_contain_text("taken")
    expect(line).to_contain_text(re.compile(r"£[0-9.]+, shows [0-9]+, (on|off) sale"))
