"""Stock that a partner holds for us: loads on their way in, and a ledger that only grows."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import ForeignKey, Index
from sqlalchemy.orm import Mapped, mapped_column

from .base import Row, Versioned


class Inbound(Versioned):
    __tablename__ = "inbound"
    supplier_id: Mapped[int] = mapped_column(ForeignKey("supplier.id"))
    reference: Mapped[str] = mapped_column(unique=True)
    state: Mapped[str]
    sent_at: Mapped[datetime | None]
    cartons: Mapped[list[Any]] = mapped_column(default=list)


class DepotEntry(Row):
    """One movement of stock: what came in = what is there + what went out."""

    __tablename__ = "depot_entry"
    __table_args__ = (Index("ix_depot_entry_item_id_at", "item_id", "at"),)
    item_id: Mapped[int] = mapped_column(ForeignKey("item.id"))
    inbound_id: Mapped[int | None] = mapped_column(ForeignKey("inbound.id"))
    at: Mapped[datetime]
    units: Mapped[int]
    reason: Mapped[str]
