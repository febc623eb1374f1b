"""Goods that come back: asked for in the store or given by us, answered once, followed, paid back once, and every penny in the journal."""

from __future__ import annotations

import base64
from datetime import timedelta
from typing import Any

import pytest
from sqlalchemy import func, select

from amber_lane.core.claims import ClaimReason, Way
from amber_lane.data.backups import look_over
from amber_lane.data.books import JournalEntry
from amber_lane.data.claims import Claim, ClaimEvent
from amber_lane.data.orders import FillPlan, Order, OrderLine
from amber_lane.data.outbox import Outbox
from amber_lane.data.returns import GoodsReturn, ReturnLabel, ReturnRequest
from amber_lane.data.setup import Carrier
from amber_lane.services.activity import undo
from amber_lane.services.alerts import today
from amber_lane.services.base.errors import Conflict, Invalid
from amber_lane.services.claims import buyer_side, cases, return_requests, returns
from amber_lane.services.claims.returns import Start
from amber_lane.services.orders import buyer_data

from ..business import Business
from ..killing import survive, victim

BACK = "Northlight Trade returns, 4 Dock Road, Hillport HP2 4TT"


def write(business: Business, do: Any) -> Any:
    with business.app_state.db.writing() as s:
        return do(business.context(s))


def asked(business: Business, line: OrderLine, reason: str = "changed_mind") -> ReturnRequest:
    """A buyer asks for a return in the shop, and the shop is read."""
    order = business.one(select(Order).where(Order.id == line.order_id))
    number = business.world.post("return", number=order.number, reason=reason)["number"]
    business.app_state.reader.orders(1)
    return business.one(select(ReturnRequest).where(ReturnRequest.number == number))


def told(business: Business, number: str) -> dict[str, Any]:
    """What the shop has of a return."""
    rows = business.world.client.get("/shop/api/returns", auth=("dusk-dial", "practice-shop")).json()["returns"]
    return next(one for one in rows if one["number"] == number)


def days(business: Business, n: int) -> None:
    for _ in range(2 * n):
        business.on(12 * 60)
        business.app_state.reader.orders(1)
        business.app_state.reader.parcels(1)
        business.settle()


def refunded(business: Business, line: OrderLine) -> list[str]:
    """What the shop gave the buyer of a line's order back, as it says."""
    number = business.one(select(Order.number).where(Order.id == line.order_id))
    return [one["paid"] for one in business.world.record()["refunds"].values() if one["order"] == number]


def booked(business: Business, kind: str) -> int:
    with business.app_state.db.reading() as s:
        return int(s.scalar(select(func.coalesce(func.sum(JournalEntry.amount), 0)).where(JournalEntry.kind == kind)) or 0)


