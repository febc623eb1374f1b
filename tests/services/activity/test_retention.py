"""How long things are kept: what is old goes, what was believed can still be told, and what is still needed stays."""

from __future__ import annotations

import gzip
import json
import os
import time
from datetime import timedelta
from itertools import pairwise
from pathlib import Path

import pytest
from sqlalchemy import func, select

from amber_lane.data.base import to_ms
from amber_lane.data.bulk import bulk_insert
from amber_lane.data.outbox import AuditEntry, Outbox
from amber_lane.data.source import Item
from amber_lane.data.watch import ListingDecision, Sighting, Sweep
from amber_lane.jobs.hourly import Hourly
from amber_lane.services.activity import retention, undo
from amber_lane.services.base.context import Context
from amber_lane.services.base.errors import Invalid
from amber_lane.services.monitoring import sweeps

from ...small import Small

DAY = timedelta(days=1)


def sighted(small: Small, hours: list[tuple[float, int]], item: int = 1) -> None:
    """Costs of an item, each so many hours ago."""

    def do(context: Context) -> None:
        sweep = Sweep(supplier_id=1, started=context.now - 500 * DAY, ended=context.now, state="good")
        context.session.add(sweep)
        context.session.flush()
        old = 100
        for ago, cost in sorted(hours, reverse=True):
            at = context.now - timedelta(hours=ago)
            context.session.add(
                Sighting(sweep_id=sweep.id, item_id=item, at=at, old_cost=old, cost=cost, old_stock=5, stock=5, verdict="good")
            )
            old = cost
        context.get(Item, item, "item").cost = old

    small.write(do)


def prune(small: Small, folder: Path) -> None:
    hourly = Hourly(small.db, small.clock, folder)
    hourly._prune()


def test_old_sightings_are_thinned_and_what_was_believed_at_the_end_of_each_day_is_still_told(small: Small, tmp_path: Path) -> None:
    # Seventy days back: a whole day with a cost each hour, then one each day, and the last two days each hour again.
    begin = 70 * 24.0 - 9
    costs = (
        [(begin - hour, 200 + hour) for hour in range(24)]
        + [(24.0 * day + 3, 300 + day) for day in range(3, 69)]
        + [(float(h), 500 + h) for h in range(40)]
    )
    sighted(small, costs)
    with small.db.reading() as s:
        context = small.context(s)
        moments = [(context.now - 75 * DAY).replace(hour=23, minute=59) + day * DAY for day in range(76)]
        before = [believed(context, moment) for moment in moments]
        n = s.scalar(select(func.count()).select_from(Sighting))
    prune(small, tmp_path)
    with small.db.reading() as s:
        context = small.context(s)
        assert [believed(context, moment) for moment in moments] == before
        left = s.scalar(select(func.count()).select_from(Sighting))
        assert left is not None and n is not None and 20 <= n - left <= 23, (n, left)
        rows = s.scalars(select(Sighting).order_by(Sighting.at)).all()
        assert all(one.cost == two.old_cost for one, two in pairwise(rows)), "each still says what held before it"
    prune(small, tmp_path)
    assert len(small.all(select(Sighting.id))) == left, "done once"


def believed(context: Context, moment: object) -> int:
    rows = sweeps.item_history(context, 1, context.now - 100 * DAY)
    return [cost for at, cost, _ in rows if at <= moment][-1]  # type: ignore[operator]


def test_what_is_old_goes_into_the_archive_and_what_waits_or_was_bought_stays(small: Small, tmp_path: Path) -> None:
    small.write(lambda context: retention.set_keeping(context, retention.Keeping(archive=True)))

    def make(context: Context) -> None:
        old = context.now - 100 * DAY
        terms = {
            "terms": {},
            "old_price": 1,
            "new_price": 2,
            "old_quantity": 1,
            "new_quantity": 1,
            "old_state": "live",
            "new_state": "live",
        }
        for state in ("sent", "waits"):
            context.session.add(ListingDecision(listing_id=1, at=old, kind="reprice", state=state, set_by=0, outcome=0, **terms))
        for key, kind, state in (
            ("a", "listing", "done"),
            ("b", "purchase", "done"),
            ("c", "listing", "waiting"),
            ("d", "mail", "dropped"),
        ):
            context.session.add(
                Outbox(key=key, target="store:1", subject="listing:1", kind=kind, body={}, state=state, made_at=old, after=old)
            )
        context.session.add(AuditEntry(at=context.now - 401 * DAY, who="Ann", kind="x", on="", message="long ago"))

    small.write(make)
    prune(small, tmp_path)
    assert [one.state for one in small.all(select(ListingDecision).where(ListingDecision.at < small.clock.now() - DAY))] == ["waits"]
    assert small.all(select(Outbox.key).where(Outbox.key.in_(list("abcd"))).order_by(Outbox.key)) == ["b", "c"]
    assert "long ago" not in small.all(select(AuditEntry.message))
    found = {path.name.rsplit("-", 2)[0]: path for path in (tmp_path / "archive").iterdir()}
    assert set(found) == {"listing_decision", "outbox", "audit_entry"}
    with gzip.open(found["outbox"]) as lines:
        assert {json.loads(line)["key"] for line in lines} == {"a", "d"}


def test_the_setting_is_checked_and_can_be_undone(small: Small) -> None:
    with pytest.raises(Invalid, match="60 days and more"):
        small.write(lambda context: retention.set_keeping(context, retention.Keeping(decisions=3)))
    small.write(lambda context: retention.set_keeping(context, retention.Keeping(decisions=0)))
    with small.db.reading() as s:
        assert retention.settings(small.context(s)).decisions == 0
    small.write(lambda context: undo.undo(context, small.act("keeping.set").id))
    with small.db.reading() as s:
        assert retention.settings(small.context(s)) == retention.Keeping()


def test_room_that_nothing_stands_in_goes_back_to_the_disk(small: Small, tmp_path: Path) -> None:
    def many(context: Context) -> None:
        at = to_ms(context.now - 100 * DAY)
        rows = [(f"k{n}", "store:1", f"listing:{n}", "listing", "{}", "done", at, at, 0, "x" * 400, "") for n in range(6000)]
        keys = ("key", "target", "subject", "kind", "body", "state", "made_at", "after", "tries", "answer", "fault")
        bulk_insert(context.session, Outbox, keys, rows)

    small.write(many)
    small.db.tidy()
    with small.db.reading() as s:
        before = s.connection().exec_driver_sql("pragma page_count").scalar()
    prune(small, tmp_path)
    with small.db.reading() as s:
        after = s.connection().exec_driver_sql("pragma page_count").scalar()
    assert before and after and after < before * 0.7, (before, after)


def test_sheets_that_were_brought_in_go_after_the_days_that_are_said(small: Small, tmp_path: Path) -> None:
    (tmp_path / "sheets").mkdir()
    for name, days in (("old.sheet", 31), ("old.bad.json", 31), ("new.sheet", 29)):
        file = tmp_path / "sheets" / name
        file.write_text("x")
        os.utime(file, (time.time() - days * 86_400,) * 2)
    for days, gone, left in ((0, 0, 3), (30, 2, 1), (30, 0, 1)):
        small.write(lambda context, days=days: retention.set_keeping(context, retention.Keeping(sheets=days)))
        assert (
            small.write(lambda context: retention.drop_sheets(context, tmp_path)) == gone
            and len(list((tmp_path / "sheets").iterdir())) == left
        )
