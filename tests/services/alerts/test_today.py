"""Today: every kind of trouble comes when it is there, is ranked by money, has a step that helps, and goes when it is mended."""

from __future__ import annotations

from collections.abc import Callable
from datetime import date
from fractions import Fraction
from typing import Any

import pytest
from sqlalchemy import select, update

from amber_lane.clock import PacedClock
from amber_lane.connectors.protocols import Tracking
from amber_lane.data.lanes import Lane
from amber_lane.data.orders import Order, OrderLine, PurchaseOrder
from amber_lane.data.outbox import Outbox
from amber_lane.data.setup import Link, Service, Store, Supplier
from amber_lane.data.shelf import Listing
from amber_lane.data.source import Item
from amber_lane.data.transit import Parcel
from amber_lane.services.activity import undo
from amber_lane.services.alerts import today
from amber_lane.services.alerts.alert import Alert
from amber_lane.services.base import regional
from amber_lane.services.base.context import Context
from amber_lane.services.base.errors import Conflict, NotFound
from amber_lane.services.fulfilment import delivery_exceptions, parcel_tracking
from amber_lane.services.mapping import lanes
from amber_lane.services.monitoring import sweeps
from amber_lane.services.orders import orders
from amber_lane.services.outbox import queue
from amber_lane.services.pricing.drafts import Draft, PolicyChange, RateChange, RuleChange
from amber_lane.services.purchasing import purchase_orders, supplier_answers

from ...small import Small


def open_alerts(small: Small) -> list[Alert]:
    with small.db.reading() as s:
        return today.open_alerts(small.context(s))


def of(small: Small, kind: str) -> list[Alert]:
    return [one for one in open_alerts(small) if one.kind == kind]


def first_lane(context: Context, sku: int) -> Lane:
    return lanes.lanes_of(context, sku)[0][0]


def unmapped(small: Small) -> None:
    small.write(lambda context: lanes.close_lane(context, first_lane(context, 6).id, 1))


def unmapped_order(small: Small) -> None:
    small.order("U", ("S-404", 2, 900))


def held_for_a_loss(small: Small) -> None:
    small.order("L", ("S-5", 1, 10))


def held_feed(small: Small) -> None:
    # Fewer than twenty items are too few to tell a broken feed from a bad day.
    def more(context: Context) -> None:
        for n in range(100, 120):
            context.session.add(Item(id=n, supplier_id=1, origin_id=1, number=f"I-{n}", title="More", currency="GBP", cost=n, stock=9))

    small.write(more)
    small.sweep({n: (n, 0) for n in range(100, 120)} | {n: (n * 100, 0) for n in range(1, 7)})


def old_feed(small: Small) -> None:
    small.sweep({})
    small.later(hours=3)
    small.write(lambda context: sweeps.fail(context, sweeps.begin(context, context.get(Supplier, 1, "supplier")), "no answer within 10 s"))


def doubted(small: Small) -> None:
    small.sweep({1: (300, 20)})


def oversold(small: Small) -> None:
    small.sweep({1: (100, 0)})
    small.write(lambda context: context.session.execute(update(Outbox).where(Outbox.subject == "listing:1").values(tries=3)))
    small.later(minutes=2)


def dead(small: Small) -> None:
    small.sweep({2: (230, 20)})
    small.write(
        lambda context: context.session.execute(
            update(Outbox).where(Outbox.state == "waiting").values(state="dead", fault="refused", answer="422: no")
        )
    )


def needs_a_step(small: Small) -> None:
    small.later(hours=25)
    small.respond()
    small.write(
        lambda context: RuleChange(
            [Draft("house", "", 0, {"rule": "margin", "rule_value": 300_000, "min_margin": 300_000, "step": 1})]
        ).keep(context)
    )
    small.sweep({1: (135, 20)})


def ceiling(small: Small) -> None:
    small.write(
        lambda context: RuleChange([Draft("house", "", 0, {"rule": "margin", "rule_value": 300_000, "ceiling": 300})]).keep(context)
    )
    small.respond()


