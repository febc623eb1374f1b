"""Orders come in: each once, whatever comes twice; and what the buyer changes or cancels afterwards."""

from __future__ import annotations

import json
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from sqlalchemy import select

from ...connectors.protocols import StoreOrder, StoreOrderLine
from ...core import price
from ...core.money import Ints
from ...core.numbers import PPM, half_up
from ...core.price import NONE
from ...core.states import ORDER_LINE, OrderLineState
from ...data.base import day_ms, to_ms
from ...data.bulk import bulk_insert, in_chunks, quiet
from ...data.orders import Order, OrderLine
from ...data.setup import FeeRow, Store
from ...data.shelf import Listing, Sku
from ..base import journal_marks
from ..base.context import Context
from ..pricing.inputs import fee_of, fee_rows
from .cancellations import buyer_cancelled, end_hold, wants
from .holds import PARTS
from .order_profit import reserves
from .routing import OPEN, bought_parts, lines_of

MANY = 1000


def take_in(context: Context, store: Store, given: StoreOrder, came_by: str = "link") -> Order | None:
    """Take one order in; None where it is there already."""
    fresh = take_many(context, store, [given], came_by)
    return fresh[0] if fresh else None


def take_many(context: Context, store: Store, incoming: Iterable[StoreOrder], came_by: str = "link") -> list[Order]:
    """Take orders in, and return those that are new. One that is there already is changed or cancelled as the buyer wishes."""
    newest: dict[str, StoreOrder] = {}
    for one in incoming:
        # A page in the wrong order may tell of a cancelling first: what is cancelled stays so.
        if not (one.number in newest and newest[one.number].cancelled):
            newest[one.number] = one
    with quiet(len(newest) > MANY):
        return _take(context, store, newest, came_by)


def _take(context: Context, store: Store, newest: dict[str, StoreOrder], came_by: str) -> list[Order]:
    known: dict[str, Order] = {}
    for chunk in in_chunks(newest):
        rows = select(Order).where(Order.store_id == store.id, Order.number.in_(chunk))
        known |= {row.number: row for row in context.session.scalars(rows)}
    for number, order in known.items():
        _again(context, store, order, newest[number], came_by)
    fresh = [one for number, one in newest.items() if number not in known and not one.sent]
    if not fresh:
        context.session.flush()
        return []
    bulk_insert(context.session, Order, ORDER_COLUMNS, [_order_row(context, store, one, came_by) for one in fresh])
    made: dict[str, Order] = {}
    for chunk in in_chunks([one.number for one in fresh]):
        rows = select(Order).where(Order.store_id == store.id, Order.number.in_(chunk))
        made |= {row.number: row for row in context.session.scalars(rows)}
    lines = [
        _Given(made[one.number].id, line, place == 0, "cancelled" if one.cancelled else "new")
        for one in fresh
        for place, line in enumerate(one.lines)
    ]
    skus = _skus(context, lines)
    bulk_insert(context.session, OrderLine, LINE_COLUMNS, _line_rows(context, store, lines, skus))
    sold: dict[int, int] = {}
    for given in lines:
        if sku := skus.get(given.line.sku):
            sold[sku.id] = sold.get(sku.id, 0) + given.line.quantity
    _sold(context, store.id, sold)
    journal_marks.mark(context.session, (order.id for order in made.values()))
    context.session.flush()
    return [made[one.number] for one in fresh]


ORDER_COLUMNS = (
    "version", "store_id", "number", "buyer", "mail", "phone", "address", "country", "currency", "ordered_at", "came_at", "channel",
    "note", "promised_by", "allowed", "manual_release", "wants", "wants_message", "told",
)  # fmt: skip
LINE_COLUMNS = (
    "version", "order_id", "line_no", "sku_code", "sku_id", "title", "quantity", "paid", "state", "reason", "chosen_by",
    "shipping_paid", "discount", "tax_by", "tax", "store_fee", "payment_fee", "net_revenue", "reserve",
)  # fmt: skip


@dataclass(frozen=True)
class _Given:
    """A line as the store tells it, and whether it is its order's first."""

    order: int
    line: StoreOrderLine
    first: bool
    state: str = "new"


