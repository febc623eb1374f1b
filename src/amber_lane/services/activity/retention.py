"""How long things are kept: what was decided, sent, done and written goes after a time that the house says, into an archive first where
it wants that. Sightings are thinned by their age, so that what was believed at each time can still be told."""

from __future__ import annotations

import gzip
import json
import os
import time
from collections.abc import Callable, Iterator, Sequence
from dataclasses import asdict, dataclass, fields
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

from sqlalchemy import BigInteger, ColumnElement, Select, delete, select, type_coerce, update
from sqlalchemy.orm import aliased

from ...core.states import DecisionState, JobState, SweepState
from ...data.base import Row, by_index
from ...data.bulk import bulk_update
from ...data.outbox import AuditEntry, AuditEntryPart, Job, JobPart, Outbox
from ...data.setup import Letter, Setting
from ...data.transit import Message
from ...data.watch import Drift, ListingDecision, Sighting, Sweep
from ..base import undoing
from ..base.context import Context
from ..base.errors import Invalid

KEEPING, THINNED, FOLDER = "keeping", "thinned", "archive"
# What was believed of an item.
BELIEVED = ("good", "gone")
# Rows that go in one transaction.
PORTION = 1000
DAY_MS = 86_400_000
# From this age on a sighting a month is enough.
MONTHLY = timedelta(days=400)
LEAST = {"decisions": 60, "changes": 30, "jobs": 1, "log": 30, "mails": 30, "sheets": 1, "sightings": 60}


@dataclass(frozen=True)
class Keeping:
    """Days; 0 = for ever. sheets: files that were brought in, as they came. sightings: until then all, from then on the last of each day.

    archive: written to a file before it goes.
    """

    decisions: int = 90
    changes: int = 90
    jobs: int = 90
    log: int = 400
    mails: int = 400
    sheets: int = 30
    sightings: int = 60
    archive: bool = False


def settings(context: Context) -> Keeping:
    row = context.session.scalar(select(Setting).where(Setting.name == KEEPING))
    return Keeping(**row.value) if row else Keeping()


def set_keeping(context: Context, wanted: Keeping) -> str:
    """Say how long things are kept. What is gone cannot come back; the setting itself can be undone."""
    wrong = {name: f"0 for ever, or {least} days and more" for name, least in LEAST.items() if 0 != getattr(wanted, name) < least}
    if wrong:
        raise Invalid("; ".join(f"{name}: {message}" for name, message in wrong.items()), wrong)
    row = context.session.scalar(select(Setting).where(Setting.name == KEEPING))
    before = dict(row.value) if row else None
    if row is None:
        row = Setting(name=KEEPING, value={})
        context.session.add(row)
    row.value = asdict(wanted)
    message = ", ".join(
        f"{one.name} {getattr(wanted, one.name)} days" if getattr(wanted, one.name) else f"{one.name} for ever"
        for one in fields(Keeping)
        if one.name != "archive"
    )
    context.log("keeping.set", "house", f"how long things are kept: {message}", before={"keeping": before}, undo=True)
    context.session.flush()
    return "Kept so from now on"


def restore(context: Context, before: dict[str, Any]) -> None:
    """Undo: as it was said before, or not at all."""
    row = context.session.scalar(select(Setting).where(Setting.name == KEEPING))
    if row is not None and before["keeping"] is None:
        context.session.delete(row)
    elif row is not None:
        row.value = before["keeping"]
    context.session.flush()


# One portion of what is too old: returns how many rows went, 0 once there are no more.
Step = Callable[[Context], int]


def steps(context: Context, folder: Path) -> Iterator[Step]:
    """What is to be done now, each as portions to be repeated until nothing goes any more."""
    keep, now = settings(context), context.now
    archive = folder / FOLDER if keep.archive else None

    def old(days: int) -> datetime:
        return now - timedelta(days=days)

    if keep.decisions:
        rows = by_index(
            select(ListingDecision).where(ListingDecision.at < old(keep.decisions), ListingDecision.state != DecisionState.waits),
            ListingDecision,
            "ix_listing_decision_at",
        )
        yield _drop(rows.order_by(ListingDecision.at), ListingDecision, archive)
    if keep.changes:
        for state in ("done", "dropped"):
            gone = (Outbox.state == state, Outbox.kind.in_(("listing", "mail")), Outbox.made_at < old(keep.changes))
            yield _drop(by_index(select(Outbox).where(*gone), Outbox, "ix_outbox_state_id").order_by(Outbox.id), Outbox, archive)
        yield _drop(select(Drift).where(Drift.ended_at < old(keep.changes)).order_by(Drift.ended_at), Drift, archive)
    if keep.jobs:
        over = (
            select(Job)
            .where(Job.state.in_((JobState.done, JobState.failed, JobState.stopped)), Job.ended_at < old(keep.jobs))
            .order_by(Job.id)
        )
        yield _drop(over, Job, None, (JobPart, JobPart.job_id))
    if keep.log:
        acts = by_index(select(AuditEntry).where(AuditEntry.at < old(keep.log)), AuditEntry, "ix_audit_entry_at").order_by(AuditEntry.at)
        yield _drop(acts, AuditEntry, archive, (AuditEntryPart, AuditEntryPart.audit_entry_id))
    if keep.mails:
        yield _empty(Message, (Message.at < old(keep.mails), Message.body != ""), archive)
        yield _empty(Letter, (Letter.at < old(keep.mails), Letter.body != "", Letter.needs.is_(False)), archive)
    if keep.sightings:
        yield _thin("day", DAY_MS, old(keep.sightings), archive)
        yield _thin("month", 30 * DAY_MS, now - MONTHLY, archive)
        unused = [~select(table.id).where(table.sweep_id == Sweep.id).exists() for table in (Sighting, ListingDecision)]
        ended = (Sweep.started < old(keep.sightings), Sweep.state.not_in((SweepState.running, SweepState.held)), *unused)
        yield _drop(select(Sweep).where(*ended).order_by(Sweep.id), Sweep, None)


