"""SKUs that need a person in Lanes: without a lane, with none that works, or all of whose items are gone; what waits most comes first."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from sqlalchemy import ColumnElement, func, or_, select
from sqlalchemy.orm import InstrumentedAttribute

from ...core.numbers import PPM
from ...core.states import ListingState, OrderLineState
from ...data.base import by_index
from ...data.bulk import by_id, in_chunks
from ...data.lanes import IS_SHUT, Lane, LanePart, Rejection
from ...data.orders import Order, OrderLine
from ...data.shelf import IS_BARE, Listing, Sku
from ...data.source import Item
from ..base.context import Context
from ..pricing import exchange_rates
from .scope import of_scope

NO_LANE, SHUT, GONE = "no lane", "lane shut", "item gone"
WAITING = ("no_lane", "no_stock")


@dataclass(frozen=True)
class ToSettle:
    """One SKU. kind: no lane, lane shut, item gone; told: the reason in words; orders: how many wait, since when.

    waiting: what those orders leave us after the store's share, in the house's money; a_day: price x pace, in minor units.
    """

    sku: Sku
    kind: str
    message: str
    orders: int
    since: datetime | None
    waiting: int
    a_day: int
    refused: bool

    @property
    def rank(self) -> tuple[bool, bool, int, int, str]:
        return (not self.orders, self.refused, -self.waiting, -self.a_day, self.sku.code)


def to_settle(context: Context) -> list[ToSettle]:
    """All that need a person, orders first, then the dearest."""
    waits = _waiting(context)
    found: dict[int, tuple[str, str]] = dict.fromkeys(without_lane(context), (NO_LANE, "")) | _broken(context)
    skus = by_id(context.session, Sku, found)
    if context.scope.limited:
        mine = {
            sku
            for chunk in in_chunks(found)
            for sku in context.session.scalars(select(Sku.id).where(Sku.id.in_(chunk), of_scope(context.scope)))
        }
        found = {sku: kind for sku, kind in found.items() if sku in mine}
    offers: dict[int, tuple[int, bool]] = {}
    refused: set[int] = set()
    for chunk in in_chunks(found):
        prices = select(Listing.sku_id, func.max(Listing.wanted_price)).where(
            Listing.sku_id.in_(chunk), Listing.state != ListingState.ended
        )
        offers |= {sku: (int(price), True) for sku, price in context.session.execute(prices.group_by(Listing.sku_id))}
        refused |= set(context.session.scalars(select(Rejection.sku_id).where(Rejection.sku_id.in_(chunk)).distinct()))
    out = []
    for number, (kind, message) in found.items():
        sku = skus[number]
        orders, since, money = waits.get(number, (0, None, 0))
        price, listed = offers.get(number, (0, False))
        message = message or (
            "not on sale, but ordered" if not listed else "none fitted so far" if number in refused else "on sale, no lane"
        )
        out.append(ToSettle(sku, kind, message, orders, since, money, price * sku.pace // PPM, number in refused and kind == NO_LANE))
    return sorted(out, key=lambda one: one.rank)


def without_lane(context: Context, of: Sequence[int] | None = None) -> list[int]:
    """SKUs on sale, or in an order that waits, without any lane to their own goods. of: looked for among these alone."""

    def bare(of: InstrumentedAttribute[Any]) -> ColumnElement[bool]:
        laned = select(Lane.id).where(Lane.sku_id == of, Lane.closed_at.is_(None), Lane.is_substitute.is_(False))
        return ~laned.correlate(of.class_).exists()

    # A listing without a lane that works is one of few; whether its SKU has none at all is asked of these alone.
    on_sale = by_index(select(Listing.sku_id).where(IS_BARE, bare(Listing.sku_id)), Listing, "ix_listing_bare")
    ordered = select(OrderLine.sku_id).where(
        OrderLine.state == OrderLineState.needs_lane, OrderLine.sku_id.is_not(None), bare(OrderLine.sku_id)
    )
    if of is None:
        return sorted({*context.session.scalars(on_sale), *context.session.scalars(ordered)})
    chunks = list(in_chunks(of))
    some = {sku for chunk in chunks for sku in context.session.scalars(on_sale.where(Listing.sku_id.in_(chunk)))}
    some |= {sku for chunk in chunks for sku in context.session.scalars(ordered.where(OrderLine.sku_id.in_(chunk))) if sku}
    return sorted(some)


def _waiting(context: Context) -> dict[int, tuple[int, datetime, int]]:
    rows = context.session.execute(
        select(
            OrderLine.sku_id,
            Order.currency,
            func.count(func.distinct(OrderLine.order_id)),
            func.min(Order.ordered_at),
            func.sum(OrderLine.net_revenue),
        )
        .join(Order, Order.id == OrderLine.order_id)
        .where(or_(OrderLine.state == OrderLineState.needs_lane, (OrderLine.state == OrderLineState.held) & OrderLine.reason.in_(WAITING)))
        .group_by(OrderLine.sku_id, Order.currency)
    )
    worth, out = exchange_rates.HomeWorth(context), dict[int, tuple[int, datetime, int]]()
    for sku, currency, n, since, left in rows:
        if sku:
            had = out.get(sku, (0, since, 0))
            out[sku] = (had[0] + n, min(had[1], since), had[2] + worth.of(int(left or 0), currency))
    return out


def _broken(context: Context) -> dict[int, tuple[str, str]]:
    """SKUs with lanes of which none can be used: all shut, or all to items that are gone."""
    live = Lane.closed_at.is_(None) & Lane.is_substitute.is_(False)
    shut = by_index(select(Lane.sku_id).where(IS_SHUT, Lane.is_substitute.is_(False)), Lane, "ix_lane_shut")
    gone = select(Lane.sku_id).join(LanePart, LanePart.lane_id == Lane.id).join(Item, Item.id == LanePart.item_id)
    maybe = set(context.session.scalars(shut)) | set(context.session.scalars(gone.where(live, Item.offer == "gone")))
    on_sale: set[int] = set()
    for chunk in in_chunks(maybe):
        on_sale |= set(
            context.session.scalars(
                select(Listing.sku_id).where(Listing.sku_id.in_(chunk), Listing.state.in_((ListingState.live, ListingState.paused)))
            )
        )
    lanes: dict[int, list[tuple[bool, str, str]]] = {}
    for sku, _, state, reason, offer, number in _lanes_with_items(context, on_sale):
        lanes.setdefault(sku, []).append((state == "shut", reason, f"{number} is gone" if offer == "gone" else ""))
    out: dict[int, tuple[str, str]] = {}
    for sku, rows in lanes.items():
        if all(is_shut or is_gone for is_shut, _, is_gone in rows):
            first = rows[0]
            out[sku] = (SHUT, first[1] or "shut by hand") if first[0] else (GONE, first[2])
    return out


def _lanes_with_items(context: Context, skus: Iterable[int]) -> Iterable[tuple[int, int, str, str, str, str]]:
    """Lanes of SKUs in order of use, each with the worst of its items."""
    for chunk in in_chunks(skus):
        rows = context.session.execute(
            select(Lane.sku_id, Lane.id, Lane.state, Lane.reason, Item.offer, Item.number)
            .join(LanePart, LanePart.lane_id == Lane.id)
            .join(Item, Item.id == LanePart.item_id)
            .where(Lane.sku_id.in_(chunk), Lane.closed_at.is_(None), Lane.is_substitute.is_(False))
            .order_by(Lane.sku_id, Lane.priority, Lane.id, (Item.offer == "gone").desc())
        )
        last = 0
        for row in rows.tuples():
            if row[1] != last:
                last = row[1]
                yield row
