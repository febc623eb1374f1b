"""Lanes: of one SKU, opened, changed and explained; and the list of all."""

from __future__ import annotations

from datetime import date, datetime, timedelta
from fractions import Fraction
from typing import Annotated, Any

from fastapi import Depends, Response
from pydantic import BaseModel, Field

from ...core import trust as core_trust
from ...core.numbers import parse_units, show_units
from ...core.permissions import Permission as P
from ...data.lanes import Lane, LanePart
from ...data.setup import Origin, Store, Supplier
from ...data.shelf import Sku
from ...data.source import Item
from ...services.base import house_days
from ...services.base.context import Context
from ...services.base.errors import Invalid
from ...services.grids import goods_grids
from ...services.grids.goods_grids import GridQuery
from ...services.mapping import item_candidates, lane_preview, lane_terms, lanes, performance, variants
from ...services.mapping.landed_cost import Costing, parts_of
from ...services.mapping.scope import own_items, own_sku
from ...services.monitoring import sweeps
from ..deps import ReadContext, TheApp, WriteContext
from ..guard import GuardedRouter, needs
from ..schemas import Ask, Big, Done, Money, Page, money, rows_out, sure, wish, written

router = GuardedRouter("/lanes", tags=["lanes"], read=(P.SEE_GOODS,), write=(P.MAP,), limited=True)


class LanePartOut(BaseModel):
    item_id: int
    number: str
    title: str
    supplier: str
    origin: str
    units: str
    cost: Money | None
    stock: int
    offer: str


class ShareOut(BaseModel):
    """good of count; expected share and the interval it lies in (5 to 95 %), in percent."""

    good: int
    count: int
    mean: float
    low: float
    high: float


class TrustOut(BaseModel):
    """What really happened: purchase orders taken, parcels by the promise, days to the door (half within, nine in ten within)."""

    accepted: ShareOut
    on_time: ShareOut
    days_seen: int
    days_usual: int
    days_sure: int


class LaneOut(BaseModel):
    id: int
    version: int
    use: int
    state: str
    reason: str
    store: str
    instead: bool
    begun: bool
    starts: date | None
    ends: date | None
    supplier: str
    origin: str
    service: str
    services: dict[str, str]
    opened_at: datetime
    opened_by: str
    proof: dict[str, Any] | None
    parts: list[LanePartOut]
    item_cost: Money | None
    ship: Money | None
    handling: Money | None
    landed: Money | None
    reason_not: str
    days_low: int
    days_high: int
    trust: TrustOut


class SkuOut(BaseModel):
    """A SKU with what sells it and what fills it; siblings: other sizes and colours of it, and how many of those have no lane."""

    sku_id: int
    sku: str
    title: str
    gtin: str
    brand: str
    options: str
    price: Money | None
    state: str | None
    listing: int | None
    stores: list[str]
    orders_waiting: int
    siblings: int
    siblings_bare: int
    lanes: list[LaneOut]
    # Who else looks at it now.
    others: list[str]


class LaneRow(BaseModel):
    id: int
    version: int
    sku_id: int
    sku: str
    title: str
    use: int
    instead: bool
    begun: bool
    state: str
    reason: str
    supplier: str
    store: str | None
    origin: str
    service: str
    item_id: int
    item: str
    item_title: str
    items: int
    units_num: int
    units_den: int
    cost: Money | None
    stock: int
    offer: str
    landed: Money | None
    profit: Money | None
    net: Money | None
    price: Money | None
    opened_at: datetime
    opened_by: str


@router.get("", response_model=Page[LaneRow])
@needs(P.SEE_GOODS)
def settled(context: ReadContext, ask: Annotated[GridQuery, Depends(wish)]) -> Response:
    rows, total = goods_grids.page(context, "lanes", ask)
    monies = {"cost": "cost_currency", "landed": "currency", "profit": "currency", "net": "currency", "price": "currency"}
    return written({"rows": rows_out(rows, monies), "total": total})