def _order_row(context: Context, store: Store, given: StoreOrder, came_by: str) -> tuple[Any, ...]:
    """In the order of ORDER_COLUMNS, as the database keeps it."""
    buyer, now = given.buyer, to_ms(context.now)
    promised = day_ms(given.promised_by) if given.promised_by else None
    told = sorted({name for line in given.lines for name in line.told})
    who = (buyer.name, buyer.email, buyer.phone, json.dumps(vars(buyer)), buyer.country.strip().upper(), given.currency)
    return (
        1,
        store.id,
        given.number,
        *who,
        min(to_ms(given.ordered_at), now),
        now,
        came_by,
        given.note,
        promised,
        "[]",
        False,
        "",
        "",
        json.dumps(told),
    )


def _skus(context: Context, lines: Iterable[_Given]) -> dict[str, Sku]:
    codes = {one.line.sku for one in lines}
    return {row.code: row for chunk in in_chunks(codes) for row in context.session.scalars(select(Sku).where(Sku.code.in_(chunk)))}


def _line_rows(context: Context, store: Store, lines: Sequence[_Given], skus: dict[str, Sku]) -> list[tuple[Any, ...]]:
    """In the order of LINE_COLUMNS."""
    out = []
    aside = reserves(context, {row.id for row in skus.values()})
    for given, kept in zip(lines, _keep(context, store, lines, skus), strict=True):
        one, sku = given.line, skus.get(given.line.sku)
        title = one.title or (sku.title if sku else "")
        paid = one.unit_price * one.quantity
        tax_by = "store" if one.tax_by == "store" else ""
        out.append(
            (
                *(1, given.order, one.line_no, one.sku, sku.id if sku else None, title, one.quantity, paid, given.state, "", "plan"),
                *(one.shipping_paid or 0, one.discount or 0, tax_by, *kept),
                half_up(paid * aside.get((store.id, sku.id), 0), PPM) if sku else 0,
            )
        )
    return out


def _keep(context: Context, store: Store, lines: Sequence[_Given], skus: dict[str, Sku]) -> list[tuple[int, ...]]:
    """What the store leaves us of each line (tax, fee, payment fee, kept): section 2 on what the buyer paid for it, sending and discount
    included, the payment's fixed part once an order; the tax as the store tells it, where it does."""
    fees = fee_rows(context.session)
    found = [fee_of(fees, store.id, sku.category if (sku := skus.get(one.line.sku)) else "") for one in lines]
    kept = keep_lines(store, found, [(one.line.quantity, one.line.total, one.first) for one in lines])
    return [
        (tax, fee, payment, left) if one.line.tax is None else (one.line.tax, fee, payment, left + tax - one.line.tax)
        for one, (tax, fee, payment, left) in zip(lines, kept, strict=True)
    ]


def keep_lines(store: Store, fees: Sequence[FeeRow | None], lines: Sequence[tuple[int, int, bool]]) -> list[tuple[int, ...]]:
    """Tax, fee, payment fee and what we keep of lines (quantity, paid, first of its order), all in minor units."""

    def column(values: Iterable[int]) -> Ints:
        return np.array(list(values), dtype=np.int64)

    n = len(lines)
    q = column(line[0] for line in lines)
    cap = column(NONE if fee is None or fee.cap is None else fee.cap for fee in fees)
    # Per line, least and cap and the fixed fee count for each unit; so they are taken times the quantity.
    terms = price.Terms(
        np.zeros(n, dtype=np.int64),
        np.zeros(n, dtype=np.int64),
        column(fee.percent if fee else 0 for fee in fees),
        column(fee.least if fee else 0 for fee in fees) * q,
        np.where(cap == NONE, NONE, np.where(cap == NONE, 0, cap) * q),
        column(fee.fixed if fee else 0 for fee in fees) * q,
        np.full(n, store.payment, dtype=np.int64),
        column(store.payment_fixed if line[2] else 0 for line in lines),
        np.full(n, store.tax_in_price, dtype=np.int64),
    )
    kept = price.proceeds(column(line[1] for line in lines), terms)
    return list(zip(kept.tax.tolist(), kept.fee.tolist(), kept.payment.tolist(), kept.profit.tolist(), strict=True))


