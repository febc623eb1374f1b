"""From artwork to a parcel: placed, checked, made, listed, ordered; the files arrive at the house byte for byte, once, whatever fails."""

from __future__ import annotations

import hashlib
import time
from typing import Any

import pytest
from sqlalchemy import select, update

from amber_lane.connectors.print_house import PrintHouse
from amber_lane.connectors.protocols import Address, StoreOrder, StoreOrderLine
from amber_lane.core.print_choice import Spot
from amber_lane.data.lanes import Lane
from amber_lane.data.orders import Order, PurchaseOrder
from amber_lane.data.outbox import AuditEntry, Job
from amber_lane.data.printing import ArtFile, Blank, LanePrint, PurchasePrint
from amber_lane.data.setup import Link, Store, Supplier
from amber_lane.data.shelf import Listing, Sku
from amber_lane.data.source import Sample
from amber_lane.services.activity import undo
from amber_lane.services.alerts import today
from amber_lane.services.base import house_days
from amber_lane.services.base.errors import Conflict, Invalid
from amber_lane.services.base.job_queue import start
from amber_lane.services.books import profit
from amber_lane.services.books.grouping import Period
from amber_lane.services.books.profit import View
from amber_lane.services.imports import sheet_kinds
from amber_lane.services.listings import publishing
from amber_lane.services.mapping import bulk_changes, lane_terms
from amber_lane.services.orders import orders
from amber_lane.services.partners import connections
from amber_lane.services.printing import artwork, designs, files, houses
from amber_lane.services.purchasing import purchase_orders
from amber_lane.services.sourcing import print_samples, samples
from amber_lane.sheets.table import read_sheet

from ..business import Business
from ..drawings import png

KEYS = {"tarn": "practice-tarn", "copper": "practice-copperbeck"}


def join(business: Business, code: str) -> int:
    with business.app_state.db.writing() as s:
        given = connections.Join("supplier", "print_api", "", f"{business.world.address}/{code}/api", KEYS[code])
        connectors = business.app_state.connectors
        number = connections.join_partner(business.context(s), connectors, given, connections.ask_account(connectors, given))
        found = s.scalars(select(Supplier).order_by(Supplier.id.desc())).first()
        assert found is not None and number is not None
        number = found.id
    business.app_state.reader.catalogue(number)
    return number


def write(business: Business, do: Any) -> Any:
    with business.app_state.db.writing() as s:
        return do(business.context(s))


def run_jobs(business: Business) -> None:
    business.app_state.worker.jobs.run_due()


@pytest.fixture
def sold(business: Business) -> Business:
    """Two houses, an artwork with a version for light and one for dark cloth, on the bag of the first, the other one a spare."""
    business.at("prepared to print", lambda: prepare(business))
    return business


def prepare(business: Business) -> None:
    tarn, copper = join(business, "tarn"), join(business, "copper")
    light, dark = files.check(png(ink="#262a2e")), files.check(png(ink="#f6f0dd"))
    art = write(business, lambda context: artwork.add(context, "New moon", light, "light"))
    write(business, lambda context: artwork.add_version(context, art.id, dark, "dark"))
    bag = business.one(select(Blank).where(Blank.supplier_id == tarn, Blank.kind == "bag"))
    spare = business.one(select(Blank).where(Blank.supplier_id == copper, Blank.kind == "bag"))
    design = write(business, lambda context: designs.create(context, "New moon", art.id, bag.id, "day bag"))
    change = designs.DesignChange(spares=[spare.id], left_out=["rust", "moss", "heather", "fog", "slate blue", "mid grey"])
    write(business, lambda context: designs.change(context, design.id, None, change))
    body = {"design": design.id, "store": 1}
    write(business, lambda context: start(context, "print.variants", "v", "Variants", body))
    run_jobs(business)
    assert [row.message for row in business.all(select(Job).where(Job.kind == "print.variants"))] == ["10 listings prepared"]


def printed_at(business: Business, reference: str) -> list[dict[str, Any]]:
    """What the houses were given by a reference: once is right."""
    return business.world.client.get(f"/world/record/printed/{reference}").json()["printed"]


def arrived(business: Business, reference: str) -> list[dict[str, Any]]:
    """The same once it is there: what was lost on the way is asked about and tried again by itself."""
    until = time.monotonic() + 30
    while not (found := printed_at(business, reference)) and time.monotonic() < until:
        business.settle()
        business.on(2)
    return found


