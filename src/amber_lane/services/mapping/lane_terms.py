"""When a lane is in force and how it is sent; and a person's word that it is right."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime
from fractions import Fraction
from typing import Any

from sqlalchemy import select

from ...core.numbers import show_units
from ...core.states import LaneCause
from ...data.bulk import by_id
from ...data.lanes import Lane, LanePart
from ...data.outbox import AuditEntry
from ...data.setup import Service
from ...data.shelf import Sku
from ..base import house_days, undoing
from ..base.context import Context
from ..base.errors import Conflict, Invalid
from . import lane_states
from .lanes import as_it_is, change_lane, check_dates, close_gaps, read_ms, usual_costs


def set_terms(
    context: Context, number: int, version: int, services: Mapping[str, str] | None, starts: datetime | None, ends: datetime | None
) -> Lane:
    """Set from when to when a lane is in force, and by which service it sends to single countries (None: as they are)."""
    lane = context.get_version(Lane, number, version, "lane")
    if lane.closed_at is not None:
        raise Conflict("this lane is closed; open a new one")
    sku = context.get(Sku, lane.sku_id, "SKU")
    if ends != lane.ends or starts != lane.starts:
        check_dates(context, starts, ends)
    before = as_it_is(context, lane)
    if services is not None:
        for land, code in services.items():
            offered = select(Service.id).where(Service.origin_id == lane.origin_id, Service.code == code, Service.country == land)
            if context.session.scalar(offered.limit(1)) is None:
                raise Invalid(f"there is no service {code} from there to {land}", {"services": f"{code} does not go to {land}"})
        lane.services = dict(services)
    lane.starts, lane.ends = starts, ends
    lane.begun = starts is None or starts <= context.now
    span = [f"from {house_days.day_text(context, starts)}" if starts else "", f"until {house_days.day_text(context, ends)}" if ends else ""]
    message = " ".join(one for one in span if one) or "without dates"
    ways = ", ".join(f"{code} to {land}" for land, code in sorted((lane.services or {}).items()))
    act = context.log("lane.change", sku.code, f"{sku.code}: lane {message}" + (f"; {ways}" if ways else ""), before=before, undo=True)
    context.session.flush()
    context.reprice([lane.sku_id], act=act.id)
    context.reroute()
    return lane


def confirm_lane(context: Context, number: int, version: int, units: Fraction | None = None) -> Lane:
    """A person says that a lane that was shut or doubted is right: it may be used, and its costs are taken as usual.

    units: how many make one unit sold, where that is another number now (of a lane with one item).
    """
    lane = context.get_version(Lane, number, version, "lane")
    if lane.closed_at is not None:
        raise Conflict("this lane is closed; open a new one")
    before = as_it_is(context, lane)
    sku = context.get(Sku, lane.sku_id, "SKU")
    was = lane.reason
    lane_states.move(lane, "say_open", LaneCause.confirmed, f"looked at and right, says {context.actor}")
    if units is not None and len(before["units"]) == 1:
        part = context.session.scalars(select(LanePart).where(LanePart.lane_id == number)).one()
        part.units_num, part.units_den = units.numerator, units.denominator
    usual_costs(context, [number])
    how = f"with {show_units(units.numerator, units.denominator)} per unit sold" if units else "as it is"
    act = context.log("lane.change", sku.code, f"{sku.code}: lane is right {how}", reason=was, before=before, undo=True)
    context.session.flush()
    context.reprice([lane.sku_id], act=act.id)
    context.reroute()
    return lane


def follow_dates(context: Context) -> int:
    """Lanes whose first day has come are in force; those whose last has gone are closed. Returns how many."""
    begun = context.session.scalars(select(Lane).where(Lane.closed_at.is_(None), Lane.begun.is_(False), Lane.starts <= context.now)).all()
    over = context.session.scalars(select(Lane).where(Lane.closed_at.is_(None), Lane.ends <= context.now)).all()
    for lane in begun:
        lane.begun = True
        lane.version += 1
    for lane in over:
        lane.closed_at = lane.ends
        lane.version += 1
        context.session.flush()
        close_gaps(context, lane.sku_id, lane.store_id)
    touched = {lane.sku_id for lane in (*begun, *over)}
    if touched:
        codes = sorted(one.code for one in by_id(context.session, Sku, touched).values())
        message = f"{len(begun)} lanes began, {len(over)} ended: {', '.join(codes[:3])}{' …' if len(codes) > 3 else ''}"
        context.log("lane.dates", "lanes", message, reason="their dates", count=len(begun) + len(over))
        context.session.flush()
        context.reprice(touched, alone=True)
        context.reroute()
    return len(begun) + len(over)


def restore_lane(context: Context, before: dict[str, Any]) -> None:
    """Undo a change of a lane."""
    lane = context.get(Lane, before["lane"], "lane")
    num, den = before["units"][0]
    single = len(before["units"]) == 1
    lane = change_lane(
        context,
        lane.id,
        lane.version,
        Fraction(num, den) if single else None,
        before["use"],
        before["service"],
        before["state"],
        before["reason"],
    )
    lane_states.put_back(lane, before["state"], before["reason"], before.get("cause", ""))
    if "dates" in before:
        set_terms(context, lane.id, lane.version, before["services"], *(read_ms(one) for one in before["dates"]))


def story(context: Context, lane: Lane, sku: Sku) -> list[str]:
    """What happened to a lane, newest first: who opened it and what was done to its SKU's lanes since."""
    rows = context.session.scalars(
        select(AuditEntry)
        .where(AuditEntry.on == sku.code, AuditEntry.kind.startswith("lane."), AuditEntry.at >= lane.opened_at)
        .order_by(AuditEntry.id.desc())
        .limit(12)
    )
    lines = [
        f"{house_days.moment_text(context, row.at, year=True)}: {row.message.removeprefix(f'{sku.code}: ')}, {row.who}" for row in rows
    ]
    return [*lines, f"{house_days.moment_text(context, lane.opened_at, year=True)}: opened by {lane.opened_by}"]


@undoing.undoes("lane.change", whole=True)
def undo_lane_change(context: Context, act: AuditEntry) -> None:
    restore_lane(context, undoing.before(act))
