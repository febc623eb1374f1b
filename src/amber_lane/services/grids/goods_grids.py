"""Long lists: filtered, sorted and paged by the database, and the same rows taken out as a sheet."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

import numpy as np
from sqlalchemy import Integer, Select, Text, and_, case, cast, false, func, literal_column, or_, select, type_coerce, union
from sqlalchemy.orm import aliased

from ...core.money import Ints
from ...core.states import OutboxState
from ...data.base import by_index
from ...data.bulk import in_chunks
from ...data.lanes import IS_KIT, Lane, LanePart
from ...data.outbox import AuditEntry, Outbox
from ...data.setup import Origin, Store, Supplier
from ...data.shelf import Listing, Sku
from ...data.source import Item
from ...data.watch import ListingDecision
from ..base.context import Context
from ..base.errors import Invalid
from .grid import GridQuery, GridSpec, Seeker, seeker
from .trade_grids import ORDER_STATES, ORDERS, PARCELS, states_of_orders

# Rows that are read at a time where all are wanted.
EVERY = 2000
# The lane that a listing's figures come from; where none works, the main one, with its state.
_other = aliased(Lane)
_main = (
    select(func.min(_other.id))
    .where(_other.sku_id == Listing.sku_id, _other.closed_at.is_(None), _other.priority == 0, _other.store_id.is_(None))
    .correlate(Listing)
    .scalar_subquery()
)
_used = and_(Lane.id == func.coalesce(Listing.lane_id, _main), Lane.closed_at.is_(None))
_moving = (
    select(Outbox.id)
    .where(
        Outbox.subject == "listing:" + cast(Listing.id, Text),
        Outbox.state.in_((OutboxState.waiting, OutboxState.claimed, OutboxState.unknown, OutboxState.posted)),
    )
    .correlate(Listing)
    .exists()
)
_dead = (
    select(Outbox.answer)
    .where(Outbox.subject == "listing:" + cast(Listing.id, Text), Outbox.state == OutboxState.dead)
    .order_by(Outbox.id.desc())
    .limit(1)
    .correlate(Listing)
    .scalar_subquery()
)
# A lane is one row, whatever it is made of and wherever its SKU is sold; it shows its first item and one of the listings.
_first_part = select(func.min(LanePart.id)).where(LanePart.lane_id == Lane.id).correlate(Lane).scalar_subquery()
_sold_by = (Listing.lane_id == Lane.id) & (Listing.sku_id == Lane.sku_id)
_lane_listing = select(func.min(Listing.id)).where(_sold_by).correlate(Lane).scalar_subquery()
_refused_ones = union(
    select(cast(func.substr(Outbox.subject, len("listing:") + 1), Integer)).where(
        Outbox.state == OutboxState.dead, Outbox.kind == "listing"
    ),
    select(Listing.id).where(Listing.message != literal_column("''")),
)
_SLIM_LISTINGS = (
    (select().select_from(Listing), frozenset({Listing.__table__})),
    (select().select_from(Listing).join(Sku, Sku.id == Listing.sku_id), frozenset({Listing.__table__, Sku.__table__})),
)


def _is_refused(yes: bool) -> Any:
    return Listing.id.in_(_refused_ones) if yes else Listing.id.not_in(_refused_ones)


def _of_kind(values: list[Any]) -> Any:
    kinds = {
        "replacement": Lane.is_substitute,
        "kit": and_(IS_KIT, Lane.is_substitute.is_(False)),
        "plain": and_(Lane.items == 1, Lane.is_substitute.is_(False)),
    }
    return or_(false(), *(kinds[value] for value in values if value in kinds))


def _found_listing(seek: Seeker, word: str) -> Any:
    return or_(Listing.sku_id.in_(seek.skus(word)), Listing.id.in_(seek.listings(word)))


def _found_response(seek: Seeker, word: str) -> Any:
    return or_(
        ListingDecision.listing_id.in_(select(Listing.id).where(_found_listing(seek, word))), ListingDecision.item_id.in_(seek.items(word))
    )


def _found_change(seek: Seeker, word: str) -> Any:
    """By its key, by the listing that it is about, or by what it says; what a listing's change says is its listing."""
    about = select("listing:" + cast(Listing.id, Text)).where(_found_listing(seek, word))
    says = (Outbox.kind != "listing") & seek.holds(type_coerce(Outbox.body, Text), word)
    return or_(seek.holds(Outbox.key, word), Outbox.subject.in_(about), says)


