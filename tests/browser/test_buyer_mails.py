"""A helper who settles cases: from a buyer's mail with its picture to money in the journal, and nothing beyond."""

from __future__ import annotations

import re

from playwright.sync_api import Page, expect
from sqlalchemy import func, select

from amber_lane.data.books import JournalEntry
from amber_lane.data.claims import Claim
from amber_lane.data.lanes import Lane
from amber_lane.data.orders import Order
from amber_lane.data.shelf import Listing, Sku
from amber_lane.services.partners import connections
from amber_lane.services.people import users
from amber_lane.services.purchasing import purchase_orders

from ..business import Business
from .conftest import Served, eventually, flaws


def test_a_helper_takes_a_case_from_a_buyers_mail_to_money_in_the_journal(page: Page, shop: tuple[Business, Served]) -> None:
    business, served = shop
    with served.app_state.db.writing() as s:
        context = business.context(s)
        users.make_person(context, "Bram Quill", "bram@helpers.example", "eleven loud otters", "claims")
        connectors, address = served.app_state.connectors, f"pop://127.0.0.1:{business.world.mail_port + 1}"
        given = connections.Join("inbox", "pop", "Answers", address, "duskdial:practice-letters")
        connections.join_partner(context, connectors, given, connections.ask_account(connectors, given))
    # Of what is within the refunds that a helper may give by themselves.
    live = select(Sku.code).join(Listing, Listing.sku_id == Sku.id).join(Lane, Lane.sku_id == Sku.id)
    code = business.all(live.where(Listing.state == "live", Lane.state != "shut").order_by(Listing.wanted_price))[0]
    number = business.buy(sku=code, quantity=1, country="GB")
    order = business.one(select(Order).where(Order.number == number))
    with served.app_state.db.writing() as s:
        purchase_orders.send(business.context(s), [order.id])
    business.settle()
    for _ in range(4):
        business.on(8 * 60)
        served.app_state.reader.answers(1)
    business.world.post("complain", number=number, reason="damaged")
    # Who else writes opens nothing.
    business.world.post("complain", number=number, reason="lost", sender="stranger@else.example")
    served.app_state.worker.letters.read(1)

    page.set_default_timeout(12_000)
    page.goto(served.address)
    page.get_by_label("Mail address").fill("bram@helpers.example")
    page.get_by_label("Password").fill("eleven loud otters")
    page.get_by_role("button", name="Sign in").click()
    row = page.get_by_role("row", name=re.compile(f"writes about order {number}: Broken"))
    row.click()
    page.keyboard.press("a")
    mail = page.get_by_role("article", name="The mail")
    expect(mail).to_contain_text("there is a crack right across it")
    expect(mail.get_by_role("img", name="From the mail")).to_be_visible()
    wide = "async (all) => { await Promise.all(all.map((one) => one.decode())); return all.map((one) => one.naturalWidth) }"
    assert min(page.locator("article img").evaluate_all(wide)) > 100
    assert flaws(page) == []
    page.set_viewport_size({"width": 1024, "height": 760})
    assert flaws(page) == []
    page.set_viewport_size({"width": 1280, "height": 800})
    page.get_by_role("button", name=re.compile("Where is my parcel")).click()
    expect(mail).to_contain_text("not the address that the order was placed with")
    page.get_by_role("button", name=re.compile("Broken on arrival")).click()
    expect(mail).to_contain_text("there is a crack right across it")
    page.keyboard.press("o")
    form = page.get_by_role("dialog")
    expect(form.get_by_label("What is wrong")).to_have_value("damaged")
    form.get_by_role("button", name="Open the case").click()
    bench = page.get_by_role("complementary", name="The case")
    expect(bench.get_by_role("img", name="Evidence")).to_be_visible()
    expect(bench).to_contain_text("wrote “Broken on arrival")
    page.keyboard.press("a")
    expect(page.get_by_text("Northlight Trade is asked", exact=True)).to_be_visible()
    expect(bench.get_by_text("Asked", exact=True)).to_be_visible()
    bench.get_by_role("button", name="Refund the buyer").click()
    expect(bench.get_by_text("Refund the buyer: done")).to_be_visible()
    # Sent by the worker of the page.
    eventually(lambda: any(number in str(one) for one in business.world.record().get("refunds", [])))
    assert len([one for one in business.world.record()["refunds"] if number in str(one)]) == 1
    claim = business.one(select(Claim).where(Claim.order_id == order.id))
    for _ in range(5):
        business.on(24 * 60)
        served.app_state.reader.answers(1)
    claim = business.one(select(Claim).where(Claim.id == claim.id))
    assert claim.state == "settled" and claim.came_back == claim.paid and claim.letter_id
    with served.app_state.db.reading() as s:
        booked = select(func.sum(JournalEntry.amount)).where(JournalEntry.kind == "claim", JournalEntry.order_id == order.id)
        assert s.scalar(booked) == claim.came_back
