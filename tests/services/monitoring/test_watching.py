"""What waits since too much moves at once, unusual moves, rates of the day, stores that differ, calls, plans, returns, replay."""

from __future__ import annotations

from dataclasses import replace
from datetime import timedelta
from decimal import Decimal
from typing import Any

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from sqlalchemy import select, update

from amber_lane.clock import PacedClock
from amber_lane.connectors.protocols import RateTable, StoreListing
from amber_lane.core.plans import Membership
from amber_lane.data.orders import PurchaseOrder
from amber_lane.data.outbox import Outbox
from amber_lane.data.prices import Policy, PriceRule, Rate
from amber_lane.data.setup import Link, RateSource, Store, Supplier
from amber_lane.data.shelf import Listing, Sku
from amber_lane.data.source import Item
from amber_lane.data.transit import Parcel, ParcelLine
from amber_lane.data.watch import Drift, ListingDecision, Sighting
from amber_lane.services.activity import undo
from amber_lane.services.alerts import today
from amber_lane.services.base.errors import Conflict, Invalid
from amber_lane.services.listings import drift
from amber_lane.services.monitoring import decision_groups, polling_plan
from amber_lane.services.pricing import exchange_rates, memberships, replay, return_rates, sales_velocity, what_if
from amber_lane.services.pricing.decide import CROWD
from amber_lane.services.pricing.drafts import PolicyChange, SupplierChange
from amber_lane.services.purchasing import purchase_orders

from ...small import Small


def policy(small: Small, **fields: Any) -> None:
    small.write(lambda context: PolicyChange("house", "", fields).keep(context))


def test_more_prices_than_the_limit_wait_together_and_go_by_one_word(small: Small) -> None:
    small.respond()
    before = [small.listing(n).wanted_price for n in range(1, 7)]
    policy(small, wait_over=3)
    small.sweep({n: (n * 130, 20) for n in range(1, 6)})
    assert [small.listing(n).wanted_price for n in range(1, 7)] == before
    waiting = small.all(select(ListingDecision).where(ListingDecision.state == "waits"))
    assert len(waiting) == 5 and {row.outcome for row in waiting} == {CROWD}
    # Stock is followed all the same, and a sale or another sweep does not let one of them slip through.
    small.sweep({1: (135, 0), 2: (265, 20)})
    assert small.listing(1).state == "paused" and small.listing(2).wanted_price == before[1]
    trouble = next(one for one in small.write(today.open_alerts) if one.key == "crowd")
    assert trouble.count == 5 and "Let 5 move" in trouble.step.label
    told = small.write(lambda context: today.do_step(context, "crowd"))
    assert "5 prices" in told
    assert all(small.listing(n).wanted_price > before[n - 1] for n in range(2, 6))
    assert not small.all(select(ListingDecision).where(ListingDecision.state == "waits"))


def test_letting_many_move_never_takes_another_past_its_limit(small: Small) -> None:
    small.respond()
    policy(small, wait_over=2)
    with small.db.writing() as s:
        # At its ceiling it would lose money, so it waits for a reason of its own.
        s.get(Listing, 5).ceiling = 600
    small.sweep({n: (n * 130, 20) for n in range(1, 6)})
    kept = small.listing(5).wanted_price
    waiting = {row.listing_id: row for row in small.all(select(ListingDecision).where(ListingDecision.state == "waits"))}
    assert waiting[5].outcome != CROWD and waiting[1].outcome == CROWD
    small.write(lambda context: decision_groups.answer_group(context, waiting[1].sweep_id, None, "hold", True, many=True))
    assert small.listing(1).wanted_price > 395 and small.listing(5).wanted_price == kept
    assert [row.listing_id for row in small.all(select(ListingDecision).where(ListingDecision.state == "waits"))] == [5]
    small.write(lambda context: decision_groups.answer_group(context, waiting[5].sweep_id, None, waiting[5].kind, False))
    small.write(lambda context: undo.undo(context, small.act("response.settle").id))
    assert [row.listing_id for row in small.all(select(ListingDecision).where(ListingDecision.state == "waits"))] == [5]


