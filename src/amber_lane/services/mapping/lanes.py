"""Lanes: opened, closed, put in order; and the items that might fill a SKU."""

from __future__ import annotations

import json
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from fractions import Fraction
from typing import Any

from sqlalchemy import func, select, update

from ...core.numbers import show_units
from ...core.states import LANE, ListingState, OrderLineState
from ...data.base import from_ms, to_ms
from ...data.bulk import by_id, in_chunks
from ...data.lanes import Lane, LanePart
from ...data.orders import OrderLine
from ...data.outbox import AuditEntry
from ...data.setup import Origin, Service, Store, Supplier
from ...data.shelf import Listing, Sku
from ...data.source import Item
from ..base import undoing
from ..base.context import Context
from ..base.errors import Conflict, Invalid, NotFound
from ..base.regional import place_of
from . import lane_states

# More of an item in one sale, or a larger pack, is a mistake of the hand.
UNITS_MOST = 1000


@dataclass(frozen=True)
class LaneItem:
    item: int
    units: Fraction


@dataclass(frozen=True)
class LaneRequest:
    """A lane to be opened. use: 0 = main; store None = for all stores; proof: what spoke for it.

    services: country -> service; instead: an allowed replacement, which goes after all others.
    """

    sku: int
    parts: Sequence[LaneItem]
    priority: int = 0
    store: int | None = None
    service: str | None = None
    services: Mapping[str, str] = field(default_factory=dict)
    starts: datetime | None = None
    ends: datetime | None = None
    is_substitute: bool = False
    match_evidence: dict[str, Any] | None = None


def open_lane(
    context: Context,
    sku_id: int,
    parts: Sequence[LaneItem],
    use: int = 0,
    store_id: int | None = None,
    service: str | None = None,
    by_itself: bool = True,
) -> Lane:
    """Open a lane to items, and follow what it means for prices, stock and waiting orders."""
    return open_requested(context, LaneRequest(sku_id, parts, use, store_id, service), by_itself)


@dataclass(frozen=True)
class CheckedRequest:
    """A lane that may be opened, with what was found for it. services: country -> service where it is not `service`."""

    sku: Sku
    items: Mapping[int, Item]
    supplier: int
    origin: int
    service: str
    services: dict[str, str]
    priority: int
    begun: bool


def check_request(context: Context, wish: LaneRequest) -> CheckedRequest:
    """Whether a lane may be opened, and where it would stand; writes nothing.

    Invalid when a supplier does not say where an item is sent from, or nothing is sent from there to the stores' countries.
    """
    sku = context.get(Sku, wish.sku, "SKU")
    items = _items_of(context, wish.parts)
    home = items[wish.parts[0].item]
    if home.origin_id is None:
        raise Invalid("the supplier does not say where this item is sent from")
    check_dates(context, wish.starts, wish.ends)
    code = wish.service or cheapest_service(context, home.origin_id, wish.store)
    _no_twin(context, sku, wish.parts, wish.store)
    services = {**_elsewhere(context, home.origin_id, code, wish.store), **wish.services}
    use = _last_place(context, wish.sku, wish.store, 99 if wish.is_substitute else wish.priority)
    begun = wish.starts is None or wish.starts <= context.now
    return CheckedRequest(sku, items, home.supplier_id, home.origin_id, code, services, use, begun)


def open_requested(context: Context, wish: LaneRequest, by_itself: bool = True) -> Lane:
    """Open a lane at its place of use (at most one after the last); lanes at that place and after move down one.

    by_itself False: it is part of something larger, which logs it and looks at its listings. Invalid as `check_request`.
    """
    asked = check_request(context, wish)
    sku, items, use = asked.sku, asked.items, asked.priority
    _make_room(context, wish.sku, wish.store, use)
    lane = Lane(
        sku_id=wish.sku,
        sku_code=sku.code,
        store_id=wish.store,
        supplier_id=asked.supplier,
        origin_id=asked.origin,
        service=asked.service,
        services=asked.services,
        priority=use,
        state=LANE.first,
        reason="not yet proven by a delivery",
        opened_at=context.now,
        opened_by=context.actor,
        starts=wish.starts,
        ends=wish.ends,
        begun=asked.begun,
        is_substitute=wish.is_substitute,
        match_evidence=wish.match_evidence,
        item_id=wish.parts[0].item,
        items=len(wish.parts),
    )
    context.session.add(lane)
    context.session.flush()
    _add_parts(context, lane, wish, items)
    if by_itself:
        names = ", ".join(f"{show_units(part.units.numerator, part.units.denominator)} × {items[part.item].number}" for part in wish.parts)
        what = "replacement allowed" if wish.is_substitute else "lane opened"
        act = context.log("lane.open", sku.code, f"{sku.code}: {what} to {names}", after={"lane": lane.id, "use": use}, undo=True)
        context.reprice([wish.sku], act=act.id)
        context.reroute()
    return lane


