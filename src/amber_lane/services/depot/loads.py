"""Loads to a depot: goods become cartons with numbers, bought once from their supplier with the depot as address, or sent by us."""

from __future__ import annotations

import secrets
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, timedelta

from sqlalchemy import func, select

from ...connectors.depot_payloads import LoadPayload, NoticeCarton, NoticeLine, NoticePayload
from ...connectors.payloads import BoughtAddress, BoughtLine
from ...connectors.protocols import PurchaseAnswer
from ...core.books import allocate
from ...core.cartons import pack
from ...core.currency import show
from ...core.numbers import half_up
from ...core.permissions import Limit
from ...core.states import LOAD, LOAD_COMING, HeldState, InboundState
from ...core.writing import grouped
from ...data.bulk import by_id
from ...data.depot import HeldGoods, Inbound, InboundLine
from ...data.outbox import AuditEntry
from ...data.setup import UNCALLED, Origin, Service, Supplier
from ...data.source import Item
from ..base import house_days, undoing
from ..base.context import Context
from ..base.errors import Conflict, Invalid
from ..outbox import queue
from ..pricing.exchange_rates import HomeWorth
from ..pricing.inputs import NANO, Facts, NoRate
from ..pricing.person_limits import Part, count
from .costs import LoadCost, Want, load_cost, nano_between
from .pace import leads
from .terms import limits_of, next_sscc, terms_of

# A load's goods are never bought in more than that.
UNITS_MOST = 100_000
# A bill of more than so many times what was ordered for is taken for a slip.
FAR = 10
OLD = timedelta(days=120)


@dataclass(frozen=True)
class LoadLine:
    """Units of goods; cost: of one unit, minor units of the depot's money, only where we send it; lot and best-before where given."""

    held: int
    units: int
    cost: int | None = None
    lot: str = ""
    best_before: date | None = None


def plan(context: Context, depot: int, lines: Sequence[LoadLine], own: bool = False) -> Inbound:
    """Put a load together: cartons, their numbers, what it costs. Nothing goes out yet. own: we send it, nothing is bought.

    Invalid where the goods are bought from several suppliers, the depot has not agreed, or something fits into no carton.
    """
    supplier = context.get(Supplier, depot, "depot")
    goods = _goods_of(context, depot, lines)
    terms = terms_of(context, depot)
    wants = [_want(context, goods[line.held], line.units) for line in lines]
    source = None if own else _source_of(context, wants)
    n = int(context.session.scalar(select(func.count()).select_from(Inbound).where(Inbound.supplier_id == depot)) or 0)
    row = Inbound(
        supplier_id=depot,
        from_id=source.id if source else None,
        reference=f"{supplier.code}-{n + 1:04d}-{_mark()}",
        state=LOAD.first,
        made_at=context.now,
        currency=source.currency if source else supplier.currency,
        rate=NANO,
    )
    prices, costs = _money(context, row, supplier, source, wants, lines)
    try:
        cartons = pack(limits_of(terms), [want.boxed for want in wants])
    except ValueError as error:
        raise Invalid(_named(str(error), goods)) from error
    received = allocate(terms.receive * len(cartons), [want.units for want in wants])
    row.cartons = [
        {"sscc": number, "weight_g": one.weight_g, "holds": [list(pair) for pair in one.holds]}
        for number, one in zip(next_sscc(context, len(cartons)), cartons, strict=True)
    ]
    row.due = house_days.today(context) + timedelta(
        days=round(max(one.days for one in leads(context, list(goods.values()), {depot: terms}).values()))
    )
    context.session.add(row)
    context.session.flush()
    for nth, (line, want, price, cost, fee) in enumerate(zip(lines, wants, prices, costs, received, strict=True), 1):
        packs = 0 if own else want.packs
        context.session.add(
            InboundLine(
                inbound_id=row.id,
                held_id=line.held,
                line_no=nth,
                packs=packs,
                units=line.units,
                price=price,
                cost=cost + fee,
                lot=line.lot,
                best_before=line.best_before,
            )
        )
    context.session.flush()
    units = sum(line.units for line in lines)
    told = f"load {row.reference} to {supplier.name} put together: {units} units in {len(cartons)} carton{'' if len(cartons) == 1 else 's'}"
    context.log("load.plan", row.reference, told, after={"load": row.id}, undo=True)
    return row


