"""Cases of suppliers without an interface, what cannot be believed, what is done for the buyer, and one sum of it everywhere."""

from __future__ import annotations

import io
from datetime import timedelta
from fractions import Fraction
from typing import Any

import pytest
from fpdf import FPDF
from PIL import Image
from sqlalchemy import func, select, update

from amber_lane.connectors.claim_protocol import ClaimAnswer
from amber_lane.connectors.protocols import PurchaseAnswer, Tracking
from amber_lane.core.claims import ClaimReason, Way
from amber_lane.core.currency import show
from amber_lane.core.machine import NotAllowed
from amber_lane.data.books import JournalEntry
from amber_lane.data.claims import Claim, ClaimEvent
from amber_lane.data.orders import FillPlan, Order, OrderLine, PurchaseLine, PurchaseOrder
from amber_lane.data.outbox import AuditEntry, Outbox
from amber_lane.data.setup import Supplier
from amber_lane.data.source import Item
from amber_lane.data.transit import Parcel
from amber_lane.services.activity import undo
from amber_lane.services.alerts import today
from amber_lane.services.base import house_days
from amber_lane.services.base.errors import Conflict, Invalid
from amber_lane.services.books import statements
from amber_lane.services.books.statements import StatementLine
from amber_lane.services.claims import buyer_side, cases, clock, item_rates, lane_losses, letters
from amber_lane.services.claims.cases import Start
from amber_lane.services.inbound import claim_replies
from amber_lane.services.listings import images
from amber_lane.services.pricing.drafts import PolicyChange
from amber_lane.services.purchasing import purchase_orders, supplier_answers
from amber_lane.sheets import ubl

from ...small import Small


@pytest.fixture
def sold(small: Small) -> Small:
    """Two of a thing that a supplier who works by mail has sent: bought for 2.00, sending 1.40 and 0.30."""

    def by_mail(context: Any) -> None:
        supplier = context.session.get(Supplier, 1)
        supplier.kind, supplier.mail = "sheet", "claims@supply.example"

    small.write(by_mail)
    small.order("N-1", ("S-1", 2, 2000))
    small.write(lambda c: purchase_orders.send(c, [1]))
    tracking = Tracking("RR473124829GB", "Hill Post")
    small.write(lambda c: supplier_answers.take_answer(c, PurchaseAnswer("ONE-N-1-1", "S-77", "shipped", "", None, tracking)))
    return small


def one(small: Small, table: Any = Claim) -> Any:
    return small.all(select(table).order_by(table.id))[0]


def claims_in_journal(small: Small) -> int:
    with small.db.reading() as s:
        return int(s.scalar(select(func.coalesce(func.sum(JournalEntry.amount), 0)).where(JournalEntry.kind == "claim")) or 0)