def _items_of(context: Context, parts: Sequence[LaneItem]) -> dict[int, Item]:
    if not parts:
        raise Invalid("a lane needs at least one item")
    items = by_id(context.session, Item, (part.item for part in parts))
    for part in parts:
        if part.item not in items:
            raise NotFound(f"there is no item {part.item}")
        if not 0 < part.units <= UNITS_MOST or part.units.denominator > UNITS_MOST:
            raise Invalid(f"units per sale must be more than 0 and at most {UNITS_MOST}, or one of a pack of at most {UNITS_MOST}")
        if items[part.item].origin_id is None:
            raise Invalid("the supplier does not say where this item is sent from")
    return items


def _add_parts(context: Context, lane: Lane, wish: LaneRequest, items: Mapping[int, Item]) -> None:
    """The items of a lane, each in its units; one that is sent from elsewhere by the cheapest service from there."""
    for part in wish.parts:
        item = items[part.item]
        away = item.origin_id != lane.origin_id
        context.session.add(
            LanePart(
                lane_id=lane.id,
                item_id=part.item,
                units_num=part.units.numerator,
                units_den=part.units.denominator,
                origin_id=item.origin_id if away else None,
                service=cheapest_service(context, item.origin_id or 0, wish.store) if away else "",
                cost_then=item.cost,
            )
        )
    context.session.flush()


def check_dates(context: Context, starts: datetime | None, ends: datetime | None) -> None:
    if ends and (ends <= context.now or (starts and ends <= starts)):
        raise Invalid("a lane must end after it begins, and not in the past", {"ends": "is not after its beginning"})


def cheapest_service(context: Context, origin_id: int, store_id: int | None) -> str:
    """The cheapest service from an origin to the country of the store (or of any store)."""
    lands = [row.country for row in context.session.scalars(select(Store)) if store_id in (None, row.id)] or [
        place_of(context.session).country
    ]
    code = context.session.scalar(
        select(Service.code).where(Service.origin_id == origin_id, Service.country.in_(lands)).order_by(Service.first).limit(1)
    )
    if code is None:
        origin = context.get(Origin, origin_id, "origin")
        raise Invalid(f"nothing is sent from {origin.name} to {' or '.join(sorted(set(lands)))}")
    return code


def ways_elsewhere(context: Context, origin_id: int, code: str, store_id: int | None) -> str:
    """The same as the database keeps it."""
    return json.dumps(_elsewhere(context, origin_id, code, store_id))


def _elsewhere(context: Context, origin_id: int, code: str, store_id: int | None) -> dict[str, str]:
    """Where a service does not go to a store's country, the cheapest one that does."""
    lands = set(context.session.scalars(select(Store.country))) if store_id is None else set()
    out: dict[str, str] = {}
    if len(lands) > 1:
        offered: dict[str, list[str]] = {}
        query = select(Service.country, Service.code).where(Service.origin_id == origin_id, Service.country.in_(lands))
        for land, one in context.session.execute(query.order_by(Service.first)):
            offered.setdefault(land, []).append(one)
        out = {land: codes[0] for land, codes in offered.items() if code not in codes}
    return out


def _no_twin(context: Context, sku: Sku, parts: Sequence[LaneItem], store_id: int | None) -> None:
    asked = {part.item for part in parts}
    if len(asked) != len(parts):
        raise Invalid("the same item is in this lane twice; give it once with all its units")
    for lane, items in lanes_of(context, sku.id):
        if lane.store_id == store_id and {part.item_id for part in items} == asked:
            raise Conflict(f"{sku.code} has a lane to this item already; change that one")


def _in_order(context: Context, sku_id: int, store_id: int | None) -> Sequence[Lane]:
    """Open lanes of one place, the last one first."""
    same = Lane.store_id.is_(None) if store_id is None else Lane.store_id == store_id
    return context.session.scalars(
        select(Lane).where(Lane.sku_id == sku_id, same, Lane.closed_at.is_(None)).order_by(Lane.priority.desc())
    ).all()


