"""Where parts meet, in the real interface: slow and failing calls, ranges, words typed fast, partners changed, orders settled by cause."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from typing import Any

import pytest
from playwright.sync_api import Page, Route, expect
from sqlalchemy import select

from amber_lane.data.orders import Order, OrderLine
from amber_lane.data.prices import PriceRule
from amber_lane.data.setup import Carrier, Store, Supplier
from amber_lane.data.shelf import Listing
from amber_lane.services.alerts import today
from amber_lane.services.base.context import Context
from amber_lane.services.imports import sheet_kinds
from amber_lane.services.pricing.drafts import PolicyChange

from ..business import Business
from .conftest import eventually

SLOW_VIEWS = {
    "/today": "needs? you|All is settled",
    "/shelf": "On sale",
    "/lanes": "lane",
    "/lanes?view=settled": "lane",
    "/lanes?view=faults": "Lane|lane",
    "/price": "How prices are made",
    "/price?view=listings": "Red torch|DD-",
    "/price?view=plans": "plan",
    "/watch": "Northlight",
    "/watch?state=doubted": "doubt",
    "/watch?view=groups": "cause|was done",
    "/orders": "orders?",
    "/transit": "Parcels",
    "/transit?show=numbers": "number",
    "/setup/partners": "Northlight Trade",
    "/setup/carriers": "carriers",
    "/setup/limits": "price",
    "/setup/people": "Tester",
}
# Sentences that are true only of an answer, never of a wait for one.
ANSWERS = re.compile(
    r"Nothing needs you|All is settled|Nothing is |Nothing was |Nothing waits|No order|No parcel|No listing|No lane|None (is|yet|:)|"
    r"Every (SKU|number|lane)|\b0 (orders|listings|parcels)|is connected yet|Nothing depends",
)
KEPT_OPEN = ("/session", "/pulse", "/events")


# Presses every "Try again" of the view; how many there were.
AGAIN = """() => {
  const found = [...document.querySelectorAll('main button')].filter((one) => one.innerText === 'Try again')
  found.forEach((one) => one.click())
  return found.length
}"""


def soon(page: Page, check: Callable[[], bool]) -> None:
    """While calls are met one by one, waiting must not keep them from it."""
    eventually(check, 15.0, page)


class Wire:
    """The calls of a page: held back, failed, or let through."""

    def __init__(self, page: Page) -> None:
        self.mode, self.held = "pass", list[Route]()
        page.route("**/api/v1/**", self.meet)

    def meet(self, route: Route) -> None:
        if self.mode == "pass" or any(route.request.url.split("?")[0].endswith(end) for end in KEPT_OPEN):
            return route.continue_()
        if self.mode == "no changes" and route.request.method == "GET":
            return route.continue_()
        if self.mode == "hold":
            return self.held.append(route)
        return route.abort()

    def go(self, mode: str) -> None:
        """Change how calls are met, also those that wait."""
        self.mode, held = mode, self.held
        self.held = []
        for route in held:
            self.meet(route)


def test_no_view_says_a_false_word_while_it_loads_or_fails(app: Page, shop) -> None:
    wire = Wire(app)
    main = app.get_by_role("main")
    problems: list[str] = []
    for view, shows in SLOW_VIEWS.items():
        wire.go("hold")
        app.goto(f"{shop[1].address}{view}")
        main.locator("[data-sight=loading]").first.wait_for(state="attached")
        if found := ANSWERS.search(main.inner_text()):
            problems.append(f"{view}: says {found[0]!r} before it knows")
        wire.go("fail")
        again = main.get_by_role("button", name="Try again")
        again.first.wait_for()
        if found := ANSWERS.search(main.inner_text()):
            problems.append(f"{view}: says {found[0]!r} although it failed")
        wire.go("pass")
        soon(app, lambda: not app.evaluate(AGAIN))
        main.locator("[data-sight=loading]").first.wait_for(state="detached")
        expect(main).to_contain_text(re.compile(shows))
        expect(main.locator("[data-sight=failed], [data-sight=stale]")).to_have_count(0)
    assert not problems, "\n".join(problems)


def test_a_range_takes_every_row_of_it_whether_it_was_shown_or_not(app: Page, shop) -> None:
    business, served = shop
    rows = [
        {"store": business.one(select(Store.name)), "sku": f"BULK-{n:03}", "title": f"Tin no. {n}", "price": "9.95", "quantity": "0"}
        for n in range(260)
    ]
    with business.app_state.db.writing() as s:
        context_of, kind = business.context(s), sheet_kinds.kind_of("listings")
        checked = kind.check(context_of, rows, lambda n: None)
        assert not checked.bad
        kind.take(context_of, checked)
    asked: list[Any] = []
    app.on("request", lambda one: asked.append(one.post_data_json) if one.method == "POST" and "/prices/listings/" in one.url else None)
    app.goto(f"{served.address}/price?view=listings&words=BULK&sort=sku")
    app.get_by_label("Choose row 1", exact=True).wait_for()
    app.get_by_role("row", name=re.compile("BULK-000")).get_by_role("cell").last.click()
    box = app.get_by_label(re.compile(r"^\w+, 260 rows"))
    box.evaluate("one => one.scrollTop = one.scrollHeight")
    app.get_by_role("row", name=re.compile("BULK-259")).get_by_role("cell").last.click(modifiers=["Shift"])
    expect(app.get_by_text("260 of 260 chosen")).to_be_visible()
    app.get_by_role("button", name="Choose none").click()
    box.evaluate("one => one.scrollTop = 0")
    app.get_by_label("Choose row 2", exact=True).check()
    app.get_by_role("button", name="Choose all 260 that fit").click()
    expect(app.get_by_text("260 of 260 chosen")).to_be_visible()
    app.get_by_role("button", name="Take off sale").first.click()
    eventually(lambda: len(business.all(select(Listing.id).where(Listing.title.like("Tin no.%"), Listing.state == "paused"))) == 260)


def test_two_fields_changed_at_once_a_lost_line_and_another_person_lose_nothing(app: Page, shop) -> None:
    business, served = shop
    sku, _ = business.laned(3)
    number = business.listing(sku).id
    app.goto(f"{served.address}/shelf?view=live&words={sku}")
    app.get_by_role("row", name=re.compile(sku)).click()
    title, told = app.get_by_label(re.compile("^Title")), app.get_by_label(re.compile("^Description"))
    title.wait_for()
    wire = Wire(app)
    wire.go("hold")
    title.fill("A title typed first")
    told.fill("A description typed while the title is on its way")
    told.blur()
    wire.go("pass")
    soon(app, lambda: said(business, sku) == "A description typed while the title is on its way")
    assert business.listing(sku).title == "A title typed first"
    # The line is lost: what was typed stays, says so, and is kept when it is back.
    wire.go("fail")
    told.fill("Typed into the void")
    told.blur()
    expect(app.get_by_text("What you typed stays here")).to_be_visible()
    wire.go("pass")
    soon(app, lambda: said(business, sku) == "Typed into the void")
    # The program moved another field meanwhile: ours follows it. A person who changed the same one is not written over unasked.
    change(business, number, {"tags": "night, sky"})
    told.fill("After the tags")
    told.blur()
    soon(app, lambda: said(business, sku) == "After the tags")
    wire.go("hold")
    told.fill("Mine")
    told.blur()
    change(business, number, {"description": "Theirs"})
    wire.go("pass")
    expect(app.get_by_text("Somebody else changed the description meanwhile.")).to_be_visible()
    assert said(business, sku) == "Theirs"
    expect(told).to_have_value("Mine")
    app.get_by_role("button", name="Keep mine").click()
    soon(app, lambda: said(business, sku) == "Mine")
    # Nor where theirs was on the page by the time that ours could go.
    wire.go("no changes")
    told.fill("Mine again")
    told.blur()
    expect(app.get_by_text("What you typed stays here")).to_be_visible()
    change(business, number, {"description": "Theirs again", "tags": "dusk"})
    app.get_by_role("button", name="On sale").click()
    expect(app.get_by_label(re.compile("^Tags"))).to_have_value("dusk")
    told.fill("Mine, and longer")
    told.blur()
    wire.go("pass")
    expect(app.get_by_text("Somebody else changed the description meanwhile.")).to_be_visible()
    assert said(business, sku) == "Theirs again"


def said(business: Business, sku: str) -> str:
    """The description without its marks."""
    return re.sub("<[^>]*>", "", business.listing(sku).description)


def change(business: Business, number: int, words: dict[str, str]) -> None:
    from amber_lane.services.listings import publishing

    with business.app_state.db.writing() as s:
        publishing.edit(business.context(s, "Somebody"), number, None, words)


def test_a_partner_is_renamed_paused_disconnected_and_is_back_by_one_key(app: Page, shop) -> None:
    business, served = shop
    app.goto(f"{served.address}/setup/partners")
    app.get_by_role("button", name="Change Northlight Trade").click()
    form = app.get_by_role("dialog")
    form.get_by_label("Name").fill("North Light & Co")
    form.get_by_role("button", name="Rename").click()
    expect(app.get_by_text("North Light & Co").first).to_be_visible()
    app.get_by_role("button", name="Change North Light & Co").click()
    form.get_by_role("button", name="Pause", exact=True).click()
    expect(app.get_by_text("paused", exact=True)).to_be_visible()
    app.get_by_role("button", name="Change North Light & Co").click()
    form.get_by_role("button", name="Go on").click()
    expect(app.get_by_text("paused", exact=True)).to_have_count(0)
    app.get_by_role("button", name="Change North Light & Co").click()
    expect(form.get_by_text(re.compile(r"\d+ listings follow it no more"))).to_be_visible()
    form.get_by_role("button", name="Disconnect", exact=True).click()
    form.get_by_role("button", name="Yes, disconnect North Light & Co").click()
    expect(app.get_by_text("disconnected", exact=True)).to_be_visible(timeout=20_000)
    assert business.one(select(Supplier)).ended_at is not None
    expect(app.get_by_text(re.compile("Your last: North Light & Co is disconnected"))).to_be_visible()
    # While a dialog is open keys are its own.
    expect(form).to_have_count(0)
    app.keyboard.press("z")
    expect(app.get_by_text("disconnected", exact=True)).to_have_count(0, timeout=20_000)
    assert business.one(select(Supplier)).ended_at is None
    app.goto(f"{served.address}/setup/carriers")
    carrier = business.one(select(Carrier.name))
    box = app.get_by_label(f"{carrier} in {business.one(select(Store.name))}")
    box.wait_for()
    expect(box).to_have_value(carrier)


@pytest.fixture
def looked_over(shop) -> Iterator[list[str]]:
    """Three orders that wait to be looked over, one of them of two lines and many pieces."""
    business, served = shop

    def policy(limit: int | None) -> None:
        with business.app_state.db.writing() as s:
            PolicyChange("house", "", {"look_over": limit}).keep(business.context(s))

    first, _ = business.laned(1)
    policy(1)
    numbers = [
        business.world.post("buy", sku=first, quantity=n, country="GB", buyer={"name": f"Buyer {'ABC'[n - 1]}"})["number"]
        for n in (1, 2, 3)
    ]
    served.app_state.reader.orders(1)
    # What an earlier test took back may still be going on, in portions.
    eventually(lambda: len({one.order_id for one in held(business)}) >= len(numbers), within=60)
    yield numbers
    policy(10**8)


def test_held_orders_are_one_row_of_their_cause_and_are_settled_some_and_all(app: Page, shop, looked_over) -> None:
    business, served = shop
    app.goto(f"{served.address}/today")
    row = app.get_by_role("row", name=re.compile(r"\d orders wait to be looked over"))
    row.get_by_role("button", name="open").click()
    inside = app.get_by_label(re.compile("What this is made of"))
    inside.get_by_role("checkbox").first.wait_for()
    n = inside.get_by_role("checkbox").count()
    assert n == len(held(business))
    inside.get_by_role("checkbox").first.check()
    app.get_by_role("button", name=re.compile(r"^Let go|^Let 1 go|^Let")).last.click()
    eventually(lambda: len(held(business)) == n - 1)
    # Some of one order's pieces are cancelled, and the rest goes with the others.
    most = max(held(business), key=lambda one: one.quantity)
    number = business.one(select(Order.number).where(Order.id == most.order_id))
    app.goto(f"{served.address}/orders?state=held&words={number}")
    app.get_by_role("row", name=re.compile(number)).click()
    app.get_by_label("Choose line 1").check()
    app.get_by_label("Units of line 1").fill("1")
    app.get_by_role("button", name="Cancel 1 piece and refund").click()
    eventually(lambda: business.one(select(OrderLine.quantity).where(OrderLine.id == most.id)) == most.quantity - 1)
    app.goto(f"{served.address}/orders?state=held")
    for row in range(1, n):
        app.get_by_label(f"Choose row {row}", exact=True).check()
    app.get_by_role("button", name=re.compile(r"^Let (it|these \d+) go")).click()
    eventually(lambda: not held(business))
    with business.app_state.db.reading() as s:
        assert not [one for one in today.open_alerts(Context(s, business.app_state.clock, "T")) if "looked over" in one.message]
    eventually(lambda: any(number in str(one) for one in business.world.record()["refunds"].values()))


def held(business: Business) -> list[OrderLine]:
    return business.all(select(OrderLine).where(OrderLine.state == "held"))


def test_a_band_that_makes_a_dearer_item_cheaper_is_drawn_and_carried_over(app: Page, shop) -> None:
    business, served = shop
    app.goto(f"{served.address}/price")
    app.get_by_role("button", name="Add a band").click()
    app.get_by_label("From a landed cost of").fill("5")
    app.get_by_label("How much").fill("3")
    app.get_by_label("Compare-at price").fill("20")
    app.get_by_role("button", name="Save as a draft").click()
    dips = app.get_by_label("Prices that fall as cost rises")
    expect(dips.get_by_role("img", name="Price by landed cost around £5.00")).to_be_visible()
    expect(app.get_by_text("where a dearer item is cheaper")).to_be_visible()
    told = dips.get_by_role("button", name=re.compile(r"^Carry £[\d.]+ over")).inner_text()
    least = int(re.sub(r"\D", "", told))
    dips.get_by_role("button", name=re.compile("^Carry")).click()
    expect(dips).to_have_count(0)
    expect(app.get_by_text(f"never advertised under £{least / 100:.2f}")).to_be_visible()
    app.get_by_role("button", name=re.compile("^Apply")).click()
    eventually(lambda: bool(business.all(select(PriceRule.id).where(PriceRule.band_from == 500))))
    band = business.one(select(PriceRule).where(PriceRule.band_from == 500))
    assert (band.least_price, band.compare_at) == (least, 200_000)
    eventually(
        lambda: all(
            one.wanted_price >= least for one in business.all(select(Listing).where(Listing.landed >= 500, Listing.state == "live"))
        )
    )


def test_an_order_placed_twice_stands_beside_its_twin_and_goes_in_one_parcel(app: Page, shop) -> None:
    business, served = shop
    sku, _ = business.laned(0)
    buyer = {"name": "Ottilie Marsh", "address_1": "12 Kiln Lane", "city": "Ely", "postcode": "CB7 4AA"}
    first, second = (business.world.post("buy", sku=sku, quantity=1, country="GB", buyer=buyer)["number"] for _ in range(2))
    served.app_state.reader.orders(1)
    app.goto(f"{served.address}/orders?state=held&words={second}")
    app.get_by_role("row", name=re.compile(f"^(Choose row 1 )?{second}")).click()
    both = app.get_by_label("Perhaps ordered twice")
    expect(both.get_by_text(f"Order {first}")).to_be_visible()
    expect(both.get_by_text(re.compile(r"One parcel for both would save £\d"))).to_be_visible()
    app.get_by_role("button", name=f"Send both in one parcel with {first}").click()
    eventually(lambda: {state_of(business, number) for number in (first, second)} == {"ready"})
    app.get_by_role("button", name=re.compile(r"^Send \d+")).click()
    eventually(
        lambda: (
            sum(any(f"-{number}-" in one["reference"] for number in (first, second)) for one in business.world.record()["purchases"]) == 2
        )
    )


def state_of(business: Business, number: str) -> str:
    return business.one(select(OrderLine.state).join(Order, Order.id == OrderLine.order_id).where(Order.number == number))