def test_a_supplier_by_mail_is_written_to_once_and_its_answer_is_typed(sold: Small) -> None:
    row = sold.write(lambda c: cases.open_claim(c, Start(1, ClaimReason.damaged, words="both cracked")))
    purchase = one(sold, PurchaseOrder)
    assert (row.paid, row.amount, row.units) == (purchase.goods + purchase.shipping + purchase.handling, row.paid, 2)
    sold.write(lambda c: cases.ask(c, row.id, row.version))
    (mail,) = sold.all(select(Outbox).where(Outbox.kind == "mail", Outbox.subject == f"claim:{row.id}"))
    assert mail.body["to"] == "claims@supply.example" and "both cracked" in mail.body["body"] and "2 × I-1" in mail.body["body"]
    for said, words in (
        (ClaimAnswer(row.reference, "accepted", "", "", 100, "USD"), "pays in USD"),
        (ClaimAnswer(row.reference, "accepted", "", "", row.paid * 9, "GBP"), "for what cost"),
        (ClaimAnswer(row.reference, "", "", "a state that we do not know"), "do not know"),
    ):
        sold.write(lambda c, said=said: cases.take_answer(c, said))
        assert one(sold).state == "asked" and words in one(sold).answer
    sold.write(lambda c: cases.take_answer(c, ClaimAnswer(row.reference, "refused", "", "too late", None, "GBP")))
    assert one(sold).state == "refused"
    sold.write(lambda c: cases.add(c, row.id, None, "it was written within a day"))
    assert one(sold).state == "asked" and len(sold.all(select(Outbox).where(Outbox.subject == f"claim:{row.id}"))) == 2
    sold.write(lambda c: cases.take_answer(c, ClaimAnswer(row.reference, "accepted", "", "sorry", 250, "GBP")))
    assert (one(sold).state, one(sold).offered, claims_in_journal(sold)) == ("accepted", 250, 0)
    # What was promised and does not come is told; what came is in the journal, and in the order's own profit.
    sold.later(days=16)
    with sold.db.reading() as s:
        assert [a.key.kind for a in today.open_alerts(sold.context(s)) if a.key.kind.startswith("claim")] == ["claim_silent"]
    with sold.db.reading() as s:
        before = s.scalar(select(FillPlan.profit))
    sold.write(lambda c: cases.money_came(c, row.id, None, 250))
    assert claims_in_journal(sold) == 250
    with sold.db.reading() as s:
        assert s.scalar(select(FillPlan.profit)) == before + 250
    with pytest.raises(Conflict, match="settled"):
        sold.write(lambda c: cases.money_came(c, row.id, None, 250))
    # A statement has the last word: thirty less, once.
    line = StatementLine("ONE-N-1-1", "refund", -220, "GBP", sold.clock.now())
    sold.write(lambda c: statements.take(c, c.session.get(Supplier, 1), [line]))
    assert claims_in_journal(sold) == 220
    assert [e.kind for e in sold.all(select(ClaimEvent).order_by(ClaimEvent.id))] == [
        "open", "ask", "doubt", "doubt", "doubt", "refused", "evidence", "ask", "accepted", "paid",
    ]  # fmt: skip


def test_a_suppliers_window_for_claims_is_told_before_one_is_opened(sold: Small) -> None:
    def until() -> Any:
        with sold.db.reading() as s:
            return cases.known(sold.context(s), 1).until

    assert until() is None
    with pytest.raises(Invalid, match="at most 3,650"):
        sold.write(lambda c: PolicyChange("supplier", "SUP", {"claim_window": 99_999}).keep(c))
    sold.write(lambda c: PolicyChange("supplier", "SUP", {"claim_window": 30}).keep(c))
    with sold.db.reading() as s:
        bought = s.scalars(select(PurchaseOrder)).one().made_at
        assert until() == house_days.day_of(sold.context(s), bought) + timedelta(days=30)


def test_reminders_go_by_mail_twice(sold: Small) -> None:
    row = sold.write(lambda c: cases.open_claim(c, Start(1, ClaimReason.lost)))
    sold.write(lambda c: cases.ask(c, row.id, None))
    sent = []
    for _ in range(20):
        sold.later(days=1)
        sent.append(sold.write(clock.remind))
    assert sum(sent) == 2
    mails = sold.all(select(Outbox.body).where(Outbox.kind == "mail", Outbox.subject == f"claim:{row.id}"))
    assert [one["subject"].startswith("Reminder") for one in mails] == [False, True, True]


