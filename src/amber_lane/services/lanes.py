"""Lanes: opened, closed, put in order; and the items that might fill a SKU."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction
from typing import Any

from sqlalchemy import func, select

from ..core.money import show_units
from ..data.lanes import Lane, LanePart
from ..data.orders import OrderLine
from ..data.setup import Origin, Service, Store, Supplier
from ..data.shelf import Listing, Sku
from ..data.source import Item
from .desk import Conflict, Desk, Invalid, NotFound, by_id
from .planning import replan
from .respond import respond


@dataclass(frozen=True)
class Part:
    item: int
    units: Fraction


def open_lane(
    desk: Desk,
    sku_id: int,
    parts: Sequence[Part],
    use: int = 0,
    store_id: int | None = None,
    service: str | None = None,
    respond_now: bool = True,
) -> Lane:
    """Open a lane at place `use` (0 = main, at most one after the last); lanes at that place and after move down one.

    respond_now False: it is part of something larger, which logs it and looks at its listings.
    Invalid when its items are not of one supplier and origin, or nothing is sent from there to the store's country.
    """
    sku = desk.get(Sku, sku_id, "SKU")
    if not parts:
        raise Invalid("a lane needs at least one item")
    items = by_id(desk.s, Item, (part.item for part in parts))
    for part in parts:
        if part.item not in items:
            raise NotFound(f"there is no item {part.item}")
    places = {(item.supplier_id, item.origin_id) for item in items.values()}
    if len(places) != 1:
        raise Invalid("all items of a lane must be sent by one supplier from one place; open one lane for each")
    supplier_id, origin_id = places.pop()
    if origin_id is None:
        raise Invalid("the supplier does not say where this item is sent from")
    code = service or cheapest_service(desk, origin_id, store_id)
    _no_twin(desk, sku, parts, store_id)
    use = _make_room(desk, sku_id, store_id, use)
    lane = Lane(
        sku_id=sku_id,
        store_id=store_id,
        supplier_id=supplier_id,
        origin_id=origin_id,
        service=code,
        use=use,
        state="new",
        why="not yet proven by a delivery",
        opened_at=desk.now,
        opened_by=desk.who,
    )
    desk.s.add(lane)
    desk.s.flush()
    desk.s.add_all(
        LanePart(lane_id=lane.id, item_id=part.item, units_num=part.units.numerator, units_den=part.units.denominator) for part in parts
    )
    desk.s.flush()
    names = ", ".join(f"{show_units(part.units.numerator, part.units.denominator)} × {items[part.item].number}" for part in parts)
    if respond_now:
        act = desk.log("lane.open", sku.code, f"{sku.code}: lane opened to {names}", after={"lane": lane.id, "use": use}, undo=True)
        respond(desk, [sku_id], act=act.id)
        replan(desk)
    return lane


def cheapest_service(desk: Desk, origin_id: int, store_id: int | None) -> str:
    """The cheapest service from an origin to the country of the store (or of any store)."""
    lands = [row.country for row in desk.s.scalars(select(Store)) if store_id in (None, row.id)] or ["GB"]
    code = desk.s.scalar(
        select(Service.code).where(Service.origin_id == origin_id, Service.country.in_(lands)).order_by(Service.first).limit(1)
    )
    if code is None:
        origin = desk.get(Origin, origin_id, "origin")
        raise Invalid(f"nothing is sent from {origin.name} to {' or '.join(sorted(set(lands)))}")
    return code


def _no_twin(desk: Desk, sku: Sku, parts: Sequence[Part], store_id: int | None) -> None:
    asked = {part.item for part in parts}
    if len(asked) != len(parts):
        raise Invalid("the same item is in this lane twice; give it once with all its units")
    for lane, items in lanes_of(desk, sku.id):
        if lane.store_id == store_id and {part.item_id for part in items} == asked:
            raise Conflict(f"{sku.code} has a lane to this item already; change that one")


def _make_room(desk: Desk, sku_id: int, store_id: int | None, use: int) -> int:
    """Free a place in the order of use; the place, which is never further than one after the last."""
    same = Lane.store_id.is_(None) if store_id is None else Lane.store_id == store_id
    rows = desk.s.scalars(select(Lane).where(Lane.sku_id == sku_id, same, Lane.until.is_(None)).order_by(Lane.use.desc())).all()
    use = min(use, rows[0].use + 1 if rows else 0)
    if any(row.use == use for row in rows):
        for row in rows:
            if row.use >= use:
                row.use += 1
                row.version += 1
                desk.s.flush()
    return use


def lanes_of(desk: Desk, sku_id: int) -> list[tuple[Lane, list[LanePart]]]:
    """A SKU's lanes that are in force, in order of use."""
    lanes = desk.s.scalars(select(Lane).where(Lane.sku_id == sku_id, Lane.until.is_(None)).order_by(Lane.use, Lane.id)).all()
    parts: dict[int, list[LanePart]] = {}
    for part in desk.s.scalars(select(LanePart).where(LanePart.lane_id.in_([lane.id for lane in lanes]))):
        parts.setdefault(part.lane_id, []).append(part)
    return [(lane, parts.get(lane.id, [])) for lane in lanes]