def shown(business: Business) -> dict[str, Listing]:
    with business.app_state.db.reading() as s:
        rows = s.execute(select(Sku.options, Listing).join(Listing, Listing.sku_id == Sku.id).where(Sku.id.in_(select(LanePrint.sku_id))))
        return dict(rows.tuples().all())


def test_a_design_becomes_listings_with_price_picture_lanes_and_the_version_that_reads(sold: Business) -> None:
    found = shown(sold)
    assert {one.split(", ")[0] for one in found} == {"sand", "navy"}
    assert len(found) == 10, "all five sizes of each"
    for one in found.values():
        assert one.wanted_price > (one.landed or 0) > 0 and one.pictures and one.state == "preparing"
    with sold.app_state.db.reading() as s:
        prints = list(s.scalars(select(LanePrint)))
        lanes = {row.id: row for row in s.scalars(select(Lane))}
        ground = {row.id: row.ground for row in s.scalars(select(artwork.ArtVersion))}
    assert all(row.file_id and row.preview_id for row in prints if row.outcome in ("ok", "soft"))
    assert {ground[row.version_id or 0] for row in prints if row.colour == "navy"} == {"dark"}
    assert {ground[row.version_id or 0] for row in prints if row.colour == "sand"} == {"light"}
    spare = {(row.colour, row.size) for row in prints if lanes[row.lane_id].priority == 1}
    assert ("navy", "day bag") in spare and ("navy", "camp bag") not in spare, "the second house has no camp bag"
    assert all(lanes[row.lane_id].state != "shut" for row in prints if row.outcome != "refused")


def test_an_order_is_printed_once_from_its_own_file_and_a_spare_house_takes_over(sold: Business) -> None:
    listing = shown(sold)["navy, day bag"]
    write(sold, lambda context: publishing.publish(context, [listing.id]))
    sold.settle(3)
    sku = sold.one(select(Sku).where(Sku.id == listing.sku_id))
    sold.world.dial("tarn", "lost_answer", 0.5)
    sold.buy(sku=sku.code, quantity=1)
    numbers = sold.all(select(Order.id))
    sent = write(sold, lambda context: purchase_orders.send(context, numbers))
    assert len(sent) == 1
    for _ in range(8):
        sold.settle()
        sold.on(2)
    sold.world.calm()
    (there,) = arrived(sold, sent[0].reference)
    (side,) = there["lines"][0]["prints"]
    printed = sold.one(select(PurchasePrint))
    file = sold.one(select(ArtFile).where(ArtFile.id == printed.file_id))
    assert side["file"] == file.sha == hashlib.sha256(file.data).hexdigest()
    kept = sold.world.client.get(f"/world/record/print-files/{side['file']}").content
    assert kept == file.data, "byte for byte"

    # What was sent stays, whatever becomes of the artwork; what is not sent yet waits until its file is made anew.
    fresh = files.check(png(ink="#ffe9b0"))
    write(sold, lambda context: artwork.add_version(context, 1, fresh, "dark"))
    assert sold.one(select(PurchasePrint)).file_id == file.id
    lane = sold.all(select(Lane).where(Lane.sku_id == sku.id).order_by(Lane.priority))[0]
    on_sale = sold.one(select(Listing).where(Listing.id == listing.id))
    assert lane.state != "shut" and on_sale.state == "live", "a listing does not flicker for a minute's work"
    waits = taken(sold, "P-2", listing)
    assert write(sold, lambda context: purchase_orders.send(context, [waits])) == []
    assert write(sold, lambda context: purchase_orders.waits_for_files(context, [waits]))
    run_jobs(sold)
    (sent_later,) = write(sold, lambda context: purchase_orders.send(context, [waits]))
    (later,) = arrived(sold, sent_later.reference)
    assert later["lines"][0]["prints"][0]["file"] != side["file"], "from the new version"

    # The house runs out of the colour: it refuses, and the spare house prints it from a file of its own.
    number = sold.one(select(LanePrint).where(LanePrint.lane_id == lane.id)).item_id
    item = sold.one(select(houses.Item).where(houses.Item.id == number))
    sold.buy(sku=sku.code, quantity=1)
    newest = max(sold.all(select(Order.id)))
    first = write(sold, lambda context: purchase_orders.send(context, [newest]))
    arrived(sold, first[0].reference)
    sold.world.post("items", supplier="tarn", number=item.number, stock=0)
    sold.on(15)
    sold.app_state.reader.answers(lane.supplier_id)
    assert sold.one(select(PurchaseOrder).where(PurchaseOrder.id == first[0].id)).state == "refused"
    sold.world.post("items", supplier="tarn", number=item.number, stock=300)
    again = write(sold, lambda context: purchase_orders.send(context, [newest]))
    assert again and again[0].supplier_id != lane.supplier_id
    (other,) = arrived(sold, again[0].reference)
    assert other["supplier"] == "copper"
    (spare,) = other["lines"][0]["prints"]
    assert spare["file"] != side["file"], "its own file, of the whole print area"

    # Books know what each artwork earned.
    with sold.app_state.db.reading() as s:
        context = sold.context(s)
        days = Period(house_days.today(context), house_days.today(context))
        rows = {row.name: row.now for row in profit.table(context, View("artwork", days, days.before())).rows}
    assert rows["New moon"]["units"] == 3 and rows["New moon"]["sales"] > rows["New moon"]["profit"]