def test_a_part_is_paid_back_once_and_the_rest_later_and_every_sum_has_it(sold: Small) -> None:
    line = one(sold, OrderLine)
    line_total, fees = line.total, line.store_fee + line.payment_fee
    row = sold.write(lambda c: cases.open_claim(c, Start(1, ClaimReason.damaged)))
    with sold.db.reading() as s:
        found = {one.way: one for one in buyer_side.ways(sold.context(s), s.get(Claim, row.id)).costs}
    usual = found[Way.part].terms["part"]
    assert usual == round(line_total * 0.3) and sum(found[Way.part].terms.values()) == found[Way.part].cost
    # The best way that can be done here is the row's step on Today, and no other is done by it.
    with sold.db.reading() as s:
        (row_of_today,) = [a for a in today.open_alerts(sold.context(s)) if a.key.kind == "claim"]
    best = min((one for one in found.values() if one.way in (Way.part, Way.refund, Way.again, Way.ask)), key=lambda one: one.cost)
    assert (row_of_today.key.about[2:] == (best.way.value,)) == (best.way is not Way.ask) and show(best.cost, "GBP") in row_of_today.reason
    before = one(sold, FillPlan).profit
    for wrong in (0, line_total, -5):
        with pytest.raises(Invalid, match="no part"):
            sold.write(lambda c, wrong=wrong: buyer_side.do(c, row.id, None, Way.part, wrong))
    sold.write(lambda c: buyer_side.do(c, row.id, None, Way.part, 700))
    with pytest.raises(Conflict, match="a part was paid back already"):
        sold.write(lambda c: buyer_side.do(c, row.id, None, Way.part))
    line = one(sold, OrderLine)
    goes_back = sum(goes_with(700, line_total, part) for part in (line.tax, fees))
    assert (line.refunded, line.state) == (700, "on_the_road")
    assert one(sold, FillPlan).profit == before - 700 + goes_back
    assert refunds_in_journal(sold) == (-700, goes_with(700, line_total, fees), goes_with(700, line_total, line.tax))
    sold.write(lambda c: buyer_side.do(c, row.id, None, Way.refund))
    assert refunds_in_journal(sold) == (-line_total, fees, line.tax)
    sent = sold.all(select(Outbox.body).where(Outbox.kind == "refund").order_by(Outbox.id))
    assert [body["amounts"] for body in sent] == [[700], [line_total - 700]] and len({body["reference"] for body in sent}) == 2
    assert one(sold).buyer_amount == line_total and one(sold, OrderLine).state == "cancelled"


def goes_with(refund: int, total: int, amount: int) -> int:
    return (2 * amount * refund + total) // (2 * total)


def refunds_in_journal(small: Small) -> tuple[int, ...]:
    """Refunds, the fees that came back, and the tax."""
    with small.db.reading() as s:
        rows = select(func.coalesce(func.sum(JournalEntry.amount), 0)).where(JournalEntry.basis == "refund")
        return tuple(int(s.scalar(rows.where(JournalEntry.kind == kind)) or 0) for kind in ("refund", "fee_back", "tax"))


def test_what_is_done_for_the_buyer_is_done_once(sold: Small) -> None:
    with pytest.raises(Invalid, match="1 to 2"):
        sold.write(lambda c: cases.open_claim(c, Start(1, ClaimReason.lost, units=3)))
    part = sold.write(lambda c: cases.open_claim(c, Start(1, ClaimReason.missing, units=1)))
    with sold.db.reading() as s:
        found = buyer_side.ways(sold.context(s), s.get(Claim, part.id))
    # One of two: half of the line is paid back, and it is not sent again.
    half = {one.way: one for one in found.costs}[Way.refund].terms["refund"]
    assert half * 2 == one(sold, OrderLine).total and Way.again not in found.may and "sent again whole" in found.reason_not[Way.again]
    sold.write(lambda c: cases.drop(c, part.id, None, ""))
    whole = sold.write(lambda c: cases.open_claim(c, Start(1, ClaimReason.lost, wish="again")))
    sold.write(lambda c: cases.ask(c, whole.id, None))
    # Two would be on their way otherwise.
    with pytest.raises(Conflict, match="asked to send it once more"):
        sold.write(lambda c: buyer_side.do(c, whole.id, None, Way.again))
    told = ClaimAnswer(whole.reference, "paid", "", "", None, "GBP", Tracking("RR473124815GB", "Hill Post"))
    sold.write(lambda c: cases.take_answer(c, told))
    closed = sold.all(select(Claim).where(Claim.id == whole.id))[0]
    assert closed.state == "settled" and len(sold.all(select(Parcel))) == 2
    money = sold.write(lambda c: cases.open_claim(c, Start(1, ClaimReason.lost)))
    sold.write(lambda c: buyer_side.do(c, money.id, None, Way.again))
    assert one(sold, OrderLine).state in ("ready", "held")
    with pytest.raises(Conflict, match="sent again"):
        sold.write(lambda c: buyer_side.do(c, money.id, None, Way.refund))
    sold.write(lambda c: cases.drop(c, money.id, None, ""))
    # Nor is the supplier asked for a new one where the buyer has one from us.
    new = sold.write(lambda c: cases.open_claim(c, Start(1, ClaimReason.lost, wish="again")))
    sold.write(lambda c: setattr(c.session.get(Claim, new.id), "buyer", "again"))
    with pytest.raises(Conflict, match="open one for money"):
        sold.write(lambda c: cases.ask(c, new.id, None))
    # Of what was never bought nobody can be asked.
    sold.order("N-2", ("S-2", 1, 2000))
    with pytest.raises(Conflict, match="nobody to claim it from"):
        sold.write(lambda c: cases.open_claim(c, Start(2, ClaimReason.lost)))


