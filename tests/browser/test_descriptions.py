"""A partner connected by describing it: from its paper, in the workbench, to a purchase that reached it."""

from __future__ import annotations

import re
from pathlib import Path

from playwright.sync_api import Locator, Page, Route, expect
from sqlalchemy import select

from amber_lane.data.descriptions import Description
from amber_lane.data.lanes import Lane
from amber_lane.data.orders import Order, PurchaseOrder
from amber_lane.data.outbox import Outbox
from amber_lane.data.setup import Link, Supplier
from amber_lane.data.shelf import Sku
from amber_lane.data.source import Item
from amber_lane.services.mapping import lanes
from amber_lane.services.partners import descriptions
from amber_lane.services.purchasing import purchase_orders

from .conftest import eventually, flaws

ORDER = """<f:Order xmlns:f="urn:fernmoor:trade:2" yours="{{ reference }}" yard="{{ origin }}" way="{{ service }}">
<f:To land="{{ address.country }}"><f:Name>{{ address.name }}</f:Name><f:Street>{{ address.address_1 }}</f:Street>
<f:Street2>{{ address.address_2 }}</f:Street2><f:Town>{{ address.city }}</f:Town><f:Code>{{ address.postcode }}</f:Code>
<f:Phone>{{ address.phone }}</f:Phone></f:To><f:Note>{{ note }}</f:Note>
{% for line in lines %}<f:Line pos="{{ line.line_no }}" no="{{ line.item }}" count="{{ line.quantity }}"/>{% endfor %}</f:Order>"""
STATES = "taken = received, confirmed = accepted, declined = refused, gone = shipped, stopped = withdrawn"
RECEIPT = """<f:Receipts xmlns:f="urn:fernmoor:trade:2"><f:Receipt no="FM-000012" yours="R-1" is="taken"><f:Bill cur="GBP">870</f:Bill>
<f:Because>why not</f:Because><f:Parcel by="Swiftwing Post">SW000012349GB</f:Parcel></f:Receipt></f:Receipts>"""


def step(page: Page, name: str) -> None:
    page.get_by_role("navigation", name="Steps of the description").get_by_role("button", name=name).first.click()


def begin(page: Page, name: str, path: str, cursor: bool = False) -> None:
    """Open an operation, and say its call."""
    step(page, name)
    page.get_by_role("button", name="Describe this").click()
    page.get_by_label(re.compile("^Path")).fill(path)
    if cursor:
        page.get_by_label("New: Parameter").fill("start")
        page.get_by_role("button", name="Add", exact=True).first.click()
        page.get_by_label("What start is").fill("{{ cursor }}")


def ask(page: Page, rows: str) -> None:
    """Ask the partner, and see that all its rows can be read."""
    page.get_by_role("button", name="Ask it now").click()
    try:
        expect(page.get_by_text(re.compile(rf"row 1 of {rows}"))).to_be_visible(timeout=20_000)
    except AssertionError as error:
        raise AssertionError(
            page.get_by_role("alert").all_inner_texts(), page.get_by_text(re.compile("row . of")).all_inner_texts()
        ) from error


def place(page: Page, about: str) -> Locator:
    return page.get_by_label(f"Where is: {about}", exact=True)


def receipts(page: Page) -> None:
    """Where in a receipt our fields are: proposed from the paper's example, put right by hand."""
    page.get_by_text("Fill the places from an example").click()
    page.get_by_label("An example of the answer").fill(RECEIPT)
    page.get_by_role("button", name="Propose places").click()
    expect(page.get_by_label(re.compile("^Its rows are at|^It is within"))).to_have_value("/f:Receipts/f:Receipt")
    for about, at in (("our reference", "@yours"), ("what became of it", "@is"), ("their number for it", "@no"), ("why", "f:Because")):
        place(page, about).fill(at)
    for about, at in (("what they bill for it", "f:Bill"), ("the parcel's tracking number", "f:Parcel")):
        place(page, about).fill(at)
    place(page, "the carrier, as they call it").fill("f:Parcel/@by")
    words = page.get_by_label("What its words mean: what became of it")
    words.fill(STATES)
    words.press("Tab")