def not_sent_there(small: Small) -> None:
    def join(context: Context) -> None:
        small.second_store(context.session, country="IE")
        small.list_sku(context.session, 1, store=2)

    small.write(join)
    small.respond()


def no_rate(small: Small) -> None:
    def join(context: Context) -> None:
        small.second_store(context.session, currency="EUR")
        small.list_sku(context.session, 1, store=2, currency="EUR")

    small.write(join)


def refused(small: Small) -> None:
    one = small.order("R", ("S-3", 1, 2000))
    made = small.write(lambda context: purchase_orders.send(context, [one.id]))[0]
    small.write(
        lambda context: supplier_answers.take_answer(
            context, supplier_answers.PurchaseAnswer(made.reference, "", "refused", "out of print", None, None)
        )
    )


def unread(small: Small) -> None:
    small.write(lambda context: context.log("order.unreadable", "First shop", "order 77 of First shop could not be read: quantity -1"))


def broken_link(small: Small) -> None:
    small.write(
        lambda context: context.session.execute(
            update(Link).where(Link.owner == "store").values(state="broken", message="401: the key is wrong")
        )
    )


def sent(small: Small, number: str) -> PurchaseOrder:
    one = small.order(number, ("S-4", 1, 3000))
    made = small.write(lambda context: purchase_orders.send(context, [one.id]))[0]
    small.write(
        lambda context: supplier_answers.take_answer(
            context, supplier_answers.PurchaseAnswer(made.reference, "", "accepted", "", None, None)
        )
    )
    return made


def wrong_number(small: Small) -> None:
    made = sent(small, "N")
    told = Tracking("RR473124820GB", "Hill Post")
    small.write(
        lambda context: supplier_answers.take_answer(
            context, supplier_answers.PurchaseAnswer(made.reference, "", "shipped", "", None, told)
        )
    )


def late_parcel(small: Small) -> None:
    made = sent(small, "P")
    small.write(lambda context: parcel_tracking.enter_tracking(context, made.reference, "RR473124829GB", "Hill Post"))
    small.later(days=12)


COMES: dict[str, tuple[Callable[[Small], None], str]] = {
    "Unmapped": (unmapped, "1 SKU on sale without a lane"),
    "Unmapped order": (unmapped_order, "1 order waits on S-404"),
    "Loss": (held_for_a_loss, "profit would be −"),
    "Held feed": (held_feed, "Supply House"),
    "Old feed": (old_feed, "no good sweep since"),
    "Doubted": (doubted, "£1.00 → £3.00"),
    "Oversell": (oversold, "is off sale here and still on sale in First shop"),
    "Rejected": (dead, "First shop rejected 6 changes of listings"),
    "No price": (needs_a_step, "larger step than you allow"),
    "Ceiling": (ceiling, "price ceiling"),
    "Not sent there": (not_sent_there, "does not send 1 listing to IE"),
    "No rate": (no_rate, "from GBP to EUR"),
    "Refused": (refused, "S-3 was refused"),
    "Not read": (unread, "could not be read"),
    "Broken link": (broken_link, "First shop does not answer"),
    "Number": (wrong_number, "tracking number is wrong"),
    "Late": (late_parcel, "1 parcel"),
}


@pytest.mark.parametrize("kind", COMES)
def test_each_trouble_comes_with_its_money_its_age_and_a_step(small: Small, kind: str) -> None:
    small.respond()
    make, said = COMES[kind]
    before = {one.key for one in open_alerts(small)}
    assert not before, "a calm house has no troubles"
    make(small)
    found = [one for one in open_alerts(small) if said in one.message or said in one.reason]
    assert len(found) == 1, [one.message for one in open_alerts(small)]
    one = found[0]
    assert one.kind in (kind, "Unmapped", "Step", "Held", "Ceiling") and one.at_risk >= 0 and one.since <= small.clock.now()
    assert one.step.label and (one.step.act or one.step.go.startswith("/")) and not (one.step.act and one.step.go)
    # Put off, it is gone; at its time, or when that is undone, it is back.
    small.write(lambda context: today.put_off(context, one.key, 8))
    assert one.key not in {other.key for other in open_alerts(small)}
    with small.db.reading() as s:
        assert today.counts(small.context(s)).get("today", 0) == len(open_alerts(small))
    small.write(lambda context: undo.undo(context, small.act("snooze").id))
    assert one.key in {other.key for other in open_alerts(small)}


