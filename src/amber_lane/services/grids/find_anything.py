"""Finding anything by its words or numbers: SKUs, orders, parcels, purchase orders, items."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any
from urllib.parse import quote

from sqlalchemy import and_, or_, select

from ...core.permissions import EVERYTHING
from ...core.permissions import Permission as P
from ...data.orders import Order, PurchaseOrder
from ...data.shelf import Sku
from ...data.source import Item
from ...data.transit import Parcel
from ..base.context import Context
from ..mapping.scope import of_scope
from .grid import seeker


@dataclass(frozen=True)
class SearchHit:
    """One thing. go: where it is seen."""

    kind: str
    name: str
    message: str
    go: str


def find(context: Context, text: str) -> list[SearchHit]:
    """The first few of each kind that hold a text; of SKUs and items, all its words."""
    if len(text) < 2:
        return []
    s, seek, out = context.session, seeker(context), []
    words = text.split()[:8]

    def hold(*columns: Any) -> Any:
        return or_(*(column.icontains(text, autoescape=True) for column in columns))

    allowed = context.allowed or EVERYTHING
    money, orders = allowed.may(P.SEE_GOODS, P.SEE_MONEY), allowed.may(P.SEE_ORDERS) and not allowed.scope.limited
    if allowed.may(P.SEE_GOODS):
        skus = select(Sku).where(and_(*(Sku.id.in_(seek.skus(word)) for word in words)), of_scope(allowed.scope))
        for sku in s.scalars(skus.limit(6)):
            go = f"/price?words={quote(sku.code)}" if money and not allowed.scope.limited else f"/lanes?sku={sku.id}"
            out.append(SearchHit("SKU", sku.code, sku.title, go))
    if orders:
        out += _trade(context, hold)
    if money and not allowed.scope.limited:
        for item in s.scalars(select(Item).where(and_(*(Item.id.in_(seek.items(word)) for word in words))).limit(4)):
            out.append(SearchHit("Item", item.number, item.title, f"/watch?words={quote(item.number)}"))
    return out


def _trade(context: Context, hold: Callable[..., Any]) -> list[SearchHit]:
    """Orders, parcels and purchase orders that hold a text."""
    s, out = context.session, []
    for order in s.scalars(select(Order).where(hold(Order.number, Order.buyer)).order_by(Order.id.desc()).limit(5)):
        out.append(
            SearchHit("Order", order.number, f"{order.buyer}, {order.country}", f"/orders?words={quote(order.number)}&row={order.id}")
        )
    for parcel in s.scalars(select(Parcel).where(hold(Parcel.number)).limit(4)):
        out.append(SearchHit("Parcel", parcel.number, parcel.last_word, f"/transit?words={quote(parcel.number)}"))
    for po in s.scalars(select(PurchaseOrder).where(hold(PurchaseOrder.reference)).order_by(PurchaseOrder.id.desc()).limit(4)):
        out.append(SearchHit("Purchase", po.reference, po.state, f"/orders?row={po.order_id}"))
    return out
