"""Loads to depots: put together, bought, followed, counted and settled; their papers; and what depots ask and the house wishes."""

from __future__ import annotations

from datetime import date
from typing import Annotated, Any, Literal

from fastapi import Query, Response
from pydantic import Field

from ...connectors.depot_protocol import CountedLine
from ...core.permissions import Permission as P
from ...core.states import InboundState
from ...data.bulk import by_id
from ...data.depot import HeldGoods, Inbound, InboundLine
from ...data.setup import UNCALLED, Supplier
from ...data.shelf import Sku
from ...services.base.context import Context
from ...services.base.errors import Conflict
from ...services.base.regional import home_of
from ...services.depot import arrivals, loads, papers, terms
from ...services.depot.terms import DepotWishes
from ...sheets.carton_labels import labels_pdf, packing_list_pdf
from ...sheets.ubl_despatch import despatch_xml
from ..deps import ReadContext, WriteContext
from ..guard import GuardedRouter, needs
from ..schemas import DOCUMENT, Ask, Big, Done, Money, money, sure
from .goods_acts import VersionedAsk, Word, amount_of
from .shapes import CartonOut, DepotTermsOut, LoadLineOut, LoadOut, WishesOut

router = GuardedRouter("/depot", tags=["depot"], read=(P.SEE_GOODS, P.SEE_MONEY), write=(P.ORDER,))


class LoadLineAsk(Ask):
    """cost: of one unit, only where we send it ourselves."""

    held: Big
    units: Annotated[int, Field(gt=0, le=loads.UNITS_MOST)]
    cost: Money | None = None
    lot: Annotated[str, Field(max_length=60)] = ""
    best_before: date | None = None


class LoadAsk(Ask):
    """own: we send it, nothing is bought."""

    depot: Big
    lines: Annotated[list[LoadLineAsk], Field(min_length=1, max_length=500)]
    own: bool = False


class CountAsk(Ask):
    held: Big
    units: Annotated[int, Field(ge=0, le=10**7)]
    damaged: Annotated[int, Field(ge=0, le=10**7)] = 0
    note: Word = ""


class CountsAsk(VersionedAsk):
    lines: Annotated[list[CountAsk], Field(min_length=1, max_length=500)]


class LeftAsk(VersionedAsk):
    tracking: Annotated[str, Field(max_length=100)] = ""


class SettleLineAsk(VersionedAsk):
    how: Literal["claim", "written_off"]


class MoneyBackAsk(VersionedAsk):
    amount: Money


class WishesAsk(Ask):
    """service, hold: percent; budget: null = any."""

    service: Annotated[float, Field(ge=0, le=100)]
    review: int
    hold: Annotated[float, Field(ge=0, le=1000)]
    order_cost: Money
    prefix: Annotated[str, Field(max_length=12)]
    warn_to: Annotated[list[Annotated[str, Field(max_length=200)]], Field(max_length=20)]
    warn_hours: int
    budget: Money | None = None


class DepotTermsAsk(VersionedAsk):
    """storage: of a litre for thirty days."""

    storage: Money
    receive: Money
    pick: Money
    weight_most: Annotated[int, Field(ge=0, le=10**7)] = 0
    side_most: Annotated[int, Field(ge=0, le=10**5)] = 0
    carton_weight: Annotated[int, Field(gt=0, le=10**6)] = 20_000
    carton_sides: Annotated[list[int], Field(min_length=3, max_length=3)]
    days_low: Annotated[int, Field(ge=0, le=365)] = 1
    days_high: Annotated[int, Field(ge=0, le=365)] = 3
    room: Annotated[int, Field(ge=0, le=10**9)] = 0
    address: dict[Annotated[str, Field(max_length=20)], Annotated[str, Field(max_length=200)]]


@router.get("/loads")
def all_loads(context: ReadContext) -> list[LoadOut]:
    """Loads that come, and those of the last months, the newest first."""
    return [_load(context, one) for one in loads.recent(context)]


