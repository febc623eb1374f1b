"""What changes an order's money marks that order, so that the journal follows it once, at the end of the same transaction."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from itertools import chain
from typing import TYPE_CHECKING

from sqlalchemy import event, inspect
from sqlalchemy.orm import Session, UOWTransaction

from ...core.states import WAITING_LINES
from ...data.base import Row
from ...data.orders import OrderLine, PurchaseLine, PurchaseOrder
from ...data.session import at_end

if TYPE_CHECKING:
    from .context import Context

ORDERS, PURCHASES, CONTEXT = "journal_orders", "journal_purchases", "journal_context"
# Table -> what of it the journal depends on.
_WATCHED: dict[type[Row], frozenset[str]] = {
    OrderLine: frozenset({"state", "quantity", "paid", "shipping_paid", "discount", "tax", "tax_by", "store_fee", "payment_fee", "sku_id"}),
    PurchaseOrder: frozenset({"state", "goods", "shipping", "handling", "billed", "paid_at"}),
    PurchaseLine: frozenset({"live", "quantity", "planned_cost"}),
}
_FOLLOW: list[Callable[[Context, set[int], set[int]], None]] = []


def following(do: Callable[[Context, set[int], set[int]], None]) -> Callable[[Context, set[int], set[int]], None]:
    """Names the function that the marks are given to (orders, purchases); it stands in a part that knows all others."""
    _FOLLOW[:] = [do]
    return do


def mark(s: Session, orders: Iterable[int]) -> None:
    """The journal follows these orders; for what was written without rows of the session's own."""
    s.info.setdefault(ORDERS, set()).update(orders)
    at_end(s, "journal", lambda: _follow(s))


def _follow(s: Session) -> None:
    orders, purchases = s.info.pop(ORDERS, set()), s.info.pop(PURCHASES, set())
    _FOLLOW[0](s.info[CONTEXT], orders, purchases)


@event.listens_for(Session, "after_flush")
def _note(s: Session, _: UOWTransaction) -> None:
    if not s.info.get("write"):
        return
    orders, purchases = set[int](), set[int]()
    for row in chain(s.new, s.dirty):
        watched = _WATCHED.get(type(row))
        if watched is None or not _moved(row, watched):
            continue
        if isinstance(row, OrderLine | PurchaseOrder):
            orders.add(row.order_id)
        elif isinstance(row, PurchaseLine):
            purchases.add(row.purchase_id)
    if orders or purchases:
        s.info.setdefault(PURCHASES, set()).update(purchases)
        mark(s, orders)


def _moved(row: Row, watched: frozenset[str]) -> bool:
    """Whether something changed that is money: from one way of waiting to be bought to another nothing does."""
    attributes = inspect(row).attrs
    for name in watched:
        history = attributes[name].history
        if not history.has_changes():
            continue
        if name == "state" and isinstance(row, OrderLine) and history.deleted and {*history.added, *history.deleted} <= {*WAITING_LINES}:
            continue
        return True
    return False
