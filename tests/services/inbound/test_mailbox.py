"""Mail that comes in: what is taken from it by itself, what is put to a person, and purchases that nobody answers."""

from __future__ import annotations

from typing import Any

import pytest
from sqlalchemy import select

from amber_lane.connectors.inbox_protocol import IncomingMail
from amber_lane.connectors.protocols import PurchaseAnswer
from amber_lane.data.orders import OrderLine, PurchaseOrder
from amber_lane.data.outbox import Outbox
from amber_lane.data.setup import Inbox, MailKey, Supplier
from amber_lane.data.setup import Letter as Kept
from amber_lane.services.activity import undo
from amber_lane.services.alerts import today
from amber_lane.services.base.context import Context
from amber_lane.services.base.errors import Conflict, Invalid
from amber_lane.services.inbound import mailbox
from amber_lane.services.purchasing import order_settings, purchase_orders, supplier_answers

from ...small import Small

OFFICE = "orders@supply.example"
SHEET = "purchase_order,line_no,item,answer,reason,billed,tracking_number,carrier\n"


@pytest.fixture
def by_mail(small: Small) -> Small:
    def change(context: Context) -> None:
        context.get(Supplier, 1, "supplier").kind = "sheet"
        road = {"parcel_note": "", "phone_rule": "none", "order_form": "sheet", "order_road": "mail", "mail": OFFICE}
        order_settings.save(context, "supplier", 1, None, road)
        context.session.add(Inbox(id=1, name="Answers", kind="pop"))
        other = Supplier(id=2, code="OTH", name="Other House", kind="sheet", country="GB", currency="GBP", mail="other@supply.example")
        context.session.add(other)

    small.write(change)
    return small


def comes(small: Small, uid: str, *files: tuple[str, str], sender: str = OFFICE, fault: str = "", **proof: Any) -> Kept:
    """A mail that comes. proof: keys or vouched; without any it carries the key of every mail that went to whoever it says it is of."""
    mine = select(MailKey.key).join(Supplier, Supplier.id == MailKey.supplier_id).where(Supplier.mail == sender)
    proof = proof or {"keys": tuple(small.all(mine))}
    mail = IncomingMail(uid, None, sender, "Re: orders", "Hello", tuple((name, text.encode()) for name, text in files), fault, **proof)
    return small.write(lambda context: mailbox.receive(context, 1, mailbox.opened(mail), small.folder))


def send(small: Small, *numbers: Any) -> list[PurchaseOrder]:
    ids = [small.order(number, ("S-1", 1, 900), ("S-2", 1, 900)).id for number in numbers]
    return small.write(lambda context: purchase_orders.send(context, ids))


def state(small: Small, reference: str) -> str:
    (found,) = small.all(select(PurchaseOrder.state).where(PurchaseOrder.reference == reference))
    return str(found)


def open_alerts(small: Small, kind: str) -> list[Any]:
    return [one for one in small.write(today.open_alerts) if one.kind == kind]


def test_our_own_sheet_filled_in_is_an_answer_line_by_line_and_each_mail_counts_once(by_mail: Small) -> None:
    send(by_mail, "A", "B", "C")
    (mail,) = by_mail.all(select(Outbox).where(Outbox.kind == "mail"))
    assert [name for name, _, _ in mail.body["files"]] == ["purchase-orders.csv", "answers.csv"]
    rows = (
        "ONE-A-1,1,I-1,accepted,,1.30,,\nONE-A-1,2,I-2,accepted,,2.00,,\n"
        "ONE-B-1,1,I-1,shipped,,,RR473124829GB,Hill Post\nONE-B-1,2,I-2,refused,sold out,,,\nONE-C-1,1,I-1,,,,,\nONE-C-1,2,I-2,,,,,\n"
    )
    for _ in range(2):
        row = comes(by_mail, "u1", ("Answers.CSV", SHEET + rows), ("logo.png", "x"))
    assert (row.needs, row.message) == (False, "2 answers taken") and len(by_mail.all(select(Kept))) == 1
    assert [state(by_mail, f"ONE-{name}-1") for name in "ABC"] == ["accepted", "shipped", "sent"]
    assert by_mail.all(select(PurchaseOrder.billed).order_by(PurchaseOrder.id)) == [330, None, None]
    assert "refused" in by_mail.all(select(OrderLine.state)) or "ready" in by_mail.all(select(OrderLine.state)), "the rest is planned anew"


