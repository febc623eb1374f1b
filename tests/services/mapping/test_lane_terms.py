"""What a lane says beside its items: kits, a service for each country, dates, replacements, faults, costs and trust."""

from __future__ import annotations

from datetime import timedelta
from fractions import Fraction

import pytest
from sqlalchemy import select

from amber_lane.connectors.protocols import PurchaseAnswer, Tracking
from amber_lane.core.ids import make_s10
from amber_lane.core.states import LaneCause
from amber_lane.data.lanes import Lane
from amber_lane.data.orders import OrderLine, PurchaseLine, PurchaseOrder
from amber_lane.data.setup import Service, Store
from amber_lane.data.shelf import Sku
from amber_lane.data.source import Item
from amber_lane.data.transit import Parcel
from amber_lane.services.activity import undo
from amber_lane.services.alerts import today
from amber_lane.services.base.context import Context
from amber_lane.services.base.errors import Conflict, Invalid
from amber_lane.services.mapping import (
    audit,
    lane_terms,
    lanes,
    performance,
)
from amber_lane.services.orders import orders
from amber_lane.services.orders.routing import replan
from amber_lane.services.pricing.drafts import PolicyChange
from amber_lane.services.purchasing import purchase_orders, supplier_answers

from ...small import Small
from .two_suppliers import bare, name, opened, second


def test_a_kit_of_two_suppliers_is_priced_bought_and_bought_only_once_though_one_refuses(small: Small) -> None:
    small.write(
        lambda context: (
            second(context),
            bare(context, 1),
            lanes.open_lane(context, 1, [lanes.LaneItem(2, Fraction(1)), lanes.LaneItem(21, Fraction(2))]),
        )
    )
    small.respond()
    # 2.00 with its parcel, and two of 0.90 with theirs.
    assert small.listing(1).landed == 200 + 100 + 30 + 180 + 90 + 20
    order = small.order("KIT", ("S-1", 1, 3000))
    small.write(lambda context: purchase_orders.send(context, [order.id]))
    bought = {row.supplier_id: row for row in small.all(select(PurchaseOrder))}
    assert {number: (row.goods, row.shipping) for number, row in bought.items()} == {1: (200, 100), 2: (180, 90)}
    state = lambda: small.all(select(OrderLine.state).where(OrderLine.order_id == order.id))  # noqa: E731

    def answer(supplier: int, what: str, tracking: Tracking | None = None, reference: str = "") -> None:
        small.write(
            lambda context: supplier_answers.take_answer(
                context, PurchaseAnswer(reference or bought[supplier].reference, "X", what, "no more", None, tracking)
            )
        )

    answer(1, "accepted")
    assert state() == ["bought"]
    answer(2, "refused")
    # One half is bought: nothing else has it in that shape, so the order waits, and cannot be cancelled as if nothing were on its way.
    assert state() == ["refused"]
    with pytest.raises(Conflict, match="bought already"):
        small.write(lambda context: orders.cancel(context, order.id))
    small.write(lambda context: lanes.open_lane(context, 1, [lanes.LaneItem(2, Fraction(1)), lanes.LaneItem(3, Fraction(1))], use=1))
    assert state() == ["ready"]
    small.write(lambda context: purchase_orders.send(context, [order.id]))
    live = small.all(select(PurchaseLine).where(PurchaseLine.live).order_by(PurchaseLine.id))
    assert [(row.item_id, row.quantity) for row in live] == [(2, 1), (3, 1)]
    third = small.all(select(PurchaseOrder).order_by(PurchaseOrder.id.desc()))[0]
    answer(1, "shipped", Tracking(make_s10("HP", 11, "GB"), "Hill Post"))
    assert state() == ["bought"]
    answer(1, "shipped", Tracking(make_s10("HP", 12, "GB"), "Hill Post"), third.reference)
    assert state() == ["on_the_road"]