def test_what_came_back_once_is_not_asked_for_again_and_two_are_never_open_for_one_line(sold: Small) -> None:
    first = sold.write(lambda c: cases.open_claim(c, Start(1, ClaimReason.late)))
    with pytest.raises(Conflict, match="is open for this already"):
        sold.write(lambda c: cases.open_claim(c, Start(1, ClaimReason.lost)))
    sold.write(lambda c: cases.ask(c, first.id, None))
    sold.write(lambda c: cases.money_came(c, first.id, None, 100))
    second = sold.write(lambda c: cases.open_claim(c, Start(1, ClaimReason.damaged)))
    assert (second.paid, second.amount) == (first.paid, first.paid - 100)
    sold.write(lambda c: cases.drop(c, second.id, None, ""))
    with pytest.raises(Invalid, match="of it came back"):
        sold.write(lambda c: cases.open_claim(c, Start(1, ClaimReason.damaged, amount=first.paid)))
    third = sold.write(lambda c: cases.open_claim(c, Start(1, ClaimReason.damaged, amount=50)))
    # What was let go is not taken up again beside another.
    act = sold.all(select(AuditEntry).where(AuditEntry.kind == "claim.drop"))[0]
    with pytest.raises(Conflict, match=third.reference):
        sold.write(lambda c: undo.undo(c, act.id))


def test_a_letter_names_the_goods_of_its_own_line(small: Small) -> None:
    small.write(lambda c: setattr(c.session.get(Supplier, 1), "kind", "sheet"))
    small.order("N-1", ("S-1", 1, 2000), ("S-2", 1, 3000))
    small.write(lambda c: purchase_orders.send(c, [1]))
    small.write(lambda c: supplier_answers.take_answer(c, PurchaseAnswer("ONE-N-1-1", "S-77", "accepted", "", None, None)))
    for line in small.all(select(OrderLine).order_by(OrderLine.id)):
        row = small.write(lambda c, line=line: cases.open_claim(c, Start(line.id, ClaimReason.damaged)))
        with small.db.reading() as s:
            _, text = letters.of_one(small.context(s), row, s.get(Supplier, row.supplier_id))
            bought = s.scalar(
                select(Item.number).join(PurchaseLine, PurchaseLine.item_id == Item.id).where(PurchaseLine.order_line_id == line.id)
            )
        assert f"1 × {bought} " in text


def test_an_item_that_comes_broken_surely_more_often_is_told_and_its_lanes_are_shut(small: Small) -> None:
    """Of S-1's item 5 of 12 came broken, of S-2's 1 of 18: the one is told, the other is chance."""
    small.respond()
    numbers = {"S-1": range(12), "S-2": range(12, 30)}
    ids = [small.order(f"N-{n}", (sku, 1, 2000)).id for sku, of in numbers.items() for n in of]
    small.write(lambda c: purchase_orders.send(c, ids))
    small.write(lambda c: c.session.execute(update(PurchaseOrder).values(state="shipped")))
    lines = {sku: small.all(select(OrderLine.id).where(OrderLine.sku_code == sku).order_by(OrderLine.id)) for sku in numbers}

    def claim(line: int, reason: ClaimReason) -> None:
        small.write(lambda c: cases.open_claim(c, Start(line, reason)))

    claim(lines["S-2"][0], ClaimReason.damaged)
    for line in lines["S-1"][:2]:
        claim(line, ClaimReason.damaged)
    # What the carrier lost says nothing of the item.
    for line in lines["S-1"][6:10]:
        claim(line, ClaimReason.lost)
    assert small.write(item_rates.worse) == [], "two are not enough"
    for line in lines["S-1"][2:5]:
        claim(line, ClaimReason.defective)
    (found,) = small.write(item_rates.worse)
    assert (found.item.number, found.bad, found.count) == ("I-1", 5, 12) and found.lanes == [small.lane(1).id] and found.spared == 0
    alert = next(one for one in small.write(today.open_alerts) if one.kind == "Broken")
    assert (
        "5 of 12" in alert.message and alert.per_day and alert.station == "lanes" and "1 of their SKUs have no other lane" in alert.reason
    )
    told = small.write(lambda c: today.do_step(c, alert.key))
    assert told == "1 lane to I-1 shut" and small.lane(1).state == "shut" and small.write(item_rates.worse) == []
    assert small.lane(2).state != "shut"


