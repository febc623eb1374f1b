"""Every hold has ways on, each says what it would mean and does just that; orders placed twice; lines cancelled, sent and settled apart."""

from __future__ import annotations

from typing import Any

import pytest
from sqlalchemy import select

from amber_lane.connectors.protocols import PurchaseAnswer
from amber_lane.data.orders import FillPlan, Hold, Order, OrderLine, PurchaseLine, PurchaseOrder
from amber_lane.data.outbox import Outbox
from amber_lane.data.setup import BuyingAccount, Origin, Service, Supplier
from amber_lane.data.source import Item
from amber_lane.services.activity import undo
from amber_lane.services.alerts import today
from amber_lane.services.base.context import Context
from amber_lane.services.base.errors import Conflict, Invalid
from amber_lane.services.mapping import lanes
from amber_lane.services.orders import order_lines, orders, routing
from amber_lane.services.pricing.drafts import PolicyChange
from amber_lane.services.purchasing import next_steps, purchase_orders, supplier_answers

from ...small import Small


def ways(small: Small, order: int = 1) -> dict[str, next_steps.WayOn]:
    with small.db.reading() as s:
        context = small.context(s)
        return {one.key or one.label: one for one in next_steps.ways_on(context, context.get(Order, order, "order"))}


def go(small: Small, start: str, order: int = 1) -> str:
    key = next(one for one in ways(small, order) if one.startswith(start))
    return small.write(lambda context: next_steps.take_way(context, order, key))


def states(small: Small) -> list[str]:
    return small.all(select(OrderLine.state).order_by(OrderLine.id))


def hold(small: Small) -> Hold:
    return small.all(select(Hold).where(Hold.ended.is_(None)))[0]


@pytest.fixture
def capped(small: Small) -> Small:
    """An account with 2.00 a day, and another supplier's spare that costs more."""

    def make(context: Context) -> None:
        context.session.add(BuyingAccount(supplier_id=1, name="Card", cap_money=200))
        context.session.add(Supplier(id=2, code="OTH", name="Other House", kind="sheet", country="GB", currency="GBP"))
        context.session.flush()
        context.session.add(Origin(id=2, supplier_id=2, code="far", name="Far", country="GB", handling=20, holidays=[]))
        context.session.flush()
        context.session.add(Service(origin_id=2, code="post", name="post", country="GB", first=90, following=10, days_low=1, days_high=2))
        context.session.add(Item(id=30, supplier_id=2, origin_id=2, number="O-30", title="Item 1", currency="GBP", cost=1900, stock=9))

    small.write(make)
    small.respond()
    small.order("CAP", ("S-1", 1, 2000))
    return small


def test_a_daily_limit_names_itself_what_is_left_and_every_way_on(capped: Small) -> None:
    assert "£2.00 left of £2.00 today at Card, Supply House" in hold(capped).message and "goes at 00:00" in hold(capped).message
    found = ways(capped)
    assert {key.partition(":")[0] for key in found} >= {"allow", "raise"} and "It goes by itself at 00:00" in found
    assert any(one.go.startswith("/lanes?sku=") for one in found.values())
    capped.write(lambda context: lanes.open_lane(context, 1, [lanes.LaneItem(30, lanes.Fraction(1))], use=1))
    other = next(one for key, one in ways(capped).items() if key.startswith("lanes:"))
    assert "Other House" in other.label and other.profit == 2000 - 200 - 1900 - 90 - 20
    go(capped, "lanes:")
    assert states(capped) == ["ready"] and capped.all(select(FillPlan.goods)) == [1900]


@pytest.mark.parametrize(("way", "then"), [("allow:spend_limit", "held"), ("raise:", "ready")])
def test_what_goes_beyond_a_limit_is_really_bought(capped: Small, way: str, then: str) -> None:
    go(capped, way)
    assert states(capped) == ["ready"]
    capped.write(lambda context: purchase_orders.send(context, [1]))
    assert states(capped) == ["bought"] and capped.all(select(PurchaseOrder.account_id)) == [1]
    # The next order finds the limit where the person left it.
    capped.order("NEXT", ("S-2", 1, 2000))
    assert states(capped)[1] == then


