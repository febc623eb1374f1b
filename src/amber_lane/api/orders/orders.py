"""Orders as they are looked at: where they stand, what holds them, their ways on."""

from __future__ import annotations

from datetime import date, datetime
from typing import Annotated, Any

from fastapi import Depends, Response
from pydantic import BaseModel

from ...core import address, address_parts
from ...core.permissions import Permission as P
from ...core.states import OrderLineState
from ...data.bulk import by_id
from ...data.lanes import Lane
from ...data.orders import FillPlan, Hold, Order, OrderLine
from ...data.setup import BY_SHEETS, Origin, Store, Supplier
from ...services.base.context import Context
from ...services.base.regional import home_of
from ...services.fulfilment import parcel_tracking
from ...services.grids import goods_grids
from ...services.grids.goods_grids import GridQuery
from ...services.orders import explanations, order_profit, routing
from ...services.pricing import packs
from ...services.purchasing import next_steps, purchase_orders
from ..deps import ReadContext, TheApp
from ..guard import GuardedRouter
from ..pricing.explanations import StepOut
from ..schemas import Big, Money, Page, money, rows_out, sure, wish, written

router = GuardedRouter("/orders", tags=["orders"], read=(P.SEE_ORDERS, P.SEE_MONEY), write=(P.ORDER,))


class OrderRow(BaseModel):
    id: int
    version: int
    number: str
    store: str
    buyer: str
    country: str
    title: str
    sku: str
    lines: int
    # Of its lines those that have left.
    gone: int
    units: int
    paid: Money
    kept: Money
    state: str
    profit: Money | None
    message: str | None
    limit: str | None
    ordered_at: datetime
    came_at: datetime
    promised_by: date | None
    send_after: datetime | None
    by_hand: bool


@router.get("", response_model=Page[OrderRow])
def order_rows(context: ReadContext, ask: Annotated[GridQuery, Depends(wish)]) -> Response:
    given = dict(ask.filters or {})
    if "state" in given:
        given["rank"] = ",".join(goods_grids.ORDER_STATES.get(state, "99") for state in given.pop("state").split(","))
    rows, total = goods_grids.page(context, "orders", GridQuery(ask.words, ask.sort, ask.down, ask.offset, ask.limit, given))
    names = list(goods_grids.ORDER_STATES)
    out = rows_out(rows, dict.fromkeys(("paid", "kept", "profit"), "currency"))
    for one in out:
        one["state"] = names[one.pop("rank")]
    return written({"rows": out, "total": total})


class OrdersStanding(BaseModel):
    """Where orders stand, and what sending the ready ones means."""

    states: dict[str, int]
    ready: int
    parcels: int
    spend: Money
    profit: Money
    # Currencies that have no rate to the house's, so that what is in them is in no sum.
    left_out: list[str]


@router.get("/standing")
def standing(context: ReadContext) -> OrdersStanding:
    ready = purchase_orders.ready_orders(context)
    sums, left_out = purchase_orders.money_of(context, ready)
    home = home_of(context.session)
    return OrdersStanding(
        states=goods_grids.states_of_orders(context),
        ready=len(ready),
        parcels=sums["parcels"],
        spend=sure(sums["spend"], home),
        profit=sure(sums["profit"], home),
        left_out=left_out,
    )


class WayOut(BaseModel):
    """One lane looked at for a line."""

    line: int
    lane: int
    use: int
    instead: bool
    state: str
    supplier: str
    origin: str
    goods: Money
    shipping: Money
    handling: Money
    risk: Money
    all_in: Money
    profit: Money
    arrives: str | None
    reason: str | None
    chosen: bool
    # By how much the order would earn less with this lane, where it is the next best.
    costs_more: Money | None
    # What its orders came to: refused and late of a million, as far as anything is known.
    refused_ppm: int | None
    late_ppm: int | None
    # What is lost on claims, of what the goods cost.
    claim_ppm: int | None


class LineOut(BaseModel):
    id: int
    line_no: int
    sku: str
    sku_id: int | None
    title: str
    quantity: int
    paid: Money
    tax: Money
    store_fee: Money
    payment_fee: Money
    # What is left of it: net revenue, less what a part refund cost. refunded: null = nothing.
    kept: Money
    refunded: Money | None
    state: str
    reason: str
    chosen_by: str
    # What is left over where whole packs are bought for it; '' where nothing is.
    packs: str


class PurchaseOut(BaseModel):
    id: int
    reference: str
    their_number: str
    supplier: str
    # Its supplier works by sheets: sent means handed over, and not answered yet.
    by_sheets: bool
    state: str
    message: str
    noted: str
    planned: Money
    billed: Money | None
    made_at: datetime
    answered_at: datetime | None
    parcels: list[str]
    batch: str | None


