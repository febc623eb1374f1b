"""A depot from the first question to goods that are sold from it, over HTTP, with its slips and faults."""

from __future__ import annotations

import sqlite3

import pytest
from sqlalchemy import func, select

from amber_lane.core.states import LOAD_COMING
from amber_lane.data.backups import look_over
from amber_lane.data.books import JournalEntry
from amber_lane.data.depot import DepotEntry, HeldGoods, Inbound, InboundLine
from amber_lane.data.lanes import Lane
from amber_lane.data.orders import OrderLine, PurchaseOrder
from amber_lane.data.outbox import AuditEntry, Outbox
from amber_lane.data.setup import Supplier
from amber_lane.data.shelf import Listing, Sku
from amber_lane.data.source import Item
from amber_lane.services.activity import undo
from amber_lane.services.alerts import today
from amber_lane.services.base.errors import Conflict, Invalid
from amber_lane.services.depot import arrivals, goods, ledger, loads, terms
from amber_lane.services.mapping import lanes
from amber_lane.services.partners import connections
from amber_lane.services.purchasing import purchase_orders


def join(business, slips: float = 0) -> int:
    """Larkfield joined and read. Returns its number."""
    business.world.post("facts", name="depot_slips", value=slips)
    given = connections.Join("supplier", "depot_api", "", f"{business.world.address}/depot/api", "practice-larkfield")
    with business.app_state.db.writing() as s:
        context = business.context(s)
        account = connections.ask_account(business.app_state.connectors, given)
        number = connections.join_partner(context, business.app_state.connectors, given, account).id
    business.app_state.reader.answers(number)
    return number


def write(business, do):
    with business.app_state.db.writing() as s:
        return do(business.context(s))


def held(business, depot: int, place: int = 0) -> tuple[HeldGoods, str]:
    """A SKU that the depot has agreed to hold."""
    code, item = business.laned(place)
    sku = business.one(select(Sku).where(Sku.code == code))
    row = write(business, lambda c: goods.ask(c, goods.HoldWish(sku.id, depot, (120, 100, 90), item.weight_g or 300)))
    business.settle()
    state = business.one(select(HeldGoods).where(HeldGoods.id == row.id)).state
    if state == "question":
        write(business, lambda c: goods.answer_question(c, row.id, None, "two AA cells, alkaline"))
        business.settle()
    business.on(150)
    business.app_state.reader.answers(depot)
    return business.one(select(HeldGoods).where(HeldGoods.id == row.id)), code


def counted_in(business, depot: int, row: HeldGoods, units: int) -> Inbound:
    """A load of goods that has been bought, sent and counted."""
    load = write(business, lambda c: loads.order_all(c, [(row.id, units)])[0])
    business.settle()
    for _ in range(30):
        business.on(8 * 60)
        for supplier in (1, depot):
            business.app_state.reader.answers(supplier)
        if business.one(select(Inbound).where(Inbound.id == load.id)).state == "counted":
            break
    return business.one(select(Inbound).where(Inbound.id == load.id))


def check_whole(business) -> None:
    """The data itself finds nothing wrong, and journal and ledger say the same."""
    assert look_over(business.folder / "amber-lane.db") == []