def test_many_are_claimed_in_one_mail_and_each_is_answered_by_its_number(sold: Small) -> None:
    more = [sold.order(f"N-{n}", ("S-2", 1, 2000)).id for n in range(2, 4)]
    sold.write(lambda c: purchase_orders.send(c, more))
    sold.write(lambda c: c.session.execute(update(PurchaseOrder).values(state="shipped")))
    lines = sold.all(select(OrderLine.id).order_by(OrderLine.id))
    rows = [sold.write(lambda c, line=line: cases.open_claim(c, Start(line, ClaimReason.damaged))) for line in lines]
    sold.write(lambda c: cases.drop(c, rows[0].id, None, "not worth it"))
    before = len(sold.all(select(Outbox).where(Outbox.kind == "mail")))
    n, left = sold.write(lambda c: cases.ask_many(c, [row.id for row in rows] + [rows[1].id]))
    assert n == 2 and len(left) == 1 and left[0].endswith("it is dropped")
    mails = sold.all(select(Outbox).where(Outbox.kind == "mail").order_by(Outbox.id))[before:]
    assert len(mails) == 1 and mails[0].body["to"] == "claims@supply.example"
    text = mails[0].body["body"]
    assert all(text.count(row.reference) == 1 for row in rows[1:]) and rows[0].reference not in text
    assert f"In all: {show(rows[1].amount + rows[2].amount, 'GBP')}." in text
    asked = sold.all(select(Claim).where(Claim.id != rows[0].id).order_by(Claim.id))
    assert {row.state for row in asked} == {"asked"} and all(row.due for row in asked)
    sold.write(lambda c: cases.take_answer(c, ClaimAnswer(asked[0].reference, "paid", "", "", asked[0].amount, "GBP")))
    assert [row.state for row in sold.all(select(Claim).order_by(Claim.id))] == ["dropped", "settled", "asked"]
    with pytest.raises(NotAllowed):
        sold.write(lambda c: cases.ask(c, asked[1].id, None))


CREDIT = """<CreditNote xmlns="urn:oasis:names:specification:ubl:schema:xsd:CreditNote-2"
  xmlns:cac="urn:oasis:names:specification:ubl:schema:xsd:CommonAggregateComponents-2"
  xmlns:cbc="urn:oasis:names:specification:ubl:schema:xsd:CommonBasicComponents-2">
  <cbc:ID>CN-7</cbc:ID><cbc:IssueDate>2026-03-14</cbc:IssueDate>
  <cac:AccountingSupplierParty/><cac:AccountingCustomerParty/>
  {tax}<cac:LegalMonetaryTotal><cbc:PayableAmount currencyID="{currency}">{total}</cbc:PayableAmount></cac:LegalMonetaryTotal>
  {lines}
</CreditNote>"""
LINE = """<cac:CreditNoteLine><cbc:ID>{n}</cbc:ID><cbc:LineExtensionAmount currencyID="{currency}">{amount}</cbc:LineExtensionAmount>
  <cac:DocumentReference><cbc:ID>{claim}</cbc:ID></cac:DocumentReference></cac:CreditNoteLine>"""


