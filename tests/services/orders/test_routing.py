"""By which lanes orders are filled, what holds them, and that stock is never promised twice."""

from __future__ import annotations

from datetime import UTC, date, datetime, timedelta
from fractions import Fraction
from typing import Any

import pytest
from sqlalchemy import select

from amber_lane.connectors.protocols import PurchaseAnswer, StoreOrder
from amber_lane.data.orders import FillPlan, Hold, Order, OrderLine, PurchaseLine, PurchaseOrder
from amber_lane.data.outbox import Outbox
from amber_lane.data.setup import Origin, Service, Store, Supplier
from amber_lane.data.source import Item
from amber_lane.services.base.context import Context
from amber_lane.services.base.errors import Conflict, Invalid
from amber_lane.services.mapping import lanes
from amber_lane.services.orders import orders, routing
from amber_lane.services.pricing.drafts import PolicyChange
from amber_lane.services.purchasing import purchase_orders, supplier_answers

from ...small import BUYER, Small


def states(small: Small, order: Order) -> list[str]:
    return small.all(select(OrderLine.state).where(OrderLine.order_id == order.id).order_by(OrderLine.line_no))


def hold(small: Small, order: Order) -> tuple[str, str]:
    row = small.all(select(Hold).where(Hold.order_id == order.id, Hold.ended.is_(None)))[0]
    return row.limit, row.message


def policy(small: Small, **fields: Any) -> None:
    small.write(lambda context: PolicyChange("house", "", fields).keep(context))


@pytest.fixture
def two(small: Small) -> Small:
    """A second, dearer and faster supplier whose items are spares of S-1 and S-2."""

    def join(context: Context) -> None:
        s = context.session
        s.add(Supplier(id=2, code="TWO", name="Second House", kind="wholesale_api", country="GB", currency="GBP", tax=200_000))
        s.flush()
        s.add(Origin(id=2, supplier_id=2, code="north", name="North", country="GB", handling=0, holidays=[]))
        s.flush()
        s.add(Service(origin_id=2, code="van", name="van", country="GB", first=300, following=0, free_over=2000, days_low=1, days_high=1))
        for n in (1, 2):
            s.add(Item(id=20 + n, supplier_id=2, origin_id=2, number=f"T-{n}", title="T", currency="GBP", cost=150, stock=9))
        s.flush()
        for n in (1, 2):
            lanes.open_lane(context, n, [lanes.LaneItem(20 + n, Fraction(1))], use=1)

    small.write(join)
    return small


def test_the_cheapest_lane_that_keeps_the_promise_fills_a_line(two: Small) -> None:
    slow = two.order("A", ("S-1", 1, 1500))
    fast = two.order("B", ("S-1", 1, 1500), promised_days=2)
    plans = {row.order_id: row for row in two.all(select(FillPlan))}
    # 1.00 + 1.00 + 0.30, or 1.50 and a fifth of tax + 3.00.
    assert (plans[slow.id].goods, plans[slow.id].shipping, plans[slow.id].handling) == (100, 100, 30)
    assert (plans[fast.id].goods, plans[fast.id].shipping, plans[fast.id].handling) == (180, 300, 0)
    assert plans[fast.id].profit == 1350 - 480
    reasons = {lane["lane"]: lane["reason"] for lane in plans[fast.id].lanes}
    assert list(reasons.values()) == ["too_late", None]


def test_lines_of_one_place_go_in_one_parcel_and_free_over_counts_for_it(two: Small) -> None:
    order = two.order("A", ("S-1", 6, 1500), ("S-2", 6, 1500), promised_days=2)
    plan = two.all(select(FillPlan).where(FillPlan.order_id == order.id))[0]
    # 12 x 1.80 = 21.60 is over 20.00, so the van is free; each line alone would have paid 3.00.
    assert (plan.goods, plan.shipping) == (2160, 0)
    made = two.write(lambda context: purchase_orders.send(context, [order.id]))
    assert [(one.goods, one.shipping, one.supplier_id) for one in made] == [(2160, 0, 2)]
    assert two.all(select(PurchaseLine.quantity).order_by(PurchaseLine.id)) == [6, 6]


