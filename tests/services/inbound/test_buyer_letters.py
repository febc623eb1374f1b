"""Buyers who write: a mail finds its order or nobody's, its pictures are made anew, and a case takes it along and gives it back."""

from __future__ import annotations

from typing import Any

import pytest
from sqlalchemy import select, update

from amber_lane.connectors.inbox_protocol import IncomingMail
from amber_lane.core.claims import ClaimReason
from amber_lane.core.permissions import Allowed, Role, Scope
from amber_lane.data.claims import Claim
from amber_lane.data.orders import OrderLine, PurchaseOrder
from amber_lane.data.setup import Inbox, Letter, MailKey, Supplier
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
    return house.write(lambda context: mailbox.receive(context, 1, mailbox.opened(mail), house.folder))


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


def test_a_supplier_answers_claims_by_sheet_and_word_and_only_its_own(sold: Small) -> None:
    """The very mail that a claim went by carries the key that its answer proves itself with."""

    def by_mail(context: Context) -> None:
        supplier = context.get(Supplier, 1, "supplier")
        supplier.kind, supplier.mail = "sheet", "claims@supply.example"
        context.session.add(Supplier(id=2, code="OTH", name="Other", kind="sheet", country="GB", currency="GBP", mail="b@other.example"))

    sold.write(by_mail)
    rows = [sold.write(lambda c, o=o: cases.open_claim(c, cases.Start(lines(sold, o)[0], ClaimReason.damaged))) for o in (1, 2)]
    for row in rows:
        sold.write(lambda c, row=row: cases.ask(c, row.id, None))
    one, two = [row.reference for row in rows]
    keys = tuple(sold.all(select(MailKey.key)))
    text = f"claim,answer,amount,message\n{one},accepted,1.50,next month\n{two},paid,900.00,\nNOPE-1-C0000,refused,,\n{one},refused,,\n"

    def write(uid: str, sender: str, words: str, proof: tuple[str, ...], *files: tuple[str, bytes]) -> Letter:
        mail = IncomingMail(uid, None, sender, "Re: claims", words, files, keys=proof)
        return sold.write(lambda context: mailbox.receive(context, 1, mailbox.opened(mail), sold.folder))

    sheet = ("answers.csv", text.encode())
    assert write("1", "claims@supply.example", "", (), sheet).held, "nothing proves who wrote it"
    assert "no claim of yours" in write("2", "b@other.example", "", keys, sheet).message or sold.all(select(Claim.state)) == [
        "asked",
        "asked",
    ]
    done = write("3", "claims@supply.example", f"About {two}: we look into it.", keys, sheet)
    assert "1 answer to claims taken" in done.message and done.needs
    assert "for what cost" in done.message and "no claim of yours" in done.message and "second answer" in done.message
    first, second = sold.all(select(Claim).order_by(Claim.id))
    assert (first.state, first.offered, second.state) == ("accepted", 150, "asked")
    told = [event.message for event in sold.write(lambda context: cases.story(context, second.id))]
    assert told[-1].endswith("wrote: About " + two + ": we look into it.")
    # The same once more changes nothing; what then comes settles it, once.
    write("4", "claims@supply.example", "", keys, ("again.csv", f"claim,answer,amount\n{one},accepted,1.60\n".encode()))
    assert sold.all(select(Claim.offered).order_by(Claim.id))[0] == 150
    for uid in ("5", "6"):
        write(uid, "claims@supply.example", "", keys, ("paid.csv", f"claim,answer,amount\n{one},paid,1.40\n".encode()))
    assert sold.all(select(Claim.came_back).order_by(Claim.id)) == [140, 0]
