"""What suppliers sell: items with the offer we believe, and the ways of finding more."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import ForeignKey, Index, UniqueConstraint, text
from sqlalchemy.orm import Mapped, mapped_column

from ..core.states import RequestState, SampleState
from .base import Row, Versioned, part

_GONE = Index("ix_item_gone", "offer", **part("offer = 'gone'"))
_DOUBTED = Index("ix_item_doubted", "id", **part("offer = 'doubted'"))


class Item(Row):
    """A supplier item and its offer now. `stock` -1 = not told; doubt_* = what was seen and not yet believed."""

    __tablename__ = "item"
    __table_args__ = (
        UniqueConstraint("supplier_id", "number"),
        Index("ix_item_gtin", "gtin"),
        Index("ix_item_changed_at", "changed_at"),
        # Lists of lanes are put in order by these.
        Index("ix_item_cost", "cost"),
        Index("ix_item_stock", "stock"),
        Index("ix_item_number", "number"),
        _GONE,
        _DOUBTED,
    )
    supplier_id: Mapped[int] = mapped_column(ForeignKey("supplier.id"))
    origin_id: Mapped[int | None] = mapped_column(ForeignKey("origin.id"))
    number: Mapped[str]
    title: Mapped[str]
    gtin: Mapped[str] = mapped_column(default="")
    mpn: Mapped[str] = mapped_column(default="")
    brand: Mapped[str] = mapped_column(default="")
    category: Mapped[str] = mapped_column(default="")
    options: Mapped[str] = mapped_column(default="")
    link: Mapped[str] = mapped_column(default="")
    pack_size: Mapped[int] = mapped_column(default=1)
    weight_g: Mapped[int] = mapped_column(default=0)
    lead_days: Mapped[int] = mapped_column(default=0)
    least_price: Mapped[int | None]
    currency: Mapped[str]
    cost: Mapped[int]
    tiers: Mapped[list[Any] | None]
    stock: Mapped[int] = mapped_column(default=-1)
    offer: Mapped[str] = mapped_column(default="good")
    seen_at: Mapped[datetime | None]
    changed_at: Mapped[datetime | None]
    # When it was last asked for by itself, where a supplier tells one item a call.
    looked_at: Mapped[datetime | None]
    # How far apart two looks at it shall be, in seconds, where they are planned one by one.
    look_every: Mapped[int | None]
    doubt_cost: Mapped[int] = mapped_column(default=-1)
    doubt_stock: Mapped[int] = mapped_column(default=-1)
    doubt_seen: Mapped[int] = mapped_column(default=0)


IS_DOUBTED: Any = text("item.offer = 'doubted'")


class Sample(Versioned):
    __tablename__ = "sample"
    item_id: Mapped[int] = mapped_column(ForeignKey("item.id"))
    state: Mapped[SampleState]
    ordered_at: Mapped[datetime | None]
    verdict: Mapped[str] = mapped_column(default="")
    reference: Mapped[str] = mapped_column(default="")
    quantity: Mapped[int] = mapped_column(default=1)
    note: Mapped[str] = mapped_column(default="")
    # What it costs with its sending, in the supplier's money; None where no rate was known.
    cost: Mapped[int | None]
    currency: Mapped[str] = mapped_column(default="")


class SupplierRequest(Versioned):
    __tablename__ = "supplier_request"
    supplier_id: Mapped[int] = mapped_column(ForeignKey("supplier.id"))
    sku_id: Mapped[int] = mapped_column(ForeignKey("sku.id"))
    state: Mapped[RequestState]
    asked_at: Mapped[datetime]
    target: Mapped[int | None]
    answer: Mapped[dict[str, Any] | None]
    note: Mapped[str] = mapped_column(default="")
    item_id: Mapped[int | None] = mapped_column(ForeignKey("item.id"))
    ended_at: Mapped[datetime | None]


class SavedSearch(Versioned):
    __tablename__ = "saved_search"
    name: Mapped[str]
    words: Mapped[dict[str, Any]]
    every_hours: Mapped[int]
    next_at: Mapped[datetime | None]
    daily_limit: Mapped[int]
    bring: Mapped[str]
    store_id: Mapped[int | None] = mapped_column(ForeignKey("store.id"))
    last_at: Mapped[datetime | None]
    # What it found and brought in lately, newest first.
    reports: Mapped[list[Any]] = mapped_column(default=list)
