"""Sweeps, what they saw, and what was done about it."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import ForeignKey, Index
from sqlalchemy.orm import Mapped, mapped_column

from ..core.states import DecisionState, SweepState
from .base import Row


class Sweep(Row):
    """state: running, good, held, released (a held one that was used after all), kept (a held one set aside), stale, failed."""

    __tablename__ = "sweep"
    __table_args__ = (Index("ix_sweep_supplier_id_started", "supplier_id", "started"),)
    supplier_id: Mapped[int] = mapped_column(ForeignKey("supplier.id"))
    started: Mapped[datetime]
    ended: Mapped[datetime | None]
    state: Mapped[SweepState]
    asked_by: Mapped[str] = mapped_column(default="schedule")
    calls: Mapped[int] = mapped_column(default=0)
    retries: Mapped[int] = mapped_column(default=0)
    items: Mapped[int] = mapped_column(default=0)
    changes: Mapped[int] = mapped_column(default=0)
    doubted: Mapped[int] = mapped_column(default=0)
    refused: Mapped[int] = mapped_column(default=0)
    as_of: Mapped[datetime | None]
    message: Mapped[str] = mapped_column(default="")
    held: Mapped[dict[str, Any] | None]


class Sighting(Row):
    """What a sweep saw of an item, only when it changed. verdict: good, doubted, refused, gone, held."""

    __tablename__ = "sighting"
    __table_args__ = (Index("ix_sighting_item_id_at", "item_id", "at"), Index("ix_sighting_sweep_id", "sweep_id"))
    sweep_id: Mapped[int] = mapped_column(ForeignKey("sweep.id"))
    item_id: Mapped[int] = mapped_column(ForeignKey("item.id"))
    at: Mapped[datetime]
    old_cost: Mapped[int]
    cost: Mapped[int]
    old_stock: Mapped[int]
    stock: Mapped[int]
    verdict: Mapped[str]


class Drift(Row):
    """What a store showed otherwise than we had asked and it had confirmed. how: sent, taken, gone (it agrees again); '' = open."""

    __tablename__ = "drift"
    __table_args__ = (Index("ix_drift_ended_at", "ended_at"),)
    listing_id: Mapped[int] = mapped_column(ForeignKey("listing.id"))
    seen_at: Mapped[datetime]
    price: Mapped[int]
    quantity: Mapped[int]
    state: Mapped[str]
    ended_at: Mapped[datetime | None]
    how: Mapped[str] = mapped_column(default="")


class ListingDecision(Row):
    """What was done about a listing, and the terms and limits behind it as data.

    kind: reprice, quantity, pause, resume, keep, hold. state: sent, waits, kept, held, undone.
    """

    __tablename__ = "listing_decision"
    __table_args__ = (
        Index("ix_listing_decision_listing_id_at", "listing_id", "at"),
        Index("ix_listing_decision_state_at", "state", "at"),
        Index("ix_listing_decision_sweep_id", "sweep_id"),
        Index("ix_listing_decision_item_id", "item_id"),
        Index("ix_listing_decision_audit_entry_id", "audit_entry_id"),
        Index("ix_listing_decision_kind", "kind", "id"),
        Index("ix_listing_decision_at", "at"),
    )
    sweep_id: Mapped[int | None] = mapped_column(ForeignKey("sweep.id"))
    audit_entry_id: Mapped[int | None]
    listing_id: Mapped[int] = mapped_column(ForeignKey("listing.id"))
    item_id: Mapped[int | None]
    at: Mapped[datetime]
    kind: Mapped[str]
    state: Mapped[DecisionState]
    old_price: Mapped[int]
    new_price: Mapped[int]
    old_quantity: Mapped[int]
    new_quantity: Mapped[int]
    old_state: Mapped[str]
    new_state: Mapped[str]
    set_by: Mapped[int]
    outcome: Mapped[int]
    terms: Mapped[dict[str, Any]]