def test_a_person_signs_in_at_the_partner_and_connects_it_with_what_that_gave(app: Page, shop) -> None:
    business, served = shop
    page, text = app, (Path(__file__).parents[1] / "connectors" / "descriptions" / "marram.yaml").read_text()
    with business.app_state.db.writing() as s:
        number = descriptions.start(business.context(s), "", "Marram", text).id
    page.goto(f"{served.address}/setup/descriptions?one={number}")
    page.get_by_label("Signed in by").select_option("oauth_code")
    page.get_by_label(re.compile("^The key.s parts")).fill("client:secret:token")
    page.get_by_label("A person agrees at").fill("/consent")
    page.get_by_label("Tokens are given out at").fill("/token")
    page.get_by_label(re.compile("^Address that it is tried at")).fill(f"{business.world.address}/marram")
    page.get_by_label(re.compile("^Key")).fill("dusk-dial:practice-marram-app")
    page.get_by_label(re.compile("^Address that it is tried at")).press("Enter")
    expect(page.get_by_role("status").filter(has_text="kept")).to_be_visible()
    assert flaws(page) == []
    page.get_by_role("button", name="Sign in at the partner").click()
    # Their page, on their side; what they send back is good for whoever asked, once.
    page.get_by_role("button", name="Let it in").click()
    expect(page.get_by_text("Marram: signed in at the partner")).to_be_visible()
    step(page, "Price and stock")
    ask(page, "30")
    began = page.request.get(f"{served.address}/setup/signed-in?code=x&state=y")
    assert began.ok
    page.goto(f"{served.address}/setup/signed-in?code=x&state=y")
    expect(page.get_by_role("alert")).to_contain_text("was not begun here")
    page.goto(f"{served.address}/setup/signed-in?error=access_denied")
    expect(page.get_by_role("alert")).to_contain_text("not agreed to there")

    page.goto(f"{served.address}/setup/descriptions?one={number}")
    step(page, "Use it")
    page.get_by_role("button", name="Connect a supplier").click()
    form = page.get_by_role("dialog")
    form.get_by_label("What kind of supplier").select_option("described")
    form.get_by_label("Its description").select_option(str(number))
    form.get_by_label("Address").fill(f"{business.world.address}/marram")
    form.get_by_role("button", name="Check and connect").click()
    expect(page.get_by_text("Marram Supply is connected").first).to_be_visible()
    # The token is the partner's from now on, and the one after it too; the description asks for a sign-in of its own.
    supplier = business.one(select(Supplier).where(Supplier.name == "Marram Supply"))
    eventually(lambda: len(business.all(select(Item).where(Item.supplier_id == supplier.id))) > 30)
    assert business.one(select(Description.sealed_key).where(Description.id == number)) == ""
    served.app_state.connectors.forget()
    assert served.app_state.reader.sweep(supplier.id, "test") is not None
    assert business.one(select(Link.state).where(Link.owner == "supplier", Link.owner_id == supplier.id)) == "good"


