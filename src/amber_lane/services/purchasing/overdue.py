"""Purchase orders that are overdue: not handed over, not answered for a day, or not sent although the buyer's day is near."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from sqlalchemy import func, select

from ...core.permissions import AGENT
from ...core.risk import parcel_at_risk, waiting_order
from ...core.states import MESSAGE, PurchaseState
from ...data.base import by_index
from ...data.bulk import by_id, in_chunks
from ...data.orders import FillPlan, Order, OrderLine, PurchaseLine, PurchaseOrder
from ...data.setup import UNCALLED, Person, Supplier
from ...data.transit import Message, ParcelLine
from ..base import house_days
from ..base.context import Context
from ..base.errors import Conflict
from ..fulfilment.delivery_exceptions import ANSWER_IN
from ..outbox import queue
from ..pricing.exchange_rates import HomeWorth
from ..pricing.policy import refund_cost

ANSWER_WITHIN = timedelta(hours=24)
NEAR = timedelta(days=1)
_KIND = {PurchaseState.waiting: "untaken", PurchaseState.sent: "silent", PurchaseState.accepted: "unsent"}
KINDS = tuple(_KIND.values())


@dataclass(frozen=True)
class Overdue:
    """Purchases of one supplier that are overdue for the same reason. at_risk: house minor units; mail: where it can be asked or ''."""

    kind: str
    supplier: Supplier
    purchases: Sequence[PurchaseOrder]
    since: datetime
    at_risk: int

    @property
    def mail(self) -> str:
        return self.supplier.mail if "@" in self.supplier.mail else ""


def overdue(context: Context) -> Iterator[Overdue]:
    """What is overdue, by supplier and reason; whoever was asked has two days to answer."""
    found: dict[tuple[str, int], list[tuple[PurchaseOrder, Order]]] = {}
    waited = PurchaseOrder.made_at < context.now - ANSWER_WITHIN
    by_hand = select(Supplier.id).where(Supplier.kind.in_(UNCALLED), Supplier.order_road == "hand")
    untaken = (PurchaseOrder.state == PurchaseState.waiting) & PurchaseOrder.supplier_id.in_(by_hand)
    silent = (PurchaseOrder.state == PurchaseState.sent) & waited
    near = Order.promised_by <= house_days.today(context) + NEAR
    no_parcel = ~select(ParcelLine.id).where(ParcelLine.purchase_id == PurchaseOrder.id).exists()
    unsent = (PurchaseOrder.state == PurchaseState.accepted) & near & no_parcel
    rows = select(PurchaseOrder, Order).join(Order, Order.id == PurchaseOrder.order_id).where(Order.channel != "past")
    some = PurchaseOrder.state.in_((PurchaseState.waiting, PurchaseState.sent, PurchaseState.accepted))
    rows = by_index(rows.where(some, untaken | silent | unsent), PurchaseOrder, "ix_purchase_order_state")
    cases = context.session.execute(rows.order_by(PurchaseOrder.id)).tuples().all()
    suppliers = by_id(context.session, Supplier, {one.supplier_id for one, _ in cases})
    # An agent takes them out on its own page; nobody else sees that they are there.
    agents = context.session.scalars(select(Person).where(Person.role == AGENT, Person.gone_at.is_(None))) if cases else ()
    served = {number for person in agents for number in person.scope.get("suppliers", [])}
    asked = _asked(context, [one for one, _ in cases])
    for one, order in cases:
        kind = _KIND[one.state]
        if kind == "untaken":
            due = one.supplier_id not in served or context.now - one.made_at > ANSWER_WITHIN
        else:
            due = one.reference not in asked or context.now - asked[one.reference] > ANSWER_IN
        if due:
            found.setdefault((kind, one.supplier_id), []).append((one, order))
    for (kind, number), pairs in found.items():
        since = min(one.made_at for one, _ in pairs)
        yield Overdue(kind, suppliers[number], [one for one, _ in pairs], since, _risk(context, kind, pairs))


def _asked(context: Context, purchases: list[PurchaseOrder]) -> dict[str, datetime]:
    """When a supplier was last asked about a purchase, by its reference."""
    found: dict[str, datetime] = {}
    for chunk in in_chunks({one.order_id for one in purchases}):
        for about, at in context.session.execute(
            select(Message.about, Message.at).where(Message.order_id.in_(chunk), Message.kind == "ask")
        ):
            name = about.partition("#")[0]
            found[name] = max(found.get(name, at), at)
    return found


def _risk(context: Context, kind: str, pairs: list[tuple[PurchaseOrder, Order]]) -> int:
    rates, total, refund = HomeWorth(context), 0, refund_cost(context)
    orders = {order.id: order for _, order in pairs}
    for chunk in in_chunks(orders):
        if kind == "unsent":
            paid = select(OrderLine.order_id, func.sum(OrderLine.total)).join(PurchaseLine, PurchaseLine.order_line_id == OrderLine.id)
            mine = PurchaseLine.purchase_id.in_([one.id for one, order in pairs if order.id in chunk])
            for number, sum_paid in context.session.execute(paid.where(mine, PurchaseLine.live).group_by(OrderLine.order_id)).tuples():
                order = orders[number]
                late = (house_days.today(context) - order.promised_by).days if order.promised_by else 0
                total += parcel_at_risk("late", max(late, 0), rates.of(int(sum_paid or 0), order.currency), refund)
        else:
            for plan in context.session.scalars(select(FillPlan).where(FillPlan.order_id.in_(chunk))):
                profit = rates.of(max(plan.known_profit or 0, 0), orders[plan.order_id].currency)
                total += waiting_order(profit, int((context.now - orders[plan.order_id].came_at).total_seconds() // 3600), refund)
    return total


WORDS = {
    "untaken": "{n} purchase order{s} to be given to {name}",
    "silent": "{name} has not answered {n} purchase order{s}",
    "unsent": "{name} has not sent {n} order{s}, promised by tomorrow or before",
}


def message(one: Overdue) -> str:
    n = len(one.purchases)
    return WORDS[one.kind].format(n=n, s="" if n == 1 else "s", name=one.supplier.name)


def ask(context: Context, kind: str, supplier: int) -> str:
    """Ask a supplier by mail about all that is overdue for this reason; once every two days."""
    case = next((one for one in overdue(context) if one.kind == kind and one.supplier.id == supplier), None)
    if case is None or kind == "untaken":
        raise Conflict("there is nothing to ask about any more")
    if not case.mail:
        raise Conflict(f"no mail address of {case.supplier.name} is known; enter it under How we order")
    names = "\n".join(one.reference for one in case.purchases)
    wish = "do you have these orders, and will you send them?" if kind == "silent" else "these orders have not left yet. When will they?"
    body = f"Hello {case.supplier.name},\n\n{wish}\n\n{names}\n\nPlease answer with what you take, and with the tracking numbers.\n"
    first: Message | None = None
    for one in case.purchases:
        had = select(func.count()).select_from(Message).where(Message.order_id == one.order_id, Message.kind == "ask")
        about = f"{one.reference}#{(context.session.scalar(had) or 0) + 1}"
        row = Message(
            order_id=one.order_id,
            kind="ask",
            about=about,
            to=case.mail,
            subject=message(case),
            body=body,
            at=context.now,
            state=MESSAGE.first,
        )
        context.session.add(row)
        context.session.flush()
        first = first or row
    assert first is not None
    title = f"{len(case.purchases)} of our orders: {case.purchases[0].reference}" + (" and more" if len(case.purchases) > 1 else "")
    key, whose = f"ask-{first.order_id}-{first.about}", case.supplier.id
    if not queue.mail(context, key, f"mail:{first.id}", case.mail, title, body, first.id, supplier=whose):
        raise Conflict("there is no mail server; join one under Stores and suppliers")
    first.state = MESSAGE.step(first.state, "mail")
    context.log(
        "purchase.ask", case.supplier.name, f"{case.supplier.name} asked about {len(case.purchases)} purchase orders", reason=message(case)
    )
    return message(case)