class WayOn(BaseModel):
    """How an order that waits may go on. key: what is asked for to go it, '' = it happens by itself, or `go` leads there; profit: of the
    order then; arrives: the day."""

    key: str
    label: str
    message: str
    profit: Money | None
    arrives: str | None
    go: str


class TwinOut(BaseModel):
    """Another order that this one may repeat, beside it. saves: what one parcel for both would save."""

    id: int
    number: str
    ordered_at: datetime
    state: str
    lines: list[str]
    paid: Money
    saves: Money | None


class OrderOut(BaseModel):
    id: int
    version: int
    number: str
    store: str
    buyer: str
    mail: str
    address: dict[str, str | None]
    mended: bool
    country: str
    note: str
    ordered_at: datetime
    promised_by: date | None
    send_after: datetime | None
    limit: str | None
    message: str | None
    # What the buyer asked for after it was bought, '' = nothing.
    wants: str
    wants_message: str
    # The buyer was erased on their wish.
    erased: bool
    allowed: list[str]
    by_hand: bool
    given: dict[str, str | None]
    faults: dict[str, str]
    proposed: dict[str, str]
    # The address line by line as its country writes it, and what its parts are called there.
    lines_of_address: list[str]
    called: dict[str, str]
    sentence: str
    steps: list[StepOut]
    ways_on: list[WayOn]
    twin: TwinOut | None
    # How many of its lines have left, and how many there are.
    gone: int
    # Before it is bought what is expected, and what refusal or lateness may cost beside it; then what its bills leave, with what was
    # planned and how many bills are still to come.
    profit: Money | None
    risk: Money
    planned: Money | None
    actual: bool
    unbilled: int
    lines: list[LineOut]
    ways: list[WayOut]
    purchases: list[PurchaseOut]
    # Who else looks at it now.
    others: list[str]


@router.get("/{number}")
def order(context: ReadContext, app: TheApp, number: Big) -> OrderOut:
    row = context.get(Order, number, "order")
    cur = row.currency
    lines = routing.lines_of(context, [number])[number]
    plan, hold = routing.plan_of(context, number), routing.hold_of(context, number)
    bought = order_profit.bought(context, [number]).get(number)
    left_over = packs.of_lines(context.session, lines)
    to = {**(row.address_override or row.address), "country": row.country}
    return OrderOut(
        id=row.id,
        version=row.version,
        number=row.number,
        store=context.get(Store, row.store_id, "store").name,
        buyer=row.buyer,
        mail=row.mail,
        address=row.address_override or row.address,
        mended=row.address_override is not None,
        country=row.country,
        note=row.note,
        ordered_at=row.ordered_at,
        promised_by=row.promised_by,
        send_after=row.send_after,
        limit=hold.limit if hold else None,
        message=hold.message if hold else None,
        wants=row.wants,
        wants_message=row.wants_message,
        erased=row.erased_at is not None,
        allowed=row.allowed,
        by_hand=row.manual_release,
        given=row.address,
        faults={} if row.erased_at else address.faults(to),
        lines_of_address=address_parts.lines(to),
        called=address_parts.words(row.country),
        proposed=address.mended(to),
        sentence=explanations.sentence(context, row, lines, plan, hold),
        ways_on=[_way_on(one, cur) for one in next_steps.ways_on(context, row)],
        twin=_twin(context, row, hold),
        gone=sum(one.state in (OrderLineState.on_the_road, OrderLineState.arrived) for one in lines),
        steps=[StepOut(name=name, amount=sure(amount, cur), kind=kind) for name, amount, kind in explanations.steps(lines, plan)],
        profit=money(plan.known_profit, cur) if plan else None,
        risk=sure(plan.risk if plan else 0, cur),
        planned=money(plan.known_profit + plan.billed_more, cur) if plan and plan.known_profit is not None and plan.billed_more else None,
        actual=bool(bought) and not any(one.state in order_profit.OPEN for one in lines),
        unbilled=bought.unbilled if bought else 0,
        lines=[_line_out(one, cur, left_over.get(one.id, "")) for one in lines],
        ways=_ways(context, plan, {one.id: one for one in lines}, cur),
        purchases=_purchases(context, number),
        others=app.presence.look(f"order:{number}", context.actor),
    )


