"""Work on very many things in portions: the same as at once, others between, nothing lost by a kill, one act and one undo."""

from __future__ import annotations

import json
import threading
import time
from multiprocessing import get_context
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from sqlalchemy import select, update

from amber_lane.data.outbox import AuditEntry, AuditEntryPart, Job, JobPart, Outbox
from amber_lane.data.prices import Policy
from amber_lane.data.setup import Store, Supplier
from amber_lane.data.shelf import Listing
from amber_lane.data.source import Item
from amber_lane.data.turns import TooLong, Turns
from amber_lane.data.watch import ListingDecision, Sighting
from amber_lane.jobs.portions import Portions
from amber_lane.services.activity import undo
from amber_lane.services.alerts import today
from amber_lane.services.base import portions
from amber_lane.services.base.context import Context
from amber_lane.services.base.errors import Conflict
from amber_lane.services.listings import on_sale
from amber_lane.services.mapping import bulk_changes, lanes
from amber_lane.services.monitoring import large_sweeps, sweeps
from amber_lane.services.pricing import what_if
from amber_lane.services.pricing.apply import LATER
from amber_lane.services.pricing.drafts import Draft, RuleChange

from ..small import Small


@pytest.fixture
def many(small: Small, monkeypatch: pytest.MonkeyPatch) -> Small:
    """A small house in which three of anything are already many, and a portion is two."""
    monkeypatch.setattr(portions, "AT_ONCE", 2)
    monkeypatch.setattr(portions, "PORTION", 2)
    monkeypatch.setattr("amber_lane.jobs.portions.REST", 0.0)
    monkeypatch.setattr(large_sweeps, "ITEMS", 2)
    cut = portions.cut
    monkeypatch.setattr(portions, "cut", lambda things, size=2: cut(things, size))
    small.respond()
    Portions(small.db, small.clock).run_due()
    return small


def work(small: Small) -> None:
    Portions(small.db, small.clock).run_due()


def shown(small: Small) -> list[tuple[Any, ...]]:
    rows = small.all(select(Listing).order_by(Listing.id))
    return [(one.id, one.state, one.paused_by, one.wanted_price, one.wanted_quantity, one.landed, one.profit) for one in rows]


def open_changes(small: Small) -> list[tuple[str, str]]:
    rows = small.all(select(Outbox).where(Outbox.state == "waiting").order_by(Outbox.subject))
    return [(row.subject, json.dumps(row.body, sort_keys=True)) for row in rows]


def test_off_sale_by_portions_is_one_act_with_one_undo_and_others_write_between(many: Small, monkeypatch: pytest.MonkeyPatch) -> None:
    before, ids = shown(many), many.all(select(Listing.id))
    assert many.write(lambda context: on_sale.set_on_sale(context, ids, False)) == 6
    assert {row[1] for row in shown(many)} == {"live"} and len(many.all(select(JobPart))) == 3, "nothing yet, and it is written down"
    between: list[int] = []
    real = portions.WORK["on_sale"]

    def meanwhile(context: Context, body: dict[str, Any], part: Any) -> int:
        between.append(len(many.all(select(Listing.id).where(Listing.state == "paused"))))
        return real(context, body, part)

    monkeypatch.setitem(portions.WORK, "on_sale", meanwhile)
    work(many)
    assert between == [0, 2, 4], "each portion is there before the next begins"
    assert {row[1:3] for row in shown(many)} == {("paused", "hand")} and len(
        many.all(select(AuditEntry).where(AuditEntry.kind == "listing.pause"))
    ) == 1
    assert len(open_changes(many)) == 6, "one change for each, whatever waited there before"
    many.write(lambda context: undo.undo(context, many.act("listing.pause").id))
    work(many)
    assert shown(many) == before and [one.state for one in many.all(select(Job).where(Job.kind == "on_sale"))] == ["done", "done"]


