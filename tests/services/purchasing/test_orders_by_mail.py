"""Purchase orders as documents: by mail as a sheet or UBL, asked back by mail, with packing slips; and the answers that come back."""

from __future__ import annotations

import csv
import io

import pytest
from lxml import etree
from sqlalchemy import select

from amber_lane.connectors.protocols import PurchaseAnswer
from amber_lane.data.orders import Order, OrderLine, PurchaseOrder
from amber_lane.data.outbox import Outbox
from amber_lane.data.setup import Mailbox
from amber_lane.services.base.context import Context
from amber_lane.services.base.errors import Conflict, Invalid, NotFound
from amber_lane.services.purchasing import po_documents, supplier_answers
from amber_lane.sheets import ubl

from ...pdf_texts import texts
from ...small import Small
from .steps import again, by_mail, send, states, wants


def test_orders_by_mail_go_out_in_one_mail_and_their_answers_move_them(small: Small) -> None:
    by_mail(small, "sheet")
    one, two = small.order("A", ("S-1", 1, 900)), small.order("B", ("S-1", 1, 900), ("S-2", 2, 900))
    assert len(send(small, one.id, two.id)) == 2 and send(small, one.id, two.id) == []
    mails = small.all(select(Outbox).where(Outbox.kind == "mail"))
    assert [mail.body["to"] for mail in mails] == ["orders@supply.example"]
    rows = list(csv.DictReader(io.StringIO(mails[0].body["files"][0][2].lstrip("\ufeff"))))
    assert [(row["purchase_order"], row["item"], row["phone"]) for row in rows] == [
        ("ONE-A-1", "I-1", ""), ("ONE-B-1", "I-1", ""), ("ONE-B-1", "I-2", ""),
    ]  # fmt: skip
    assert "Clear skies, Wren Sorrel!" in rows[0]["note"] and "No adverts" in rows[0]["note"]
    sheet = "purchase_order,answer,reason,billed,line_no\nONE-A-1,accepted,,2.40,\nONE-B-1,refused,sold out,,2\nONE-X,accepted,,,\n"
    checked = small.sheet("answers", sheet)
    assert [why for _, why in checked.bad] == ["there is no open purchase order 'ONE-X'"]
    assert small.all(select(PurchaseOrder.billed).where(PurchaseOrder.reference == "ONE-A-1")) == [240]
    assert states(small, one) == ["with_supplier"] and states(small, two) == ["with_supplier", "refused"], "the rest of it stands"


def test_a_purchase_order_is_a_ubl_document_and_its_answers_are_read_back(small: Small) -> None:
    by_mail(small, "ubl")
    order = small.order("A", ("S-1", 2, 900), ("S-3", 1, 900))
    (made,) = send(small, order.id)
    (mail,) = small.all(select(Outbox).where(Outbox.kind == "mail"))
    text = mail.body["files"][0][2]
    places = [text.index(word) for word in ("<cbc:UBLVersionID>2.1", "<cbc:ID>ONE-A-1", "<cbc:IssueDate>2026-03-12", "<cac:BuyerCustomerParty>",
              "<cac:SellerSupplierParty>", "<cac:Delivery>", "<cac:OrderLine>", ">I-1</cbc:ID>", ">I-3</cbc:ID>")]  # fmt: skip
    assert places == sorted(places) and "Clear skies, Wren Sorrel!" in text and 'currencyID="GBP"' in text

    def document(kind: str, inside: str) -> bytes:
        spaces = f'xmlns="{ubl.URN}{kind}-2" xmlns:cac="{ubl.CAC}" xmlns:cbc="{ubl.CBC}"'
        return f"<{kind} {spaces}>{inside}</{kind}>".encode()

    about, day = "<cac:OrderReference><cbc:ID>{}</cbc:ID></cac:OrderReference>", "<cbc:IssueDate>2026-03-12</cbc:IssueDate>"
    item, ends = "<cac:Item><cbc:Name>lamp</cbc:Name></cac:Item>", "<cac:SellerSupplierParty/><cac:BuyerCustomerParty/>"
    line = (
        "<cac:OrderLine><cac:LineItem><cbc:ID>2</cbc:ID><cbc:Note>gone</cbc:Note><cbc:LineStatusCode>7</cbc:LineStatusCode>"
        f"{item}</cac:LineItem></cac:OrderLine>"
    )
    bill = '<cac:LegalMonetaryTotal><cbc:PayableAmount currencyID="GBP">3.10</cbc:PayableAmount></cac:LegalMonetaryTotal>'
    head = f"<cbc:ID>R-9</cbc:ID><cbc:SalesOrderID>S-9</cbc:SalesOrderID>{day}"
    taken = document("OrderResponse", f"{head}<cbc:OrderResponseCode>CA</cbc:OrderResponseCode>{about.format('ONE-A-1')}{ends}{bill}{line}")
    assert ubl.faults(etree.fromstring(text.encode())) == "", "what we send is valid by the standard's own schema"

    def bring(data: bytes) -> list[PurchaseAnswer]:
        def do(context: Context) -> list[PurchaseAnswer]:
            found = po_documents.answers_of(context, po_documents.read(data))
            for one in found:
                supplier_answers.take_answer(context, one)
            return found

        return small.write(do)

    bring(taken)
    assert states(small, order) == ["with_supplier", "refused"]
    sent = f"<cbc:ID>D-1</cbc:ID>{day}" + about.format("ONE-A-1") + (
        "<cac:DespatchSupplierParty/><cac:DeliveryCustomerParty/>"
        "<cac:Shipment><cbc:ID>1</cbc:ID><cac:Delivery><cbc:TrackingID>RR473124829GB</cbc:TrackingID><cac:CarrierParty><cac:PartyName>"
        "<cbc:Name>Hill Post</cbc:Name></cac:PartyName></cac:CarrierParty></cac:Delivery></cac:Shipment><cac:DespatchLine><cbc:ID>1</cbc:ID>"
        f"<cac:OrderLineReference><cbc:LineID>1</cbc:LineID></cac:OrderLineReference>{item}</cac:DespatchLine>"
    )  # fmt: skip
    bring(document("DespatchAdvice", sent))
    bring(document("DespatchAdvice", sent))
    (row,) = small.all(select(PurchaseOrder).where(PurchaseOrder.id == made.id))
    assert (row.state, row.billed, row.their_number) == ("shipped", 310, "D-1") and states(small, order)[0] == "on_the_road"
    odd = f"<cbc:ID>R-1</cbc:ID>{day}<cbc:OrderResponseCode>ZZ</cbc:OrderResponseCode>{about.format('NO')}{ends}"
    for wrong, told in (
        (b"<x/>", "not an OrderResponse"), (b"no", "not XML"), (document("OrderResponse", odd), "code 'ZZ'"),
        (document("DespatchAdvice", sent.replace("ONE-A-1", "NO")), "no purchase order"),
        (document("OrderResponse", f"{head}{about.format('ONE-A-1')}{ends}{bill}<cbc:ID>2</cbc:ID>"), "no valid OrderResponse.*line 1.*ID"),
        (b'<!DOCTYPE a [<!ENTITY b "c">]>' + taken, "definitions"),
    ):  # fmt: skip
        with pytest.raises(Invalid, match=told):
            bring(wrong)


