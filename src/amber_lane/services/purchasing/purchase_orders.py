"""Buying: a ready order becomes purchase orders once, and the supplier's answers move it on."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from functools import cache
from typing import Any

from sqlalchemy import Select, Text, bindparam, func, select, type_coerce

from ...connectors.payloads import BoughtAddress, BoughtLine, PurchasePayload
from ...core.address import PARTS, in_latin
from ...core.cost import packs_needed, unit_bought
from ...core.currency import show
from ...core.permissions import Limit
from ...core.states import PURCHASE, OrderLineState, ParcelState, PurchaseState
from ...data.bulk import by_id, in_chunks
from ...data.lanes import Lane, LanePart, service_of
from ...data.orders import FillPlan, Order, OrderLine, PurchaseLine, PurchaseOrder
from ...data.outbox import AuditEntry
from ...data.setup import Origin, Store, Supplier
from ...data.source import Item
from ...data.transit import Parcel, ParcelLine
from ..base import undoing
from ..base.context import Context
from ..base.errors import Conflict
from ..fulfilment.buyer_notifications import write_mail
from ..orders import order_profit
from ..orders.routing import bought_parts, lines_of, replan, step_line
from ..outbox import queue
from ..pricing import exchange_rates, person_limits
from ..pricing.inputs import Facts
from ..pricing.policy import policy_for
from ..printing import lane_prints
from ..printing.ordering import Files
from . import payment_batches
from .buying_accounts import Rooms
from .po_documents import send_by_mail
from .supplier_answers import CORRECTS_FOR, release


def ready_orders(context: Context) -> list[int]:
    """Orders that may go: a line is ready, and none is held or lacking. What is bought of them already holds up no rest."""
    bad = select(OrderLine.order_id).where(
        OrderLine.state.in_((OrderLineState.new, OrderLineState.needs_lane, OrderLineState.held, OrderLineState.refused))
    )
    able = list(
        context.session.scalars(
            select(OrderLine.order_id).where(OrderLine.state == OrderLineState.ready, OrderLine.order_id.not_in(bad)).distinct()
        )
    )
    # Of some only a part goes now; the rest holds up nothing.
    for number, part in context.session.execute(select(Order.id, Order.part_lines).where(type_coerce(Order.part_lines, Text) != "[]")):
        states = set(context.session.scalars(select(OrderLine.state).where(OrderLine.id.in_(part), OrderLine.order_id == number)))
        if states == {OrderLineState.ready} and number not in able:
            able.append(number)
    return able


def send(context: Context, orders: Iterable[int], reason: str = "", paid_together: bool = False) -> list[PurchaseOrder]:
    """Turn ready orders into purchase orders in the outbox. Orders that are not ready are left alone and not sent.

    paid_together: what goes to one supplier is one batch with its sum.
    """
    replan(context, here=True)
    able = set(ready_orders(context)) & set(orders)
    made: list[PurchaseOrder] = []
    facts, rooms = Facts.read(context.session), Rooms.read(context)
    for order in sorted(by_id(context.session, Order, able).values(), key=lambda one: one.id):
        made += _buy(context, order, facts, rooms)
    if made:
        _count(context, made)
        send_by_mail(context, made)
        if paid_together:
            payment_batches.together(context, made)
        spent = sum(one.goods + one.shipping + one.handling for one in made)
        n = len({one.order_id for one in made})
        context.log(
            "order.send",
            f"{n} orders",
            f"{n} order{'s' if n > 1 else ''} sent to suppliers, {show(spent, made[0].currency)}",
            reason=reason,
            after={"references": [one.reference for one in made]},
            undo=True,
            count=n,
        )
        context.session.flush()
    return made


def _count(context: Context, made: Sequence[PurchaseOrder]) -> None:
    """What is bought, towards the day's limit of whoever buys it, order by order."""
    orders = by_id(context.session, Order, (one.order_id for one in made))
    parts = [
        person_limits.Part(
            one.order_id, f"{orders[one.order_id].number}, {one.reference}", one.goods + one.shipping + one.handling, one.currency
        )
        for one in made
    ]
    n = len(orders)
    what = f"buy {n} orders" if n > 1 else f"buy order {next(iter(orders.values())).number}"
    person_limits.count(context, Limit.SPEND, what, parts, "orders")


