"""What is held of a buyer is handed out whole, and on their wish nothing tells any more who bought."""

from __future__ import annotations

import json
import sqlite3
from contextlib import closing

import pytest
from sqlalchemy import select, update

from amber_lane.connectors.protocols import Address, StoreOrder, StoreOrderLine
from amber_lane.data.orders import Order, OrderLine, PurchaseOrder
from amber_lane.data.outbox import AuditEntry, Job, Outbox, SheetOut
from amber_lane.data.setup import Inbox, Letter, Store
from amber_lane.data.transit import Message
from amber_lane.services.base.context import Context
from amber_lane.services.base.errors import Conflict
from amber_lane.services.orders import buyer_data, orders
from amber_lane.services.outbox import queue
from amber_lane.services.purchasing import purchase_orders

from ...small import Small

OTTILIE = Address("Ottilie Marsh", "12 Kiln Lane", "Ely", "CB7 4AA", "GB", phone="01632 960111", email="Ottilie.Marsh@post.example")
FRIEND = Address("Edda Fenn", "14 Kiln Lane", "Ely", "CB7 4AA", "GB", phone="01632 960112", email="edda@post.example")
HERS = ("ottilie", "kiln lane", "960111")


@pytest.fixture
def sold(small: Small) -> Small:
    """Two orders of hers and a neighbour's, bought, with a mail, a mended address and a sheet for the supplier that names both."""
    small.respond()
    for number, buyer in (("A-1", OTTILIE), ("A-2", OTTILIE), ("A-3", FRIEND)):
        small.order(number, ("S-1", 1, 2000), buyer=buyer)
    given = {name: getattr(OTTILIE, name) for name in ("name", "city", "postcode", "country", "phone")}
    small.write(
        lambda context: orders.mend_address(context, 1, context.get(Order, 1, "order").version, {**given, "address_1": "12 Old Kiln Lane"})
    )

    def buy(context: Context) -> None:
        purchase_orders.send(context, purchase_orders.ready_orders(context), "sent by hand")
        for order in context.session.scalars(select(Order)):
            mail = Message(
                order_id=order.id, kind="shipped", to=order.mail, subject=f"For {order.buyer}", body=f"Hello {order.buyer}", at=context.now
            )
            context.session.add(mail)
            context.session.flush()
            queue.mail(context, f"mail-{order.number}", f"mail:{mail.id}", order.mail, mail.subject, mail.body, mail.id)
        rows = [["A-1", "Ottilie Marsh", "CB7 4AA"], ["A-3", "Edda Fenn", "CB7 4AA"]]
        reference = context.session.scalars(select(PurchaseOrder.reference).where(PurchaseOrder.order_id == 1)).one()
        context.session.add(Inbox(id=1, name="Answers", kind="pop"))
        context.session.flush()
        letter = {"sender": "supplier", "subject": reference, "body": "the parcel of Ottilie Marsh", "message": "", "needs": False}
        context.session.add(Letter(inbox_id=1, uid="1", at=context.now, **letter))
        job = Job(key="take-orders-1", kind="sheet.take", title="Taking in orders", body={"sheet": "orders"}, made_at=context.now)
        job.result = {"changes": [{"message": "order A-1: Ottilie Marsh, 1 line"}]}
        context.session.add(job)
        context.session.add(
            SheetOut(
                owner="supplier",
                owner_id=1,
                what="purchases",
                at=context.now,
                who="",
                header=["order", "name", "postcode"],
                rows=rows,
                outbox=[],
            )
        )

    small.write(buy)
    return small


def over(small: Small) -> None:
    small.write(lambda context: context.session.execute(update(OrderLine).values(state="arrived")))


def test_all_that_is_held_is_handed_out(sold: Small) -> None:
    told = sold.write(lambda context: buyer_data.held_data(context, 1))
    assert [one["order"] for one in told["orders"]] == ["A-1", "A-2"], "hers, and nobody else's"
    text = json.dumps(told)
    assert (
        all(word in text for word in ("12 Kiln Lane", "12 Old Kiln Lane", "960111", "Hello Ottilie Marsh", "20.00")) and "Edda" not in text
    )
    assert sold.all(select(AuditEntry).where(AuditEntry.kind == "buyer.told"))


def test_a_buyer_is_erased_everywhere_and_the_sums_stay(sold: Small) -> None:
    with pytest.raises(Conflict, match="still under way"):
        sold.write(lambda context: buyer_data.erase(context, 1))
    over(sold)
    sums = [(one.paid, one.net_revenue) for one in sold.all(select(OrderLine))]
    bought = [(one.goods, one.shipping) for one in sold.all(select(PurchaseOrder))]
    sold.write(lambda context: buyer_data.erase(context, 1))
    # Not a single column of a single table holds a word of hers, while the neighbour's all stand.
    with closing(sqlite3.connect(sold.db.engine.url.database or "")) as raw:
        for (table,) in raw.execute("select name from sqlite_master where type = 'table' and name not like 'sqlite_%'").fetchall():
            text = str(raw.execute(f'select * from "{table}"').fetchall()).lower()
            assert not [word for word in HERS if word in text.replace("14 kiln lane", "")], table
    assert (
        "Edda Fenn" in str([one.body for one in sold.all(select(Outbox))])
        and ["A-3", "Edda Fenn", "CB7 4AA"] in sold.all(select(SheetOut))[0].rows
    )
    assert sums == [(one.paid, one.net_revenue) for one in sold.all(select(OrderLine))]
    assert bought == [(one.goods, one.shipping) for one in sold.all(select(PurchaseOrder))]
    assert [one.country for one in sold.all(select(Order))] == ["GB"] * 3
    # What was still to be mailed to her goes nowhere; the neighbour's mail does.
    left = {row.key: (row.state, row.body["to"]) for row in sold.all(select(Outbox).where(Outbox.kind == "mail"))}
    assert left["mail-A-3"] == ("waiting", "edda@post.example") and left["mail-A-1"] == left["mail-A-2"] == ("dropped", "erased")
    with pytest.raises(Conflict, match="already"):
        sold.write(lambda context: buyer_data.erase(context, 2))
    assert not sold.all(select(AuditEntry).where(AuditEntry.kind == "order.address", AuditEntry.undo == "open")), "nothing brings it back"


def test_a_store_that_tells_the_order_again_brings_the_buyer_not_back(sold: Small) -> None:
    over(sold)
    sold.write(lambda context: buyer_data.erase(context, 1))
    again = StoreOrder("A-1", sold.clock.now(), "GBP", OTTILIE, [StoreOrderLine(1, "S-1", 1, 2000, "S-1")])
    sold.write(lambda context: orders.take_page(context, context.get(Store, 1, "store"), [again], None))
    assert sold.all(select(Order.buyer).order_by(Order.id)) == ["erased", "erased", "Edda Fenn"]
