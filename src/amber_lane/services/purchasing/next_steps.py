"""The ways on of an order that waits: what each would mean, and doing it. A way's key says what is done; words are made here alone."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from datetime import date

from sqlalchemy import select

from ...core.currency import show
from ...core.price import NONE
from ...core.route import OrderPlan, OrderToFill
from ...core.routing import route
from ...core.states import LaneState, OrderLineState, PurchaseState
from ...data.lanes import Lane, LanePart
from ...data.orders import FillPlan, Hold, Order, OrderLine, PurchaseLine, PurchaseOrder
from ...data.outbox import AuditEntry
from ...data.setup import BuyingAccount, Supplier
from ...data.source import Item
from ..base import house_days, undoing
from ..base.context import Context
from ..base.errors import Conflict, NotFound
from ..orders import order_profit, orders
from ..orders.holds import LIFTED
from ..orders.order_lines import cancel_lines
from ..orders.orders import may_stand
from ..orders.routing import OPEN, lines_of, replan
from ..orders.routing_inputs import Lookup, room_of
from ..outbox import queue
from ..pricing.inputs import NANO
from . import buying_accounts

# What each limit's own way on is called; a bare word of consent is never one of them.
ALLOW = {
    "least_profit": "Send at that profit",
    "look_over": "Looked at, let it go",
    "too_late": "Send although late",
    "unusual": "That many is right",
    "splits": "Send it in parts",
    "address": "The address is right as it is",
    "doubt": "Send at the cost that is believed",
    "twice": "Both are meant",
    "spend_limit": "Send beyond the limit",
    "practice": "Buy this one",
}


@dataclass(frozen=True)
class WayOn:
    """One way on. key: what `take` does ('' = it happens by itself, or `go` leads there); profit: of the order then, before risk."""

    key: str
    label: str
    message: str = ""
    profit: int | None = None
    arrives: date | None = None
    go: str = ""


def ways_on(context: Context, order: Order) -> list[WayOn]:
    """All ways on of an order that waits for a person, the best one first. Nothing is kept by looking."""
    lines = [line for line in lines_of(context, [order.id])[order.id] if line.state in OPEN]
    hold = context.session.scalar(select(Hold).where(Hold.order_id == order.id, Hold.ended.is_(None)))
    refused = [line for line in lines if line.state == OrderLineState.refused]
    if not lines or (hold is None and not refused):
        return []
    found: list[WayOn] = []
    if hold is not None and all(line.sku_id is not None for line in lines):
        look = Lookup(context, [order])
        asked = look.fill(order)
        found += _past_limit(order, hold, asked, look)
        if hold.limit == "spend_limit":
            found += _other_supplier(order, asked, look)
            found += _raise(context, order, look)
            found.append(WayOn("", "It goes by itself at 00:00", "the limits begin anew then"))
        if hold.limit == "twice" and hold.other_id:
            found += _twin(context, order, hold.other_id)
    for line in refused:
        found += _refused(context, line)
    if hold is None or hold.limit not in ("look_over", "unusual", "address", "twice", "buyer"):
        for line in lines:
            if line.sku_id is not None and line.state in (OrderLineState.held, OrderLineState.refused, OrderLineState.needs_lane):
                found.append(WayOn("", f"Another item for {line.sku_code}", "search the catalogues for it", go=f"/lanes?sku={line.sku_id}"))
    if len(lines) > 1:
        found += [WayOn(f"refund:{line.id}", f"Cancel {line.title or line.sku_code} and refund it", "cannot be undone") for line in lines]
    return found


def _past_limit(order: Order, hold: Hold, asked: OrderToFill, look: Lookup) -> Iterator[WayOn]:
    """Letting it past the limit that holds it; and past its profit or its promise, where that alone would do."""
    tried = {"least_profit": replace(asked, least_profit=NONE, must=True), "too_late": replace(asked, promised=None)}
    if hold.limit in tried:
        for limit, one in tried.items():
            plan = route([one]).plans[order.id]
            if plan.reason is None and limit not in order.allowed:
                by, arrives = _by(plan, look, order)
                label = ALLOW[limit] if limit == hold.limit else f"Send late by {by}" if limit == "too_late" else f"Send by {by}"
                yield WayOn(f"allow:{limit}", label, by, plan.profit + plan.risk, arrives)
    elif hold.limit == "address" and not may_stand(order):
        return
    elif hold.limit in LIFTED and hold.limit not in order.allowed:
        plan = route([asked]).plans[order.id]
        profit = plan.profit + plan.risk if plan.reason is None else None
        yield WayOn(f"allow:{hold.limit}", ALLOW[hold.limit], "", profit)


def _by(plan: OrderPlan, look: Lookup, order: Order) -> tuple[str, date | None]:
    lanes = {lane.id: lane for line in look.lines[order.id] for lane in look.lanes.get(line.sku_id or 0, [])}
    arrives = [one.arrives for one in plan.considered if plan.chosen.get(one.line) == one.lane and one.arrives]
    names = sorted({look.facts.suppliers[lanes[number].supplier_id].name for number in plan.chosen.values()})
    return " and ".join(names), max(arrives, default=None)


def _other_supplier(order: Order, asked: OrderToFill, look: Lookup) -> Iterator[WayOn]:
    """Filling it without the suppliers whose limit is reached."""
    full = {number for number, cap in look.caps().items() if cap.money is not None or cap.orders is not None}
    lines = tuple(
        replace(line, lanes=tuple(lane for lane in line.lanes if not {leg.supplier for leg in lane.legs} & full)) for line in asked.lines
    )
    # The plan would have taken it, were it not for the profit that is asked.
    plan = route([replace(asked, lines=lines, least_profit=NONE, must=True)]).plans[order.id]
    if plan.reason is None:
        by, arrives = _by(plan, look, order)
        chosen = ",".join(f"{line}.{lane}" for line, lane in plan.chosen.items())
        yield WayOn(f"lanes:{chosen}", f"Send by {by} instead", by, plan.profit + plan.risk, arrives)


def _raise(context: Context, order: Order, look: Lookup) -> Iterator[WayOn]:
    """Raising the money limit of an account for good, to what this order needs beside what was bought today."""
    plan = context.session.scalar(select(FillPlan).where(FillPlan.order_id == order.id))
    if plan is None:
        return
    suppliers = {look.items[part.item_id].supplier_id for one in plan.lanes if one["chosen"] for part in look.parts.get(one["lane"], [])}
    for account in look.accounts:
        money, _ = room_of(context, account)
        if account.supplier_id not in suppliers or money is None or account.cap_money is None:
            continue
        supplier = look.facts.suppliers[account.supplier_id]
        nano = order_profit.rate_between(look.facts, order.currency, supplier.currency) or NANO
        needs = order_profit.turn(plan.goods + plan.shipping + plan.handling, nano, order.currency, supplier.currency)
        if needs > money:
            # Up to the next whole ten: the bill may be a little more than the plan.
            most = -(-(account.cap_money + needs - money) // 1000) * 1000
            label = f"Raise the limit of {account.name} to {show(most, supplier.currency)} a day"
            yield WayOn(f"raise:{account.id}:{most}", label, "for every day from now on; can be undone")


def _twin(context: Context, order: Order, other_id: int) -> Iterator[WayOn]:
    other = context.get(Order, other_id, "order")
    saves = saving(context, order, other)
    if saves > 0:
        yield WayOn(f"pack:{other.id}", f"Send both in one parcel with {other.number}", "", None, None)
    yield WayOn("cancel", f"Cancel {order.number} and refund it", "cannot be undone")
    if all(line.state in OPEN for line in lines_of(context, [other.id])[other.id]):
        yield WayOn(f"cancel:{other.id}", f"Cancel {other.number} instead and refund it", "cannot be undone")


def saving(context: Context, order: Order, other: Order) -> int:
    """What one parcel instead of two would save, in the order's money; 0 where they do not go from one place."""
    plans = {plan.order_id: plan for plan in context.session.scalars(select(FillPlan).where(FillPlan.order_id.in_((order.id, other.id))))}
    if len(plans) < 2 or any(line.state not in OPEN for line in lines_of(context, [other.id])[other.id]):
        return 0
    lanes = {number: [one["lane"] for one in plan.lanes if one["chosen"]] for number, plan in plans.items()}
    rows = {
        lane.id: (lane.supplier_id, lane.origin_id)
        for lane in context.session.scalars(select(Lane).where(Lane.id.in_([*lanes[order.id], *lanes[other.id]])))
    }
    places = [{rows[lane] for lane in mine if lane in rows} for mine in lanes.values()]
    if len(places[0] | places[1]) != 1:
        return 0
    mine = plans[order.id]
    units = sum(line.quantity for line in lines_of(context, [order.id])[order.id] if line.state in OPEN)
    look = Lookup(context, [order])
    leg = next((leg for line in look.fill(order).lines for lane in line.lanes if lane.lane in lanes[order.id] for leg in lane.legs), None)
    each = leg.parcel.following if leg is not None and leg.parcel is not None else 0
    return max(mine.shipping + mine.handling - each * units, 0)


