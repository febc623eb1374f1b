"""Parcels: numbers put right, used twice or shared, arrived by word or by policy, and the steps that help one in trouble."""

from __future__ import annotations

from dataclasses import replace
from datetime import timedelta
from typing import Any

import pytest
from sqlalchemy import select

from amber_lane.connectors.protocols import CarrierWord, PurchaseAnswer, Tracking
from amber_lane.core.ids import make_s10
from amber_lane.data.orders import Order, OrderLine, PurchaseLine, PurchaseOrder
from amber_lane.data.outbox import Outbox
from amber_lane.data.setup import Carrier
from amber_lane.data.transit import Message, MessageTemplate, Parcel, ParcelLine, PassedOn
from amber_lane.services.alerts import today
from amber_lane.services.base.context import Context
from amber_lane.services.base.errors import Conflict, Invalid
from amber_lane.services.fulfilment import buyer_notifications, delivery_exceptions, parcel_tracking
from amber_lane.services.grids import goods_grids
from amber_lane.services.grids.goods_grids import GridQuery
from amber_lane.services.pricing.drafts import PolicyChange
from amber_lane.services.purchasing import purchase_orders, supplier_answers

from ...small import BUYER, Small

FIRST, SECOND, THIRD = (make_s10("RR", 47_312_000 + n, "GB") for n in range(3))


def bought(small: Small, name: str, sku: str = "S-1", **more: Any) -> PurchaseOrder:
    order = small.order(name, (sku, 1, 900), **more)
    (made,) = small.write(lambda context: purchase_orders.send(context, [order.id]))
    return made


def number(small: Small, made: PurchaseOrder, tracking: str, state: str = "shipped") -> str:
    """What the supplier's interface says of a purchase; returns what stands at it then."""
    told = PurchaseAnswer(made.reference, "", state, "", None, Tracking(tracking, "Hill Post"))
    small.write(lambda context: supplier_answers.take_answer(context, told, corrects=True))
    return small.all(select(PurchaseOrder.message).where(PurchaseOrder.id == made.id))[0]


def say(small: Small, tracking: str, kind: str, place: str = "") -> None:
    word = CarrierWord(small.clock.now(), kind, kind.capitalize(), place)
    small.write(lambda context: parcel_tracking.take_words(context, 1, {tracking: [word]}))


def parcel(small: Small, tracking: str) -> Parcel:
    return small.all(select(Parcel).where(Parcel.number == tracking))[0]


def line_state(small: Small, made: PurchaseOrder) -> str:
    lines = select(OrderLine.state).where(OrderLine.order_id == made.order_id)
    return small.all(lines)[0]


def help_with(small: Small, tracking: str, key: str, **more: str) -> str:
    return small.write(lambda context: delivery_exceptions.take_step(context, parcel(small, tracking).id, key, **more))


def troubled(small: Small) -> list[tuple[str, str, bool]]:
    return small.write(
        lambda context: [
            (one.parcel.number, one.trouble, delivery_exceptions.waits(context, one)) for one in delivery_exceptions.troubled(context)
        ]
    )


def test_a_number_put_right_takes_the_wrong_ones_place_and_is_told_once(small: Small) -> None:
    made = bought(small, "A")
    # It comes before the supplier ever said that it takes the order.
    assert number(small, made, FIRST) == "" and line_state(small, made) == "on_the_road"
    for _ in range(2):
        assert made.reference in small.write(lambda context: purchase_orders.under_way(context, 1))
        number(small, made, SECOND)
    assert small.all(select(ParcelLine.parcel_id)) == [parcel(small, SECOND).id]
    assert (parcel(small, FIRST).ended_by, parcel(small, FIRST).state) == ("replaced", "returned") and troubled(small) == []
    assert small.all(select(Message.kind).order_by(Message.id)) == ["shipped", "corrected"]
    sent = small.all(select(Outbox.body).where(Outbox.kind == "fulfilment").order_by(Outbox.id))
    assert [body["tracking_number"] for body in sent] == [FIRST, SECOND]
    # Once the carrier has it, another number is one more parcel, not a correction.
    say(small, SECOND, "collected")
    number(small, made, THIRD)
    assert len(small.all(select(ParcelLine.parcel_id))) == 2 and parcel(small, SECOND).state == "moving"
    say(small, SECOND, "delivered")
    assert line_state(small, made) == "on_the_road", "a part of it is still on its way"
    say(small, THIRD, "delivered")
    assert line_state(small, made) == "arrived"