def credit(*lines: tuple[str, str], total: str, tax: str = "", currency: str = "GBP") -> bytes:
    made = "".join(LINE.format(n=n, claim=claim, amount=amount, currency=currency) for n, (claim, amount) in enumerate(lines, 1))
    taxed = f'<cac:TaxTotal><cbc:TaxAmount currencyID="{currency}">{tax}</cbc:TaxAmount></cac:TaxTotal>' if tax else ""
    return CREDIT.format(lines=made, total=total, tax=taxed, currency=currency).encode()


def test_a_supplier_by_ubl_gets_a_receipt_advice_and_its_credit_note_settles_the_claim(sold: Small) -> None:
    sold.write(lambda c: setattr(c.session.get(Supplier, 1), "order_form", "ubl"))
    row = sold.write(lambda c: cases.open_claim(c, Start(1, ClaimReason.damaged, words="both cracked, <see picture>")))
    note = claim_replies.note_of(credit((row.reference, "1.00"), total="1.00"))
    supplier = one(sold, Supplier)
    # Before anything was asked it is looked at by a person.
    assert sold.write(lambda c: claim_replies.of_credit_note(c, supplier, note)) == (0, [f"{row.reference}: nothing was asked of you yet"])
    sold.write(lambda c: cases.ask(c, row.id, None))
    body = sold.all(select(Outbox.body).where(Outbox.kind == "mail"))[-1]
    ((name, kind, text),) = body["files"]
    advice = ubl.document(text.encode(), ("ReceiptAdvice",), "a ReceiptAdvice")
    assert (name, kind) == (f"{row.reference}.xml", "application/xml") and "CreditNote" in body["body"]
    line = advice.find(f"{{{ubl.CAC}}}ReceiptLine")
    assert ubl.text_at(line, "RejectedQuantity") == "2" and ubl.text_at(line, "RejectReason") == "damaged"
    assert (
        ubl.text_at(line, "DocumentReference/ID") == row.reference
        and ubl.text_at(line, "OrderLineReference/OrderReference/ID") == "ONE-N-1-1"
    )
    assert "both cracked, <see picture>" in ubl.text_at(line, "Note")
    for wrong, why in (
        (credit((row.reference, "1.00"), total="2.00"), "add up"),
        (credit((row.reference, "-1.00"), total="-1.00"), "nothing back"),
        (credit((row.reference, "1.00"), total="1.00").replace(b"GBP", b"", 1), "one is read at a time|currency"),
        (b"<CreditNote xmlns='urn:oasis:names:specification:ubl:schema:xsd:CreditNote-2'/>", "no valid CreditNote"),
    ):
        with pytest.raises(Invalid, match=why):
            claim_replies.note_of(wrong)
    # Another's claim, other money, and far too much are told and not taken.
    for lines, currency, why in (
        (("SHOP-1-C0000", "1.00"), "GBP", "no claim of yours"),
        ((row.reference, "1.00"), "EUR", "was paid in GBP"),
        ((row.reference, "900.00"), "GBP", "not taken"),
    ):
        told = claim_replies.note_of(credit(lines, total=lines[1], currency=currency))
        n, bad = sold.write(lambda c, told=told: claim_replies.of_credit_note(c, supplier, told))
        assert n == 0 and why in bad[0]
    paid = claim_replies.note_of(credit((row.reference, "3.00"), total="3.60", tax="0.60"))
    assert sold.write(lambda c: claim_replies.of_credit_note(c, supplier, paid)) == (1, [])
    done = one(sold)
    assert (done.state, done.came_back, done.their_number) == ("settled", 360, "CN-7") and claims_in_journal(sold) == 360
    assert "settled already" in sold.write(lambda c: claim_replies.of_credit_note(c, supplier, paid))[1][0]


