"""Orders and their lines, plans and holds, purchase orders."""

from __future__ import annotations

from datetime import date, datetime
from typing import Any

from sqlalchemy import CheckConstraint, ColumnElement, ForeignKey, Index, UniqueConstraint, case, text
from sqlalchemy.ext.hybrid import hybrid_property
from sqlalchemy.orm import Mapped, mapped_column

from ..core.states import ORDER_LINE, OrderLineState, PurchaseState
from .base import Row, Versioned, part

_LINE_STATES = ",".join(f"'{state}'" for state in ORDER_LINE.states)


class Order(Versioned):
    __tablename__ = "order"
    __table_args__ = (
        UniqueConstraint("store_id", "number"),
        Index("ix_order_ordered_at", "ordered_at"),
        Index("ix_order_wants", "wants", sqlite_where=text("wants <> ''"), postgresql_where=text("wants <> ''")),
    )
    store_id: Mapped[int] = mapped_column(ForeignKey("store.id"))
    number: Mapped[str]
    buyer: Mapped[str]
    mail: Mapped[str] = mapped_column(default="")
    phone: Mapped[str] = mapped_column(default="")
    address: Mapped[dict[str, Any]]
    address_override: Mapped[dict[str, Any] | None]
    country: Mapped[str]
    currency: Mapped[str]
    ordered_at: Mapped[datetime]
    came_at: Mapped[datetime]
    promised_by: Mapped[date | None]
    note: Mapped[str] = mapped_column(default="")
    channel: Mapped[str] = mapped_column(default="link")
    # The limits that a person let it past.
    allowed: Mapped[list[Any]] = mapped_column(default=list)
    # A person stopped its waiting time: it goes when they send it.
    manual_release: Mapped[bool] = mapped_column(default=False)
    send_after: Mapped[datetime | None]
    # It was there when its store's orders began to be bought, and a person left those that were: it goes by a word of its own.
    before_start: Mapped[bool] = mapped_column(default=False)
    # Only these lines go now, by a person's word; the rest is planned anew once they are bought. Empty = all of them.
    part_lines: Mapped[list[Any]] = mapped_column(default=list)
    # Another order of the same buyer that its supplier is asked to pack into the same parcel.
    packed_with: Mapped[int | None]
    # When the store told that the buyer cancelled: nothing is bought for it any more.
    cancelled_at: Mapped[datetime | None]
    # What the buyer asked for after it was bought: cancel (the supplier is asked), return (it is on its way), change.
    wants: Mapped[str] = mapped_column(default="")
    wants_message: Mapped[str] = mapped_column(default="")
    # What of its money its store told beside the prices: shipping, discount, tax. What it did not tell is counted as nought, or worked out.
    told: Mapped[list[Any]] = mapped_column(default=list)
    # Who bought it was erased on their wish; the sums stay.
    erased_at: Mapped[datetime | None]


class OrderLine(Versioned):
    """quantity in units sold; all amounts are for the whole line, minor units of the order's money.

    paid: for the goods; net_revenue: what of that the store leaves us after tax and fees.
    """

    __tablename__ = "order_line"
    __table_args__ = (
        UniqueConstraint("order_id", "line_no"),
        Index("ix_order_line_state", "state"),
        Index("ix_order_line_sku_code", "sku_code"),
        CheckConstraint(f"state in ({_LINE_STATES})", name="state"),
        CheckConstraint("quantity > 0", name="quantity"),
    )
    order_id: Mapped[int] = mapped_column(ForeignKey("order.id"))
    line_no: Mapped[int]
    sku_code: Mapped[str]
    sku_id: Mapped[int | None] = mapped_column(ForeignKey("sku.id"))
    title: Mapped[str] = mapped_column(default="")
    quantity: Mapped[int]
    paid: Mapped[int]
    shipping_paid: Mapped[int] = mapped_column(default=0)
    discount: Mapped[int] = mapped_column(default=0)
    tax: Mapped[int] = mapped_column(default=0)
    # Who hands the tax over: store, or '' = we do.
    tax_by: Mapped[str] = mapped_column(default="")
    store_fee: Mapped[int] = mapped_column(default=0)
    payment_fee: Mapped[int] = mapped_column(default=0)
    net_revenue: Mapped[int] = mapped_column(default=0)
    # What the buyer got back of it while they keep it, and when last; a line that is paid back whole is cancelled.
    refunded: Mapped[int] = mapped_column(default=0)
    refunded_at: Mapped[datetime | None]
    # What is set aside of it for returns, until it is bought.
    reserve: Mapped[int] = mapped_column(default=0)
    state: Mapped[OrderLineState] = mapped_column(default="new")
    reason: Mapped[str] = mapped_column(default="")
    lane_id: Mapped[int | None] = mapped_column(ForeignKey("lane.id"))
    chosen_by: Mapped[str] = mapped_column(default="plan")

    @hybrid_property
    def total(self) -> int:
        """What the buyer paid for it, sending and discount included."""
        return self.paid + self.shipping_paid - self.discount

    @property
    def left(self) -> int:
        """What the buyer has not got back of it."""
        return self.total - self.refunded


# A plan without a reason, or held by its money alone, has its lanes.
_FILLED = (None, "least_profit")