def test_an_order_over_two_suppliers_is_bought_from_both_and_sent_whole_or_not_at_all(two: Small) -> None:
    order = two.order("A", ("S-1", 1, 1500), ("S-3", 1, 1500))
    two.write(lambda context: orders.choose_lane(context, two.all(select(OrderLine.id))[0], two.lane(1, 1).id))
    made = two.write(lambda context: purchase_orders.send(context, [order.id]))
    assert [one.reference for one in made] == ["ONE-A-1", "ONE-A-2"] and {one.supplier_id for one in made} == {1, 2}
    # One of them refuses: only its line is planned anew, the other stays bought.
    two.write(lambda context: supplier_answers.take_answer(context, PurchaseAnswer("ONE-A-1", "", "accepted", "", None, None)))
    two.write(lambda context: supplier_answers.take_answer(context, PurchaseAnswer("ONE-A-2", "", "refused", "sold out", None, None)))
    assert sorted(states(two, order)) == ["refused", "with_supplier"]
    assert two.write(lambda context: purchase_orders.send(context, [order.id])) == []


@pytest.mark.parametrize(
    ("lines", "more", "limit", "said"),
    [
        ((("S-1", 1, 50),), {}, "least_profit", "Profit would be −£1.85"),
        ((("S-1", 21, 9000),), {"look_over": 10**8}, "no_stock", "not in stock"),
        ((("S-1", 15, 900), ("S-1", 15, 900)), {}, "no_stock", "not in stock"),
        ((("S-1", 1, 50_000),), {}, "look_over", "more than your £400.00"),
        ((("S-1", 1, 2000),), {"least_order_profit": 5_000}, "least_profit", "Profit would be £15.70"),
    ],
)
def test_an_order_that_breaks_a_limit_waits_and_says_which(small: Small, lines: Any, more: dict[str, int], limit: str, said: str) -> None:
    if more:
        policy(small, **more)
    order = small.order("H", *lines)
    assert set(states(small, order)) == {"held"}
    got, told = hold(small, order)
    assert got == limit and said in told
    assert small.write(lambda context: purchase_orders.send(context, [order.id])) == [] and not small.all(select(PurchaseOrder))


def test_the_older_order_gets_the_last_ones(small: Small) -> None:
    orders_made = [small.order(name, ("S-2", 8, 900)) for name in "ABC"]
    assert [states(small, one)[0] for one in orders_made] == ["ready", "ready", "held"]
    # What was bought is not free for the third, even before the supplier's stock shows it.
    small.write(lambda context: purchase_orders.send(context, [orders_made[0].id]))
    assert [states(small, one)[0] for one in orders_made] == ["bought", "ready", "held"]
    small.write(lambda context: orders.cancel(context, orders_made[1].id))
    assert states(small, orders_made[2]) == ["ready"]


def test_a_persons_word_lets_an_order_go_and_a_loss_of_stock_does_not(small: Small) -> None:
    order = small.order("L", ("S-1", 1, 50))
    small.write(lambda context: orders.allow(context, order.id, "a friend"))
    assert states(small, order) == ["ready"]
    gone = small.order("G", ("S-2", 25, 900))
    with pytest.raises(Conflict, match="not held by a limit that can be lifted"):
        small.write(lambda context: orders.allow(context, gone.id))


def test_sending_by_itself_waits_as_long_as_the_policy_says(small: Small) -> None:
    policy(small, send="after", send_minutes=30)
    one = small.order("A", ("S-1", 1, 900))

    def due() -> list[int]:
        return small.write(purchase_orders.due_orders)

    assert due() == []
    small.later(minutes=29)
    assert due() == []
    small.later(minutes=1)
    assert due() == [one.id]
    # What is held again meanwhile loses its time, and gets a new one when it is ready again.
    policy(small, least_order_profit=100_000)
    assert due() == []
    policy(small, least_order_profit=0)
    assert due() == []
    policy(small, send="once")
    two = small.order("B", ("S-2", 1, 1200))
    assert due() == [two.id]
    policy(small, send="hand")
    small.order("C", ("S-2", 1, 1200))
    assert due() == [], "by hand means that nothing goes by itself any more"


