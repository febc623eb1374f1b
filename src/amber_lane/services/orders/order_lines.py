"""Lines of an order cancelled and refunded one by one and in part, and a part of an order sent while the rest waits."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from ...connectors.payloads import RefundPayload
from ...core.currency import show
from ...core.numbers import half_up
from ...core.permissions import Limit
from ...core.states import ORDER_LINE, OrderLineState
from ...data.orders import Order, OrderLine
from ...data.outbox import AuditEntry
from ..base import undoing
from ..base.context import Context
from ..base.errors import Conflict, Invalid
from ..outbox import queue
from ..pricing.person_limits import Part, count
from . import order_profit
from .orders import after_sales, cancel
from .routing import OPEN, bought_parts, lines_of, step_line

MONEY = ("paid", "shipping_paid", "discount", "tax", "store_fee", "payment_fee", "net_revenue", "reserve")


def cancel_lines(context: Context, number: int, wanted: Mapping[int, int | None], reason: str = "") -> str:
    """Cancel lines (or so many units of them; None = all) that are not bought, and have the store refund them. Cannot be undone."""
    order = context.get(Order, number, "order")
    lines = {line.id: line for line in lines_of(context, [number])[number]}
    bought = bought_parts(context.session, lines)
    for line_id, units in wanted.items():
        line = lines.get(line_id)
        if line is None:
            raise Invalid(f"order {order.number} has no such line")
        if line.state not in ORDER_LINE.sources("cancel") or line.id in bought:
            raise Conflict(f"{line.title or line.sku_code} is bought already; ask the supplier to let it go first")
        if units is not None and units < line.quantity and line.refunded:
            raise Conflict(f"a part of {line.title or line.sku_code} was paid back already; cancel all that is left of it")
        if units is not None and not 1 <= units <= line.quantity:
            raise Invalid(f"{line.title or line.sku_code}: from 1 to {line.quantity} units can be cancelled")
    if not wanted:
        raise Conflict("no line is chosen")
    whole = {line_id for line_id, units in wanted.items() if units is None or units == lines[line_id].quantity}
    rest = [line for line in lines.values() if line.state != OrderLineState.cancelled and line.id not in whole]
    if not rest:
        cancel(context, number, reason)
        return f"Order {order.number} cancelled, the store refunds it"
    refunded: list[tuple[int, int]] = []
    messages, amounts = list[str](), list[int]()
    for line_id, units in wanted.items():
        line = lines[line_id]
        n = line.quantity if line_id in whole else int(units or 0)
        refunded.append((line.line_no, n))
        messages.append(f"{n} × {line.title or line.sku_code}")
        amounts.append(_cut(line, n))
        if line_id in whole:
            step_line(line, "cancel", reason or "cancelled by hand")
        line.version += 1
    paid = sum(amounts)
    if order.channel == "link" and paid:
        mark = "-".join(f"{line}.{n}" for line, n in refunded)
        key = f"refund-{order.store_id}-{order.number}-{mark}-{max(lines[i].version for i in wanted)}"
        given = [(line, amount) for line, amount in zip(refunded, amounts, strict=True) if amount]
        refund = RefundPayload(
            order=order.number, lines=tuple(line for line, _ in given), amounts=tuple(amount for _, amount in given),
            currency=order.currency, reference=key,
        )  # fmt: skip
        queue.put(context, f"store:{order.store_id}", f"order:{number}", key, refund)
    order.version += 1
    what = f"cancel and refund {', '.join(messages)} of order {order.number}"
    count(context, Limit.REFUND, what, [Part(order.id, order.number, paid, order.currency)])
    amount = show(paid, order.currency)
    by = "the store refunds it" if order.channel == "link" else "refund it in the store yourself"
    context.log("order.lines", order.number, f"order {order.number}: {', '.join(messages)} cancelled, {amount}; {by}", reason=reason)
    after_sales(context, [order])
    order_profit.refresh(context, {number})
    return f"{', '.join(messages)} cancelled, {amount}: {by}"


def _cut(line: OrderLine, units: int) -> int:
    """Take units off a line, with their share of its money; returns what the buyer gets back of it. A whole line keeps its figures."""
    if units >= line.quantity:
        return line.left
    left = line.quantity - units
    before = line.total
    for name in MONEY:
        setattr(line, name, half_up(getattr(line, name) * left, line.quantity))
    # The parts still add up to what is kept, to the penny.
    line.net_revenue = line.total - line.tax - line.store_fee - line.payment_fee
    line.quantity = left
    return before - line.total


def send_part(context: Context, number: int, line_ids: Sequence[int]) -> str:
    """Let some lines of a held order go now; the rest is planned by itself once they are bought. Can be undone until then."""
    order = context.get(Order, number, "order")
    lines = [line for line in lines_of(context, [number])[number] if line.state in OPEN]
    chosen = [line for line in lines if line.id in set(line_ids)]
    if not chosen or len(chosen) == len(lines):
        raise Conflict("choose some of its lines, and leave some")
    before = list(order.part_lines or [])
    order.part_lines = [line.id for line in chosen]
    order.version += 1
    names = ", ".join(line.title or line.sku_code for line in chosen)
    context.log(
        "order.part", order.number, f"order {order.number}: {names} goes first", before={"order": number, "lines": before}, undo=True
    )
    context.reroute()
    n = len(chosen)
    return f"{n} of {len(lines)} lines {'goes' if n == 1 else 'go'} first; the rest waits"


def restore_part(context: Context, before: dict[str, object]) -> None:
    """Undo: the order goes whole again."""
    order = context.get(Order, int(str(before["order"])), "order")
    if not order.part_lines:
        raise Conflict("that part is bought already")
    lines = before["lines"]
    order.part_lines = list(lines) if isinstance(lines, list) else []
    context.reroute()


@undoing.undoes("order.part")
def undo_order_part(context: Context, act: AuditEntry) -> None:
    restore_part(context, undoing.before(act))
