"""Orders: a page of them read, let past a limit, given another lane or address, or cancelled."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from sqlalchemy import select

from ...connectors.payloads import CancelPayload
from ...connectors.protocols import StoreOrder
from ...core.address import certain_faults
from ...core.currency import plain
from ...core.events import ORDER_CAME, EventGroup
from ...core.ids import check_country
from ...core.permissions import Limit
from ...core.states import ORDER_LINE, OrderLineState
from ...data.bulk import in_chunks
from ...data.lanes import Lane
from ...data.orders import Hold, Order, OrderLine
from ...data.outbox import AuditEntry
from ...data.setup import Store
from ..base import undoing
from ..base.context import Context
from ..base.errors import Conflict, Invalid
from ..outbox import queue, webhooks
from ..pricing.person_limits import Part, by_hand, count
from . import order_profit
from .cancellations import end_hold
from .holds import LIFTED
from .intake import take_in, take_many
from .routing import OPEN, bought_parts, lines_of, step_line


def take_page(
    context: Context, store: Store, incoming: Iterable[StoreOrder], cursor: str | None, unreadable: Sequence[str] = ()
) -> list[Order]:
    """A page of orders and the cursor after it (None: it stays). Returns those that are new; what they need is planned.

    unreadable: orders that could not be read, each with why; a person is told of them.
    """
    for text in unreadable:
        context.log("order.unreadable", store.name, f"{store.name}: {text}", reason="look at it in the store; nothing else was held up")
    fresh = take_many(context, store, incoming)
    if cursor is not None:
        store.orders_cursor = cursor
    if fresh:
        after_sales(context, fresh)
        if webhooks.listens(context, EventGroup.orders_new):
            _tell(context, store, fresh)
    else:
        # A change or a cancelling may have set something free.
        context.reroute()
    return fresh


def _tell(context: Context, store: Store, fresh: Sequence[Order]) -> None:
    """Addresses of one's own are told of new orders, without who bought them."""
    lines = lines_of(context, [order.id for order in fresh])
    for order in fresh:
        mine = lines[order.id]
        data = {
            "store": store.name,
            "order": order.number,
            "country": order.country,
            "ordered_at": order.ordered_at.isoformat(),
            "paid": {"amount": plain(sum(line.total for line in mine), order.currency), "currency": order.currency},
            "lines": [{"sku": line.sku_code, "title": line.title, "quantity": line.quantity} for line in mine],
        }
        webhooks.tell(context, ORDER_CAME, order.number, f"order {order.number} came in from {store.name}", data)


def after_sales(context: Context, orders: Iterable[Order]) -> None:
    """What new orders mean: their lines are planned, and the listings of what was sold are looked at again."""
    numbers = [order.id for order in orders]
    if numbers:
        skus = {line.sku_id for lines in lines_of(context, numbers).values() for line in lines if line.sku_id}
        context.session.flush()
        context.reroute()
        context.reprice(skus, alone=True)


def allow(context: Context, number: int, reason: str = "", limit: str | None = None) -> Order:
    """A person's word that an order may go although it broke a limit that is theirs to set; by itself the one that holds it.

    limit: another one, so as to go on in another way: one held by its profit may earn more if it may come late.
    """
    order = context.get(Order, number, "order")
    hold = context.session.scalar(select(Hold).where(Hold.order_id == number, Hold.ended.is_(None)))
    limit = limit or (hold.limit if hold else "")
    if not hold or limit not in LIFTED or limit in order.allowed:
        raise Conflict("this order is not held by a limit that can be lifted; look at it again")
    if limit == "address" and not may_stand(order):
        raise Conflict("no carrier takes this address as it is; mend it")
    order.allowed = [*order.allowed, limit]
    order.version += 1
    by_hand(context, [order])
    context.log(
        "order.allow",
        order.number,
        f"order {order.number} may go although: {hold.message}",
        reason=reason,
        after={"order": number, "limit": limit},
        undo=True,
    )
    context.reroute()
    return order


def allow_many(context: Context, numbers: Sequence[int], reason: str = "") -> tuple[int, int]:
    """A person's word for many held orders at once, each past the limit that holds it: one act, undone as one. Returns how many may go,
    and how many could not be let go, since their limit is not a person's to lift."""
    rows = {row.id: row for chunk in in_chunks(numbers) for row in context.session.scalars(select(Order).where(Order.id.in_(chunk)))}
    holds = {
        hold.order_id: hold
        for chunk in in_chunks(rows)
        for hold in context.session.scalars(select(Hold).where(Hold.order_id.in_(chunk), Hold.ended.is_(None)))
    }
    able = {number: hold.limit for number, hold in holds.items() if hold.limit in LIFTED and hold.limit not in rows[number].allowed}
    faulty = {number for number, limit in able.items() if limit == "address" and not may_stand(rows[number])}
    able = {number: limit for number, limit in able.items() if number not in faulty}
    if not able:
        raise Conflict("none of these orders is held by a limit that can be lifted; look at them one by one")
    for number, limit in able.items():
        rows[number].allowed = [*rows[number].allowed, limit]
        rows[number].version += 1
    by_hand(context, (rows[number] for number in able))
    n, left = len(able), len(set(numbers)) - len(able)
    message = f"{n} held order{'' if n == 1 else 's'} may go"
    context.log(
        "order.allow_many",
        f"{n} orders",
        message,
        reason=reason,
        after={"orders": {str(i): limit for i, limit in able.items()}},
        undo=True,
        count=n,
    )
    context.reroute()
    return n, left


def may_stand(order: Order) -> bool:
    """Whether nothing of an order's address is certainly wrong, so that a person may let it go as it is."""
    return not certain_faults({**(order.address_override or order.address), "country": order.country})