def _last_place(context: Context, sku_id: int, store_id: int | None, use: int) -> int:
    """A place in the order of use, which is never further than one after the last."""
    rows = _in_order(context, sku_id, store_id)
    return min(use, rows[0].priority + 1 if rows else 0)


def _make_room(context: Context, sku_id: int, store_id: int | None, use: int) -> None:
    """Free a place in the order of use."""
    rows = _in_order(context, sku_id, store_id)
    if any(row.priority == use for row in rows):
        for row in rows:
            if row.priority >= use:
                row.priority += 1
                row.version += 1
                context.session.flush()


def lanes_of(context: Context, sku_id: int) -> list[tuple[Lane, list[LanePart]]]:
    """A SKU's lanes that are in force, in order of use."""
    lanes = context.session.scalars(
        select(Lane).where(Lane.sku_id == sku_id, Lane.closed_at.is_(None)).order_by(Lane.priority, Lane.id)
    ).all()
    parts: dict[int, list[LanePart]] = {}
    for part in context.session.scalars(select(LanePart).where(LanePart.lane_id.in_([lane.id for lane in lanes]))):
        parts.setdefault(part.lane_id, []).append(part)
    return [(lane, parts.get(lane.id, [])) for lane in lanes]


def close_lane(context: Context, number: int, version: int, reason: str = "") -> Lane:
    """Take a lane out of use; those after it move up. Waiting orders are looked at again."""
    lane = context.get_version(Lane, number, version, "lane")
    if lane.closed_at is not None:
        raise Conflict("this lane is closed already")
    lane.closed_at = context.now
    context.session.flush()
    close_gaps(context, lane.sku_id, lane.store_id)
    sku = context.get(Sku, lane.sku_id, "SKU")
    act = context.log(
        "lane.close", sku.code, f"{sku.code}: lane closed", reason=reason, before={"lane": lane.id, "use": lane.priority}, undo=True
    )
    context.reprice([lane.sku_id], act=act.id)
    context.reroute()
    return lane


def usual_costs(context: Context, numbers: Collection[int]) -> None:
    """A person wants these lanes used: what their items cost now is as it should be."""
    context.session.flush()
    now = select(Item.cost).where(Item.id == LanePart.item_id).scalar_subquery()
    for chunk in in_chunks(numbers):
        parts = update(LanePart).where(LanePart.lane_id.in_(chunk)).values(cost_then=now)
        context.session.execute(parts, execution_options={"synchronize_session": False})


def without_any(context: Context, skus: Collection[int]) -> set[int]:
    """Those of some SKUs that have no lane to their own goods."""
    context.session.flush()
    bare = set(skus)
    for chunk in in_chunks(skus):
        laned = select(Lane.sku_id).where(Lane.sku_id.in_(chunk), Lane.closed_at.is_(None), Lane.is_substitute.is_(False))
        bare -= set(context.session.scalars(laned))
    return bare


def close_gaps(context: Context, sku_id: int, store_id: int | None) -> None:
    same = Lane.store_id.is_(None) if store_id is None else Lane.store_id == store_id
    for place, row in enumerate(
        context.session.scalars(select(Lane).where(Lane.sku_id == sku_id, same, Lane.closed_at.is_(None)).order_by(Lane.priority)).all()
    ):
        if row.priority != place:
            row.priority = place
            row.version += 1
            context.session.flush()


def reopen_lane(context: Context, number: int, use: int) -> Lane:
    """Bring a closed lane back to its place."""
    lane = context.get(Lane, number, "lane")
    if lane.closed_at is None:
        raise Conflict("this lane is open")
    sku = context.get(Sku, lane.sku_id, "SKU")
    parts = context.session.scalars(select(LanePart).where(LanePart.lane_id == number)).all()
    _no_twin(context, sku, [LaneItem(part.item_id, Fraction(part.units_num, part.units_den)) for part in parts], lane.store_id)
    use = _last_place(context, lane.sku_id, lane.store_id, use)
    _make_room(context, lane.sku_id, lane.store_id, use)
    lane.closed_at, lane.priority = None, use
    lane.version += 1
    context.session.flush()
    context.reprice([lane.sku_id])
    context.reroute()
    return lane