def test_goods_go_from_the_first_question_to_a_buyer(business):
    depot = join(business)
    assert business.one(select(Supplier).where(Supplier.id == depot)).watching is False
    row, code = held(business, depot, 0)
    assert row.state == "agreed" and row.item_id
    stock = business.one(select(Item).where(Item.id == row.source_id)).stock
    load = counted_in(business, depot, row, 24)
    assert load.state == "counted" and load.their_number
    bought = [one for one in business.world.record()["purchases"] if one["reference"] == load.reference]
    assert len(bought) == 1 and bought[0]["billed"] == load.goods + load.freight
    assert stock >= 24
    # What is there cost what was paid, to the penny.
    entry = business.one(select(DepotEntry).where(DepotEntry.held_id == row.id))
    line = business.one(select(InboundLine).where(InboundLine.inbound_id == load.id))
    assert (entry.there, entry.value) == (24, line.cost) and line.counted == 24
    assert line.cost == load.goods + load.freight + 90 * len(load.cartons)
    assert loads.taking_in(load, [line]) == 90 * len(load.cartons)
    item = business.one(select(Item).where(Item.id == row.item_id))
    assert (item.stock, item.cost) == (24, round(line.cost / 24))

    lane = write(business, lambda c: goods.open_lane(c, row.id, 0))
    assert lane.priority == 0
    # The plan takes the way that earns more; here it has to be this one.
    other = business.one(select(Lane).where(Lane.sku_id == row.sku_id, Lane.supplier_id == 1))
    write(business, lambda c: lanes.close_lane(c, other.id, other.version))
    listing = business.listing(code)
    assert listing.lane_id == lane.id
    number = business.buy(sku=code, quantity=2)
    made = write(business, lambda c: purchase_orders.send(c, c.session.scalars(select(OrderLine.order_id)).all()))
    assert [one.supplier_id for one in made] == [depot]
    business.settle()
    business.on(30)
    business.app_state.reader.answers(depot)
    # Promised, and on the shelf still.
    assert business.one(select(Item).where(Item.id == row.item_id)).stock == 22
    with business.app_state.db.reading() as s:
        assert ledger.stock_of(business.context(s), [row.id])[row.id] == ledger.Stock(24, line.cost, 2)
    for _ in range(4):
        business.on(8 * 60)
        business.app_state.reader.answers(depot)
    sent = business.one(select(DepotEntry).where(DepotEntry.kind == "sent"))
    assert (sent.units, sent.there) == (-2, 22)
    purchase = business.one(select(PurchaseOrder).where(PurchaseOrder.supplier_id == depot))
    assert purchase.state == "shipped" and purchase.goods == -sent.worth
    # The bill is the depot's work; the goods stand beside it, and the journal agrees with both.
    told = next(one for one in business.world.record()["purchases"] if one["reference"] == purchase.reference)
    assert purchase.billed == told["billed"] + purchase.goods
    with business.app_state.db.reading() as s:
        kinds = dict(
            s.execute(
                select(JournalEntry.kind, func.sum(JournalEntry.amount))
                .where(JournalEntry.purchase_id == purchase.id)
                .group_by(JournalEntry.kind)
            ).all()
        )
    assert kinds["goods"] + kinds.get("shipping", 0) + kinds.get("handling", 0) == -purchase.billed
    assert number
    check_whole(business)
    # The depot's own word agrees at two looks.
    business.on(300)
    business.app_state.reader.answers(depot)
    assert business.one(select(HeldGoods).where(HeldGoods.id == row.id)).differs_since is None


def test_what_came_short_is_settled_once_and_counted_again(business):
    depot = join(business)
    row, _ = held(business, depot, 1)
    business.world.dial("depot", "damages", 1)
    business.world.dial("depot", "miscounts", 1)
    load = counted_in(business, depot, row, 12)
    line = business.one(select(InboundLine).where(InboundLine.inbound_id == load.id))
    assert line.damaged > 0 and line.counted < 12 - line.damaged and line.picture_id
    with business.app_state.db.reading() as s:
        lost = arrivals.lost_worth(line)
        short = next(one for one in today.open_alerts(business.context(s)) if one.key.kind == "short")
        assert short.at_risk == lost > 0
        # Until it is settled, what is missing is a loss.
        said = s.scalar(select(func.sum(JournalEntry.amount)).where(JournalEntry.kind == "overhead", JournalEntry.item_id == row.item_id))
        assert said == -lost
    # A second count finds what was miscounted; what is damaged stays so.
    business.world.dial("depot", "miscounts", 0)
    write(business, lambda c: arrivals.ask_again(c, load.id, None))
    business.settle()
    business.on(5 * 60)
    business.app_state.reader.answers(depot)
    line = business.one(select(InboundLine).where(InboundLine.id == line.id))
    assert line.counted == 12 - line.damaged
    write(business, lambda c: arrivals.settle(c, arrivals.Settling(line.id, None, "claim")))
    with pytest.raises(Conflict, match="settled already"):
        write(business, lambda c: arrivals.settle(c, arrivals.Settling(line.id, None, "written_off")))
    write(business, lambda c: arrivals.take_money_back(c, line.id, None, arrivals.lost_worth(line)))
    with business.app_state.db.reading() as s:
        said = s.scalar(select(func.sum(JournalEntry.amount)).where(JournalEntry.kind == "overhead", JournalEntry.item_id == row.item_id))
        assert said == 0
        assert not [one for one in today.open_alerts(business.context(s)) if one.key.kind == "short"]
    check_whole(business)


def test_a_load_is_bought_once_whatever_the_lines_do(business):
    depot = join(business)
    row, _ = held(business, depot, 2)
    for service in ("wholesale", "depot"):
        business.world.dial(service, "lost_answer", 0.5)
        business.world.dial(service, "errors", 0.3)
    load = write(business, lambda c: loads.order_all(c, [(row.id, 10)])[0])
    for _ in range(12):
        business.settle()
        business.on(12)
    business.world.calm()
    # What was tried often waits for long before it is asked about once more.
    asked = select(Outbox.state).where(Outbox.kind.in_(("load", "load_notice")))
    for _ in range(60):
        business.settle()
        if set(business.all(asked)) == {"done"}:
            break
        business.on(120)
    assert set(business.all(asked)) == {"done"}
    assert len([one for one in business.world.record()["purchases"] if one["reference"] == load.reference]) == 1
    for _ in range(20):
        business.on(8 * 60)
        for supplier in (1, depot, 1):
            business.app_state.reader.answers(supplier)
    assert business.one(select(func.sum(DepotEntry.units)).where(DepotEntry.held_id == row.id)) == 10
    check_whole(business)