def test_each_country_has_its_service_and_dates_open_and_end_a_lane(small: Small) -> None:
    def make(context: Context) -> None:
        small.second_store(context.session, "FR")
        context.session.add(Service(origin_id=1, code="far", name="far", country="FR", first=700, following=9, days_low=4, days_high=6))
        context.session.flush()
        small.list_sku(context.session, 1, store=2)
        bare(context, 1)
        lanes.open_lane(context, 1, [lanes.LaneItem(1, Fraction(1))])

    small.write(make)
    assert small.lane(1).services == {"FR": "far"} and (small.listing(1).landed, small.listing(1, 2).landed) == (230, 830)
    abroad = small.order("F", ("S-1", 1, 3000), country="FR", promised_days=20)
    small.write(lambda context: purchase_orders.send(context, [abroad.id]))
    assert [row.service for row in small.all(select(PurchaseOrder))] == ["far"]
    begin, end = small.clock.now() + timedelta(days=2), small.clock.now() + timedelta(days=4)
    small.write(lambda context: lane_terms.set_terms(context, small.lane(1).id, small.lane(1).version, {"GB": "fast"}, begin, end))
    assert small.listing(1).state == "paused"
    waits = small.order("W", ("S-1", 1, 3000))
    assert small.all(select(OrderLine.reason).where(OrderLine.order_id == waits.id)) == ["not_yet"]
    small.later(days=2, minutes=1)
    assert small.write(lane_terms.follow_dates) == 1 and small.write(lane_terms.follow_dates) == 0
    assert small.listing(1).landed == 100 + 250 + 30 and small.all(select(OrderLine.state).where(OrderLine.order_id == waits.id)) == [
        "ready"
    ]
    small.later(days=2)
    assert small.write(lane_terms.follow_dates) == 1 and opened(small, 1) == []
    with pytest.raises(Invalid, match="end after it begins"):
        small.write(lambda context: lane_terms.set_terms(context, small.lane(2).id, small.lane(2).version, None, end, begin))


def test_a_replacement_is_used_where_the_store_permits_it_and_nothing_else_is_left(small: Small) -> None:
    small.write(lambda context: lanes.open_requested(context, lanes.LaneRequest(1, [lanes.LaneItem(4, Fraction(1))], is_substitute=True)))
    small.sweep({1: (100, 1)})
    order = small.order("R", ("S-1", 2, 3000))
    why = lambda: small.all(select(OrderLine.reason).where(OrderLine.order_id == order.id))  # noqa: E731
    assert why() == ["no_stock"] and small.listing(1).wanted_quantity == 0

    def permit(context: Context) -> None:
        context.get(Store, 1, "store").replacements = True
        replan(context)

    small.write(permit)
    line = small.all(select(OrderLine).where(OrderLine.order_id == order.id))[0]
    assert (line.state, line.lane_id) == ("ready", small.lane(1, 1).id) and small.lane(1, 1).is_substitute
    small.sweep({1: (100, 9)})
    small.write(replan)
    assert small.all(select(OrderLine).where(OrderLine.order_id == order.id))[0].lane_id == small.lane(1).id


FAULTS = {
    "units": (
        lambda s, context: (name(context, Sku, 1, "Lamp"), name(context, Sku, 2, "Lamp, pack of 3"), bare(context, 2), lanes.open_lane(context, 2, [lanes.LaneItem(1, Fraction(3))]),
                         lanes.change_lane(context, lanes.lanes_of(context, 1)[0][0].id, None, units=Fraction(2))),
        1, "Set it to",
    ),
    "kit": (
        lambda s, context: (bare(context, 1), lanes.open_lane(context, 1, [lanes.LaneItem(2, Fraction(1)), lanes.LaneItem(3, Fraction(1))]), name(context, Item, 3, "Item 3", offer="gone")),
        1, "Look",
    ),
    "circle": (
        lambda s, context: [lanes.open_requested(context, lanes.LaneRequest(a, [lanes.LaneItem(b, Fraction(1))], is_substitute=True)) for a, b in ((1, 2), (2, 3), (3, 1))],
        1, "Remove",
    ),
    "unsent": (lambda s, context: setattr(context.get(Store, 1, "store"), "country", "FR"), 6, "Close"),
    "cost": (lambda s, context: name(context, Item, 1, "Item 1", cost=250), 1, "It is the same"),
}  # fmt: skip


@pytest.mark.parametrize("kind", FAULTS)
def test_lanes_that_cannot_be_right_are_found_and_mended_by_one_step(small: Small, kind: str) -> None:
    make, count, step = FAULTS[kind]
    small.write(lambda context: (make(small, context), context.session.flush()))
    found = small.write(audit.refresh)
    assert [one.kind for one in found] == [kind] * count and found[0].step.startswith(step)
    with small.db.reading() as s:
        assert "Lane fault" in {one.kind for one in today.open_alerts(small.context(s))}
    if found[0].act:
        small.write(lambda context: audit.mend(context, found[0].key))
        assert len(small.write(audit.faults)) == count - 1
    else:
        with pytest.raises(Conflict, match="look at the SKU"):
            small.write(lambda context: audit.mend(context, found[0].key))
        small.write(lambda context: audit.set_aside(context, found[0].key))
        assert small.write(audit.faults) == []


