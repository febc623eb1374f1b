"""A supplier who works by files: a server connected, what goes there and comes from there said, and an order bought and answered by it."""

from __future__ import annotations

import re

from playwright.sync_api import Page, expect
from sqlalchemy import select

from amber_lane.data.files import FileCame, FileRule
from amber_lane.data.lanes import Lane
from amber_lane.data.orders import Order, PurchaseOrder
from amber_lane.data.setup import Origin, Service, Supplier
from amber_lane.data.source import Item
from amber_lane.services.mapping import lanes
from amber_lane.services.purchasing import purchase_orders

from ..business import Business
from ..file_servers import Wharf
from .conftest import eventually, flaws


def office(business: Business) -> str:
    """A supplier by hand whose lane of one SKU is the best. Returns the SKU."""
    code = business.laned(0)[0]
    with business.app_state.db.writing() as s:
        context = business.context(s)
        s.add(Supplier(id=7, code="OFF", name="Meridian by files", kind="sheet", country="PT", currency="GBP", watching=False))
        s.flush()
        s.add(Origin(id=70, supplier_id=7, code="porto", name="Porto", country="PT", holidays=[]))
        s.flush()
        s.add(Service(origin_id=70, code="air", name="air", country="GB", first=10, following=0, days_low=1, days_high=1))
        s.add(Item(id=9000, supplier_id=7, origin_id=70, number="MB-0", title="Lantern", currency="GBP", cost=10, stock=90))
        s.flush()
        sku = s.scalars(select(Lane.sku_id).where(Lane.sku_code == code)).first()
        assert sku is not None
        lanes.open_lane(context, sku, [lanes.LaneItem(9000, lanes.Fraction(1))], use=1)
    return code


def say(page: Page, sheet: str, pattern: str) -> None:
    """Begin a rule of the supplier by files."""
    page.get_by_role("button", name="New rule").click()
    form = page.get_by_role("dialog")
    form.get_by_label("Whose").select_option(label="Meridian by files")
    form.get_by_label("Which sheet").select_option(label=sheet)
    form.get_by_label(re.compile("is called, with its folder")).fill(pattern)


def test_a_person_lets_a_suppliers_sheets_travel_by_themselves(app: Page, shop) -> None:
    business, served = shop
    page, wharf = app, Wharf("webdav", business.world)
    code = office(business)
    page.goto(f"{served.address}/setup/files")
    expect(page.get_by_text("No server of files is connected")).to_be_visible()
    page.get_by_role("button", name="Connect a server").click()
    form = page.get_by_role("dialog")
    form.get_by_label("What kind of server").select_option("webdav")
    form.get_by_label("Address").fill(wharf.address)
    form.get_by_label(re.compile("^Its key")).fill("duskdial:wrong")
    form.get_by_role("button", name="Check and connect").click()
    expect(form.get_by_role("alert")).to_contain_text("does not accept the key")
    form.get_by_label(re.compile("^Its key")).fill(wharf.key)
    form.get_by_role("button", name="Check and connect").click()
    expect(page.get_by_text("Nothing travels by itself yet")).to_be_visible()

    say(page, "purchase orders, goes out", "meridian/orders/today.csv")
    form = page.get_by_role("dialog")
    form.get_by_role("button", name="Save it").click()
    expect(form.get_by_role("alert")).to_contain_text("put {number} into the name")
    form.get_by_label(re.compile("is called, with its folder")).fill("meridian/orders/{year}-{number}.csv")
    form.get_by_label(re.compile("every so many minutes")).fill("1")
    assert flaws(page) == []
    form.get_by_role("button", name="Save it").click()
    expect(form).to_be_hidden()

    wharf.put("meridian/stock-20260311.csv", "item,stock\nMB-0,3\n")
    wharf.put("meridian/stock-20260312.csv", "item,stock\nMB-0,41\nMB-9,1\n")
    say(page, "stock and cost, comes in", "meridian/stock-{year}{month}{day}.csv")
    form = page.get_by_role("dialog")
    form.get_by_role("button", name="Look there now").click()
    expect(form.get_by_role("status")).to_contain_text("2 files meant")
    expect(form.get_by_role("listitem").first).to_contain_text("meridian/stock-20260312.csv")
    form.get_by_label("is moved to").check()
    form.get_by_label("Folder for what was taken").fill("meridian/done")
    assert flaws(page) == []
    form.get_by_role("button", name="Save it").click()
    expect(form).to_be_hidden()
    say(page, "answers to purchase orders, comes in", "meridian/answers/*.csv")
    form = page.get_by_role("dialog")
    form.get_by_label(re.compile("each is taken")).check()
    form.get_by_role("button", name="Save it").click()
    expect(form).to_be_hidden()

    # What lies there is taken once it has stood still; a row that cannot be is told, and had back with why.
    def looked() -> bool:
        here = business.app_state.clock.now()
        return all(at is not None and at > here for at in business.all(select(FileRule.next_at).where(FileRule.is_out.is_(False))))

    for _ in range(3):
        business.on(1)
        eventually(looked, page=page)
    eventually(lambda: "taken" in business.all(select(FileCame.state)), page=page)
    expect(page.get_by_text("1 row not taken, with why")).to_be_visible()
    expect(page.get_by_role("row", name=re.compile("stock-20260311")).get_by_text("passed over")).to_be_visible()
    assert business.one(select(Item.stock).where(Item.number == "MB-0")) == 41
    eventually(lambda: wharf.names("meridian/done") == ["stock-20260312.csv"], page=page)
    page.goto(f"{served.address}/today")
    expect(page.get_by_text("stock-20260312.csv was not taken as a whole")).to_be_visible()
    page.goto(f"{served.address}/setup/files")
    page.get_by_role("button", name="Leave it so").click()
    expect(page.get_by_role("button", name="Leave it so")).to_have_count(0)
    assert flaws(page) == []

    # An order goes there once, and its answer comes back.
    number = business.buy(sku=code, quantity=1, country="GB")
    with business.app_state.db.writing() as s:
        purchase_orders.send(business.context(s), list(s.scalars(select(Order.id).where(Order.number == number))))
    business.on(2)
    eventually(lambda: len(wharf.names("meridian/orders")) == 1, page=page)
    bought = business.one(select(PurchaseOrder))

    def had() -> list[str]:
        return [one["supplier"] for one in business.world.record()["purchases"] if one["reference"] == bought.reference]

    # It lies there under another name until it is whole.
    eventually(lambda: bool(had()), page=page)
    assert had() == ["office"]
    expect(page.get_by_text("is there")).to_be_visible()
    business.world.post("facts", name="office_refuses", value=0)

    def answered() -> bool:
        business.on(10)
        return business.one(select(PurchaseOrder.state)) in ("accepted", "shipped")

    eventually(answered, within=40, page=page)
    page.get_by_role("button", name="Remove: Meridian by files, stock and cost").click()
    page.get_by_role("button", name="Remove it").click()
    expect(page.get_by_role("button", name="Remove: Meridian by files, stock and cost")).to_have_count(0)
