"""What partners take and give: a store's fees and allowance, a supplier's origins, services, cut-off hours, holidays."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import asdict
from datetime import date
from typing import Any

from sqlalchemy import select

from ...connectors.protocols import Account, OriginTerms, ServiceTerms
from ...core.currency import show
from ...core.ids import check_country
from ...data.lanes import Lane
from ...data.outbox import AuditEntry
from ...data.setup import BY_SHEETS, Carrier, FeeRow, Origin, Service, Setting, Store, Supplier
from ...data.source import Item
from ..base import undoing
from ..base.context import Context
from ..base.errors import Conflict, Invalid
from ..fulfilment import carrier_names
from ..pricing.inputs import changed
from ..pricing.lane_columns import skus_of_supplier


def take_reported(context: Context, row: object, account: Account) -> None:
    """What a partner that has just been joined says of its own terms; what it does not say a person enters."""
    if isinstance(row, Store):
        for fee in account.fees or ():
            context.session.add(
                FeeRow(store_id=row.id, category=fee.category, percent=fee.percent, least=fee.least, cap=fee.cap, fixed=fee.fixed)
            )
        if not any(fee.category == "" for fee in account.fees):
            context.session.add(FeeRow(store_id=row.id, category=""))
        row.allowance_units, row.allowance_listings = account.allowance_units, account.allowance_listings
        row.carriers = list(account.carriers)
        send_to(context, row.country)
    elif isinstance(row, Supplier):
        row.tax, row.site = account.tax, account.site
    context.session.flush()
    if isinstance(row, (Store, Carrier)):
        carrier_names.match(context)


def send_to(context: Context, country: str) -> None:
    """A store in a country that suppliers by sheets do not send to yet: they send there as they do elsewhere, until told otherwise."""
    for origin in context.session.scalars(
        select(Origin).join(Supplier, Supplier.id == Origin.supplier_id).where(Supplier.kind.in_(BY_SHEETS))
    ):
        services = context.session.scalars(select(Service).where(Service.origin_id == origin.id).order_by(Service.id)).all()
        there = {one.code for one in services if one.country == country}
        for one in {one.code: one for one in reversed(services) if one.code not in there}.values():
            context.session.add(changed(one, {"id": None, "country": country}))
    context.session.flush()


def write_one_origin(context: Context, supplier: Supplier, first: int, following: int, days: int) -> None:
    """One origin with one service to each country that we sell to, for a supplier that tells us nothing itself."""
    lands = set(context.session.scalars(select(Store.country))) | {supplier.country}
    terms = [ServiceTerms("standard", "Standard", land, first, following, None, days, days, True) for land in sorted(lands)]
    write_origins(context, supplier, [OriginTerms("main", supplier.name, supplier.country, "16:00", 0, terms)])


def write_origins(context: Context, supplier: Supplier, origins: Sequence[OriginTerms]) -> None:
    """Origins and services as the supplier tells them; new ones enter, known ones follow."""
    known = {row.code: row for row in context.session.scalars(select(Origin).where(Origin.supplier_id == supplier.id))}
    for one in origins:
        row = known.get(one.code)
        if row is None:
            row = Origin(supplier_id=supplier.id, code=one.code, name=one.name, country=one.country, holidays=[])
            context.session.add(row)
        row.name, row.country, row.cut_off, row.handling = one.name, one.country, one.cut_off, one.handling
        row.return_address, row.holidays = one.return_address, list(one.holidays)
        context.session.flush()
        services = {(s.code, s.country): s for s in context.session.scalars(select(Service).where(Service.origin_id == row.id))}
        for term in one.services:
            service = services.get((term.code, term.country)) or Service(
                origin_id=row.id, code=term.code, country=term.country, weight_bands=[]
            )
            service.name, service.first, service.following, service.free_over = term.name, term.first, term.following, term.free_over
            service.days_low, service.days_high, service.tracked = term.days_low, term.days_high, term.tracked
            service.weight_bands = [list(band) for band in term.bands]
            context.session.add(service)
    context.session.flush()


def origins_of(context: Context, supplier: Supplier) -> list[OriginTerms]:
    """A supplier's origins and services as they stand."""
    services: dict[int, list[ServiceTerms]] = {}
    rows = select(Service).join(Origin, Origin.id == Service.origin_id).where(Origin.supplier_id == supplier.id)
    for one in context.session.scalars(rows.order_by(Service.country, Service.first, Service.code)):
        bands = tuple((int(up_to), int(first), int(more)) for up_to, first, more in one.weight_bands or [])
        services.setdefault(one.origin_id, []).append(
            ServiceTerms(
                one.code,
                one.name,
                one.country,
                one.first,
                one.following,
                one.free_over,
                one.days_low,
                one.days_high,
                one.tracked,
                bands,
            )
        )
    return [
        OriginTerms(o.code, o.name, o.country, o.cut_off, o.handling, services.get(o.id, []), o.return_address, tuple(o.holidays or ()))
        for o in context.session.scalars(select(Origin).where(Origin.supplier_id == supplier.id).order_by(Origin.id))
    ]


