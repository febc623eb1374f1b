"""Orders and parcels in the real interface: an address mended, a plan sent and paid together, an agent's own page, help for a parcel."""

from __future__ import annotations

import re
from datetime import timedelta
from fractions import Fraction

from playwright.sync_api import Browser, Page, expect
from sqlalchemy import select

from amber_lane.core.ids import make_s10
from amber_lane.data.lanes import Lane
from amber_lane.data.orders import Order, OrderLine, PurchaseOrder
from amber_lane.data.setup import Origin, Service, Supplier
from amber_lane.data.source import Item
from amber_lane.data.transit import Message
from amber_lane.services.fulfilment import parcel_tracking
from amber_lane.services.mapping import lanes
from amber_lane.services.people import roles, users
from amber_lane.services.purchasing import purchase_orders

from .conftest import eventually


def state_of(business, number: str) -> str:
    return business.one(select(OrderLine.state).join(Order, Order.id == OrderLine.order_id).where(Order.number == number))


def bought(business, number: str) -> dict:
    return next((one for one in business.world.record()["purchases"] if f"-{number}-" in one["reference"]), {})


def test_an_address_is_mended_and_the_order_is_sent_and_paid_together(app: Page, shop) -> None:
    business, served = shop
    sku, _ = business.laned(1)
    wrong = {"name": "Wren ☾", "city": "Whitby", "address_1": "4 Lantern Row", "postcode": "yo213pr"}
    number = business.world.post("buy", sku=sku, quantity=1, country="GB", buyer=wrong)["number"]
    served.app_state.reader.orders(1)
    app.goto(f"{served.address}/orders?state=held")
    app.get_by_role("row", name=re.compile(number)).click()
    app.get_by_role("button", name="Mend the address").wait_for()
    app.keyboard.press("a")
    form = app.get_by_role("dialog")
    expect(form.get_by_text("given as “Wren ☾”")).to_be_visible()
    # What can be mended by itself stands there already; what was given stands beside it.
    expect(form.get_by_label("Name")).to_have_value("Wren")
    expect(form.get_by_label("Postcode")).to_have_value("YO21 3PR")
    form.get_by_role("button", name="Save this address").click()
    expect(app.get_by_text("Address mended")).to_be_visible()
    assert state_of(business, number) == "ready"
    app.goto(f"{served.address}/orders?state=ready")
    app.get_by_role("row", name=re.compile(number)).click()
    expect(app.get_by_text(re.compile("the most profit over all waiting orders together"))).to_be_visible()
    expect(app.get_by_label("What becomes of the money").get_by_text("Profit")).to_be_visible()
    app.get_by_role("button", name="Close").click()
    app.get_by_label("one payment per supplier").check()
    app.keyboard.press("g")
    expect(app.get_by_text(re.compile("sent to suppliers")).first).to_be_visible()
    eventually(lambda: any(f"-{number}-" in one["reference"] for one in business.world.record()["purchases"]))
    app.get_by_role("button", name="Paid together").click()
    expect(app.get_by_role("row", name=re.compile("Northlight Trade"))).to_be_visible()
    app.get_by_role("button", name="It is paid").click()
    expect(app.get_by_text("paid", exact=False).filter(has_text=re.compile("^paid ")).first).to_be_visible()


def test_a_suppliers_mail_is_put_to_the_person_and_its_sheet_is_taken(app: Page, shop) -> None:
    business, served = shop
    address = f"pop://127.0.0.1:{business.world.mail_port + 1}"
    app.goto(f"{served.address}/setup/partners")
    app.get_by_role("button", name="Connect a mailbox").click()
    app.get_by_label("Address").fill(address)
    app.get_by_label(re.compile("^Its key")).fill("duskdial:practice-letters")
    app.get_by_role("button", name="Check and connect").click()
    expect(app.get_by_text("link works").nth(3)).to_be_visible()
    app.goto(f"{served.address}/setup/ordering")
    app.get_by_role("row", name=re.compile("Northlight Trade")).get_by_role("button", name="Change").click()
    app.get_by_label("Its mail address").fill("office@northlight.example")
    app.get_by_role("button", name="Save").click()
    business.world.post(
        "mail", sender="Office <Office@Northlight.example>", subject="Closed on Friday", text="We send again on Monday.", files={}
    )
    business.on(5)
    served.app_state.worker.letters.read(1)
    app.goto(f"{served.address}/today")
    row = app.get_by_role("row", name=re.compile("Closed on Friday"))
    expect(row).to_be_visible()
    row.get_by_role("button", name="I have read it").click()
    expect(row).to_have_count(0)
    app.goto(f"{served.address}/setup/ordering")
    app.get_by_role("button", name="Closed on Friday").click()
    expect(app.get_by_text("We send again on Monday.")).to_be_visible()


