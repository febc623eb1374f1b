"""At the end of a transaction that changed orders' money: the journal follows, and what stores told of them before finds them."""

from __future__ import annotations

from functools import cache

from sqlalchemy import Select, select

from ...core.books import Basis, Kind
from ...core.states import SampleState
from ...data.books import JournalEntry
from ...data.bulk import in_chunks
from ...data.orders import PurchaseOrder
from ...data.source import Item, Sample
from ...data.statements import among
from ..base import house_days, journal_marks
from ..base.context import Context
from ..orders import order_profit
from . import apart, entries, overheads, settlements, stock_costs
from .apart import Apart
from .posting import Ledgers, post_orders


@journal_marks.following
def follow(context: Context, marks: journal_marks.Marks) -> None:
    """What the transaction changed of orders, purchases, samples and suppliers' plans comes into the journal."""
    orders = marks.orders
    if marks.samples:
        _samples(context, marks.samples)
    if marks.moves or marks.load_lines:
        stock_costs.follow(context, marks.moves, marks.load_lines)
    if marks.plans:
        overheads.follow_plans(context)
    for chunk in in_chunks(marks.purchases):
        orders |= set(context.session.scalars(select(PurchaseOrder.order_id).where(PurchaseOrder.id.in_(chunk))))
    settlements.match_again(context, orders)
    post_orders(context, orders)
    _tell_plans(context, orders)


def _samples(context: Context, numbers: set[int]) -> None:
    """Samples cost what they cost once the supplier has taken the order; one that is refused costs nothing."""
    out, wanted = Ledgers(context), dict[str, Apart]()
    for row, item in context.session.execute(select(Sample, Item).join(Item, Item.id == Sample.item_id).where(Sample.id.in_(numbers))):
        day, taken = (
            house_days.day_of(context, row.ordered_at or context.now),
            row.state in (SampleState.ordered, SampleState.sent, SampleState.judged),
        )
        amount = -(row.cost or 0) if taken else 0
        wanted[row.reference] = Apart(Kind.sample, day, amount, row.currency, item.title, None, item.supplier_id, item.id)
    apart.bring(out, "sample", apart.told(context, "sample", out.rates.home, wanted), wanted)
    out.write()


@cache
def _told() -> Select[int | None]:
    """Those of `orders` of which settlements, statements, refunds or claims said something."""
    others = JournalEntry.basis.in_((Basis.fee.value, Basis.statement.value, Basis.refund.value)) | (JournalEntry.kind == Kind.claim.value)
    return select(JournalEntry.order_id).where(JournalEntry.order_id.in_(among("orders")), others).distinct()


def _tell_plans(context: Context, orders: set[int]) -> None:
    """What settlements and statements changed of an order stands in its own figures too, so that there is one profit of it everywhere."""
    s = context.session
    for chunk in in_chunks(orders):
        told = list(s.scalars(_told(), {"orders": chunk}))
        plans = s.scalars(order_profit.plans_of(), {"orders": told}).all()
        found = order_profit.bought(context, (plan.order_id for plan in plans))
        whole = entries.profits(context, [plan.order_id for plan in plans])
        for plan in plans:
            one = found.get(plan.order_id, order_profit.Bought())
            more = whole.get(plan.order_id, 0) - (one.kept - one.cost)
            if plan.settled != more:
                plan.profit, plan.settled = plan.profit + more - plan.settled, more
    s.flush()