def _line_out(one: OrderLine, cur: str, left_over: str) -> LineOut:
    return LineOut(
        id=one.id,
        line_no=one.line_no,
        sku=one.sku_code,
        sku_id=one.sku_id,
        title=one.title,
        quantity=one.quantity,
        paid=sure(one.total, cur),
        tax=sure(one.tax, cur),
        store_fee=sure(one.store_fee, cur),
        payment_fee=sure(one.payment_fee, cur),
        kept=sure(one.net_revenue, cur),
        refunded=money(one.refunded or None, cur),
        state=one.state,
        reason=one.reason,
        chosen_by=one.chosen_by,
        packs=left_over,
    )


def _way_on(one: next_steps.WayOn, cur: str) -> WayOn:
    arrives = one.arrives.isoformat() if one.arrives else None
    return WayOn(key=one.key, label=one.label, message=one.message, profit=money(one.profit, cur), arrives=arrives, go=one.go)


def _ways(context: Context, plan: FillPlan | None, lines: dict[int, OrderLine], cur: str) -> list[WayOut]:
    looked = [one for one in (plan.lanes if plan else []) if one["line"] in lines]
    lanes = by_id(context.session, Lane, (one["lane"] for one in looked))
    suppliers = by_id(context.session, Supplier, (lane.supplier_id for lane in lanes.values()))
    origins = by_id(context.session, Origin, (lane.origin_id for lane in lanes.values()))
    out = []
    for one in looked:
        lane = lanes[one["lane"]]
        out.append(
            WayOut(
                line=one["line"],
                lane=lane.id,
                use=lane.priority,
                instead=lane.is_substitute,
                state=lane.state,
                supplier=suppliers[lane.supplier_id].name,
                origin=origins[lane.origin_id].name,
                goods=sure(one["goods"], cur),
                shipping=sure(one["shipping"], cur),
                handling=sure(one["handling"], cur),
                risk=sure(one.get("risk", 0), cur),
                all_in=sure(one["all_in"], cur),
                profit=sure(_earns(lines[one["line"]], one), cur),
                arrives=one["arrives"],
                reason=one["reason"],
                chosen=one["chosen"],
                costs_more=_costs_more(plan, one, cur),
                refused_ppm=_known(lane.refuse_ppm, suppliers[lane.supplier_id].refuse_ppm),
                late_ppm=_known(lane.late_ppm, suppliers[lane.supplier_id].late_ppm),
                claim_ppm=_known(lane.claim_ppm, suppliers[lane.supplier_id].claim_ppm),
            )
        )
    return out


def _twin(context: Context, row: Order, hold: Hold | None) -> TwinOut | None:
    if hold is None or hold.limit != "twice" or hold.other_id is None:
        return None
    other = context.get(Order, hold.other_id, "order")
    lines = routing.lines_of(context, [other.id])[other.id]
    ranks = [state for state in goods_grids.ORDER_STATES if any(line.state == state for line in lines)]
    saves = next_steps.saving(context, row, other)
    return TwinOut(
        id=other.id,
        number=other.number,
        ordered_at=other.ordered_at,
        state=ranks[0] if ranks else "cancelled",
        lines=[f"{line.quantity} × {line.title or line.sku_code}" for line in lines],
        paid=sure(sum(line.total for line in lines), other.currency),
        saves=sure(saves, row.currency) if saves > 0 else None,
    )


def _earns(line: OrderLine, one: dict[str, Any]) -> int:
    """What a line would leave by a lane, before risk."""
    return line.net_revenue - line.reserve - int(one["all_in"]) + int(one.get("risk", 0))


def _known(own: int | None, supplier: int | None) -> int | None:
    return supplier if own is None else own


def _costs_more(plan: FillPlan | None, one: dict[str, Any], cur: str) -> Money | None:
    other = (plan.next_best if plan else {}).get(str(one["line"]))
    return money(other["costs_more"], cur) if other and other["lane"] == one["lane"] else None


def _purchases(context: Context, number: int) -> list[PurchaseOut]:
    rows = purchase_orders.of_order(context, number)
    suppliers = by_id(context.session, Supplier, (row.supplier_id for row in rows))
    parcels = parcel_tracking.numbers_of(context, [row.id for row in rows])
    return [
        PurchaseOut(
            id=row.id,
            reference=row.reference,
            their_number=row.their_number,
            supplier=suppliers[row.supplier_id].name,
            by_sheets=suppliers[row.supplier_id].kind in BY_SHEETS,
            state=row.state,
            message=row.message,
            noted=row.noted,
            planned=sure(row.goods + row.shipping + row.handling, row.currency),
            billed=money(row.billed, row.currency),
            made_at=row.made_at,
            answered_at=row.answered_at,
            parcels=parcels.get(row.id, []),
            batch=row.batch,
        )
        for row in rows
    ]