def test_a_mail_is_not_believed_by_its_sender(by_mail: Small) -> None:
    """Anybody can write any address into a mail; only the key of a mail of ours, or the receiving server's word, proves one."""
    send(by_mail, "A")
    by_mail.write(lambda context: setattr(context.get(Inbox, 1, "mailbox"), "trusts", "mx.ours.example"))
    by_mail.write(lambda context: context.session.add(MailKey(key="AL-OTHERSOTHERSOTHE", supplier_id=2, at=context.now)))
    refused = SHEET + "ONE-A-1,,,refused,sold out,,,\n"
    forged: list[dict[str, Any]] = [
        {"keys": ()},
        {"keys": ("AL-AAAAAAAAAAAAAAAA", "AL-OTHERSOTHERSOTHE")},
        {"vouched": (("mx.theirs.example", "supply.example"),)},
        {"vouched": (("mx.ours.example", "evil.example"), ("mx.ours.example", "supply.example"))},
        {"vouched": (("mx.ours.example", "notsupply.example"),)},
    ]
    for n, proof in enumerate(forged):
        row = comes(by_mail, f"f{n}", ("answers.csv", refused), **proof)
        assert (row.needs, row.held) == (True, True) and "nothing proves that Supply House wrote this" in row.message
    assert state(by_mail, "ONE-A-1") == "sent" and len(open_alerts(by_mail, "Mail")) == len(forged)
    # What a person says is theirs is done; once, and from that very mail.
    mail = IncomingMail("f0", None, OFFICE, "Re: orders", "", (("answers.csv", refused.encode()),))
    with pytest.raises(Conflict, match="another mail"):
        by_mail.write(lambda context: mailbox.take_in_held(context, 2, mailbox.opened(mail), by_mail.folder))
    assert by_mail.write(lambda context: mailbox.take_in_held(context, 1, mailbox.opened(mail), by_mail.folder)).message == "1 answer taken"
    assert state(by_mail, "ONE-A-1") == "refused"
    with pytest.raises(Conflict, match="done already"):
        by_mail.write(lambda context: mailbox.take_in_held(context, 1, mailbox.opened(mail), by_mail.folder))


def test_the_receiving_servers_word_is_proof_where_a_person_said_so(by_mail: Small) -> None:
    send(by_mail, "A")
    taken, word = SHEET + "ONE-A-1,,,accepted,,,,\n", {"vouched": (("mx.ours.example", "supply.example"),)}
    assert comes(by_mail, "u1", ("answers.csv", taken), **word).held
    assert by_mail.write(lambda context: mailbox.trust(context, 1, " MX.ours.example ")).endswith(
        "believes mx.ours.example on who wrote a mail"
    )
    assert comes(by_mail, "u2", ("answers.csv", taken), **word).message == "1 answer taken"


def test_nobody_answers_for_others_and_what_cannot_be_read_is_put_to_a_person(by_mail: Small) -> None:
    send(by_mail, "A", "B")
    taken = SHEET + "ONE-A-1,,,accepted,,,,\n"
    stranger = comes(by_mail, "u1", ("answers.csv", taken), sender="who@knows.example")
    assert not stranger.needs and "nobody we order from" in stranger.message
    by_mail.write(lambda context: context.session.add(MailKey(key="AL-OTHERSOTHERSOTHE", supplier_id=2, at=context.now)))
    other = comes(by_mail, "u2", ("answers.csv", taken), sender="other@supply.example")
    assert other.needs and "no purchase order 'ONE-A-1' to Other House" in other.message
    assert comes(by_mail, "u3", ("a.csv", "x,y\n1,2\n"), ("b.xml", "<x/>"), ("c.csv", taken)).message == (
        "1 answer taken; a.csv: the columns purchase_order, answer are missing; say which column it is, or name the columns as in the template; "
        "b.xml: this is 'x', not an OrderResponse or a DespatchAdvice of UBL 2.1"
    )
    assert state(by_mail, "ONE-A-1") == "accepted", "the good file counts all the same"
    wrong = comes(by_mail, "u4", ("a.csv", SHEET + "ONE-B-1,,,shipped,,,RR473124820GB,Hill Post\n"))
    assert wrong.needs and "row 2" in wrong.message and state(by_mail, "ONE-B-1") == "sent"
    assert "no sheet" in comes(by_mail, "u5").message and "see it in the mailbox" in comes(by_mail, "u6", sender="", fault="torn").message
    open_ones = open_alerts(by_mail, "Mail")
    assert len(open_ones) == 5
    by_mail.write(lambda context: today.do_step(context, open_ones[0].key))
    assert len(open_alerts(by_mail, "Mail")) == 4
    by_mail.write(lambda context: undo.undo(context, by_mail.act("letter.read").id))
    assert len(open_alerts(by_mail, "Mail")) == 5
    by_mail.write(lambda context: setattr(context.get(Supplier, 2, "supplier"), "mail", OFFICE))
    assert "nobody" in comes(by_mail, "u7", ("a.csv", taken)).message, "an address of two suppliers is nobody's"


