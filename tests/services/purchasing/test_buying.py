"""Buying: limits of accounts, bills, batches, and what agents may see."""

from __future__ import annotations

from fractions import Fraction
from typing import Any

import pytest
from sqlalchemy import select

from amber_lane.connectors.protocols import PurchaseAnswer
from amber_lane.core.permissions import Scope
from amber_lane.data.orders import Order, PurchaseOrder
from amber_lane.data.outbox import Outbox
from amber_lane.data.prices import Rate
from amber_lane.data.setup import Person, Supplier
from amber_lane.services.activity import undo
from amber_lane.services.alerts import today
from amber_lane.services.base.context import Context
from amber_lane.services.base.errors import Conflict, Invalid, NotFound
from amber_lane.services.inbound import agent_portal, supplier_replies
from amber_lane.services.mapping import lanes
from amber_lane.services.orders import cancellations
from amber_lane.services.people import roles, users
from amber_lane.services.pricing.drafts import PolicyChange
from amber_lane.services.purchasing import buying_accounts, payment_batches, purchase_orders
from amber_lane.sheets import ubl

from ...small import Small
from .steps import again, answer, holds, send, states


def account(small: Small, **limits: Any) -> None:
    given = {"cap_money": None, "cap_orders": None, "send": None, "send_minutes": None} | limits
    small.write(lambda context: buying_accounts.save_account(context, 1, None, None, name="Card", **given))


def test_what_an_account_may_buy_in_a_day_goes_to_the_orders_that_earn_most(small: Small) -> None:
    account(small, cap_money=500)
    low, high = small.order("LOW", ("S-1", 1, 800)), small.order("HIGH", ("S-2", 1, 1800))
    also = small.order("ALSO", ("S-1", 1, 900))
    # 2.00 + 1.00 + 0.30, and 1.00 + 1.00 + 0.30: the dearer one and one of the others fit into 5.00 only as 3.30.
    assert (states(small, high), states(small, low), states(small, also)) == (["ready"], ["held"], ["held"])
    assert "left of £5.00 today at Card, Supply House" in small.all(select(Order.wants_message))[0] + " ".join(holds(small))
    made = send(small, high.id)
    assert made[0].account_id is not None
    small.later(days=1)
    small.write(lambda context: context.reroute())
    assert (states(small, low), states(small, also)) == (["ready"], ["ready"]), "a new day, a new limit"
    with pytest.raises(Conflict, match="went by this account"):
        small.write(lambda context: buying_accounts.remove(context, 1, None))
    with pytest.raises(Invalid, match="0 or more"):
        account(small, cap_money=-1)


def test_the_strictest_word_says_when_an_order_goes_and_a_hand_stops_it(small: Small) -> None:
    small.write(lambda context: PolicyChange("house", "", {"send": "once"}).keep(context))
    account(small, send="after", send_minutes=40)
    order = small.order("A", ("S-1", 1, 900))
    assert small.all(select(Order.send_after))[0] == small.clock.now().replace(minute=40)
    small.write(lambda context: purchase_orders.wait(context, [order.id]))
    small.later(hours=2)
    assert small.write(purchase_orders.due_orders) == [] and small.all(select(Order.send_after)) == [None]
    with pytest.raises(Conflict, match="waiting so"):
        small.write(lambda context: purchase_orders.wait(context, [order.id]))
    assert send(small, order.id)[0].reference == "ONE-A-1", "a person may still send it"


def test_what_is_paid_together_has_its_sum_and_a_statement(small: Small) -> None:
    one, two, alone = (small.order(name, ("S-1", 1, 900)) for name in ("A", "B", "C"))
    send(small, one.id, two.id, paid_together=True)
    send(small, alone.id)
    (batch,) = small.write(payment_batches.batches)
    assert (batch.code, batch.count, batch.planned, batch.bills) == ("SUP-260312-1", 2, 2 * (100 + 100 + 30), 0)
    answer(small, "ONE-A-1", "accepted", billed=250)
    answer(small, "ONE-B-1", "refused", message="no")
    (batch,) = small.write(payment_batches.batches)
    assert (batch.count, batch.gone, batch.planned, batch.billed) == (1, 1, 230, 250)
    rows = small.write(lambda context: payment_batches.statement(context, batch.code))
    assert [(row[2], row[7], row[11], row[12], row[13]) for row in rows] == [
        ("ONE-A-1", "accepted", "2.30", "2.50", "0.20"), ("ONE-B-1", "refused", "0.00", "", ""),
    ]  # fmt: skip
    assert small.write(lambda context: payment_batches.collect(context, 1)) == ("SUP-260312-2", 1)
    small.write(lambda context: undo.undo(context, small.act("batch.collect").id))
    assert len(small.write(payment_batches.batches)) == 1
    assert small.write(lambda context: payment_batches.collect(context, 1)) == ("SUP-260312-2", 1)
    small.write(lambda context: payment_batches.pay(context, "SUP-260312-1"))
    assert {one.code: one.paid_at is not None for one in small.write(payment_batches.batches)} == {
        "SUP-260312-1": True,
        "SUP-260312-2": False,
    }
    with pytest.raises(Conflict, match="paid already"):
        small.write(lambda context: payment_batches.pay(context, "SUP-260312-1"))
    with pytest.raises(Conflict, match="is paid"):
        small.write(lambda context: payment_batches.take_apart(context, "SUP-260312-1"))
    small.write(lambda context: undo.undo(context, small.act("batch.paid").id))
    assert not any(one.paid_at for one in small.write(payment_batches.batches))
    with pytest.raises(NotFound):
        small.write(lambda context: payment_batches.statement(context, "nothing"))