def _buy(context: Context, order: Order, facts: Facts, rooms: Rooms) -> list[PurchaseOrder]:
    s = context.session
    lines = [line for line in lines_of(context, [order.id])[order.id] if line.state == OrderLineState.ready]
    lanes = by_id(s, Lane, (line.lane_id or 0 for line in lines))
    parts = s.scalars(select(LanePart).where(LanePart.lane_id.in_(list(lanes))).order_by(LanePart.id)).all()
    items = by_id(s, Item, (part.item_id for part in parts))
    have = bought_parts(s, (line.id for line in lines))
    store = context.get(Store, order.store_id, "store")
    groups: dict[tuple[int, int, str], list[tuple[OrderLine, LanePart]]] = {}
    for line in lines:
        lane = lanes[line.lane_id or 0]
        for part in (part for part in parts if part.lane_id == lane.id and part.item_id not in have.get(line.id, {})):
            place = (items[part.item_id].supplier_id, part.origin_id or lane.origin_id, service_of(lane, part, order.country))
            groups.setdefault(place, []).append((line, part))
    files = Files.read(context, lanes)
    if unfit := files.unfit():
        # Its file is being made, and it goes once that is there; or it may not be printed, and is planned without that lane.
        lane_prints.check(context, unfit)
        context.reroute()
        return []
    wanted = {place: _amounts(order, group, items, facts, place) for place, group in groups.items()}
    asked = [(place[0], sum(amounts[:3])) for place, amounts in wanted.items()]
    accounts = rooms.take(asked, over="spend_limit" in order.allowed)
    if accounts is None:
        # The accounts have room together, but none of them alone: it waits for a person, who may raise a limit.
        order.manual_release, order.send_after = True, None
        context.log("order.no_room", order.number, f"order {order.number} not sent: no buying account has room for it today")
        return []
    made = []
    before = s.scalar(select(func.count()).select_from(PurchaseOrder).where(PurchaseOrder.order_id == order.id)) or 0
    for nth, (account, ((supplier_id, origin_id, service), group)) in enumerate(zip(accounts, groups.items(), strict=True), before + 1):
        supplier, origin = context.get(Supplier, supplier_id, "supplier"), context.get(Origin, origin_id, "origin")
        purchase = PurchaseOrder(
            reference=f"{store.code}-{order.number}-{nth}",
            supplier_id=supplier_id,
            account_id=account,
            order_id=order.id,
            origin_id=origin_id,
            service=service,
            currency=supplier.currency,
            rate=order_profit.rate_between(facts, supplier.currency, order.currency),
            made_at=context.now,
        )
        purchase.goods, purchase.shipping, purchase.handling, costs = wanted[supplier_id, origin_id, service]
        s.add(purchase)
        s.flush()
        out = _bought_lines(context, purchase, [(*pair, cost) for pair, cost in zip(group, costs, strict=True)], items, files)
        _send_out(context, order, store, supplier, origin.code, purchase, out)
        made.append(purchase)
    for line in lines:
        step_line(line, "buy")
    if order.part_lines:
        order.part_lines = []
        context.reroute()
    order_profit.refresh(context, {order.id})
    write_mail(context, "bought", order, store, lines, "", {})
    return made


def waits_for_files(context: Context, orders: Iterable[int]) -> bool:
    """Whether one of these orders waits for its print files alone."""
    lanes = select(OrderLine.lane_id).where(
        OrderLine.order_id.in_(list(orders)), OrderLine.state == OrderLineState.ready, OrderLine.lane_id.is_not(None)
    )
    return bool(Files.read(context, (int(one or 0) for one in context.session.scalars(lanes))).unfit())