def close_lane(desk: Desk, number: int, version: int, why: str = "") -> Lane:
    """Take a lane out of use; those after it move up. Waiting orders are looked at again."""
    lane = desk.get_version(Lane, number, version, "lane")
    if lane.until is not None:
        raise Conflict("this lane is closed already")
    lane.until = desk.now
    desk.s.flush()
    _close_gaps(desk, lane.sku_id, lane.store_id)
    sku = desk.get(Sku, lane.sku_id, "SKU")
    act = desk.log("lane.close", sku.code, f"{sku.code}: lane closed", why=why, before={"lane": lane.id, "use": lane.use}, undo=True)
    respond(desk, [lane.sku_id], act=act.id)
    replan(desk)
    return lane


def _close_gaps(desk: Desk, sku_id: int, store_id: int | None) -> None:
    same = Lane.store_id.is_(None) if store_id is None else Lane.store_id == store_id
    for place, row in enumerate(
        desk.s.scalars(select(Lane).where(Lane.sku_id == sku_id, same, Lane.until.is_(None)).order_by(Lane.use)).all()
    ):
        if row.use != place:
            row.use = place
            row.version += 1
            desk.s.flush()


def reopen_lane(desk: Desk, number: int, use: int) -> Lane:
    """Bring a closed lane back to its place."""
    lane = desk.get(Lane, number, "lane")
    if lane.until is None:
        raise Conflict("this lane is open")
    sku = desk.get(Sku, lane.sku_id, "SKU")
    parts = desk.s.scalars(select(LanePart).where(LanePart.lane_id == number)).all()
    _no_twin(desk, sku, [Part(part.item_id, Fraction(part.units_num, part.units_den)) for part in parts], lane.store_id)
    use = _make_room(desk, lane.sku_id, lane.store_id, use)
    lane.until, lane.use = None, use
    lane.version += 1
    desk.s.flush()
    respond(desk, [lane.sku_id])
    replan(desk)
    return lane


