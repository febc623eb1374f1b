"""Orders: taken in once each, let past a limit, given another lane or address, or cancelled."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import asdict
from datetime import UTC, datetime, time
from typing import Any

import numpy as np
from sqlalchemy import select

from ..connectors.protocols import StoreOrder
from ..core import price
from ..core.address import faults
from ..core.ids import check_country
from ..core.price import NONE
from ..core.states import ORDER_LINE
from ..data.lanes import Lane
from ..data.orders import Hold, Order, OrderLine
from ..data.setup import Store
from ..data.shelf import Listing, Sku
from . import outbox
from .desk import Conflict, Desk, Invalid
from .facts import fee_of, fee_rows
from .order_limits import DOUBTS, LIFTED
from .planning import OPEN, bought_parts, lines_of, replan, step_line
from .respond import respond


def take_in(desk: Desk, store: Store, given: StoreOrder, came_by: str = "link") -> Order | None:
    """Take an order in. One that is there already changes nothing (None), but a cancelled one is stopped."""
    known = desk.s.scalar(select(Order).where(Order.store_id == store.id, Order.number == given.number))
    if known is not None:
        if given.cancelled:
            _stop_cancelled(desk, known)
        return None
    if given.sent:
        return None
    order = Order(
        store_id=store.id,
        number=given.number,
        buyer=given.buyer.name,
        mail=given.buyer.email,
        phone=given.buyer.phone,
        address=asdict(given.buyer),
        country=given.buyer.country.strip().upper(),
        currency=given.currency,
        ordered_at=min(given.ordered_at, desk.now),
        came_at=desk.now,
        came_by=came_by,
        note=given.note,
        promised_by=datetime.combine(given.promised_by, time(), UTC) if given.promised_by else None,
    )
    desk.s.add(order)
    desk.s.flush()
    skus = {row.code: row for row in desk.s.scalars(select(Sku).where(Sku.code.in_([line.sku for line in given.lines])))}
    fees = fee_rows(desk.s)
    for place, one in enumerate(given.lines):
        sku = skus.get(one.sku)
        line = OrderLine(
            order_id=order.id,
            line_no=one.line_no,
            sku_code=one.sku,
            sku_id=sku.id if sku else None,
            title=one.title or (sku.title if sku else ""),
            quantity=one.quantity,
            paid=one.unit_price * one.quantity,
            state="cancelled" if given.cancelled else "new",
        )
        keep_line(store, fee_of(fees, store.id, sku.category if sku else ""), line, first=place == 0)
        desk.s.add(line)
        if sku:
            _sold(desk, store.id, sku.id, one.quantity)
    desk.s.flush()
    return order


def take_page(desk: Desk, store: Store, told: Iterable[StoreOrder], cursor: str | None, unreadable: Sequence[str] = ()) -> list[Order]:
    """A page of orders and the cursor after it (None: it stays). Returns those that are new; what they need is planned.

    unreadable: orders that could not be read, each with why; a person is told of them.
    """
    for text in unreadable:
        desk.log("order.unreadable", store.name, f"{store.name}: {text}", why="look at it in the store; nothing else was held up")
    fresh = [order for one in told if (order := take_in(desk, store, one)) is not None]
    if cursor is not None:
        store.orders_cursor = cursor
    if fresh:
        after_sales(desk, fresh)
    return fresh


def keep_line(store: Store, fee: Any, line: OrderLine, first: bool) -> None:
    """What the store leaves us of a line: section 2 per unit sold, the payment's fixed part once an order."""

    def column(value: int) -> Any:
        return np.array([value], dtype=np.int64)

    q = line.quantity
    # Per line, least and cap and the fixed fee count for each unit; so they are taken times the quantity.
    terms = price.Terms(
        column(0),
        column(0),
        column(fee.percent if fee else 0),
        column(fee.least * q if fee else 0),
        column(NONE if fee is None or fee.cap is None else fee.cap * q),
        column(fee.fixed * q if fee else 0),
        column(store.payment),
        column(store.payment_fixed if first else 0),
        column(store.tax_in_price),
    )
    kept = price.keep(column(line.paid), terms)
    line.tax, line.store_fee, line.payment_fee, line.kept = (int(c[0]) for c in (kept.tax, kept.fee, kept.payment, kept.profit))


def _sold(desk: Desk, store: int, sku: int, quantity: int) -> None:
    """The store counted this sale off what it shows, so what we believe it shows goes down too."""
    listing = desk.s.scalar(select(Listing).where(Listing.store_id == store, Listing.sku_id == sku))
    if listing:
        listing.shown_quantity = max(listing.shown_quantity - quantity, 0)
        listing.wanted_quantity = max(listing.wanted_quantity - quantity, 0)