def _goods_of(context: Context, depot: int, lines: Sequence[LoadLine]) -> dict[int, HeldGoods]:
    if not lines or len({line.held for line in lines}) < len(lines):
        raise Invalid("a load has goods, each once")
    goods = by_id(context.session, HeldGoods, (line.held for line in lines))
    for line in lines:
        held = goods.get(line.held)
        if held is None or held.supplier_id != depot:
            raise Invalid("these goods are not held by that depot")
        if held.state != HeldState.agreed:
            raise Invalid(f"the depot has not agreed to hold {held.number}")
        if not 0 < line.units <= UNITS_MOST:
            raise Invalid(f"{held.number}: send 1 to {grouped(UNITS_MOST)} units", {"units": f"must be 1 to {grouped(UNITS_MOST)}"})
        if line.units % held.inner:
            raise Invalid(
                f"{held.number} comes in packs of {held.inner}: send a whole number of them", {"units": f"must be packs of {held.inner}"}
            )
    return goods


def _named(message: str, goods: dict[int, HeldGoods]) -> str:
    key, _, rest = message.partition(":")
    held = goods.get(int(key)) if key.isdigit() else None
    return f"{held.number}:{rest}" if held else message


def _want(context: Context, held: HeldGoods, units: int) -> Want:
    item = context.get(Item, held.source_id or held.item_id or 0, "item")
    sides = (held.sides[0], held.sides[1], held.sides[2])
    return Want(held.id, item, units, held.source_num, held.source_den, held.weight_g, sides, held.inner, held.carton)


def _source_of(context: Context, wants: Sequence[Want]) -> Supplier:
    sources = {want.item.supplier_id for want in wants}
    if len(sources) > 1:
        raise Invalid("a load comes from one supplier: make one load for each")
    return context.get(Supplier, sources.pop(), "supplier")


def _money(
    context: Context, row: Inbound, depot: Supplier, source: Supplier | None, wants: Sequence[Want], lines: Sequence[LoadLine]
) -> tuple[list[int], list[int]]:
    """Prices of a pack in the supplier's money, and what each line costs in the depot's, its part of the freight in it."""
    if source is None:
        return [0] * len(lines), [(line.cost or 0) * line.units for line in lines]
    country = terms_of(context, depot.id).address.get("country") or depot.country
    facts = Facts.read(context.session)
    short = [w.item for w in wants if w.item.offer == "gone" or 0 <= w.item.stock < w.packs]
    if short:
        raise Invalid(f"{source.name} has only {max(short[0].stock, 0)} of {short[0].number}", {"units": "is more than the supplier has"})
    try:
        cost = load_cost(facts, source, list(wants), country)
    except NoRate as error:
        raise Invalid(f"there is no rate between {error} for what {source.name} asks: enter it under Price") from error
    nano = nano_between(HomeWorth(context), source.currency, depot.currency)
    if nano is None:
        raise Invalid(f"there is no rate between {source.currency} and {depot.currency}: enter it under Price")
    if cost.service is None or cost.origin is None:
        raise Invalid(f"{source.name} sends no load of that weight to {country}: make it smaller, or say how it sends under Set-up")
    row.origin_id, row.service, row.goods, row.freight, row.rate = cost.origin.id, cost.service.code, sum(cost.goods), cost.freight, nano
    return cost.prices, turned(cost, nano)


def turned(cost: LoadCost, nano: int) -> list[int]:
    """Goods and freight by line in the depot's money; together exactly what the whole is worth."""
    shares = [goods + part for goods, part in zip(cost.goods, allocate(cost.freight, cost.goods), strict=True)]
    whole = (2 * sum(shares) * nano + NANO) // (2 * NANO)
    return allocate(whole, shares)


def order(context: Context, number: int, version: int | None = None) -> Inbound:
    """Buy a load from its supplier, once, with the depot as address, and tell the depot; or send it ourselves. Can be taken back until
    it has gone out."""
    _count(context, [context.get(Inbound, number, "load")])
    return _order(context, number, version)


def _count(context: Context, rows: Sequence[Inbound]) -> None:
    """What loads cost, towards the day's limit of whoever buys them."""
    parts = [Part(row.id, row.reference, row.goods + row.freight, row.currency) for row in rows if row.from_id is not None]
    if parts:
        count(context, Limit.SPEND, "buy " + (f"{len(parts)} loads" if len(parts) > 1 else f"load {parts[0].name}"), parts)