LISTS: dict[str, GridSpec] = {
    "shelf": GridSpec(
        select().select_from(Listing).join(Sku, Sku.id == Listing.sku_id).join(Store, Store.id == Listing.store_id),
        {
            "id": Listing.id,
            "sku": Sku.code,
            "title": Listing.title,
            "store": Store.name,
            "state": Listing.state,
            "paused_by": Listing.paused_by,
            "price": Listing.wanted_price,
            "currency": Listing.currency,
            "quantity": Listing.wanted_quantity,
            "profit": Listing.profit,
            "category": func.coalesce(func.nullif(Listing.category, ""), Sku.category),
            "version": Listing.version,
            "moving": _moving,
            "refused": func.coalesce(func.nullif(Listing.message, ""), _dead, ""),
            "differs": Listing.theirs.is_not(None),
            "pace": Sku.pace,
        },
        (Sku.code, Listing.title),
        {
            "state": Listing.state,
            "store": Store.id,
            "category": Sku.category,
            "refused": case((or_(Listing.message != "", _dead.is_not(None)), "yes"), else_="no"),
            "differs": case((Listing.theirs.is_not(None), "yes"), else_="no"),
        },
        (Listing.id.desc(),),
        slim=_SLIM_LISTINGS,
        seek=_found_listing,
        message={"refused": lambda values: or_(*(_is_refused(value == "yes") for value in values))},
    ),
    "listings": GridSpec(
        select()
        .select_from(Listing)
        .join(Sku, Sku.id == Listing.sku_id)
        .join(Store, Store.id == Listing.store_id)
        .outerjoin(Lane, _used)
        .outerjoin(Supplier, Supplier.id == Lane.supplier_id),
        {
            "id": Listing.id,
            "sku_id": Sku.id,
            "sku": Sku.code,
            "title": Listing.title,
            "store": Store.name,
            "state": Listing.state,
            "paused_by": Listing.paused_by,
            "price": Listing.wanted_price,
            "currency": Listing.currency,
            "quantity": Listing.wanted_quantity,
            "landed": Listing.landed,
            "profit": Listing.profit,
            "net": Listing.net,
            "supplier": Supplier.name,
            "lane_state": Lane.state,
            "set_by": Listing.set_by,
            "outcome": Listing.outcome,
            "pace": Sku.pace,
            "version": Listing.version,
            "hand_price": Listing.hand_price,
        },
        (Sku.code, Listing.title),
        {"state": Listing.state, "store": Store.code, "supplier": Supplier.code, "outcome": Listing.outcome},
        (Listing.id,),
        slim=_SLIM_LISTINGS,
        seek=_found_listing,
    ),
    "lanes": GridSpec(
        select()
        .select_from(Lane)
        .join(Sku, Sku.id == Lane.sku_id)
        .join(Supplier, Supplier.id == Lane.supplier_id)
        .join(Origin, Origin.id == Lane.origin_id)
        .join(LanePart, LanePart.id == _first_part)
        .join(Item, Item.id == Lane.item_id)
        .outerjoin(Store, Store.id == Lane.store_id)
        .outerjoin(Listing, Listing.id == _lane_listing),
        {
            "id": Lane.id,
            "version": Lane.version,
            "sku_id": Sku.id,
            "sku": Lane.sku_code,
            "title": Sku.title,
            "use": Lane.priority,
            "instead": Lane.is_substitute,
            "begun": Lane.begun,
            "state": Lane.state,
            "reason": Lane.reason,
            "supplier": Supplier.name,
            "store": Store.name,
            "origin": Origin.name,
            "service": Lane.service,
            "item_id": Item.id,
            "item": Item.number,
            "item_title": Item.title,
            "items": Lane.items,
            "units_num": LanePart.units_num,
            "units_den": LanePart.units_den,
            "cost": Item.cost,
            "cost_currency": Item.currency,
            "stock": Item.stock,
            "offer": Item.offer,
            "landed": Lane.landed,
            "profit": Lane.profit,
            "net": Listing.net,
            "price": Listing.wanted_price,
            "currency": Listing.currency,
            "opened_at": Lane.opened_at,
            "opened_by": Lane.opened_by,
        },
        (Sku.code, Sku.title, Item.number, Item.title),
        {
            "state": Lane.state,
            "supplier": Lane.supplier_id,
            "use": Lane.priority,
            "store": Lane.store_id,
            "kind": case((Lane.is_substitute, "replacement"), (Lane.items > 1, "kit"), else_="plain"),
            "by": case((func.json_extract(Lane.match_evidence, "$.alone"), "itself"), else_="person"),
        },
        # As the index stands, so that nothing is sorted.
        (Lane.priority, Lane.state, Lane.supplier_id, Lane.sku_id, Lane.id),
        Lane.closed_at.is_(None),
        slim=(
            (select().select_from(Lane), frozenset({Lane.__table__})),
            (select().select_from(Lane).join(Sku, Sku.id == Lane.sku_id), frozenset({Lane.__table__, Sku.__table__})),
            (select().select_from(Lane).join(Item, Item.id == Lane.item_id), frozenset({Lane.__table__, Item.__table__})),
        ),
        seek=lambda seek, word: or_(
            Lane.sku_id.in_(seek.skus(word)),
            Lane.id.in_(select(LanePart.lane_id).where(LanePart.item_id.in_(seek.items(word)))),
        ),
        message={"kind": _of_kind},
        by={
            "cost": (Item, "ix_item_cost"),
            "stock": (Item, "ix_item_stock"),
            "item": (Item, "ix_item_number"),
            "kind:kit": (Lane, "ix_lane_kit"),
        },
    ),
    "responses": GridSpec(
        select()
        .select_from(ListingDecision)
        .join(Listing, Listing.id == ListingDecision.listing_id)
        .join(Sku, Sku.id == Listing.sku_id)
        .join(Store, Store.id == Listing.store_id)
        .outerjoin(Item, Item.id == ListingDecision.item_id)
        .outerjoin(AuditEntry, AuditEntry.id == ListingDecision.audit_entry_id),
        {
            "id": ListingDecision.id,
            "at": ListingDecision.at,
            "kind": ListingDecision.kind,
            "state": ListingDecision.state,
            "listing": Listing.id,
            "sku": Sku.code,
            "title": Listing.title,
            "store": Store.name,
            "item": Item.number,
            "item_title": Item.title,
            "item_id": ListingDecision.item_id,
            "old_price": ListingDecision.old_price,
            "new_price": ListingDecision.new_price,
            "old_quantity": ListingDecision.old_quantity,
            "new_quantity": ListingDecision.new_quantity,
            "old_state": ListingDecision.old_state,
            "new_state": ListingDecision.new_state,
            "currency": Listing.currency,
            "set_by": ListingDecision.set_by,
            "outcome": ListingDecision.outcome,
            "sweep": ListingDecision.sweep_id,
            "act": ListingDecision.audit_entry_id,
            "cause": AuditEntry.message,
        },
        (Sku.code, Listing.title, Item.number),
        {
            "state": ListingDecision.state,
            "kind": ListingDecision.kind,
            "sweep": ListingDecision.sweep_id,
            "set_by": ListingDecision.set_by,
            "outcome": ListingDecision.outcome,
            "act": ListingDecision.audit_entry_id,
            "item": ListingDecision.item_id,
            "listing": ListingDecision.listing_id,
        },
        (ListingDecision.id.desc(),),
        slim=((select().select_from(ListingDecision), frozenset({ListingDecision.__table__})),),
        seek=_found_response,
    ),
    "orders": ORDERS,
    "parcels": PARCELS,
    "outbox": GridSpec(
        select().select_from(Outbox),
        {
            "id": Outbox.id,
            "key": Outbox.key,
            "target": Outbox.target,
            "body": type_coerce(Outbox.body, Text),
            "kind": Outbox.kind,
            "state": Outbox.state,
            "tries": Outbox.tries,
            "made_at": Outbox.made_at,
            "done_at": Outbox.done_at,
            "answer": Outbox.answer,
            "overtaken_by": Outbox.overtaken_by,
        },
        (Outbox.key, type_coerce(Outbox.body, Text)),
        {"state": Outbox.state, "kind": Outbox.kind, "target": Outbox.target},
        (Outbox.id.desc(),),
        slim=((select().select_from(Outbox), frozenset({Outbox.__table__})),),
        seek=_found_change,
    ),
    "acts": GridSpec(
        select().select_from(AuditEntry),
        {
            "id": AuditEntry.id,
            "at": AuditEntry.at,
            "who": AuditEntry.who,
            "kind": AuditEntry.kind,
            "on": AuditEntry.on,
            "message": AuditEntry.message,
            "reason": AuditEntry.reason,
            "undo": AuditEntry.undo,
            "before": AuditEntry.before,
            "after": AuditEntry.after,
        },
        (AuditEntry.message, AuditEntry.on, AuditEntry.who),
        {"kind": AuditEntry.kind, "who": AuditEntry.who, "person": AuditEntry.person_id},
        (AuditEntry.id.desc(),),
    ),
}