def test_a_sample_is_printed_and_the_houses_picture_is_held_beside_ours(sold: Business) -> None:
    write(sold, lambda context: samples.set_own_address(context, Address("Us", "2 Pier Road", "Whitby", "YO21 3PT", "GB")))
    with pytest.raises(Invalid, match="prepare the listings"):
        write(sold, lambda context: print_samples.order(context, 1, "rust", "day bag"))
    tarn = sold.one(select(Blank).where(Blank.id == 1)).supplier_id
    for n, askew in enumerate((0, 8)):
        sold.world.dial("tarn", "askew", askew)
        sample = write(sold, lambda context: print_samples.order(context, 1, "navy", "day bag"))
        arrived(sold, sample.reference)
        sold.on(15)
        sold.app_state.reader.answers(tarn)
        (proof,) = write(sold, lambda context, sample=sample: print_samples.proofs(context, [sample.id]))[sample.id]
        assert proof.proof and (proof.differs or 0) > (20 if askew else -1) and (askew or proof.differs == 0)
        assert len(printed_at(sold, sample.reference)) == 1
        kinds = write(sold, lambda context: [one.key.kind for one in today.singles(context)])
        assert kinds.count("proof") == n
    assert all(row.state == "ordered" for row in sold.all(select(Sample)))


def test_a_proof_that_cannot_be_read_is_the_houses_fault_and_loses_no_answer(sold: Business, monkeypatch: pytest.MonkeyPatch) -> None:
    write(sold, lambda context: samples.set_own_address(context, Address("Us", "2 Pier Road", "Whitby", "YO21 3PT", "GB")))
    sample = write(sold, lambda context: print_samples.order(context, 1, "navy", "day bag"))
    arrived(sold, sample.reference)
    sold.on(15)
    monkeypatch.setattr(PrintHouse, "proof", lambda self, reference: b"no picture")
    tarn = sold.one(select(Blank).where(Blank.id == 1)).supplier_id
    sold.app_state.reader.answers(tarn)
    assert "proof" in sold.one(select(Link.message).where(Link.owner == "supplier", Link.owner_id == tarn))
    assert sold.one(select(Sample)).state == "ordered" and sold.one(select(PurchasePrint)).proof_id is None


def test_listings_that_are_there_are_joined_to_artwork_and_house_by_sheet(sold: Business) -> None:
    sku, _ = sold.laned()
    head = "store,sku,house,blank,colour,size,artwork,side,x_mm,y_mm,w_mm\n"
    good = f"Dusk & Dial shop,{sku},Tarn Print House,Moor canvas bag,navy,field bag,New moon,front,8.0,12.0,200\n"
    odd = {
        "no colour 'pink'": good.replace("navy", "pink"),
        "outside": good.replace("8.0", "80"),
        "none called 'Old moon'": good.replace("New moon", "Old moon"),
        "not printed on its sleeve": good.replace("front", "sleeve"),
        "no blank": good.replace("Moor canvas bag", "Sail"),
    }
    kind = sheet_kinds.kind_of("print_lanes")
    rows = list(read_sheet((head + good + "".join(odd.values())).encode(), kind.required, kind.optional).rows)
    with sold.app_state.db.reading() as s:
        checked = kind.check(sold.context(s), rows, lambda n: None)
    assert (len(checked.good), len(checked.bad)) == (1, len(odd))
    for says, (_, reason) in zip(odd, checked.bad, strict=True):
        assert says in reason
    write(sold, lambda context: kind.take(context, checked))
    run_jobs(sold)
    number = sold.one(select(Sku.id).where(Sku.code == sku))
    lane = sold.all(select(Lane).where(Lane.sku_id == number).order_by(Lane.priority.desc()))[0]
    row = sold.one(select(LanePrint).where(LanePrint.lane_id == lane.id))
    assert lane.state == "new" and lane.priority > 0 and row.file_id and (row.x, row.y, row.w) == (800, 1200, 20_000)
    with sold.app_state.db.reading() as s:
        again = kind.check(sold.context(s), rows, lambda n: None)
    assert (again.counts["same"], again.counts["new"]) == (1, 0), "twice changes nothing"