def _order(context: Context, number: int, version: int | None = None) -> Inbound:
    row = context.get_version(Inbound, number, version, "load")
    depot = context.get(Supplier, row.supplier_id, "depot")
    lines = lines_of(context, row.id)
    if row.from_id is None:
        row.state, row.ordered_at, row.left_at = LOAD.step(row.state, "leave"), context.now, context.now
        context.log("load.sent", row.reference, f"load {row.reference} is on its way to {depot.name}")
    else:
        source = context.get(Supplier, row.from_id, "supplier")
        row.state, row.ordered_at = LOAD.step(row.state, "order"), context.now
        queue.put(context, f"supplier:{source.id}", f"load:{row.id}", row.reference, _payload(context, row, depot, lines))
        told = f"load {row.reference} bought from {source.name}, {show(row.goods + row.freight, row.currency)}"
        context.log("load.order", row.reference, told, after={"load": row.id}, undo=True)
    _notify(context, row, depot, lines, f"notice-{row.reference}-{row.version}")
    return row


def _payload(context: Context, row: Inbound, depot: Supplier, lines: Sequence[InboundLine]) -> LoadPayload:
    address = terms_of(context, depot.id).address
    if not address:
        raise Invalid(f"say first where {depot.name} takes goods in", {"address": "is not known"})
    goods = by_id(context.session, HeldGoods, (line.held_id for line in lines))
    items = by_id(context.session, Item, (goods[line.held_id].source_id or 0 for line in lines))
    origin = context.get(Origin, row.origin_id or 0, "origin")
    return LoadPayload(
        reference=row.reference,
        origin=origin.code,
        service=row.service,
        address=BoughtAddress(**{name: value for name, value in address.items() if value}),
        lines=tuple(
            BoughtLine(line_no=line.line_no, item=items[goods[line.held_id].source_id or 0].number, quantity=line.packs) for line in lines
        ),
        note=f"Load {row.reference} for {depot.name}: please stick on the carton labels that we send you.",
    )


def _notify(context: Context, row: Inbound, depot: Supplier, lines: Sequence[InboundLine], key: str, gone: bool = False) -> None:
    """Tell a depot with an interface what will come; or that it will not."""
    if depot.kind in UNCALLED:
        return
    goods = by_id(context.session, HeldGoods, (line.held_id for line in lines))
    mine = {line.held_id: line for line in lines}
    cartons = tuple(
        NoticeCarton(
            sscc=one["sscc"],
            weight_g=max(one["weight_g"], 1),
            lines=tuple(
                NoticeLine(goods=goods[held].number, units=units, lot=mine[held].lot, best_before=mine[held].best_before)
                for held, units in one["holds"]
            ),
        )
        for one in row.cartons
    )
    sender = "own" if row.from_id is None else context.get(Supplier, row.from_id, "supplier").name
    payload = NoticePayload(reference=row.reference, sender=sender, cartons=() if gone else cartons)
    queue.put(context, f"supplier:{depot.id}", f"notice:{row.id}", key, payload)


def taking_in(row: Inbound, lines: Sequence[InboundLine]) -> int:
    """What a depot takes for taking a load in, minor units of its money: what the lines cost beside goods and freight."""
    asked = row.billed if row.billed is not None and row.counted_at is not None else row.goods + row.freight
    return sum(line.cost for line in lines) - half_up(asked * row.rate, NANO)


def lines_of(context: Context, load: int) -> list[InboundLine]:
    return list(context.session.scalars(select(InboundLine).where(InboundLine.inbound_id == load).order_by(InboundLine.line_no)))


def left(context: Context, number: int, version: int | None, tracking: str) -> Inbound:
    """A supplier without an interface has sent a load, by a person's word."""
    row = context.get_version(Inbound, number, version, "load")
    source = context.get(Supplier, row.from_id or 0, "supplier")
    if source.kind not in UNCALLED:
        raise Conflict(f"{source.name} tells by its interface when it has sent it")
    row.state, row.left_at, row.tracking = LOAD.step(row.state, "leave"), context.now, tracking.strip()[:100]
    context.log("load.left", row.reference, f"{source.name} has sent load {row.reference}")
    return row


@undoing.undoes("load.order")
def undo_order(context: Context, act: AuditEntry) -> None:
    """As long as its purchase order has not gone out; the depot is told that it does not come."""
    row = context.get(Inbound, undoing.after(act)["load"], "load")
    queue.stop(context, row.reference)
    row.state, row.ordered_at = LOAD.step(row.state, "take_back"), None
    row.version += 1
    # Its reference went into the outbox once; bought anew it has another one.
    was, row.reference = row.reference, f"{row.reference.rpartition('-')[0]}-{_mark()}"
    depot = context.get(Supplier, row.supplier_id, "depot")
    if depot.kind not in UNCALLED:
        payload = NoticePayload(reference=was, sender="own", cartons=())
        queue.put(context, f"supplier:{depot.id}", f"notice:{row.id}", f"notice-{was}-gone", payload)