def _conditions(listed: GridSpec, wish: GridQuery, seek: Seeker) -> tuple[list[Any], list[Any], set[Any]]:
    """What rows a wish wants: for counting them and for walking them in order; and which columns that needs."""
    wheres: list[Any] = []
    in_order: list[Any] = []
    used: set[Any] = set()
    if listed.where is not None:
        wheres.append(listed.where)
    for word in wish.words.split()[:8]:
        if listed.seek:
            wheres.append(listed.seek(seek, word))
            continue
        wheres.append(or_(*(seek.holds(column, word) for column in listed.search)))
        used |= set(listed.search)
    for key, value in (wish.filters or {}).items():
        if key not in listed.filters:
            raise Invalid(f"this list cannot be filtered by {key}")
        column = listed.filters[key]
        values: list[Any] = value.split(",")
        try:
            values = [int(v) for v in values] if column.type.python_type is int else values
        except (ValueError, NotImplementedError):
            raise Invalid(f"{value!r} is not a value of {key}") from None
        if key in listed.message:
            wheres.append(listed.message[key](values))
            in_order.append(wheres[-1])
            continue
        wheres.append(column.in_(values))
        # A column told to be one value would have the database sort anew what its index holds in order.
        in_order.append((func.coalesce(column, "" if isinstance(values[0], str) else 0) if listed.seek else column).in_(values))
        used.add(column)
    return wheres, [*wheres[: len(wheres) - len(in_order)], *in_order], used