def _refused(context: Context, line: OrderLine) -> Iterator[WayOn]:
    """A line that a supplier refused: ask again, or by mail."""
    row = context.session.execute(
        select(PurchaseOrder, Supplier, Item)
        .join(PurchaseLine, PurchaseLine.purchase_id == PurchaseOrder.id)
        .join(Supplier, Supplier.id == PurchaseOrder.supplier_id)
        .join(Item, Item.id == PurchaseLine.item_id)
        .where(PurchaseLine.order_line_id == line.id, (PurchaseOrder.state == PurchaseState.refused) | PurchaseLine.refused)
        .order_by(PurchaseOrder.id.desc())
        .limit(1)
    ).first()
    if row is None:
        return
    purchase, supplier, item = row
    lane = context.session.scalar(
        select(Lane)
        .join(LanePart, LanePart.lane_id == Lane.id)
        .where(Lane.sku_id == line.sku_id, Lane.closed_at.is_(None), Lane.state != LaneState.shut, LanePart.item_id == item.id)
        .order_by(Lane.priority)
        .limit(1)
    )
    if lane is not None and supplier.paused_at is None and supplier.ended_at is None:
        yield WayOn(f"again:{line.id}:{lane.id}", f"Ask {supplier.name} again for {item.number}", "as a new purchase order")
    if "@" in supplier.mail:
        yield WayOn(f"mail:{line.id}:{purchase.id}", f"Ask {supplier.name} by mail", f"when {item.number} can be sent")
    yield WayOn(f"refund:{line.id}", f"Cancel {line.title or line.sku_code} and refund it", "cannot be undone")