def _mark() -> str:
    """The part of a reference that is drawn by lot: nobody takes a load of a house that was set up anew for one of the old house."""
    return secrets.token_hex(2)


def drop(context: Context, number: int, version: int | None) -> Inbound:
    """A load that was put together and not bought, or that its supplier refused, is dropped. Can be undone while it was not bought."""
    row = context.get_version(Inbound, number, version, "load")
    before = {"load": row.id, "state": row.state}
    row.state = LOAD.step(row.state, "cancel")
    context.log("load.drop", row.reference, f"load {row.reference} dropped", before=before)
    return row


@undoing.undoes("load.plan")
def undo_plan(context: Context, act: AuditEntry) -> None:
    row = context.get(Inbound, undoing.after(act)["load"], "load")
    if row.state != LOAD.first:
        raise Conflict(f"load {row.reference} is {row.state.replace('_', ' ')} already")
    for line in lines_of(context, row.id):
        context.session.delete(line)
    context.session.flush()
    context.session.delete(row)
    context.session.flush()


def recent(context: Context, most: int = 200) -> list[Inbound]:
    """Loads that come, and those of the last months, the newest first."""
    rows = select(Inbound).where((Inbound.made_at > context.now - OLD) | Inbound.state.in_((InboundState.planned, *LOAD_COMING)))
    return list(context.session.scalars(rows.order_by(Inbound.id.desc()).limit(most)))


def going(context: Context) -> int:
    """How many loads are put together or on their way."""
    rows = select(func.count()).select_from(Inbound).where(Inbound.state.in_((InboundState.planned, *LOAD_COMING)))
    return int(context.session.scalar(rows) or 0)


def service_name(context: Context, row: Inbound) -> str:
    """The service that a load goes by, as its supplier calls it."""
    rows = select(Service.name).where(Service.origin_id == row.origin_id, Service.code == row.service)
    return context.session.scalar(rows.limit(1)) or row.service


def under_way(context: Context, supplier: int) -> list[str]:
    """References of loads that a supplier may have news of."""
    rows = select(Inbound.reference).where(Inbound.from_id == supplier, Inbound.state == InboundState.ordered).order_by(Inbound.id)
    return list(context.session.scalars(rows))


def take_answer(context: Context, answer: PurchaseAnswer) -> None:
    """What a supplier says of a load's purchase; a word that comes late or twice changes nothing."""
    row = context.session.scalar(select(Inbound).where(Inbound.reference == answer.reference))
    if row is None:
        return
    source = context.get(Supplier, row.from_id or 0, "supplier")
    row.their_number = answer.their_number or row.their_number
    planned = row.goods + row.freight
    if answer.billed is not None and answer.currency in ("", row.currency) and 0 < answer.billed <= FAR * max(planned, 1):
        row.billed = answer.billed
    if answer.state == "refused" and row.state in LOAD.sources("refuse"):
        row.state, row.message = LOAD.step(row.state, "refuse"), answer.message[:300]
        row.version += 1
        context.log("load.refused", row.reference, f"{source.name} will not send load {row.reference}: {row.message}")
        depot = context.get(Supplier, row.supplier_id, "depot")
        _notify(context, row, depot, lines_of(context, row.id), f"notice-{row.reference}-gone", gone=True)
    if answer.state == "shipped" and row.state in LOAD.sources("leave"):
        row.state, row.left_at = LOAD.step(row.state, "leave"), context.now
        row.version += 1
        context.log("load.left", row.reference, f"{source.name} has sent load {row.reference}")
    if answer.tracking:
        row.tracking = f"{answer.tracking.carrier} {answer.tracking.number}"
    context.session.flush()


def order_all(context: Context, wanted: Sequence[tuple[int, int]]) -> list[Inbound]:
    """Make and buy loads of (goods, units): one for each depot and supplier. All or none."""
    goods = by_id(context.session, HeldGoods, (held for held, _ in wanted))
    groups: dict[tuple[int, int], list[LoadLine]] = {}
    for held, units in wanted:
        row = goods.get(held)
        if row is None or row.source_id is None:
            raise Invalid("say first what these goods are bought as" if row else "these goods are held by no depot")
        item = context.get(Item, row.source_id, "item")
        groups.setdefault((row.supplier_id, item.supplier_id), []).append(LoadLine(held, units))
    planned = [plan(context, depot, lines) for (depot, _), lines in sorted(groups.items())]
    _count(context, planned)
    return [_order(context, one.id) for one in planned]