def _order(listed: GridSpec, wish: GridQuery) -> tuple[tuple[Any, ...], set[Any]]:
    if not wish.sort:
        return listed.order, set()
    if wish.sort not in listed.columns:
        raise Invalid(f"this list cannot be sorted by {wish.sort}")
    column = listed.columns[wish.sort]
    return (column.desc() if wish.down else column.asc(), *listed.order), {column}


def page(context: Context, name: str, wish: GridQuery) -> tuple[list[Any], int]:
    """One page of a list as rows, and how many there are in all."""
    listed = LISTS[name]
    wheres, in_order, used = _conditions(listed, wish, seeker(context))
    order, sorted_by = _order(listed, wish)
    limit, offset = max(wish.limit, 1), max(wish.offset, 0)
    full: Select[Any] = listed.source.add_columns(*(column.label(key) for key, column in listed.columns.items()))
    run = context.session.connection().execute
    number = listed.columns["id"]

    def counted(source: Any) -> int:
        return int(run(source.add_columns(func.count()).where(*wheres)).scalar() or 0)

    if not listed.slim:
        rows = run(full.where(*wheres).order_by(*order).limit(limit).offset(offset)).fetchall()
        return list(rows), counted(listed.source)
    narrow = _walked(listed, wish, _narrowest(listed, used | sorted_by))
    if wish.words and listed.seek:
        # Searching costs more than carrying the numbers of all that was found.
        ids = [row[0] for row in run(narrow.add_columns(number).where(*wheres).order_by(*order))]
        total, page_ids = len(ids), ids[offset : offset + limit]
    else:
        total = counted(_walked(listed, wish, _narrowest(listed, used), sort=False))
        page_ids = [row[0] for row in run(narrow.add_columns(number).where(*in_order).order_by(*order).limit(limit).offset(offset))]
    return of_ids(context, name, page_ids), total