def _sold(context: Context, store: int, sold: dict[int, int]) -> None:
    """The store counted these sales off what it shows, so what we believe it shows goes down too."""
    for chunk in in_chunks(sold):
        for listing in context.session.scalars(select(Listing).where(Listing.store_id == store, Listing.sku_id.in_(chunk))):
            listing.shown_quantity = max(listing.shown_quantity - sold[listing.sku_id], 0)
            listing.wanted_quantity = max(listing.wanted_quantity - sold[listing.sku_id], 0)


def _again(context: Context, store: Store, order: Order, given: StoreOrder, came_by: str = "link") -> None:
    """An order that is here already, as the store tells it now."""
    lines = lines_of(context, [order.id])[order.id]
    if given.cancelled:
        buyer_cancelled(context, order, lines)
        return
    if given.sent or not given.lines or order.cancelled_at is not None or order.erased_at is not None:
        return
    address = dict(vars(given.buyer))
    moved = {name for name, value in address.items() if str(value or "") != str(order.address.get(name) or "")}
    other = _differ(lines, given.lines)
    if not moved and not other:
        return
    bought = bought_parts(context.session, (line.id for line in lines))
    if all(line.state == OrderLineState.cancelled for line in lines):
        return
    now = [f"{PARTS.get(name, name)} is now {str(address[name] or 'empty')[:80]}" for name in sorted(moved)]
    changed = "; ".join([*now, *(f"{one} is another" for one in other)])
    if bought or any(line.state not in (*OPEN, OrderLineState.cancelled) for line in lines):
        if not other and not moved - {"email", "phone"}:
            order.mail, order.phone = given.buyer.email, given.buyer.phone
            return
        wants(context, order, "change", f"the buyer changed the order after it was bought: {changed}")
        return
    if moved:
        order.address, order.address_override = address, None
        order.buyer, order.mail, order.phone = given.buyer.name, given.buyer.email, given.buyer.phone
        order.country = given.buyer.country.strip().upper()
    if other:
        _take_lines(context, store, order, lines, given.lines)
    # What a person let pass was another order than this.
    order.allowed = []
    order.version += 1
    order.send_after = None
    who = "by a sheet" if came_by == "sheet" else "by the buyer"
    end_hold(context, order.id, f"changed {who}")
    context.log("order.changed", order.number, f"order {order.number} was changed {who}: {changed}")


def _differ(lines: Sequence[OrderLine], given: Sequence[StoreOrderLine]) -> list[str]:
    """What of the lines is told otherwise than we have it."""
    mine = {line.line_no: (line.sku_code, line.quantity, line.total) for line in lines if line.state != OrderLineState.cancelled}
    theirs = {one.line_no: (one.sku, one.quantity, one.total) for one in given}
    return [f"line {number}" for number in sorted({*mine, *theirs}) if mine.get(number) != theirs.get(number)]


def _take_lines(context: Context, store: Store, order: Order, lines: Sequence[OrderLine], given: Sequence[StoreOrderLine]) -> None:
    """The lines as they are told now; one that is told no more is cancelled."""
    mine = {line.line_no: line for line in lines}
    given_lines = [_Given(order.id, one, place == 0) for place, one in enumerate(given)]
    fresh = []
    for one, row in zip(given_lines, _line_rows(context, store, given_lines, _skus(context, given_lines)), strict=True):
        old = mine.pop(one.line.line_no, None)
        if old is None:
            fresh.append(row)
            continue
        for name, value in zip(LINE_COLUMNS[3:], row[3:], strict=True):
            setattr(old, name, value)
        old.lane_id = None
        old.version += 1
    bulk_insert(context.session, OrderLine, LINE_COLUMNS, fresh)
    for line in mine.values():
        if line.state != OrderLineState.cancelled:
            line.state, line.reason = ORDER_LINE.step(line.state, "cancel"), "the buyer took it out of the order"
            line.version += 1
    context.session.flush()
