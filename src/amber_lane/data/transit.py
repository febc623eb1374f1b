"""Parcels, what carriers say of them, what was passed on, and mail to buyers."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import CheckConstraint, ForeignKey, Index, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column

from ..core.states import MailState, ParcelState
from .base import Row, Versioned


class Parcel(Versioned):
    __tablename__ = "parcel"
    __table_args__ = (
        UniqueConstraint("carrier_id", "number"),
        Index("ix_parcel_state", "state"),
        Index("ix_parcel_ended_by", "ended_by"),
        CheckConstraint("state in ('label','moving','delivered','returned')", name="state"),
    )
    carrier_id: Mapped[int] = mapped_column(ForeignKey("carrier.id"))
    number: Mapped[str]
    state: Mapped[ParcelState] = mapped_column(default="label")
    made_at: Mapped[datetime]
    moved_at: Mapped[datetime | None]
    ended_at: Mapped[datetime | None]
    last_word: Mapped[str] = mapped_column(default="")
    # Who says that it has ended: carrier, policy (nobody said so for long), replaced (another number took its place).
    ended_by: Mapped[str] = mapped_column(default="")


class ParcelLine(Row):
    """Which purchase is in which parcel; a parcel may carry several, a purchase may come in several."""

    __tablename__ = "parcel_line"
    __table_args__ = (UniqueConstraint("parcel_id", "purchase_id"), Index("ix_parcel_line_purchase_id", "purchase_id"))
    parcel_id: Mapped[int] = mapped_column(ForeignKey("parcel.id"))
    purchase_id: Mapped[int] = mapped_column(ForeignKey("purchase_order.id"))


class CarrierEvent(Row):
    __tablename__ = "carrier_event"
    __table_args__ = (UniqueConstraint("parcel_id", "at", "kind"),)
    parcel_id: Mapped[int] = mapped_column(ForeignKey("parcel.id"))
    at: Mapped[datetime]
    kind: Mapped[str]
    message: Mapped[str]
    place: Mapped[str] = mapped_column(default="")


class PassedOn(Row):
    """A tracking number given to a store for an order: once."""

    __tablename__ = "passed_on"
    __table_args__ = (UniqueConstraint("parcel_id", "order_id"),)
    parcel_id: Mapped[int] = mapped_column(ForeignKey("parcel.id"))
    order_id: Mapped[int] = mapped_column(ForeignKey("order.id"))
    at: Mapped[datetime]
    confirmed_at: Mapped[datetime | None]


class Message(Row):
    """A mail to a buyer; each kind once per order and parcel."""

    __tablename__ = "message"
    __table_args__ = (UniqueConstraint("order_id", "kind", "about"),)
    order_id: Mapped[int] = mapped_column(ForeignKey("order.id"))
    kind: Mapped[str]
    about: Mapped[str] = mapped_column(default="")
    to: Mapped[str]
    subject: Mapped[str]
    body: Mapped[str]
    at: Mapped[datetime]
    state: Mapped[MailState] = mapped_column(default="waiting")


class MessageTemplate(Versioned):
    __tablename__ = "message_template"
    __table_args__ = (UniqueConstraint("kind", "store_id", "language"),)
    kind: Mapped[str]
    store_id: Mapped[int | None] = mapped_column(ForeignKey("store.id"))
    language: Mapped[str] = mapped_column(default="en")
    subject: Mapped[str]
    body: Mapped[str]
    delay_minutes: Mapped[int] = mapped_column(default=0)
    on: Mapped[bool] = mapped_column(default=True)