def disallow_many(context: Context, after: dict[str, dict[str, str]]) -> None:
    """Undo: the limits hold these orders again."""
    for number, limit in after["orders"].items():
        row = context.get(Order, int(number), "order")
        row.allowed = [one for one in row.allowed if one != limit]
        row.version += 1
    context.reroute()


def cancel_many(context: Context, numbers: Sequence[int], reason: str = "") -> tuple[int, list[str]]:
    """Cancel orders that are not bought. Returns how many were, and why the others were not. Cannot be undone."""
    able, messages = dict[int, Order](), []
    for number in dict.fromkeys(numbers):
        order = context.get(Order, number, "order")
        try:
            _left_to_cancel(context, order)
        except Conflict as error:
            messages.append(f"{order.number}: {error.message}")
        else:
            able[number] = order
    if not able:
        raise Conflict(messages[0] if messages else "no order is chosen")
    _count_refund(context, able.values(), "orders")
    for order in able.values():
        _cancel(context, order, reason)
    return len(able), messages


def choose_lane(context: Context, line_id: int, lane_id: int | None) -> OrderLine:
    """A person's choice of lane for one line; the plan goes around it. None gives the choice back to the plan."""
    line = context.get(OrderLine, line_id, "order line")
    if line.state not in OPEN:
        raise Conflict("this line is bought already, so its lane cannot change")
    if lane_id is not None:
        lane = context.get(Lane, lane_id, "lane")
        store = context.get(Order, line.order_id, "order").store_id
        if lane.sku_id != line.sku_id or lane.closed_at is not None or lane.store_id not in (None, store):
            raise Invalid("this lane does not fill that SKU in that store")
    before = {"line": line_id, "lane": line.lane_id if line.chosen_by == "person" else None}
    line.lane_id, line.chosen_by = lane_id, "person" if lane_id else "plan"
    line.version += 1
    context.log("order.lane", line.sku_code, f"{line.sku_code}: lane of an order line chosen by hand", before=before, undo=True)
    context.reroute()
    return line


def mend_address(context: Context, number: int, version: int, address: dict[str, str]) -> Order:
    """Mend a buyer's address; the one the buyer gave is kept beside it."""
    order = context.get_version(Order, number, version, "order")
    if not any(line.state in OPEN for line in lines_of(context, [number])[number]):
        raise Conflict("all of this order is bought already; write to the supplier about its address")
    try:
        country = check_country(address.get("country", ""))
    except ValueError as error:
        raise Invalid(str(error), {"country": str(error)}) from error
    lacking = certain_faults({**address, "country": country})
    if lacking:
        raise Invalid("the address: " + "; ".join(f"{name} {message}" for name, message in lacking.items()), lacking)
    order.address_override = {**order.address, **address, "country": country}
    order.country = country
    context.log(
        "order.address", order.number, f"address of order {order.number} mended", before=order.address, after=order.address_override
    )
    context.reroute()
    return order


def cancel(context: Context, number: int, reason: str = "") -> Order:
    """Cancel an order that is not bought, and tell the store to refund it. Cannot be undone: the buyer is told."""
    order = context.get(Order, number, "order")
    _left_to_cancel(context, order)
    _count_refund(context, [order])
    return _cancel(context, order, reason)


def _left_to_cancel(context: Context, order: Order) -> list[OrderLine]:
    """The lines that cancelling an order would end. Conflict where it cannot be cancelled as a whole."""
    lines = lines_of(context, [order.id])[order.id]
    bought = bought_parts(context.session, (line.id for line in lines))
    if any(
        (line.state not in ORDER_LINE.sources("cancel") or line.id in bought) and line.state != OrderLineState.cancelled for line in lines
    ):
        raise Conflict("a part of this order is bought already; ask the supplier first")
    if not (left := [line for line in lines if line.state != OrderLineState.cancelled]):
        raise Conflict("this order is cancelled already")
    return left


def _count_refund(context: Context, orders: Iterable[Order], parts_in: str = "") -> None:
    """What their buyers get back, towards the day's limit of whoever cancels them."""
    parts = [Part(one.id, one.number, sum(line.left for line in _left_to_cancel(context, one)), one.currency) for one in orders]
    what = f"cancel and refund {f'{len(parts)} orders' if len(parts) > 1 else f'order {parts[0].name}'}"
    count(context, Limit.REFUND, what, parts, parts_in)


def _cancel(context: Context, order: Order, reason: str) -> Order:
    number = order.id
    for line in _left_to_cancel(context, order):
        step_line(line, "cancel", reason)
    end_hold(context, number, "cancelled")
    if order.channel == "link":
        queue.put(
            context,
            f"store:{order.store_id}",
            f"order:{number}",
            f"cancel-{order.store_id}-{order.number}",
            CancelPayload(order=order.number),
        )
    context.log("order.cancel", order.number, f"order {order.number} cancelled and refunded", reason=reason)
    after_sales(context, [order])
    order_profit.refresh(context, {number})
    return order


__all__ = ["after_sales", "allow", "cancel", "choose_lane", "mend_address", "take_in", "take_many", "take_page"]


@undoing.undoes("order.allow")
def undo_order_allow(context: Context, act: AuditEntry) -> None:
    order = context.get(Order, undoing.after(act)["order"], "order")
    order.allowed = [one for one in order.allowed if one != undoing.after(act).get("limit", one)]
    context.reroute()


@undoing.undoes("order.allow_many")
def undo_order_allow_many(context: Context, act: AuditEntry) -> None:
    disallow_many(context, undoing.after(act))


@undoing.undoes("order.lane")
def undo_order_lane(context: Context, act: AuditEntry) -> None:
    choose_lane(context, undoing.before(act)["line"], undoing.before(act)["lane"])
