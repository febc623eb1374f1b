"""Lanes: what to settle, candidates, opening and changing, and all settled lanes."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated

import numpy as np
from fastapi import APIRouter, Depends, Query, Response
from pydantic import BaseModel, Field
from sqlalchemy import select

from ..core.money import parse_units, show_units
from ..core.price import Outcome
from ..data.lanes import LanePart
from ..data.setup import Origin, Supplier
from ..data.shelf import Listing, Sku
from ..data.source import Item
from ..services import lanes, likeness, lists, watch
from ..services.book import load
from ..services.desk import Desk, Invalid, by_id
from ..services.lists import Wish
from ..services.respond import decide, with_sharers
from .deps import ReadDesk, WriteDesk
from .shapes import Ask, Big, Done, Money, Page, money, rows_out, sure, wish, written

router = APIRouter(prefix="/lanes", tags=["lanes"])


class ToSettle(BaseModel):
    sku_id: int
    sku: str
    title: str
    orders: int


class CandidateOut(BaseModel):
    item_id: int
    number: str
    title: str
    supplier: str
    origin: str
    cost: Money
    stock: int
    offer: str
    pack_size: int
    agrees: list[str]
    differs: list[str]
    score: int


class LanePartOut(BaseModel):
    item_id: int
    number: str
    title: str
    units: str
    cost: Money
    stock: int
    offer: str


class LaneOut(BaseModel):
    id: int
    version: int
    use: int
    state: str
    why: str
    supplier: str
    origin: str
    service: str
    opened_at: datetime
    opened_by: str
    parts: list[LanePartOut]


class SkuOut(BaseModel):
    """A SKU with what sells it and what fills it, and what opening a lane would do."""

    sku_id: int
    sku: str
    title: str
    gtin: str
    brand: str
    options: str
    price: Money | None
    state: str | None
    listing: int | None
    orders_waiting: int
    lanes: list[LaneOut]


class LaneRow(BaseModel):
    id: int
    version: int
    sku_id: int
    sku: str
    title: str
    use: int
    state: str
    why: str
    supplier: str
    origin: str
    service: str
    item_id: int
    item: str
    item_title: str
    units_num: int
    units_den: int
    cost: Money
    stock: int
    offer: str
    landed: Money | None
    profit: Money | None
    net: Money | None
    price: Money | None
    opened_at: datetime
    opened_by: str


@router.get("", response_model=Page[LaneRow])
def settled(desk: ReadDesk, ask: Annotated[Wish, Depends(wish)]) -> Response:
    rows, total = lists.page(desk, "lanes", ask)
    return written(
        {
            "rows": rows_out(
                rows, {"cost": "cost_currency", "landed": "currency", "profit": "currency", "net": "currency", "price": "currency"}
            ),
            "total": total,
        }
    )


@router.get("/to-settle")
def to_settle(desk: ReadDesk) -> list[ToSettle]:
    return [ToSettle(sku_id=sku.id, sku=sku.code, title=sku.title, orders=n) for sku, n in lanes.unmapped(desk)]


def _lanes(desk: Desk, sku: int) -> list[LaneOut]:
    found = lanes.lanes_of(desk, sku)
    items = by_id(desk.s, Item, (part.item_id for _, parts in found for part in parts))
    suppliers = by_id(desk.s, Supplier, (lane.supplier_id for lane, _ in found))
    origins = by_id(desk.s, Origin, (lane.origin_id for lane, _ in found))
    return [
        LaneOut(
            id=lane.id,
            version=lane.version,
            use=lane.use,
            state=lane.state,
            why=lane.why,
            supplier=suppliers[lane.supplier_id].name,
            origin=origins[lane.origin_id].name,
            service=lane.service,
            opened_at=lane.opened_at,
            opened_by=lane.opened_by,
            parts=[_part(part, items[part.item_id]) for part in parts],
        )
        for lane, parts in found
    ]


def _part(part: LanePart, item: Item) -> LanePartOut:
    return LanePartOut(
        item_id=item.id,
        number=item.number,
        title=item.title,
        units=show_units(part.units_num, part.units_den),
        cost=sure(item.cost, item.currency),
        stock=item.stock,
        offer=item.offer,
    )


@router.get("/skus/{sku_id}")
def sku(desk: ReadDesk, sku_id: Big) -> SkuOut:
    row = desk.get(Sku, sku_id, "SKU")
    listing = desk.s.scalar(select(Listing).where(Listing.sku_id == sku_id).limit(1))
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
        orders_waiting=lanes.effect_of_opening(desk, row)["orders"],
        lanes=_lanes(desk, sku_id),
    )


@router.get("/skus/{sku_id}/candidates")
def candidates(desk: ReadDesk, sku_id: Big, words: Annotated[str, Query(max_length=200)] = "") -> list[CandidateOut]:
    row = desk.get(Sku, sku_id, "SKU")
    found = likeness.candidates(desk, row, words, limit=9 if words else 6)
    suppliers = lanes.supplier_names(desk)
    origins = by_id(desk.s, Origin, (one.item.origin_id or 0 for one in found))
    return [
        CandidateOut(
            item_id=c.item.id,
            number=c.item.number,
            title=c.item.title,
            supplier=suppliers[c.item.supplier_id],
            origin=origins[c.item.origin_id].name if c.item.origin_id else "",
            cost=sure(c.item.cost, c.item.currency),
            stock=c.item.stock,
            offer=c.item.offer,
            pack_size=c.item.pack_size,
            agrees=c.agrees,
            differs=c.differs,
            score=c.score,
        )
        for c in found
    ]


class PartAsk(Ask):
    item_id: Big
    units: str = Field("1", max_length=20)


class OpenAsk(Ask):
    sku_id: Big
    parts: list[PartAsk] = Field(min_length=1, max_length=30)
    use: int = Field(0, ge=0, le=99)
    service: str | None = Field(None, max_length=50)


class Preview(BaseModel):
    """What a lane would mean, tried and thrown away."""

    landed: Money | None
    price: Money | None
    profit: Money | None
    shows: int
    orders: int
    outcome: str


def _parts(ask: OpenAsk) -> list[lanes.Part]:
    try:
        return [lanes.Part(part.item_id, parse_units(part.units)) for part in ask.parts]
    except ValueError as error:
        raise Invalid(str(error), {"units": str(error)}) from error


@router.post("/preview")
def preview(desk: WriteDesk, ask: OpenAsk) -> Preview:
    """Open the lane in a writing transaction (so that it waits its turn), say what came of it, and take it all back."""
    row = desk.get(Sku, ask.sku_id, "SKU")
    orders = lanes.effect_of_opening(desk, row)["orders"]
    lanes.open_lane(desk, ask.sku_id, _parts(ask), ask.use, service=ask.service, respond_now=False)
    listing = desk.s.scalar(select(Listing).where(Listing.sku_id == ask.sku_id).limit(1))
    if listing is None:
        desk.s.rollback()
        return Preview(landed=None, price=None, profit=None, shows=0, orders=orders, outcome="no listing")
    book = load(desk, with_sharers(desk, {ask.sku_id}))
    shown = decide(book, counted=False)
    rows = np.flatnonzero(book.sku == ask.sku_id)
    desk.s.rollback()
    if not len(rows):
        return Preview(landed=None, price=None, profit=None, shows=0, orders=orders, outcome="not on sale")
    currency, shows = listing.currency, int(shown.quantity[rows[0]])
    if not book.counted[rows[0]]:
        return Preview(landed=None, price=None, profit=None, shows=shows, orders=orders, outcome="no rate")
    return Preview(
        landed=sure(int(book.landed[rows[0]]), currency),
        price=money(int(shown.priced.price[rows[0]]), currency),
        profit=money(int(shown.priced.kept.profit[rows[0]]), currency),
        shows=shows,
        orders=orders,
        outcome=Outcome(int(shown.priced.outcome[rows[0]])).name,
    )


@router.post("", status_code=201)
def open_lane(desk: WriteDesk, ask: OpenAsk) -> Done:
    lanes.open_lane(desk, ask.sku_id, _parts(ask), ask.use, service=ask.service)
    row = desk.get(Sku, ask.sku_id, "SKU")
    return Done(told=f"Lane opened for {row.code}")


class ChangeAsk(Ask):
    version: int
    units: str | None = Field(None, max_length=20)
    use: int | None = Field(None, ge=0, le=99)
    service: str | None = Field(None, max_length=50)
    state: str | None = Field(None, pattern="^(new|open|slow|shut)$")
    why: str = Field("", max_length=300)


class CloseAsk(Ask):
    version: int
    why: str = Field("", max_length=300)


@router.patch("/{number}")
def change(desk: WriteDesk, number: Big, ask: ChangeAsk) -> Done:
    try:
        units = parse_units(ask.units) if ask.units else None
    except ValueError as error:
        raise Invalid(str(error), {"units": str(error)}) from error
    lanes.change_lane(desk, number, ask.version, units, ask.use, ask.service, ask.state, ask.why)
    return Done(told="Lane changed")


@router.post("/{number}/close")
def close(desk: WriteDesk, number: Big, ask: CloseAsk) -> Done:
    lanes.close_lane(desk, number, ask.version, ask.why)
    return Done(told="Lane closed")


class Point(BaseModel):
    at: datetime
    cost: Money
    stock: int


@router.get("/items/{item_id}/history")
def history(desk: ReadDesk, item_id: Big) -> list[Point]:
    item = desk.get(Item, item_id, "item")
    return [Point(at=one["at"], cost=sure(one["cost"], item.currency), stock=one["stock"]) for one in watch.item_history(desk, item_id)]