def test_a_person_connects_the_xml_dialect_from_its_paper_and_buys_through_it(app: Page, shop) -> None:
    business, served = shop
    page = app
    page.goto(f"{served.address}/setup/descriptions")
    expect(page.get_by_role("heading", name="Described partners")).to_be_visible()
    page.get_by_role("button", name="Describe one").click()
    page.get_by_label("What it is called").fill("Fernmoor")
    page.get_by_role("button", name="Begin it").click()
    page.get_by_label(re.compile("^Address that it is tried at")).fill(f"{business.world.address}/fern")
    page.get_by_label(re.compile("^Key")).fill("practice-fernmoor")
    page.get_by_label(re.compile("^Address that it is tried at")).press("Enter")
    expect(page.get_by_label(re.compile(r"^Key \(one is kept"))).to_have_value("")
    page.get_by_label("Signed in by").select_option("header")
    page.get_by_label("Header that holds it").fill("Fern-Token")
    page.get_by_label("Amounts are told in").select_option("minor")
    page.get_by_label("Moments are told as").select_option("seconds")
    page.get_by_label("Written in").select_option("xml")
    page.get_by_label("Its code is at").fill("/f:Fault/@code")
    page.get_by_label("Its words are at").fill("/f:Fault/f:Text")
    assert flaws(page) == []

    begin(page, "Price and stock", "/v2/stock", cursor=True)
    ask(page, "25")
    expect(place(page, "what one costs us")).to_have_value("f:Net")
    expect(page.get_by_label(re.compile("^Where the next cursor"))).to_have_value("/f:Stock/f:Next")
    expect(page.get_by_text("all of them can be read")).to_be_visible()
    # A place that is wrong is seen at once, with how many rows it spoils.
    place(page, "units in stock").fill("f:Left")
    ask(page, "25")
    expect(page.get_by_text("cannot be read: stock in 25 rows")).to_be_visible()
    place(page, "units in stock").fill("f:OnHand")
    assert flaws(page) == []

    begin(page, "Account", "/v2/who")
    ask(page, "1")
    place(page, "who answers").fill("f:Firm")
    place(page, "its country, as DE").fill("f:Land")
    place(page, "our account's number there").fill("f:Customer")
    begin(page, "All items", "/v2/articles", cursor=True)
    ask(page, "25")
    expect(place(page, "title")).to_have_value("f:Name")
    place(page, "the warehouse that it comes from").fill("f:Yard")
    begin(page, "One item", "/v2/articles/{{ number }}")
    page.get_by_label(re.compile("^Try it with: its number")).fill("FM-0001")
    ask(page, "1")
    expect(place(page, "title")).to_have_value("f:Name")
    place(page, "the warehouse that it comes from").fill("f:Yard")
    begin(page, "Ways of sending", "/v2/yards")
    held: list[Route] = []
    page.route("**/propose", lambda route: held.append(route))
    with page.expect_request("**/propose"):
        page.get_by_role("button", name="Ask it now").click()
    expect(page.get_by_text("Its answer", exact=True)).to_be_visible()
    # What is proposed of it fills the places before they are typed over, but for the one that somebody stands in.
    place(page, "the warehouse's code").focus()
    held.pop().continue_()
    page.unroute("**/propose")
    expect(page.get_by_role("button", name="Ask it now")).to_be_enabled()
    expect(place(page, "its name").first).to_have_value("f:Name")
    expect(place(page, "the warehouse's code")).to_have_value("")
    page.get_by_label(re.compile("^Its rows are at")).fill("/f:Yards/f:Yard")
    for about, at in (("the warehouse's code", "@code"), ("its country", "@land"), ("handling of an order", "@fee")):
        place(page, about).fill(at)
    place(page, "its name").first.fill("f:Name")
    place(page, "where returns go").fill("f:Back")
    place(page, "its ways of sending").fill("f:Way")
    for about, at in (("the service's code", "@code"), ("the country that it goes to", "@land"), ("price of the first unit", "f:First")):
        place(page, about).fill(at)
    place(page, "its name").last.fill("f:Name")
    for about, at in (("price of each next", "f:More"), ("days at least", "@days"), ("days at most", "@most")):
        place(page, about).fill(at)
    ask(page, "1")
    expect(page.get_by_text("all of them can be read")).to_be_visible()

    begin(page, "Buy", "/v2/orders")
    page.get_by_role("combobox", name="Body").select_option("xml")
    page.get_by_label(re.compile("^The body; lists")).fill(ORDER)
    receipts(page)
    page.get_by_role("button", name="Show the call").click()
    call = page.get_by_label("The call as it would be")
    expect(call).to_contain_text('yours="AL-1001-1"')
    expect(call).to_contain_text("Fern-Token: (hidden)")
    begin(page, "What became of it", "/v2/orders/{{ reference }}")
    receipts(page)
    begin(page, "Let it go", "/v2/orders/{{ reference }}/stop")
    receipts(page)

    step(page, "Certificate")
    page.get_by_label(re.compile("this is their practice side")).check()
    page.get_by_role("button", name="Try all of it").click()
    expect(page.get_by_text("A purchase is sent, found by our reference, and let go")).to_be_visible(timeout=40_000)
    assert page.get_by_text("does not hold").count() == 0, page.get_by_role("table").inner_text()
    assert flaws(page) == []

    step(page, "Use it")
    page.get_by_role("button", name="Connect a supplier").click()
    form = page.get_by_role("dialog")
    form.get_by_label("What kind of supplier").select_option("described")
    expect(form.get_by_text(re.compile("Certificate: .* hold"))).to_be_visible()
    form.get_by_label(re.compile("^Its key")).fill("wrong")
    form.get_by_role("button", name="Check and connect").click()
    expect(form.get_by_role("alert")).to_contain_text("does not accept the key")
    form.get_by_label(re.compile("^Its key")).fill("practice-fernmoor")
    form.get_by_role("button", name="Check and connect").click()
    expect(page.get_by_text("Fernmoor Trade is connected").first).to_be_visible()
    mine = select(Item).join(Supplier, Supplier.id == Item.supplier_id).where(Supplier.name == "Fernmoor Trade", Item.stock > 5)
    eventually(lambda: len(business.all(mine)) > 30)

    # An order is bought through it, once, and is with them by our reference.
    theirs = {one.gtin: one for one in business.all(mine)}
    code, item = next((code, theirs[one.gtin]) for code, one in (business.laned(n) for n in range(40)) if one.gtin in theirs)
    with business.app_state.db.writing() as s:
        context = business.context(s)
        for lane in s.scalars(select(Lane).where(Lane.sku_code == code, Lane.closed_at.is_(None))):
            lanes.close_lane(context, lane.id, None)
        sku = s.scalars(select(Sku.id).where(Sku.code == code)).one()
        lanes.open_lane(context, sku, [lanes.LaneItem(item.id, lanes.Fraction(1))])
    number = business.buy(sku=code, quantity=1, country="GB")
    order = business.one(select(Order).where(Order.number == number))
    with business.app_state.db.writing() as s:
        purchase_orders.send(business.context(s), [order.id])
    business.settle()
    business.on(60)
    business.app_state.reader.answers(item.supplier_id)
    bought = business.one(select(PurchaseOrder).where(PurchaseOrder.order_id == order.id))
    there = [one for one in business.world.record()["purchases"] if one["reference"] == bought.reference]
    assert [(one["supplier"], one["billed"]) for one in there] == [("fern", bought.billed)], [
        (o.state, o.answer, o.fault, o.tries) for o in business.all(select(Outbox).where(Outbox.key == bought.reference))
    ]
