"""Partners renamed, paused, disconnected and connected again, and deleted where they never did anything."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cache
from typing import Any

from sqlalchemy import Select, delete, func, select, update

from ...core.states import LaneCause, LaneState, ListingState, OrderLineState, OutboxState, ParcelState
from ...core.writing import grouped
from ...data.base import Base
from ...data.bulk import by_id
from ...data.files import FileRule
from ...data.lanes import Lane, LanePart
from ...data.orders import Order, OrderLine, PurchaseOrder
from ...data.outbox import AuditEntry, Outbox
from ...data.prices import Policy, PriceRule
from ...data.setup import Link, Partner
from ...data.shelf import Listing
from ...data.source import Item
from ...data.transit import Parcel
from ..base import portions, undoing
from ..base.context import Context
from ..base.errors import Conflict
from ..base.partner_identity import OWNERS, fresh_name
from ..mapping import bulk_changes, lane_states
from ..orders.routing import OPEN
from ..pricing import rollback
from ..printing import lane_prints
from ..purchasing import purchase_orders


@dataclass(frozen=True)
class Effect:
    """What disconnecting a partner does. listings: that stop following, or cannot be changed any more; lanes: that shut; spared: SKUs of
    them that another lane fills; orders: that wait for it; unsent: changes that it has not got; parcels: that are followed no more."""

    listings: int = 0
    lanes: int = 0
    spared: int = 0
    orders: int = 0
    unsent: int = 0
    parcels: int = 0
    deletable: bool = False


def _row(context: Context, owner: str, number: int, version: int | None) -> Partner:
    row: Partner = context.get_version(OWNERS[owner], number, version, owner)
    return row


def _count(context: Context, query: Select[Any]) -> int:
    return int(context.session.scalar(query) or 0)


def lanes_of_supplier(supplier: int) -> Select[Lane]:
    """Open lanes that need something of a supplier, kits too."""
    parts = select(LanePart.lane_id).join(Item, Item.id == LanePart.item_id).where(Item.supplier_id == supplier)
    return select(Lane).where(Lane.closed_at.is_(None), Lane.id.in_(parts))


def effect(context: Context, owner: str, number: int) -> Effect:
    """What disconnecting it would do now."""
    row = _row_of(context, owner, number)
    waits = ("waiting", "claimed", "unknown", "posted")
    unsent = _count(context, select(func.count()).select_from(Outbox).where(Outbox.target == f"{owner}:{number}", Outbox.state.in_(waits)))
    deletable = not _did_something(context, owner, row)
    if owner == "store":
        listings = _count(
            context, select(func.count()).where(Listing.store_id == number, Listing.state.in_((ListingState.live, ListingState.paused)))
        )
        waiting = select(func.count(OrderLine.order_id.distinct())).join(Order, Order.id == OrderLine.order_id)
        orders = _count(
            context,
            waiting.where(Order.store_id == number, OrderLine.state.in_((*OPEN, OrderLineState.bought, OrderLineState.with_supplier))),
        )
        return Effect(listings=listings, orders=orders, unsent=unsent, deletable=deletable)
    if owner == "supplier":
        lanes = lanes_of_supplier(number).subquery()
        used = select(lanes.c.sku_id).distinct()
        others = (Lane.closed_at.is_(None), Lane.state != LaneState.shut, Lane.id.not_in(select(lanes.c.id)), Lane.is_substitute.is_(False))
        spared = select(Lane.sku_id).where(Lane.sku_id.in_(used), *others).distinct()
        live = (Listing.state.in_((ListingState.live, ListingState.paused)), Listing.sku_id.in_(used), Listing.sku_id.not_in(spared))
        waiting = select(func.count(OrderLine.order_id.distinct())).where(
            OrderLine.state.in_(OPEN), OrderLine.lane_id.in_(select(lanes.c.id))
        )
        return Effect(
            listings=_count(context, select(func.count()).select_from(Listing).where(*live)),
            lanes=_count(context, select(func.count()).select_from(lanes).where(lanes.c.state != LaneState.shut)),
            spared=_count(context, select(func.count()).select_from(spared.subquery())),
            orders=_count(context, waiting),
            unsent=unsent,
            deletable=deletable,
        )
    if owner == "carrier":
        road = select(func.count()).where(Parcel.carrier_id == number, Parcel.state.in_((ParcelState.label, ParcelState.moving)))
        return Effect(parcels=_count(context, road), unsent=unsent, deletable=deletable)
    return Effect(unsent=unsent, deletable=deletable)


def _row_of(context: Context, owner: str, number: int) -> Partner:
    row: Partner = context.get(OWNERS[owner], number, owner)
    return row


def rename(context: Context, owner: str, number: int, version: int | None, name: str) -> str:
    """Another name for a partner; its code, which rules and sheets know it by, stays. Can be undone."""
    row: Any = _row(context, owner, number, version)
    name, old = fresh_name(context, owner, name, number), row.name
    if name == old:
        raise Conflict(f"it is called {old} already")
    row.name = name
    if owner == "carrier" and old not in row.also_called:
        # Suppliers go on naming it as they always did.
        row.also_called = [*row.also_called, old]
    message = f"{old} is called {name} now"
    context.log("partner.rename", f"{owner}:{number}", message, before={"owner": owner, "id": number, "name": old}, undo=True)
    context.session.flush()
    return message


def set_paused(context: Context, owner: str, number: int, version: int | None, paused: bool) -> str:
    """Pause a partner (nothing is read or written, all is kept), or let it go on. Can be undone."""
    row: Any = _row(context, owner, number, version)
    if row.ended_at is not None:
        raise Conflict(f"{row.name} is disconnected; connect it again first")
    if (row.paused_at is not None) == paused:
        raise Conflict(f"{row.name} is {'paused' if paused else 'at work'} already")
    row.paused_at = context.now if paused else None
    message = f"{row.name} is paused: nothing is read from it or written to it" if paused else f"{row.name} goes on"
    context.log("partner.pause", f"{owner}:{number}", message, after={"owner": owner, "id": number, "paused": paused}, undo=True)
    _go_on(context, owner, row, paused)
    return message


def _go_on(context: Context, owner: str, row: Partner, stopped: bool) -> None:
    """What follows at once when a partner stops or goes on: what is due is due now, and orders look for another way."""
    if not stopped:
        for name in ("next_read", "next_sweep", "next_ask"):
            if hasattr(row, name):
                setattr(row, name, context.now)
        context.session.execute(
            update(Outbox)
            .where(Outbox.target == f"{owner}:{row.id}", Outbox.state == OutboxState.waiting, Outbox.tries > 0)
            .values(after=context.now)
        )
    context.session.flush()
    if owner == "supplier":
        context.reroute()


def disconnect(context: Context, owner: str, number: int, version: int | None) -> str:
    """End a connection: nothing is read or written any more, a supplier's lanes shut, what is not bought yet there is planned anew.

    All that it ever did stays; it can be undone, or connected again later.
    """
    row: Any = _row(context, owner, number, version)
    if row.ended_at is not None:
        raise Conflict(f"{row.name} is disconnected already")
    row.ended_at = context.now
    message = f"{row.name} is disconnected"
    after = {"owner": owner, "id": number}
    if owner != "supplier":
        context.log("partner.end", f"{owner}:{number}", message, after=after, undo=True)
        context.session.flush()
        return message
    unsent = select(PurchaseOrder.reference).join(Outbox, Outbox.key == PurchaseOrder.reference)
    mine = (PurchaseOrder.supplier_id == number, Outbox.state == OutboxState.waiting, Outbox.tries == 0)
    references = list(context.session.scalars(unsent.where(*mine)))
    if references:
        purchase_orders.take_back(context, references)
    lanes = list(context.session.scalars(lanes_of_supplier(number).where(Lane.state != LaneState.shut).with_only_columns(Lane.id)))
    acts: dict[str, int] = {}
    body = {"message": message, "after": after, "parts": acts}
    if len(lanes) <= portions.AT_ONCE:
        _shut_ended(context, body, lanes)
        return message
    # The first portion is the act; the others follow it.
    parts = bulk_changes.by_sku(context, lanes)
    _shut_ended(replace(context, parts=acts), body, parts[0])
    portions.enter(context, "supplier.end", f"Shutting {grouped(len(lanes))} lanes of {row.name}", body, parts[1:], len(lanes), stops=False)
    return message


@portions.work("supplier.end")
def _shut_ended(context: Context, body: dict[str, Any], part: Sequence[int]) -> int:
    """Lanes of a supplier that was disconnected are shut."""
    lanes = [lane for lane in by_id(context.session, Lane, part).values() if lane.closed_at is None and lane.state != LaneState.shut]
    first = not (context.parts or {}).get("supplier.end")

    def shut() -> None:
        for lane in lanes:
            lane_states.move(lane, "shut", LaneCause.supplier_ended, "its supplier is disconnected")

    act = bulk_changes.in_one(context, "supplier.end", {lane.sku_id for lane in lanes}, lambda _: body["message"], change=shut)
    if first:
        after = body["after"]
        act.on, act.after = f"{after['owner']}:{after['id']}", {**(act.after or {}), **after}
    return len(lanes)


def resume_after_end(context: Context, act: AuditEntry) -> None:
    """Undo a disconnecting; a supplier's lanes stand as they did."""
    after = act.after or {}
    # A further portion of very many lanes says nothing of the partner itself.
    row: Any = _row_of(context, after["owner"], after["id"]) if "owner" in after else None
    if row is not None:
        if row.ended_at is None:
            raise Conflict(f"{row.name} is connected again already")
        row.ended_at, row.version = None, row.version + 1
        context.session.flush()
    if act.kind == "supplier.end":
        bulk_changes.put_back(context, act)
        # What it took off sale comes back at once, not when it was seen steady for a while; at the cost and stock of now.
        skus = {int(sku) for sku in (act.before or {})["lanes"]}
        rollback.as_before(context, act.id, skus)
        context.reprice(skus)
    if row is not None:
        _go_on(context, after["owner"], row, stopped=False)