def take_way(context: Context, number: int, key: str) -> str:
    """Go one of the ways on. Conflict when it is not open any more; Invalid or Conflict as what it does."""
    order = context.get(Order, number, "order")
    if key not in {one.key for one in ways_on(context, order) if one.key}:
        raise Conflict("this way is not open any more; look at the order again")
    what, _, rest = key.partition(":")
    if what == "allow":
        return _allow(context, order, rest)
    if what == "lanes":
        for pair in rest.split(","):
            line, lane = pair.split(".")
            orders.choose_lane(context, int(line), int(lane))
        # What holds it by its new lane is looked at here, and so not left to the end.
        replan(context)
        held = context.session.scalar(select(Hold.limit).where(Hold.order_id == number, Hold.ended.is_(None)))
        if held == "least_profit":
            orders.allow(context, number, limit=held)
        return f"Order {order.number} goes by the other supplier"
    if what == "raise":
        account_id, most = rest.split(":")
        row = context.get(BuyingAccount, int(account_id), "buying account")
        buying_accounts.save_account(
            context,
            row.supplier_id,
            row.id,
            None,
            name=row.name,
            cap_money=int(most),
            cap_orders=row.cap_orders,
            send=row.send,
            send_minutes=row.send_minutes,
        )
        return f"The limit of {row.name} is raised"
    if what == "pack":
        return _pack(context, order, context.get(Order, int(rest), "order"))
    if what == "cancel":
        done = orders.cancel(context, int(rest) if rest else number, "ordered twice")
        return f"Order {done.number} cancelled, the store refunds it"
    if what == "again":
        line_id, lane_id = rest.split(":")
        orders.choose_lane(context, int(line_id), int(lane_id))
        return f"Order {order.number} asks the same supplier again"
    if what == "mail":
        line_id, purchase_id = rest.split(":")
        return _ask_by_mail(
            context, order, context.get(OrderLine, int(line_id), "order line"), context.get(PurchaseOrder, int(purchase_id), "purchase")
        )
    if what == "refund":
        return cancel_lines(context, number, {int(rest): None})
    raise NotFound(f"there is no way on called {key}")