def _trust(one: performance.Trust) -> TrustOut:
    def shown(part: core_trust.Share) -> ShareOut:
        mean, low, high = (round(100 * value, 1) for value in (part.mean, part.low, part.high))
        return ShareOut(good=part.good, count=part.count, mean=mean, low=low, high=high)

    return TrustOut(
        accepted=shown(one.accepted),
        on_time=shown(one.on_time),
        days_seen=one.days.count,
        days_usual=one.days.usual,
        days_sure=one.days.sure,
    )


def _lanes(context: Context, found: list[Lane], store: Store | None) -> list[LaneOut]:
    parts, items = parts_of(context, found)
    costing = Costing(context)
    suppliers, origins = costing.facts.suppliers, costing.origins
    store = costing.facts.stores.get(store.id) if store else next(iter(costing.facts.stores.values()), None)
    seen = performance.trusts(context, [lane.id for lane in found])
    out = []
    for lane in found:
        shop = costing.facts.stores.get(lane.store_id or 0, store)
        cost = costing.landed(costing.of_lane(lane, parts[lane.id], items, shop.country), shop) if shop else None
        cur = shop.currency if shop else ""
        known = cost is not None and not cost.reason
        out.append(
            LaneOut(
                id=lane.id,
                version=lane.version,
                use=lane.priority,
                state=lane.state,
                reason=lane.reason,
                store=costing.facts.stores[lane.store_id].name if lane.store_id else "",
                instead=lane.is_substitute,
                begun=lane.begun,
                starts=house_days.day_of(context, lane.starts) if lane.starts else None,
                ends=house_days.day_of(context, lane.ends) if lane.ends else None,
                supplier=suppliers[lane.supplier_id].name,
                origin=origins[lane.origin_id].name,
                service=lane.service,
                services=dict(lane.services or {}),
                opened_at=lane.opened_at,
                opened_by=lane.opened_by,
                proof=lane.match_evidence,
                parts=[_part(part, items[part.item_id], lane, suppliers, origins) for part in parts[lane.id]],
                item_cost=sure(cost.goods, cur) if cost and known else None,
                ship=sure(cost.ship, cur) if cost and known else None,
                handling=sure(cost.handling, cur) if cost and known else None,
                landed=sure(cost.landed, cur) if cost and known else None,
                reason_not=cost.reason if cost else "no store",
                days_low=cost.days_low if cost else 0,
                days_high=cost.days_high if cost else 0,
                trust=_trust(seen[lane.id]),
            )
        )
    return out


def _part(part: LanePart, item: Item, lane: Lane, suppliers: dict[int, Supplier], origins: dict[int, Origin]) -> LanePartOut:
    return LanePartOut(
        item_id=item.id,
        number=item.number,
        title=item.title,
        supplier=suppliers[item.supplier_id].name,
        origin=origins[part.origin_id or lane.origin_id].name,
        units=show_units(part.units_num, part.units_den),
        cost=sure(item.cost, item.currency),
        stock=item.stock,
        offer=item.offer,
    )


@router.get("/skus/{sku_id}")
def sku(context: ReadContext, app: TheApp, sku_id: Big) -> SkuOut:
    own_sku(context, sku_id)
    row = context.get(Sku, sku_id, "SKU")
    listing = item_candidates.listing_of(context, sku_id)
    store = context.get(Store, listing.store_id, "store") if listing else None
    family = [one.id for one in variants.siblings(context, row) if one.id != sku_id]
    laned = lanes.with_lane(context, family)
    return SkuOut(
        sku_id=row.id,
        sku=row.code,
        title=row.title,
        gtin=row.gtin,
        brand=row.brand,
        options=row.options,
        price=money(listing.wanted_price, listing.currency) if listing else None,
        state=listing.state if listing else None,
        listing=listing.id if listing else None,
        stores=lanes.sold_in(context, sku_id),
        orders_waiting=lanes.effect_of_opening(context, row)["orders"],
        siblings=len(family),
        siblings_bare=len(set(family) - laned),
        lanes=_lanes(context, [lane for lane, _ in lanes.lanes_of(context, sku_id)], store),
        others=app.presence.look(f"sku:{sku_id}", context.actor),
    )


