"""Returns: what buyers ask for in a store, and goods on their way back from them."""

from __future__ import annotations

from datetime import date, datetime

from sqlalchemy import CheckConstraint, ForeignKey, Index, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column

from ..core.states import GOODS_RETURN, RETURN_REQUEST, GoodsReturnState, ReturnRequestState
from .base import Row, Versioned, part
from .claims import one_of

# When the buyer gets the money: at once, when the carrier has it, when it is there, or when somebody has looked at it.
REFUND_WHEN = ("at_once", "sent", "arrived", "looked_at")


class ReturnRequest(Versioned):
    """A return that a buyer asked for in their store. number: of the store; paid_back: what it gave the buyer since nobody answered."""

    __tablename__ = "return_request"
    __table_args__ = (
        UniqueConstraint("store_id", "number"),
        Index("ix_return_request_state", "state"),
        CheckConstraint(f"state in ({one_of(RETURN_REQUEST.states)})", name="state"),
        CheckConstraint("units > 0", name="units"),
    )
    store_id: Mapped[int] = mapped_column(ForeignKey("store.id"))
    number: Mapped[str]
    order_id: Mapped[int] = mapped_column(ForeignKey("order.id"))
    order_line_id: Mapped[int] = mapped_column(ForeignKey("order_line.id"))
    units: Mapped[int]
    reason: Mapped[str]
    words: Mapped[str] = mapped_column(default="")
    asked_at: Mapped[datetime]
    # What nobody answers until then the store decides.
    answer_by: Mapped[datetime | None]
    state: Mapped[ReturnRequestState]
    answered_at: Mapped[datetime | None]
    claim_id: Mapped[int | None] = mapped_column(ForeignKey("claim.id"))
    paid_back: Mapped[int | None]


class GoodsReturn(Versioned):
    """Goods of a claim that a buyer sends back. supplier_id: to whom, also a depot; null = to us. sound: units that can be sold again."""

    __tablename__ = "goods_return"
    __table_args__ = (
        # One way back of a claim at a time.
        Index("uq_goods_return_open", "claim_id", unique=True, **part("ended_at is null")),
        Index("ix_goods_return_state", "state"),
        Index("ix_goods_return_order_id", "order_id"),
        Index("ix_goods_return_carrier_id", "carrier_id", "tracking"),
        CheckConstraint(f"state in ({one_of(GOODS_RETURN.states)})", name="state"),
        CheckConstraint(f"refund_when in ({one_of(REFUND_WHEN)})", name="refund_when"),
        CheckConstraint("label in ('','asked','made','refused')", name="label"),
        CheckConstraint("units > 0", name="units"),
    )
    number: Mapped[str] = mapped_column(unique=True)
    claim_id: Mapped[int] = mapped_column(ForeignKey("claim.id"))
    order_id: Mapped[int] = mapped_column(ForeignKey("order.id"))
    order_line_id: Mapped[int] = mapped_column(ForeignKey("order_line.id"))
    request_id: Mapped[int | None] = mapped_column(ForeignKey("return_request.id"))
    units: Mapped[int]
    supplier_id: Mapped[int | None] = mapped_column(ForeignKey("supplier.id"))
    address: Mapped[str]
    refund_when: Mapped[str]
    state: Mapped[GoodsReturnState]
    opened_at: Mapped[datetime]
    # Until when the buyer is to send it.
    send_by: Mapped[date]
    label: Mapped[str] = mapped_column(default="")
    label_message: Mapped[str] = mapped_column(default="")
    label_cost: Mapped[int] = mapped_column(default=0)
    label_currency: Mapped[str] = mapped_column(default="")
    carrier_id: Mapped[int | None] = mapped_column(ForeignKey("carrier.id"))
    tracking: Mapped[str] = mapped_column(default="")
    last_word: Mapped[str] = mapped_column(default="")
    # When the carrier had it first; only then does a label cost anything.
    sent_at: Mapped[datetime | None]
    arrived_at: Mapped[datetime | None]
    ended_at: Mapped[datetime | None]
    sound: Mapped[int] = mapped_column(default=0)
    note: Mapped[str] = mapped_column(default="")


class ReturnLabel(Row):
    """The label of a return, as its carrier made it: a PDF."""

    __tablename__ = "return_label"
    return_id: Mapped[int] = mapped_column(ForeignKey("goods_return.id"), unique=True)
    data: Mapped[bytes]
