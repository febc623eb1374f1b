"""Goods that a buyer sent back to a depot: into its stock again, once, at what they cost."""

from __future__ import annotations

from dataclasses import dataclass

from sqlalchemy import select

from ...core.numbers import half_up
from ...core.states import HeldState
from ...data.depot import DepotEntry, HeldGoods
from ...data.orders import OrderLine, PurchaseOrder
from ...data.setup import Supplier
from ..base.context import Context
from ..base.errors import Conflict
from ..pricing.exchange_rates import HomeWorth
from . import ledger
from .ledger import Movement


@dataclass(frozen=True)
class Back:
    """Units of an order's line that came back as return number. cost: of all of them, minor units of the purchase's money."""

    id: int
    number: str
    depot: int
    purchase: int
    line: int
    units: int
    cost: int


def takes(context: Context, depot: int, line: int) -> HeldGoods | None:
    """The goods that a depot holds of an order line's SKU."""
    sku = context.get(OrderLine, line, "order line").sku_id
    agreed = (HeldGoods.supplier_id == depot, HeldGoods.sku_id == sku, HeldGoods.state.in_((HeldState.agreed, HeldState.ended)))
    return context.session.scalar(select(HeldGoods).where(*agreed))


def enter(context: Context, back: Back) -> None:
    """Into the depot's ledger: what was sent from there at what it was worth, anything else at what it was bought for."""
    held = takes(context, back.depot, back.line)
    if held is None:
        raise Conflict("the depot does not hold these goods")
    why = f"came back as {back.number}"
    # What the carrier brought back of a parcel of the depot's own stands there already, by the depot's word.
    sent = (DepotEntry.purchase_id == back.purchase, DepotEntry.held_id == held.id, DepotEntry.kind == "sent")
    row = context.session.scalars(select(DepotEntry).where(*sent).order_by(DepotEntry.id)).first()
    worth = half_up(-row.worth * back.units, -row.units) if row is not None else _worth(context, back)
    ledger.enter(context, held, [Movement("returned", back.units, worth, f"return:{back.id}", why)])


def _worth(context: Context, back: Back) -> int:
    """What it was bought for, in the depot's money; the mean of what is there where no rate is known."""
    purchase, depot = context.get(PurchaseOrder, back.purchase, "purchase order"), context.get(Supplier, back.depot, "depot")
    if purchase.currency == depot.currency:
        return back.cost
    rates = HomeWorth(context)
    one, other = rates.ppm(purchase.currency), rates.ppm(depot.currency)
    return half_up(back.cost * one, other) if one and other else 0