def test_what_a_buyer_asks_for_in_the_store_comes_back_with_a_label_and_is_paid_back_on_arrival(business: Business) -> None:
    line = business.on_the_road(3)[0]
    request = asked(business, line)
    assert (request.state, request.reason, request.units) == ("asked", "changed_mind", 1) and request.answer_by
    with business.app_state.db.reading() as s:
        (alert,) = [one for one in today.open_alerts(business.context(s)) if one.key.kind == "return_asked"]
    assert "wants to send back" in alert.message and "the store decides on" in alert.reason
    claim = write(business, lambda c: return_requests.open_case(c, request.id))
    with pytest.raises(Conflict, match="has a case"):
        write(business, lambda c: return_requests.open_case(c, request.id))
    # Undone with its case, it waits again.
    write(business, lambda c: undo.undo(c, undo.last_undoable(c).id))
    assert business.one(select(ReturnRequest)).claim_id is None
    claim = write(business, lambda c: return_requests.open_case(c, request.id))
    for wrong in (Start(1, "short"), Start(1, BACK, "some day"), Start(1, BACK, days=0), Start(1, BACK, carrier=77)):
        with pytest.raises(Invalid):
            write(business, lambda c, wrong=wrong: returns.open_return(c, claim.id, None, wrong))
    row = write(business, lambda c: returns.open_return(c, claim.id, None, Start(1, BACK, "arrived", carrier=1)))
    with business.app_state.db.reading() as s:
        found = buyer_side.ways(business.context(s), s.get(Claim, claim.id))
    assert not found.may & {Way.part, Way.again} and row.number in found.reason_not[Way.part]
    # The buyer was told, so its case is not undone any more.
    with pytest.raises(Conflict, match="under way"):
        write(business, lambda c: undo.undo(c, undo.last_undoable(c).id))
    with pytest.raises(Conflict, match="is there for it already"):
        write(business, lambda c: returns.open_return(c, claim.id, None, Start(1, BACK)))
    business.settle(3)
    there = business.one(select(GoodsReturn))
    assert (there.label, there.state) == ("made", "agreed") and there.tracking.startswith("SW") and there.label_cost > 0
    shop = told(business, request.number)
    assert shop["state"] in ("accepted", "sent") and business.one(select(ReturnRequest)).state == "accepted"
    mail = business.all(select(Outbox.body).where(Outbox.kind == "mail", Outbox.key.contains(row.number)))[0]
    (name, kind, data), number = mail["files"][0], row.number
    assert (name, kind) == (f"{number}.pdf", "application/pdf;base64") and base64.b64decode(data).startswith(b"%PDF-")
    assert number in mail["body"] and BACK in mail["body"]
    with pytest.raises(Conflict, match=r"still under way|is not over"):
        write(business, lambda c: buyer_data.erase(c, line.order_id))
    # A label that nobody has used costs nothing, and nothing is paid back before it is there.
    assert booked(business, "return_cost") == 0 and refunded(business, line) == []
    days(business, 6)
    there = business.one(select(GoodsReturn))
    assert there.state == "arrived" and there.sent_at and there.arrived_at
    line = business.one(select(OrderLine).where(OrderLine.id == line.id))
    assert line.state == "cancelled" and refunded(business, line) == [f"{line.total / 100:.2f}"]
    assert booked(business, "return_cost") == -there.label_cost
    with business.app_state.db.reading() as s:
        profit = s.scalar(
            select(func.sum(JournalEntry.home)).where(JournalEntry.order_id == line.order_id, JournalEntry.account == "profit")
        )
        assert profit == s.scalar(select(FillPlan.profit).where(FillPlan.order_id == line.order_id))
        (alert,) = [one for one in today.open_alerts(business.context(s)) if one.key.kind == "return_waits"]
    assert "nobody has said how it came" in alert.message
    with pytest.raises(Conflict, match="only a depot"):
        write(business, lambda c: returns.look_at(c, there.id, None, 1))
    write(business, lambda c: returns.look_at(c, there.id, None, 0, "scratched"))
    with pytest.raises(Conflict, match="looked at"):
        write(business, lambda c: returns.here(c, there.id, None))
    story = [one.message for one in business.all(select(ClaimEvent).where(ClaimEvent.kind == "return").order_by(ClaimEvent.id))]
    assert len(story) == 6 and "scratched" in story[-1]
    # Whoever is erased leaves no label behind, which has their address.
    write(business, lambda c: buyer_data.erase(c, line.order_id))
    assert business.all(select(ReturnLabel)) == [] and business.one(select(ReturnRequest)).words == ""
    assert all(
        "address_1" not in str(body) or "erased" in str(body) for body in business.all(select(Outbox.body).where(Outbox.kind == "label"))
    )
    assert look_over(business.folder / "amber-lane.db") == []


def test_what_nobody_answers_the_store_pays_back_by_itself_and_it_is_in_the_books_once(business: Business) -> None:
    silent, kept, refused = business.on_the_road(5, 6, 7)
    first, second, third = (asked(business, line, reason) for line, reason in ((silent, "damaged"), (kept, "late"), (refused, "missing")))
    # One is let keep it for a part of the money, one is refused; both are told to the shop.
    claim = write(business, lambda c: return_requests.open_case(c, second.id))
    write(business, lambda c: buyer_side.do(c, claim.id, None, Way.part, 100))
    with pytest.raises(Invalid, match="say why"):
        write(business, lambda c: return_requests.refuse(c, third.id, None, " "))
    write(business, lambda c: return_requests.refuse(c, third.id, None, "it was all in the box"))
    with pytest.raises(Conflict, match="refused already"):
        write(business, lambda c: return_requests.refuse(c, third.id, None, "twice"))
    business.settle()
    assert (told(business, second.number)["state"], told(business, third.number)["state"]) == ("kept", "refused")
    assert refunded(business, kept) == ["1.00"] and refunded(business, refused) == []
    write(business, lambda c: return_requests.open_case(c, first.id))
    days(business, 4)
    row = business.one(select(ReturnRequest).where(ReturnRequest.id == first.id))
    line = business.one(select(OrderLine).where(OrderLine.id == silent.id))
    assert row.state == "lapsed" and refunded(business, silent) == [f"{row.paid_back / 100:.2f}"]
    assert line.refunded == row.paid_back or line.state == "cancelled"
    assert business.all(select(Outbox).where(Outbox.kind == "refund", Outbox.subject == f"order:{silent.order_id}")) == []
    mine = business.one(select(Claim).where(Claim.order_line_id == silent.id))
    assert (mine.buyer, mine.buyer_amount) == ("refund", row.paid_back)
    with business.app_state.db.reading() as s:
        of_kind = select(func.sum(JournalEntry.amount)).where(JournalEntry.kind == "refund", JournalEntry.order_id == silent.order_id)
        assert s.scalar(of_kind) == -row.paid_back
    # What somebody answers in the store itself waits for nobody here.
    elsewhere = asked(business, refused, "late")
    said = {"state": "kept", "return_number": "", "address": "", "reason": ""}
    business.world.client.post(f"/shop/api/returns/{elsewhere.number}/answer", json=said, auth=("dusk-dial", "practice-shop"))
    business.app_state.reader.orders(1)
    assert business.one(select(ReturnRequest).where(ReturnRequest.id == elsewhere.id)).state == "kept"
    # Said again, nothing more comes of it.
    write(business, lambda c: setattr(c.session.get(return_requests.Store, 1), "returns_cursor", ""))
    business.app_state.reader.orders(1)
    assert business.one(select(OrderLine).where(OrderLine.id == silent.id)).version == line.version