def drop_sheets(context: Context, folder: Path) -> int:
    """Delete sheets that were brought in too long ago, by the real time; what they said stands in the tables. Returns how many."""
    days, gone = settings(context).sheets, 0
    for file in (folder / "sheets").glob("*") if days else ():
        if file.is_file() and time.time() - file.stat().st_mtime > days * 86_400:
            file.unlink(missing_ok=True)
            gone += 1
    return gone


def _drop(query: Select[Any], table: type[Row], archive: Path | None, of: tuple[type[Row], Any] | None = None) -> Step:
    """Rows that go, with what belongs to them."""

    def step(context: Context) -> int:
        rows = context.session.scalars(query.limit(PORTION)).all()
        numbers = [row.id for row in rows]
        if archive is not None:
            _write(archive, table, rows, context.now)
        if of is not None:
            context.session.execute(delete(of[0]).where(of[1].in_(numbers)))
        context.session.execute(delete(table).where(table.id.in_(numbers)).execution_options(synchronize_session=False))
        return len(numbers)

    return step


def _empty(table: type[Message] | type[Letter], wanted: Sequence[ColumnElement[bool]], archive: Path | None) -> Step:
    """Mails whose text goes; that they were written stays, so that none is ever written twice."""

    def step(context: Context) -> int:
        rows = context.session.scalars(select(table).where(*wanted).order_by(table.id).limit(PORTION)).all()
        if archive is not None:
            _write(archive, table, rows, context.now)
        mine = update(table).where(table.id.in_([row.id for row in rows])).values(body="")
        context.session.execute(mine.execution_options(synchronize_session=False))
        return len(rows)

    return step


def _thin(name: str, span: int, before: datetime, archive: Path | None) -> Step:
    """Of each item's sightings before a moment the last of each span (ms) stays: what was believed at its end. What went before it in that
    span is told by its old values. What was never believed goes whole. name: where it is kept how far this has come."""

    def step(context: Context) -> int:
        row = context.session.scalar(select(Setting).where(Setting.name == THINNED))
        if row is None:
            row = Setting(name=THINNED, value={})
            context.session.add(row)
        later, at = aliased(Sighting), type_coerce(Sighting.at, BigInteger)
        later_at = type_coerce(later.at, BigInteger)
        after = (later_at > at) | ((later_at == at) & (later.id > Sighting.id))
        same = (later.item_id == Sighting.item_id, after, later_at < (at // span + 1) * span, later.verdict.in_(BELIEVED))
        follower = select(later.id).where(*same).order_by(later_at, later.id).limit(1).correlate(Sighting).scalar_subquery()
        query = select(Sighting, follower).where(Sighting.id > int(row.value.get(name, 0)), Sighting.at < before)
        found = context.session.execute(query.order_by(Sighting.id).limit(PORTION)).tuples().all()
        if not found:
            return 0
        newest: dict[int, tuple[int, int]] = {}
        goes: list[Sighting] = []
        for one, next_one in found:
            old = newest.pop(one.id, (one.old_cost, one.old_stock))
            if one.verdict not in BELIEVED or next_one is not None:
                goes.append(one)
                if one.verdict in BELIEVED and next_one is not None:
                    newest[next_one] = old
            elif old != (one.old_cost, one.old_stock):
                newest[one.id] = old
        if archive is not None:
            _write(archive, Sighting, goes, context.now)
        bulk_update(context.session, Sighting, ("old_cost", "old_stock"), [(*old, number) for number, old in newest.items()])
        numbers = [one.id for one in goes]
        row.value = {**row.value, name: found[-1][0].id}
        context.session.flush()
        context.session.execute(delete(Sighting).where(Sighting.id.in_(numbers)).execution_options(synchronize_session=False))
        return len(found)

    return step


def _write(archive: Path, table: type[Row], rows: Sequence[Any], now: datetime) -> None:
    """Add rows to the month's file of their table, on the disk before they go."""
    if not rows:
        return
    archive.mkdir(parents=True, exist_ok=True)
    columns = [column.key for column in table.__mapper__.column_attrs]
    with (archive / f"{table.__tablename__}-{now:%Y-%m}.jsonl.gz").open("ab") as raw, gzip.GzipFile(fileobj=raw, mode="ab") as out:
        for row in rows:
            out.write(json.dumps({name: getattr(row, name) for name in columns}, default=str, ensure_ascii=False).encode() + b"\n")
        out.close()
        raw.flush()
        os.fsync(raw.fileno())


@undoing.undoes("keeping.set")
def undo_keeping_set(context: Context, act: AuditEntry) -> None:
    restore(context, undoing.before(act))
