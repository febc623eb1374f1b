"""Another supplier beside the first, and rows called as a test needs them."""

from __future__ import annotations

from typing import Any

from sqlalchemy import select, update

from amber_lane.data.lanes import Lane, LanePart
from amber_lane.data.setup import Origin, Service, Supplier
from amber_lane.data.shelf import Listing
from amber_lane.data.source import Item
from amber_lane.services.base.context import Context
from amber_lane.services.mapping import (
    lanes,
)

from ...small import Small


def second(context: Context, country: str = "GB") -> None:
    """Another supplier, who sends from Far to a country."""
    context.session.add(Supplier(id=2, code="OTH", name="Other House", kind="sheet", country=country, currency="GBP"))
    context.session.flush()
    context.session.add(Origin(id=2, supplier_id=2, code="far", name="Far", country=country, handling=20, holidays=[]))
    context.session.flush()
    context.session.add(Service(origin_id=2, code="post", name="post", country=country, first=90, following=10, days_low=1, days_high=2))
    context.session.add_all(
        Item(id=20 + n, supplier_id=2, origin_id=2, number=f"OT-{n}", title=f"Item {n}", currency="GBP", cost=n * 90, stock=20)
        for n in range(1, 7)
    )
    context.session.flush()


def name(context: Context, kind: Any, row_id: int, title: str, **more: Any) -> None:
    row = context.get(kind, row_id, "row")
    for key, value in {"title": title, **more}.items():
        setattr(row, key, value)
    context.session.flush()


def bare(context: Context, sku: int) -> None:
    """A SKU that never had a lane."""
    for lane, parts in lanes.lanes_of(context, sku):
        for row in (*parts, lane):
            context.session.delete(row)
            context.session.flush()
    context.session.execute(update(Listing).where(Listing.sku_id == sku).values(lane_id=None))
    context.session.flush()


def opened(small: Small, sku: int) -> list[tuple[int, int]]:
    rows = select(Lane).where(Lane.sku_id == sku, Lane.closed_at.is_(None)).order_by(Lane.priority)
    with small.db.reading() as s:
        return [(row.priority, s.scalars(select(LanePart.item_id).where(LanePart.lane_id == row.id)).first()) for row in s.scalars(rows)]
