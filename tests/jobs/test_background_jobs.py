"""Long jobs: told how far they are, stopped without a trace, begun again after a crash, never two of one."""

from __future__ import annotations

import json
from dataclasses import replace
from fractions import Fraction
from pathlib import Path
from typing import Any

import pytest
from sqlalchemy import select

from amber_lane.data.lanes import Lane
from amber_lane.data.outbox import AuditEntry, AuditEntryPart, Job
from amber_lane.data.setup import Person
from amber_lane.data.shelf import Listing, Sku
from amber_lane.jobs import background_jobs
from amber_lane.jobs.background_jobs import LongJobs
from amber_lane.services.activity import undo
from amber_lane.services.base import consequences
from amber_lane.services.base.context import Context
from amber_lane.services.base.job_queue import start
from amber_lane.services.mapping import lanes
from amber_lane.services.orders.routing import replan
from amber_lane.services.pricing import replay, replay_summary
from amber_lane.services.pricing.drafts import PolicyChange

from ..small import Small

HEAD = "store,sku,supplier,item,units_per_sale,use\n"


@pytest.fixture
def jobs(small: Small) -> LongJobs:
    return LongJobs(small.db, small.clock, None)  # type: ignore[arg-type] - these jobs call nobody outside


def sheet(small: Small, tmp_path: Path, text: str, kind: str = "sheet.take", name: str = "lanes") -> int:
    path = tmp_path / "sheet.csv"
    path.write_text(text)
    return small.write(lambda context: start(context, kind, f"{kind}:one", "Lanes sheet", {"sheet": name, "path": str(path)})).id


def job(small: Small, number: int) -> Job:
    return small.all(select(Job).where(Job.id == number))[0]


def spares(small: Small) -> list[tuple[int, int]]:
    return [
        (row.sku_id, row.priority) for row in small.all(select(Lane).where(Lane.closed_at.is_(None), Lane.priority > 0).order_by(Lane.id))
    ]


def test_a_sheet_is_checked_without_a_trace_and_then_taken_once(small: Small, jobs: LongJobs, tmp_path: Path) -> None:
    text = (
        HEAD
        + "First shop,S-1,Supply House,I-2,1,spare\nFIRST SHOP,S-2,sup,I-3,2,spare\nFirst shop,S-77,SUP,I-2,1,\nNowhere,S-1,SUP,I-2,1,\n"
    )
    sheet(small, tmp_path, text, "sheet.check")
    jobs.run_due()
    first = small.all(select(Job))[0]
    assert (first.state, first.result["counts"]) == ("done", {"new": 2, "changed": 0, "same": 0, "bad": 2})
    assert {row["reason"][:20] for row in first.result["bad"]} == {"there is no SKU 'S-7", "there is no store 'N"} and spares(small) == []
    number = sheet(small, tmp_path, text)
    jobs.run_due()
    assert job(small, number).state == "done" and spares(small) == [(1, 1), (2, 1)]
    # The same sheet again changes nothing.
    again = sheet(small, tmp_path, text)
    jobs.run_due()
    assert job(small, again).result["counts"] == {"new": 0, "changed": 0, "same": 2, "bad": 2} and spares(small) == [(1, 1), (2, 1)]


def test_what_a_job_did_for_a_person_is_their_last_act(small: Small, jobs: LongJobs, tmp_path: Path) -> None:
    """Else Z would take back whatever they did before it."""

    def ask(context: Context) -> None:
        context.session.add(Person(id=7, name="Wren", mail="wren@example.invalid", password="-"))
        context.actor, context.person = "Wren", 7
        lanes.change_lane(context, small.lane(3).id, small.lane(3).version, units=Fraction(2), reason="a pair")
        path = tmp_path / "sheet.csv"
        path.write_text(HEAD + "First shop,S-1,SUP,I-2,1,spare\n")
        start(context, "sheet.take", "one", "Lanes sheet", {"sheet": "lanes", "path": str(path)})

    small.write(ask)
    jobs.run_due()
    with small.db.reading() as s:
        act = undo.last_undoable(Context(s, small.clock, "", 7))
    assert act is not None and act.kind.startswith("lane.sheet") and act.person_id == 7