def test_two_orders_of_one_buyer_share_a_parcel_and_a_number_used_twice_is_told(small: Small) -> None:
    one, two = bought(small, "A"), bought(small, "B")
    assert number(small, one, FIRST) == number(small, two, FIRST) == ""
    assert len(small.all(select(PassedOn.id))) == 2
    with small.db.reading() as s:
        (row,), total = goods_grids.page(small.context(s), "parcels", GridQuery())
    assert (total, row.orders, row.order) == (1, 2, "A"), "one parcel stands once, with how many orders are in it"
    small.write(lambda context: context.session.add(replace_address(context, "C")))
    other = small.all(select(PurchaseOrder).order_by(PurchaseOrder.id.desc()))[0]
    assert "is the number of order A too, which goes elsewhere" in number(small, other, FIRST)
    say(small, FIRST, "delivered")
    small.later(days=3)
    late = bought(small, "D", promised_days=20)
    assert "was used before" in number(small, late, FIRST) and line_state(small, late) == "with_supplier"


def replace_address(context: Context, name: str) -> Order:
    """An order to another place, bought."""
    from amber_lane.connectors.protocols import StoreOrder, StoreOrderLine
    from amber_lane.data.setup import Store
    from amber_lane.services.orders import orders

    buyer = replace(BUYER, postcode="BS1 4ST", city="Bristol")
    given = StoreOrder(name, context.now, "GBP", buyer, [StoreOrderLine(1, "S-2", 1, 900, "S-2")])
    order = orders.take_in(context, context.get(Store, 1, "store"), given)
    assert order is not None
    orders.after_sales(context, [order])
    purchase_orders.send(context, [order.id])
    return order


def test_what_nobody_says_of_is_taken_as_arrived_after_so_many_days_and_shown_as_such(small: Small) -> None:
    made = bought(small, "A")
    number(small, made, FIRST)
    say(small, FIRST, "collected")
    small.write(lambda context: PolicyChange("house", "", {"arrived_after_days": 20}).keep(context))
    small.later(days=19)
    assert small.write(parcel_tracking.suppose_arrived) == 0
    small.later(days=2)
    assert small.write(parcel_tracking.suppose_arrived) == 1 == small.write(parcel_tracking.suppose_arrived) + 1
    assert (parcel(small, FIRST).ended_by, line_state(small, made)) == ("policy", "arrived")
    assert small.all(select(OrderLine.reason)) == ["supposed: nobody said otherwise"]


def test_a_parcel_given_to_another_postcode_has_not_arrived(small: Small) -> None:
    one, two = bought(small, "A"), bought(small, "B")
    number(small, one, FIRST)
    number(small, two, SECOND)
    say(small, FIRST, "delivered", "with a neighbour, BS1 4ST")
    say(small, SECOND, "delivered", "at the door, YO21 3PR")
    assert (line_state(small, one), line_state(small, two)) == ("on_the_road", "arrived")
    assert troubled(small) == [(FIRST, "elsewhere", True)]


def test_one_key_asks_the_supplier_or_tells_the_buyer_and_then_waits_for_an_answer(small: Small) -> None:
    one, two = bought(small, "A"), bought(small, "B", promised_days=4)
    number(small, one, FIRST)
    number(small, two, SECOND)
    small.later(days=5)
    assert sorted(troubled(small)) == [(FIRST, "unmoved", True), (SECOND, "late", True)]
    first = small.write(lambda context: delivery_exceptions.steps(context, parcel(small, SECOND).id))[0]
    assert first.key == "tell" and SECOND in first.body
    help_with(small, SECOND, "tell", body="We watch it.")
    (mail,) = small.all(select(Message).where(Message.kind == "late"))
    assert mail.body == "We watch it." and (SECOND, "late", False) in troubled(small)
    with pytest.raises(Conflict, match="does not help"):
        help_with(small, SECOND, "tell")
    # The same from Today, for all of a kind.
    small.write(lambda context: today.do_step(context, "parcels:unmoved"))
    assert all(not waits for _, _, waits in troubled(small))
    small.later(days=3)
    assert any(waits for _, _, waits in troubled(small)), "no answer came, so it is a trouble again"