def test_a_refused_line_can_be_asked_for_again_by_mail_or_given_back(small: Small) -> None:
    small.respond()
    small.order("R", ("S-1", 1, 2000), ("S-2", 1, 3000))
    small.write(lambda context: purchase_orders.send(context, [1]))
    small.write(lambda context: setattr(context.session.get(Supplier, 1), "mail", "desk@supply.example"))

    def refuse(context: Context) -> None:
        one = context.session.scalars(select(PurchaseOrder)).one()
        supplier_answers.take_answer(context, PurchaseAnswer(one.reference, "N", "accepted", "", None, None, lacking=((1, "none left"),)))

    small.write(refuse)
    assert states(small) == ["refused", "with_supplier"]
    found = ways(small)
    assert {key.partition(":")[0] for key in found if ":" in key} >= {"again", "mail", "refund"}
    go(small, "mail:")
    (mail,) = small.all(select(Outbox).where(Outbox.kind == "mail", Outbox.key.startswith("refused-")))
    assert mail.body["to"] == "desk@supply.example" and "none left" in mail.body["body"]
    go(small, "again:")
    assert states(small) == ["ready", "with_supplier"]
    small.write(lambda context: purchase_orders.send(context, [1]))
    assert small.all(select(PurchaseLine.live).order_by(PurchaseLine.id)) == [False, True, True]
    with pytest.raises(Conflict, match="not open any more"):
        small.write(lambda context: next_steps.take_way(context, 1, "again:1:1"))


def test_lines_and_units_are_cancelled_apart_and_their_store_gives_back_just_that(small: Small) -> None:
    small.respond()
    small.order("C", ("S-1", 3, 1001), ("S-2", 1, 3000))
    small.write(lambda context: order_lines.cancel_lines(context, 1, {1: 1}))
    line = small.all(select(OrderLine).order_by(OrderLine.id))[0]
    assert (line.quantity, line.paid) == (2, 2002) and line.net_revenue == line.paid - line.tax - line.store_fee - line.payment_fee
    small.write(lambda context: order_lines.cancel_lines(context, 1, {1: None}))
    refunds = small.all(select(Outbox).where(Outbox.kind == "refund").order_by(Outbox.id))
    assert [row.body["lines"] for row in refunds] == [[[1, 1]], [[1, 2]]] and len({row.key for row in refunds}) == 2
    assert states(small) == ["cancelled", "ready"]
    with pytest.raises(Invalid, match="from 1 to 1"):
        small.write(lambda context: order_lines.cancel_lines(context, 1, {2: 2}))
    # The last line takes the order with it; what is bought cannot be given back here.
    small.write(lambda context: order_lines.cancel_lines(context, 1, {2: None}))
    assert small.all(select(Outbox.kind).order_by(Outbox.id))[-1] == "cancel"
    with pytest.raises(Conflict):
        small.write(lambda context: order_lines.cancel_lines(context, 1, {2: None}))


def test_a_part_goes_first_and_the_rest_is_planned_by_itself(small: Small) -> None:
    small.respond()
    small.sweep({2: (200, 0)})
    small.order("P", ("S-1", 1, 2000), ("S-2", 1, 3000))
    assert states(small) == ["held", "held"]
    small.write(lambda context: order_lines.send_part(context, 1, [1]))
    assert states(small) == ["ready", "held"]
    small.write(lambda context: undo.undo(context, small.act("order.part").id))
    assert states(small) == ["held", "held"]
    small.write(lambda context: order_lines.send_part(context, 1, [1]))
    small.write(lambda context: purchase_orders.send(context, [1]))
    assert states(small) == ["bought", "held"] and small.all(select(Order.part_lines)) == [[]]
    small.sweep({2: (200, 9)})
    small.write(routing.replan)
    assert states(small) == ["bought", "ready"]


@pytest.fixture
def twice(small: Small) -> Small:
    small.write(lambda context: PolicyChange("house", "", {"hold_twice": True}).keep(context))
    small.respond()
    small.order("T-1", ("S-1", 1, 2000))
    small.later(hours=3)
    small.order("T-2", ("S-1", 1, 2000), ("S-2", 1, 2500))
    return small


