"""What really came back: the share of sales returned or refunded after sending, by store and category."""

from __future__ import annotations

from datetime import timedelta

from sqlalchemy import case, func, select

from ...core.numbers import PPM
from ...core.states import OrderLineState, ParcelState
from ...data.bulk import in_chunks
from ...data.orders import Order, OrderLine, PurchaseLine
from ...data.setup import Setting
from ...data.shelf import Sku
from ...data.transit import Parcel, ParcelLine
from ..base.context import Context
from .inputs import RETURNS

DAYS = 180
# A category is taken to be like its store, and a store like the house, as if so many units had been seen.
LIKE_ALL = 60


Rows = list[list[object]]


def refresh(context: Context) -> bool:
    """Count anew and keep it. Returns whether any share moved by a tenth of a percent or more."""
    return bool(save_rates(context, count(context)))


def count(context: Context) -> Rows:
    """Shares over the last 180 days of what was sent: [store, category ('' = all), ppm, units sold, units back]."""
    start = context.now - timedelta(days=DAYS)
    total = OrderLine.paid + OrderLine.shipping_paid - OrderLine.discount
    # A line is one row, however many parcels it went in; it came back when one of them did, or when it was paid back after sending.
    back = func.max(Parcel.state == ParcelState.returned).label("back")
    part = case((OrderLine.state == OrderLineState.cancelled, 1.0), (total > 0, OrderLine.refunded * 1.0 / total), else_=0.0)
    lines = (
        select(PurchaseLine.order_line_id.label("line"), back)
        .join(ParcelLine, ParcelLine.purchase_id == PurchaseLine.purchase_id)
        .join(Parcel, Parcel.id == ParcelLine.parcel_id)
        .where(Parcel.state.in_((ParcelState.delivered, ParcelState.returned)))
        .group_by(PurchaseLine.order_line_id)
        .subquery()
    )
    went_back = func.max(lines.c.back, part)
    rows = (
        context.session.execute(
            select(Order.store_id, Sku.category, func.sum(OrderLine.quantity), func.sum(OrderLine.quantity * went_back))
            .join(Order, Order.id == OrderLine.order_id)
            .join(Sku, Sku.id == OrderLine.sku_id)
            .join(lines, lines.c.line == OrderLine.id)
            .where(Order.ordered_at >= start)
            .group_by(Order.store_id, Sku.category)
        )
        .tuples()
        .all()
    )
    sold, lost = sum(int(row[2]) for row in rows), sum(round(row[3]) for row in rows)
    if not sold:
        return []
    house = lost / sold
    out: Rows = []
    stores: dict[int, tuple[int, int]] = {}
    for store, _, units, returned in rows:
        known = stores.get(store, (0, 0))
        stores[store] = (known[0] + int(units), known[1] + round(returned))
    for store, (units, returned) in sorted(stores.items()):
        share = (returned + LIKE_ALL * house) / (units + LIKE_ALL)
        out.append([store, "", _rounded(share), units, returned])
        for other, category, some, came in rows:
            if other == store and category:
                out.append([store, category, _rounded((round(came) + LIKE_ALL * share) / (int(some) + LIKE_ALL)), int(some), round(came)])
    return out


def save_rates(context: Context, out: Rows) -> set[str]:
    """Keep what was counted. Returns the categories whose share is another than before; '' = those that have none of their own."""
    row = context.session.scalar(select(Setting).where(Setting.name == RETURNS))
    was = {(a, b): c for a, b, c, *_ in row.value["rows"]} if row else {}
    now = {(a, b): c for a, b, c, *_ in out}
    if not out or now == was:
        return set()
    if row is None:
        context.session.add(Setting(name=RETURNS, value={"rows": out}))
    else:
        row.value = {"rows": out}
    context.session.flush()
    # Where nothing was counted yet, nothing was reserved.
    return {str(pair[1]) for pair in {**was, **now} if was.get(pair, 0) != now.get(pair, 0)}


def skus_of(context: Context, categories: set[str], out: Rows) -> set[int]:
    """SKUs whose returns reserve follows the shares of these categories."""
    named = {str(row[1]) for row in out}
    found = {
        sku for chunk in in_chunks(categories - {""}) for sku in context.session.scalars(select(Sku.id).where(Sku.category.in_(chunk)))
    }
    if "" in categories:
        found |= set(context.session.scalars(select(Sku.id).where(Sku.category.not_in(named - {""}))))
    return found


def _rounded(share: float) -> int:
    """To a tenth of a percent, in ppm, so that prices do not move with every parcel."""
    return round(share * 1000) * (PPM // 1000)