def test_what_came_back_is_sent_again_or_refunded_once(small: Small) -> None:
    one, two = bought(small, "A"), bought(small, "B")
    number(small, one, FIRST)
    number(small, two, SECOND)
    for tracking in (FIRST, SECOND):
        say(small, tracking, "returned")
    assert [kind for _, kind, _ in troubled(small)] == ["returned", "returned"]
    help_with(small, FIRST, "again")
    assert line_state(small, one) == "ready" and not small.all(
        select(PurchaseLine.id).where(PurchaseLine.live, PurchaseLine.purchase_id == one.id)
    )
    (fresh,) = small.write(lambda context: purchase_orders.send(context, [one.order_id]))
    assert fresh.reference == "ONE-A-2"
    help_with(small, SECOND, "refund")
    assert line_state(small, two) == "cancelled"
    (refund,) = small.all(select(Outbox).where(Outbox.kind == "refund"))
    assert refund.body["lines"] == [[1, 1]] and troubled(small) == []
    for tracking in (FIRST, SECOND):
        with pytest.raises(Conflict, match="does not help"):
            help_with(small, tracking, "refund")


def test_numbers_have_their_carriers_shape(small: Small) -> None:
    small.write(
        lambda context: context.session.add(Carrier(code="GREEN", name="Greenway", kind="post_api", store_names={}, shape="GP99999999"))
    )
    made = bought(small, "A")
    for wrong in ("GP123", "RR473124829GB"):
        with pytest.raises(Invalid, match="does not look like GP99999999"):
            small.write(lambda context, wrong=wrong: parcel_tracking.enter_tracking(context, made.reference, wrong, "Greenway"))
    assert (
        small.write(lambda context: parcel_tracking.enter_tracking(context, made.reference, "gp 1234 5678", "greenway")).number
        == "GP12345678"
    )


def test_a_buyer_is_written_to_by_the_nearest_mail_and_after_its_delay(small: Small) -> None:
    own = {"kind": "shipped", "language": "fr", "subject": "En route {order}", "body": "{tracking}", "on": True, "delay_minutes": 30}
    small.write(lambda context: buyer_notifications.keep_template(context, None, None, store=1, **own))
    with pytest.raises(Conflict, match="such a mail already"):
        small.write(lambda context: buyer_notifications.keep_template(context, None, None, store=1, **own))
    made = bought(small, "A")
    number(small, made, FIRST)
    small.write(lambda context: setattr(context.get(Order, made.order_id, "order"), "country", "FR"))
    number(small, made, SECOND)
    sent = {row.body["subject"]: row.after for row in small.all(select(Outbox).where(Outbox.kind == "mail"))}
    assert sent["Your order A is on its way"] == small.clock.now()
    say(small, SECOND, "collected")
    number(small, made, THIRD)
    sent = {row.body["subject"]: row.after for row in small.all(select(Outbox).where(Outbox.kind == "mail"))}
    assert sent["En route A"] == small.clock.now() + timedelta(minutes=30)


def test_buyers_of_late_parcels_are_told_by_themselves_where_that_mail_is_on(small: Small) -> None:
    made = bought(small, "A", promised_days=4)
    number(small, made, FIRST)
    small.later(days=6)
    assert small.write(delivery_exceptions.tell_late) == 0
    (row,) = small.all(select(MessageTemplate).where(MessageTemplate.kind == "late"))
    said = {"kind": "late", "store": None, "language": "en", "subject": row.subject, "body": row.body, "on": True, "delay_minutes": 0}
    small.write(lambda context: buyer_notifications.keep_template(context, row.id, row.version, **said))
    assert small.write(delivery_exceptions.tell_late) == 1 and small.write(delivery_exceptions.tell_late) == 0
    assert sorted(small.all(select(Message.kind))) == ["late", "shipped"]