class LaneItemAsk(Ask):
    item_id: Big
    units: str = Field("1", max_length=20)


class OpenAsk(Ask):
    """store_id empty = for all stores; instead: an allowed replacement, used only where the store permits it."""

    sku_id: Big
    parts: list[LaneItemAsk] = Field(min_length=1, max_length=30)
    use: int = Field(0, ge=0, le=99)
    store_id: Big | None = None
    service: str | None = Field(None, max_length=50)
    starts: date | None = None
    ends: date | None = None
    instead: bool = False


class Preview(BaseModel):
    """What a lane would mean, tried and thrown away. sweep_minutes: how often its item is looked at; packs: what is left over where
    whole packs must be bought, '' where nothing is."""

    landed: Money | None
    price: Money | None
    profit: Money | None
    shows: int
    orders: int
    outcome: str
    sweep_minutes: int
    packs: str


def _begin(context: Context, day: date | None) -> datetime | None:
    """A lane begins and ends with the first moment of a day of the house."""
    return house_days.begin(context, day) if day else None


def _wish(context: Context, ask: OpenAsk, proof: bool = False) -> lanes.LaneRequest:
    own_sku(context, ask.sku_id)
    own_items(context, [part.item_id for part in ask.parts])
    try:
        parts = [lanes.LaneItem(part.item_id, parse_units(part.units)) for part in ask.parts]
    except ValueError as error:
        raise Invalid(str(error), {"units": str(error)}) from error
    if ask.store_id:
        context.get(Store, ask.store_id, "store")
    return lanes.LaneRequest(
        ask.sku_id,
        parts,
        ask.use,
        ask.store_id,
        ask.service,
        starts=_begin(context, ask.starts),
        ends=_begin(context, ask.ends),
        is_substitute=ask.instead,
        match_evidence=item_candidates.proof_for(context, context.get(Sku, ask.sku_id, "SKU"), parts[0].item)
        if proof and len(parts) == 1
        else None,
    )


@router.post("/preview")
def preview(context: ReadContext, ask: OpenAsk) -> Preview:
    """What a lane would do; nothing is written."""
    found = lane_preview.preview(context, _wish(context, ask))
    money_of = {name: None if value is None else sure(value, found.currency) for name, value in found.money.items()}
    return Preview(
        **money_of, shows=found.shows, orders=found.orders, outcome=found.outcome, sweep_minutes=found.sweep_minutes, packs=found.packs
    )


@router.post("", status_code=201)
def open_lane(context: WriteContext, ask: OpenAsk) -> Done:
    lanes.open_requested(context, _wish(context, ask, proof=True))
    row = context.get(Sku, ask.sku_id, "SKU")
    return Done(message=f"Replacement allowed for {row.code}" if ask.instead else f"Lane opened for {row.code}")


class ChangeAsk(Ask):
    version: int
    units: str | None = Field(None, max_length=20)
    use: int | None = Field(None, ge=0, le=99)
    service: str | None = Field(None, max_length=50)
    state: str | None = Field(None, pattern="^(new|open|slow|shut)$")
    reason: str = Field("", max_length=300)


class TermsAsk(Ask):
    """Whole: what is empty here is without a date, or sent by the lane's own service."""

    version: int
    services: dict[str, str] = Field(default_factory=dict)
    starts: date | None = None
    ends: date | None = None


class CloseAsk(Ask):
    version: int
    reason: str = Field("", max_length=300)


class ConfirmAsk(Ask):
    version: int
    units: str | None = Field(None, max_length=20)


class Point(BaseModel):
    at: datetime
    cost: Money | None
    stock: int


