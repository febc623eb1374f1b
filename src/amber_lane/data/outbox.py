"""The only door out, long jobs, the log of acts, and what a person put off."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import CheckConstraint, ForeignKey, Index, UniqueConstraint, text
from sqlalchemy.orm import Mapped, mapped_column

from ..core.states import JobState, OutboxState
from .base import Base, Row, Versioned, part

# What the outside does not have yet. Written out, since a partial index is used only where a query says the very same.
OPEN = (OutboxState.waiting, OutboxState.claimed, OutboxState.unknown, OutboxState.posted)
_OPEN = f"state in ({', '.join(repr(state.value) for state in OPEN)})"
# A change that was tried this often and is still not taken is told, although it goes on by itself.
_DELAYED = "state in ('waiting', 'unknown') and tries >= 12"


def party_of(target: str) -> tuple[str, int]:
    """Who a row goes to, by its target: store:3 is store 3."""
    owner, _, number = target.partition(":")
    return owner, int(number)


class Outbox(Row):
    """A change decided here. `subject` is the thing whose changes must stay in order.

    ticket: the batch that it went in, or the program that has it in hand; until: when that program's time is up.
    """

    __tablename__ = "outbox"
    __table_args__ = (
        Index("ix_outbox_state_id", "state", "id", "target"),
        Index("ix_outbox_subject_id", "subject", "id", "state"),
        # In order for each target, with all that delivery and the counts ask before they read a row.
        Index("ix_outbox_open", "target", "id", "kind", "state", "after", "made_at", **part(_OPEN)),
        Index("ix_outbox_delayed", "target", "fault", **part(_DELAYED)),
        CheckConstraint("state in ('waiting','claimed','unknown','posted','done','dropped','dead')", name="state"),
    )
    key: Mapped[str] = mapped_column(unique=True)
    target: Mapped[str]
    subject: Mapped[str]
    kind: Mapped[str]
    body: Mapped[dict[str, Any]]
    state: Mapped[OutboxState] = mapped_column(default="waiting")
    made_at: Mapped[datetime]
    after: Mapped[datetime]
    tries: Mapped[int] = mapped_column(default=0)
    claimed_at: Mapped[datetime | None]
    done_at: Mapped[datetime | None]
    answer: Mapped[str] = mapped_column(default="")
    # Why it was not taken at its last try, as a code (see services.outbox.FAULTS); what is done next goes by it.
    fault: Mapped[str] = mapped_column(default="")
    overtaken_by: Mapped[str | None]
    ticket: Mapped[str | None]
    until: Mapped[datetime | None]


# Rows that the outside does not have yet, and those that it did not take at many tries.
HAS_FAILED: Any = text("job.failed > 0")
IS_OPEN: Any = text(f"outbox.{_OPEN}")
IS_DELAYED: Any = text("outbox.state in ('waiting', 'unknown') and outbox.tries >= 12")


class Revision(Base):
    """How often a table was changed, by its name (see data.revisions)."""

    __tablename__ = "revision"
    name: Mapped[str] = mapped_column(primary_key=True)
    n: Mapped[int] = mapped_column(default=0)


class SheetOut(Row):
    """A sheet that was taken out for a partner who works by sheets, as it was. outbox: the rows that went with it.

    file_rule_id, path: by which rule it is put on a server, and as what; placing_at: when the step began by which it got its name there.
    """

    __tablename__ = "sheet_out"
    __table_args__ = (Index("ix_sheet_out_owner", "owner", "owner_id", "id"),)
    owner: Mapped[str]
    owner_id: Mapped[int]
    what: Mapped[str]
    at: Mapped[datetime]
    who: Mapped[str]
    header: Mapped[list[Any]]
    rows: Mapped[list[Any]]
    outbox: Mapped[list[Any]]
    back_at: Mapped[datetime | None]
    file_rule_id: Mapped[int | None] = mapped_column(ForeignKey("file_rule.id"))
    path: Mapped[str] = mapped_column(default="")
    placing_at: Mapped[datetime | None]


class Job(Row):
    __tablename__ = "job"
    __table_args__ = (UniqueConstraint("key"), Index("ix_job_state", "state"), Index("ix_job_failed", "id", **part("failed > 0")))
    key: Mapped[str]
    kind: Mapped[str]
    title: Mapped[str]
    body: Mapped[dict[str, Any]] = mapped_column(default=dict)
    state: Mapped[JobState] = mapped_column(default="waiting")
    total: Mapped[int] = mapped_column(default=0)
    done: Mapped[int] = mapped_column(default=0)
    failed: Mapped[int] = mapped_column(default=0)
    message: Mapped[str] = mapped_column(default="")
    result: Mapped[dict[str, Any] | None]
    stop_asked: Mapped[bool] = mapped_column(default=False)
    made_at: Mapped[datetime]
    ended_at: Mapped[datetime | None]


class JobPart(Row):
    """A portion of a job that is still to be done; it goes in the transaction that does it."""

    __tablename__ = "job_part"
    __table_args__ = (Index("ix_job_part_job_id", "job_id", "id"),)
    job_id: Mapped[int] = mapped_column(ForeignKey("job.id"))
    body: Mapped[list[Any]]
    tries: Mapped[int] = mapped_column(default=0)


class AuditEntry(Row):
    """Who or what did what, when, why, before and after. `undo`: open, done, or '' when it cannot be undone."""

    __tablename__ = "audit_entry"
    __table_args__ = (
        Index("ix_audit_entry_at", "at"),
        Index("ix_audit_entry_kind_at", "kind", "at"),
        Index("ix_audit_entry_person_id_undo", "person_id", "undo", "id"),
    )
    at: Mapped[datetime]
    who: Mapped[str]
    kind: Mapped[str]
    on: Mapped[str]
    message: Mapped[str]
    reason: Mapped[str] = mapped_column(default="")
    before: Mapped[dict[str, Any] | None]
    after: Mapped[dict[str, Any] | None]
    undo: Mapped[str] = mapped_column(default="")
    # The person who did it; None = the program did it by itself.
    person_id: Mapped[int | None]
    count: Mapped[int] = mapped_column(default=1)


class AuditEntryPart(Row):
    """What a further portion of an act did; the act itself holds the first. Undone from the last to the first."""

    __tablename__ = "audit_entry_part"
    __table_args__ = (Index("ix_audit_entry_part_audit_entry_id", "audit_entry_id", "id"),)
    audit_entry_id: Mapped[int] = mapped_column(ForeignKey("audit_entry.id"))
    before: Mapped[dict[str, Any] | None]
    after: Mapped[dict[str, Any] | None]


class Snooze(Versioned):
    __tablename__ = "snooze"
    alert: Mapped[str] = mapped_column(unique=True)
    until: Mapped[datetime]
    # What the trouble said then, where it sleeps until it says something else.
    message: Mapped[str] = mapped_column(default="")
    by: Mapped[str]