def test_a_group_is_approved_or_taken_back_as_one_and_what_a_person_saw_never_waits(small: Small) -> None:
    small.respond()
    before = [small.listing(n).wanted_price for n in range(1, 7)]
    small.sweep({n: (n * 130, 20) for n in range(1, 6)})
    group = next(one for one in small.write(decision_groups.groups) if one.kind == "reprice" and one.sweep)
    assert (group.count, group.up, group.state) == (5, 5, "sent") and "Supply House" in group.cause
    small.write(lambda context: decision_groups.undo(context, group.sweep, None, "reprice"))
    assert [small.listing(n).wanted_price for n in range(1, 7)] == before
    sent = small.all(select(Outbox).where(Outbox.state == "waiting", Outbox.subject == "listing:1"))
    assert sent[-1].body["price"] == f"{before[0] / 100:.2f}"
    with pytest.raises(Conflict, match="taken back any more"):
        small.write(lambda context: decision_groups.undo(context, group.sweep, None, "reprice"))
    policy(small, wait_over=3)
    # A price that stands is not moved by the next sweep of the same cost; a person's own change moves all of them.
    small.write(lambda context: context.reprice(None))
    assert all(small.listing(n).wanted_price > before[n - 1] for n in range(1, 6))


def test_a_move_that_is_not_like_the_item_is_doubted_and_reaches_no_store(small: Small) -> None:
    small.respond()
    with small.db.writing() as s:
        # It has moved by about one in a hundred, thirty times.
        for k in range(30):
            old, new = 200 + k % 2 * 2, 202 - k % 2 * 2
            at = small.clock.now() - timedelta(days=30 - k)
            s.add(Sighting(sweep_id=_sweep(small, s), item_id=2, at=at, old_cost=old, cost=new, old_stock=20, stock=20, verdict="good"))
    price = small.listing(2).wanted_price
    small.sweep({2: (260, 20), 3: (390, 20)})
    assert small.listing(2).wanted_price == price and small.listing(3).wanted_price > 0
    with small.db.reading() as s:
        assert s.get(Item, 2).offer == "doubted" and s.get(Item, 3).offer == "good"
    assert not [row for row in small.all(select(Outbox).where(Outbox.subject == "listing:2")) if row.made_at >= small.clock.now()]
    trouble = next(one for one in small.write(today.open_alerts) if one.key == "doubt:2")
    assert trouble.other is not None and trouble.other.label == "Use the new cost"
    small.write(lambda context: today.do_step(context, "doubt:2", other=True))
    assert small.listing(2).wanted_price > price
    policy(small, doubt_deviations=0)
    small.sweep({2: (320, 20)})
    with small.db.reading() as s:
        assert s.get(Item, 2).offer == "good"


def _sweep(small: Small, s: Any) -> int:
    from amber_lane.data.watch import Sweep

    row = s.scalars(select(Sweep).limit(1)).first()
    if row is None:
        row = Sweep(supplier_id=1, started=small.clock.now(), ended=small.clock.now(), state="good")
        s.add(row)
        s.flush()
    return int(row.id)


SEEN = st.lists(st.dictionaries(st.integers(1, 6), st.tuples(st.integers(0, 5000), st.integers(0, 30)), max_size=4), min_size=1, max_size=6)