def test_a_soft_or_unreadable_artwork_holds_its_lane_and_a_better_version_frees_it(sold: Business) -> None:
    navy = shown(sold)["navy, camp bag"]
    write(sold, lambda context: artwork.add_version(context, 1, files.check(png(300, "#f6f0dd")), "dark"))
    lane = sold.one(select(Lane).where(Lane.sku_id == navy.sku_id, Lane.priority == 0))
    assert lane.state == "shut" and "too soft" in lane.reason
    with pytest.raises(Invalid, match="2400 x 2400"):
        write(sold, lambda context: artwork.add_version(context, 1, files.check(png(2400, height=1200)), "dark"))
    with pytest.raises(Conflict, match="still printed"):
        write(sold, lambda context: artwork.remove(context, 1, None))
    write(sold, lambda context: artwork.add_version(context, 1, files.check(png(2400, "#1b2740")), "dark"))
    lane = sold.one(select(Lane).where(Lane.sku_id == navy.sku_id, Lane.priority == 0))
    assert lane.state == "shut" and "no version of the artwork reads" in lane.reason
    with pytest.raises(Conflict, match="opens by itself"):
        write(sold, lambda context: lane_terms.confirm_lane(context, lane.id, lane.version))
    with pytest.raises(Conflict, match="nothing of what is chosen"):
        write(sold, lambda context: bulk_changes.change_many(context, [lane.id], "open"))
    # Even where something else had opened it, nothing is bought that would be misprinted.
    write(sold, lambda context: context.session.execute(update(Lane).where(Lane.id == lane.id).values(state="open", cause="")))
    order = taken(sold, "P-1", navy)
    assert write(sold, lambda context: purchase_orders.send(context, [order])) == []
    assert sold.one(select(Lane).where(Lane.id == lane.id)).state == "shut"
    write(sold, lambda context: artwork.add_version(context, 1, files.check(png(2400, "#f6f0dd")), "dark"))
    run_jobs(sold)
    assert sold.one(select(Lane).where(Lane.sku_id == navy.sku_id, Lane.priority == 0)).state == "new"

    # Off its place it is held as well, and one key puts it back where it lay.
    spot = select(LanePrint.x).where(LanePrint.lane_id == lane.id)
    before = sold.one(spot)
    off = designs.DesignChange(places={"front": Spot(9_000, 0, 22_000)})
    write(sold, lambda context: designs.change(context, 1, None, off))
    held = sold.one(select(Lane).where(Lane.id == lane.id))
    assert held.state == "shut" and "outside of the print area" in held.reason and sold.one(spot) != before
    write(sold, lambda context: undo.undo(context, newest_act(context, "design.change")))
    assert sold.one(spot) == before
    run_jobs(sold)
    assert sold.one(select(Lane).where(Lane.id == lane.id)).state == "new"


def taken(business: Business, number: str, listing: Listing) -> int:
    """An order of one of a listing, by sheet's way."""
    buyer = Address("Wren Sorrel", "4 Lantern Row", "Whitby", "YO21 3PR", "GB")
    code = business.one(select(Sku.code).where(Sku.id == listing.sku_id))
    line = StoreOrderLine(1, code, 1, listing.wanted_price)
    given = StoreOrder(number, business.app_state.clock.now(), listing.currency, buyer, [line])
    write(business, lambda context: orders.take_in(context, context.get(Store, 1, "store"), given))
    return business.one(select(Order.id).where(Order.number == number))


def newest_act(context: Any, kind: str) -> int:
    return context.session.scalars(select(AuditEntry.id).where(AuditEntry.kind == kind).order_by(AuditEntry.id.desc())).first()
