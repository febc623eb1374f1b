"""From a sweep to what the store shows: followed within a sweep, and never fooled."""

from __future__ import annotations

import numpy as np
import pytest
from sqlalchemy import select

from amber_lane.connectors.errors import OutsideError
from amber_lane.connectors.kinds import connect
from amber_lane.data.outbox import AuditEntry, Outbox
from amber_lane.data.setup import Supplier
from amber_lane.data.shelf import Listing
from amber_lane.data.source import Item
from amber_lane.data.watch import ListingDecision, Sighting, Sweep
from amber_lane.services.activity import undo
from amber_lane.services.alerts import today
from amber_lane.services.base.errors import Conflict, Invalid
from amber_lane.services.monitoring import sweeps
from amber_lane.services.pricing import manual_price, what_if
from amber_lane.services.pricing.drafts import Draft, RuleChange


def test_price_and_stock_follow_and_the_reason_is_kept(business):
    sku, item = business.laned()
    before = business.listing(sku)
    business.world.post("items", number=item.number, cost=item.cost * 12 // 10, stock=5)
    business.sweep()
    business.settle()
    after, shown = business.listing(sku), business.world.shown(sku)[-1]
    assert after.wanted_price > before.wanted_price and after.wanted_price % 100 == 95
    assert (
        (shown["price"], shown["quantity"], shown["state"])
        == (after.wanted_price, 3, "live")
        == (after.shown_price, after.wanted_quantity, after.shown_state)
    )
    with business.app_state.db.reading() as s:
        response, _, _, why = what_if.explain_decision(
            business.context(s), s.scalars(select(ListingDecision).order_by(ListingDecision.id.desc())).first().id
        )
    assert response.kind == "reprice" and response.state == "sent"
    assert sum(step.amount for step in why.steps[:-1]) == why.profit == after.profit
    # Undone, the old values go out by the same road.
    with business.app_state.db.writing() as s:
        undo.undo(
            business.context(s),
            s.scalars(select(AuditEntry.id).where(AuditEntry.kind == "watch.respond").order_by(AuditEntry.id.desc())).first(),
        )
    business.settle()
    assert business.world.shown(sku)[-1]["price"] == before.wanted_price


def test_nothing_left_pauses_at_once_and_steady_stock_brings_it_back(business):
    sku, item = business.laned(1)
    seen = []
    for stock in (0, 40, 0, 40, 40):
        business.world.post("items", number=item.number, stock=stock)
        business.sweep()
        business.settle()
        seen.append(business.world.shown(sku)[-1]["state"])
    assert seen == ["paused", "paused", "paused", "paused", "live"]


def test_a_price_of_a_penny_never_reaches_the_store(business):
    sku, item = business.laned(2)
    before = business.listing(sku).wanted_price
    business.world.post("items", number=item.number, cost=1)
    business.sweep()
    business.settle()
    assert business.listing(sku).wanted_price == before
    with business.app_state.db.writing() as s:
        context = business.context(s)
        assert any(one.key == f"doubt:{item.id}" for one in today.open_alerts(context))
        today.do_step(context, f"doubt:{item.id}")
    for _ in range(4):
        # Set aside by a person, it does not become true by being seen again.
        business.sweep()
    assert business.listing(sku).wanted_price == before
    assert business.one(select(Item).where(Item.id == item.id)).offer == "good"
    business.world.post("items", number=item.number, cost=item.cost)


def test_a_sheet_of_zeros_is_held_and_settled_by_a_person(business):
    live = len(business.all(select(Listing).where(Listing.state == "live")))
    business.world.dial("wholesale", "zero_stock", 1)
    business.sweep()
    business.settle()
    held = business.one(select(Sweep).where(Sweep.state == "held"))
    assert len(business.all(select(Listing).where(Listing.state == "live"))) == live
    with business.app_state.db.writing() as s:
        sweeps.settle_held(business.context(s), held.id, believe=True)
    assert not business.all(select(Listing).where(Listing.state == "live", Listing.lane_id.is_not(None)))
    with business.app_state.db.writing() as s, pytest.raises(Conflict):
        sweeps.settle_held(business.context(s), held.id, believe=False)


def test_a_feed_that_stands_still_is_not_believed_for_long(business):
    business.sweep()
    business.world.dial("wholesale", "frozen", 1)
    business.sweep()
    business.sweep()
    assert business.all(select(Sweep).order_by(Sweep.id))[-1].state == "stale"
    assert business.all(select(Listing).where(Listing.state == "live"))
    business.on(60 * 7)
    business.sweep()
    assert business.one(select(Supplier)).stale
    assert not business.all(select(Listing).where(Listing.state == "live", Listing.lane_id.is_not(None)))
    business.world.dial("wholesale", "frozen", 0)
    for _ in range(3):
        business.sweep()
    assert not business.one(select(Supplier)).stale
    assert business.all(select(Listing).where(Listing.state == "live", Listing.lane_id.is_not(None)))


def test_an_unchanged_sweep_costs_no_row_and_a_failed_one_changes_nothing(business):
    business.sweep()
    before = len(business.all(select(Sighting)))
    business.sweep()
    assert len(business.all(select(Sighting))) == before
    business.world.dial("wholesale", "malformed", 1)
    business.sweep()
    last = business.all(select(Sweep).order_by(Sweep.id))[-1]
    assert last.state == "failed" and "cannot be read" in last.message and last.retries == 3
    assert len(business.all(select(Sighting))) == before


def test_the_newest_wish_wins_and_the_older_is_dropped(business):
    sku, _ = business.laned(3)
    listing = business.listing(sku)
    for price in (listing.wanted_price + 300, listing.wanted_price + 500):
        with business.app_state.db.writing() as s:
            row = s.get(Listing, listing.id)
            manual_price.fix_price(business.context(s), listing.id, row.version, price, "a trial")
    sent = business.all(select(Outbox).where(Outbox.subject == f"listing:{listing.id}").order_by(Outbox.id))[-2:]
    assert [row.state for row in sent] == ["dropped", "waiting"] and sent[0].overtaken_by == sent[1].key
    business.settle()
    assert business.world.shown(sku)[-1]["price"] == listing.wanted_price + 500
    with business.app_state.db.writing() as s, pytest.raises(Invalid, match="loses"):
        manual_price.fix_price(business.context(s), listing.id, s.get(Listing, listing.id).version, 100)
    with business.app_state.db.writing() as s, pytest.raises(Conflict, match="somebody changed"):
        manual_price.fix_price(business.context(s), listing.id, listing.version, 9900)


def test_the_largest_step_is_a_days_not_a_sweeps(business):
    sku, item = business.laned(4)
    with business.app_state.db.writing() as s:
        context = business.context(s)
        rules = RuleChange([Draft("house", "", 0, {"rule": "margin", "rule_value": 280_000, "step": 50_000})])
        view = what_if.what_if(context, rules)
        what_if.apply(context, rules, view.counts, None)
    for _ in range(8):
        # The price of before goes to what the rule asks for by steps, too.
        business.on(60 * 25)
        with business.app_state.db.writing() as s:
            sweeps.step_on(business.context(s))
    start, now = business.listing(sku).wanted_price, business.one(select(Item.cost).where(Item.id == item.id))
    business.world.post("items", number=item.number, cost=now * 13 // 10)
    for _ in range(3):
        business.sweep()
        business.buy(sku=sku, quantity=1)
    first = business.listing(sku).wanted_price
    assert start < first <= start * 105 // 100
    business.on(60 * 25)
    with business.app_state.db.writing() as s:
        sweeps.step_on(business.context(s))
    assert business.listing(sku).wanted_price > first


def test_rules_are_seen_before_they_are_made_and_undone_after(business):
    draft = RuleChange([Draft("house", "", 0, {"rule": "multiple", "rule_value": 4_000_000, "endings": "99"})])
    with business.app_state.db.reading() as s:
        view = what_if.what_if(business.context(s), draft)
    old = {row.id: row.wanted_price for row in business.all(select(Listing))}
    with business.app_state.db.writing() as s, pytest.raises(Conflict, match="moved since"):
        what_if.apply(business.context(s), draft, {"rise": -1, "fall": 0}, None)
    with business.app_state.db.writing() as s:
        counts = what_if.apply(business.context(s), draft, view.counts, None)
    assert counts["reprice"] == view.counts["rise"] + view.counts["fall"] > 0
    with business.app_state.db.writing() as s:
        undo.undo(business.context(s), s.scalars(select(AuditEntry.id).where(AuditEntry.kind == "rule.change")).one())
    assert {row.id: row.wanted_price for row in business.all(select(Listing))} == old


def test_a_broken_link_says_why(business):
    link = connect("supplier", "wholesale_api", f"{business.world.address}/wholesale/api", "wrong", 1.0)
    with pytest.raises(OutsideError, match="does not accept the key"):
        link.account()


def test_a_sweep_that_was_given_up_changes_nothing_and_one_of_a_dead_worker_is_asked_anew(small):
    def begin(context):
        return sweeps.begin(context, context.get(Supplier, 1, "supplier")).id

    def take(number, cost):
        told = sweeps.SweepData(["I-1"], np.array([cost]), ["GBP"], np.array([20]), small.clock.now(), False)
        return small.write(lambda context: sweeps.take_sweep(context, context.get(Sweep, number, "sweep"), told))

    slow = small.write(begin)
    with pytest.raises(Conflict, match="running already"):
        small.write(begin)
    small.later(minutes=31)
    quick = small.write(begin)
    # The answer of the first comes after all: the newer one counts, and the item keeps its cost until then.
    with pytest.raises(Conflict, match="took too long"):
        take(slow, 101)
    small.write(lambda context: sweeps.fail(context, context.get(Sweep, slow, "sweep"), "no answer"))
    assert small.all(select(Item.cost).where(Item.id == 1)) == [100]
    take(quick, 102)
    assert small.all(select(Item.cost).where(Item.id == 1)) == [102]
    assert small.all(select(Sweep.state).order_by(Sweep.id)) == ["failed", "good"]
    # A worker dies in the middle of one: the next does not wait half an hour for it.
    small.later(minutes=20)
    small.write(begin)
    assert small.write(sweeps.recover) == 1 and small.write(sweeps.recover) == 0
    assert small.all(select(Supplier.next_sweep)) == [small.clock.now()] and small.write(begin)
    assert small.all(select(Sweep.message).where(Sweep.state == "failed")) == ["it was cut off", "it was cut off"]