def _stop_cancelled(desk: Desk, order: Order) -> None:
    lines = lines_of(desk, [order.id])[order.id]
    bought = bought_parts(desk.s, (line.id for line in lines))
    stopped = [line for line in lines if line.state in ORDER_LINE.sources("cancel") and line.id not in bought]
    for line in stopped:
        step_line(line, "cancel", "the buyer cancelled at the store")
    if stopped:
        end_hold(desk, order.id, "cancelled by the buyer")
        desk.log("order.cancelled", order.number, f"order {order.number} was cancelled at the store")


def after_sales(desk: Desk, orders: Iterable[Order]) -> None:
    """What new orders mean: their lines are planned, and the listings of what was sold are looked at again."""
    numbers = [order.id for order in orders]
    if numbers:
        skus = {line.sku_id for lines in lines_of(desk, numbers).values() for line in lines if line.sku_id}
        desk.s.flush()
        replan(desk)
        respond(desk, skus, alone=True)


def end_hold(desk: Desk, order: int, way: str) -> None:
    row = desk.s.scalar(select(Hold).where(Hold.order_id == order, Hold.ended.is_(None)))
    if row:
        row.ended, row.way = desk.now, way


def allow(desk: Desk, number: int, why: str = "") -> Order:
    """A person's word that an order may go although it broke a limit that is theirs to set (profit, value, promise, quantity, split)."""
    order = desk.get(Order, number, "order")
    hold = desk.s.scalar(select(Hold).where(Hold.order_id == number, Hold.ended.is_(None)))
    if not hold or hold.limit not in LIFTED:
        raise Conflict("this order is not held by a limit that can be lifted; look at it again")
    order.lifted = True
    order.version += 1
    desk.log("order.allow", order.number, f"order {order.number} may go although: {hold.told}", why=why, after={"order": number}, undo=True)
    replan(desk)
    return order


def choose_lane(desk: Desk, line_id: int, lane_id: int | None) -> OrderLine:
    """A person's choice of lane for one line; the plan goes around it. None gives the choice back to the plan."""
    line = desk.get(OrderLine, line_id, "order line")
    if line.state not in OPEN:
        raise Conflict("this line is bought already, so its lane cannot change")
    if lane_id is not None:
        lane = desk.get(Lane, lane_id, "lane")
        if lane.sku_id != line.sku_id or lane.until is not None:
            raise Invalid("this lane does not fill that SKU")
    before = {"line": line_id, "lane": line.lane_id if line.chosen_by == "person" else None}
    line.lane_id, line.chosen_by = lane_id, "person" if lane_id else "plan"
    line.version += 1
    desk.log("order.lane", line.sku_code, f"{line.sku_code}: lane of an order line chosen by hand", before=before, undo=True)
    replan(desk)
    return line


def mend_address(desk: Desk, number: int, version: int, address: dict[str, str]) -> Order:
    """Mend a buyer's address; the one the buyer gave is kept beside it."""
    order = desk.get_version(Order, number, version, "order")
    try:
        country = check_country(address.get("country", ""))
    except ValueError as error:
        raise Invalid(str(error), {"country": str(error)}) from error
    lacking = {name: told for name, told in faults({**address, "country": country}).items() if not any(one in told for one in DOUBTS)}
    if lacking:
        raise Invalid("the address: " + "; ".join(f"{name} {told}" for name, told in lacking.items()), lacking)
    order.mended = {**order.address, **address, "country": country}
    order.country = country
    desk.log("order.address", order.number, f"address of order {order.number} mended", before=order.address, after=order.mended)
    replan(desk)
    return order


def cancel(desk: Desk, number: int, why: str = "") -> Order:
    """Cancel an order that is not bought, and tell the store to refund it. Cannot be undone: the buyer is told."""
    order = desk.get(Order, number, "order")
    lines = lines_of(desk, [number])[number]
    bought = bought_parts(desk.s, (line.id for line in lines))
    if any((line.state not in ORDER_LINE.sources("cancel") or line.id in bought) and line.state != "cancelled" for line in lines):
        raise Conflict("a part of this order is bought already; ask the supplier first")
    if all(line.state == "cancelled" for line in lines):
        raise Conflict("this order is cancelled already")
    for line in lines:
        if line.state != "cancelled":
            step_line(line, "cancel", why)
    end_hold(desk, number, "cancelled")
    if order.came_by == "link":
        outbox.put(
            desk, f"store:{order.store_id}", f"order:{number}", "cancel", f"cancel-{order.store_id}-{order.number}", {"order": order.number}
        )
    desk.log("order.cancel", order.number, f"order {order.number} cancelled and refunded", why=why)
    after_sales(desk, [order])
    return order
