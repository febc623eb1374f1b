"""From a file on somebody's machine to a thing that a print house prints for a buyer of the closed store."""

from __future__ import annotations

import hashlib
import re

from playwright.sync_api import Page, expect
from sqlalchemy import select, update

from amber_lane.agent import Agent, Office
from amber_lane.connectors.kinds import connect
from amber_lane.data.orders import Order, PurchaseOrder
from amber_lane.data.printing import ArtFile, Blank, LanePrint, PrintDesign, PrintPlace, PurchasePrint
from amber_lane.data.shelf import Listing, Sku
from amber_lane.services.delivery import agent_leases
from amber_lane.services.listings import going_live
from amber_lane.services.partners import connections

from ..drawings import png
from .conftest import eventually, flaws


def closed_store(business, served) -> tuple[int, Agent]:
    """The craft market, worked by its program."""
    with served.app_state.db.writing() as s:
        context = business.context(s)
        store = connections.join_uncalled(context, connections.Join("store", "program", "Hearthmade Row", "", "", "GB", "GBP"))
        going_live.all_on(context, store)
        store.orders_cursor = str(max([0, *(one["seq"] for one in business.world.record()["orders"])]))
        number, token = store.id, agent_leases.make_token(context, store.id)
    link = connect("store", "craft_pages", f"{business.world.address}/craft", "dusk-dial:practice-craft", 5)
    return number, Agent(Office(served.address, token), link, rest=lambda seconds: None)


def test_from_an_uploaded_file_to_a_printed_order_of_the_closed_store(app: Page, shop) -> None:
    business, served = shop
    world = business.world
    store, agent = closed_store(business, served)
    app.goto(f"{served.address}/setup/partners")
    app.get_by_role("button", name="Connect a supplier").click()
    app.get_by_label("What kind of supplier").select_option(label="Print house that prints what is ordered")
    app.get_by_label("Address", exact=True).fill(f"{world.address}/tarn/api")
    app.get_by_label(re.compile("^Its key")).fill("practice-tarn")
    app.get_by_role("button", name="Check and connect").click()
    eventually(lambda: len(business.all(select(Blank.id))) == 5)

    # A file that cannot be printed truly is refused in words; a good one is kept.
    app.goto(f"{served.address}/shelf/print")
    expect(app.get_by_text("Nothing is printed yet")).to_be_visible()
    app.get_by_role("button", name="Add artwork").click()
    form = app.get_by_role("dialog")
    form.get_by_label("File").set_input_files({"name": "sea-gate.png", "mimeType": "image/png", "buffer": b"no picture"})
    form.get_by_role("button", name="Add", exact=True).click()
    expect(form.get_by_role("alert")).to_contain_text("no artwork that can be read")
    form.get_by_label("File").set_input_files({"name": "sea-gate.png", "mimeType": "image/png", "buffer": png(2600, "#26282b")})
    expect(form.get_by_label("Name")).to_have_value("sea gate")
    form.get_by_label("Name").fill("Sea gate")
    form.get_by_role("button", name="Add", exact=True).click()
    expect(app.get_by_text("Sea gate is here")).to_be_visible()

    # On a mug, placed by hand: numbers, keys, centre.
    app.keyboard.press("n")
    choose = app.get_by_role("dialog")
    choose.get_by_label("On what").select_option(label="Mugs")
    expect(choose.get_by_role("radio", name="Tarn Print House")).to_be_checked()
    choose.get_by_role("button", name="Place it").click()
    expect(app.get_by_role("heading", name="Sea gate, Hearth mug")).to_be_visible()
    width = app.get_by_role("textbox", name="width", exact=True)
    width.fill("60")
    # What somebody else changes meanwhile is drawn, and leaves what is being typed alone.
    with served.app_state.db.writing() as s:
        s.execute(update(PrintDesign).values(name="Sea gate, Hearth mug 2"))
    expect(app.get_by_role("heading", name="Sea gate, Hearth mug 2")).to_be_visible()
    expect(width).to_have_value("60")
    width.press("Enter")
    width.blur()
    app.keyboard.press("c")
    for _ in range(3):
        app.keyboard.press("ArrowRight")

    def place() -> tuple[int, int, int]:
        row = business.one(select(PrintPlace))
        return row.x, row.y, row.w

    eventually(lambda: place() == (7_300, 1_250, 6_000), page=app)
    # What reads on white and cream does not on navy and coal: those are left out by themselves, with the reason.
    expect(app.get_by_role("heading", name="2 colours can be sold")).to_be_visible()
    expect(app.get_by_text(re.compile("On coal neither does"))).to_be_visible()
    app.set_viewport_size({"width": 1024, "height": 760})
    assert flaws(app) == []
    app.set_viewport_size({"width": 1280, "height": 800})
    app.get_by_label("Store").select_option(label="Hearthmade Row")
    expect(app.get_by_role("button", name=re.compile("Prepare 2 listings"))).to_be_enabled()
    app.keyboard.press("a")
    expect(app.get_by_text("2 listings prepared", exact=True)).to_be_visible(timeout=30_000)

    app.goto(f"{served.address}/shelf?view=preparing&store={store}")
    expect(app.get_by_role("row", name=re.compile("Sea gate, Hearth mug 2, cream"))).to_be_visible()
    app.get_by_label("Choose row 1", exact=True).click()
    app.keyboard.press("p")
    live = Listing.store_id == store, Listing.state == "live", Listing.title.like("Sea gate%")
    eventually(lambda: len(business.all(select(Listing.id).where(*live))) == 1)
    agent.once()
    code = business.one(select(Sku.code).join(Listing).where(*live))
    shown = world.client.get(f"/world/record/listings/{code}?store=craft").json()["now"]
    assert shown["state"] == "live" and shown["quantity"] > 0 and "Sea gate" in shown["title"]

    # Somebody buys it there; it is sent from the orders, and its file is at the house, byte for byte.
    number = world.post("buy", store="craft", sku=code, quantity=1, country="GB")["number"]
    agent.once()
    app.goto(f"{served.address}/orders?state=ready")
    app.get_by_role("row", name=re.compile(number)).click()
    app.get_by_role("button", name="Send this order").wait_for()
    app.keyboard.press("a")
    order = business.one(select(Order.id).where(Order.number == number))
    eventually(lambda: printed(business, order) != [])
    (line,) = printed(business, order)
    (side,) = line["prints"]
    file = business.one(select(ArtFile).join(PurchasePrint, PurchasePrint.file_id == ArtFile.id))
    assert (side["file"], side["x_mm"], side["y_mm"], side["w_mm"]) == (hashlib.sha256(file.data).hexdigest(), 73, 12.5, 60)
    assert world.client.get(f"/world/record/print-files/{side['file']}").content == file.data
    app.goto(f"{served.address}/orders?state=all&words={number}")
    app.get_by_role("row", name=re.compile(number)).click()
    expect(app.get_by_label("What is printed").get_by_text("60.0 × 60.0 mm at 73.0, 12.5")).to_be_visible()
    assert len(business.all(select(LanePrint.id).where(LanePrint.outcome == "refused"))) == 0


def printed(business, order: int) -> list[dict]:
    """What the house was given for an order, each time that it came."""
    reference = business.all(select(PurchaseOrder.reference).where(PurchaseOrder.order_id == order))
    told = business.world.client.get(f"/world/record/printed/{reference[0]}").json()["printed"] if reference else []
    assert len(told) <= 1, "once"
    return told[0]["lines"] if told else []