def test_an_address_is_mended_beside_the_one_that_the_buyer_gave(small: Small) -> None:
    order = small.order("A", ("S-1", 1, 900), country="ZZ")
    limit, told = hold(small, order)
    assert limit in ("address", "not_sent_there") and states(small, order) == ["held"], told
    whole = {**BUYER.__dict__, "country": "GB", "address_1": "4 Row, back door"}
    for wrong, said in (({**whole, "country": "XX"}, "ISO 3166"), ({**whole, "city": " "}, "city is missing"), ({}, "country")):
        with pytest.raises(Invalid, match=said):
            small.write(lambda context, wrong=wrong: orders.mend_address(context, order.id, 1, wrong))
    small.write(lambda context: orders.mend_address(context, order.id, small.all(select(Order.version))[0], whole))
    row = small.all(select(Order))[0]
    assert states(small, order) == ["ready"] and row.address["country"] == "ZZ" and row.address_override["address_1"] == "4 Row, back door"
    made = small.write(lambda context: purchase_orders.send(context, [order.id]))
    body = small.all(select(Outbox.body).where(Outbox.key == made[0].reference))[0]
    assert body["address"]["address_1"] == "4 Row, back door" and "email" not in body["address"]


def test_an_order_comes_once_and_a_cancelled_one_is_stopped_until_it_is_bought(small: Small) -> None:
    order = small.order("A", ("S-1", 2, 900))
    shown = small.listing(1).shown_quantity

    def again(context: Context, **more: Any) -> Any:
        return orders.take_in(context, context.get(Store, 1, "store"), StoreOrder("A", context.now, "GBP", BUYER, [], None, **more))

    assert small.write(again) is None and small.listing(1).shown_quantity == shown
    small.write(lambda context: again(context, cancelled=True))
    assert states(small, order) == ["cancelled"] and not small.all(select(Outbox).where(Outbox.kind == "cancel"))
    other = small.order("B", ("S-1", 1, 900))
    small.write(lambda context: purchase_orders.send(context, [other.id]))
    with pytest.raises(Conflict, match="bought already"):
        small.write(lambda context: orders.cancel(context, other.id))


def test_a_lane_by_hand_stands_even_when_it_costs_more_and_wrong_ones_are_refused(two: Small) -> None:
    order = two.order("A", ("S-1", 1, 1500))
    line = two.all(select(OrderLine))[0]
    two.write(lambda context: orders.choose_lane(context, line.id, two.lane(1, 1).id))
    assert two.all(select(FillPlan.goods).where(FillPlan.order_id == order.id)) == [180]
    with pytest.raises(Invalid, match="does not fill that SKU"):
        two.write(lambda context: orders.choose_lane(context, line.id, two.lane(3).id))
    two.write(lambda context: orders.choose_lane(context, line.id, None))
    assert two.all(select(FillPlan.goods).where(FillPlan.order_id == order.id)) == [100]
    two.write(lambda context: purchase_orders.send(context, [order.id]))
    with pytest.raises(Conflict, match="bought already"):
        two.write(lambda context: orders.choose_lane(context, line.id, None))


@pytest.mark.parametrize(
    ("now", "cut_off", "days", "expected"),
    [
        (datetime(2026, 3, 12, 9, tzinfo=UTC), "16:00", 2, date(2026, 3, 14)),  # Thursday: Friday, Saturday
        (datetime(2026, 3, 12, 16, tzinfo=UTC), "16:00", 2, date(2026, 3, 16)),  # after the hour: one day more, and no Sunday
        (datetime(2026, 3, 13, 9, tzinfo=UTC), "16:00", 2, date(2026, 3, 16)),
        (datetime(2026, 3, 15, 9, tzinfo=UTC), "16:00", 0, date(2026, 3, 16)),
    ],
)
def test_days_are_counted_from_the_cut_off_and_not_on_sundays(now: datetime, cut_off: str, days: int, expected: date) -> None:
    assert routing.arrival(now, cut_off, days) == expected
    later = routing.arrival(now + timedelta(days=1), cut_off, days)
    assert later >= expected, "ordering later never arrives earlier"