def test_a_job_in_portions_is_one_act_and_stops_where_it_is_undone(small: Small, jobs: LongJobs, monkeypatch: pytest.MonkeyPatch) -> None:
    small.respond()
    monkeypatch.setattr(background_jobs, "PREPARE", 2)
    ids = [small.listing(n).id for n in range(1, 6)]

    def prepare(context: Context) -> None:
        for number in ids:
            context.get(Listing, number, "listing").state = "preparing"
        start(context, "publish", "all", "Publishing", {"listings": ids}, len(ids))

    small.write(prepare)
    jobs.run_due()
    (act,) = small.all(select(AuditEntry).where(AuditEntry.kind == "listing.publish"))
    assert (act.message, act.count) == ("5 listings published", 5)
    did = [act.after, *small.all(select(AuditEntryPart.after).where(AuditEntryPart.audit_entry_id == act.id).order_by(AuditEntryPart.id))]
    assert [one["listings"] for one in did] == [ids[:2], ids[2:4], ids[4:]]
    small.write(lambda context: undo.undo(context, act.id))
    assert {small.listing(n).state for n in range(1, 6)} == {"preparing"}, "all of it, with one key"

    real = background_jobs.publishing.publish

    def undone_meanwhile(context: Context, some: list[int]) -> Any:
        if small.all(select(AuditEntry).where(AuditEntry.kind == "listing.publish", AuditEntry.undo == "open")):
            newest = context.session.scalars(
                select(AuditEntry).where(AuditEntry.kind == "listing.publish").order_by(AuditEntry.id.desc())
            ).first()
            assert newest is not None
            undo.undo(context, newest.id)
        return real(context, some)

    monkeypatch.setattr(background_jobs.publishing, "publish", undone_meanwhile)
    number = small.write(lambda context: start(context, "publish", "again", "Publishing", {"listings": ids}, len(ids))).id
    jobs.run_due()
    assert job(small, number).state == "failed" and "the rest was left as it was" in job(small, number).message


