"""From a supplier's catalogue to a live listing, as a person does it; what counts is what reached the practice world."""

from __future__ import annotations

import re

from playwright.sync_api import Page, expect
from sqlalchemy import select

from amber_lane.data.lanes import Lane
from amber_lane.data.setup import Store, Supplier
from amber_lane.data.shelf import Listing, Sku
from amber_lane.data.source import Item
from amber_lane.services.listings.variant_matrix import build

from .conftest import eventually


def test_a_marketplace_and_a_folder_are_joined_and_goods_go_from_one_to_the_other(app: Page, shop) -> None:
    business, served = shop
    world = business.world
    app.goto(f"{served.address}/setup/partners")
    app.get_by_role("button", name="Connect a store").click()
    app.get_by_label("What kind of store").select_option(label="Marketplace: passes, batches, an allowance")
    app.get_by_label("Address", exact=True).fill(f"{world.address}/fair/api")
    app.get_by_label(re.compile("^Its key")).fill("dusk-dial:practice-fair")
    app.get_by_role("button", name="Check and connect").click()
    expect(app.get_by_text("shows up to 800 listings, 5,200 units")).to_be_visible()

    app.get_by_role("button", name="Connect a supplier").click()
    app.get_by_label("What kind of supplier").select_option(label="A sheet in a folder, made anew now and then")
    for label, text in (
        (re.compile("^Name"), "Quayside Bulk"),
        ("Country, two letters", "PL"),
        ("Currency", "PLN"),
        ("Sending, first unit", "12.90"),
    ):
        app.get_by_label(label).fill(text)
    app.get_by_label("Address", exact=True).fill(f"{world.address}/folder")
    app.get_by_label(re.compile("^Its key")).fill("duskdial:practice-quayside")
    app.get_by_role("button", name="Check and connect").click()
    expect(app.get_by_role("heading", name="Quayside Bulk’s sheet")).to_be_visible()
    # Its own words for its columns are understood, and one that is needed can be put right.
    expect(app.get_by_label("Its number")).to_have_value("nr artykułu")
    app.get_by_label("In stock").select_option(label="")
    expect(app.get_by_role("alert")).to_contain_text("say which column is the stock")
    app.get_by_label("In stock").select_option(label="stan")
    # Some of its goods cost in euros, which it never said; a person says that this is so.
    expect(app.get_by_text(re.compile("its currency is EUR, not PLN")).first).to_be_visible()
    app.get_by_label(re.compile("cost in EUR, not PLN")).check()
    app.get_by_role("button", name=re.compile("^Save and import 40 items")).click()
    eventually(lambda: len(business.all(select(Item.id).join(Supplier).where(Supplier.name == "Quayside Bulk"))) == 40)

    app.goto(f"{served.address}/price?view=fees")
    rate = app.get_by_label("What 1 PLN is in GBP")
    rate.fill("0.2")
    rate.press("Enter")
    app.get_by_role("button", name=re.compile("^Save")).click()
    expect(app.get_by_text(re.compile("1 PLN is 0.2 GBP")).first).to_be_visible()

    store = business.one(select(Store).where(Store.kind == "market_api"))
    supplier = business.one(select(Supplier).where(Supplier.name == "Quayside Bulk"))
    # A store begins in practice: nothing can be published before a person has turned its stock and prices on.
    for what, said in (("stock", "stock is written"), ("prices", "prices are written")):
        app.goto(f"{served.address}/setup/partners?out={what}&store={store.id}")
        page = app.get_by_role("dialog")
        expect(page.get_by_text(re.compile("listings?, .* would change at once"))).to_be_visible()
        page.get_by_role("button", name=re.compile("Turn it on|Start with these")).click()
        expect(app.get_by_role("checkbox", name=said).last).to_be_checked()

    app.goto(f"{served.address}/source?store={store.id}&supplier={supplier.id}&ours=no")
    for row in (1, 2, 3):
        app.get_by_label(f"Choose row {row}", exact=True).click()
    app.keyboard.press("p")
    expect(app.get_by_text("3 listings prepared", exact=True)).to_be_visible()

    app.goto(f"{served.address}/shelf")
    app.get_by_label(re.compile("^Title")).fill("Best lamp of Quayside Bulk")
    app.get_by_label(re.compile("^Description")).click()
    expect(app.get_by_text("the buyer would read 'Quayside Bulk'")).to_be_visible()
    app.get_by_label(re.compile("^Title")).fill("Lamp for the night garden")
    app.get_by_label(re.compile("^Description")).click()
    expect(app.get_by_text("the buyer would read 'Quayside Bulk'")).to_have_count(0)
    for row in (1, 2, 3):
        app.get_by_label(f"Choose row {row}", exact=True).click()
    app.keyboard.press("p")
    expect(app.get_by_role("heading", name="Publishing 3 listings")).to_be_visible()
    rows = business.all(
        select(Listing).where(Listing.store_id == store.id, Listing.lane_id.is_not(None), Listing.title == "Lamp for the night garden")
    )
    live = select(Listing.id).where(Listing.store_id == store.id, Listing.state == "live", Listing.lane_id.is_not(None))
    eventually(lambda: len(business.all(live)) >= 3)

    def told() -> list[dict]:
        world.post("clock", jump_minutes=1)
        with served.app_state.db.reading() as s:
            codes = list(s.scalars(select(Sku.code).join(Listing).join(Lane, Lane.sku_id == Sku.id).where(Lane.supplier_id == supplier.id)))
        return [now for code in codes if (now := world.client.get(f"/world/record/listings/{code}?store=fair").json()["now"])]

    eventually(lambda: len(told()) == 3 and all(one["state"] == "live" for one in told()), within=20)
    expect(app.get_by_text(re.compile("3 of 3 shown by their stores"))).to_be_visible()

    def as_wanted() -> bool:
        """What the store shows is what we want of it, once it has passed all that moved meanwhile."""
        shown = {one["sku"]: (one["price"], one["title"]) for one in told()}
        with served.app_state.db.reading() as s:
            mine = s.execute(select(Sku.code, Listing.wanted_price, Listing.title).join(Listing).where(Listing.store_id == store.id)).all()
        return all(shown.get(code, (price, title)) == (price, title) for code, price, title in mine)

    eventually(as_wanted, within=20)
    assert "Lamp for the night garden" in {one["title"] for one in told()} and rows is not None