def connect_again(context: Context, owner: str, number: int) -> str:
    """Take up a connection that was ended; whoever calls has asked it with its key. A supplier's lanes are opened again."""
    row: Any = _row_of(context, owner, number)
    if row.ended_at is None:
        return ""
    row.ended_at, row.version = None, row.version + 1
    message = f"{row.name} is connected again"
    context.session.flush()
    ended = lanes_of_supplier(number).where(Lane.cause == LaneCause.supplier_ended)
    lanes = list(context.session.scalars(ended)) if owner == "supplier" else []
    if len(lanes) > portions.AT_ONCE:
        context.log("partner.again", f"{owner}:{number}", message)
        bulk_changes.change_many(context, [lane.id for lane in lanes], "open", "its supplier is connected again")
    elif lanes:

        def reopen() -> None:
            for lane in lanes:
                lane_states.move(lane, "reopen", LaneCause.none, "")

        bulk_changes.in_one(
            context, "lane.many", {lane.sku_id for lane in lanes}, lambda _: f"{message}, {len(lanes)} lanes open", change=reopen
        )
    else:
        context.log("partner.again", f"{owner}:{number}", message)
    if owner == "supplier":
        lane_prints.check(context, context.session.scalars(lane_prints.of_supplier(number)))
    _go_on(context, owner, row, stopped=False)
    return message