def test_returns_are_answered_once_and_labelled_once_whatever_dies_or_fails(business: Business) -> None:
    lines = [line for line in business.on_the_road(*range(7)) if line.state == "on_the_road"][:4]
    for service in ("shop", "post"):
        for name, value in (("errors", 0.3), ("lost_answer", 0.3), ("duplicates", 0.4), ("out_of_order", 0.4)):
            business.world.dial(service, name, value)
    numbers = {one.id: one.number for one in business.all(select(Order))}
    names = [business.world.post("return", number=numbers[line.order_id], reason="not_as_described")["number"] for line in lines]
    for _ in range(12):
        business.app_state.worker.read()
        if len(found := business.all(select(ReturnRequest))) == len(lines):
            break
        business.on(3)
    assert sorted(one.number for one in found) == sorted(names)
    for nth, request in enumerate(found):
        claim = write(business, lambda c, number=request.id: return_requests.open_case(c, number))
        start = Start(1, BACK, ("sent", "arrived", "at_once", "looked_at")[nth], carrier=1)
        write(business, lambda c, claim=claim, start=start: returns.open_return(c, claim.id, None, start))
    died = 0
    for day in range(9):
        died += not victim(business, 2 + 5 * day)
        survive(business)
        # All of it within the days that the shop waits for an answer: else it would pay back by itself, by chance.
        business.on(6 * 60)
    assert died > 3
    business.world.calm()
    for _ in range(16):
        survive(business)
        business.on(12 * 60)
    rows = business.all(select(GoodsReturn).order_by(GoodsReturn.id))
    assert {row.state for row in rows} == {"arrived"} and len({row.tracking for row in rows}) == len(rows)
    assert len(business.all(select(ReturnLabel))) == len(rows)
    looked = next(row for row in rows if row.refund_when == "looked_at")
    assert refunded(business, next(line for line in lines if line.id == looked.order_line_id)) == []
    write(business, lambda c: returns.look_at(c, looked.id, None, 0))
    business.settle()
    for line in lines:
        now = business.one(select(OrderLine).where(OrderLine.id == line.id))
        assert refunded(business, line) == [f"{now.total / 100:.2f}"] and now.state == "cancelled"
    assert booked(business, "refund") == -sum(line.total for line in lines)
    assert booked(business, "return_cost") == -sum(row.label_cost for row in rows)
    assert look_over(business.folder / "amber-lane.db") == []


def test_where_nothing_comes_it_is_told_and_ended_and_another_way_is_free(business: Business) -> None:
    line = business.on_the_road(8)[0]
    business.world.dial("post", "labels_unused", 1)
    claim = write(business, lambda c: cases.open_claim(c, cases.Start(line.id, ClaimReason.changed_mind)))
    row = write(business, lambda c: returns.open_return(c, claim.id, None, Start(None, BACK, days=2, carrier=1)))
    business.settle()
    days(business, 6)
    with business.app_state.db.reading() as s:
        (alert,) = [one for one in today.open_alerts(business.context(s)) if one.key.kind == "return_waits"]
        assert [one.address for one in returns.places(business.context(s), claim) if one.supplier is None] == [BACK]
    assert "was to be at us by now" in alert.message
    write(business, lambda c: returns.drop(c, row.id, None, "never sent"))
    assert booked(business, "return_cost") == 0
    # By another number, which its carrier would not give, and then by hand.
    again = write(business, lambda c: returns.open_return(c, claim.id, None, Start(None, BACK, "sent")))
    with pytest.raises(Invalid):
        write(business, lambda c: returns.sent(c, again.id, None, "SW1", 1))
    assert business.one(select(Carrier)).id == 1
    write(business, lambda c: returns.sent(c, again.id, None, "", None))
    business.settle()
    assert len(refunded(business, line)) == 1
    write(business, lambda c: returns.here(c, again.id, None))
    ended = write(business, lambda c: returns.look_at(c, again.id, None, 0))
    assert ended.state == "looked_at" and ended.ended_at - ended.opened_at < timedelta(days=1)
