"""Open troubles of orders, transit and links: what is held, refused, not taken, not read, late."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator
from datetime import datetime, timedelta

from sqlalchemy import func, literal_column, select

from ...core.currency import show
from ...core.risk import waiting_order
from ...core.states import OrderLineState, PurchaseState
from ...data.base import by_index
from ...data.orders import HAS_BILL_FAULT, Hold, Order, OrderLine, PurchaseOrder
from ...data.outbox import AuditEntry
from ...data.setup import Store
from ..base.context import Context
from ..base.errors import Conflict
from ..fulfilment import delivery_exceptions, parcel_tracking
from ..inbound import mailbox
from ..orders import cancellations, order_profit, orders
from ..orders.holds import LIFTED
from ..pricing import exchange_rates
from ..pricing.policy import refund_cost
from ..purchasing import overdue
from .alert import Alert, AlertKey, AlertStep, Cause, Doing, Source, acts


def _held_orders(context: Context) -> Iterator[Alert]:
    held = select(OrderLine.order_id).where(OrderLine.state == OrderLineState.held)
    query = (
        select(
            Hold.limit,
            Hold.message,
            Hold.since,
            Order.id,
            Order.number,
            Order.buyer,
            Order.country,
            Order.currency,
            Store.id.label("store"),
            Store.buy_orders,
        )
        .select_from(Hold)
        .join(Order, Order.id == Hold.order_id)
        .join(Store, Store.id == Order.store_id)
        # What waits for the buyer's word stands under that.
        .where(Hold.ended.is_(None), Hold.limit != "buyer", Order.id.in_(held))
    )
    rows = context.session.execute(by_index(query, Hold, "uq_hold_open")).all()
    worth = exchange_rates.HomeWorth(context)
    earns = order_profit.likely(context, (hold.id for hold in rows))
    for hold in rows:
        profit = worth.of(earns.get(hold.id, 0), hold.currency)
        see = AlertStep("See the ways on", go=f"/orders?state=held&row={hold.id}")
        steps = {
            "look_over": AlertStep("Let it go", act=True),
            "too_late": AlertStep("Send although late", act=True),
            "unusual": AlertStep("That many is right", act=True),
            "splits": AlertStep("Send it in parts", act=True),
            "address": AlertStep("Mend the address", go=f"/orders?state=held&row={hold.id}"),
        }
        loses = hold.limit == "least_profit" and profit < 0
        yield Alert(
            AlertKey("hold", hold.id),
            "orders",
            "Loss" if loses else "Held",
            f"Order {hold.number}: {hold.message[0].lower()}{hold.message[1:]}",
            f"{hold.buyer}, {hold.country}",
            hold.since,
            steps.get(hold.limit, see),
            -profit if loses else _waits(context, profit, hold.since),
            False,
            "loss" if loses else "waits",
            cause=_practice(hold.store)
            if hold.limit == "practice" and not hold.buy_orders
            else Cause(
                f"hold:{hold.limit}{':loss' if loses else ''}",
                _HELD["loss" if loses else hold.limit],
                "each with its ways on",
                AlertStep("Let all {n} go", act=True)
                if steps.get(hold.limit, see).act
                else AlertStep("See all {n}", go="/orders?state=held"),
                AlertStep("Let all {n} go", act=True) if hold.limit in LIFTED and not steps.get(hold.limit, see).act else None,
            )
            if hold.limit in _HELD
            else None,
        )


def _practice(store: int) -> Cause:
    return Cause(
        f"hold:practice:{store}",
        "{n} orders wait, since orders of their store are not bought yet",
        "what buying them would cost and leave is shown before anything is bought",
        AlertStep("See what would be bought", go=f"/setup/partners?out=orders&store={store}"),
    )


_HELD = {
    "practice": "{n} orders came before buying was turned on",
    "loss": "{n} orders would lose money",
    "least_profit": "{n} orders earn less than you ask",
    "spend_limit": "{n} orders wait at a limit of what is spent in a day",
    "too_late": "{n} orders would arrive later than promised",
    "unusual": "{n} orders ask for unusually many",
    "splits": "{n} orders would go in several parcels",
    "address": "{n} orders have an address that cannot be right",
    "look_over": "{n} orders wait to be looked over",
    "doubt": "{n} orders wait on a cost in doubt",
    "twice": "{n} orders were perhaps placed twice",
}


def _waits(context: Context, profit: int, since: datetime) -> int:
    return waiting_order(profit, int((context.now - since).total_seconds() // 3600), refund_cost(context))


def _refused_orders(context: Context) -> Iterator[Alert]:
    rows = context.session.execute(
        select(Order, OrderLine).join(OrderLine, OrderLine.order_id == Order.id).where(OrderLine.state == OrderLineState.refused)
    ).all()
    seen: set[int] = set()
    worth = exchange_rates.HomeWorth(context)
    earns = order_profit.likely(context, (order.id for order, _ in rows))
    for order, line in rows:
        if order.id not in seen:
            seen.add(order.id)
            lost = worth.of(earns.get(order.id, 0), order.currency)
            yield Alert(
                AlertKey("refused", order.id),
                "orders",
                "Refused",
                f"Order {order.number}: {line.title or line.sku_code} was refused",
                line.reason,
                order.came_at,
                AlertStep("See the ways on", go=f"/orders?state=refused&row={order.id}"),
                _waits(context, lost, order.came_at),
                cause=Cause(
                    f"refused:{hashlib.sha256(line.reason.encode()).hexdigest()[:10]}",
                    "{n} orders were refused",
                    line.reason,
                    AlertStep("See all {n}", go="/orders?state=refused"),
                ),
            )


def _unmapped_orders(context: Context) -> Iterator[Alert]:
    query = (
        select(
            OrderLine.sku_code,
            func.max(OrderLine.title),
            func.count(func.distinct(OrderLine.order_id)),
            func.sum(OrderLine.net_revenue),
            func.min(Order.came_at),
            func.max(OrderLine.sku_id),
            func.max(Order.currency),
        )
        .join(Order, Order.id == OrderLine.order_id)
        .where(OrderLine.state == OrderLineState.needs_lane)
        .group_by(OrderLine.sku_code)
    )
    rows = context.session.execute(by_index(query, OrderLine, "ix_order_line_state")).all()
    worth = exchange_rates.HomeWorth(context)
    for code, title, n, kept, since, sku_id, currency in rows:
        known = sku_id is not None
        yield Alert(
            AlertKey("lane", code),
            "lanes",
            "Unmapped",
            f"{n} order{'s' if n > 1 else ''} wait{'' if n > 1 else 's'} on {title or code}",
            "its SKU has no lane" if known else f"no listing has the SKU {code}",
            since,
            AlertStep("Choose its item", go=f"/lanes?sku={sku_id}")
            if known
            else AlertStep("See the orders", go="/orders?state=needs_lane"),
            _waits(context, worth.of(int(kept or 0) // 3, currency), since),
        )


def _unread(context: Context) -> Iterator[Alert]:
    """What a partner told that could not be read; an order among it may be lost, so it is not left to the log."""
    rows = context.session.scalars(
        select(AuditEntry)
        .where(AuditEntry.kind.in_(_UNREAD), AuditEntry.at > context.now - timedelta(days=7))
        .order_by(AuditEntry.id.desc())
        .limit(50)
    ).all()
    for row in {one.message: one for one in reversed(rows)}.values():
        station, words = _UNREAD[row.kind]
        risk = refund_cost(context) if row.kind == "order.unreadable" else 0
        yield Alert(
            AlertKey("unread", row.id),
            station,
            "Not read",
            row.message,
            row.reason or words,
            row.at,
            AlertStep("See it", go="/setup/log"),
            risk,
        )


_UNREAD = {
    "order.unreadable": ("orders", "it may be an order that nobody fills"),
    "item.refused": ("lanes", "these items cannot be chosen for a lane"),
    "listing.refused": ("price", "these listings are not watched"),
}


def _numbers(context: Context) -> Iterator[Alert]:
    for po in parcel_tracking.wrong_numbers(context):
        yield Alert(
            AlertKey("number", po.id),
            "transit",
            "Number",
            f"{po.reference}: its tracking number is wrong",
            po.message,
            po.answered_at or po.made_at,
            AlertStep("Enter the right one", go=f"/transit?show=numbers&row={po.id}"),
            0,
            cause=Cause(
                "numbers", "{n} tracking numbers are wrong", "each with its reason", AlertStep("See all {n}", go="/transit?show=numbers")
            ),
        )


def _bills(context: Context) -> Iterator[Alert]:
    """Bills that could not be taken, so that nobody knows what is to be paid."""
    for one in context.session.scalars(select(PurchaseOrder).where(HAS_BILL_FAULT)):
        if one.state not in (PurchaseState.sent, PurchaseState.accepted, PurchaseState.shipped):
            continue
        yield Alert(
            AlertKey("oddbill", one.id),
            "orders",
            "Bill",
            f"{one.reference}: {one.noted}",
            "what is planned counts until then",
            one.answered_at or one.made_at,
            AlertStep("See the order", go=f"/orders?state=all&row={one.order_id}"),
            0,
        )


def _parcels(context: Context) -> Iterator[Alert]:
    groups: dict[str, list[delivery_exceptions.Troubled]] = {}
    for one in delivery_exceptions.troubled(context):
        if delivery_exceptions.waits(context, one):
            groups.setdefault(one.trouble, []).append(one)
    for wrong, found in groups.items():
        n = len(found)
        yield Alert(
            AlertKey("parcels", wrong),
            "transit",
            "Late",
            f"{n} parcel{'s' if n > 1 else ''}: {delivery_exceptions.WORDS[wrong]}",
            _HELPS[wrong],
            min(one.since for one in found),
            AlertStep(f"Review {n}", go="/transit?show=trouble")
            if wrong not in _BY_KEY
            else AlertStep(_BY_KEY[wrong].format(n=n), act=True),
            sum(one.at_risk for one in found),
            count=n,
            other=AlertStep(f"Review {n}", go="/transit?show=trouble") if wrong in _BY_KEY else None,
        )


# What all parcels of a kind want done, and what one key does for all of them.
_HELPS = {
    "unmoved": "their suppliers made a label, and no carrier has them",
    "stuck": "the carrier said nothing for two days",
    "late": "tell the buyers before they ask",
    "returned": "send again, or refund",
    "elsewhere": "the carrier names another postcode than the buyer's",
}
_BY_KEY = {"unmoved": "Ask for {n}", "stuck": "Ask for {n}", "late": "Tell {n}"}


def help_parcels(context: Context, wrong: str) -> None:
    """One key for all parcels of a kind: the best step of each."""
    done = 0
    for one in delivery_exceptions.troubled(context):
        if one.trouble == wrong and delivery_exceptions.waits(context, one) and wrong in _BY_KEY:
            step = next(iter(delivery_exceptions.steps(context, one.parcel.id)), None)
            if step:
                delivery_exceptions.take_step(context, one.parcel.id, step.key)
                done += 1
    if not done:
        raise Conflict("none of these parcels needs it any more")


def _dearer(context: Context) -> Iterator[Alert]:
    """Bills above the plan, as long as something can be done about them."""
    worth = exchange_rates.HomeWorth(context)
    for purchase, more in cancellations.dearer(context):
        yield Alert(
            AlertKey("bill", purchase.id),
            "orders",
            "Dearer",
            f"{purchase.reference} is billed {show(more, purchase.currency)} above the plan",
            "it has not left yet: take it at that price, or ask the supplier to let it go and it is planned anew",
            purchase.answered_at or purchase.made_at,
            AlertStep("Take it at that price", act=True),
            worth.of(more, purchase.currency),
            False,
            "loss",
            other=AlertStep("Ask to let it go", act=True),
            cause=Cause(
                f"bill:{purchase.supplier_id}",
                "{n} purchase orders of one supplier are billed above the plan",
                "none has left yet: take them at those prices, or ask the supplier to let them go and they are planned anew",
                AlertStep("Take all {n} at those prices", act=True),
                AlertStep("Ask to let all {n} go", act=True),
            ),
        )


def _wishes(context: Context) -> Iterator[Alert]:
    """What buyers asked for after we had bought."""
    for order in context.session.scalars(select(Order).where(Order.wants != literal_column("''"))):
        paid = sum(
            context.session.scalars(
                select(OrderLine.total).where(OrderLine.order_id == order.id, OrderLine.state != OrderLineState.cancelled)
            )
        )
        yield Alert(
            AlertKey("wants", order.id),
            "orders",
            "Buyer",
            f"Order {order.number}: {order.wants_message}",
            order.buyer,
            order.came_at,
            AlertStep("See the order", go=f"/orders?state=all&row={order.id}")
            if order.wants == "cancel"
            else AlertStep("Done with it", act=True),
            refund_cost(context) if order.wants != "return" else exchange_rates.HomeWorth(context).of(paid, order.currency),
            False,
            "waits",
        )


def _letters(context: Context) -> Iterator[Alert]:
    for row, who in mailbox.to_read(context):
        yield Alert(
            AlertKey("letter", row.id),
            "orders",
            "Mail",
            f"{who} wrote: {row.subject or 'no subject'}",
            f"{row.message}. {row.body[:600]}",
            row.at,
            AlertStep("Look at it", go="/setup/ordering") if row.held else AlertStep("I have read it", act=True),
        )


_DUE = {
    "untaken": "take them out as a sheet, or let them go by mail",
    "silent": "nobody knows yet whether they will be sent",
    "unsent": "they were accepted, and have no tracking number",
}


def _overdue(context: Context) -> Iterator[Alert]:
    for one in overdue.overdue(context):
        see = AlertStep("See the orders", go=f"/orders?state=all&row={one.purchases[0].order_id}")
        hand = AlertStep("Take them out", go="/setup/partners")
        yield Alert(
            AlertKey(one.kind, one.supplier.id),
            "orders",
            "Hand over" if one.kind == "untaken" else "No answer" if one.kind == "silent" else "Not sent",
            overdue.message(one),
            _DUE[one.kind],
            one.since,
            hand if one.kind == "untaken" else AlertStep("Ask them", act=True) if one.mail else see,
            one.at_risk,
            count=len(one.purchases),
            other=see if one.mail and one.kind != "untaken" else None,
        )


@acts("parcels")
def _help(do: Doing) -> None:
    help_parcels(do.context, do.alert.key.about[0])


@acts("bill")
def _settle_bill(do: Doing) -> None:
    (cancellations.ask_dearer_back if do.other else cancellations.take_bill)(do.context, do.alert.key.about[0])


@acts(*overdue.KINDS)
def _ask_supplier(do: Doing) -> None:
    overdue.ask(do.context, do.alert.key.kind, do.alert.key.about[0])


@acts("letter")
def _letter_is_settled(do: Doing) -> None:
    mailbox.close_letter(do.context, do.alert.key.about[0])


@acts("wants")
def _wish_is_settled(do: Doing) -> None:
    cancellations.close_wish(do.context, do.alert.key.about[0])


@acts("hold")
def _let_it_go(do: Doing) -> None:
    orders.allow(do.context, do.alert.key.about[0], do.alert.message)


SOURCES: dict[str, Source] = {
    "bill": _dearer,
    "oddbill": _bills,
    "wants": _wishes,
    "letter": _letters,
    " ".join(overdue.KINDS): _overdue,
    "hold": _held_orders,
    "refused": _refused_orders,
    "lane": _unmapped_orders,
    "unread": _unread,
    "number": _numbers,
    "parcels": _parcels,
}
