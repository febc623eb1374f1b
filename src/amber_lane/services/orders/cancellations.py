"""What a buyer wants after ordering: before buying it is stopped, after buying the supplier is asked, then it is a return."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy import select

from ...connectors.abilities import Ability
from ...connectors.payloads import CancelPayload, RecallPayload
from ...connectors.protocols import PurchaseAnswer
from ...core.states import ORDER_LINE, PURCHASE, BillFault, OrderLineState, PurchaseState
from ...data.base import by_index
from ...data.bulk import by_id
from ...data.orders import Hold, Order, OrderLine, PurchaseLine, PurchaseOrder
from ...data.outbox import AuditEntry
from ...data.setup import UNCALLED, Store, Supplier
from ..base import undoing
from ..base.abilities import able
from ..base.context import Context
from ..base.errors import Conflict
from ..depot import ledger as depot_ledger
from ..outbox import queue
from . import order_profit
from .routing import bought_parts, lines_of, step_line

# Bills so little above the plan (minor units) are let pass, and those within a fiftieth of it.
SMALL = 50


def end_hold(context: Context, order: int, way: str) -> None:
    row = context.session.scalar(select(Hold).where(Hold.order_id == order, Hold.ended.is_(None)))
    if row:
        row.ended, row.way = context.now, way


def wants(context: Context, order: Order, what: str, message: str) -> None:
    """Something that a buyer asked for too late to be done by itself; it stands on Today until it is settled."""
    if (order.wants, order.wants_message) != (what, message):
        order.wants, order.wants_message = what, message
        order.version += 1
        context.log("order.wants", order.number, f"order {order.number}: {message}")


def buyer_cancelled(context: Context, order: Order, lines: Sequence[OrderLine]) -> None:
    """The store says that the buyer cancelled. What has not gone out is stopped; where a supplier has it, it is asked."""
    if all(line.state == OrderLineState.cancelled for line in lines):
        return
    message = "the buyer cancelled at the store"
    # From now on nothing is bought for it, whatever is settled, refused or let go later; and suppliers are asked this once.
    first, order.cancelled_at = order.cancelled_at is None, order.cancelled_at or context.now
    _stop_waiting(context, order)
    bought = bought_parts(context.session, (line.id for line in lines))
    stopped = [line for line in lines if line.state in ORDER_LINE.sources("cancel") and line.id not in bought]
    for line in stopped:
        step_line(line, "cancel", message)
    if stopped:
        end_hold(context, order.id, "cancelled by the buyer")
        context.log("order.cancelled", order.number, f"order {order.number} was cancelled at the store")
        order_profit.refresh(context, {order.id})
    if bought and first:
        ask_back(context, order, message)


def _stop_waiting(context: Context, order: Order) -> None:
    """Purchase orders that have not gone out are taken back."""
    for purchase in context.session.scalars(
        select(PurchaseOrder).where(PurchaseOrder.order_id == order.id, PurchaseOrder.state == PurchaseState.waiting)
    ):
        try:
            queue.stop(context, purchase.reference)
        except Conflict:
            continue
        purchase.state, purchase.message = PURCHASE.step(purchase.state, "stop"), "stopped: the buyer cancelled"
        for line in _unbind(context, purchase):
            if line.state in ORDER_LINE.sources("take_back"):
                step_line(line, "take_back", "the buyer cancelled")
    context.session.flush()


def _unbind(context: Context, purchase: PurchaseOrder) -> list[OrderLine]:
    rows = context.session.scalars(select(PurchaseLine).where(PurchaseLine.purchase_id == purchase.id)).all()
    for row in rows:
        row.live = False
    return list(by_id(context.session, OrderLine, (row.order_line_id for row in rows)).values())


def ask_back(context: Context, order: Order, message: str) -> None:
    """Ask every supplier that has a part of the order to let it go; what has left already can only come back."""
    asked: list[str] = []
    by_hand: list[str] = []
    gone: list[str] = []
    for purchase in context.session.scalars(
        select(PurchaseOrder).where(
            PurchaseOrder.order_id == order.id,
            PurchaseOrder.state.in_((PurchaseState.waiting, PurchaseState.sent, PurchaseState.accepted, PurchaseState.shipped)),
        )
    ):
        supplier = context.get(Supplier, purchase.supplier_id, "supplier")
        if purchase.state == PurchaseState.shipped:
            gone.append(supplier.name)
            continue
        mail = "@" in supplier.mail
        if supplier.kind not in UNCALLED and (able(context, supplier, Ability.recalls) or not mail):
            _recall(context, purchase, order)
            asked.append(supplier.name)
            continue
        text = f"Please do not send {purchase.reference}: the buyer cancelled. If it has left already, write to us.\n"
        key = f"recall-{purchase.reference}"
        done = mail and queue.mail(context, key, key, supplier.mail, f"Please stop {purchase.reference}", text, supplier=supplier.id)
        (asked if done else by_hand).append(supplier.name)
    if gone and not asked and not by_hand:
        wants(context, order, "return", f"{message}, but it is on the road from {' and '.join(gone)}: refund it when it comes back")
        return
    parts = [f"{' and '.join(asked)} {'is' if len(asked) == 1 else 'are'} asked to let it go"] if asked else []
    parts += [f"ask {' and '.join(by_hand)} yourself to let it go"] if by_hand else []
    parts += [f"what {' and '.join(gone)} sent is on the road"] if gone else []
    wants(context, order, "cancel", "; ".join([message, *parts]))


def _recall(context: Context, purchase: PurchaseOrder, order: Order) -> None:
    """Ask once, whoever wanted it first: the buyer, or we because of its bill."""
    key = f"recall-{purchase.reference}"
    if not queue.is_there(context, key):
        recall = RecallPayload(reference=purchase.reference, order=order.number)
        queue.put(context, f"supplier:{purchase.supplier_id}", f"purchase:{purchase.reference}", key, recall)


def take_recall(context: Context, answer: PurchaseAnswer) -> None:
    """A supplier let an order go, or says how it stands; what is known already changes nothing."""
    purchase = context.session.scalar(select(PurchaseOrder).where(PurchaseOrder.reference == answer.reference))
    if purchase is None:
        return
    if answer.state != "withdrawn":
        not_let_go(context, purchase.reference, answer.message or f"it is {answer.state} already")
        return
    if purchase.state not in PURCHASE.sources("withdraw"):
        return
    purchase.state, purchase.answered_at = PURCHASE.step(purchase.state, "withdraw"), context.now
    depot_ledger.follow_purchase(context, purchase)
    order = context.get(Order, purchase.order_id, "order")
    purchase.billed = None
    queue.give_up(context, purchase.reference)
    if order.cancelled_at is None:
        _go_elsewhere(context, purchase)
        return
    purchase.message = "let go, since the buyer cancelled"
    let_go(context, order, _unbind(context, purchase))
    context.log("purchase.withdrawn", purchase.reference, f"{purchase.reference} was let go: nothing is sent, nothing is paid")


def let_go(context: Context, order: Order, lines: Sequence[OrderLine]) -> None:
    """Lines of a cancelled order that nobody sends any more end here, and are not planned anew; with the last one the store is told."""
    context.session.flush()
    # Of a kit another part may still be on its way.
    coming = bought_parts(context.session, (line.id for line in lines))
    for line in (line for line in lines if line.id not in coming):
        for move in ("withdraw", "cancel"):
            if line.state in ORDER_LINE.sources(move):
                step_line(line, move, "the buyer cancelled; the supplier does not send it")
    context.session.flush()
    if all(line.state == OrderLineState.cancelled for line in lines_of(context, [order.id])[order.id]):
        order.wants = order.wants_message = ""
        order.version += 1
        _tell_store(context, order)
    order_profit.refresh(context, {order.id})


def _go_elsewhere(context: Context, purchase: PurchaseOrder) -> None:
    """It was too dear: its lines are planned anew, and that supplier is not asked for them again."""
    purchase.message = "let go, since its bill was above the plan"
    for row in context.session.scalars(select(PurchaseLine).where(PurchaseLine.purchase_id == purchase.id)):
        row.refused = True
    for line in _unbind(context, purchase):
        if line.state in ORDER_LINE.sources("refuse"):
            step_line(line, "refuse", purchase.message)
            line.lane_id, line.chosen_by = None, "plan"
    context.log("purchase.withdrawn", purchase.reference, f"{purchase.reference} was let go, its bill was above the plan; planned anew")
    context.session.flush()
    context.reroute()


def dearer(context: Context) -> list[tuple[PurchaseOrder, int]]:
    """Purchases billed above the plan that have not left yet, with by how much; small change is let pass."""
    planned = PurchaseOrder.goods + PurchaseOrder.shipping + PurchaseOrder.handling
    over = PurchaseOrder.billed - planned
    rows = select(PurchaseOrder, over).where(
        PurchaseOrder.state == PurchaseState.accepted, PurchaseOrder.bill_taken.is_(False), over > SMALL, over * 50 > planned
    )
    return [(one, int(more or 0)) for one, more in context.session.execute(by_index(rows, PurchaseOrder, "ix_purchase_order_state"))]


def take_bill(context: Context, number: int) -> PurchaseOrder:
    """A person takes a bill above the plan."""
    purchase = context.get(PurchaseOrder, number, "purchase order")
    purchase.bill_taken = True
    purchase.version += 1
    context.log("purchase.bill", purchase.reference, f"bill of {purchase.reference} taken as it is", after={"purchase": number}, undo=True)
    return purchase


def leave_bill(context: Context, number: int) -> None:
    """Undo: the bill stands on Today again."""
    context.get(PurchaseOrder, number, "purchase order").bill_taken = False


def ask_dearer_back(context: Context, number: int) -> None:
    """Ask a supplier to let go what it bills above the plan; granted, the lines go back through the plan."""
    purchase = context.get(PurchaseOrder, number, "purchase order")
    supplier = context.get(Supplier, purchase.supplier_id, "supplier")
    if purchase.state != PurchaseState.accepted or supplier.kind in UNCALLED:
        raise Conflict("it cannot be asked back by itself any more; write to the supplier")
    purchase.bill_taken = True
    _recall(context, purchase, context.get(Order, purchase.order_id, "order"))
    context.log(
        "purchase.ask_back", purchase.reference, f"{supplier.name} asked to let {purchase.reference} go, its bill is above the plan"
    )


def _tell_store(context: Context, order: Order) -> None:
    """The store refunds what is not sent; a store that cancelled by itself says so again, and nothing changes."""
    if order.channel == "link":
        store = context.get(Store, order.store_id, "store")
        key = f"cancel-{store.id}-{order.number}"
        if queue.is_there(context, key):
            return
        queue.put(context, f"store:{store.id}", f"order:{order.id}", key, CancelPayload(order=order.number))


def not_let_go(context: Context, reference: str, message: str) -> None:
    """A supplier would not let an order go: it comes, so it must come back."""
    purchase = context.session.scalar(select(PurchaseOrder).where(PurchaseOrder.reference == reference))
    if purchase:
        order = context.get(Order, purchase.order_id, "order")
        if order.cancelled_at is None:
            purchase.noted, purchase.bill_fault = f"kept, although we asked: {message}", BillFault.none
            return
        wants(context, order, "return", f"the buyer cancelled, but the supplier sends it ({message}): refund it when it comes back")


def close_wish(context: Context, number: int) -> Order:
    """A person has settled with the buyer what they asked for."""
    order = context.get(Order, number, "order")
    if not order.wants:
        raise Conflict("the buyer asks for nothing more here")
    before = {"order": number, "wants": order.wants, "message": order.wants_message}
    order.wants = order.wants_message = ""
    order.version += 1
    context.log("order.settled", order.number, f"order {order.number}: settled with the buyer", before=before, undo=True)
    context.reroute()
    return order


def reopen_wish(context: Context, before: dict[str, str]) -> None:
    """Undo: it stands on Today again."""
    order = context.get(Order, int(before["order"]), "order")
    order.wants, order.wants_message = before["wants"], before["message"]
    order.version += 1
    context.reroute()


@undoing.undoes("purchase.bill")
def undo_purchase_bill(context: Context, act: AuditEntry) -> None:
    leave_bill(context, undoing.after(act)["purchase"])


@undoing.undoes("order.settled")
def undo_order_settled(context: Context, act: AuditEntry) -> None:
    reopen_wish(context, undoing.before(act))
