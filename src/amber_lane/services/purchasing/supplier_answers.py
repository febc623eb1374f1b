"""What suppliers answer to purchase orders, however it comes: taken, billed, sent, refused whole or in part; each moves the order on."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Sequence
from dataclasses import replace
from datetime import timedelta

from sqlalchemy import func, select, update

from ...connectors.kinds import DEPOTS
from ...connectors.protocols import PurchaseAnswer
from ...core.currency import show
from ...core.states import ORDER_LINE, PURCHASE, BillFault, LaneCause, LaneState, PurchaseState
from ...data.bulk import by_id
from ...data.lanes import Lane
from ...data.orders import Order, OrderLine, PurchaseLine, PurchaseOrder
from ...data.outbox import AuditEntry
from ...data.setup import Supplier
from ..base.context import Context
from ..depot import ledger as depot_ledger
from ..fulfilment.parcel_tracking import all_are, take_tracking
from ..mapping import lane_states
from ..orders import cancellations, order_profit
from ..orders.routing import step_line

# A supplier may put a number right for so long, while no carrier has had the parcel in hand.
CORRECTS_FOR = timedelta(days=5)
# A bill of more than so many times what was ordered for is taken for a slip, or worse.
FAR = 10


def release(context: Context, purchase: PurchaseOrder, move: str, reason: str = "") -> list[OrderLine]:
    """Its order lines are free to be filled anew."""
    rows = context.session.scalars(select(PurchaseLine).where(PurchaseLine.purchase_id == purchase.id)).all()
    for row in rows:
        row.live = False
    lines = list(by_id(context.session, OrderLine, (row.order_line_id for row in rows)).values())
    for line in lines:
        # Another part of a kit may have been refused before, and its line is open already.
        if line.state in ORDER_LINE.sources(move):
            step_line(line, move, reason)
        line.lane_id, line.chosen_by = None, "plan"
    context.session.flush()
    return lines


def take_answer(context: Context, answer: PurchaseAnswer, corrects: bool = False) -> None:
    """A supplier's word on a purchase order, in whatever order words arrive; what is known already changes nothing.

    corrects: its interface tells one number per purchase, so another one puts the first right; sheets and documents add parcels.
    """
    purchase = context.session.scalar(select(PurchaseOrder).where(PurchaseOrder.reference == answer.reference))
    if purchase is None or purchase.state in (PurchaseState.refused, PurchaseState.stopped, PurchaseState.withdrawn):
        return
    purchase.their_number = answer.their_number or purchase.their_number
    _take_bill(context, purchase, answer)
    if purchase.state == PurchaseState.waiting:
        purchase.state = PURCHASE.step(purchase.state, "send")
        cannot_be_taken_back(context, (purchase.reference,))
    if answer.state == "refused":
        if purchase.state in PURCHASE.sources("refuse"):
            _refused(context, purchase, answer.message)
        return
    lacks = bool(answer.lacking) and answer.state in ("accepted", "received", "shipped")
    open_ = purchase.state in (PurchaseState.sent, PurchaseState.accepted)
    if lacks and open_ and not _lacking(context, purchase, dict(answer.lacking)):
        return
    if answer.state in ("accepted", "shipped") and purchase.state == PurchaseState.sent:
        _accepted(context, purchase)
    if answer.tracking:
        take_tracking(context, purchase, answer.tracking, corrects)
    order_profit.refresh(context, {purchase.order_id})


def _take_bill(context: Context, purchase: PurchaseOrder, answer: PurchaseAnswer) -> None:
    """What a supplier says that it bills; what cannot be right is noted, and what was planned counts until somebody has asked."""
    planned = purchase.goods + purchase.shipping + purchase.handling
    if answer.billed is not None and context.get(Supplier, purchase.supplier_id, "supplier").kind in DEPOTS:
        # A depot bills its work; the goods are ours, and cost what the ledger says.
        answer = replace(answer, billed=answer.billed + purchase.goods)
    if answer.billed is not None and answer.currency not in ("", purchase.currency):
        purchase.bill_fault = BillFault.other_currency
        purchase.noted = f"its bill is in {answer.currency}, and we ordered in {purchase.currency}: ask the supplier, it is not taken"
    elif answer.billed is not None and 0 < FAR * planned < answer.billed:
        times, purchase.bill_fault = answer.billed // planned, BillFault.far_higher
        purchase.noted = f"its bill of {show(answer.billed, purchase.currency)} is {times} times what we ordered for: ask, it is not taken"
    elif answer.billed is not None:
        purchase.billed, purchase.noted, purchase.bill_fault = answer.billed, "", BillFault.none


def cannot_be_taken_back(context: Context, gone: Collection[str]) -> None:
    """What has gone out (purchases by their references) cannot be taken back by the act that bought it, so that is not offered any more."""
    references = func.json_each(AuditEntry.after, "$.references").table_valued("value")
    sent = select(references.c.value).where(references.c.value.in_(gone)).exists()
    context.session.execute(update(AuditEntry).where(AuditEntry.kind == "order.send", AuditEntry.undo == "open", sent).values(undo=""))


def _accepted(context: Context, purchase: PurchaseOrder) -> None:
    purchase.state, purchase.answered_at = PURCHASE.step(purchase.state, "accept"), context.now
    purchase.message = ""
    depot_ledger.follow_purchase(context, purchase)
    for line in _lines(context, purchase):
        if line.state in ORDER_LINE.sources("acknowledge") and all_are(context, line, ("accepted", "shipped")):
            step_line(line, "acknowledge")
    _prove_lanes(context, purchase)


def take_answers(context: Context, answers: Iterable[PurchaseAnswer]) -> str:
    """Several words at once; what is wrong with the numbers in them, '' where nothing is."""
    wrong = []
    for one in answers:
        take_answer(context, one)
        message = context.session.scalar(select(PurchaseOrder.message).where(PurchaseOrder.reference == one.reference))
        if one.tracking and message:
            wrong.append(message)
    return "; ".join(wrong)


def _lines(context: Context, purchase: PurchaseOrder) -> list[OrderLine]:
    return list(
        by_id(
            context.session,
            OrderLine,
            context.session.scalars(select(PurchaseLine.order_line_id).where(PurchaseLine.purchase_id == purchase.id)),
        ).values()
    )


def _refused(context: Context, purchase: PurchaseOrder, message: str) -> None:
    purchase.state, purchase.answered_at, purchase.message = PURCHASE.step(purchase.state, "refuse"), context.now, message
    supplier = context.get(Supplier, purchase.supplier_id, "supplier")
    order = context.get(Order, purchase.order_id, "order")
    if order.cancelled_at is not None:
        # Nobody wants it any more, so it is not bought elsewhere.
        rows = context.session.scalars(select(PurchaseLine).where(PurchaseLine.purchase_id == purchase.id)).all()
        context.log(
            "purchase.refused", purchase.reference, f"{supplier.name} refused {purchase.reference}: {message}; the buyer had cancelled"
        )
        _drop(context, order, rows)
        return
    lines = release(context, purchase, "refuse", f"{supplier.name}: {message}")
    depot_ledger.follow_purchase(context, purchase)
    context.log("purchase.refused", purchase.reference, f"{supplier.name} refused {purchase.reference}: {message}")
    context.reroute()
    context.reprice({line.sku_id for line in lines if line.sku_id}, alone=True)


def _drop(context: Context, order: Order, rows: Sequence[PurchaseLine]) -> None:
    """Parts of a cancelled order that will not be sent end with it."""
    for row in rows:
        row.live = False
    cancellations.let_go(context, order, list(by_id(context.session, OrderLine, (row.order_line_id for row in rows)).values()))


def _lacking(context: Context, purchase: PurchaseOrder, lacking: dict[int, str]) -> bool:
    """Some lines will not be sent: they are free to be filled anew, the others stand. Whether any does."""
    rows = context.session.scalars(select(PurchaseLine).where(PurchaseLine.purchase_id == purchase.id, PurchaseLine.live)).all()
    gone = [row for row in rows if row.line_no in lacking]
    if not gone:
        return True
    if len(gone) == len(rows):
        _refused(context, purchase, next(iter(lacking.values())))
        return False
    supplier = context.get(Supplier, purchase.supplier_id, "supplier")
    for row in gone:
        row.live, row.refused = False, True
        purchase.goods -= row.planned_cost
    order = context.get(Order, purchase.order_id, "order")
    if order.cancelled_at is not None:
        _drop(context, order, gone)
        return True
    lines = by_id(context.session, OrderLine, (row.order_line_id for row in gone))
    for row in gone:
        line = lines[row.order_line_id]
        if line.state in ORDER_LINE.sources("refuse"):
            step_line(line, "refuse", f"{supplier.name}: {lacking[row.line_no]}")
            line.lane_id, line.chosen_by = None, "plan"
    n = len(gone)
    message = f"{supplier.name} sends {purchase.reference} without {n} of {len(rows)} lines"
    context.log("purchase.in_part", purchase.reference, message, reason="; ".join(lacking.values()))
    context.session.flush()
    context.reroute()
    context.reprice({line.sku_id for line in lines.values() if line.sku_id}, alone=True)
    return True


def _prove_lanes(context: Context, purchase: PurchaseOrder) -> None:
    """A new lane is open once its supplier has taken an order by it."""
    lanes = {line.lane_id for line in _lines(context, purchase)}
    for lane in by_id(context.session, Lane, (number or 0 for number in lanes)).values():
        if lane.state == LaneState.new:
            lane_states.move(lane, "prove", LaneCause.proven, f"proven by {purchase.reference}")
