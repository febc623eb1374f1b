"""Figures that are kept up by what changes say what counting anew would say, whatever is done and in whatever order."""

from __future__ import annotations

import random
import threading
from collections import Counter
from collections.abc import Callable
from typing import Any

import numpy as np
import pytest
from sqlalchemy import func, select, update

from amber_lane.connectors.payloads import CancelPayload
from amber_lane.core.trust import LIKE_POOL
from amber_lane.data import kept, moved, revisions, words
from amber_lane.data.lanes import Lane
from amber_lane.data.orders import Order, OrderLine, PurchaseLine, PurchaseOrder
from amber_lane.data.outbox import AuditEntry, Outbox
from amber_lane.data.shelf import Listing, Sku
from amber_lane.data.source import Item
from amber_lane.data.tallies import TALLIES, tally
from amber_lane.data.transit import Parcel, ParcelLine
from amber_lane.services.alerts import today
from amber_lane.services.base.context import Context
from amber_lane.services.grids import goods_grids
from amber_lane.services.grids.goods_grids import GridQuery
from amber_lane.services.listings import on_sale
from amber_lane.services.mapping import lanes, mapping_queue, performance
from amber_lane.services.outbox import queue
from amber_lane.services.pricing import frame, what_if
from amber_lane.services.pricing.inputs import Facts

from ...small import Small


def acts(luck: random.Random) -> list[Callable[[Context], Any]]:
    """Things that happen, in no order."""
    n, other = luck.randint(1, 6), luck.randint(1, 6)

    def lane(context: Context) -> Lane:
        return lanes.lanes_of(context, n)[0][0] if lanes.lanes_of(context, n) else _open(context)

    def _open(context: Context) -> Lane:
        from fractions import Fraction

        return lanes.open_lane(context, n, [lanes.LaneItem(n, Fraction(1))])

    def close(context: Context) -> None:
        one = lane(context)
        lanes.close_lane(context, one.id, one.version)

    return [
        lambda context: context.session.execute(update(Item).where(Item.id == n).values(cost=Item.cost + 7, stock=luck.randint(0, 9))),
        lambda context: context.session.execute(
            update(Item).where(Item.id == n).values(offer=luck.choice(["good", "gone"]), category=luck.choice("ab"))
        ),
        lambda context: context.session.execute(
            update(Sku).where(Sku.id == n).values(title=f"Thing {luck.choice(['walrus', 'lamp'])} {n}", pace=n)
        ),
        lambda context: context.session.execute(
            update(Listing).where(Listing.id == n).values(title=f"Our {luck.choice(['walrus', 'lamp'])}")
        ),
        lambda context: on_sale.set_on_sale(context, [n, other], luck.random() < 0.5),
        lambda context: context.reprice([n, other]),
        close,
        lambda context: lane(context),
        lambda context: context.session.add(
            Item(supplier_id=1, origin_id=1, number=f"N-{luck.random()}", title="New", currency="GBP", cost=5, stock=1)
        ),
    ]


@pytest.mark.parametrize("seed", range(4))
def test_tallies_words_bare_listings_and_columns_follow_whatever_happens(small: Small, seed: int) -> None:
    luck, catalogue = random.Random(seed), what_if.Catalogue()
    small.respond()
    for _ in range(25):
        small.write(luck.choice(acts(luck)))
        with small.db.reading() as s:
            context = small.context(s)
            for name, (table, columns) in TALLIES.items():
                rows = s.connection().exec_driver_sql(f'select {", ".join(columns)} from "{table}"').fetchall()
                assert tally(s, name) == Counter(tuple(str(value) for value in row) for row in rows), name
            held = set(s.scalars(words.holding("sku_fts", "walrus")))
            assert held == set(s.scalars(select(Sku.id).where(Sku.title.contains("walrus"))))
            assert set(s.scalars(words.holding("listing_fts", "alru"))) == set(
                s.scalars(select(Listing.id).where(Listing.title.contains("alru")))
            )
            laned = select(Lane.sku_id).where(Lane.closed_at.is_(None), Lane.is_substitute.is_(False))
            bare = select(Listing.sku_id).where(Listing.state.in_(("live", "paused")), Listing.sku_id.not_in(laned))
            assert mapping_queue.without_lane(context) == sorted(set(s.scalars(bare)))
            assert not s.scalars(select(Listing.id).join(Lane, Lane.id == Listing.lane_id).where(Lane.closed_at.is_not(None))).all()
            facts = Facts.read(s)
            kept, anew = catalogue.read(context, facts), frame.read(context, facts)
            for mine, theirs in zip((*kept.cols, *kept.lanes.columns), (*anew.cols, *anew.lanes.columns), strict=True):
                assert list(mine) == list(theirs)
            assert np.array_equal(kept.chosen.lane, anew.chosen.lane) and np.array_equal(kept.chosen.available, anew.chosen.available)


