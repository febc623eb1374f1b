"""How steady things were: an item's stock over 60 days, and how suppliers kept their promises."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import timedelta

import numpy as np
from sqlalchemy import BigInteger, and_, case, func, select, type_coerce

from ...core.money import Ints
from ...core.states import PurchaseState
from ...data.base import to_ms
from ...data.orders import Order, PurchaseOrder
from ...data.source import Item
from ...data.transit import Parcel, ParcelLine
from ...data.watch import Sighting
from ..base.context import Context

DAYS, BARS = 60, 20
DAY_MS = 86_400_000


@dataclass(frozen=True)
class CostPast:
    """An item's last 60 days: stock at the end of each three days (-1 = not known yet), price moves, highest cost,
    and on how many of the days it was in stock."""

    stock: list[int]
    moves: int
    highest: int
    in_stock: int


def pasts(context: Context, items: Sequence[Item]) -> dict[int, CostPast]:
    """The past of a few items."""
    start = to_ms(context.now - timedelta(days=DAYS))
    moves: dict[int, list[tuple[int, int, int, int, int]]] = {}
    query = select(Sighting.item_id, Sighting.at, Sighting.old_cost, Sighting.cost, Sighting.old_stock, Sighting.stock)
    for row in context.session.execute(
        query.where(Sighting.item_id.in_([item.id for item in items]), Sighting.verdict.in_(("good", "gone"))).order_by(Sighting.at)
    ):
        moves.setdefault(row[0], []).append((to_ms(row[1]), *row[2:]))
    return {item.id: _past(moves.get(item.id, []), item, start, to_ms(context.now)) for item in items}


def _past(rows: list[tuple[int, int, int, int, int]], item: Item, start: int, now: int) -> CostPast:
    before = [row for row in rows if row[0] < start]
    inside = [row for row in rows if row[0] >= start]
    # Before anything was seen the first row's old figures held, as far as it is known.
    stock = before[-1][4] if before else inside[0][3] if inside else item.stock
    known = bool(before or inside)
    bars, at, held, last = [], 0, 0, start
    for bar in range(1, BARS + 1):
        end = start + (now - start) * bar // BARS
        while at < len(inside) and inside[at][0] <= end:
            held += inside[at][0] - last if stock > 0 else 0
            last, stock = inside[at][0], inside[at][4]
            at += 1
        bars.append(stock if known else -1)
    held += now - last if stock > 0 else 0
    costs = [item.cost, *(cost for row in inside for cost in row[1:3])]
    moves = sum(1 for row in inside if row[1] != row[2])
    return CostPast(bars, moves, max(costs), round(held / DAY_MS) if known else -1)


def in_stock_all(context: Context) -> tuple[Ints, Ints]:
    """For every item that was ever sighted: its id, and milliseconds of the last 60 days that it was in stock."""
    start, now = to_ms(context.now - timedelta(days=DAYS)), to_ms(context.now)
    rows = (
        context.session.connection()
        .exec_driver_sql(
            "select item_id, at, stock, lead(at) over (partition by item_id order by at, id), "
            "row_number() over (partition by item_id order by at, id), old_stock from sighting where verdict in ('good','gone')"
        )
        .fetchall()
    )
    if not rows:
        return np.zeros(0, dtype=np.int64), np.zeros(0, dtype=np.int64)
    columns = [np.array([now if value is None else value for value in column], dtype=np.int64) for column in zip(*rows, strict=True)]
    item, at, stock, until, first, old = columns
    span = np.maximum(np.minimum(until, now) - np.maximum(at, start), 0)
    held = np.where(stock > 0, span, 0)
    # What the first sighting says of before holds from the start up to it.
    held += np.where((first == 1) & (old > 0), np.maximum(np.minimum(at, now) - start, 0), 0)
    ids, places = np.unique(item, return_inverse=True)
    return ids, np.bincount(places, weights=held.astype(np.float64)).astype(np.int64)


def kept_promises(context: Context) -> dict[int, tuple[int, int]]:
    """Per supplier: purchase orders that were sent and came by the promise (or are still in time), of all that were decided."""
    # A share of thousands does not move by one parcel; nobody waits for it to be counted anew.
    return context.kept("kept promises", _kept_promises, 10, still=True)


def _kept_promises(context: Context) -> dict[int, tuple[int, int]]:
    promise, ended = type_coerce(Order.promised_by, BigInteger), type_coerce(Parcel.ended_at, BigInteger)
    late = and_(promise.is_not(None), func.coalesce(ended, to_ms(context.now)) > promise + DAY_MS)
    kept = case((PurchaseOrder.state == PurchaseState.shipped, case((late, 0), else_=1)), else_=0)
    rows = context.session.execute(
        select(PurchaseOrder.supplier_id, func.sum(kept), func.count())
        .join(Order, Order.id == PurchaseOrder.order_id)
        .outerjoin(ParcelLine, ParcelLine.purchase_id == PurchaseOrder.id)
        .outerjoin(Parcel, Parcel.id == ParcelLine.parcel_id)
        .where(PurchaseOrder.state.in_((PurchaseState.shipped, PurchaseState.refused)))
        .group_by(PurchaseOrder.supplier_id)
    )
    return {supplier: (int(good or 0), int(of)) for supplier, good, of in rows}
