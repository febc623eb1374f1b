"""Claims: what we ask of a supplier for goods that are lost, late, damaged or wrong, and what was done for the buyer meanwhile."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import date, datetime
from typing import Any

from sqlalchemy import CheckConstraint, ForeignKey, Index, text
from sqlalchemy.orm import Mapped, mapped_column

from ..core.claims import ClaimReason, Way
from ..core.states import CLAIM, ClaimState
from .base import Row, Versioned

_OPEN: Any = {"sqlite_where": text("closed_at is null"), "postgresql_where": text("closed_at is null")}


def one_of(values: Iterable[str]) -> str:
    """Values as a check of a table has them."""
    return ",".join(f"'{one}'" for one in values)


class Claim(Versioned):
    """One cause of one purchase. units of its line; wish: money or again (the same sent once more); amount: what is asked, offered: what
    the supplier says it pays, came_back: what came, all in its currency, minor units. buyer: what was done for the buyer."""

    __tablename__ = "claim"
    __table_args__ = (
        # What of a purchase is asked back is asked once at a time.
        Index("uq_claim_open", "purchase_id", "order_line_id", unique=True, **_OPEN),
        Index("ix_claim_order_id", "order_id"),
        Index("ix_claim_state_due", "state", "due"),
        CheckConstraint(f"state in ({one_of(CLAIM.states)})", name="state"),
        CheckConstraint(f"reason in ({one_of(ClaimReason)})", name="reason"),
        CheckConstraint(f"buyer in ('',{one_of(Way)})", name="buyer"),
        CheckConstraint("wish in ('money','again')", name="wish"),
        CheckConstraint("units > 0 and amount >= 0 and came_back >= 0", name="amounts"),
    )
    reference: Mapped[str] = mapped_column(unique=True)
    order_id: Mapped[int] = mapped_column(ForeignKey("order.id"))
    order_line_id: Mapped[int] = mapped_column(ForeignKey("order_line.id"))
    purchase_id: Mapped[int] = mapped_column(ForeignKey("purchase_order.id"))
    supplier_id: Mapped[int] = mapped_column(ForeignKey("supplier.id"))
    parcel_id: Mapped[int | None] = mapped_column(ForeignKey("parcel.id"))
    reason: Mapped[str]
    units: Mapped[int]
    wish: Mapped[str] = mapped_column(default="money")
    state: Mapped[ClaimState]
    amount: Mapped[int]
    currency: Mapped[str]
    # What it was paid for in the purchase, and no more may come back than that.
    paid: Mapped[int]
    words: Mapped[str] = mapped_column(default="")
    # Numbers of pictures.
    evidence: Mapped[list[Any]] = mapped_column(default=list)
    opened_at: Mapped[datetime]
    asked_at: Mapped[datetime | None]
    # When the supplier's time to answer is over, and how often it was reminded.
    due: Mapped[date | None]
    reminded: Mapped[int] = mapped_column(default=0)
    answered_at: Mapped[datetime | None]
    answer: Mapped[str] = mapped_column(default="")
    their_number: Mapped[str] = mapped_column(default="")
    offered: Mapped[int | None]
    came_back: Mapped[int] = mapped_column(default=0)
    came_at: Mapped[datetime | None]
    buyer: Mapped[str] = mapped_column(default="")
    buyer_at: Mapped[datetime | None]
    # What they got back, all in all, minor units of the order's money; null = nothing.
    buyer_amount: Mapped[int | None]
    # When they were paid back a part and kept it, whatever was done later.
    part_at: Mapped[datetime | None]
    closed_at: Mapped[datetime | None]
    # The buyer's mail that it began with.
    letter_id: Mapped[int | None] = mapped_column(ForeignKey("letter.id"))


class ClaimEvent(Row):
    """What happened to a claim, in order. who: a person, or what acts by itself."""

    __tablename__ = "claim_event"
    __table_args__ = (Index("ix_claim_event_claim_id", "claim_id"),)
    claim_id: Mapped[int] = mapped_column(ForeignKey("claim.id"))
    at: Mapped[datetime]
    who: Mapped[str]
    kind: Mapped[str]
    message: Mapped[str]
