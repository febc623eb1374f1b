"""Books in the real interface: from a sale to its profit, the entries behind it, what the store took, and a closed month."""

from __future__ import annotations

import re
from datetime import timedelta
from pathlib import Path

from playwright.sync_api import Page, expect
from sqlalchemy import func, select

from amber_lane.data.books import ClosedMonth, JournalEntry
from amber_lane.data.orders import Order
from amber_lane.services.books import profit
from amber_lane.services.books.grouping import Period
from amber_lane.services.purchasing import purchase_orders


def amount(minor: int) -> str:
    return f"{'−' if minor < 0 else ''}£{abs(minor) / 100:,.2f}"


def sold(business, served, sku: str, quantity: int = 1) -> Order:
    """A sale in the own shop that is bought at once."""
    number = business.world.post("buy", store="shop", sku=sku, quantity=quantity, country="GB")["number"]
    served.app_state.reader.orders(1)
    with served.app_state.db.writing() as s:
        order = s.scalars(select(Order).where(Order.number == number)).one()
        purchase_orders.send(business.context(s), [order.id])
    return order


def test_from_a_sale_to_its_profit_and_what_the_store_really_took(app: Page, shop, tmp_path: Path) -> None:
    business, served = shop
    business.world.post("facts", name="shop_sending", value=295)
    sku, _ = business.laned()
    order = sold(business, served, sku)
    line = business.one(select(JournalEntry.home).where(JournalEntry.order_id == order.id, JournalEntry.kind == "shipping_paid"))
    assert line == 295, "what the buyer paid for sending comes with the order"

    def left() -> int:
        return business.one(select(func.sum(JournalEntry.home)).where(JournalEntry.order_id == order.id, JournalEntry.account == "profit"))

    app.goto(f"{served.address}/books?view=profit&period=week&by=order")
    row = app.get_by_role("row", name=re.compile(order.number))
    expect(row.get_by_role("button", name=re.compile("^Profit of"))).to_have_text(amount(left()))
    # The number opens to what it is the sum of.
    row.get_by_role("button", name=re.compile("^Profit of")).click()
    bench = app.get_by_label("The entries behind it")
    expect(bench.get_by_text(f"come to {amount(left())}")).to_be_visible()
    expect(bench.get_by_text("Sending, paid by the buyer")).to_be_visible()
    # The shop's sheet of what it paid out: it took a pound more than set.
    fee = (
        business.one(select(func.sum(JournalEntry.amount)).where(JournalEntry.order_id == order.id, JournalEntry.kind == "store_fee")) or 0
    )
    sheet = tmp_path / "paid.csv"
    day = f"{business.app_state.clock.now():%Y-%m-%d}"
    rows = [f"Dusk & Dial shop,S-1,{order.number},fee,{(100 - fee) / 100},GBP,{day}", f"Dusk & Dial shop,S-1,,payout,1.00,GBP,{day}"]
    sheet.write_text("store,settlement,order_no,kind,amount,currency,at\n" + "\n".join(rows) + "\n")
    was = left()
    app.goto(f"{served.address}/books?view=settled")
    app.get_by_role("button", name="Import settlements").click()
    app.get_by_label("The sheet").set_input_files(sheet)
    app.get_by_role("button", name=re.compile("^(Take|Import) ")).last.click()
    app.get_by_role("button", name="Done").click()
    assert left() == was - 100
    expect(app.get_by_role("cell", name="−£1.00 in 1 order")).to_be_visible()
    # What was paid out is not the sum of its rows: that waits for a person, here and on Today.
    expect(app.get_by_role("link", name=re.compile("Books, .* waiting"))).to_be_visible()
    app.get_by_role("button", name="Take as it is").click()
    expect(app.get_by_role("button", name="Take as it is")).to_have_count(0)
    # At the order itself stands the same, with its reason.
    app.goto(f"{served.address}/orders?state=all&row={order.id}")
    table = app.get_by_role("table").filter(has_text="By the journal")
    expect(table.get_by_role("row", name=re.compile("Store fee.*fee the store took"))).to_contain_text("−£1.00")
    expect(table.get_by_role("row", name=re.compile("^Profit"))).to_contain_text(amount(left()))


def test_a_fixed_cost_is_spread_and_a_closed_month_stays(app: Page, shop) -> None:
    business, served = shop
    app.goto(f"{served.address}/books?view=costs")
    app.get_by_role("button", name="Add a fixed cost").click()
    form = app.get_by_role("dialog")
    form.get_by_label("What it is for").fill("Label printer")
    form.get_by_label("Amount a month").fill("0")
    form.get_by_label("First month").fill("2026-02")
    form.get_by_role("button", name="Save").click()
    expect(form.get_by_role("alert")).to_contain_text("above nought")
    form.get_by_label("Amount a month").fill("28,00")
    form.get_by_role("button", name="Save").click()
    expect(app.get_by_role("row", name=re.compile("Label printer"))).to_contain_text("£28.00")
    february = select(func.sum(JournalEntry.home)).where(
        JournalEntry.kind == "overhead", JournalEntry.day < business.app_state.clock.now().date().replace(day=1)
    )
    assert business.one(february) == -2800
    app.get_by_role("button", name="Close February 2026").click()
    expect(app.get_by_text("February 2026 closed").first).to_be_visible()
    assert business.one(select(ClosedMonth.month)).isoformat() == "2026-02-01"
    # Dearer from then on: the closed month keeps what it had.
    app.get_by_role("row", name=re.compile("Label printer")).get_by_role("button", name="Change").click()
    form.get_by_label("Amount a month").fill("56.00")
    form.get_by_role("button", name="Save").click()
    expect(app.get_by_role("row", name=re.compile("Label printer"))).to_contain_text("£56.00")
    assert business.one(february) == -2800
    app.keyboard.press("z")
    expect(app.get_by_role("row", name=re.compile("Label printer"))).to_contain_text("£28.00")


def test_why_it_changed_is_told_by_keyboard_and_adds_up(app: Page, shop) -> None:
    business, served = shop
    sku, _ = business.laned(1)
    sold(business, served, sku, 2)
    app.goto(f"{served.address}/books?period=week")
    expect(app.get_by_role("heading", name=re.compile("^Profit (rose|fell)"))).to_be_visible()
    bars = app.get_by_label("What the change is made of")
    shown = [one.split(": ")[1] for one in bars.get_by_role("button").evaluate_all("all => all.map((one) => one.ariaLabel)")]
    pounds = [round(float(one.replace("£", "").replace("−", "-").replace("+", "").replace(",", "")) * 100) for one in shown]
    with served.app_state.db.reading() as s:
        context = business.context(s)
        today = context.now.date()
        week = Period(today - timedelta(days=today.weekday()), today)
        change = profit.table(context, profit.View("sku", week, week.before())).total
    assert sum(pounds) == change.now["profit"] - change.before["profit"]
    app.keyboard.press("ArrowRight")
    expect(app.get_by_label("What is behind it").get_by_role("heading").first).to_be_visible()
    app.get_by_role("button", name="Store", exact=True).click()
    expect(app.get_by_role("row", name=re.compile("Dusk & Dial shop"))).to_be_visible()
    app.get_by_role("button", name="Dusk & Dial shop", exact=True).click()
    expect(app.get_by_role("button", name=re.compile("narrow down to Dusk & Dial shop"))).to_be_visible()
    assert "only=store" in app.url