def _bought_lines(
    context: Context, purchase: PurchaseOrder, group: list[tuple[OrderLine, LanePart, int]], items: dict[int, Item], files: Files
) -> list[BoughtLine]:
    """The lines of a purchase, with what is printed on them; as its supplier gets them."""
    out: list[BoughtLine] = []
    for line, part, cost in group:
        item, quantity = items[part.item_id], packs_needed(line.quantity, part.units_num, part.units_den)
        prints = files.bought(part.lane_id, item.id) or None
        out.append(BoughtLine(line_no=len(out) + 1, item=item.number, quantity=quantity, prints=prints))
        whose = {"purchase_id": purchase.id, "order_line_id": line.id, "line_no": len(out), "item_id": item.id}
        bought = PurchaseLine(**whose, quantity=quantity, planned_cost=cost)
        context.session.add(bought)
        if prints:
            context.session.flush()
            files.keep(context, part.lane_id, item.id, bought.id)
    return out


def _send_out(
    context: Context, order: Order, store: Store, supplier: Supplier, origin: str, purchase: PurchaseOrder, lines: list[BoughtLine]
) -> None:
    """The purchase's row in the outbox, in the transaction that decided it."""
    address = order.address_override or order.address
    payload = PurchasePayload(
        reference=purchase.reference,
        origin=origin,
        service=purchase.service,
        lines=tuple(lines),
        note=" ".join(filter(None, (supplier.parcel_note, _pack_with(context, order)))),
        greeting=store.greeting.replace("{name}", order.buyer),
        address=BoughtAddress(**_written(context, supplier, store, address, in_latin(address))),
    )
    queue.put(context, f"supplier:{supplier.id}", f"purchase:{purchase.reference}", purchase.reference, payload)


def _pack_with(context: Context, order: Order) -> str:
    """A word to the supplier that another order of the same buyer goes into the same parcel."""
    if order.packed_with is None:
        return ""
    other = context.get(Order, order.packed_with, "order")
    store = context.get(Store, other.store_id, "store")
    return f"Please pack it together with {store.code}-{other.number}-1, to the same buyer."


def _written(context: Context, supplier: Supplier, store: Store, address: dict[str, Any], latin: dict[str, Any]) -> dict[str, str]:
    """An address as it goes to a supplier: in Latin letters where the rule says so; the buyer's own stay at the order."""
    if latin != address and policy_for(context.session, supplier=supplier.code, store=store.code)["letters"] == "latin":
        address = latin
    return {**{name: str(address.get(name) or "") for name in PARTS}, "phone": phone_for(supplier, store, address)}


def phone_for(supplier: Supplier, store: Store, address: dict[str, Any]) -> str:
    """Whose number a supplier is told, by its rule."""
    return {"buyer": str(address.get("phone") or ""), "store": store.phone}.get(supplier.phone_rule, "")


def _amounts(
    order: Order, group: list[tuple[OrderLine, LanePart]], items: dict[int, Item], facts: Facts, place: tuple[int, int, str]
) -> tuple[int, int, int, list[int]]:
    """Goods, shipping and handling of one purchase in its supplier's money, and what each of its parts costs."""
    supplier_id, origin_id, service = place
    supplier = facts.suppliers[supplier_id]
    costs, weight = [], 0
    for line, part in group:
        item, quantity = items[part.item_id], packs_needed(line.quantity, part.units_num, part.units_den)
        costs.append(quantity * unit_bought(item.cost, item.tiers or [], quantity, facts.billing(supplier, item.currency), supplier.tax))
        weight += item.weight_g * quantity
    origin = facts.origins[origin_id]
    terms = facts.service_to.get((origin_id, service, order.country))
    if terms is None:
        return sum(costs), 0, origin.handling, costs
    parcel = facts.parcel(supplier, origin, terms, supplier.currency, 0)
    units = sum({line.id: line.quantity for line, _ in group}.values())
    return sum(costs), parcel.cost(units, sum(costs), weight) - parcel.handling, parcel.handling, costs


def wait(context: Context, orders: Iterable[int], by_hand: bool = True) -> int:
    """Stop the clock of orders that would go by themselves, or start it again. Returns how many it was."""
    rows = [one for one in by_id(context.session, Order, orders).values() if one.manual_release != by_hand]
    if not rows:
        raise Conflict("none of these orders is waiting so")
    for order in rows:
        order.manual_release, order.send_after = by_hand, None
        order.version += 1
    n = len(rows)
    message = f"{n} order{'' if n == 1 else 's'} {'wait' if n > 1 else 'waits'} for your hand" if by_hand else f"{n} go by themselves again"
    context.log("order.wait", f"{n} orders", message, after={"orders": [one.id for one in rows], "by_hand": by_hand}, undo=True, count=n)
    context.reroute()
    return n