def _allow(context: Context, order: Order, limit: str) -> str:
    hold = context.session.scalar(select(Hold).where(Hold.order_id == order.id, Hold.ended.is_(None)))
    other = context.session.get(Order, hold.other_id) if hold is not None and hold.limit == "twice" and hold.other_id else None
    orders.allow(context, order.id, limit=limit)
    if limit == "twice" and other is not None and "twice" not in other.allowed:
        other.allowed = [*other.allowed, "twice"]
        other.version += 1
        context.reroute()
    return f"Order {order.number} may go"


def _pack(context: Context, order: Order, other: Order) -> str:
    """Both go, and their supplier is asked to pack them together; what it saves is seen in the bill."""
    order.packed_with, other.packed_with = other.id, order.id
    for one in (order, other):
        if "twice" not in one.allowed:
            one.allowed = [*one.allowed, "twice"]
        one.version += 1
    after = {"orders": [order.id, other.id]}
    context.log("order.pack", order.number, f"orders {order.number} and {other.number} go in one parcel", after=after, undo=True)
    context.reroute()
    return f"{order.number} and {other.number} go together; the supplier is asked for one parcel"


def unpack(context: Context, after: dict[str, list[int]]) -> None:
    """Undo: both are held again as perhaps ordered twice."""
    for number in after["orders"]:
        row = context.get(Order, number, "order")
        row.packed_with, row.allowed = None, [one for one in row.allowed if one != "twice"]
    context.reroute()


def _ask_by_mail(context: Context, order: Order, line: OrderLine, purchase: PurchaseOrder) -> str:
    supplier = context.get(Supplier, purchase.supplier_id, "supplier")
    asked = f"{purchase.reference}-line-{line.line_no}-{house_days.today(context):%Y%m%d}"
    text = (
        f"You refused {purchase.reference}, {line.quantity} x {line.title or line.sku_code}: {purchase.message or line.reason}.\n"
        "When can you send it, or what would you send instead?\n"
    )
    subject, title = f"purchase:{purchase.reference}", f"About {purchase.reference}"
    if not queue.mail(context, f"refused-{asked}", subject, supplier.mail, title, text, supplier=supplier.id):
        raise Conflict("there is no mailbox to send from; connect one under Set-up, Stores and suppliers")
    context.log("order.asked", order.number, f"{supplier.name} asked by mail about {purchase.reference}")
    return f"{supplier.name} is asked by mail"


__all__ = ["ALLOW", "WayOn", "saving", "take_way", "unpack", "ways_on"]


@undoing.undoes("order.pack")
def undo_order_pack(context: Context, act: AuditEntry) -> None:
    unpack(context, undoing.after(act))
