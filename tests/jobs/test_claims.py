"""A claim from a parcel that is lost to money in the journal, over HTTP: asked once, answered late, short or not at all, refunded once."""

from __future__ import annotations

import io
from typing import Any

import pytest
from PIL import Image
from sqlalchemy import func, select

from amber_lane.core.claims import ClaimReason, Way
from amber_lane.data.backups import look_over
from amber_lane.data.books import JournalEntry
from amber_lane.data.claims import Claim, ClaimEvent
from amber_lane.data.orders import FillPlan, OrderLine, PurchaseOrder
from amber_lane.data.outbox import AuditEntry, Outbox
from amber_lane.data.transit import Parcel
from amber_lane.services.activity import undo
from amber_lane.services.alerts import today
from amber_lane.services.base.errors import Conflict, Invalid
from amber_lane.services.claims import buyer_side, cases, clock
from amber_lane.services.claims.cases import Start
from amber_lane.services.listings import images


def write(business: Any, do: Any) -> Any:
    with business.app_state.db.writing() as s:
        return do(business.context(s))


def on_the_road(business: Any, place: int) -> OrderLine:
    """A line that a supplier has sent, of another SKU for each test."""
    return business.on_the_road(place)[0]


def claimed(business: Any, reference: str) -> list[dict[str, Any]]:
    """What the supplier has of a claim."""
    return business.world.client.get(
        "/wholesale/api/claims", params={"reference": reference}, headers={"Authorization": "Bearer practice-northlight"}
    ).json()["claims"]


def days(business: Any, n: int) -> None:
    # Read more often than a supplier says two things one after the other.
    for _ in range(4 * n):
        business.on(6 * 60)
        business.app_state.reader.answers(1)


def of_claims(business: Any) -> int:
    with business.app_state.db.reading() as s:
        return int(s.scalar(select(func.coalesce(func.sum(JournalEntry.amount), 0)).where(JournalEntry.kind == "claim")) or 0)


def png() -> images.Made:
    out = io.BytesIO()
    Image.new("RGB", (640, 480), "maroon").save(out, "PNG")
    return images.check(out.getvalue())


def test_a_lost_parcel_is_claimed_once_refunded_once_and_the_money_is_in_the_journal(business):
    line = on_the_road(business, 2)
    purchase = business.one(select(PurchaseOrder))
    for dial in ("errors", "lost_answer"):
        business.world.dial("wholesale", dial, 0.4)
        business.world.dial("shop", dial, 0.4)
    row = write(business, lambda c: cases.open_claim(c, Start(line.id, ClaimReason.lost, words="nobody has seen it")))
    assert (row.amount, row.currency, row.paid) == (purchase.billed, "GBP", purchase.billed)
    with pytest.raises(Conflict, match="open for this already"):
        write(business, lambda c: cases.open_claim(c, Start(line.id, ClaimReason.late)))
    with pytest.raises(Conflict):
        write(business, lambda c: [cases.ask(c, row.id, row.version), cases.ask(c, row.id, row.version)])
    write(business, lambda c: cases.ask(c, row.id, None))
    write(business, lambda c: buyer_side.do(c, row.id, None, Way.refund))
    with pytest.raises(Conflict, match="done for the buyer already"):
        write(business, lambda c: buyer_side.do(c, row.id, None, Way.again))
    for _ in range(14):
        business.settle()
        business.on(10)
    business.world.calm()
    # What was tried often waits for long before it is asked about once more; a lost call is over by now.
    for _ in range(12):
        business.app_state.worker.delivery.not_before.clear()
        business.settle()
        business.on(60)
        business.app_state.reader.answers(1)
    assert {one.state for one in business.all(select(Outbox).where(Outbox.kind.in_(("claim", "refund"))))} == {"done"}
    assert len(claimed(business, row.reference)) == 1
    days(business, 4)
    done = business.one(select(Claim))
    assert (done.state, done.came_back, done.their_number != "") == ("settled", purchase.billed, True)
    assert of_claims(business) == purchase.billed
    # The buyer got all, the supplier gave all: what the order comes to is the store's fees that did not come back.
    with business.app_state.db.reading() as s:
        left = s.scalar(select(func.sum(JournalEntry.home)).where(JournalEntry.order_id == line.order_id, JournalEntry.account == "profit"))
        assert left == 0 and s.scalar(select(FillPlan.profit).where(FillPlan.order_id == line.order_id)) == left
    kinds = [one.kind for one in business.all(select(ClaimEvent).order_by(ClaimEvent.id))]
    assert kinds == ["open", "ask", "buyer", "accepted", "paid"]
    assert look_over(business.folder / "amber-lane.db") == []
    # Its record is what the next one is weighed by.
    with business.app_state.db.reading() as s:
        assert buyer_side.records(business.context(s), 1)["lost"].paid == 1


