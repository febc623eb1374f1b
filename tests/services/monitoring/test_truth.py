"""A reason is as true as the thing is now: what waits, feeds that say the same for ever, bands that fall, steps, plans, wrong numbers."""

from __future__ import annotations

from datetime import timedelta
from typing import Any

import pytest
from sqlalchemy import func, select

from amber_lane.connectors.protocols import Tracking
from amber_lane.core.plans import Membership
from amber_lane.data.orders import PurchaseOrder
from amber_lane.data.outbox import AuditEntry, Outbox
from amber_lane.data.setup import Supplier
from amber_lane.data.shelf import Listing
from amber_lane.data.watch import ListingDecision, Sweep
from amber_lane.services.alerts import today
from amber_lane.services.alerts.alert import Alert
from amber_lane.services.base.context import Context
from amber_lane.services.fulfilment import parcel_tracking
from amber_lane.services.monitoring import sweeps
from amber_lane.services.pricing import drafts, what_if
from amber_lane.services.pricing.decide import CROWD
from amber_lane.services.pricing.inputs import Facts
from amber_lane.services.pricing.rule_steps import dips
from amber_lane.services.purchasing import purchase_orders

from ...small import Small


def open_alerts(small: Small, kind: str) -> list[Alert]:
    with small.db.reading() as s:
        return [one for one in today.open_alerts(small.context(s)) if one.kind == kind]


def crowd(small: Small) -> list[ListingDecision]:
    return small.all(select(ListingDecision).where(ListingDecision.state == "waits", ListingDecision.outcome == CROWD))


def keep(small: Small, *rules: drafts.Draft) -> None:
    small.write(lambda context: drafts.RuleChange(list(rules)).keep(context))


def test_what_waits_since_a_feed_stopped_is_worked_out_anew_when_it_is_back(small: Small) -> None:
    small.respond()
    small.write(lambda context: drafts.PolicyChange("house", "", {"wait_over": 2}).keep(context))

    def stopped(context: Context) -> None:
        act = context.log("watch.stale", "Supply House", "Supply House: no good sweep for 6 h", after={"supplier": 1})
        context.session.execute(Listing.__table__.update().values(wanted_price=Listing.wanted_price + 100))
        context.session.flush()
        context.reprice(None, act=act.id, alone=True)
        context.carry_out()
        context.session.get(Supplier, 1).stale = True

    small.write(stopped)
    assert len(crowd(small)) == 6 and "no good sweep" in open_alerts(small, "Many at once")[0].message
    # The feed is back, and says what it said before: five of them would move by its figures now, for another reason.
    small.write(lambda context: setattr(context.session.get(Supplier, 1), "good_sweep_at", context.now))
    small.sweep({1: (200, 20)})
    (told,) = open_alerts(small, "Many at once")
    assert "no good sweep" not in told.message and "a sweep of Supply House" in told.message and told.count == len(crowd(small))
    done = small.write(lambda context: today.do_step(context, told.key))
    assert done and not crowd(small)
    act = small.act("response.settle")
    moved = small.all(
        select(func.count()).select_from(ListingDecision).where(ListingDecision.audit_entry_id == act.id, ListingDecision.state == "sent")
    )[0]
    assert "falls" in act.message or "fall" in act.message or "rise" in act.message
    assert moved == told.count, "the step did what it said"


def test_a_price_that_goes_on_since_a_day_has_passed_says_so(small: Small) -> None:
    keep(small, drafts.Draft("house", "", 0, {"rule": "margin", "rule_value": 300_000, "step": 20_000}))
    small.later(hours=25)
    small.respond()
    small.later(hours=25)
    small.write(sweeps.step_on)
    act = small.act("watch.step")
    assert act.message.startswith("a day has passed") and small.all(
        select(ListingDecision.id).where(ListingDecision.audit_entry_id == act.id)
    )


def past_sweeps(small: Small, gaps: list[float]) -> None:
    """Past sweeps with changes, so many hours apart, the last one now."""

    def make(context: Context) -> None:
        at = context.now - timedelta(hours=sum(gaps))
        for gap in [0.0, *gaps]:
            at += timedelta(hours=gap)
            context.session.add(Sweep(supplier_id=1, started=at, ended=at, state="good", changes=3, items=6))

    small.write(make)


@pytest.mark.parametrize(("gaps", "hours", "stale"), [([1.0] * 30, 7, False), ([1.0] * 30, 12, True), ([1.0, 1.0, 14.0] * 10, 15, False)])
def test_a_feed_that_says_the_same_for_ever_is_stale_unless_it_always_rests_so_long(
    small: Small, gaps: list[float], hours: int, stale: bool
) -> None:
    small.sweep({})
    past_sweeps(small, gaps)
    small.later(hours=hours)
    small.sweep({})
    newest = small.all(select(Sweep).order_by(Sweep.id.desc()))[0]
    assert (newest.state == "stale") is stale
    if not stale:
        return
    assert "said the same for 12 h" in newest.message and small.all(select(Supplier.stale)) == [True]
    (told,) = open_alerts(small, "Old feed")
    small.write(lambda context: today.do_step(context, told.key, other=True))
    small.sweep({})
    assert small.all(select(Sweep.state).order_by(Sweep.id.desc()))[0] == "good" and small.all(select(Supplier.stale)) == [False]


BANDS = (
    drafts.Draft("house", "", 0, {"rule": "multiple", "rule_value": 2_000_000}),
    drafts.Draft("house", "", 400, {"rule": "multiple", "rule_value": 1_500_000}),
)


