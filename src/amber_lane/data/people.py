"""What people may do: roles of the house's own, what each spent and refunded in a day, and what waits for somebody who may."""

from __future__ import annotations

from datetime import date, datetime
from typing import Any

from sqlalchemy import CheckConstraint, ForeignKey, Index, UniqueConstraint, text
from sqlalchemy.orm import Mapped, mapped_column

from ..core.states import ApprovalState
from .base import Row, Versioned, part


class RoleRow(Versioned):
    """A role that the house made, or one of core.permissions that it changed. spend, refund: a day, in the house's minor units; null = no
    limit."""

    __tablename__ = "role"
    name: Mapped[str] = mapped_column(unique=True)
    permissions: Mapped[list[Any]] = mapped_column(default=list)
    spend: Mapped[int | None]
    refund: Mapped[int | None]


class PersonSpending(Row):
    """What a person with a limit spent or refunded on a day of the house, in its minor units."""

    __tablename__ = "person_spending"
    __table_args__ = (
        UniqueConstraint("person_id", "day", "limit"),
        CheckConstraint("\"limit\" in ('spend','refund')", name="limit"),
    )
    person_id: Mapped[int] = mapped_column(ForeignKey("person.id"))
    day: Mapped[date]
    limit: Mapped[str]
    amount: Mapped[int]


class ProgramKey(Row):
    """A key of a program of somebody's own, until ended_at; only its hash is kept. Times are real ones."""

    __tablename__ = "program_key"
    __table_args__ = (Index("ix_program_key_person_id_id", "person_id", "id"),)
    person_id: Mapped[int] = mapped_column(ForeignKey("person.id"))
    name: Mapped[str]
    hash: Mapped[str] = mapped_column(unique=True)
    permissions: Mapped[list[Any]] = mapped_column(default=list)
    made_at: Mapped[datetime]
    used_at: Mapped[datetime | None]
    ended_at: Mapped[datetime | None]


class HandedOut(Row):
    """A row that somebody was given: an alert by its key, or a SKU of the mapping queue as sku:number."""

    __tablename__ = "handed_out"
    key: Mapped[str] = mapped_column(unique=True)
    person_id: Mapped[int] = mapped_column(ForeignKey("person.id"))
    at: Mapped[datetime]


class Approval(Versioned):
    """An act above somebody's limit, as they asked for it: the call itself, made again by whoever approves it.

    amount: of the whole act in the house's money, null where a rate lacks. parts: [[id, name, amount]] where some may be approved alone;
    parts_in: the field of the body that holds their ids, '' where there are none. state: waiting, approved or refused.
    """

    __tablename__ = "approval"
    __table_args__ = (
        CheckConstraint("state in ('waiting','approved','refused')", name="state"),
        CheckConstraint("\"limit\" in ('spend','refund')", name="limit"),
        Index("ix_approval_waiting", "id", **part("state = 'waiting'")),
        Index("uq_approval_waiting", "person_id", "mark", unique=True, **part("state = 'waiting'")),
    )
    at: Mapped[datetime]
    person_id: Mapped[int] = mapped_column(ForeignKey("person.id"))
    who: Mapped[str]
    limit: Mapped[str]
    amount: Mapped[int | None]
    currency: Mapped[str]
    message: Mapped[str]
    reason: Mapped[str] = mapped_column(default="")
    method: Mapped[str]
    path: Mapped[str]
    body: Mapped[dict[str, Any]] = mapped_column(default=dict)
    # A hash of the call, so that the same is asked for once.
    mark: Mapped[str]
    parts: Mapped[list[Any]] = mapped_column(default=list)
    parts_in: Mapped[str] = mapped_column(default="")
    state: Mapped[ApprovalState]
    decided_at: Mapped[datetime | None]
    decided_by: Mapped[int | None] = mapped_column(ForeignKey("person.id"))
    decided_who: Mapped[str] = mapped_column(default="")
    decision: Mapped[str] = mapped_column(default="")


# The few that wait, as their index says it.
IS_WAITING: Any = text("approval.state = 'waiting'")