def test_a_pdf_is_evidence_as_pictures_of_its_first_pages_and_nothing_else_of_it(sold: Small) -> None:
    paper = FPDF()
    paper.set_author("Somebody Somewhere")
    for n in range(6):
        paper.add_page()
        paper.set_font("helvetica", size=40)
        paper.text(30, 60, f"Page {n + 1}")
    made = images.evidence(bytes(paper.output()))
    assert len(made) == 4 and {one.kind for one in made} == {"image/jpeg"} and all(b"Somebody" not in one.data for one in made)
    with Image.open(io.BytesIO(made[0].data)) as image:
        assert min(image.convert("L").getdata()) < 60 < 200 < max(image.convert("L").getdata())
    for wrong in (b"%PDF-1.7 torn", bytes(paper.output())[:400], b"%PDF-" + b"\x00" * 5000):
        with pytest.raises(Invalid, match="PDF"):
            images.evidence(wrong)
    row = sold.write(lambda c: cases.open_claim(c, Start(1, ClaimReason.damaged)))
    sold.write(lambda c: cases.add(c, row.id, None, pictures=[images.keep(c, one, is_evidence=True) for one in made]))
    assert len(one(sold).evidence) == 4
    with pytest.raises(Invalid, match="8 pictures"):
        more = [one._replace(data=one.data + bytes([n])) for n, one in enumerate(made * 2)]
        sold.write(lambda c: cases.add(c, row.id, None, pictures=[images.keep(c, one, is_evidence=True) for one in more]))


def test_claims_make_a_lane_riskier_by_what_is_not_paid_back(small: Small) -> None:
    for n in range(12):
        small.order(f"N-{n}", (f"S-{n % 2 + 1}", 1, 2000))
    small.write(lambda c: purchase_orders.send(c, list(range(1, 13))))
    for place, purchase in enumerate(small.all(select(PurchaseOrder).order_by(PurchaseOrder.id))):
        told = PurchaseAnswer(purchase.reference, "", "shipped", "", None, Tracking(s10(place), "Hill Post"))
        small.write(lambda c, told=told: supplier_answers.take_answer(c, told))
    losses = lambda: small.write(lambda c: {kind.__tablename__: dict(map(reversed, rows)) for kind, rows in lane_losses.fresh(c).items()})  # noqa: E731
    assert losses() == {"lane": {}, "supplier": {}}
    before = risk_of(small, "R-0", "S-1"), risk_of(small, "R-1", "S-2")
    for line in (1, 3, 5, 7):
        row = small.write(lambda c, line=line: cases.open_claim(c, Start(line, ClaimReason.damaged)))
        small.write(lambda c, row=row: cases.drop(c, row.id, None, "refused by mail"))
    # One who only changed their mind says nothing of the goods.
    small.write(lambda c: cases.open_claim(c, Start(2, ClaimReason.changed_mind)))
    found = losses()
    ((lane, of_lane),), ((_, of_supplier),) = found["lane"].items(), found["supplier"].items()
    # 4 of 6 of the first item, 4 of 12 of all: an item is drawn to its supplier, whose answers are not known.
    share = Fraction(4 + Fraction(1, 3) * 20, 26)
    assert small.lane(1).id == lane and of_lane == round(share * 1_000_000) and of_supplier == 333_333
    for kind, rows in small.write(lane_losses.fresh).items():
        small.write(lambda c, kind=kind, rows=rows: lane_losses.save(c, kind, rows))
    assert losses() == {"lane": {}, "supplier": {}}
    # Of 1.00 that the first item costs so much is lost by its own record, of 2.00 that the other costs by its supplier's.
    after = risk_of(small, "R-2", "S-1"), risk_of(small, "R-3", "S-2")
    assert (after[0] - before[0], after[1] - before[1]) == (round(share * 100), 67)


def s10(serial: int) -> str:
    digits = f"{70_000_000 + serial:08d}"
    rest = 11 - sum(int(d) * w for d, w in zip(digits, (8, 6, 4, 2, 3, 5, 9, 7), strict=True)) % 11
    return f"RR{digits}{ {10: 0, 11: 5}.get(rest, rest) }GB"


def risk_of(small: Small, number: str, sku: str) -> int:
    """What a new order of a SKU carries of risk."""
    small.order(number, (sku, 1, 2000))
    (order,) = small.all(select(Order.id).where(Order.number == number))
    (plan,) = small.all(select(FillPlan.lanes).where(FillPlan.order_id == order))
    return max(int(lane["risk"]) for lane in plan)