def mend_feed(small: Small) -> None:
    small.sweep({n: (n * 100, 20) for n in range(1, 7)})


MENDED: dict[str, Callable[[Small], Any]] = {
    "Unmapped": lambda small: small.write(lambda context: lanes.open_lane(context, 6, [lanes.LaneItem(6, Fraction(1))])),
    "Loss": lambda small: small.write(
        lambda context: orders.allow(context, context.session.scalars(select(Order.id)).one(), "for a friend")
    ),
    "Held feed": mend_feed,
    "Old feed": mend_feed,
    "Doubted": lambda small: small.sweep({1: (100, 20)}),
    "Oversell": lambda small: small.write(
        lambda context: context.session.execute(update(Listing).where(Listing.id == 1).values(shown_state="paused"))
    ),
    "Ceiling": lambda small: small.write(
        lambda context: RuleChange([Draft("house", "", 0, {"rule": "margin", "rule_value": 300_000})]).keep(context)
    ),
    "Not sent there": lambda small: small.write(
        lambda context: context.session.add(
            Service(origin_id=1, code="slow", name="slow", country="IE", first=1, following=1, days_low=1, days_high=2)
        )
    ),
    "No rate": lambda small: small.write(lambda context: RateChange("GBP", "EUR", 10**9).keep(context)),
    "Number": lambda small: small.write(
        lambda context: parcel_tracking.enter_tracking(
            context, context.session.scalars(select(PurchaseOrder.reference)).one(), "RR473124829GB", "Hill Post"
        )
    ),
}


@pytest.mark.parametrize("kind", MENDED)
def test_a_trouble_goes_when_its_cause_does(small: Small, kind: str) -> None:
    small.respond()
    COMES[kind][0](small)
    assert of(small, kind) or of(small, "Unmapped")
    MENDED[kind](small)
    small.respond()
    assert not of(small, kind), [one.message for one in of(small, kind)]


@pytest.mark.parametrize("kind", ["Held feed", "Doubted", "Rejected", "Oversell", "Old feed"])
def test_the_step_that_is_offered_helps(small: Small, kind: str) -> None:
    small.respond()
    COMES[kind][0](small)
    one = of(small, kind)[0]
    assert one.step.act
    told = small.write(lambda context: today.do_step(context, one.key))
    assert told.startswith(one.step.label)
    if kind in ("Held feed", "Doubted"):
        assert not of(small, kind) and small.listing(1).state == "live" and small.all(select(Item.cost).where(Item.id == 1)) == [100]
    elif kind == "Rejected":
        row = small.all(select(Outbox).where(Outbox.subject == "listing:2").order_by(Outbox.id.desc()))[0]
        assert (row.state, row.tries) == ("waiting", 0) and row.claimed_at, "whether it was done is asked before it is done again"
    elif kind == "Old feed":
        assert small.all(select(Supplier.next_sweep)) == [small.clock.now()]
    else:
        assert all(row.after <= small.clock.now() for row in small.all(select(Outbox).where(Outbox.subject == "listing:1")))


def test_a_change_that_was_not_taken_is_never_sent_after_a_newer_one(small: Small) -> None:
    small.respond()
    dead(small)
    assert any(kept.name == "S-2" for one in of(small, "Rejected") for kept in one.members)
    small.sweep({2: (320, 20)})
    assert not any(kept.name == "S-2" for one in of(small, "Rejected") for kept in one.members)
    assert small.all(select(Outbox.state).where(Outbox.subject == "listing:2").order_by(Outbox.id))[-2:] == ["dropped", "waiting"]


