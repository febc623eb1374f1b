"""What a person did in the last days, by kinds of acts: for coaching and pay. The same is shown to them; nothing else is counted."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import timedelta

from sqlalchemy import case, func, select

from ...core.states import LaneCause, LaneState
from ...data.base import by_index
from ...data.lanes import Lane
from ...data.outbox import AuditEntry
from ...data.setup import Person
from ..base import house_days
from ..base.context import Context

# What belongs together, by the first part of an act's kind, in the order of the road.
GROUPS: tuple[tuple[str, tuple[str, ...]], ...] = (
    ("lanes opened, changed or closed", ("lane",)),
    ("listings prepared, changed or settled", ("listing", "family", "drift", "allowance", "phrase", "request", "search")),
    ("printed goods", ("artwork", "design")),
    ("prices and rules", ("price", "rule", "watch", "rate", "fees", "terms")),
    ("orders let go, bought or cancelled", ("order", "purchase", "batch", "sample")),
    ("loads and a depot's goods", ("load", "depot")),
    ("parcels and mails", ("transit", "parcel", "letter", "buyer")),
    ("cases", ("claim",)),
    ("books", ("statement", "settlement", "overhead", "month")),
)
# What the program found wrong with a lane after somebody opened it.
FOUND_WRONG = (LaneCause.packs, LaneCause.words, LaneCause.record)
_PREFIXES = {prefix: name for name, prefixes in GROUPS for prefix in prefixes}


@dataclass(frozen=True)
class WorkDone:
    """count: things, as the log counts them; acts: in how many; undone: of the things, those taken back since."""

    name: str
    acts: int
    count: int
    undone: int


@dataclass(frozen=True)
class Work:
    """days: how many are looked at, today with them; wrong: lanes that they opened then and that were shut as wrong since."""

    days: int
    rows: list[WorkDone]
    lanes_opened: int
    lanes_wrong: int


def of_person(context: Context, person: Person, days: int) -> Work:
    """What somebody did in the last days of the house."""
    since = house_days.begin(context, house_days.today(context) - timedelta(days=days - 1))
    undone = case((AuditEntry.undo == "done", AuditEntry.count), else_=0)
    rows = (
        select(AuditEntry.kind, func.count(), func.sum(AuditEntry.count), func.sum(undone))
        .where(AuditEntry.person_id == person.id, AuditEntry.at >= since)
        .group_by(AuditEntry.kind)
    )
    sums: dict[str, list[int]] = {}
    for kind, acts, count, back in context.session.execute(by_index(rows, AuditEntry, "ix_audit_entry_person_id_undo")).tuples():
        if name := _PREFIXES.get(kind.partition(".")[0]):
            one = sums.setdefault(name, [0, 0, 0])
            one[0], one[1], one[2] = one[0] + acts, one[1] + int(count or 0), one[2] + int(back or 0)
    lanes = select(func.count(), func.sum(case(((Lane.state == LaneState.shut) & Lane.cause.in_(FOUND_WRONG), 1), else_=0)))
    opened, wrong = context.session.execute(lanes.where(Lane.opened_by == person.name, Lane.opened_at >= since)).one()
    return Work(days, [WorkDone(name, *sums[name]) for name, _ in GROUPS if name in sums], int(opened or 0), int(wrong or 0))
