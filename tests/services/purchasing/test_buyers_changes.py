"""What buyers change or cancel: before buying it is taken, after it the supplier is asked and a person is told, whoever speaks first."""

from __future__ import annotations

from dataclasses import replace
from fractions import Fraction

import pytest
from sqlalchemy import select

from amber_lane.connectors.protocols import PurchaseAnswer, StoreOrder, StoreOrderLine
from amber_lane.data.orders import Order, OrderLine, PurchaseLine, PurchaseOrder
from amber_lane.data.outbox import Outbox
from amber_lane.data.setup import Store
from amber_lane.services.base.context import Context
from amber_lane.services.base.errors import Conflict
from amber_lane.services.mapping import lanes
from amber_lane.services.orders import cancellations, orders
from amber_lane.services.outbox import queue
from amber_lane.services.pricing.drafts import PolicyChange
from amber_lane.services.purchasing import purchase_orders

from ...small import BUYER, Small
from .steps import again, answer, holds, moved, send, states, wants


def test_a_buyers_change_before_buying_is_taken_and_after_it_a_person_is_told(small: Small) -> None:
    order = small.order("A", ("S-1", 1, 900), ("S-2", 1, 900))
    again(small, "A", ("S-1", 3, 900), buyer=replace(BUYER, address_1="9 Row"))
    assert states(small, order) == ["ready", "cancelled"]
    assert small.all(select(OrderLine.quantity).where(OrderLine.sku_code == "S-1")) == [3]
    made = send(small, order.id)
    assert small.all(select(Outbox).where(Outbox.key == made[0].reference))[0].body["address"]["address_1"] == "9 Row"
    answer(small, made[0].reference, "accepted")
    again(small, "A", ("S-1", 2, 900), buyer=replace(BUYER, address_1="9 Row"))
    row = small.all(select(Order))[0]
    assert row.wants == "change" and "line 1" in row.wants_message and states(small, order)[0] == "with_supplier"
    small.write(lambda context: cancellations.close_wish(context, order.id))
    assert small.all(select(Order.wants)) == [""]


def test_a_cancelled_order_is_stopped_asked_back_or_comes_back(small: Small) -> None:
    waiting, taken, gone = (small.order(name, ("S-1", 1, 900)) for name in ("W", "T", "G"))
    made = {one.order_id: one.reference for one in send(small, waiting.id, taken.id, gone.id)}
    answer(small, made[taken.id], "accepted")
    for name in ("W", "T"):
        again(small, name, cancelled=True)
        again(small, name, cancelled=True)
    # What had not gone out was stopped; of the other the supplier is asked, once.
    assert states(small, waiting) == ["cancelled"] and states(small, taken) == ["with_supplier"]
    assert small.all(select(Outbox.key).where(Outbox.kind == "recall")) == [f"recall-{made[taken.id]}"]
    small.write(lambda context: cancellations.take_recall(context, PurchaseAnswer(made[taken.id], "", "withdrawn", "", None, None)))
    small.write(lambda context: cancellations.take_recall(context, PurchaseAnswer(made[taken.id], "", "withdrawn", "", None, None)))
    assert states(small, taken) == ["cancelled"] and not small.all(
        select(PurchaseLine.id).where(PurchaseLine.live, PurchaseLine.purchase_id == 2)
    )
    answer(small, made[gone.id], "accepted")
    again(small, "G", cancelled=True)
    small.write(lambda context: cancellations.not_let_go(context, made[gone.id], "it is packed"))
    row = small.all(select(Order).where(Order.number == "G"))[0]
    assert row.wants == "return" and states(small, gone) == ["with_supplier"]


def test_a_buyer_who_cancels_what_was_asked_back_already_holds_up_nobody(small: Small) -> None:
    order = small.order("A", ("S-1", 1, 1900))
    (made,) = send(small, order.id)
    answer(small, made.reference, "accepted", billed=230 + 400)
    small.write(lambda context: cancellations.ask_dearer_back(context, made.id))
    again(small, "A", cancelled=True)
    small.write(lambda context: cancellations.take_recall(context, PurchaseAnswer(made.reference, "", "withdrawn", "", None, None)))
    assert states(small, order) == ["cancelled"] and len(small.all(select(Outbox).where(Outbox.kind == "recall"))) == 1


def test_what_is_refused_of_a_cancelled_order_is_bought_nowhere_else(small: Small) -> None:
    """The supplier's refusal and the buyer's cancelling cross: nothing of it may be planned or bought anew."""
    small.write(lambda context: PolicyChange("house", "", {"send": "once"}).keep(context))
    small.write(lambda context: lanes.open_lane(context, 1, [lanes.LaneItem(2, Fraction(1))], use=1))
    orders_ = [small.order(name, ("S-1", 1, 900), ("S-2", 1, 900)) for name in ("ALL", "PART")]
    made = [one.reference for one in send(small, *(one.id for one in orders_))]
    for name, reference in zip(("ALL", "PART"), made, strict=True):
        answer(small, reference, "received")
        again(small, name, cancelled=True)
    answer(small, made[0], "refused", message="sold out")
    answer(small, made[1], "accepted", lacking=((1, "sold out"),))
    assert states(small, orders_[0]) == ["cancelled", "cancelled"] and states(small, orders_[1]) == ["cancelled", "with_supplier"]
    assert small.write(purchase_orders.due_orders) == [] and len(small.all(select(PurchaseOrder))) == 2
    assert small.all(select(Order.wants).order_by(Order.id)) == ["", "cancel"]
    assert "cancel-1-ALL" in small.all(select(Outbox.key)), "the store refunds what is not sent"


