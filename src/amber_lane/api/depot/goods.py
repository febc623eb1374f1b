"""The depot's goods: stock ahead, what is worth holding, one SKU in full, its ledger, the plan."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query

from ...core.holding import Worth
from ...core.permissions import Permission as P
from ...data.depot import HeldGoods
from ...data.setup import UNCALLED, Supplier
from ...data.shelf import Sku
from ...services.base.context import Context
from ...services.base.regional import home_of
from ...services.depot import arrivals, goods, ledger, loads, planning, terms, worth_holding
from ...services.depot.compared import Beside, Comparing
from ...services.depot.planning import AHEAD, Goods, Look, ReorderPlan
from ...services.pricing.exchange_rates import HomeWorth
from ..deps import Heavy, ReadContext
from ..guard import GuardedRouter
from ..schemas import Big, Money, sure
from .shapes import (
    AheadOut,
    ArrivalOut,
    AskedRow,
    BesideOut,
    DepotOut,
    DepotView,
    HeldGoodsOut,
    HeldRow,
    LedgerOut,
    ReorderPlanOut,
    ReorderPlanRow,
    SeasonOut,
    SlowRow,
    StockEntryOut,
    WorthPart,
    WorthRow,
    WorthView,
)

router = GuardedRouter("/depot", tags=["depot"], read=(P.SEE_GOODS, P.SEE_MONEY), write=(P.ORDER,))


@router.get("", dependencies=[Heavy])
def stock_ahead(context: ReadContext) -> DepotView:
    """All that depots hold, with the days to come."""
    plan = planning.plan(context)
    comparing, worth = Comparing(context, plan.rows), HomeWorth(context)
    rows, saving = [], 0
    for n, row in enumerate(plan.rows):
        rows.append(_row(context, plan, n, planning.look(plan, n)))
        found = comparing.of(row, float(plan.wanted.moments.mean[n]))
        if found and found.saving is not None:
            saving += worth.of(found.saving, found.store.currency)
    home = home_of(context.session)
    order = [one.order for one in rows]
    return DepotView(
        today=plan.today,
        days=AHEAD,
        depots=[_depot(context, one, plan) for one in terms.depots(context)],
        rows=sorted(rows, key=lambda one: (not one.order, one.order_in if one.order_in is not None else 10**6, -one.run_out, one.sku)),
        to_order=sum(1 for one in order if one),
        spend=sure(sum(units * row.unit_cost for units, row in zip(order, plan.rows, strict=True)), home),
        saving=sure(saving, home) if plan.rows else None,
        worth=sum(1 for one in context.kept("depot worth", _worth_kept) if one > 0),
        loads=loads.going(context),
        differences=len(arrivals.open_differences(context)),
    )


def _worth_kept(context: Context) -> list[int]:
    return [one.worth.saving for one in worth_holding.candidates(context)]


def _depot(context: Context, depot: Supplier, plan: ReorderPlan) -> DepotOut:
    mine = [(row, float(plan.stocks.litres[n])) for n, row in enumerate(plan.rows) if row.depot.id == depot.id]
    return DepotOut(
        id=depot.id,
        name=depot.name,
        currency=depot.currency,
        calls=depot.kind not in UNCALLED,
        room=terms.terms_of(context, depot.id).room,
        filled=round(sum(row.stock.there * litres for row, litres in mine), 1),
        goods=len(mine),
    )


def _row(context: Context, plan: ReorderPlan, n: int, look: Look) -> HeldRow:
    row, home = plan.rows[n], home_of(context.session)
    units, lane = plan.order(n), goods.lane_of(context, row.held)
    mean = float(plan.wanted.moments.mean[n])
    return HeldRow(
        id=row.held.id,
        version=row.held.version,
        sku=row.sku.code,
        sku_id=row.sku.id,
        title=row.sku.title or row.sku.code,
        depot=row.depot.name,
        depot_id=row.depot.id,
        state=row.held.state,
        there=row.stock.there,
        promised=row.owed,
        coming=sum(one for _, one in row.coming),
        mean=round(mean, 3),
        point=int(plan.wanted.point[n]),
        order=units,
        order_in=look.order_in,
        order_cost=sure(units * row.unit_cost, home) if units else None,
        run_out=round(float(plan.wanted.out[n]), 4),
        cover=None if look.cover is None else round(look.cover, 1),
        slow=bool(row.stock.there) and (mean <= 0 or row.stock.there / mean > planning.SLOW_DAYS),
        main=None if lane is None else lane.priority == 0,
        ahead=_ahead(look),
        arrivals=[ArrivalOut(day=day, units=one) for day, one in look.arrives],
    )


def _ahead(look: Look) -> AheadOut:
    a = look.ahead
    return AheadOut(expected=[round(one, 2) for one in a.expected], low=a.low, high=a.high, out=[round(one, 5) for one in a.out])


@router.get("/goods/{number}", dependencies=[Heavy])
def held(context: ReadContext, number: Big, order: Annotated[int | None, Query(ge=0, le=loads.UNITS_MOST)] = None) -> HeldGoodsOut:
    """One SKU in full. order: as if so many were ordered today; none given: as many as are proposed."""
    one = context.get(HeldGoods, number, "goods of a depot")
    plan = planning.plan(context, only={number}) if one.item_id is not None else None
    if plan is None or not plan.rows:
        goods.not_held(one)
    assert plan is not None
    row, home = plan.rows[0], home_of(context.session)
    pace = float(plan.wanted.moments.mean[0])
    found, worth = Comparing(context, plan.rows).of(row, pace), HomeWorth(context)
    units = plan.order(0) if order is None else order
    later = planning.look(plan, 0, extra=units) if units else None
    source = goods.source_of(context, one)
    return HeldGoodsOut(
        row=_row(context, plan, 0, planning.look(plan, 0)),
        message=one.message,
        answer=one.answer,
        lead_days=round(row.lead.days, 1),
        lead_sd=round(row.lead.sd, 1),
        lead_seen=row.lead.seen,
        service=round(float(plan.stocks.service[0]) * 100, 1),
        own_service=one.service is not None,
        carton=row.carton,
        own_carton=one.carton,
        review=plan.wishes.review,
        inner=one.inner,
        least=one.least,
        sides=one.sides,
        weight_g=one.weight_g,
        source=source[0].number if source else "",
        supplier=source[1].name if source else "",
        days_known=len(plan.demand.days),
        unit_cost=sure(row.unit_cost, home),
        value=sure(worth.of(row.stock.value, row.depot.currency), home),
        depot_unit=_beside(found.depot, found.store.currency) if found and found.depot else None,
        direct_unit=_beside(found.direct, found.store.currency) if found and found.direct else None,
        saving=sure(found.saving, found.store.currency) if found and found.saving is not None else None,
        storage_month=sure(worth.of(round(row.storage_day * 30 * row.stock.there), row.depot.currency), home),
        seasons=[SeasonOut(**season) for season in one.seasons or []],
        told=one.told,
        told_at=one.told_at,
        quiet_until=one.quiet_until if one.quiet_until and one.quiet_until > plan.today else None,
        with_order=_ahead(later) if later else None,
        with_arrivals=[ArrivalOut(day=day, units=n) for day, n in later.arrives] if later else [],
    )


def _beside(one: Beside, currency: str) -> BesideOut:
    amounts = {name: sure(getattr(one, name), currency) for name in ("goods", "stored", "parcel", "landed")}
    return BesideOut(name=one.name, days=one.days, **amounts)


@router.get("/worth", dependencies=[Heavy])
def worth(context: ReadContext, depot: Big | None = None) -> WorthView:
    """What would be cheaper from a depot, the largest saving first; and what depots were asked."""
    found = worth_holding.candidates(context, depot)
    asked = []
    for one in goods.asked(context):
        sku, house = context.get(Sku, one.sku_id, "SKU"), context.get(Supplier, one.supplier_id, "depot")
        asked.append(
            AskedRow(
                id=one.id,
                version=one.version,
                sku=sku.code,
                title=sku.title or sku.code,
                depot=house.name,
                calls=house.kind not in UNCALLED,
                state=one.state,
                message=one.message,
                answer=one.answer,
                asked_at=one.asked_at,
            )
        )
    return WorthView(days=30, rows=[_worth(one) for one in found], asked=asked)


@router.get("/worth/{sku}")
def worth_of(context: ReadContext, sku: Big, times: Annotated[float, Query(gt=0, le=100)] = 1.0) -> list[WorthRow]:
    """One SKU at each depot, as if it sold so many times as fast."""
    return [_worth(one) for one in worth_holding.candidates(context, only=sku, times=times)]


PARTS = {
    "goods": "Goods in bulk",
    "freight": "Freight in",
    "receive": "Taking in",
    "storage": "Storage",
    "pick": "Picking",
    "pack": "Packing",
    "parcel": "Parcel to the buyer",
}


def _worth(one: worth_holding.Candidate) -> WorthRow:
    found: Worth = one.worth
    money = one.depot.currency
    return WorthRow(
        sku=one.sku.id,
        code=one.sku.code,
        title=one.sku.title or one.sku.code,
        depot=one.depot.id,
        depot_name=one.depot.name,
        supplier=one.supplier,
        pace=round(one.pace, 2),
        sold_days=one.sold_days,
        units=one.units,
        carton=one.carton,
        direct=sure(one.direct, money),
        direct_days=one.direct_days,
        landed=sure(int(found.unit.landed), money),
        days=one.days,
        saving=sure(found.saving, money),
        tied=sure(found.tied, money),
        payback=None if found.payback is None else round(found.payback, 1),
        dead=round(found.dead, 3),
        days_there=round(found.days),
        guessed=one.guessed,
        sides=list(one.sides),
        weight_g=one.source.weight_g or one.sku.weight_g,
        parts=[WorthPart(name=PARTS[name], amount=sure(amount, money)) for name, amount in found.unit.parts().items()],
        held=one.held.id if one.held else None,
        state=one.held.state if one.held else "",
    )


@router.get("/goods/{number}/ledger")
def history(context: ReadContext, number: Big) -> LedgerOut:
    """Every movement of it, the newest first."""
    row = context.get(HeldGoods, number, "goods of a depot")
    depot, sku = context.get(Supplier, row.supplier_id, "depot"), context.get(Sku, row.sku_id, "SKU")
    stock = ledger.stock_of(context, [number])[number]

    def shown(minor: int) -> Money:
        return sure(minor, depot.currency)

    return LedgerOut(
        held=row.id,
        version=row.version,
        sku=sku.code,
        title=sku.title or sku.code,
        depot=depot.name,
        there=stock.there,
        promised=stock.promised,
        value=shown(stock.value),
        told=row.told,
        told_at=row.told_at,
        differs=row in arrivals.differing(context),
        entries=[
            StockEntryOut(
                at=one.at,
                kind=one.kind,
                units=one.units,
                there=one.there,
                worth=shown(one.worth),
                value=shown(one.value),
                lot=one.lot,
                best_before=one.best_before,
                who=one.who,
                reason=one.reason,
            )
            for one in ledger.history(context, number)
        ],
    )


@router.get("/plan", dependencies=[Heavy])
def reorder_plan(
    context: ReadContext,
    budget: Annotated[int | None, Query(ge=0, le=10**12)] = None,
    litres: Annotated[float | None, Query(gt=0, le=10**6)] = None,
) -> ReorderPlanOut:
    """What to order of everything within a budget (minor units of the house's money) or the room of one container."""
    found, home = planning.plan(context, budget, litres), home_of(context.session)
    rows = []
    for n, row in enumerate(found.rows):
        if not found.wanted.order[n]:
            continue
        units = found.order(n)
        source = goods.source_of(context, row.held)
        rows.append(
            ReorderPlanRow(
                held=row.held.id,
                sku=row.sku.code,
                title=row.sku.title or row.sku.code,
                depot=row.depot.name,
                supplier=source[1].name if source else "",
                wanted=int(found.wanted.order[n]),
                units=units,
                cost=sure(units * row.unit_cost, home),
                avoided=sure(round(float(found.chosen.avoided[n])) if units else 0, home),
                litres=round(units * float(found.stocks.litres[n]), 1),
            )
        )
    whole = sum(one.wanted * row.unit_cost for one, row in zip(rows, _asked(found), strict=True))
    spent = sum(one.units * row.unit_cost for one, row in zip(rows, _asked(found), strict=True))
    avoided = sum(round(float(found.chosen.avoided[n])) for n in range(len(found.rows)) if found.order(n))
    return ReorderPlanOut(
        rows=rows,
        wanted=sure(whole, home),
        spent=sure(spent, home),
        avoided=sure(avoided, home),
        litres=round(sum(one.litres for one in rows), 1),
    )


def _asked(found: ReorderPlan) -> list[Goods]:
    return [row for n, row in enumerate(found.rows) if found.wanted.order[n]]


@router.get("/slow", dependencies=[Heavy])
def slow(context: ReadContext) -> list[SlowRow]:
    """Stock that lies, the dearest to keep first."""
    home = home_of(context.session)
    return [
        SlowRow(
            held=one.row.held.id,
            version=one.row.held.version,
            sku=one.row.sku.code,
            sku_id=one.row.sku.id,
            title=one.row.sku.title or one.row.sku.code,
            depot=one.row.depot.name,
            currency=one.row.depot.currency,
            there=one.row.stock.there,
            days=None if one.days is None else round(one.days),
            month=sure(one.month, home),
            value=sure(one.value, home),
        )
        for one in planning.slow(planning.plan(context), HomeWorth(context))
    ]
