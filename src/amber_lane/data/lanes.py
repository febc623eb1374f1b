"""Lanes: which supplier item fills a SKU, in which units, from where, by which service."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import CheckConstraint, ForeignKey, Index, UniqueConstraint, text
from sqlalchemy.orm import Mapped, mapped_column

from ..core.states import LaneState
from .base import Q, Row, Versioned, by_index, part


class Lane(Versioned):
    """use: 0 = main, 1 = spare 1, …; a closed lane keeps its row, with `until` set.

    supplier, origin and service are those of its first item; items of a kit may have others of their own.
    """

    __tablename__ = "lane"
    __table_args__ = (
        Index(
            "uq_lane_open_use",
            "sku_id",
            "store_id",
            "priority",
            unique=True,
            sqlite_where=text("closed_at is null"),
            postgresql_where=text("closed_at is null"),
        ),
        # An empty store is like no other to a database, so general lanes have an index of their own.
        Index(
            "uq_lane_open_general_use",
            "sku_id",
            "priority",
            unique=True,
            sqlite_where=text("closed_at is null and store_id is null"),
            postgresql_where=text("closed_at is null and store_id is null"),
        ),
        # With all that long lists and the queue ask of lanes, so that the lanes themselves need not be read for it.
        Index("ix_lane_sku_id", "sku_id", "closed_at", "priority", "state", "supplier_id", "is_substitute"),
        # Partial, and not beginning with `until`: the database would take that for a rare thing and begin every join there.
        Index(
            "ix_lane_sku_code",
            "sku_code",
            "priority",
            "state",
            "supplier_id",
            "sku_id",
            "id",
            "closed_at",
            sqlite_where=text("closed_at is null"),
            postgresql_where=text("closed_at is null"),
        ),
        # As the list of lanes stands when it opens, and by what its listing keeps.
        Index("ix_lane_priority", "priority", "state", "supplier_id", "sku_id", "id", **part("closed_at is null")),
        Index("ix_lane_landed", "landed", "priority", "state", "supplier_id", "sku_id", "id", **part("closed_at is null")),
        Index("ix_lane_profit", "profit", "priority", "state", "supplier_id", "sku_id", "id", **part("closed_at is null")),
        Index("ix_lane_item_id", "item_id", **part("closed_at is null")),
        Index("ix_lane_kit", "priority", "id", **part("closed_at is null and items > 1")),
        Index("ix_lane_fits", "id", **part("closed_at is null and fits is null")),
        Index("ix_lane_services", "id", **part("closed_at is null and services <> '{}'")),
        Index("ix_lane_shut", "sku_id", **part("closed_at is null and state = 'shut'")),
        Index("ix_lane_origin_id", "origin_id", "service", **part("closed_at is null")),
        Index("ix_lane_supplier_id", "supplier_id", "closed_at", "state", "priority"),
        CheckConstraint("state in ('new','open','slow','shut')", name="state"),
        CheckConstraint("priority >= 0", name="priority"),
    )
    sku_id: Mapped[int] = mapped_column(ForeignKey("sku.id"))
    # The SKU's code once more, so that a hundred thousand lanes are listed in its order without looking at every SKU.
    sku_code: Mapped[str]
    store_id: Mapped[int | None] = mapped_column(ForeignKey("store.id"))
    supplier_id: Mapped[int] = mapped_column(ForeignKey("supplier.id"))
    origin_id: Mapped[int] = mapped_column(ForeignKey("origin.id"))
    service: Mapped[str]
    # Countries that another service is used to, by code.
    services: Mapped[dict[str, Any]] = mapped_column(default=dict)
    priority: Mapped[int]
    state: Mapped[LaneState] = mapped_column(default="new")
    reason: Mapped[str] = mapped_column(default="")
    # Why it is in its state, as a code (core.states.LaneCause); reason says it in words.
    cause: Mapped[str] = mapped_column(default="")
    opened_at: Mapped[datetime]
    opened_by: Mapped[str]
    closed_at: Mapped[datetime | None]
    # Its orders: refused and late in ppm, days to the door that nine in ten keep (services.mapping.performance); None = unknown.
    refuse_ppm: Mapped[int | None]
    late_ppm: Mapped[int | None]
    sure_days: Mapped[int | None]
    # What is lost on claims of its goods, in ppm of what they cost (services.claims.lane_losses); None = as its supplier's.
    claim_ppm: Mapped[int | None]
    # In force from and up to these moments; begun is unset while the first still lies ahead.
    starts: Mapped[datetime | None]
    ends: Mapped[datetime | None]
    begun: Mapped[bool] = mapped_column(default=True)
    # An allowed replacement: other goods, used for orders only where the store permits it and nothing else fills them.
    is_substitute: Mapped[bool] = mapped_column(default=False)
    # Its first item and how many it has; they stay as they were when it was opened.
    item_id: Mapped[int | None] = mapped_column(ForeignKey("item.id"))
    items: Mapped[int] = mapped_column(default=1)
    # What the first listing that it fills lands at and keeps of a sale, as that listing has them; None = it fills none.
    landed: Mapped[int | None]
    profit: Mapped[int | None]
    # Whether its words and units were looked at and nothing speaks against them; unset by whatever changes one of these.
    fits: Mapped[bool | None]
    # What spoke for it when it was opened: score, agrees, differs, and whether it was opened by itself.
    match_evidence: Mapped[dict[str, Any] | None]


SENDS_OTHERWISE: Any = text("lane.closed_at is null and lane.services <> '{}'")
IS_TO_LOOK_AT: Any = text("lane.closed_at is null and lane.fits is null")
IS_KIT: Any = text("lane.items > 1")
IS_SHUT: Any = text("lane.closed_at is null and lane.state = 'shut'")


class LanePart(Row):
    """One item of a lane; a kit has several. units = num / den supplier units per unit sold."""

    __tablename__ = "lane_part"
    __table_args__ = (
        UniqueConstraint("lane_id", "item_id"),
        Index("ix_lane_part_item_id", "item_id"),
        CheckConstraint("units_num > 0 and units_den > 0", name="units"),
    )
    lane_id: Mapped[int] = mapped_column(ForeignKey("lane.id"))
    item_id: Mapped[int] = mapped_column(ForeignKey("item.id"))
    units_num: Mapped[int] = mapped_column(default=1)
    units_den: Mapped[int] = mapped_column(default=1)
    # Where this item is sent from and how, where that is not the lane's; '' = by the lane's service.
    origin_id: Mapped[int | None] = mapped_column(ForeignKey("origin.id"))
    service: Mapped[str] = mapped_column(default="")
    # What it cost when a person last said that it is right, in the item's money.
    cost_then: Mapped[int | None]


class Rejection(Row):
    """A pair that a person said is not the same; it is never offered again."""

    __tablename__ = "rejection"
    __table_args__ = (UniqueConstraint("sku_id", "item_id"),)
    sku_id: Mapped[int] = mapped_column(ForeignKey("sku.id"))
    item_id: Mapped[int] = mapped_column(ForeignKey("item.id"))
    at: Mapped[datetime]
    by: Mapped[str]


class FaultSeen(Row):
    """A fault of lanes that a person said is none."""

    __tablename__ = "fault_seen"
    key: Mapped[str] = mapped_column(unique=True)
    at: Mapped[datetime]
    by: Mapped[str]


def by_items(query: Q) -> Q:
    """The same query over parts of lanes, found by their items and never the other way round: with thousands of items asked for at once
    the database would look through every lane, and through all these items for each."""
    return by_index(query, LanePart, "ix_lane_part_item_id")


def service_of(lane: Lane, part: LanePart, country: str) -> str:
    """By which service an item of a lane is sent to a country."""
    if part.origin_id in (None, lane.origin_id):
        return str((lane.services or {}).get(country) or lane.service)
    return part.service or lane.service