def test_a_kill_in_the_middle_loses_and_repeats_nothing(many: Small, monkeypatch: pytest.MonkeyPatch) -> None:
    class Killed(BaseException):
        pass

    real, left = portions.WORK["on_sale"], [2]

    def dies(context: Context, body: dict[str, Any], part: Any) -> int:
        done = real(context, body, part)
        left[0] -= 1
        if left[0] < 0:
            raise Killed
        return done

    many.write(lambda context: on_sale.set_on_sale(context, many.all(select(Listing.id)), False))
    monkeypatch.setitem(portions.WORK, "on_sale", dies)
    with pytest.raises(Killed):
        work(many)
    assert len(many.all(select(Listing.id).where(Listing.state == "paused"))) == 4 and len(many.all(select(JobPart))) == 1
    left[0] = 9
    again = Portions(many.db, many.clock)
    again.recover()
    again.run_due()
    (job,) = many.all(select(Job).where(Job.kind == "on_sale"))
    assert {row[1] for row in shown(many)} == {"paused"} and (job.done, job.failed, job.state) == (6, 0, "done")
    assert len(open_changes(many)) == 6


def test_a_portion_that_breaks_is_set_aside_and_the_others_are_done(many: Small, monkeypatch: pytest.MonkeyPatch) -> None:
    real = portions.WORK["on_sale"]

    def breaks(context: Context, body: dict[str, Any], part: Any) -> int:
        done = real(context, body, part)
        if 3 in part:
            raise ZeroDivisionError
        return done

    monkeypatch.setitem(portions.WORK, "on_sale", breaks)
    many.write(lambda context: on_sale.set_on_sale(context, many.all(select(Listing.id)), False))
    work(many)
    (job,) = many.all(select(Job).where(Job.kind == "on_sale"))
    assert (job.done, job.failed) == (4, 2) and [row[0] for row in shown(many) if row[1] == "live"] == [3, 4]
    # What is left of it is told, until a person has seen it.
    (row,) = [one for one in many.write(today.open_alerts) if one.kind == "Not all done"]
    assert "2 of 6 could not be done" in row.message and row.count == 2
    many.write(lambda context: today.do_step(context, row.key))
    assert not [one for one in many.write(today.open_alerts) if one.kind == "Not all done"]


def rule(value: int) -> RuleChange:
    return RuleChange([Draft("house", "", 0, {"rule": "margin", "rule_value": value, "endings": "95"})])


def test_a_rule_for_very_many_is_in_force_at_once_and_their_prices_follow(many: Small) -> None:
    before = shown(many)

    def apply(context: Context) -> dict[str, int]:
        return what_if.apply(context, rule(450_000), what_if.what_if(context, rule(450_000)).counts, None)

    assert many.write(apply) == {LATER: 6}
    assert shown(many) == before
    work(many)
    after = shown(many)
    assert all(new[3] > old[3] for new, old in zip(after, before, strict=True))
    act = many.act("rule.change")
    assert {
        row.audit_entry_id
        for row in many.all(select(ListingDecision).where(ListingDecision.kind == "reprice").order_by(ListingDecision.id.desc()).limit(6))
    } == {act.id}
    many.write(lambda context: undo.undo(context, act.id))
    work(many)
    assert [row[:6] for row in shown(many)] == [row[:6] for row in before]