def test_a_change_that_was_not_taken_ends_with_the_cancelled_order(small: Small) -> None:
    order = small.order("A", ("S-1", 1, 900))
    (made,) = send(small, order.id)

    def die(context: Context) -> int:
        row = context.session.scalars(select(Outbox).where(Outbox.key == made.reference)).one()
        row.state, row.tries = "dead", 3
        return row.id

    row = small.write(die)
    again(small, "A", cancelled=True)
    with pytest.raises(Conflict, match="the buyer cancelled"):
        small.write(lambda context: queue.retry(context, row))
    small.write(lambda context: cancellations.take_recall(context, PurchaseAnswer(made.reference, "", "withdrawn", "", None, None)))
    assert states(small, order) == ["cancelled"] and small.all(select(Outbox.state).where(Outbox.id == row)) == ["dropped"]


def test_another_phone_number_after_buying_is_no_trouble(small: Small) -> None:
    order = small.order("A", ("S-1", 1, 900))
    (made,) = send(small, order.id)
    answer(small, made.reference, "accepted")
    again(small, "A", ("S-1", 1, 900), buyer=replace(BUYER, phone="01632 960111"))
    (row,) = small.all(select(Order))
    assert (row.wants, row.phone) == ("", "01632 960111")


def test_what_is_left_of_an_order_waits_until_its_change_is_settled_with_the_buyer(small: Small) -> None:
    small.write(lambda context: PolicyChange("house", "", {"send": "once"}).keep(context))
    small.write(lambda context: lanes.open_lane(context, 1, [lanes.LaneItem(3, Fraction(1))], use=1))
    order = small.order("A", ("S-1", 1, 1900), ("S-2", 1, 1900))
    (made,) = send(small, order.id)
    answer(small, made.reference, "accepted")
    again(small, "A", ("S-1", 1, 1900), ("S-2", 1, 1900), buyer=moved("9 Other Row"))
    answer(small, made.reference, "accepted", lacking=((1, "sold out"),))
    assert states(small, order) == ["held", "with_supplier"] and "Settle with the buyer first" in holds(small)[0]
    assert "the street is now 9 Other Row" in small.all(select(Order.wants_message))[0]
    assert small.write(purchase_orders.due_orders) == [] and send(small, order.id) == []
    small.write(lambda context: cancellations.close_wish(context, order.id))
    assert states(small, order) == ["ready", "with_supplier"] and send(small, order.id)[0].goods == 300


def test_a_cancelling_is_neither_lost_behind_a_change_nor_undone_by_one(small: Small) -> None:
    order, dear = small.order("A", ("S-1", 1, 1900)), small.order("B", ("S-2", 1, 1900))
    one, two = (made.reference for made in send(small, order.id, dear.id))
    answer(small, one, "accepted")
    again(small, "A", ("S-1", 2, 1900))
    assert wants(small, order) == "change"
    again(small, "A", cancelled=True)
    again(small, "A", ("S-1", 3, 1900))
    assert wants(small, order) == "cancel" and small.all(select(Outbox.key).where(Outbox.kind == "recall")) == [f"recall-{one}"]
    # The supplier keeps it; settled once, the store's word of the same cancelling changes nothing more.
    small.write(lambda context: cancellations.not_let_go(context, one, "it has left"))
    small.write(lambda context: cancellations.close_wish(context, order.id))
    again(small, "A", cancelled=True)
    assert wants(small, order) == ""
    # Of what was asked back for its bill, a change is no cancelling: it is planned anew.
    answer(small, two, "accepted", billed=900)
    small.write(lambda context: cancellations.ask_dearer_back(context, 2))
    again(small, "B", ("S-2", 1, 1900), buyer=moved("9 Other Row"))
    small.write(lambda context: cancellations.take_recall(context, PurchaseAnswer(two, "", "withdrawn", "", None, None)))
    assert states(small, dear) == ["held"] and wants(small, dear) == "change"


def test_a_changed_order_is_another_one_than_a_person_let_pass(small: Small) -> None:
    order = small.order("A", ("S-1", 1, 90_000))
    assert states(small, order) == ["held"]
    small.write(lambda context: orders.allow(context, order.id))
    assert states(small, order) == ["ready"]
    again(small, "A", ("S-1", 2, 90_000))
    assert states(small, order) == ["held"] and small.all(select(Order.allowed)) == [[]]
    told = [StoreOrderLine(1, "S-1", 1, 900, "S-1")]
    page = [
        StoreOrder("N", small.clock.now(), "GBP", BUYER, told, None, cancelled=True), StoreOrder("N", small.clock.now(), "GBP", BUYER, told, None)
    ]  # fmt: skip
    small.write(lambda context: orders.take_page(context, context.get(Store, 1, "store"), page, "y"))
    assert small.all(select(OrderLine.state).join(Order).where(Order.number == "N")) == ["cancelled"], "a page in the wrong order"
    with pytest.raises(Conflict, match="all of this order is bought"):
        small.write(lambda context: orders.mend_address(context, 2, 1, {**vars(BUYER)}))