def test_what_is_kept_is_made_anew_when_its_tables_change_or_its_time_is_over_and_never_inside_a_write(small: Small) -> None:
    made = []

    def ask(context: Context) -> int:
        return context.kept(
            "n", lambda inner: (made.append(1), int(inner.session.scalar(select(func.count()).where(Listing.state != "ended")) or 0))[1]
        )

    def read() -> int:
        with small.db.reading() as s:
            return ask(small.context(s))

    assert read() == read() == 6 and len(made) == 1
    small.write(lambda context: context.log("x", "x", "another table"))
    assert read() == 6 and len(made) == 1
    gone = update(Listing).values(state="ended")
    small.write(lambda context: context.session.execute(gone.where(Listing.id == 6)))
    assert read() == 5 and len(made) == 2
    small.later(minutes=2)
    assert read() == 5 and len(made) == 3
    with small.db.writing() as s:
        s.execute(gone.where(Listing.id == 5))
        assert ask(small.context(s)) == 4
        s.rollback()
    assert read() == 5
    with small.db.reading() as s:
        assert revisions.of(s)["listing"] >= 2 and "lane" in revisions.of(s)


def test_what_is_made_of_something_kept_depends_on_its_tables_too(small: Small) -> None:
    def inner(context: Context) -> int:
        return context.kept("inner", lambda one: int(one.session.scalar(select(func.count()).where(Listing.state == "live")) or 0))

    def outer() -> int:
        with small.db.reading() as s:
            return small.context(s).kept("outer", inner)

    with small.db.reading() as s:
        inner(small.context(s))
    assert outer() == 6
    small.write(lambda context: context.session.execute(update(Listing).where(Listing.id == 6).values(state="ended")))
    assert outer() == 5