def change_lane(
    desk: Desk,
    number: int,
    version: int,
    units: Fraction | None = None,
    use: int | None = None,
    service: str | None = None,
    state: str | None = None,
    why: str = "",
) -> Lane:
    """Change a lane's units (one item only), place, service or state (open, slow, shut)."""
    lane = desk.get_version(Lane, number, version, "lane")
    if lane.until is not None:
        raise Conflict("this lane is closed; open a new one")
    sku = desk.get(Sku, lane.sku_id, "SKU")
    parts = desk.s.scalars(select(LanePart).where(LanePart.lane_id == number)).all()
    before: dict[str, Any] = {
        "lane": number,
        "use": lane.use,
        "service": lane.service,
        "state": lane.state,
        "units": [[part.units_num, part.units_den] for part in parts],
    }
    told = []
    if units is not None and (parts[0].units_num, parts[0].units_den) != (units.numerator, units.denominator):
        if len(parts) > 1:
            raise Invalid("a kit's units are changed item by item; close the lane and open it anew")
        parts[0].units_num, parts[0].units_den = units.numerator, units.denominator
        told.append(f"{show_units(units.numerator, units.denominator)} per unit sold")
    if service is not None and service != lane.service:
        if not desk.s.scalar(select(Service.id).where(Service.origin_id == lane.origin_id, Service.code == service).limit(1)):
            raise Invalid(f"there is no service {service} from there", {"service": "is not offered from this origin"})
        lane.service = service
        told.append(f"by {service}")
    if state is not None and state != lane.state:
        lane.state, lane.why = state, why or f"set by {desk.who}"
        told.append(state)
    if use is not None and use != lane.use:
        _move(desk, lane, use)
        told.append("main lane" if use == 0 else f"spare {use}")
    if not told:
        return lane
    act = desk.log("lane.change", sku.code, f"{sku.code}: lane is now {', '.join(told)}", why=why, before=before, undo=True)
    desk.s.flush()
    respond(desk, [lane.sku_id], act=act.id)
    replan(desk)
    return lane


def _move(desk: Desk, lane: Lane, use: int) -> None:
    same = Lane.store_id.is_(None) if lane.store_id is None else Lane.store_id == lane.store_id
    rows = list(desk.s.scalars(select(Lane).where(Lane.sku_id == lane.sku_id, same, Lane.until.is_(None)).order_by(Lane.use)).all())
    rows.remove(lane)
    rows.insert(min(use, len(rows)), lane)
    # Two steps, since no two lanes may hold one place even for a moment.
    for place, row in enumerate(rows):
        row.use = 1000 + place
    desk.s.flush()
    for place, row in enumerate(rows):
        row.use = place
    desk.s.flush()


def restore_lane(desk: Desk, before: dict[str, Any]) -> None:
    """Undo a change of a lane."""
    lane = desk.get(Lane, before["lane"], "lane")
    num, den = before["units"][0]
    single = len(before["units"]) == 1
    change_lane(desk, lane.id, lane.version, Fraction(num, den) if single else None, before["use"], before["service"], before["state"])


def effect_of_opening(desk: Desk, sku: Sku) -> dict[str, int]:
    """What waits for a lane of this SKU: lines and orders."""
    lines = desk.s.execute(
        select(func.count(), func.count(func.distinct(OrderLine.order_id))).where(
            OrderLine.sku_code == sku.code, OrderLine.state == "needs_lane"
        )
    ).one()
    return {"lines": lines[0], "orders": lines[1]}


def unmapped(desk: Desk) -> list[tuple[Sku, int]]:
    """SKUs on sale without any lane, with how many orders wait for each; those that orders wait for come first."""
    laned = select(Lane.sku_id).where(Lane.until.is_(None))
    waits = (
        select(OrderLine.sku_code, func.count(func.distinct(OrderLine.order_id)).label("n"))
        .where(OrderLine.state == "needs_lane")
        .group_by(OrderLine.sku_code)
        .subquery()
    )
    on_sale = select(Listing.sku_id).where(Listing.state.in_(("live", "paused")))
    rows = desk.s.execute(
        select(Sku, func.coalesce(waits.c.n, 0))
        .outerjoin(waits, waits.c.sku_code == Sku.code)
        .where(Sku.id.not_in(laned), Sku.id.in_(on_sale))
        .order_by(func.coalesce(waits.c.n, 0).desc(), Sku.code)
    ).all()
    return [(row[0], int(row[1])) for row in rows]


def supplier_names(desk: Desk) -> dict[int, str]:
    return dict(desk.s.execute(select(Supplier.id, Supplier.name)).tuples().all())