def test_prices_that_all_move_at_once_wait_though_each_portion_is_small(many: Small) -> None:
    many.write(lambda context: context.session.execute(update(Policy).values(fields={"hold_twice": False, "wait_over": 3})))
    before = shown(many)
    many.write(lambda context: context.session.execute(update(Item).values(cost=Item.cost + 140)))
    many.write(lambda context: context.reprice(None, act=context.log("x", "x", "x").id, alone=True))
    work(many)
    assert [row[3] for row in shown(many)] == [row[3] for row in before], "four and more at once wait for a person"
    assert len(many.all(select(ListingDecision.id).where(ListingDecision.state == "waits"))) == 6
    many.write(lambda context: what_if.answer_waiting(context, what_if.crowd(context), approve=True))
    work(many)
    assert all(new[3] > old[3] for new, old in zip(shown(many), before, strict=True))
    acts = many.all(select(AuditEntry).where(AuditEntry.kind == "response.settle"))
    assert len(acts) == 1 and "6 waiting decisions approved" in acts[0].message and len(many.all(select(AuditEntryPart))) == 2
    many.write(lambda context: undo.undo(context, acts[0].id))
    work(many)
    assert [row[3] for row in shown(many)] == [row[3] for row in before]


def test_the_first_mass_move_of_a_store_waits_in_portions_too(many: Small, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("amber_lane.services.pricing.apply.MASS", 3)
    before = shown(many)
    many.write(
        lambda context: (
            context.session.execute(update(Store).values(mass_agreed=False)),
            context.session.execute(update(Item).values(cost=Item.cost + 140)),
        )
    )
    many.write(lambda context: context.reprice(None))
    work(many)
    assert [row[3] for row in shown(many)] == [row[3] for row in before]


def swept(small: Small, at_once: bool) -> list[Any]:
    """A sweep with new costs, an odd one, one that is gone and one in another pack; what came of it."""
    small.later(minutes=15)
    told = sweeps.SweepData(
        ["I-1", "I-2", "I-3", "I-4", "I-5"],
        np.array([130, 210, 9000, 400, 520], dtype=np.int64),
        ["GBP"] * 5,
        np.array([20, 0, 20, 7, 20], dtype=np.int64),
        small.clock.now(),
        tiers=[(), (), (), (), ((10, 480),)],
        packs=[1, 1, 1, 1, 1],
    )
    with small.db.writing() as s:
        context = small.context(s, "Watch")
        number = sweeps.begin(context, context.get(Supplier, 1, "supplier")).id
    if at_once:
        with small.db.writing() as s:
            context = small.context(s, "Watch")
            sweeps.take_sweep(context, context.get(sweeps.Sweep, number, "sweep"), told)
    else:
        large_sweeps.carry_out(small.db.reading, small.db.writing, lambda s: small.context(s, "Watch"), number, told)
    work(small)
    items = [(one.id, one.cost, one.stock, one.offer, one.tiers, one.doubt_cost) for one in small.all(select(Item).order_by(Item.id))]
    seen = [(one.item_id, one.cost, one.stock, one.verdict) for one in small.all(select(Sighting).order_by(Sighting.item_id))]
    sweep = small.all(select(sweeps.Sweep).where(sweeps.Sweep.id == number))[0]
    decided = sorted((one.listing_id, one.kind, one.state, one.new_price, one.item_id or 0) for one in small.all(select(ListingDecision)))
    (act,) = small.all(select(AuditEntry).where(AuditEntry.kind == "watch.respond"))
    return [items, seen, shown(small), (sweep.state, sweep.changes, sweep.doubted), decided, open_changes(small), act.message]


def _plain(found: list[Any]) -> list[Any]:
    """Without what is drawn by lot."""
    return [*found[:5], [subject for subject, _ in found[5]], found[6]]


def test_a_sweep_in_portions_comes_to_the_same_as_one_at_once(house_file: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    found = []
    for at_once in (True, False):
        folder = tmp_path / str(at_once)
        folder.mkdir()
        made = Small(folder, house_file)
        made.respond()
        if not at_once:
            for name, value in (("AT_ONCE", 1), ("PORTION", 2)):
                monkeypatch.setattr(portions, name, value)
            monkeypatch.setattr(large_sweeps, "ITEMS", 2)
        found.append(_plain(swept(made, at_once)))
        made.db.close()
    for one, other in zip(*found, strict=True):
        assert one == other


def test_a_sweep_that_a_kill_cuts_off_leaves_no_listing_behind(many: Small, monkeypatch: pytest.MonkeyPatch) -> None:
    real, left = sweeps.write_part, [1]

    def dies(*given: Any) -> Any:
        if not left[0]:
            raise KeyboardInterrupt
        left[0] -= 1
        return real(*given)

    monkeypatch.setattr(large_sweeps, "write_part", dies)
    before = shown(many)
    with pytest.raises(KeyboardInterrupt):
        swept(many, at_once=False)
    monkeypatch.setattr(sweeps, "write_part", real)
    assert shown(many) == before
    again = Portions(many.db, many.clock)
    again.run_due()
    assert shown(many) == before, "what follows waits for the sweep"
    again.recover()
    again.run_due()
    items = {one.id: one for one in many.all(select(Item))}
    assert items[1].cost == 130 and many.listing(1).landed != before[0][5], "what was written has its price"


def test_very_many_lanes_are_changed_and_put_back_as_one(many: Small) -> None:
    lanes_now = many.all(select(lanes.Lane).order_by(lanes.Lane.id))
    assert many.write(lambda context: bulk_changes.change_many(context, [one.id for one in lanes_now], "shut")) == 6
    work(many)
    assert {one.state for one in many.all(select(lanes.Lane))} == {"shut"} and {row[1] for row in shown(many)} == {"paused"}
    acts = many.all(select(AuditEntry).where(AuditEntry.kind == "lane.many"))
    assert [one.message for one in acts] == ["6 lanes shut"]
    many.write(lambda context: undo.undo(context, acts[0].id))
    work(many)
    assert [one.state for one in many.all(select(lanes.Lane).order_by(lanes.Lane.id))] == [one.state for one in lanes_now]
    with pytest.raises(Conflict, match="undone already"):
        many.write(lambda context: undo.undo(context, acts[0].id))


def test_what_follows_a_change_cannot_be_stopped_halfway(many: Small) -> None:
    many.write(lambda context: context.reprice(None))
    (job,) = many.all(select(Job).where(Job.state == "waiting"))
    with pytest.raises(Conflict, match="not left halfway"):
        many.write(lambda context: portions.stop(context, context.get(Job, job.id, "job")))


def test_people_have_their_turn_before_long_work_and_nobody_waits_for_ever() -> None:
    turns, told = Turns(0.3), list[str]()

    def ask(name: str, patient: bool) -> None:
        with turns.turn(patient):
            told.append(name)

    turns.take()
    threads = [threading.Thread(target=ask, args=(f"long {n}", True)) for n in range(2)]
    for thread in threads:
        thread.start()
    _until(lambda: len(turns.patient) == 2)
    person = threading.Thread(target=ask, args=("a person", False))
    person.start()
    _until(lambda: len(turns.asking) == 1)
    turns.give()
    for thread in (*threads, person):
        thread.join()
    assert told[0] == "a person" and len(told) == 3
    turns.take()
    with pytest.raises(TooLong):
        turns.take()
    turns.give()
    with turns.turn():
        assert turns.taken


def _until(so: Any) -> None:
    until = time.monotonic() + 5
    while not so() and time.monotonic() < until:
        time.sleep(0.001)
    assert so()


def _hold(path: str, ready: Any, go: Any) -> None:
    turns = Turns(5.0, Path(path))
    turns.take(patient=True)
    ready.set()
    go.wait(10)
    turns.give()


def test_turns_hold_among_processes(tmp_path: Path) -> None:
    context = get_context("spawn")
    ready, go = context.Event(), context.Event()
    other = context.Process(target=_hold, args=(str(tmp_path / "a.db"), ready, go))
    other.start()
    try:
        assert ready.wait(20)
        mine = Turns(0.2, tmp_path / "a.db")
        with pytest.raises(TooLong):
            mine.take()
        go.set()
        other.join(20)
        with Turns(5.0, tmp_path / "a.db").turn():
            pass
    finally:
        other.kill()
