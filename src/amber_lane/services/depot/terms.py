"""What a depot takes and asks, by its interface or a person's word; and what the house wishes of all of them."""

from __future__ import annotations

from dataclasses import asdict, dataclass, replace
from typing import Any

from sqlalchemy import select

from ...connectors.depot_protocol import DepotTold
from ...connectors.kinds import DEPOTS
from ...core.cartons import OWN_USE, CartonLimits, sscc
from ...core.currency import usual_amount
from ...data.depot import DepotTerms
from ...data.outbox import AuditEntry
from ...data.setup import Setting, Supplier
from ..base import undoing
from ..base.context import Context
from ..base.errors import Invalid
from ..base.regional import home_of

WISHES, SERIAL = "depot_wishes", "depot_sscc"
FIELDS = (
    "storage", "receive", "pick", "weight_most", "side_most", "value_most", "kinds", "carton_weight", "carton_sides", "days_low",
    "days_high", "room", "address",
)  # fmt: skip


@dataclass(frozen=True)
class DepotWishes:
    """service: of the days that it could be asked for, how many it shall be there, ppm; review: days between two looks; hold: what a year
    of holding costs, of the goods' cost, ppm; order_cost: of one load, minor units of the house's money; prefix: GS1; warn_to, warn_hours:
    who is written to when something has to be sent, and how often at most; budget: minor units of the house's money, None = any."""

    service: int = 950_000
    review: int = 7
    hold: int = 250_000
    order_cost: int = 0
    prefix: str = OWN_USE
    warn_to: tuple[str, ...] = ()
    warn_hours: int = 24
    budget: int | None = None


def depots(context: Context) -> list[Supplier]:
    rows = select(Supplier).where(Supplier.kind.in_(DEPOTS), Supplier.ended_at.is_(None)).order_by(Supplier.name)
    return list(context.session.scalars(rows))


def terms_of(context: Context, supplier: int) -> DepotTerms:
    """A depot's terms; those of a depot that nobody said anything of yet ask nothing."""
    row = context.session.scalar(select(DepotTerms).where(DepotTerms.supplier_id == supplier))
    if row is None:
        row = DepotTerms(
            supplier_id=supplier, storage=0, receive=0, pick=0, weight_most=0, side_most=0, value_most=0, kinds=[],
            carton_weight=20_000, carton_sides=[600, 400, 400], days_low=1, days_high=3, room=0, address={}, cursor="",
        )  # fmt: skip
        # A reading session keeps nothing.
        if context.session.info.get("write"):
            context.session.add(row)
            context.session.flush()
    return row


def take_told(context: Context, supplier: Supplier, told: DepotTold) -> None:
    """What a depot's interface says of itself."""
    row = terms_of(context, supplier.id)
    fresh = {**asdict(told), "kinds": list(told.kinds), "carton_sides": list(told.carton_sides), "address": asdict(told.address)}
    changed = [name for name in FIELDS if getattr(row, name) != fresh[name]]
    if not changed:
        return
    new = not row.address
    for name in changed:
        setattr(row, name, fresh[name])
    row.version += 1
    if not new:
        context.log(
            "depot.terms_told", supplier.name, f"{supplier.name} has other terms now: {', '.join(one.replace('_', ' ') for one in changed)}"
        )
    context.session.flush()


def set_terms(context: Context, supplier: int, version: int | None, given: dict[str, Any]) -> DepotTerms:
    """What a person says of a depot without an interface. Can be undone."""
    who = context.get(Supplier, supplier, "depot")
    row = terms_of(context, supplier)
    row = context.get_version(DepotTerms, row.id, version, "terms of a depot")
    before = {"supplier": supplier, **{name: getattr(row, name) for name in FIELDS}}
    sides = sorted((int(one) for one in given.get("carton_sides", row.carton_sides)), reverse=True)
    if len(sides) != 3 or min(sides) <= 0 or given.get("carton_weight", row.carton_weight) <= 0:
        raise Invalid("a carton has three sides and a weight above nought", {"carton_sides": "must be three lengths in mm"})
    for name in FIELDS:
        if name in given:
            setattr(row, name, sides if name == "carton_sides" else given[name])
    context.log("depot.terms", who.name, f"{who.name}: what it takes and asks", before=before, undo=True)
    context.session.flush()
    return row


@undoing.undoes("depot.terms")
def undo_terms(context: Context, act: AuditEntry) -> None:
    before = undoing.before(act)
    row = terms_of(context, before["supplier"])
    for name in FIELDS:
        setattr(row, name, before[name])
    row.version += 1


def limits_of(terms: DepotTerms) -> CartonLimits:
    a, b, c = terms.carton_sides
    return CartonLimits(terms.carton_weight, (a, b, c))


def wishes_of(context: Context) -> DepotWishes:
    row = context.session.scalar(select(Setting).where(Setting.name == WISHES))
    found = DepotWishes(**{**row.value, "warn_to": tuple(row.value["warn_to"])}) if row else DepotWishes()
    return found if found.order_cost else replace(found, order_cost=usual_amount(1500, home_of(context.session)))


def set_wishes(context: Context, wanted: DepotWishes) -> DepotWishes:
    """What the house wishes. Can be undone."""
    wrong = {}
    if not 500_000 <= wanted.service <= 999_000:
        wrong["service"] = "must be 50 to 99.9 %"
    if not 1 <= wanted.review <= 90:
        wrong["review"] = "must be 1 to 90 days"
    if not 0 <= wanted.hold <= 2_000_000:
        wrong["hold"] = "must be 0 to 200 %"
    if not 1 <= wanted.warn_hours <= 24 * 31:
        wrong["warn_hours"] = "must be 1 hour to 31 days"
    if wanted.order_cost < 0 or (wanted.budget is not None and wanted.budget < 0):
        wrong["order_cost"] = "cannot be below nought"
    bad = [one for one in wanted.warn_to if "@" not in one or len(one) > 200]
    if bad or len(wanted.warn_to) > 10:
        wrong["warn_to"] = f"{bad[0]!r} is not a mail address" if bad else "at most 10"
    try:
        sscc(wanted.prefix, 0)
    except ValueError as error:
        wrong["prefix"] = str(error)
    if wrong:
        raise Invalid("; ".join(f"{name.replace('_', ' ')} {message}" for name, message in wrong.items()), wrong)
    was = wishes_of(context)
    _put(context, asdict(wanted))
    context.log("depot.wishes", "depot", "what shall be held, and who is told", before=asdict(was), undo=True)
    return wanted


def _put(context: Context, value: dict[str, Any]) -> None:
    value = {**value, "warn_to": list(value["warn_to"])}
    row = context.session.scalar(select(Setting).where(Setting.name == WISHES))
    if row is None:
        context.session.add(Setting(name=WISHES, value=value))
    else:
        row.value = value
    context.session.flush()


@undoing.undoes("depot.wishes")
def undo_wishes(context: Context, act: AuditEntry) -> None:
    _put(context, undoing.before(act))


def next_sscc(context: Context, n: int) -> list[str]:
    """So many carton numbers that were never given out before."""
    prefix = wishes_of(context).prefix
    row = context.session.scalar(select(Setting).where(Setting.name == SERIAL))
    if row is None:
        row = Setting(name=SERIAL, value={})
        context.session.add(row)
    start = int(row.value.get(prefix, 1))
    row.value = {**row.value, prefix: start + n}
    context.session.flush()
    return [sscc(prefix, start + one) for one in range(n)]