def _load(context: Context, row: Inbound) -> LoadOut:
    depot = context.get(Supplier, row.supplier_id, "depot")
    lines = loads.lines_of(context, row.id)
    goods = by_id(context.session, HeldGoods, (line.held_id for line in lines))
    skus = by_id(context.session, Sku, (one.sku_id for one in goods.values()))
    out = [_line(line, goods[line.held_id], skus[goods[line.held_id].sku_id].title, depot.currency) for line in lines]
    names = {number: one.number for number, one in goods.items()}
    return LoadOut(
        id=row.id,
        version=row.version,
        reference=row.reference,
        depot=depot.name,
        depot_calls=depot.kind not in UNCALLED,
        sender=context.get(Supplier, row.from_id, "supplier").name if row.from_id else "",
        own=row.from_id is None,
        sender_calls=row.from_id is not None and context.get(Supplier, row.from_id, "supplier").kind not in UNCALLED,
        state=row.state,
        message=row.message,
        due=row.due,
        made_at=row.made_at,
        ordered_at=row.ordered_at,
        left_at=row.left_at,
        reached_at=row.reached_at,
        counted_at=row.counted_at,
        units=sum(line.units for line in lines),
        goods=sure(row.goods, row.currency),
        freight=sure(row.freight, row.currency),
        taking_in=None if row.from_id is None else sure(loads.taking_in(row, lines), depot.currency),
        billed=money(row.billed, row.currency),
        service=loads.service_name(context, row),
        tracking=row.tracking,
        lines=out,
        cartons=[
            CartonOut(sscc=one["sscc"], weight_g=one["weight_g"], holds=[f"{units} × {names[held]}" for held, units in one["holds"]])
            for one in row.cartons
        ],
        open=sum(1 for line in out if line.difference and not line.settled),
    )


def _line(line: InboundLine, held: HeldGoods, title: str, currency: str) -> LoadLineOut:
    off = arrivals.is_off(line)
    return LoadLineOut(
        id=line.id,
        version=line.version,
        held=held.id,
        sku=held.number,
        title=title or held.number,
        units=line.units,
        packs=line.packs,
        cost=sure(line.cost, currency),
        lot=line.lot,
        best_before=line.best_before,
        counted=line.counted,
        damaged=line.damaged,
        difference=arrivals.difference(line, held.number) if off else "",
        lost=sure(arrivals.lost_worth(line), currency) if off else None,
        picture=line.picture_id,
        settled=line.settled,
        claimed=sure(line.claimed, currency) if line.claimed else None,
        came_back=money(line.came_back, currency),
        money_back=line.settled == "claim" and line.came_back is None,
    )


@router.post("/loads", status_code=201)
def plan_load(context: WriteContext, ask: LoadAsk) -> LoadOut:
    """Put a load together; nothing goes out before it is ordered."""
    depot = context.get(Supplier, ask.depot, "depot")

    def cost(one: LoadLineAsk) -> int | None:
        return None if one.cost is None else amount_of(one.cost, depot.currency, "cost")

    lines = [loads.LoadLine(one.held, one.units, cost(one), one.lot, one.best_before) for one in ask.lines]
    return _load(context, loads.plan(context, ask.depot, lines, ask.own))


@router.get("/loads/{number}")
def load(context: ReadContext, number: Big) -> LoadOut:
    return _load(context, context.get(Inbound, number, "load"))


@router.post("/loads/{number}/order")
def order_load(context: WriteContext, number: Big, ask: VersionedAsk) -> Done:
    """Buy it, once; or say that we send it."""
    row = loads.order(context, number, ask.version)
    return Done(message=f"load {row.reference} is {'on its way' if row.from_id is None else 'ordered'}")


@router.post("/loads/{number}/left")
def load_left(context: WriteContext, number: Big, ask: LeftAsk) -> Done:
    """A supplier without an interface has sent it."""
    return Done(message=f"load {loads.left(context, number, ask.version, ask.tracking).reference} is on its way")


@router.post("/loads/{number}/drop")
def drop_load(context: WriteContext, number: Big, ask: VersionedAsk) -> Done:
    return Done(message=f"load {loads.drop(context, number, ask.version).reference} is dropped")


@router.post("/loads/{number}/count")
def count_load(context: WriteContext, number: Big, ask: CountsAsk) -> Done:
    """What a depot without an interface counted."""
    row = context.get_version(Inbound, number, ask.version, "load")
    depot = context.get(Supplier, row.supplier_id, "depot")
    if depot.kind not in UNCALLED:
        raise Conflict(f"{depot.name} tells what it counts by itself; ask it to count again")
    if row.state not in (InboundState.ordered, InboundState.on_the_way, InboundState.at_gate, InboundState.counted):
        raise Conflict(f"load {row.reference} has not been sent")
    goods = by_id(context.session, HeldGoods, (one.held for one in ask.lines))
    told = [CountedLine(goods[one.held].number, one.units, one.damaged, one.note) for one in ask.lines if one.held in goods]
    arrivals.count_in(context, row, told, None, {})
    return Done(message=f"load {row.reference} is counted in")


@router.post("/loads/{number}/count-again")
def count_again(context: WriteContext, number: Big, ask: VersionedAsk) -> Done:
    row = arrivals.ask_again(context, number, ask.version)
    return Done(message=f"{context.get(Supplier, row.supplier_id, 'depot').name} is asked to count {row.reference} again")


@router.post("/lines/{number}/settle")
def settle(context: WriteContext, number: Big, ask: SettleLineAsk) -> Done:
    """A difference claimed or written off."""
    line = arrivals.settle(context, arrivals.Settling(number, ask.version, ask.how))
    return Done(message="it is asked back" if line.settled == "claim" else "it is written off")