class FillPlan(Row):
    """The money of a whole order (what is bought of it, and the rest as it would be filled), and the lanes compared for the rest.

    profit is less risk and reserve; see services.order_money for what is shown of it.
    """

    __tablename__ = "plan"
    order_id: Mapped[int] = mapped_column(ForeignKey("order.id"), unique=True)
    at: Mapped[datetime]
    goods: Mapped[int]
    shipping: Mapped[int]
    handling: Mapped[int]
    # What refusal and lateness may cost by their chance; it is taken off the profit.
    risk: Mapped[int] = mapped_column(default=0)
    # What is set aside for returns; and how far bills are above what was planned.
    reserve: Mapped[int] = mapped_column(default=0)
    billed_more: Mapped[int] = mapped_column(default=0)
    # What settlements and statements said otherwise, as it changes the profit.
    settled: Mapped[int] = mapped_column(default=0)
    profit: Mapped[int]
    parcels: Mapped[int] = mapped_column(default=0)
    reason: Mapped[str | None]
    lanes: Mapped[list[Any]]
    # By line: the next best lane and what it would cost.
    next_best: Mapped[dict[str, Any]] = mapped_column(default=dict)

    @hybrid_property
    def known_profit(self) -> int | None:
        """The profit before risk, where lanes fill the whole order; what it would earn otherwise is not known."""
        return self.profit + self.risk if self.reason in _FILLED else None

    @known_profit.inplace.expression
    @classmethod
    def _known_profit(cls) -> ColumnElement[int | None]:
        return case((cls.reason.is_(None) | cls.reason.in_(_FILLED[1:]), cls.profit + cls.risk))


class Hold(Row):
    """A limit that an order broke, until a way on is taken."""

    __tablename__ = "hold"
    __table_args__ = (
        Index("uq_hold_open", "order_id", unique=True, sqlite_where=text("ended is null"), postgresql_where=text("ended is null")),
    )
    order_id: Mapped[int] = mapped_column(ForeignKey("order.id"))
    limit: Mapped[str]
    message: Mapped[str]
    # The order that this one may be a repetition of.
    other_id: Mapped[int | None]
    since: Mapped[datetime]
    ended: Mapped[datetime | None]
    way: Mapped[str] = mapped_column(default="")


HAS_BILL_FAULT: Any = text("bill_fault <> ''")


class PurchaseOrder(Versioned):
    """What we send to a supplier. `reference` is ours, unique, and goes with every call about it."""

    __tablename__ = "purchase_order"
    __table_args__ = (
        Index("ix_purchase_order_state", "state"),
        Index("ix_purchase_order_order_id", "order_id"),
        Index("ix_purchase_order_message", "state", "id", **part("message <> ''")),
        Index("ix_purchase_order_bill_fault", "id", sqlite_where=HAS_BILL_FAULT, postgresql_where=HAS_BILL_FAULT),
        CheckConstraint("state in ('waiting','sent','accepted','refused','shipped','stopped','withdrawn')", name="state"),
    )
    reference: Mapped[str] = mapped_column(unique=True)
    supplier_id: Mapped[int] = mapped_column(ForeignKey("supplier.id"))
    account_id: Mapped[int | None] = mapped_column(ForeignKey("buying_account.id"))
    order_id: Mapped[int] = mapped_column(ForeignKey("order.id"))
    origin_id: Mapped[int] = mapped_column(ForeignKey("origin.id"))
    service: Mapped[str]
    state: Mapped[PurchaseState] = mapped_column(default="waiting")
    currency: Mapped[str]
    goods: Mapped[int]
    shipping: Mapped[int]
    handling: Mapped[int]
    billed: Mapped[int | None]
    # Units of its order's money for one of its own, in billionths, when it was bought.
    rate: Mapped[int | None]
    their_number: Mapped[str] = mapped_column(default="")
    made_at: Mapped[datetime]
    answered_at: Mapped[datetime | None]
    message: Mapped[str] = mapped_column(default="")
    batch: Mapped[str | None]
    # What should be known of it beside its number: a bill that was not taken, a supplier that keeps it.
    noted: Mapped[str] = mapped_column(default="")
    # Why its supplier's bill is not taken (core.states.BillFault); noted says it in words.
    bill_fault: Mapped[str] = mapped_column(default="")
    # When a person said that its batch was paid.
    paid_at: Mapped[datetime | None]
    # A person takes the bill although it is above the plan.
    bill_taken: Mapped[bool] = mapped_column(default=False)


class PurchaseLine(Row):
    """One item bought for one order line. `live` is unset once the purchase was refused or stopped."""

    __tablename__ = "purchase_line"
    __table_args__ = (
        # A kit buys several items for one order line, but each item of it at most once.
        Index("uq_purchase_line_live", "order_line_id", "item_id", unique=True, sqlite_where=text("live"), postgresql_where=text("live")),
        Index("ix_purchase_line_purchase_id", "purchase_id"),
        Index("ix_purchase_line_item_id", "item_id"),
    )
    purchase_id: Mapped[int] = mapped_column(ForeignKey("purchase_order.id"))
    order_line_id: Mapped[int] = mapped_column(ForeignKey("order_line.id"))
    line_no: Mapped[int]
    item_id: Mapped[int] = mapped_column(ForeignKey("item.id"))
    quantity: Mapped[int]
    planned_cost: Mapped[int]
    billed_cost: Mapped[int | None]
    live: Mapped[bool] = mapped_column(default=True)
    # The supplier sends the rest of the purchase, but not this.
    refused: Mapped[bool] = mapped_column(default=False)