def test_what_is_broken_wants_a_picture_and_pays_less_than_asked(business):
    line = on_the_road(business, 4)
    business.world.dial("wholesale", "pays_less", 0.25)
    row = write(business, lambda c: cases.open_claim(c, Start(line.id, ClaimReason.damaged)))
    write(business, lambda c: cases.ask(c, row.id, None))
    business.settle()
    days(business, 3)
    assert business.one(select(Claim)).state == "question"
    with business.app_state.db.reading() as s:
        (alert,) = [one for one in today.open_alerts(business.context(s)) if one.key.kind == "claim"]
        assert "please send a picture" in alert.message and alert.station == "transit"
    write(business, lambda c: cases.add(c, row.id, None, pictures=[images.keep(c, png())]))
    business.settle()
    days(business, 4)
    done = business.one(select(Claim))
    assert done.state == "settled" and done.came_back == int(done.amount * 0.75) == of_claims(business)
    assert [one.kind for one in business.all(select(ClaimEvent).order_by(ClaimEvent.id))][-1] == "paid"
    with business.app_state.db.reading() as s:
        assert not [one for one in today.open_alerts(business.context(s)) if one.key.kind.startswith("claim")]


def test_sent_again_by_the_supplier_is_a_parcel_of_the_same_order(business):
    line = on_the_road(business, 6)
    row = write(business, lambda c: cases.open_claim(c, Start(line.id, ClaimReason.lost, wish="again")))
    assert row.amount == 0
    write(business, lambda c: cases.ask(c, row.id, None))
    business.settle()
    days(business, 4)
    assert business.one(select(Claim)).state == "settled" and of_claims(business) == 0
    assert len(business.all(select(Parcel.id))) == 2


def test_who_never_answers_is_reminded_twice_and_then_it_is_a_persons(business):
    business.world.dial("wholesale", "silent", 1)
    line = on_the_road(business, 8)
    row = write(business, lambda c: cases.open_claim(c, Start(line.id, ClaimReason.no_movement)))
    act = business.one(select(AuditEntry).where(AuditEntry.kind == "claim.open"))
    write(business, lambda c: cases.ask(c, row.id, None))
    with pytest.raises(Conflict, match="under way"):
        write(business, lambda c: undo.undo(c, act.id))
    business.settle()
    for _ in range(16):
        business.on(24 * 60)
        write(business, clock.remind)
    assert business.one(select(Claim)).reminded == 2
    with business.app_state.db.reading() as s:
        (alert,) = [one for one in today.open_alerts(business.context(s)) if one.key.kind == "claim_silent"]
        assert "though reminded twice" in alert.message
    write(business, lambda c: cases.drop(c, row.id, None, "too small"))
    drop = business.one(select(AuditEntry).where(AuditEntry.kind == "claim.drop"))
    write(business, lambda c: undo.undo(c, drop.id))
    assert business.one(select(Claim)).state == "open" and business.one(select(Claim)).closed_at is None
    with pytest.raises(Invalid, match="cannot come back"):
        write(business, lambda c: cases.money_came(c, row.id, None, row.paid * 3))