def change_lane(  # noqa: PLR0913 - the fields of a form, by name
    context: Context,
    number: int,
    version: int,
    units: Fraction | None = None,
    use: int | None = None,
    service: str | None = None,
    state: str | None = None,
    reason: str = "",
) -> Lane:
    """Change a lane's units (one item only), place, service or state (open, slow, shut)."""
    lane = context.get_version(Lane, number, version, "lane")
    if lane.closed_at is not None:
        raise Conflict("this lane is closed; open a new one")
    sku = context.get(Sku, lane.sku_id, "SKU")
    parts = context.session.scalars(select(LanePart).where(LanePart.lane_id == number)).all()
    before = as_it_is(context, lane)
    changes = []
    if units is not None and (parts[0].units_num, parts[0].units_den) != (units.numerator, units.denominator):
        if len(parts) > 1:
            raise Invalid("a kit's units are changed item by item; close the lane and open it anew")
        _items_of(context, [LaneItem(parts[0].item_id, units)])
        parts[0].units_num, parts[0].units_den = units.numerator, units.denominator
        changes.append(f"{show_units(units.numerator, units.denominator)} per unit sold")
    if service is not None and service != lane.service:
        if not context.session.scalar(select(Service.id).where(Service.origin_id == lane.origin_id, Service.code == service).limit(1)):
            raise Invalid(f"there is no service {service} from there", {"service": "is not offered from this origin"})
        lane.service = service
        changes.append(f"by {service}")
    if state is not None and state != lane.state:
        lane_states.say(lane, state, context.actor, reason)
        changes.append(state)
        if state == "open":
            usual_costs(context, [number])
    if use is not None and use != lane.priority:
        _move(context, lane, use)
        changes.append("main lane" if use == 0 else f"spare {use}")
    if not changes:
        return lane
    act = context.log("lane.change", sku.code, f"{sku.code}: lane is now {', '.join(changes)}", reason=reason, before=before, undo=True)
    context.session.flush()
    context.reprice([lane.sku_id], act=act.id)
    context.reroute()
    return lane


def _move(context: Context, lane: Lane, use: int) -> None:
    same = Lane.store_id.is_(None) if lane.store_id is None else Lane.store_id == lane.store_id
    rows = list(
        context.session.scalars(
            select(Lane).where(Lane.sku_id == lane.sku_id, same, Lane.closed_at.is_(None)).order_by(Lane.priority)
        ).all()
    )
    rows.remove(lane)
    rows.insert(min(use, len(rows)), lane)
    # Two steps, since no two lanes may hold one place even for a moment.
    for place, row in enumerate(rows):
        row.priority = 1000 + place
    context.session.flush()
    for place, row in enumerate(rows):
        row.priority = place
    context.session.flush()


def as_it_is(context: Context, lane: Lane) -> dict[str, Any]:
    parts = context.session.scalars(select(LanePart).where(LanePart.lane_id == lane.id).order_by(LanePart.id)).all()
    return {
        "lane": lane.id,
        "use": lane.priority,
        "service": lane.service,
        "state": lane.state,
        "reason": lane.reason,
        "cause": lane.cause,
        "units": [[part.units_num, part.units_den] for part in parts],
        "services": dict(lane.services or {}),
        "dates": [None if one is None else to_ms(one) for one in (lane.starts, lane.ends)],
    }


def read_ms(value: int | None) -> datetime | None:
    return None if value is None else from_ms(value)


def effect_of_opening(context: Context, sku: Sku) -> dict[str, int]:
    """What waits for a lane of this SKU: lines and orders."""
    lines = context.session.execute(
        select(func.count(), func.count(func.distinct(OrderLine.order_id))).where(
            OrderLine.sku_id == sku.id, OrderLine.state == OrderLineState.needs_lane
        )
    ).one()
    return {"lines": lines[0], "orders": lines[1]}


def supplier_names(context: Context) -> dict[int, str]:
    return dict(context.session.execute(select(Supplier.id, Supplier.name)).tuples().all())


@undoing.undoes("lane.close")
def undo_lane_close(context: Context, act: AuditEntry) -> None:
    reopen_lane(context, undoing.before(act)["lane"], undoing.before(act)["use"])


def sold_in(context: Context, sku: int) -> list[str]:
    """Names of the stores that a SKU is listed in."""
    mine = (Listing.sku_id == sku, Listing.state != ListingState.ended)
    return list(context.session.scalars(select(Store.name).join(Listing, Listing.store_id == Store.id).where(*mine).order_by(Store.id)))


def with_lane(context: Context, skus: Sequence[int]) -> set[int]:
    """Which of these SKUs have a lane of their own goods."""
    own = (Lane.sku_id.in_(skus), Lane.closed_at.is_(None), Lane.is_substitute.is_(False))
    return set(context.session.scalars(select(Lane.sku_id).where(*own)))
