"""Orders that may have been placed twice: the same buyer, address and SKU within a day."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import timedelta

from sqlalchemy import select

from ...core.states import OrderLineState
from ...data.bulk import in_chunks
from ...data.orders import Order, OrderLine
from ..base import house_days
from ..base.context import Context

WITHIN = timedelta(days=1)


def _who(order: Order) -> tuple[str, ...]:
    """Buyer and address as far as they say whose order it is; spaces and capitals make no other person."""
    address = order.address_override or order.address
    mark = (order.buyer, *(str(address.get(name) or "") for name in ("address_1", "postcode")), order.country)
    return tuple("".join(letter for letter in part.casefold() if letter.isalnum()) for part in mark)


def twins_of(context: Context, orders: Sequence[Order]) -> dict[int, tuple[int, str]]:
    """Orders that may repeat another one, with that one and the sentence; those that a person said are meant are left out."""
    asked = [order for order in orders if "twice" not in order.allowed and order.cancelled_at is None]
    if not asked:
        return {}
    skus = _skus(context, (order.id for order in asked))
    near: dict[tuple[str, ...], list[Order]] = {}
    for chunk in in_chunks({order.buyer for order in asked}):
        first = min(order.ordered_at for order in asked) - WITHIN
        rows = select(Order).where(Order.buyer.in_(chunk), Order.ordered_at >= first, Order.cancelled_at.is_(None))
        for row in context.session.scalars(rows.order_by(Order.ordered_at, Order.id)):
            near.setdefault(_who(row), []).append(row)
    several = {key: rows for key, rows in near.items() if len(rows) > 1}
    theirs = skus | _skus(context, (row.id for rows in several.values() for row in rows if row.id not in skus))
    found: dict[int, tuple[int, str]] = {}
    for order in asked:
        for other in several.get(_who(order), []):
            # Of a pair of which one was bought already, or that a person let go, the other one is asked about.
            mine = theirs.get(order.id, {})
            same = sorted(mine.keys() & theirs.get(other.id, {}).keys())
            if other.id != order.id and same and abs(other.ordered_at - order.ordered_at) <= WITHIN:
                at = house_days.clock_text(context, other.ordered_at)
                message = f"Perhaps ordered twice: {order.buyer} ordered {mine[same[0]]} in {other.number} too, at {at}"
                found[order.id] = (other.id, message)
                break
    return found


def _skus(context: Context, orders: Iterable[int]) -> dict[int, dict[str, str]]:
    """The SKUs of each order, by their letters without capitals."""
    out: dict[int, dict[str, str]] = {}
    for chunk in in_chunks(set(orders)):
        rows = select(OrderLine.order_id, OrderLine.sku_code).where(
            OrderLine.order_id.in_(chunk), OrderLine.state != OrderLineState.cancelled
        )
        for number, code in context.session.execute(rows):
            out.setdefault(number, {})[code.casefold()] = code
    return out