def test_an_agent_takes_its_orders_refuses_one_and_gives_a_number_back(browser: Browser, app: Page, shop, browser_context_args) -> None:
    business, served = shop

    def join(d) -> None:
        s = d.session
        s.add(Supplier(id=7, code="INES", name="Ines", kind="sheet", country="GB", currency="GBP"))
        s.flush()
        s.add(Origin(id=70, supplier_id=7, code="here", name="Here", country="GB", holidays=[]))
        s.flush()
        s.add(Service(origin_id=70, code="post", name="post", country="GB", first=10, following=0, days_low=1, days_high=1))
        s.add(Item(id=9001, supplier_id=7, origin_id=70, number="IN-1", title="Hand lantern", currency="GBP", cost=10, stock=9))
        s.flush()
        sku = s.scalars(select(Lane.sku_id).where(Lane.sku_code == business.laned(3)[0])).first()
        lanes.open_lane(d, sku, [lanes.LaneItem(9001, Fraction(1))], use=1)
        users.make_person(d, "Ines", "ines@agent.example", "long-enough-word", "agent", roles.scope_of(d, "agent", [7], [], []))

    with business.app_state.db.writing() as s:
        join(business.context(s))
    numbers = [business.world.post("buy", sku=business.laned(3)[0], quantity=1, country="GB")["number"] for _ in range(2)]
    served.app_state.reader.orders(1)
    with business.app_state.db.writing() as s:
        ids = list(s.scalars(select(Order.id).where(Order.number.in_(numbers))))
        purchase_orders.send(business.context(s), ids)
    app = browser.new_context(**browser_context_args)
    page = app.new_page()
    page.set_default_timeout(12_000)
    page.goto(served.address)
    page.get_by_label("Mail address").fill("ines@agent.example")
    page.get_by_label("Password").fill("long-enough-word")
    page.get_by_role("button", name="Sign in").click()
    expect(page.get_by_role("heading", name="2 orders to send")).to_be_visible()
    assert page.request.get(f"{served.address}/api/v1/orders").status == 403, "nothing else is theirs to see"
    first, second = page.get_by_role("article").nth(0), page.get_by_role("article").nth(1)
    second.get_by_role("button", name="Cannot send").click()
    page.get_by_label("Why").fill("out of stock here")
    page.get_by_role("button", name="Tell them").click()
    expect(page.get_by_role("heading", name="1 order to send")).to_be_visible()
    tracking = make_s10("SW", 4_711_001, "GB")
    page.get_by_label("Carrier of the numbers typed here").fill("Swiftwing Post")
    first.get_by_label("Tracking number").fill(tracking[:-3] + "9GB" if tracking[-3] != "9" else tracking[:-3] + "8GB")
    first.get_by_role("button", name="Sent").click()
    expect(page.get_by_text(re.compile("wrong check digit")).first).to_be_visible()
    first.get_by_label("Tracking number").fill(tracking)
    first.get_by_role("button", name="Sent").click()
    expect(page.get_by_role("heading", name="Nothing to send")).to_be_visible()
    app.close()
    eventually(lambda: any(one["tracking_number"] == tracking for one in business.world.record()["fulfilments"]))
    assert business.all(select(OrderLine.state).join(Order).where(Order.number == numbers[0])) == ["on_the_road"]


def test_a_late_parcel_is_helped_by_one_key_and_its_mail_reaches_the_buyer(app: Page, shop) -> None:
    business, served = shop
    number = business.buy(sku=business.laned(2)[0], quantity=1, country="GB")
    tracking = make_s10("SW", 4_711_002, "GB")
    with business.app_state.db.writing() as s:
        d = business.context(s)
        order = s.scalars(select(Order).where(Order.number == number)).one()
        purchase_orders.send(d, [order.id])
    eventually(lambda: bool(bought(business, number)))
    with business.app_state.db.writing() as s:
        d = business.context(s)
        made = s.scalars(select(PurchaseOrder).where(PurchaseOrder.order_id == order.id)).one()
        parcel_tracking.enter_tracking(d, made.reference, tracking, "Swiftwing Post")
        s.get(Order, order.id).promised_by = d.now - timedelta(days=2)
    app.goto(f"{served.address}/transit?show=trouble")
    app.get_by_role("row", name=re.compile(tracking)).click()
    expect(app.get_by_label("Message")).to_have_value(re.compile(tracking))
    app.get_by_label("Message").fill("We are sorry, it is late.")
    app.get_by_role("heading", name=tracking).click()
    app.keyboard.press("a")
    expect(app.get_by_text(re.compile("takes longer", re.IGNORECASE)).first).to_be_visible()
    (mail,) = business.all(select(Message).where(Message.kind == "late"))
    assert mail.body == "We are sorry, it is late."
    eventually(lambda: any("late" in key and tracking in key for key in business.world.record()["mails"]))
