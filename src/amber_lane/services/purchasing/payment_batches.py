"""Paid together: purchase orders of a supplier in one batch with its sum, and a statement; each inside is followed alone."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from sqlalchemy import func, select

from ...core.currency import plain
from ...core.states import PURCHASE_LIVE as LIVE
from ...data.bulk import by_id
from ...data.orders import Order, PurchaseOrder
from ...data.outbox import AuditEntry
from ...data.setup import Store, Supplier
from ..base import house_days, undoing
from ..base.context import Context
from ..base.errors import Conflict, NotFound

HEADER = (
    "batch", "supplier", "purchase_order", "their_number", "store", "order_no", "made_at", "state",
    "goods", "shipping", "handling", "planned", "billed", "difference", "currency", "paid_at",
)  # fmt: skip


@dataclass(frozen=True)
class Batch:
    """planned: of those that stand; billed: as far as bills have come, with how many; gone: refused, stopped or let go since."""

    code: str
    supplier: str
    currency: str
    made_at: datetime
    count: int
    gone: int
    planned: int
    billed: int
    bills: int
    paid_at: datetime | None


def together(context: Context, purchases: Iterable[PurchaseOrder]) -> list[str]:
    """Put purchases that were just made into one batch per supplier. Returns the batches' codes."""
    by_supplier: dict[int, list[PurchaseOrder]] = {}
    for one in purchases:
        if one.batch is None:
            by_supplier.setdefault(one.supplier_id, []).append(one)
    codes = []
    for number, rows in by_supplier.items():
        code = _code(context, context.get(Supplier, number, "supplier"))
        for one in rows:
            one.batch = code
        context.session.flush()
        codes.append(code)
    return codes


def _code(context: Context, supplier: Supplier) -> str:
    start = f"{supplier.code}-{context.now:%y%m%d}-"
    had = set(context.session.scalars(select(PurchaseOrder.batch).where(PurchaseOrder.batch.startswith(start, autoescape=True)).distinct()))
    return next(code for n in range(1, len(had) + 2) if (code := f"{start}{n}") not in had)


def collect(context: Context, supplier: int) -> tuple[str, int]:
    """Put all of a supplier's purchases that are in no batch yet into one. Returns its code and how many they are."""
    row = context.get(Supplier, supplier, "supplier")
    rows = list(
        context.session.scalars(
            select(PurchaseOrder)
            .join(Order, Order.id == PurchaseOrder.order_id)
            .where(
                PurchaseOrder.supplier_id == supplier, PurchaseOrder.batch.is_(None), PurchaseOrder.state.in_(LIVE), Order.channel != "past"
            )
        )
    )
    if not rows:
        raise Conflict(f"all purchase orders to {row.name} are in a batch already")
    (code,) = together(context, rows)
    message = f"{len(rows)} purchase orders to {row.name} put together as {code}"
    context.log("batch.collect", code, message, after={"batch": code}, undo=True, count=len(rows))
    return code, len(rows)


def take_apart(context: Context, code: str) -> None:
    """Undo: they are in no batch again."""
    rows = context.session.scalars(select(PurchaseOrder).where(PurchaseOrder.batch == code)).all()
    if any(one.paid_at for one in rows):
        raise Conflict(f"{code} is paid; undo that first")
    for one in rows:
        one.batch = None
    context.session.flush()


def batches(context: Context, most: int = 200) -> list[Batch]:
    """The newest batches with their sums."""
    found: dict[str, list[PurchaseOrder]] = {}
    newest = (
        select(PurchaseOrder.batch)
        .where(PurchaseOrder.batch.is_not(None))
        .group_by(PurchaseOrder.batch)
        .order_by(func.max(PurchaseOrder.id).desc())
        .limit(most)
    )
    for one in context.session.scalars(select(PurchaseOrder).where(PurchaseOrder.batch.in_(newest)).order_by(PurchaseOrder.id.desc())):
        found.setdefault(one.batch or "", []).append(one)
    suppliers = by_id(context.session, Supplier, {rows[0].supplier_id for rows in found.values()})
    return [_sum(code, rows, suppliers[rows[0].supplier_id]) for code, rows in found.items()]


def _sum(code: str, rows: list[PurchaseOrder], supplier: Supplier) -> Batch:
    live = [one for one in rows if one.state in LIVE]
    bills = [one.billed for one in live if one.billed is not None]
    planned = sum(one.goods + one.shipping + one.handling for one in live)
    made = min(one.made_at for one in rows)
    paid = [one.paid_at for one in live if one.paid_at]
    paid_at = max(paid) if live and len(paid) == len(live) else None
    return Batch(code, supplier.name, supplier.currency, made, len(live), len(rows) - len(live), planned, sum(bills), len(bills), paid_at)


def pay(context: Context, code: str) -> int:
    """A person says that a batch was paid. Returns how many purchase orders it is about."""
    rows = context.session.scalars(select(PurchaseOrder).where(PurchaseOrder.batch == code)).all()
    if not rows:
        raise NotFound(f"there is no batch {code}")
    now = [one for one in rows if one.state in LIVE and one.paid_at is None]
    if not now:
        raise Conflict(f"{code} is paid already")
    for one in now:
        one.paid_at = context.now
    context.log("batch.paid", code, f"{code} paid", after={"purchases": [one.id for one in now]}, undo=True, count=len(now))
    return len(now)


def unpay(context: Context, purchases: list[int]) -> None:
    """Undo: it is not paid."""
    for one in by_id(context.session, PurchaseOrder, purchases).values():
        one.paid_at = None
    context.session.flush()


def statement(context: Context, code: str) -> list[list[Any]]:
    """A batch as rows of HEADER, one per purchase order, those that fell out too."""
    rows = list(context.session.scalars(select(PurchaseOrder).where(PurchaseOrder.batch == code).order_by(PurchaseOrder.id)))
    if not rows:
        raise NotFound(f"there is no batch {code}")
    orders = by_id(context.session, Order, (one.order_id for one in rows))
    stores = by_id(context.session, Store, {one.store_id for one in orders.values()})
    suppliers = by_id(context.session, Supplier, {one.supplier_id for one in rows})
    out = []
    for one in rows:
        order = orders[one.order_id]
        planned = one.goods + one.shipping + one.handling
        live = one.state in LIVE
        billed = "" if one.billed is None or not live else plain(one.billed, one.currency)
        differs = "" if one.billed is None or not live else plain(one.billed - planned, one.currency)
        paid = f"{house_days.local(context, one.paid_at):%Y-%m-%d %H:%M}" if one.paid_at else ""
        money = [plain(value if live else 0, one.currency) for value in (one.goods, one.shipping, one.handling, planned)]
        head = [code, suppliers[one.supplier_id].name, one.reference, one.their_number, stores[order.store_id].name, order.number]
        out.append(
            [*head, f"{house_days.local(context, one.made_at):%Y-%m-%d %H:%M}", one.state, *money, billed, differs, one.currency, paid]
        )
    return out


@undoing.undoes("batch.collect")
def undo_batch_collect(context: Context, act: AuditEntry) -> None:
    take_apart(context, undoing.after(act)["batch"])


@undoing.undoes("batch.paid")
def undo_batch_paid(context: Context, act: AuditEntry) -> None:
    unpay(context, undoing.after(act)["purchases"])