def test_what_may_lag_is_made_beside_while_the_last_is_given(small: Small, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(kept, "LONG", 0.0)
    monkeypatch.setattr(kept, "TIMES", 0.0)
    gate, made = threading.Event(), threading.Event()

    def count(context: Context) -> int:
        n = int(context.session.scalar(select(func.count()).where(Listing.state == "live")) or 0)
        if n < 6:
            assert gate.wait(10)
            made.set()
        return n

    def ask(lags: bool = True) -> int:
        with small.db.reading() as s:
            return small.context(s).kept("n", count, lags=lags)

    assert ask() == 6
    small.write(lambda context: context.session.execute(update(Listing).where(Listing.id == 6).values(state="ended")))
    assert ask() == ask() == 6, "nobody waits for it"
    gate.set()
    assert made.wait(10) and ask(lags=False) == 5 == ask()


def test_the_count_of_today_is_what_counting_anew_would_say(small: Small) -> None:
    luck = random.Random(7)
    for _ in range(15):
        small.write(luck.choice(acts(luck)))
        small.later(minutes=3)
        with small.db.reading() as s:
            told = today.counts(small.context(s))
        small.db.kept.values.clear()
        with small.db.reading() as s:
            assert told == today.counts(small.context(s))


def test_changes_are_told_as_long_as_they_are_kept(small: Small, monkeypatch: pytest.MonkeyPatch) -> None:
    with small.db.reading() as s:
        begin = moved.newest(s)
    small.write(lambda context: context.session.execute(update(Item).where(Item.id == 3).values(cost=999)))
    with small.db.reading() as s:
        assert moved.since(s, begin, 100) == [3] and moved.since(s, begin, 0) is None and moved.since(s, moved.newest(s), 100) == []
    monkeypatch.setattr(moved, "KEPT", 2)
    small.write(lambda context: [context.session.execute(update(Sku).values(pace=Sku.pace + 1)), moved.forget(context.session)])
    with small.db.reading() as s:
        assert moved.since(s, begin, 10_000) is None, "what is not known any more is read whole"


def test_trust_of_all_lanes_at_once_is_that_of_each(small: Small) -> None:
    luck, n = random.Random(3), 0

    def history(context: Context) -> None:
        nonlocal n
        for _ in range(120):
            n += 1
            sku = luck.randint(1, 4)
            ended = context.now if luck.random() < 0.8 else None
            state = luck.choice(["accepted", "shipped", "shipped", "refused"])
            order = Order(
                id=n,
                store_id=1,
                number=str(n),
                buyer="",
                address={},
                country="GB",
                currency="GBP",
                ordered_at=context.now,
                came_at=context.now,
            )
            order.promised_by = context.now if luck.random() < 0.7 else None
            context.session.add(order)
            context.session.flush()
            context.session.add(
                OrderLine(id=n, order_id=n, line_no=1, sku_code=f"S-{sku}", sku_id=sku, quantity=1, paid=1, state="arrived")
            )
            po = PurchaseOrder(
                id=n, reference=str(n), supplier_id=1, order_id=n, origin_id=1, service="slow", state=state, currency="GBP", goods=1
            )
            po.shipping = po.handling = 0
            po.made_at = context.now
            context.session.add(po)
            context.session.flush()
            context.session.add(PurchaseLine(purchase_id=n, order_line_id=n, line_no=1, item_id=sku, quantity=1, planned_cost=1))
            for part in range(luck.randint(0, 2)):
                context.session.add(Parcel(id=10 * n + part, carrier_id=1, number=f"P{n}-{part}", made_at=context.now, ended_at=ended))
                context.session.flush()
                context.session.add(ParcelLine(parcel_id=10 * n + part, purchase_id=n))

    for _ in range(3):
        small.write(history)
        small.later(days=1, hours=7)
    with small.db.reading() as s:
        context = small.context(s)
        seen, used = performance.seen(context), [small.lane(sku).id for sku in range(1, 5)]
        each = performance.trusts(context, used)
        for number in used:
            one = each[number]
            late = round((1 - one.on_time.mean) * 1e6) if one.on_time.count or one.days.count else 0
            sure = one.days.sure if one.days.count >= LIKE_POOL else None
            assert seen.lanes[number] == (round((1 - one.accepted.mean) * 1e6), late, sure)


def test_a_list_is_taken_out_whole_however_long_it_is(small: Small, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(goods_grids, "EVERY", 4)
    small.write(lambda context: [context.log("x", "x", f"act {n}") for n in range(30)])
    with small.db.reading() as s:
        context = small.context(s)
        told = [row.message for row in goods_grids.every(context, "acts", GridQuery(sort="message"))]
        assert told == sorted(small.all(select(AuditEntry.message))) and len(told) > 30
        assert [row.id for row in goods_grids.every(context, "lanes", GridQuery())] == [
            row.id for row in goods_grids.page(context, "lanes", GridQuery(limit=10**6))[0]
        ]


def test_a_change_that_waits_for_its_next_try_holds_up_its_own_subject_alone(small: Small) -> None:
    def fill(context: Context) -> None:
        later = context.now.replace(year=2030)
        for n in range(300):
            queue.put(context, "store:9", f"order:{n}", f"wait-{n}", CancelPayload(order=str(n)), later)
        for n in (5, 400):
            queue.put(context, "store:9", f"order:{n}", f"due-{n}", CancelPayload(order=str(n)))

    small.write(fill)
    with small.db.reading() as s:
        now = small.clock.now()
        assert [row.key for row in queue.next_due(s, "store:9", now, 48)] == ["due-400"]
        assert queue.any_due(s, "store:9", now) and queue.targets(s) == ["store:1", "store:9"]
    small.write(lambda context: context.session.execute(update(Outbox).where(Outbox.key == "wait-5").values(state="done")))
    with small.db.reading() as s:
        assert [row.key for row in queue.next_due(s, "store:9", small.clock.now(), 48)] == ["due-5", "due-400"]