def test_an_agent_sees_its_own_purchase_orders_and_nothing_else(small: Small) -> None:
    def join(context: Context) -> None:
        context.get(Supplier, 1, "supplier").kind = "sheet"
        context.session.add(Supplier(id=2, code="TWO", name="Other", kind="sheet", country="GB", currency="GBP"))
        context.session.flush()
        for n, scope in ((1, [1]), (2, [2])):
            users.make_person(context, f"Agent {n}", f"a{n}@x.example", "long-enough-word", "agent", Scope(suppliers=frozenset(scope)))

    small.write(join)
    one, two = small.order("A", ("S-1", 1, 900)), small.order("B", ("S-2", 1, 900))
    send(small, one.id, two.id)
    mine, other = small.all(select(Person).order_by(Person.id))
    seen = small.write(lambda context: agent_portal.mine(context, mine))
    assert [(row.reference, row.state) for row in seen] == [("ONE-A-1", "waiting"), ("ONE-B-1", "waiting")]
    assert "email" not in seen[0].address and small.write(lambda context: agent_portal.mine(context, other)) == []
    for do in (lambda context: agent_portal.number(context, other, "ONE-A-1", "RR473124829GB", "Hill Post"),
               lambda context: agent_portal.answer(context, other, "ONE-A-1", "accepted", "")):  # fmt: skip
        with pytest.raises(NotFound, match="of yours"):
            small.write(do)
    # A number that cannot be leaves its purchase order where it is, to be taken out all the same.
    wrong = b"purchase_order,tracking_number,carrier\nONE-A-1,RR473124820GB,Hill Post\n"
    assert small.write(lambda context: agent_portal.take_in(context, mine, "tracking", wrong))[0] == 0
    small.write(lambda context: agent_portal.answer(context, mine, "ONE-B-1", "refused", "sold out"))
    _, rows = small.write(lambda context: agent_portal.take_out(context, mine))
    assert [row[0] for row in rows] == ["ONE-A-1"] and states(small, one) == ["bought"] and states(small, two) == ["refused"]
    sheet = b"purchase_order,tracking_number,carrier\nONE-A-1,RR473124829GB,Hill Post\nONE-Z,RR473124829GB,Hill Post\n"
    taken, bad = small.write(lambda context: agent_portal.take_in(context, mine, "tracking", sheet))
    assert (taken, bad) == (1, [(3, "there is no purchase order 'ONE-Z' of yours")]) and states(small, one) == ["on_the_road"]
    with pytest.raises(Invalid, match="for which suppliers"):
        small.write(lambda context: roles.scope_of(context, "agent", [], [], []))


def test_one_rule_says_who_may_answer_by_whatever_door(small: Small) -> None:
    def join(context: Context) -> None:
        context.get(Supplier, 1, "supplier").kind = "sheet"
        for n, (role, scope) in enumerate((("agent", ([1], [])), ("assistant", ([], [1])))):
            users.make_person(context, f"P{n}", f"p{n}@x.example", "long-enough-word", role, roles.scope_of(context, role, *scope, []))

    small.write(join)
    orders_ = [small.order(name, ("S-1", 1, 900)) for name in "ABC"]
    send(small, *[one.id for one in orders_])
    agent, assistant = small.all(select(Person).order_by(Person.id))
    head = b"purchase_order,answer,reason,tracking_number,carrier\n"

    def by_sheet(person: Person, row: bytes) -> tuple[int, list[tuple[int, str]]]:
        return small.write(lambda context: agent_portal.take_in(context, person, "answers", head + row))

    # An assistant refuses and accepts neither on the page nor by a sheet, and may give a number by both.
    for said in (b"ONE-A-1,refused,sold out,,\n", b"ONE-A-1,accepted,,,\n"):
        assert by_sheet(assistant, said) == (0, [(2, "only the supplier's agent answers for it")])
    with pytest.raises(Conflict, match="only the supplier's agent"):
        small.write(lambda context: agent_portal.answer(context, assistant, "ONE-A-1", "refused", "sold out"))
    assert by_sheet(assistant, b"ONE-A-1,shipped,,RR473124829GB,Hill Post\n") == (1, [])
    # What has left cannot be refused any more, by page, sheet or document.
    assert by_sheet(agent, b"ONE-A-1,refused,late,,\n") == (0, [(2, "ONE-A-1 is shipped, so this answer comes too late")])
    with pytest.raises(Conflict, match="too late"):
        small.write(lambda context: agent_portal.answer(context, agent, "ONE-A-1", "refused", "late"))
    late = [ubl.Answer("ONE-A-1", "", "refused", "late", "", "", "", "", ())]

    def find(context: Context, reference: str) -> PurchaseOrder:
        return context.session.scalars(select(PurchaseOrder).where(PurchaseOrder.reference == reference)).one()

    with pytest.raises(Conflict, match="too late"):
        small.write(lambda context: supplier_replies.of_document(context, late, lambda one: find(context, one)))
    # Where a supplier has an interface, it answers by that alone.
    small.write(lambda context: setattr(context.get(Supplier, 1, "supplier"), "kind", "wholesale_api"))
    assert by_sheet(agent, b"ONE-B-1,refused,sold out,,\n") == (0, [(2, "Supply House answers by its interface")])
    with pytest.raises(Conflict, match="by its interface"):
        small.write(lambda context: agent_portal.number(context, agent, "ONE-B-1", "RR473124829GB", "Hill Post"))
    assert [states(small, one) for one in orders_] == [["on_the_road"], ["bought"], ["bought"]]