def _walked(listed: GridSpec, wish: GridQuery, source: Any, sort: bool = True) -> Any:
    """A source with the index by which a wish walks it, if it has one of its own."""
    keys = [wish.sort] if sort and not wish.words else []
    keys += [f"{name}:{value}" for name, value in (wish.filters or {}).items()]
    found = next((listed.by[key] for key in keys if key in listed.by), None)
    return by_index(source, *found) if found else source


def _in_order(context: Context, name: str, wish: GridQuery) -> Ints:
    """The numbers of a whole list in the order that is wished."""
    listed = LISTS[name]
    wheres, in_order, used = _conditions(listed, wish, seeker(context))
    order, sorted_by = _order(listed, wish)
    source = _narrowest(listed, used | sorted_by) if listed.slim else listed.source
    rows = context.session.connection().execute(source.add_columns(listed.columns["id"]).where(*(in_order or wheres)).order_by(*order))
    return np.array([row[0] for row in rows], dtype=np.int64)


def ids(context: Context, name: str, wish: GridQuery) -> tuple[list[int], int]:
    """The numbers of a stretch of a list in its order, and how many rows fit in all."""
    found = _in_order(context, name, wish)
    start = max(wish.offset, 0)
    return found[start : start + max(wish.limit, 1)].tolist(), len(found)


def every(context: Context, name: str, wish: GridQuery) -> Iterator[Any]:
    """All rows of a list in its order, a few thousand held at a time."""
    numbers = _in_order(context, name, wish)
    for start in range(0, len(numbers), EVERY):
        yield from of_ids(context, name, numbers[start : start + EVERY].tolist())


def of_ids(context: Context, name: str, ids: Sequence[int]) -> list[Any]:
    """The rows of a list with these numbers, in their order."""
    listed = LISTS[name]
    full: Select[Any] = listed.source.add_columns(*(column.label(key) for key, column in listed.columns.items()))
    places = {one: place for place, one in enumerate(ids)}
    found: list[Any] = []
    for chunk in in_chunks(places):
        query = full.where(listed.columns["id"].in_(chunk), *(() if listed.where is None else (listed.where,)))
        found += context.session.connection().execute(query).fetchall()
    return sorted(found, key=lambda row: places[row._mapping["id"]])


def _narrowest(listed: GridSpec, used: set[Any]) -> Any:
    # What is told by a query of its own needs no more than the list's own table, which every source has.
    tables = {table for column in used for table in column._from_objects}
    return next((source for source, has in listed.slim if tables <= has), listed.source)


__all__ = ["LISTS", "ORDER_STATES", "GridQuery", "GridSpec", "ids", "of_ids", "page", "states_of_orders"]