def test_a_cost_out_of_all_proportion_stops_the_lane_until_a_person_says_it_is_right(small: Small) -> None:
    small.write(lambda context: lanes.open_lane(context, 1, [lanes.LaneItem(4, Fraction(1))], use=1))
    for _ in range(3):
        small.sweep({1: (390, 20)})
    lane = small.lane(1)
    assert lane.state == "shut" and "£1.00" in lane.reason and "£3.90" in lane.reason
    assert small.listing(1).lane_id == small.lane(1, 1).id
    small.write(lambda context: lane_terms.confirm_lane(context, lane.id, lane.version))
    assert small.lane(1).state == "open" and small.listing(1).lane_id == lane.id
    small.sweep({1: (400, 20)})
    assert small.lane(1).state == "open"
    # What is right may come in other units now: a fifth of what became a pack of five.
    small.write(lambda context: lane_terms.confirm_lane(context, lane.id, small.lane(1).version, Fraction(1, 5)))
    assert small.listing(1).landed == 400 + 130


def test_trust_comes_from_what_happened_and_makes_lanes_slow_or_shut(small: Small) -> None:
    numbers = iter(range(100, 400))

    def happened(sku: str, times: int, days: int, refused: bool = False) -> None:
        for _ in range(times):
            order = small.order(f"P{next(numbers)}", (sku, 1, 3000), promised_days=4)
            small.write(lambda context, order=order: purchase_orders.send(context, [order.id]))
            row = small.all(select(PurchaseOrder).order_by(PurchaseOrder.id.desc()))[0]
            if refused:
                small.write(
                    lambda context, row=row: supplier_answers.take_answer(
                        context, PurchaseAnswer(row.reference, "X", "refused", "no more", None, None)
                    )
                )
                continue
            number = make_s10("HP", next(numbers), "GB")
            small.write(
                lambda context, row=row, number=number: supplier_answers.take_answer(
                    context, PurchaseAnswer(row.reference, "X", "shipped", "", None, Tracking(number, "Hill Post"))
                )
            )

            def arrive(context: Context, number: str = number, days: int = days) -> None:
                parcel = context.session.scalars(select(Parcel).where(Parcel.number == number)).one()
                parcel.state, parcel.ended_at = "delivered", context.now + timedelta(days=days)

            small.write(arrive)

    happened("S-1", 12, 2)
    happened("S-2", 12, 9)
    happened("S-3", 14, 0, refused=True)
    with small.db.reading() as s:
        found = performance.trusts(small.context(s), [small.lane(n).id for n in (1, 2, 3, 4)])
    good, late, never, fresh = found.values()
    assert (good.on_time.good, good.on_time.count, good.days.count) == (12, 12, 12) and good.on_time.low > 0.6
    assert (late.on_time.good, late.on_time.count) == (0, 12) and late.on_time.high < 0.45 and late.days.sure == 9
    assert (never.accepted.good, never.accepted.count) == (0, 14) and never.accepted.high < 0.4
    # A lane that has done nothing yet is taken to be like its supplier, and far less surely.
    assert fresh.on_time.count == 0 and fresh.on_time.low < late.on_time.high < fresh.on_time.high
    small.write(lambda context: PolicyChange("house", "", {"shut_below": 450_000}).keep(context))
    for n in (1, 2, 3):
        small.write(lambda context, n=n: setattr(context.get(Lane, small.lane(n).id, "lane"), "state", "open"))
    assert small.write(performance.follow_trust) == 2
    assert [small.lane(n).state for n in (1, 2, 3)] == ["open", "slow", "shut"]
    assert small.lane(2).reason == "by what happened: 0 of 12 parcels by the promise"
    # What a person confirms is left as they said.
    small.write(lambda context: lane_terms.confirm_lane(context, small.lane(2).id, small.lane(2).version))
    assert small.write(performance.follow_trust) == 0
    # And so is what they set with a reason in words of their own; undone, the lane is judged again.
    small.write(lambda context: lanes.change_lane(context, small.lane(3).id, small.lane(3).version, state="open", reason="they promised"))
    assert small.lane(3).cause == LaneCause.person and small.write(performance.follow_trust) == 0
    small.write(lambda context: undo.undo(context, small.act("lane.change").id))
    assert (small.lane(3).state, small.lane(3).cause, small.lane(3).reason[:17]) == ("shut", LaneCause.record, "by what happened:")
