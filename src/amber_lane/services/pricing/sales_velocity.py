"""The pace of sales: units a day per SKU, in millionths, from the last 28 days."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import timedelta

from sqlalchemy import func, select

from ...core.states import OrderLineState
from ...data.bulk import bulk_update
from ...data.orders import Order, OrderLine
from ...data.shelf import Sku
from ..base.context import Context

DAYS = 28


def refresh(context: Context) -> int:
    """Count sales anew, all in this transaction. Returns how many SKUs moved."""
    rows = moved(context)
    save_paces(context, rows)
    return len(rows)


def save_paces(context: Context, rows: Sequence[tuple[int, int]]) -> None:
    bulk_update(context.session, Sku, ("pace",), rows)


def moved(context: Context) -> list[tuple[int, int]]:
    """SKUs that sell at another pace than is kept: (pace, SKU). A young business is measured over the days it has. Reads only."""
    start = context.now - timedelta(days=DAYS)
    first = context.session.scalar(select(func.min(Order.ordered_at)))
    days = max(1, min(DAYS, (context.now - first).days + 1)) if first else DAYS
    sold = dict(
        context.session.execute(
            select(OrderLine.sku_id, func.sum(OrderLine.quantity))
            .join(Order, Order.id == OrderLine.order_id)
            .where(Order.ordered_at >= start, OrderLine.state != OrderLineState.cancelled, OrderLine.sku_id.is_not(None))
            .group_by(OrderLine.sku_id)
        )
        .tuples()
        .all()
    )
    rows = []
    for number, pace in context.session.execute(select(Sku.id, Sku.pace)):
        now = int(sold.get(number, 0)) * 1_000_000 // days
        if now != pace:
            rows.append((now, number))
    return rows
