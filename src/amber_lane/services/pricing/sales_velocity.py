"""The pace of sales: units a day per SKU, in millionths, from the last 28 days."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import timedelta

from sqlalchemy import func, select

from ...data.bulk import bulk_update
from ...data.orders import Order, OrderLine
from ...data.shelf import Sku
from ..base.context import Desk

DAYS = 28


def refresh(desk: Desk) -> int:
    """Count sales anew, all in this transaction. Returns how many SKUs moved."""
    rows = moved(desk)
    keep(desk, rows)
    return len(rows)


def keep(desk: Desk, rows: Sequence[tuple[int, int]]) -> None:
    bulk_update(desk.s, Sku, ("pace",), rows)


def moved(desk: Desk) -> list[tuple[int, int]]:
    """SKUs that sell at another pace than is kept: (pace, SKU). A young business is measured over the days it has. Reads only."""
    start = desk.now - timedelta(days=DAYS)
    first = desk.s.scalar(select(func.min(Order.ordered_at)))
    days = max(1, min(DAYS, (desk.now - first).days + 1)) if first else DAYS
    sold = dict(
        desk.s.execute(
            select(OrderLine.sku_id, func.sum(OrderLine.quantity))
            .join(Order, Order.id == OrderLine.order_id)
            .where(Order.ordered_at >= start, OrderLine.state != "cancelled", OrderLine.sku_id.is_not(None))
            .group_by(OrderLine.sku_id)
        )
        .tuples()
        .all()
    )
    rows = []
    for number, pace in desk.s.execute(select(Sku.id, Sku.pace)):
        now = int(sold.get(number, 0)) * 1_000_000 // days
        if now != pace:
            rows.append((now, number))
    return rows