class LandsIn(BaseModel):
    """One unit in one country where we sell: by which service, what it costs, when it arrives; reason_not where it cannot go."""

    country: str
    store: str
    service: str
    goods: Money | None
    ship: Money | None
    handling: Money | None
    landed: Money | None
    days_low: int
    days_high: int
    reason_not: str


class LaneBench(BaseModel):
    """Everything about one lane. ways: services from its place, by country."""

    sku_id: int
    sku: str
    title: str
    lane: LaneOut
    lands: list[LandsIn]
    ways: dict[str, list[str]]
    history: list[Point]
    story: list[str]


@router.get("/{number}")
def bench(context: ReadContext, number: Big) -> LaneBench:
    row = _own(context, number)
    thing = context.get(Sku, row.sku_id, "SKU")
    listing = item_candidates.listing_of(context, row.sku_id)
    store = context.get(Store, listing.store_id, "store") if listing else None
    costing = Costing(context)
    parts, items = parts_of(context, [row])
    lands: dict[str, LandsIn] = {}
    for shop in costing.facts.stores.values():
        if shop.country in lands or row.store_id not in (None, shop.id):
            continue
        cost = costing.landed(costing.of_lane(row, parts[number], items, shop.country), shop)
        amounts = {} if cost.reason else {"goods": cost.goods, "ship": cost.ship, "handling": cost.handling, "landed": cost.landed}
        lands[shop.country] = LandsIn(
            country=shop.country,
            store=shop.name,
            service=cost.service,
            days_low=cost.days_low,
            days_high=cost.days_high,
            reason_not=cost.reason,
            **{key: sure(amounts[key], shop.currency) if key in amounts else None for key in ("goods", "ship", "handling", "landed")},
        )
    ways: dict[str, list[str]] = {}
    for one in costing.facts.services:
        if one.origin_id == row.origin_id and one.country in lands:
            ways.setdefault(one.country, []).append(one.code)
    first = parts[number][0].item_id
    currency = items[first].currency
    seen = sweeps.item_history(context, first, context.now - timedelta(days=60))
    history = [Point(at=at, cost=sure(cost, currency), stock=stock) for at, cost, stock in seen]
    return LaneBench(
        sku_id=thing.id,
        sku=thing.code,
        title=thing.title,
        lane=_lanes(context, [row], store)[0],
        lands=list(lands.values()),
        ways=ways,
        history=history,
        story=lane_terms.story(context, row, thing),
    )


def _own(context: Context, number: int) -> Lane:
    """A lane of whoever acts; NotFound where they do not work for its SKU."""
    row = context.get(Lane, number, "lane")
    own_sku(context, row.sku_id)
    return row


def _units(text: str | None) -> Fraction | None:
    try:
        return parse_units(text) if text else None
    except ValueError as error:
        raise Invalid(str(error), {"units": str(error)}) from error


@router.patch("/{number}")
def change(context: WriteContext, number: Big, ask: ChangeAsk) -> Done:
    _own(context, number)
    lanes.change_lane(context, number, ask.version, _units(ask.units), ask.use, ask.service, ask.state, ask.reason)
    return Done(message="Lane changed")


@router.post("/{number}/terms")
def terms(context: WriteContext, number: Big, ask: TermsAsk) -> Done:
    """From when to when it is in force, and by which service it goes to single countries."""
    _own(context, number)
    lane_terms.set_terms(context, number, ask.version, ask.services, _begin(context, ask.starts), _begin(context, ask.ends))
    return Done(message="Lane changed")


@router.post("/{number}/confirm")
def confirm(context: WriteContext, number: Big, ask: ConfirmAsk) -> Done:
    """It is right (with these units, if they are other ones now): it may be used, and what its items cost is taken as usual."""
    _own(context, number)
    lane_terms.confirm_lane(context, number, ask.version, _units(ask.units))
    return Done(message="The lane is right, and may be used")


@router.post("/{number}/close")
def close(context: WriteContext, number: Big, ask: CloseAsk) -> Done:
    _own(context, number)
    lanes.close_lane(context, number, ask.version, ask.reason)
    return Done(message="Lane closed")
