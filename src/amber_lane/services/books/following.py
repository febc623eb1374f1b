"""At the end of a transaction that changed orders' money: the journal follows, and what stores told of them before finds them."""

from __future__ import annotations

from sqlalchemy import select

from ...core.books import Basis
from ...data.books import JournalEntry
from ...data.bulk import in_chunks
from ...data.orders import FillPlan, PurchaseOrder
from ..base import journal_marks
from ..base.context import Context
from ..orders import order_profit
from . import entries, settlements
from .posting import post_orders


@journal_marks.following
def follow(context: Context, orders: set[int], purchases: set[int]) -> None:
    """What the transaction changed of orders and purchases comes into the journal."""
    for chunk in in_chunks(purchases):
        orders |= set(context.session.scalars(select(PurchaseOrder.order_id).where(PurchaseOrder.id.in_(chunk))))
    settlements.match_again(context, orders)
    post_orders(context, orders)
    _tell_plans(context, orders)


def _tell_plans(context: Context, orders: set[int]) -> None:
    """What settlements and statements changed of an order stands in its own figures too, so that there is one profit of it everywhere."""
    s = context.session
    others = JournalEntry.basis.in_((Basis.fee.value, Basis.statement.value, Basis.refund.value))
    for chunk in in_chunks(orders):
        told = set(s.scalars(select(JournalEntry.order_id).where(JournalEntry.order_id.in_(chunk), others).distinct()))
        plans = s.scalars(select(FillPlan).where(FillPlan.order_id.in_(told))).all()
        found = order_profit.bought(context, (plan.order_id for plan in plans))
        whole = entries.profits(context, [plan.order_id for plan in plans])
        for plan in plans:
            one = found.get(plan.order_id, order_profit.Bought())
            more = whole.get(plan.order_id, 0) - (one.kept - one.cost)
            if plan.settled != more:
                plan.profit, plan.settled = plan.profit + more - plan.settled, more
    s.flush()