def due_orders(context: Context) -> list[int]:
    """Ready orders whose time to be sent by themselves has come."""
    due = set(context.session.scalars(select(Order.id).where(Order.send_after <= context.now)))
    return [number for number in ready_orders(context) if number in due] if due else []


def take_back(context: Context, references: Iterable[str]) -> int:
    """Undo a sending as far as it has not gone out. Conflict when nothing could be taken back."""
    back, taken = 0, list[Order]()
    for purchase in context.session.scalars(select(PurchaseOrder).where(PurchaseOrder.reference.in_(list(references)))):
        if purchase.state != PurchaseState.waiting:
            continue
        try:
            queue.stop(context, purchase.reference)
        except Conflict:
            continue
        purchase.state, purchase.message = PURCHASE.step(purchase.state, "stop"), "taken back before it went out"
        order = context.get(Order, purchase.order_id, "order")
        release(context, purchase, "take_back")
        taken.append(order)
        back += 1
    if not back:
        raise Conflict("all of them have gone out already; a purchase that a supplier has cannot be undone here")
    context.reroute()
    for order in taken:
        # Somebody wanted it back, so it does not go again by itself.
        if order.send_after is not None:
            order.manual_release, order.send_after = True, None
    return back


@cache
def _under_way() -> Select[str]:
    unmoved = (
        select(ParcelLine.purchase_id)
        .join(Parcel, Parcel.id == ParcelLine.parcel_id)
        .where(Parcel.state == ParcelState.label, Parcel.made_at > bindparam("since"))
    )
    open_ones = PurchaseOrder.state.in_((PurchaseState.sent, PurchaseState.accepted)) | PurchaseOrder.id.in_(unmoved)
    mine = select(PurchaseOrder.reference).where(PurchaseOrder.supplier_id == bindparam("supplier"), open_ones)
    return mine.order_by(PurchaseOrder.id)


def under_way(context: Context, supplier: int) -> list[str]:
    """References that the supplier may have news of: sent or accepted, or shipped under a number that no carrier knows yet."""
    return list(context.session.scalars(_under_way(), {"supplier": supplier, "since": context.now - CORRECTS_FOR}))


def money_of(context: Context, orders: Iterable[int]) -> tuple[dict[str, int], list[str]]:
    """What sending these orders means: parcels, money to suppliers, expected profit; in the house's money. And which currencies that leaves
    out, since there is no rate."""
    rows = by_id(context.session, Order, orders)
    plans = [plan for chunk in in_chunks(rows) for plan in context.session.scalars(select(FillPlan).where(FillPlan.order_id.in_(chunk)))]
    worth = exchange_rates.HomeWorth(context)
    parcels = len({(plan.order_id, lane["lane"]) for plan in plans for lane in plan.lanes if lane["chosen"]})
    return {
        "orders": len(plans),
        "parcels": parcels,
        "spend": sum(worth.of(p.goods + p.shipping + p.handling, rows[p.order_id].currency) for p in plans),
        "profit": sum(worth.of(p.known_profit or 0, rows[p.order_id].currency) for p in plans),
    }, sorted(worth.left_out)


def of_order(context: Context, order: int) -> Sequence[PurchaseOrder]:
    return context.session.scalars(select(PurchaseOrder).where(PurchaseOrder.order_id == order).order_by(PurchaseOrder.id)).all()


__all__ = ["due_orders", "money_of", "ready_orders", "send", "take_back", "under_way", "wait"]


@undoing.undoes("order.wait")
def undo_order_wait(context: Context, act: AuditEntry) -> None:
    wait(context, undoing.after(act)["orders"], not undoing.after(act)["by_hand"])


@undoing.undoes("order.send")
def undo_order_send(context: Context, act: AuditEntry) -> None:
    take_back(context, undoing.after(act)["references"])