def follow_origins(context: Context, supplier: Supplier, origins: Sequence[OriginTerms]) -> None:
    """What a supplier tells of its sending; where that changed, prices follow. A cost that jumps beyond belief waits until it is
    told again the next time, as any other doubted figure does."""
    before = origins_of(context, supplier)
    doubts = _beyond_belief(before, origins, supplier.currency)
    kept = context.session.scalar(select(Setting).where(Setting.name == f"sending-doubted-{supplier.id}"))
    mark = {"message": [repr(one) for one in origins]}
    if doubts and (kept is None or kept.value != mark):
        if kept is None:
            context.session.add(Setting(name=f"sending-doubted-{supplier.id}", value=mark))
        else:
            kept.value = mark
        context.log(
            "origins.doubted", supplier.name, f"{supplier.name}: {doubts[0]}; not believed yet", reason="it counts once it is told again"
        )
        context.session.flush()
        return
    if kept is not None:
        context.session.delete(kept)
    write_origins(context, supplier, origins)
    context.session.flush()
    if before and origins_of(context, supplier) != before:
        act = context.log("origins.told", supplier.name, f"{supplier.name} sends on other terms now", reason="as its interface says")
        context.reprice(skus_of_supplier(context, supplier.id), act=act.id, alone=True)


def _beyond_belief(before: Sequence[OriginTerms], origins: Sequence[OriginTerms], currency: str) -> list[str]:
    """Services whose first unit costs less than a third or more than three times what it did."""
    was = {(o.code, s.code, s.country): s.first for o in before for s in o.services}
    out = []
    for origin in origins:
        for service in origin.services:
            old = was.get((origin.code, service.code, service.country), 0)
            if old and not old <= 3 * service.first <= 9 * old:
                out.append(f"{service.name} to {service.country} costs {show(service.first, currency)} instead of {show(old, currency)}")
    return out


def set_origins(context: Context, number: int, version: int | None, origins: Sequence[OriginTerms]) -> Supplier:
    """A supplier's origins and services as a person says them, all of them; prices follow. Can be undone."""
    supplier = context.get_version(Supplier, number, version, "supplier")
    before = [asdict(one) for one in origins_of(context, supplier)]
    _check(origins)
    gone = set(context.session.scalars(select(Origin.code).where(Origin.supplier_id == number))) - {one.code for one in origins}
    for origin in context.session.scalars(select(Origin).where(Origin.supplier_id == number, Origin.code.in_(gone))).all():
        used = context.session.scalar(select(Lane.id).where(Lane.origin_id == origin.id).limit(1))
        used = used or context.session.scalar(select(Item.id).where(Item.origin_id == origin.id).limit(1))
        if used:
            raise Conflict(f"{origin.name} cannot be taken away: items or lanes come from there")
        for service in context.session.scalars(select(Service).where(Service.origin_id == origin.id)).all():
            context.session.delete(service)
        context.session.delete(origin)
    context.session.flush()
    write_origins(context, supplier, origins)
    kept = {(one.code, service.code, service.country) for one in origins for service in one.services}
    rows = select(Service, Origin.code).join(Origin, Origin.id == Service.origin_id).where(Origin.supplier_id == number)
    for service, code in context.session.execute(rows).all():
        if (code, service.code, service.country) not in kept:
            context.session.delete(service)
    context.session.flush()
    act = context.log(
        "origins.change",
        supplier.name,
        f"{supplier.name}: {len(origins)} origin{'s' if len(origins) != 1 else ''}, {len(kept)} services",
        before={"supplier": number, "origins": before},
        undo=True,
    )
    context.reprice(skus_of_supplier(context, number), act=act.id)
    return supplier


def restore_origins(context: Context, before: dict[str, Any]) -> None:
    """Undo a change of origins and services."""
    parts = []
    for one in before["origins"]:
        services = [ServiceTerms(**{**service, "bands": tuple(map(tuple, service["bands"]))}) for service in one["services"]]
        parts.append(OriginTerms(**{**one, "services": services, "holidays": tuple(one["holidays"])}))
    set_origins(context, before["supplier"], None, parts)


def _check(origins: Sequence[OriginTerms]) -> None:
    """Invalid in plain words where terms cannot be used."""
    if not origins:
        raise Invalid("a supplier needs at least one place that it sends from")
    if len({one.code for one in origins}) != len(origins):
        raise Invalid("two origins have the same short name")
    for one in origins:
        if not one.code or not one.name:
            raise Invalid("an origin needs a short name and a name")
        if not re.fullmatch(r"([01]\d|2[0-3]):[0-5]\d", one.cut_off):
            raise Invalid(f"{one.name}: {one.cut_off!r} is not an hour such as 16:00")
        for day in one.holidays:
            try:
                date.fromisoformat(day)
            except ValueError:
                raise Invalid(f"{one.name}: {day!r} is not a day such as 2026-12-25") from None
        if len({(s.code, s.country) for s in one.services}) != len(one.services):
            raise Invalid(f"{one.name}: the same service stands twice for one country")
        for service in one.services:
            try:
                check_country(service.country)
            except ValueError as error:
                raise Invalid(f"{one.name}: {error}") from error
            if not service.code or not service.name or not 0 <= service.days_low <= service.days_high <= 120:
                raise Invalid(f"{one.name}, {service.country}: a service needs a name, and days from 0 to 120, the lower first")
            if min(service.first, service.following, *(b for band in service.bands for b in band[1:])) < 0:
                raise Invalid(f"{one.name}, {service.name}: amounts cannot be negative")


@undoing.undoes("origins.change", whole=True)
def undo_origins_change(context: Context, act: AuditEntry) -> None:
    restore_origins(context, undoing.before(act))