def test_sizes_are_made_from_one_listing_and_go_to_the_store_as_one_family(app: Page, shop) -> None:
    business, served = shop
    # Something whose supplier has it in other sizes that the shop does not sell.
    found = None
    with business.app_state.db.reading() as s:
        for listing, sku in s.execute(
            select(Listing, Sku).join(Sku, Sku.id == Listing.sku_id).where(Listing.state == "live", Listing.store_id == 1)
        ):
            made = build(business.context(s), business.app_state.worker.finder, listing.id)
            if sum(row.item is not None and row.listing is None for row in made.rows) >= 2 and len(made.options) == 1:
                found = (sku.code, [row.values[0] for row in made.rows])
                break
    assert found is not None
    code, values = found
    app.goto(f"{served.address}/shelf?view=live&store=1&words={code}")
    expect(app.get_by_role("button", name="Sizes and colours")).to_be_visible()
    app.keyboard.press("v")
    expect(app.get_by_role("heading", name="Sizes and colours")).to_be_visible()
    mine = business.one(select(Sku).where(Sku.code == code)).options
    for value in values:
        if value != mine and app.get_by_label(f"Item of {value}").input_value():
            wanted = value
    for value in values:
        if value not in (wanted, mine):
            app.get_by_role("button", name=f"Leave out {value}", exact=True).click()
    app.get_by_label(f"Choose {wanted}", exact=True).check()
    app.get_by_label("Price for the chosen").fill("0,01")
    app.get_by_role("button", name="Fix price").click()
    app.keyboard.press("Control+Enter")
    expect(app.get_by_role("alert")).to_contain_text("loses")
    app.get_by_label(re.compile(f"^Price of {re.escape(wanted)}")).fill("59.00")
    app.keyboard.press("Control+Enter")
    expect(app.get_by_role("heading", name="Sizes and colours")).to_have_count(0)
    new = business.one(select(Listing).where(Listing.state == "preparing", Listing.hand_price == 5900))
    app.goto(f"{served.address}/shelf?view=preparing&store=1")
    app.get_by_role("button", name=re.compile("^Publish")).first.click()
    expect(app.get_by_role("heading", name="Publishing 1 listing")).to_be_visible()
    sku = business.one(select(Sku).where(Sku.id == new.sku_id))

    def told(which: str) -> dict[str, object]:
        return business.world.client.get(f"/world/record/listings/{which}?store=shop").json()["now"] or {}

    eventually(lambda: (told(sku.code).get("family"), told(sku.code).get("price")) == (code, 5900))
    assert told(sku.code)["options"] == sku.options
    eventually(lambda: told(code)["family"] == code)
