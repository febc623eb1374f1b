"""Responses by cause, stores' differences, the calls plan, and everything about one item over time."""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import Annotated

import numpy as np
from fastapi import Query
from pydantic import BaseModel, Field

from ...connectors.abilities import Ability
from ...core.permissions import Permission as P
from ...data.bulk import by_id
from ...data.setup import Origin, Supplier
from ...data.source import Item
from ...services.base.abilities import able
from ...services.base.context import Context
from ...services.base.regional import home_of
from ...services.catalogue import item_detail
from ...services.listings import drift
from ...services.monitoring import decision_groups, polling_plan, sweeps
from ...services.partners import rosters
from ..deps import ReadContext, WriteContext
from ..guard import GuardedRouter
from ..schemas import Ask, Big, Done, Money, money, sure

router = GuardedRouter("/watch", tags=["watch"], read=(P.SEE_GOODS, P.SEE_MONEY), write=(P.PRICE,))


class GroupOut(BaseModel):
    """Responses with one cause. a_day: what the new prices move a day at the present pace of sales."""

    sweep: int | None
    act: int | None
    kind: str
    state: str
    at: datetime
    count: int
    up: int
    down: int
    a_day: Money
    cause: str
    item: str
    outcome: int


@router.get("/groups")
def get_groups(context: ReadContext) -> list[GroupOut]:
    home = home_of(context.session)
    return [GroupOut(**{**one.__dict__, "a_day": sure(one.a_day, home)}) for one in decision_groups.groups(context)]


class GroupAsk(Ask):
    """A group by its cause."""

    sweep: Big | None = None
    act: Big | None = None
    kind: str = Field(max_length=20)


class GroupSettleAsk(GroupAsk):
    """many: the ones that wait only since they are too many at once, not those at a limit."""

    approve: bool
    many: bool


@router.post("/groups/settle")
def settle_group(context: WriteContext, ask: GroupSettleAsk) -> Done:
    n = decision_groups.answer_group(context, ask.sweep, ask.act, ask.kind, ask.approve, ask.many)
    return Done(message=f"{n} {'approved, the prices go out' if ask.approve else 'left as they are'}", count=n)


@router.post("/groups/undo")
def undo_group(context: WriteContext, ask: GroupAsk) -> Done:
    n = decision_groups.undo(context, ask.sweep, ask.act, ask.kind)
    return Done(message=f"{n} taken back, the old values go out again", count=n)


class DriftOut(BaseModel):
    """What a store shows otherwise than we asked. theirs_state 'missing': it does not have the listing."""

    id: int
    listing: int
    sku: str
    title: str
    store: str
    seen_at: datetime
    ours: Money
    theirs: Money
    our_quantity: int
    their_quantity: int
    our_state: str
    their_state: str


@router.get("/differences")
def differences(context: ReadContext) -> list[DriftOut]:
    return [
        DriftOut(
            id=one.drift.id,
            listing=one.listing.id,
            sku=one.sku.code,
            title=one.listing.title,
            store=one.store.name,
            seen_at=one.drift.seen_at,
            ours=sure(one.listing.wanted_price, one.listing.currency),
            theirs=sure(one.drift.price, one.listing.currency),
            our_quantity=one.listing.wanted_quantity,
            their_quantity=one.drift.quantity,
            our_state=one.listing.state,
            their_state=one.drift.state,
        )
        for one in drift.differing(context)[:500]
    ]


class DriftAsk(Ask):
    differences: list[Big] = Field(min_length=1, max_length=5000)
    ours: bool


@router.post("/differences/settle")
def settle_differences(context: WriteContext, ask: DriftAsk) -> Done:
    n = drift.resolve(context, ask.differences, ask.ours)
    return Done(message=f"{n} {'sent again as we want them' if ask.ours else 'taken as the store shows them'}", count=n)


@router.post("/differences/check")
def check_stores(context: WriteContext) -> Done:
    """Read all stores' own listings now."""
    n = rosters.read_stores_now(context)
    return Done(message=f"{n} store{'s are' if n != 1 else ' is'} being read", count=n)


class Looked(BaseModel):
    """How often one item is looked at, and why. changes: a day; wrong: what a day of being wrong costs."""

    item: int
    number: str
    title: str
    looks: float
    changes: float
    wrong: Money
    every: str


class Bin(BaseModel):
    name: str
    count: int


class CallsOut(BaseModel):
    """The calls plan of a supplier; loss and turns a month. bins: how many used items are looked at so often a day."""

    supplier: int
    name: str
    calls: int
    used: int
    unused: int
    a_sweep: int
    today: int
    day_limit: int | None
    hours: str
    loss: Money
    turns: Money
    bins: list[Bin]
    most: list[Looked]
    least: list[Looked]


_BINS = ((1.0, "less than daily"), (4.0, "1 to 4 a day"), (12.0, "4 to 12"), (24.0, "12 to 24"), (96.0, "24 to 96"), (1e9, "more"))


@router.get("/calls")
def calls_plans(context: ReadContext) -> list[CallsOut]:
    """For every supplier that tells one item a call: where its calls go, and what that saves."""
    out = []
    for supplier in rosters.suppliers(context, by_name=True):
        if able(context, supplier, Ability.one_by_one):
            out.append(_plan_out(context, supplier))
    return out