# What is a partner's own, and goes with it when it is deleted.
_OWN = ("fee_row", "origin", "service", "buying_account", "token", "message_template")


def _did_something(context: Context, owner: str, row: Partner) -> bool:
    """Whether anything stands on it beside its own terms."""
    table = OWNERS[owner].__tablename__
    for other in Base.metadata.tables.values():
        if other.name in _OWN:
            continue
        for key in other.foreign_keys:
            if key.column.table.name == table and context.session.scalar(
                select(func.count()).select_from(other).where(key.parent == row.id).limit(1)
            ):
                return True
    said = select(FileRule.id).where(FileRule.owner == owner, FileRule.owner_id == row.id).limit(1)
    sent = select(Outbox.id).where(Outbox.target == f"{owner}:{row.id}").limit(1)
    return context.session.scalar(said) is not None or context.session.scalar(sent) is not None


def remove(context: Context, owner: str, number: int, version: int | None) -> str:
    """Delete a partner that never did anything. Cannot be undone."""
    row: Any = _row(context, owner, number, version)
    if _did_something(context, owner, row):
        raise Conflict(f"{row.name} has orders or listings here; disconnect it instead")
    tables = Base.metadata.tables
    if owner == "supplier":
        origins = select(tables["origin"].c.id).where(tables["origin"].c.supplier_id == number)
        context.session.execute(delete(tables["service"]).where(tables["service"].c.origin_id.in_(origins)))
    for name in _OWN:
        for key in tables[name].foreign_keys:
            if key.column.table.name == OWNERS[owner].__tablename__:
                context.session.execute(delete(tables[name]).where(key.parent == number))
    context.session.execute(delete(Link).where(Link.owner == owner, Link.owner_id == number))
    for rules in (PriceRule, Policy):
        if owner in ("store", "supplier"):
            context.session.execute(delete(rules).where(rules.scope == owner, rules.scope_key == row.code))
    context.session.delete(row)
    message = f"{row.name} is deleted; it had never done anything"
    context.log("partner.remove", f"{owner}:{number}", message)
    context.session.flush()
    return message


@cache
def _resting(table: Any) -> Select[int]:  # noqa: ANN401 - any table of partners
    return select(table.id).where(table.paused_at.is_not(None) | table.ended_at.is_not(None))


def set_apart(context: Context) -> set[str]:
    """Targets of the outbox that are paused or disconnected."""
    out = set()
    for owner, table in OWNERS.items():
        out |= {f"{owner}:{number}" for number in context.session.scalars(_resting(table))}
    return out


@undoing.undoes("partner.rename", whole=True)
def undo_partner_rename(context: Context, act: AuditEntry) -> None:
    was = undoing.before(act)
    rename(context, was["owner"], was["id"], None, was["name"])


@undoing.undoes("partner.pause", whole=True)
def undo_partner_pause(context: Context, act: AuditEntry) -> None:
    did = undoing.after(act)
    set_paused(context, did["owner"], did["id"], None, not did["paused"])


@undoing.undoes("partner.end", "supplier.end", whole=True)
def undo_partner_end(context: Context, act: AuditEntry) -> None:
    resume_after_end(context, act)