def test_what_may_be_ordered_twice_is_held_with_the_other_and_the_saving_of_one_parcel(twice: Small) -> None:
    assert states(twice) == ["held"] * 3
    holds: Any = {row.order_id: row for row in twice.all(select(Hold).where(Hold.ended.is_(None)))}
    assert (holds[1].other_id, holds[2].other_id) == (2, 1) and "S-1 in T-2 too" not in holds[2].message.upper()
    assert {key.partition(":")[0] for key in ways(twice)} >= {"allow", "pack", "cancel"}
    with twice.db.reading() as s:
        context = twice.context(s)
        assert next_steps.saving(context, context.get(Order, 1, "order"), context.get(Order, 2, "order")) == 100 + 30 - 40
    go(twice, "allow:twice")
    assert states(twice) == ["ready"] * 3, "a word for one is a word for both"


def test_both_in_one_parcel_asks_the_supplier_so_and_cancelling_one_sets_the_other_free(twice: Small) -> None:
    go(twice, "pack:")
    twice.write(lambda context: purchase_orders.send(context, [1, 2]))
    notes = [row.body["note"] for row in twice.all(select(Outbox).where(Outbox.kind == "purchase").order_by(Outbox.id))]
    assert "pack it together with ONE-T-2-1" in notes[0] and "pack it together with ONE-T-1-1" in notes[1]


def test_one_of_them_cancelled_sets_the_other_free(twice: Small) -> None:
    go(twice, "cancel", order=2)
    assert states(twice) == ["ready", "cancelled", "cancelled"]
    twice.later(days=2)
    twice.order("T-3", ("S-1", 1, 2000))
    assert states(twice)[-1] == "ready", "days later it is another order"


def test_many_held_orders_are_let_go_or_cancelled_as_one(small: Small) -> None:
    small.write(lambda context: PolicyChange("house", "", {"look_over": 1000}).keep(context))
    small.respond()
    for n in range(4):
        small.order(f"M-{n}", ("S-1", 1, 2000))
    small.order("X", ("S-404", 1, 900))
    assert small.write(lambda context: orders.allow_many(context, [1, 2, 3, 5])) == (3, 1)
    assert states(small) == ["ready", "ready", "ready", "held", "needs_lane"]
    small.write(lambda context: undo.undo(context, small.act("order.allow_many").id))
    assert states(small)[:4] == ["held"] * 4
    done, told = small.write(lambda context: orders.cancel_many(context, [1, 2, 5]))
    assert (done, told) == (3, []) and states(small) == ["cancelled", "cancelled", "held", "held", "cancelled"]


def test_orders_held_by_one_limit_are_one_row_that_is_settled_for_some_or_for_all(capped: Small) -> None:
    for number in ("B", "C", "D"):
        capped.order(number, ("S-1", 1, 2000))

    def rows() -> list[today.Alert]:
        with capped.db.reading() as s:
            return [one for one in today.open_alerts(capped.context(s)) if one.kind == "Held"]

    (row,) = rows()
    assert (
        row.count == 4 == len(row.members)
        and row.message.startswith("4 orders wait at a limit")
        and row.at_risk == sum(one.at_risk for one in row.members)
    )
    assert row.other is not None and row.other.act and row.step.go == "/orders?state=held"
    # Some of them, then the rest: one act each, undone as one.
    chosen = [one.key for one in row.members[:2]]
    assert capped.write(lambda context: today.do_step(context, row.key, other=True, keys=chosen)) == "2 held orders may go"
    (left,) = rows()
    assert left.count == 2 and not {one.key for one in left.members} & set(chosen)
    capped.write(lambda context: today.put_off(context, left.key, 4))
    assert not rows()
    capped.write(lambda context: undo.undo(context, undo.last_undoable(context).id))
    capped.write(lambda context: today.do_step(context, left.key, other=True))
    assert not rows() and "held" not in states(capped)
    with pytest.raises(Conflict, match="done already"):
        capped.write(lambda context: today.do_step(context, left.key, other=True))
