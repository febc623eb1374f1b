"""Memberships and volume discounts of suppliers: whether they are reached, and from which sales on they pay."""

from __future__ import annotations

from dataclasses import asdict, dataclass, replace
from datetime import timedelta

import numpy as np
from sqlalchemy import func, select

from ...core.money import half_up_columns
from ...core.numbers import PPM
from ...core.plans import Membership, MembershipWorth, worth
from ...core.states import ListingState, PurchaseState
from ...data.columns import coded, fetch_columns
from ...data.lanes import Lane, LanePart
from ...data.orders import PurchaseLine, PurchaseOrder
from ...data.setup import Supplier
from ...data.shelf import Listing, Sku
from ...data.source import Item
from ..base.context import Context
from .inputs import Facts, NoRate, plans_of
from .lane_columns import skus_of_supplier

MONTH = 30


@dataclass(frozen=True)
class PlanWorth:
    """One offer of a supplier beside our pace: goods a month at full price, in the supplier's money."""

    supplier: Supplier
    plan: Membership
    pace: int
    bought: int
    worth: MembershipWorth


def bought(context: Context, supplier: int) -> int:
    """Goods bought from a supplier in the last 30 days, as billed or else as planned, in its money; a line's cost is the whole line's."""
    total = context.session.scalar(
        select(func.sum(func.coalesce(PurchaseLine.billed_cost, PurchaseLine.planned_cost)))
        .join(PurchaseOrder, PurchaseOrder.id == PurchaseLine.purchase_id)
        .where(
            PurchaseOrder.supplier_id == supplier,
            PurchaseLine.live,
            PurchaseOrder.state.in_((PurchaseState.sent, PurchaseState.accepted, PurchaseState.shipped)),
            PurchaseOrder.made_at >= context.now - timedelta(days=MONTH),
        )
    )
    return int(total or 0)


def paces(context: Context) -> dict[int, int]:
    """Goods a month at full price that each supplier would sell us at the present pace by the lanes that are used, in its money."""
    # The pace is counted anew each hour; a look through all lanes is not needed for every change between.
    return context.kept("plans", _paces, 30, still=True)


def _paces(context: Context) -> dict[int, int]:
    facts = Facts.read(context.session)
    used = select(Listing.lane_id).where(Listing.lane_id.is_not(None), Listing.state == ListingState.live).distinct()
    query = (
        select(Lane.supplier_id, Sku.pace, LanePart.units_num, LanePart.units_den, Item.cost, Item.currency)
        .join(LanePart, LanePart.lane_id == Lane.id)
        .join(Item, Item.id == LanePart.item_id)
        .join(Sku, Sku.id == Lane.sku_id)
        .where(Lane.id.in_(used), Sku.pace > 0)
    )
    *columns, money = fetch_columns(context.session, query)
    codes, monies = coded(list(money))
    supplier_of, pace, num, den, cost = columns
    out: dict[int, int] = {}
    for number in np.unique(supplier_of).tolist():
        supplier = facts.suppliers[number]
        for place, name in enumerate(monies):
            at = np.flatnonzero((supplier_of == number) & (codes == place))
            try:
                own = facts.billing(supplier, name) if name != supplier.currency else None
            except NoRate:
                continue
            plain = cost[at] if own is None else replace(own, discount=0).apply(cost[at])
            # Rounded for each lane, as its pace times its cost; what no int64 could hold is no pace of any shop.
            a_month = half_up_columns(pace[at] * MONTH * plain * num[at], den[at] * PPM)
            out[number] = out.get(number, 0) + int(a_month.sum())
    return out


def worths(context: Context) -> list[PlanWorth]:
    """Every plan of every supplier with what it is worth; the present discount without it stands against it."""
    suppliers = [one for one in context.session.scalars(select(Supplier).order_by(Supplier.name)) if plans_of(one)]
    pace, out = paces(context) if suppliers else {}, []
    for supplier in suppliers:
        plans = plans_of(supplier)
        spent = bought(context, supplier.id)
        for plan in plans:
            others = [other.discount for other in plans if other.counts and other.name != plan.name]
            own = max([supplier.discount, *others])
            out.append(PlanWorth(supplier, plan, pace.get(supplier.id, 0), spent, worth(plan, own, pace.get(supplier.id, 0))))
    return out


def refresh(context: Context) -> int:
    """Whether each volume discount is reached by what was bought in the last 30 days; where that changed, prices follow."""
    moved = 0
    for supplier in context.session.scalars(select(Supplier)).all():
        plans = plans_of(supplier)
        if not any(plan.from_spend for plan in plans):
            continue
        spent = bought(context, supplier.id)
        now = [replace(plan, reached=bool(plan.from_spend) and spent >= plan.from_spend) for plan in plans]
        if now == plans:
            continue
        supplier.plans = [asdict(plan) for plan in now]
        counted = [new for new, old in zip(now, plans, strict=True) if new.counts != old.counts]
        if counted:
            moved += 1
            message = "; ".join(f"{plan.name} {'is given' if plan.counts else 'is not given any more'}" for plan in counted)
            act = context.log("plan.reached", supplier.name, f"{supplier.name}: {message}", reason="by what was bought in the last 30 days")
            context.session.flush()
            context.reprice(skus_of_supplier(context, supplier.id), act=act.id, alone=True)
    return moved