def test_a_bill_beyond_all_measure_is_not_taken(small: Small) -> None:
    order = small.order("A", ("S-1", 1, 1900))
    (made,) = send(small, order.id)
    answer(small, made.reference, "accepted", billed=9_999_999)
    kept = small.all(select(PurchaseOrder))[0]
    assert kept.billed is None and "times what we ordered for" in kept.noted and "£99,999.99" in kept.noted
    (row,) = [one for one in small.write(today.open_alerts) if one.kind == "Bill"]
    assert made.reference in row.message
    answer(small, made.reference, "accepted", billed=made.goods + made.shipping + made.handling)
    kept = small.all(select(PurchaseOrder))[0]
    assert kept.billed == made.goods + made.shipping + made.handling and kept.noted == ""


def test_a_bill_above_the_plan_is_told_and_asked_back_through_the_plan(small: Small) -> None:
    small.write(lambda context: lanes.open_lane(context, 1, [lanes.LaneItem(5, Fraction(1))], use=1))
    order, fine = small.order("A", ("S-1", 1, 1900)), small.order("B", ("S-2", 1, 1900))
    made = send(small, order.id, fine.id)
    answer(small, made[0].reference, "accepted", billed=230 + 400)
    answer(small, made[1].reference, "accepted", billed=330 + 3)
    (trouble,) = [one for one in small.write(today.open_alerts) if one.kind == "Dearer"]
    assert "£4.00 above the plan" in trouble.message and trouble.at_risk == 400
    small.write(lambda context: today.do_step(context, trouble.key, other=True))
    # The buyer of the other cancels, and then of this one too: each supplier is asked once.
    again(small, "B", cancelled=True)
    again(small, "B", cancelled=True)
    assert small.all(select(Outbox.key).where(Outbox.kind == "recall")) == [f"recall-{one.reference}" for one in made]
    small.write(lambda context: cancellations.take_recall(context, PurchaseAnswer(made[0].reference, "", "withdrawn", "", None, None)))
    assert states(small, order) == ["ready"], "by the spare, not by what was too dear"
    assert send(small, order.id)[0].goods == 500


def test_a_bill_in_another_money_is_told_and_not_taken(small: Small) -> None:
    order = small.order("A", ("S-1", 1, 900))
    (made,) = send(small, order.id)
    answer(small, made.reference, "accepted", billed=230, currency="USD")
    (row,) = small.all(select(PurchaseOrder))
    assert (row.state, row.billed, row.message) == ("accepted", None, "") and "in USD" in row.noted
    assert [one.kind for one in small.write(today.open_alerts) if one.kind in ("Bill", "Number")] == ["Bill"]
    answer(small, made.reference, "accepted", billed=230, currency="GBP")
    (row,) = small.all(select(PurchaseOrder))
    assert (row.billed, row.noted) == (230, "")


def test_goods_priced_in_another_money_than_the_bill_are_bought_by_the_rate_back(small: Small) -> None:
    def abroad(context: Context) -> None:
        context.get(Supplier, 1, "supplier").currency = "EUR"
        context.session.add(Rate(base="EUR", quote="GBP", nano=800_000_000, day=small.clock.now()))

    small.write(abroad)
    order = small.order("A", ("S-1", 1, 900))
    (made,) = send(small, order.id)
    assert (made.currency, made.goods, made.shipping) == ("EUR", 125, 100), "£1.00 at €1.25, and what its parcel costs in its own money"