@settings(max_examples=15, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(sweeps=SEEN)
def test_whatever_sweeps_say_every_price_in_the_outbox_was_made_of_a_believed_cost(small: Small, sweeps: list[dict[int, Any]]) -> None:
    last = small.all(select(Outbox.id).order_by(Outbox.id.desc()).limit(1))
    for seen in sweeps:
        small.sweep(seen)
        with small.db.reading() as s:
            believed = {i.id: (i.cost, i.stock) for i in s.scalars(select(Item))}
            good = set(s.execute(select(Sighting.item_id, Sighting.cost).where(Sighting.verdict == "good")).tuples().all())
            for row in s.scalars(select(Listing)):
                # What it lands at is the believed cost and sending; no refused or doubted one ever is.
                cost, stock = believed[row.sku_id]
                assert row.landed in (cost + 130, None) and (cost == row.sku_id * 100 or (row.sku_id, cost) in good)
                assert row.wanted_quantity <= max(stock, 0) or row.state != "live"
    with small.db.reading() as s:
        for row in s.scalars(select(Outbox).where(Outbox.id > (last[0] if last else 0))):
            assert Decimal(row.body["price"]) >= Decimal("1.95")


def test_the_item_that_is_sold_no_more_has_its_own_word(small: Small) -> None:
    small.respond()
    policy(small, at_none="zero", at_gone="end")
    small.sweep({1: (100, 0)})
    assert (small.listing(1).state, small.listing(1).wanted_quantity) == ("live", 0)
    with small.db.writing() as s:
        s.execute(update(Item).where(Item.id == 2).values(offer="gone", stock=0))
    small.respond()
    assert small.listing(2).state == "ended"


def bank(small: Small) -> RateSource:
    with small.db.writing() as s:
        s.execute(update(Supplier).values(currency="PLN"))
        s.execute(update(Item).values(currency="PLN", cost=Item.cost * 8))
        s.add(Rate(base="PLN", quote="GBP", day=small.clock.now() - timedelta(days=9), nano=200_000_000))
        source = RateSource(code="HB", name="Hill Bank", kind="rates_api", doubted={})
        s.add(source)
        s.flush()
        s.add(Link(owner="rates", owner_id=source.id, address="http://127.0.0.1:9", sealed_key="", may=[], state="good"))
        return source


def test_rates_come_by_day_odd_ones_wait_and_old_ones_are_told(small: Small) -> None:
    source = bank(small)
    small.respond()
    price = small.listing(6).wanted_price
    assert "oldrate" in [one.key for one in small.write(today.open_alerts)]

    def told(pounds: str, days: int = 0) -> int:
        day = small.clock.now().replace(hour=0, minute=0) + timedelta(days=days)
        table = RateTable(day, {"GBP": Decimal(1), "PLN": Decimal(pounds)})
        return small.write(lambda context: exchange_rates.take_table(context, context.get(RateSource, source.id, "x"), table))

    assert told("4.55") == 1 and told("4.55") == 0
    assert small.listing(6).wanted_price > price
    assert "oldrate" not in [one.key for one in small.write(today.open_alerts)]
    kept = small.listing(6).wanted_price
    small.later(days=1)
    assert told("0.46") == 0 and told("0.46") == 0
    assert small.listing(6).wanted_price == kept
    odd = next(one for one in small.write(today.open_alerts) if one.kind == "Odd rate")
    assert "PLN GBP" in odd.message
    small.write(lambda context: today.do_step(context, odd.key))
    assert not [one for one in small.write(today.open_alerts) if one.kind == "Odd rate"]
    with pytest.raises(Conflict, match="not in doubt"):
        small.write(lambda context: exchange_rates.answer_doubt(context, source.id, "PLN GBP", True))
    # Told again on another day much as it was, it is true; here by a tenth, not by a lost digit.
    assert told("3.9") == 0
    small.later(days=1)
    assert told("3.9") == 1
    assert small.act("rate.daily").count == 1


def test_rates_and_prices_come_by_sheets_and_bad_rows_say_why(small: Small) -> None:
    bank(small)
    small.respond()
    checked = small.sheet(
        "rates", "from,to,rate,day\nPLN,GBP,0.21,2026-03-11\nPLN,GBP,abc,\nPLN,PLN,1,\nPLN,GBP,2.1,\nXXX,GBP,1,\nPLN,GBP,0,\n"
    )
    assert checked.counts["changed"] == 1 and len(checked.bad) == 5 and "by hand if it is right" in checked.bad[2][1]
    prices_now = {n: small.listing(n).wanted_price for n in (1, 2)}
    text = "store,sku,price,until,reason,least_price,ceiling\nONE,S-1,19.00,2026-12-31,agreed,,\nOne,S-2,,,,12.00,9.00\nONE,S-3,0.10,,,,\n"
    checked = small.sheet(
        "prices",
        text.replace("One,S-2", "First shop,S-2") + "ONE,S-4,,,,,none\nONE,S-9,5.00,,,,\nONE,S-1,18,,,,\nONE,S-5,5,2020-01-01,,,\n",
    )
    assert [why.split(":")[0] for _, why in checked.bad] == ["least_price", "sku", "sku", "until", "price"]
    row = small.listing(1)
    assert (row.wanted_price, row.hand_reason) == (1900, "agreed") and f"{row.hand_until:%Y-%m-%d}" == "2026-12-31"
    assert small.sheet("prices", "store,sku,price,until\nONE,S-1,19.00,2026-12-31\n").counts["same"] == 1
    act = small.act("price.sheet")
    small.write(lambda context: undo.undo(context, act.id))
    assert small.listing(1).hand_price is None and small.listing(1).wanted_price == prices_now[1]


def shown(small: Small, n: int, **changes: Any) -> StoreListing:
    row = small.listing(n)
    return StoreListing(
        f"S-{n}",
        row.title,
        changes.get("price", row.wanted_price),
        "GBP",
        changes.get("quantity", row.wanted_quantity),
        changes.get("state", row.state),
    )


def read_store(small: Small, listings: list[StoreListing]) -> int:
    def read(context: Any) -> int:
        store = context.get(Store, 1, "store")
        seen = drift.compare(context, store, listings, context.now)
        return drift.missing(context, store, seen, context.now)

    return int(small.write(read))


def test_what_a_store_shows_otherwise_is_found_and_settled_both_ways(small: Small) -> None:
    small.respond()
    with small.db.writing() as s:
        s.execute(update(Outbox).values(state="done", done_at=small.clock.now()))
    small.later(hours=1)
    fine = [shown(small, n) for n in range(1, 7)]
    assert read_store(small, fine) == 0
    # Fewer units: buyers took some. Another price, a pause, and one that is not there are differences.
    seen = [shown(small, 1, quantity=1), shown(small, 2, price=2500), shown(small, 3, state="paused"), *fine[3:5]]
    assert read_store(small, seen) == 3 and read_store(small, seen) == 3
    found = {one.listing.sku_id: one.drift for one in small.write(drift.differing)}
    assert {n: one.state for n, one in found.items()} == {2: "live", 3: "paused", 6: "missing"}
    trouble = next(one for one in small.write(today.open_alerts) if one.key == "drift:1")
    assert trouble.count == 3 and trouble.other is not None
    small.write(lambda context: drift.resolve(context, [found[2].id], True))
    sent = small.all(select(Outbox).where(Outbox.subject == "listing:2").order_by(Outbox.id.desc()))[0]
    assert sent.state == "waiting" and sent.body["price"] == f"{small.listing(2).wanted_price / 100:.2f}"
    # While ours is on its way nothing is said of it; theirs is taken for the others.
    assert read_store(small, seen) == 2
    # Nor does a price in another money say that a difference is gone.
    assert read_store(small, [replace(one, currency="EUR") for one in seen]) == 2
    # What the store rejected is told as rejected, not once more as shown otherwise.
    with small.db.writing() as s:
        rejected = s.scalars(select(Outbox).where(Outbox.subject == "listing:3").order_by(Outbox.id.desc())).first()
        assert rejected is not None
        rejected.state = "dead"
    assert read_store(small, seen) == 1
    with small.db.writing() as s:
        s.get_one(Outbox, rejected.id).state = "done"
    small.later(hours=1)
    assert read_store(small, seen) == 2
    found = {one.listing.sku_id: one.drift for one in small.write(drift.differing)}
    small.write(lambda context: drift.resolve(context, [found[3].id, found[6].id], False))
    assert (small.listing(3).paused_by, small.listing(6).state) == ("hand", "ended")
    assert not small.all(select(Drift).where(Drift.ended_at.is_(None)))
    with pytest.raises(Conflict, match="done already"):
        small.write(lambda context: drift.resolve(context, [found[3].id], True))


def test_what_would_lose_money_or_cannot_be_bought_is_never_taken_from_a_store(small: Small) -> None:
    small.respond()
    small.sweep({3: (300, 0)})
    assert (small.listing(3).state, small.listing(3).paused_by) == ("paused", "stock")
    with small.db.writing() as s:
        s.execute(update(Outbox).values(state="done", done_at=small.clock.now()))
    small.later(hours=1)
    price = small.listing(2).wanted_price
    fine = [shown(small, n) for n in range(1, 7)]
    assert read_store(small, [fine[0], shown(small, 2, price=50), shown(small, 3, state="live", quantity=4), *fine[3:]]) == 2
    small.write(lambda context: drift.resolve(context, [one.drift.id for one in drift.differing(context)], False))
    assert small.listing(2).hand_price is None and small.listing(2).wanted_price == price
    assert small.listing(3).state == "paused"
    sent = {row.subject: row.body for row in small.all(select(Outbox).where(Outbox.state == "waiting"))}
    assert sent["listing:2"]["price"] == f"{price / 100:.2f}" and sent["listing:3"]["state"] == "paused"


def test_a_stores_half_empty_answer_takes_nothing_for_gone(small: Small) -> None:
    with small.db.writing() as s:
        for n in range(10, 40):
            small.list_sku(s, n)
    assert read_store(small, [shown(small, 1)]) == 0
    assert "nothing was taken for gone" in small.act("drift.doubted").message


def test_calls_go_to_what_is_sold_and_keep_to_the_day_and_the_hours(small: Small) -> None:
    small.respond()
    with small.db.writing() as s:
        supplier = s.get(Supplier, 1)
        supplier.kind, supplier.calls_day, supplier.sweep_minutes = "retail_site", 48, 30
        s.get(Sku, 1).pace = 5_000_000
        for n in range(20, 30):
            s.add(Item(id=n, supplier_id=1, origin_id=1, number=f"I-{n}", title=f"Item {n}", currency="GBP", cost=n * 100, stock=20))
    assert small.write(polling_plan.refresh) == 16
    with small.db.reading() as s:
        every = dict(s.execute(select(Item.id, Item.look_every)).tuples().all())
        assert every[1] < every[2] == min(every[n] for n in range(2, 7)) or every[1] < every[3]
        assert abs(every[25] - 7 * 86_400) < 3 and max(every[n] for n in range(1, 7)) <= 86_400
        context = small.context(s)
        supplier = context.get(Supplier, 1, "supplier")
        assert polling_plan.a_sweep(supplier, None) == 1 and polling_plan.a_day(supplier, None) == 48
        plan = polling_plan.make(context, supplier)
        assert plan.looks.sum() == pytest.approx(48) and plan.loss < plan.turns
    with small.db.writing() as s:
        now = small.clock.now()
        for n in (1, 2, 3, 4, 5, 6, *range(20, 30)):
            s.get(Item, n).looked_at = now
    small.later(seconds=every[1])
    with small.db.writing() as s:
        context = small.context(s)
        supplier = context.get(Supplier, 1, "supplier")
        assert polling_plan.due(context, supplier, 1) == ["I-1"]
        supplier.hour_from, supplier.hour_to = 22, 6
        hours = [polling_plan.may_ask(replace(context, clock=PacedClock(now.replace(hour=h), 0)), supplier) for h in (21, 22, 3, 6)]
        assert hours == [False, True, True, False] and polling_plan.hours_open(supplier) == 8


def test_a_volume_discount_counts_once_it_is_reached_and_a_plan_can_be_undone(small: Small) -> None:
    small.respond()
    before = small.listing(6).landed
    club = Membership("Circle", 100_000, fee=500, taken=True)
    act = small.write(lambda context: SupplierChange(1, {"discount": 0, "rebate": 0, "tax": 0}, None, [club]).keep(context))
    small.respond()
    assert small.listing(6).landed == before - 60
    worth = small.write(memberships.worths)[0]
    assert worth.worth.pays_from == 5000 and worth.pace == sum(n * 100 for n in range(1, 7)) * 15
    small.write(lambda context: undo.undo(context, act.id))
    assert small.listing(6).landed == before
    # The two bought cost 12.00 together, which is the line's cost and not each one's.
    volume = Membership("Pallet", 50_000, from_spend=1300, taken=True)
    small.write(lambda context: SupplierChange(1, {"discount": 0, "rebate": 0, "tax": 0}, None, [volume]).keep(context))
    assert small.write(memberships.refresh) == 0
    small.order("A", ("S-6", 2, 3000))
    with small.db.writing() as s:
        purchase_orders.send(small.context(s), [1], "now")
        s.execute(update(PurchaseOrder).values(state="accepted"))
    assert small.write(lambda context: memberships.bought(context, 1)) == 1200 and small.write(memberships.refresh) == 0
    enough = Membership("Pallet", 50_000, from_spend=1200, taken=True)
    small.write(lambda context: SupplierChange(1, {"discount": 0, "rebate": 0, "tax": 0}, None, [enough]).keep(context))
    assert small.write(memberships.refresh) == 1 and small.listing(6).landed == before - 30
    assert "is given" in small.act("plan.reached").message
    with pytest.raises(Invalid, match="between 0 and 100"):
        small.write(lambda context: SupplierChange(1, {"discount": 0, "rebate": 0, "tax": 0}, None, [Membership("x", 0)]).keep(context))


def test_what_really_came_back_is_kept_for_returns_where_no_rule_says(small: Small) -> None:
    with small.db.writing() as s:
        s.execute(update(PriceRule).values(reserve=None))
    for k in range(10):
        small.order(f"R{k}", ("S-1", 1, 3000))
    with small.db.writing() as s:
        purchase_orders.send(small.context(s), list(range(1, 11)), "now")
        for row in s.scalars(select(PurchaseOrder)):
            state = "returned" if row.id <= 3 else "delivered"
            s.add(Parcel(id=row.id, carrier_id=1, number=f"P{row.id}", state=state, made_at=small.clock.now(), ended_at=small.clock.now()))
            s.flush()
            s.add(ParcelLine(parcel_id=row.id, purchase_id=row.id))
    assert small.write(return_rates.refresh) and not small.write(return_rates.refresh)
    small.respond()
    with small.db.reading() as s:
        _, _, found = what_if.explain_price(small.context(s), 1)
    assert found is not None
    kept = next(one for one in found.bounds if one.name == "Reserve for returns")
    assert (kept.message, kept.by) == ("30 %", "what came back") and any("30 %" in step.name for step in found.steps)
    rule = next(one for one in found.bounds if one.name.startswith("Lowest for a margin"))
    assert rule.by == "general rule"


def test_replay_sells_the_past_again_and_following_nothing_costs(small: Small) -> None:
    small.respond()
    for k, (cost, stock) in enumerate([(600, 20), (820, 20), (820, 1), (820, 20)]):
        small.later(days=2)
        small.order(f"O{k}", ("S-6", 2, 3000))
        small.sweep({6: (cost, stock)})
    small.write(sales_velocity.refresh)
    with small.db.reading() as s:
        context = small.context(s)
        past = replay.read(context, 10)
        one = replay.run(context, past, None)
        none = replay.run(context, past, PolicyChange("house", "", {"follow_price": False, "follow_stock": False}))
        assert (len(one.line_row), one.moves) == (4, 1) and (none.moves, none.pauses) == (0, 0)
        # With one left a pair could not be bought: found too late both times, but only what was watched was paused after.
        assert one.count(replay.OVERSOLD) <= none.count(replay.OVERSOLD)
        assert one.sales.earned.sum() >= none.sales.earned.sum()
        row = int(one.line_row[0])
        assert int(one.sales.earned.sum()) == sum(one.days) == int(one.earned[row])
        cheap = replay.run(context, past, PolicyChange("house", "", {"cap": 1}))
        assert cheap.sales.outcome.tolist() == one.sales.outcome.tolist()


def test_exceptions_win_field_by_field_and_the_bench_names_them(small: Small) -> None:
    with small.db.writing() as s:
        s.add(PriceRule(scope="store", scope_key="ONE", min_profit=900))
        s.add(PriceRule(scope="sku", scope_key="S-2", ceiling=5000, band_from=100))
        s.add(Policy(scope="sku", scope_key="S-2", fields={"cap": 1}))
    small.respond()
    with small.db.reading() as s:
        _, _, found = what_if.explain_price(small.context(s), 2)
    assert found is not None and found.set_by == "min_profit"
    by = {one.name.split(" of")[0].split(" for")[0] + one.name[-6:]: one.by for one in found.bounds}
    assert {"general rule", "store ONE", "SKU S-2 from £1.00"} <= set(by.values())
    assert small.listing(2).wanted_quantity == 1 and small.listing(3).wanted_quantity > 1


def test_what_a_person_does_never_waits_for_a_person(small: Small) -> None:
    small.respond()
    policy(small, wait_over=1)
    before = [small.listing(n).wanted_price for n in (1, 2, 3)]
    with small.db.writing() as s:
        s.execute(update(Item).values(cost=Item.cost + 400))
    assert small.respond()["reprice"] == 6
    assert all(small.listing(n).wanted_price > before[n - 1] for n in (1, 2, 3))
    assert not small.all(select(ListingDecision).where(ListingDecision.outcome == CROWD))
