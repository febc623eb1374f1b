"""Buyers who write: a mail finds its order or nobody's, its pictures are made anew, and a case takes it along and gives it back."""

from __future__ import annotations

from typing import Any

import pytest
from sqlalchemy import select, update

from amber_lane.connectors.protocols import IncomingMail
from amber_lane.core.claims import ClaimReason
from amber_lane.core.permissions import Allowed, Role, Scope
from amber_lane.data.claims import Claim
from amber_lane.data.orders import OrderLine, PurchaseOrder
from amber_lane.data.setup import Inbox, Letter
from amber_lane.data.shelf import Picture
from amber_lane.services.activity import undo
from amber_lane.services.alerts import today
from amber_lane.services.base.context import Context
from amber_lane.services.base.errors import Conflict, NotFound
from amber_lane.services.claims import cases
from amber_lane.services.inbound import buyer_letters, mailbox
from amber_lane.services.purchasing import purchase_orders

from ...drawings import png
from ...small import BUYER, Small


@pytest.fixture
def sold(small: Small) -> Small:
    """Two orders of one buyer, both bought, and a mailbox that is read."""
    small.write(lambda context: context.session.add(Inbox(id=1, name="Answers", kind="pop")))
    orders = [small.order(name, ("S-1", 2, 900)).id for name in ("A-17", "A-18")]
    small.write(lambda context: purchase_orders.send(context, orders))
    small.write(lambda context: context.session.execute(update(PurchaseOrder).values(state="sent")))
    return small


def comes(house: Small, uid: str, subject: str, text: str, sender: str = BUYER.email, *files: tuple[str, bytes]) -> Letter:
    mail = IncomingMail(uid, None, sender, subject, text, files)
    return house.write(lambda context: mailbox.receive(context, 1, mailbox.opened(mail)))


def lines(house: Small, order: int) -> list[Any]:
    return house.all(select(OrderLine.id).where(OrderLine.order_id == order))


def test_a_mail_finds_the_order_that_it_is_about(sold: Small) -> None:
    named = comes(sold, "1", "About a-17", "Hello, it came and is broken.")
    assert (named.order_id, named.is_buyers, named.needs) == (1, True, True)
    assert buyer_letters.likely(named) is ClaimReason.damaged
    # Without a number it is about what they bought last; from elsewhere it is told that nothing proves who writes.
    assert comes(sold, "2", "Hello", "Where is my parcel?").order_id == 2
    other = comes(sold, "3", "Order A-18", "Refund me, please.", "somebody@else.example")
    assert (other.order_id, other.is_buyers) == (2, False)
    for n, (subject, text) in enumerate((("Offer", "100 ways to sell more"), ("", ""), ("x" * 300, "A" * 4000))):
        assert comes(sold, f"n{n}", subject, text, "ads@else.example").order_id is None
    told = [one for one in sold.write(today.open_alerts) if one.kind == "Buyer"]
    assert len(told) == 3 and all(one.station == "transit" and one.at_risk == 1800 for one in told)
    assert "not the address" in next(one.reason for one in told if "A-18" in one.message and "Order A-18" in one.message)
    assert comes(sold, "1", "About a-17", "again").id == named.id, "each mail once"


def test_a_case_takes_the_mail_and_its_pictures_along_and_gives_it_back(sold: Small) -> None:
    files = (("photo.png", png(700, "#803020")), ("more.jpg", b"\xff\xd8 no picture"), ("virus.exe", b"MZ"))
    row = comes(sold, "1", "Broken, order A-17", "It is cracked.", BUYER.email, *files)
    assert len(row.pictures) == 1 and sold.all(select(Picture.is_evidence)) == [True]
    (mine,), (others,) = lines(sold, 1), lines(sold, 2)
    with pytest.raises(Conflict, match="not of order A-17"):
        sold.write(lambda context: buyer_letters.open_case(context, row.id, cases.Start(others, ClaimReason.damaged)))
    start = cases.Start(mine, ClaimReason.damaged, words="It is cracked.")
    claim = sold.write(lambda context: buyer_letters.open_case(context, row.id, start))
    assert claim.evidence == row.pictures and sold.write(buyer_letters.to_read) == []
    assert "sent 1 picture" in sold.write(lambda context: cases.story(context, claim.id))[-1].message
    with pytest.raises(Conflict, match="read already"):
        sold.write(lambda context: buyer_letters.close(context, row.id))
    act = sold.act("claim.open")
    sold.write(lambda context: undo.undo(context, act.id))
    assert sold.all(select(Claim)) == [] and [one.id for one, _ in sold.write(buyer_letters.to_read)] == [row.id]
    sold.write(lambda context: buyer_letters.close(context, row.id))
    closed = sold.act("letter.buyer_read")
    sold.write(lambda context: undo.undo(context, closed.id))
    assert len(sold.write(buyer_letters.to_read)) == 1


def test_somebody_of_another_store_reads_nothing_and_what_is_kept_is_everybodys(sold: Small) -> None:
    row = comes(sold, "1", "Broken, order A-17", "It is cracked.")

    def by(context: Context, scope: Scope) -> Context:
        context.allowed, context.person = Allowed(Role("claims"), scope), 7
        return context

    elsewhere = Scope(stores=frozenset({2}))
    assert sold.write(lambda context: buyer_letters.to_read(by(context, elsewhere))) == []
    with pytest.raises(NotFound):
        sold.write(lambda context: buyer_letters.one(by(context, elsewhere), row.id))
    # Who looks first at Today may see less than the next; that is kept from nobody.
    with sold.db.reading() as s:
        today.open_alerts(by(sold.context(s), elsewhere))
    with sold.db.reading() as s:
        assert any(one.kind == "Buyer" for one in today.open_alerts(sold.context(s)))