def test_taken_back_before_it_went_out_it_is_bought_anew_under_another_reference(business):
    depot = join(business)
    row, _ = held(business, depot, 3)
    load = write(business, lambda c: loads.order_all(c, [(row.id, 10)])[0])
    act = business.one(select(AuditEntry).where(AuditEntry.kind == "load.order"))
    write(business, lambda c: undo.undo(c, act.id))
    again = business.one(select(Inbound).where(Inbound.id == load.id))
    assert again.state == "planned" and again.reference != load.reference and again.reference.startswith(load.reference[:8])
    write(business, lambda c: loads.order(c, load.id))
    business.settle()
    assert [one["reference"] for one in business.world.record()["purchases"] if one["supplier"] == "wholesale"].count(again.reference) == 1
    assert business.one(select(Inbound).where(Inbound.id == load.id)).state in LOAD_COMING


def test_the_ledger_is_only_added_to_and_what_the_depot_loses_is_believed_once(business):
    depot = join(business)
    row, _ = held(business, depot, 4)
    counted_in(business, depot, row, 10)
    business.world.post("depot", number=row.number, units=2, kind="lost")
    for _ in range(2):
        business.app_state.reader.answers(depot)
    rows = business.all(select(DepotEntry).where(DepotEntry.held_id == row.id).order_by(DepotEntry.nth))
    assert [(one.kind, one.units, one.there) for one in rows] == [("counted_in", 10, 10), ("lost", -2, 8)]
    assert rows[1].worth == -round(rows[0].value * 2 / 10)
    # What nobody told of is seen at two looks, with both figures.
    business.world.post("depot", number=row.number, units=1)
    for _ in range(2):
        business.on(150)
        business.app_state.reader.answers(depot)
    with business.app_state.db.reading() as s:
        alert = next(one for one in today.open_alerts(business.context(s)) if one.key.kind == "stock_differs")
        assert "7 are there, our ledger has 8" in alert.message
    write(business, lambda c: ledger.take_count(c, row.id, None, 7, "counted with them"))
    with business.app_state.db.reading() as s:
        assert not [one for one in today.open_alerts(business.context(s)) if one.key.kind == "stock_differs"]
    with pytest.raises(Conflict, match="only 7 are there"):
        write(business, lambda c: ledger.enter(c, c.get(HeldGoods, row.id, ""), [ledger.Movement("lost", -8)]))
    file = sqlite3.connect(business.folder / "amber-lane.db")
    for sql in ("update depot_entry set units = 3", "delete from depot_entry"):
        with pytest.raises(sqlite3.IntegrityError, match="never changed"):
            file.execute(sql)
    with pytest.raises(sqlite3.IntegrityError, match="does not add up"):
        file.execute(
            "insert into depot_entry(held_id, nth, at, kind, units, there, worth, value, once, lot, who, reason)"
            f" values ({row.id}, 9, 0, 'found', 5, 5, 0, 0, '', '', '', '')"
        )
    file.close()
    check_whole(business)


def test_what_a_depot_does_not_take_is_said_before_it_is_asked(business):
    depot = join(business)
    code, _ = business.laned()
    sku = business.one(select(Sku).where(Sku.code == code))
    for sides, weight, words in (
        ((1200, 100, 90), 300, "up to 900 mm"),
        ((100, 100, 90), 13_000, "up to 12,000 g"),
        ((0, 1, 1), 300, "measures"),
    ):
        with pytest.raises(Invalid, match=words):
            write(business, lambda c, sides=sides, weight=weight: goods.ask(c, goods.HoldWish(sku.id, depot, sides, weight)))
    row, _ = held(business, depot, 5)
    with pytest.raises(Invalid, match="has only"):
        write(business, lambda c: loads.order_all(c, [(row.id, 90_000)]))
    with pytest.raises(Invalid, match="whole number"):
        write(business, lambda c: goods.change(c, row.id, None, goods.HeldChange(inner=6)))
        write(business, lambda c: loads.order_all(c, [(row.id, 10)]))
    with business.app_state.db.reading() as s:
        told = terms.terms_of(business.context(s), depot)
        assert told.pick == 20 and told.carton_sides == [600, 400, 400] and told.address["country"] == "GB"
    assert business.one(select(func.count()).select_from(Listing))