def test_of_an_old_mailbox_only_the_newest_mails_are_read(by_mail: Small) -> None:
    uids = [f"m{n}" for n in range(1000)]
    by_mail.write(lambda context: mailbox.leave_old(context, context.get(Inbox, 1, "mailbox"), uids))
    assert by_mail.write(lambda context: mailbox.unread(context, 1, [*uids, "m900"])) == uids[-mailbox.FIRST_MOST :]
    by_mail.write(lambda context: mailbox.leave_old(context, context.get(Inbox, 1, "mailbox"), [*uids, "new"]))
    assert by_mail.write(lambda context: mailbox.unread(context, 1, [*uids, "new"]))[-1] == "new"


def test_purchases_that_nobody_answers_or_sends_are_asked_about_once(by_mail: Small) -> None:
    send(by_mail, "A", "B")
    assert not open_alerts(by_mail, "No answer")
    by_mail.later(hours=25)
    (found,) = open_alerts(by_mail, "No answer")
    assert found.message == "Supply House has not answered 2 purchase orders" and found.at_risk > 0
    by_mail.write(lambda context: today.do_step(context, found.key))
    mails = [row for row in by_mail.all(select(Outbox).where(Outbox.kind == "mail")) if row.key.startswith("ask-")]
    assert [mail.body["to"] for mail in mails] == [OFFICE] and "ONE-A-1\nONE-B-1" in mails[0].body["body"]
    assert not open_alerts(by_mail, "No answer")
    with pytest.raises(Conflict):
        by_mail.write(lambda context: today.do_step(context, found.key))
    by_mail.later(days=3)
    assert open_alerts(by_mail, "No answer"), "two days without a word"
    by_mail.write(lambda context: supplier_answers.take_answer(context, PurchaseAnswer("ONE-A-1", "", "accepted", "", None, None)))
    by_mail.later(days=5)
    (late,) = open_alerts(by_mail, "Not sent")
    assert late.message == "Supply House has not sent 1 order, promised by tomorrow or before" and late.at_risk > 0


def test_an_address_is_one_address(by_mail: Small) -> None:
    for bad in ("office", "a@b.example, c@d.example", "Office <a@b.example>", "a b@c.example", "@"):
        with pytest.raises(Invalid, match="mail address"):
            by_mail.write(lambda context, bad=bad: order_settings.save(context, "supplier", 2, None, {"mail": bad}))
        with pytest.raises(Invalid, match="mail address"):
            by_mail.write(lambda context, bad=bad: order_settings.save(context, "mailbox", 1, None, {"name": "We", "sender": bad}))


def test_orders_that_wait_to_be_handed_over_are_told_at_once(by_mail: Small) -> None:
    road = {"parcel_note": "", "phone_rule": "none", "order_form": "sheet", "order_road": "hand", "mail": ""}
    by_mail.write(lambda context: order_settings.save(context, "supplier", 1, None, road))
    send(by_mail, "A")
    (found,) = open_alerts(by_mail, "Hand over")
    assert found.message == "1 purchase order to be given to Supply House" and found.step.go == "/setup/partners"