def test_a_lanes_sheet_in_portions_is_one_act_whose_orders_are_planned_once(
    small: Small, jobs: LongJobs, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(background_jobs.portions, "PORTION", 2)
    planned: list[bool] = []
    monkeypatch.setattr(consequences, "_REROUTE", [lambda context: (planned.append(context.more), replan(context))])
    before = spares(small)
    number = sheet(small, tmp_path, HEAD + "".join(f"First shop,S-{n},SUP,I-{n % 6 + 1},1,spare\n" for n in range(1, 6)))
    jobs.run_due()
    assert job(small, number).message.startswith("5 new") and len(spares(small)) == 5 and planned == [False]
    (act,) = small.all(select(AuditEntry).where(AuditEntry.kind == "lane.sheet"))
    assert act.message == "5 lanes brought in by a sheet"
    small.write(lambda context: undo.undo(context, act.id))
    assert spares(small) == before

    def stopped(context: Context, checked: Any) -> int:
        context.get(Job, again, "job").stop_asked = len(spares(small)) >= 2
        return real_take(context, checked)

    kind = background_jobs.sheet_kinds.KINDS["lanes"]
    real_take = kind.take
    monkeypatch.setitem(background_jobs.sheet_kinds.KINDS, "lanes", replace(kind, take=stopped))
    again = sheet(small, tmp_path, HEAD + "".join(f"First shop,S-{n},SUP,I-{n % 6 + 1},1,spare\n" for n in range(1, 6)))
    jobs.run_due()
    assert job(small, again).message == "stopped; what was done by then stands, and can be undone as one" and len(spares(small)) == 2


def test_a_replay_goes_on_by_itself_a_few_listings_at_a_time_and_can_be_stopped(
    small: Small, jobs: LongJobs, monkeypatch: pytest.MonkeyPatch
) -> None:
    small.respond()
    for k in range(4):
        small.later(days=1)
        small.order(f"O{k}", (f"S-{k + 1}", 2, 3000))
        small.sweep({k + 1: (500 + k, 20), 6: (900, k)})
    change = PolicyChange("house", "", {"follow_price": False, "follow_stock": False})
    with small.db.reading() as s:
        whole = replay_summary.beside(small.context(s), 10, None, change)
    assert whole["one"]["sold"] and whole["one"] != whole["other"]
    monkeypatch.setattr(replay, "AT_A_TIME", 2)
    body = {"days": 10, "one": None, "other": replay_summary.as_stored(change)}
    number = small.write(lambda context: start(context, "replay", "r", "Replay", body, 100)).id
    LongJobs(small.db, small.clock, None, looks=False).run_due()  # type: ignore[arg-type]
    assert job(small, number).state == "waiting", "what only reads has a line of its own"
    LongJobs(small.db, small.clock, None, looks=True).run_due()  # type: ignore[arg-type]
    done = job(small, number)
    assert (done.state, done.total) == ("done", 100) and done.done > 50
    assert json.loads(json.dumps(whole)) == done.result
    again = small.write(lambda context: start(context, "replay", "r", "Replay", body, 100)).id
    small.write(lambda context: setattr(context.get(Job, again, "job"), "stop_asked", True))
    jobs.run_due()
    assert job(small, again).state == "stopped"


def test_one_key_is_one_job_while_it_is_open(small: Small, jobs: LongJobs, tmp_path: Path) -> None:
    one, two = (sheet(small, tmp_path, HEAD + "First shop,S-1,SUP,I-2,1,spare\n") for _ in range(2))
    assert one == two
    jobs.run_due()
    assert sheet(small, tmp_path, HEAD) != one and len(small.all(select(Job.key))) == len(set(small.all(select(Job.key))))


def test_a_stopped_job_leaves_nothing_half_done(small: Small, jobs: LongJobs, tmp_path: Path) -> None:
    number = sheet(small, tmp_path, HEAD + "First shop,S-1,SUP,I-2,1,spare\n" * 5)

    def stop(context: Context) -> None:
        context.get(Job, number, "job").stop_asked = True

    small.write(stop)
    acts = len(small.all(select(AuditEntry)))
    jobs.run_due()
    assert job(small, number).state == "stopped" and "nothing half done" in job(small, number).message
    assert spares(small) == [] and len(small.all(select(AuditEntry))) == acts


def test_a_worker_that_died_in_the_middle_begins_again_and_takes_it_once(
    small: Small, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    number = sheet(small, tmp_path, HEAD + "First shop,S-1,SUP,I-2,1,spare\n")

    class Died(BaseException):
        pass

    def die(*_: Any) -> None:
        raise Died

    def run() -> None:
        LongJobs(small.db, small.clock, None).run_due()  # type: ignore[arg-type]

    # Once before anything was written, and once after all of it was: the second run finds it the same.
    for place in ("progress", "_end"):
        with monkeypatch.context() as patch:
            patch.setattr(LongJobs, place, die)
            with pytest.raises(Died):
                run()
        assert job(small, number).state == "running"
        LongJobs(small.db, small.clock, None).recover()  # type: ignore[arg-type]
    run()
    assert job(small, number).state == "done" and spares(small) == [(1, 1)]
    assert len(small.all(select(AuditEntry).where(AuditEntry.kind == "lane.sheet", AuditEntry.count > 0))) == 1


@pytest.mark.parametrize(
    ("content", "said"),
    [("", "empty"), ("\x00\x01\x02", ""), ("store,sku\n1,2\n", "supplier"), (HEAD, "0 new, 0 changed, 0 the same, 0 cannot be taken")],
)
def test_what_is_not_a_sheet_ends_with_a_word(small: Small, jobs: LongJobs, tmp_path: Path, content: str, said: str) -> None:
    number = sheet(small, tmp_path, content)
    jobs.run_due()
    row = job(small, number)
    assert row.state == ("done" if content == HEAD else "failed") and said in row.message and "Traceback" not in row.message


def test_a_job_that_breaks_says_so_and_the_next_one_runs(small: Small, jobs: LongJobs, tmp_path: Path) -> None:
    gone = small.write(
        lambda context: start(context, "sheet.take", "gone", "Gone", {"sheet": "lanes", "path": str(tmp_path / "none.csv")})
    ).id
    fine = sheet(small, tmp_path, HEAD + "First shop,S-1,SUP,I-2,1,spare\n")
    with pytest.raises(FileNotFoundError):
        jobs.run_due()
    jobs.run_due()
    assert (
        job(small, gone).state == "failed" and "nothing half done was kept" in job(small, gone).message and job(small, fine).state == "done"
    )


def test_many_lanes_are_followed_in_stretches_and_all_have_their_price(
    small: Small, jobs: LongJobs, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("amber_lane.services.base.portions.PORTION", 10)

    def more(context: Context) -> None:
        for n in range(100, 140):
            small.list_sku(context.session, n)

    small.write(more)
    number = sheet(small, tmp_path, HEAD + "".join(f"First shop,S-{n},SUP,I-{n % 6 + 1},1,\n" for n in range(100, 140)))
    jobs.run_due()
    assert job(small, number).result["counts"]["new"] == 40
    ids = small.all(select(Sku.id).where(Sku.id >= 100))
    assert all(small.listing(n).landed == (n % 6 + 1) * 100 + 130 for n in ids)