def test_dearest_first_and_a_settled_one_cannot_be_done_again(small: Small) -> None:
    small.respond()
    for make in (broken_link, held_for_a_loss, unread, doubted, unmapped_order):
        make(small)
    ranked = [one.at_risk * (3 if one.per_day else 1) for one in open_alerts(small)]
    assert len(ranked) == 5 and ranked == sorted(ranked, reverse=True)
    key = of(small, "Doubted")[0].key
    small.write(lambda context: today.do_step(context, key))
    with pytest.raises(Conflict, match="done already"):
        small.write(lambda context: today.do_step(context, key))
    with pytest.raises(Conflict, match="in its own view"):
        small.write(lambda context: today.do_step(context, of(small, "Broken link")[0].key))
    with pytest.raises((Conflict, NotFound)):
        small.write(lambda context: today.do_step(context, "nonsense"))


def test_what_was_done_alone_and_what_was_earned_is_told_from_what_happened(small: Small) -> None:
    small.respond()
    one, two = small.order("A", ("S-1", 2, 900)), small.order("B", ("S-2", 1, 1500))
    small.sweep({3: (390, 20)})
    small.write(lambda context: orders.cancel(context, two.id))
    with small.db.reading() as s:
        context = small.context(s)
        days = today.profit_by_day(context, 3)[0]
        alone = [one.act.kind for one in today.done_alone(context)]
        lanes_shown = today.flow(context)
    # Two at 9.00, a tenth to the store, two at 1.00 with one parcel of 1.00 + 0.40 + 0.30.
    assert [day.expected for day in days] == [0, 0, 1800 - 180 - 200 - 170] and all((day.sales, day.profit) == (0, 0) for day in days)
    assert "watch.respond" in alone and [(row["store_name"], row["lines"]) for row in lanes_shown] == [("First shop", 1)]
    assert small.all(select(OrderLine.state).where(OrderLine.order_id == one.id)) == ["ready"]


def test_a_parcel_is_late_by_its_promise_and_not_before(small: Small) -> None:
    late_parcel(small)
    made, promised = small.all(select(Parcel.made_at))[0], date(2026, 3, 21)

    def told(promised: date, day: int, hour: int = 9) -> str:
        with small.db.reading() as s:
            at = small.clock.now().replace(day=day, hour=hour)
            return delivery_exceptions.trouble_of(Context(s, PacedClock(at, 0), "T"), "label", "", made, None, promised)

    assert (told(promised, 21), told(promised, 22), told(promised.replace(day=28), 13)) == ("unmoved", "late", "")
    # The promise is kept until the day is over where the house is: in Denver that is hours later, in Tokyo hours earlier.
    for country, zone, wrong in (("US", "America/Denver", ("unmoved", "late")), ("JP", "Asia/Tokyo", ("late", "late"))):
        with small.db.writing() as s:
            regional.set_usual_place(small.context(s), country, zone)
        assert (told(promised, 21, 20), told(promised, 22, 9)) == wrong
        assert (told(promised, 22, 3) == "late") == (zone == "Asia/Tokyo")
    with small.db.reading() as s:
        assert queue.waiting(small.context(s)) > 0 and s.get(Store, 1) is not None
    small.write(lambda context: PolicyChange("house", "", {"cap": 5}).keep(context))
    assert of(small, "Late")


def test_a_trouble_put_off_until_it_changes_wakes_when_it_says_something_else(small: Small) -> None:
    small.order("A", ("S-99", 1, 900))
    key = of(small, "Unmapped")[0].key
    small.write(lambda context: today.put_off(context, key, 4, until_change=True))
    small.later(days=3)
    assert not of(small, "Unmapped"), "time alone does not wake it"
    small.order("B", ("S-99", 1, 900))
    assert [one.message for one in of(small, "Unmapped")] == ["2 orders wait on S-99"]
    with pytest.raises(Conflict, match="done already"):
        small.write(lambda context: today.put_off(context, "lane:nothing", 4, until_change=True))