def test_a_band_at_whose_edge_the_price_falls_is_told_with_its_range_and_mended_by_carrying_the_price_over(small: Small) -> None:
    keep(small, *BANDS)
    with small.db.reading() as s:
        (dip,) = dips(Facts.read(s))
        view = what_if.what_if(small.context(s), drafts.RuleChange(list(BANDS)))
    assert (dip.edge, dip.below, dip.at) == (400, 798, 600) and 530 <= dip.until <= 540
    assert min(price for cost, price in dip.curve if cost >= 400) < dip.below
    # Items that cost 2.00 to 4.00 land at 3.30 to 5.30; the dearer two stand in the dip.
    assert view.counts["dips"] == 2 == view.dips[0].listings
    carried = drafts.Draft("house", "", 400, {"rule": "multiple", "rule_value": 1_500_000, "least_price": dip.below})
    with small.db.reading() as s:
        assert what_if.what_if(small.context(s), drafts.RuleChange([BANDS[0], carried])).dips == []
    small.respond()
    with small.db.reading() as s:
        _, _, why = what_if.explain_price(small.context(s), small.listing(3).id)
    assert why is not None and "general rule from £4.00" in why.sentence


def test_a_step_without_an_allowed_ending_says_so_with_the_nearest_and_from_what_it_is_counted(small: Small) -> None:
    small.respond()
    small.write(
        lambda context: context.session.execute(Listing.__table__.update().values(wanted_price=1000, step_price=None, step_at=None))
    )
    keep(small, drafts.Draft("house", "", 0, {"rule": "multiple", "rule_value": 9_000_000, "step": 20_000, "endings": "50"}))
    small.respond()
    with small.db.reading() as s:
        _, _, why = what_if.explain_price(small.context(s), small.listing(1).id)
    assert why is not None and "no allowed ending lies within the step of 2 % a day" in why.sentence
    assert "day's first price of £10.00" in why.sentence and "£9.50 and £10.50" in why.sentence
    assert open_alerts(small, "Step"), "it is put up for review"
    # At an ending that is allowed, with the next one out of reach: it would stand there for ever without a word.
    small.write(
        lambda context: context.session.execute(Listing.__table__.update().values(wanted_price=1050, step_price=None, step_at=None))
    )
    small.respond()
    with small.db.reading() as s:
        _, _, why = what_if.explain_price(small.context(s), small.listing(1).id)
    assert why is not None and "no other allowed ending lies within the step" in why.sentence and "£9.50 and £11.50" in why.sentence
    assert open_alerts(small, "Step"), "it is put up for review"


def test_the_crossed_out_price_follows_its_rule_to_the_store_and_a_least_price_counts(small: Small) -> None:
    keep(
        small,
        drafts.Draft("house", "", 0, {"rule": "margin", "rule_value": 300_000, "endings": "95", "compare_at": 250_000, "least_price": 700}),
    )
    small.respond()
    listing = small.listing(1)
    assert listing.wanted_price == 795, "the first ending over the least price"
    assert listing.compare_at == 995 and listing.compare_at > listing.wanted_price * 1.25
    (row,) = small.all(select(Outbox).where(Outbox.subject == f"listing:{listing.id}", Outbox.state == "waiting"))
    assert row.body["words"]["compare_at"] == 995
    n = small.all(select(func.count()).select_from(Outbox))[0]
    small.respond()
    assert small.all(select(func.count()).select_from(Outbox)) == [n], "the same again sends nothing"


def test_a_plan_that_pays_is_told_once(small: Small) -> None:
    def offer(context: Context) -> None:
        context.session.get(Supplier, 1).plans = [
            vars(Membership("Circle", 100_000, fee=100)),
            vars(Membership("Dear", 10_000, fee=900_000)),
        ]

    small.write(offer)
    (told,) = open_alerts(small, "Plan")
    assert "Circle of Supply House would save" in told.message and told.at_risk > 0
    small.write(lambda context: today.do_step(context, told.key, other=True))
    assert not open_alerts(small, "Plan")
    small.later(days=400)
    assert not open_alerts(small, "Plan")


def test_a_number_of_another_order_is_counted_as_wrong_told_with_its_reason_and_settled_there(small: Small) -> None:
    small.respond()
    for number, country in (("A", "GB"), ("B", "FR")):
        small.order(number, ("S-1", 1, 2000), country="GB" if number == "A" else country)
    small.order("C", ("S-2", 1, 2500))

    def send(context: Context) -> None:
        purchase_orders.send(context, [1, 3])
        first = context.session.scalars(select(PurchaseOrder).order_by(PurchaseOrder.id)).all()
        for one in first:
            one.state = "accepted"
        context.session.get(purchase_orders.Order, 3).address = {
            **context.session.get(purchase_orders.Order, 3).address,
            "postcode": "LS1 4HY",
        }
        parcel_tracking.take_tracking(context, first[0], Tracking("RR473124829GB", "Hill Post"))

    small.write(send)
    other = small.all(select(PurchaseOrder).order_by(PurchaseOrder.id))[1].reference
    checked = small.sheet("tracking", f"purchase_order,tracking_number,carrier\n{other},RR473124829GB,Hill Post\n")
    assert checked.counts["wrong"] == 1 and checked.counts["new"] == 0 and "order A too" in checked.changes[0]["message"]
    (wrong,) = small.write(parcel_tracking.wrong_numbers)
    assert wrong.reference == other and "goes elsewhere" in wrong.message and open_alerts(small, "Number")
    small.write(lambda context: parcel_tracking.drop_wrong(context, other))
    assert not open_alerts(small, "Number")
    acts: list[Any] = small.all(select(AuditEntry.message).where(AuditEntry.kind == "transit.dropped"))
    assert len(acts) == 1 and other in acts[0]