@router.post("/lines/{number}/money-back")
def money_back(context: WriteContext, number: Big, ask: MoneyBackAsk) -> Done:
    """What came back for a claim."""
    row = context.get(Inbound, arrivals.line_of(context, number).inbound_id, "load")
    currency = context.get(Supplier, row.supplier_id, "depot").currency
    arrivals.take_money_back(context, number, ask.version, amount_of(ask.amount, currency, "amount"))
    return Done(message="it is in the books")


@router.get("/loads/{number}/papers/{paper}", response_class=Response, responses=DOCUMENT)
def paper(
    context: ReadContext, number: Big, paper: Literal["labels", "packing", "despatch"], sheets: Annotated[bool, Query()] = False
) -> Response:
    """Carton labels (one a page, or four on a sheet of A4), packing list, or despatch advice."""
    row = context.get(Inbound, number, "load")
    made = papers.paper_of(context, number)
    if paper == "despatch":
        data = despatch_xml(made, row.ordered_at or row.made_at, context.get(Supplier, row.supplier_id, "depot").name)
        return _file(data, "application/xml", f"{row.reference}.xml")
    data = labels_pdf(made, sheets) if paper == "labels" else packing_list_pdf(made)
    return _file(data, "application/pdf", f"{row.reference}-{paper}.pdf")


def _file(data: bytes, kind: str, name: str) -> Response:
    return Response(data, media_type=kind, headers={"Content-Disposition": f'attachment; filename="{name}"'})


@router.get("/wishes")
def wishes(context: ReadContext) -> WishesOut:
    """What the house wishes of all depots."""
    return _wishes(context, terms.wishes_of(context))


def _wishes(context: Context, one: DepotWishes) -> WishesOut:
    home = home_of(context.session)
    return WishesOut(
        service=one.service / 10_000,
        review=one.review,
        hold=one.hold / 10_000,
        order_cost=sure(one.order_cost, home),
        prefix=one.prefix,
        warn_to=list(one.warn_to),
        warn_hours=one.warn_hours,
        budget=money(one.budget, home),
    )


@router.put("/wishes")
@needs(P.SETTINGS)
def set_wishes(context: WriteContext, ask: WishesAsk) -> Done:
    home = home_of(context.session)
    wanted = DepotWishes(
        round(ask.service * 10_000),
        ask.review,
        round(ask.hold * 10_000),
        amount_of(ask.order_cost, home, "order_cost"),
        ask.prefix,
        tuple(dict.fromkeys(one.strip().lower() for one in ask.warn_to if one.strip())),
        ask.warn_hours,
        None if ask.budget is None else amount_of(ask.budget, home, "budget"),
    )
    terms.set_wishes(context, wanted)
    return Done(message="Saved")


@router.get("/terms/{depot}")
def depot_terms(context: ReadContext, depot: Big) -> DepotTermsOut:
    """What a depot takes and asks."""
    supplier, row = context.get(Supplier, depot, "depot"), terms.terms_of(context, depot)
    month = row.storage * 30 / 1_000_000
    return DepotTermsOut(
        depot=depot,
        name=supplier.name,
        version=row.version or 1,
        told=supplier.kind not in UNCALLED,
        storage=sure(round(month), supplier.currency),
        storage_exact=month,
        receive=sure(row.receive, supplier.currency),
        pick=sure(row.pick, supplier.currency),
        weight_most=row.weight_most,
        side_most=row.side_most,
        value_most=sure(row.value_most, supplier.currency),
        kinds=row.kinds,
        carton_weight=row.carton_weight,
        carton_sides=row.carton_sides,
        days_low=row.days_low,
        days_high=row.days_high,
        room=row.room,
        address={name: str(value) for name, value in row.address.items() if value},
        lines_counted=arrivals.accuracy(context, depot)[0],
        lines_off=arrivals.accuracy(context, depot)[1],
    )


@router.put("/terms/{depot}")
@needs(P.SETTINGS)
def set_terms(context: WriteContext, depot: Big, ask: DepotTermsAsk) -> Done:
    """What a depot without an interface takes and asks."""
    supplier = context.get(Supplier, depot, "depot")
    if supplier.kind not in UNCALLED:
        raise Conflict(f"{supplier.name} tells its terms by itself")
    given: dict[str, Any] = ask.model_dump(exclude={"version", "storage", "receive", "pick"})
    given["storage"] = round(amount_of(ask.storage, supplier.currency, "storage") * 1_000_000 / 30)
    given["receive"], given["pick"] = (
        amount_of(one, supplier.currency, name) for one, name in ((ask.receive, "receive"), (ask.pick, "pick"))
    )
    terms.set_terms(context, depot, ask.version, given)
    return Done(message=f"{supplier.name} is saved")