def _plan_out(context: Context, supplier: Supplier) -> CallsOut:
    plan = polling_plan.make(context, supplier)
    used, home = np.flatnonzero(plan.used == 1), home_of(context.session)
    order = used[np.argsort(-plan.looks[used], kind="stable")]
    picked = [*order[:12].tolist(), *order[12:][-6:].tolist()]
    rows = by_id(context.session, Item, [int(plan.items[i]) for i in picked])

    def message(i: int) -> Looked:
        row = rows[int(plan.items[i])]
        return Looked(
            item=row.id,
            number=row.number,
            title=row.title,
            looks=round(float(plan.looks[i]), 2),
            changes=round(float(plan.rate[i]), 3),
            wrong=sure(round(float(plan.weight[i])), home),
            every=_every(float(plan.looks[i])),
        )

    bins, low = [], 0.0
    for high, name in _BINS:
        bins.append(Bin(name=name, count=int(((plan.looks[used] >= low) & (plan.looks[used] < high)).sum())))
        low = high
    link = rosters.links(context).get(("supplier", supplier.id))
    limited = supplier.hour_from is not None and supplier.hour_to is not None
    return CallsOut(
        supplier=supplier.id,
        name=supplier.name,
        calls=int(plan.calls),
        used=len(used),
        unused=len(plan.items) - len(used),
        a_sweep=polling_plan.a_sweep(supplier, link),
        today=polling_plan.asked_today(context, supplier.id),
        day_limit=supplier.calls_day,
        hours=f"{supplier.hour_from:02d}:00 to {supplier.hour_to:02d}:00" if limited else "at all hours",
        loss=sure(round(plan.loss * 30), home),
        turns=sure(round(plan.turns * 30), home),
        bins=bins,
        most=[message(i) for i in picked[:12]],
        least=[message(i) for i in picked[12:]],
    )


def _every(looks: float) -> str:
    """'every 20 minutes', 'every 3 hours', 'every 2 days'."""
    if looks <= 0:
        return "never"
    minutes = 1440 / looks
    for limit, size, unit in ((90, 1, "minute"), (60 * 36, 60, "hour"), (1e12, 1440, "day")):
        if minutes < limit:
            n = max(round(minutes / size), 1)
            return f"every {n} {unit}s" if n > 1 else f"every {unit}"
    return ""


class ItemPoint(BaseModel):
    at: datetime
    cost: Money
    stock: int
    verdict: str


class ItemListing(BaseModel):
    listing: int
    sku_id: int
    sku: str
    title: str
    store: str
    state: str
    price: Money
    landed: Money | None
    profit: Money | None
    quantity: int
    use: int
    lane: str
    here: bool


class Tier(BaseModel):
    at: int
    cost: Money


class ItemPage(BaseModel):
    """Everything about one supplier item: what it is, what was seen of it, and all listings behind it."""

    id: int
    number: str
    title: str
    supplier_id: int
    supplier: str
    origin: str
    offer: str
    cost: Money
    stock: int
    pack: int
    weight_g: int
    gtin: str
    mpn: str
    brand: str
    category: str
    options: str
    tiers: list[Tier]
    seen_at: datetime | None
    looked_at: datetime | None
    looks: str
    doubt_cost: Money | None
    doubt_stock: int
    doubt_seen: int
    since: datetime
    points: list[ItemPoint]
    changes: int
    listings: list[ItemListing]


@router.get("/items/{number}")
def item_page(context: ReadContext, number: Big, days: Annotated[int, Query(ge=1, le=365)] = 60) -> ItemPage:
    """points: what it was at the start, and then every sighting that changed something or was not believed."""
    item = context.get(Item, number, "item")
    supplier = context.get(Supplier, item.supplier_id, "supplier")
    since = context.now - timedelta(days=days)
    seen = item_detail.sightings(context, number, since)
    points = [ItemPoint(at=r.at, cost=sure(r.cost, item.currency), stock=r.stock, verdict=r.verdict) for r in seen]
    start = sweeps.item_history(context, number, since)[0]
    points.insert(0, ItemPoint(at=since, cost=sure(start[1], item.currency), stock=start[2], verdict="start"))
    if item.look_every:
        looks = _every(86_400 / item.look_every)
    else:
        looks = (
            f"every {supplier.sweep_minutes} minutes, with every sweep"
            if sweeps.was_swept(context, supplier.id) and supplier.watching
            else "by hand"
        )
    origin = context.session.get(Origin, item.origin_id) if item.origin_id else None
    return ItemPage(
        id=item.id,
        number=item.number,
        title=item.title,
        supplier_id=supplier.id,
        supplier=supplier.name,
        origin=origin.name if origin else "",
        offer=item.offer,
        cost=sure(item.cost, item.currency),
        stock=item.stock,
        pack=item.pack_size,
        weight_g=item.weight_g,
        gtin=item.gtin,
        mpn=item.mpn,
        brand=item.brand,
        category=item.category,
        options=item.options,
        tiers=[Tier(at=int(at), cost=sure(int(cost), item.currency)) for at, cost in item.tiers or []],
        seen_at=item.seen_at,
        looked_at=item.looked_at,
        looks=looks,
        doubt_cost=money(item.doubt_cost, item.currency) if item.offer == "doubted" else None,
        doubt_stock=item.doubt_stock,
        doubt_seen=item.doubt_seen,
        since=since,
        points=points,
        changes=sum(1 for r in seen if r.verdict in ("good", "gone")),
        listings=_listings_of(context, number),
    )


def _listings_of(context: Context, item: int) -> list[ItemListing]:
    return [
        ItemListing(
            listing=listing.id,
            sku_id=sku.id,
            sku=sku.code,
            title=listing.title,
            store=name,
            state=listing.state,
            price=sure(listing.wanted_price, listing.currency),
            landed=money(listing.landed, listing.currency),
            profit=money(listing.profit, listing.currency),
            quantity=listing.wanted_quantity,
            use=lane.priority,
            lane=lane.state,
            here=listing.lane_id == lane.id,
        )
        for listing, sku, name, lane in item_detail.on_sale_by(context, item)
    ]