def test_who_takes_orders_by_mail_is_asked_to_stop_by_mail_once_and_without_an_address_by_a_person(small: Small) -> None:
    by_mail(small, "sheet")
    order, other, gone = (small.order(name, ("S-1", 1, 900)) for name in "ABC")
    made = send(small, order.id, other.id, gone.id)
    small.sheet("answers", "purchase_order,answer,reason,billed,tracking_number,carrier\nONE-C-1,shipped,,,RR473124829GB,Hill Post\n")
    for _ in range(2):
        again(small, "A", cancelled=True)
        again(small, "C", cancelled=True)
    (mail,) = small.all(select(Outbox).where(Outbox.kind == "mail", Outbox.key.like("recall-%")))
    assert mail.key == f"recall-{made[0].reference}" and mail.body["to"] == "orders@supply.example"
    assert f"Please stop {made[0].reference}" in mail.body["subject"] and mail.body["key"] in mail.body["body"]
    assert small.all(select(Outbox).where(Outbox.kind == "recall")) == [], "there is no interface that could be asked"
    assert (wants(small, order), wants(small, gone)) == ("cancel", "return")
    assert "Supply House is asked to let it go" in small.all(select(Order.wants_message).where(Order.id == order.id))[0]
    # No mailbox, nobody is written to: a person is told to do it.
    small.write(lambda context: context.session.delete(context.get(Mailbox, 1, "mailbox")))
    again(small, "B", cancelled=True)
    assert wants(small, other) == "cancel"
    assert "ask Supply House yourself to let it go" in small.all(select(Order.wants_message).where(Order.id == other.id))[0]
    # The supplier's own word by its sheet ends it: nothing is sent, the store pays back, and nobody else is asked for it.
    small.sheet("answers", "purchase_order,answer,reason\nONE-A-1,refused,stopped\n")
    assert states(small, order) == ["cancelled"] and wants(small, order) == ""
    assert "cancel-1-A" in small.all(select(Outbox.key)) and len(small.all(select(PurchaseOrder))) == 3


def test_a_packing_slip_names_the_store_and_what_was_ordered_and_neither_price_nor_supplier(small: Small) -> None:
    by_mail(small, "sheet")
    order = small.order("A", ("S-1", 2, 947), ("S-3", 1, 1283))
    (made,) = send(small, order.id)
    with small.db.reading() as s:
        slip = po_documents.of_purchase(small.context(s), made.id, "pdf")
        with pytest.raises(Conflict, match="as xml"):
            po_documents.of_purchase(small.context(s), made.id, "docx")
        with pytest.raises(NotFound):
            po_documents.of_purchase(small.context(s), made.id + 1, "pdf")
    assert (slip.name, slip.kind) == ("ONE-A-1-slip.pdf", "application/pdf")
    (page,) = texts(slip.data)
    for word in ("First shop", "Wren Sorrel", "4 Row", "Whitby", "YO21 3PR", "Clear skies, Wren Sorrel!"):
        assert word in page, page
    lines = small.all(select(OrderLine).where(OrderLine.order_id == order.id).order_by(OrderLine.line_no))
    assert all(f"{line.quantity} × {line.title}" in page or f"{line.quantity} {line.title}" in page for line in lines), page
    for hidden in ("Supply House", "SUP", "9.47", "12.83", "£", "I-1", "wren@post.example"):
        assert hidden not in page, f"{hidden} is nothing for the buyer"
