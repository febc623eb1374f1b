"""Why a price is what it is: a sentence, the waterfall, the limits with whose rule gave them, and its past."""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import Annotated, Any

from fastapi import Query
from pydantic import BaseModel

from ...core.explain import Explained
from ...core.permissions import Permission as P
from ...data.setup import Store
from ...data.shelf import Listing
from ...data.source import Item
from ...services.base.context import Context
from ...services.monitoring import sweeps
from ...services.pricing import what_if
from ..deps import ReadContext
from ..guard import GuardedRouter
from ..schemas import Big, Money, money, sure

router = GuardedRouter("/prices", tags=["prices"], read=(P.SEE_GOODS, P.SEE_MONEY), write=(P.PRICE,))


class StepOut(BaseModel):
    name: str
    amount: Money
    kind: str


class BoundOut(BaseModel):
    name: str
    price: Money | None
    sets: bool
    message: str
    by: str = ""


class Behind(BaseModel):
    """A supplier item of the lane that fills a listing."""

    id: int
    number: str


class ExplanationOut(BaseModel):
    """Why a price is what it is: a sentence, the waterfall, the limits."""

    listing: int
    version: int
    sku: str
    title: str
    store: str
    state: str
    paused_by: str
    price: Money
    hand_price: Money | None
    hand_reason: str
    hand_until: datetime | None
    items: list[Behind]
    set_by: str
    outcome: str
    sentence: str
    apart: str = ""
    steps: list[StepOut]
    bounds: list[BoundOut]
    best: Money | None
    margin: float | None
    on_cost: float | None
    quantity: int
    supply: str
    old_price: Money | None = None
    response: int | None = None
    response_state: str | None = None


_NO_LANE = "It has no lane, so nothing is known of its cost and its price follows nobody."
_NO_RATE = "There is no exchange rate from its supplier's money: its cost is not known and the old price stands. Its stock is followed."


def _reason(context: Context, listing: Listing, sku: str, found: Explained | None, **more: object) -> ExplanationOut:
    store = context.get(Store, listing.store_id, "store")
    cur = listing.currency
    app: dict[str, Any] = dict(
        listing=listing.id,
        version=listing.version,
        sku=sku,
        title=listing.title,
        store=store.name,
        state=listing.state,
        paused_by=listing.paused_by,
        price=sure(found.price if found else listing.wanted_price, cur),
        hand_price=money(listing.hand_price, cur),
        hand_reason=listing.hand_reason,
        hand_until=listing.hand_until if listing.hand_price is not None else None,
        items=[Behind(id=number, number=code) for number, code in what_if.items_behind(context, listing)],
        quantity=listing.wanted_quantity,
        supply="",
        **more,
    )
    if found is None:
        return ExplanationOut(
            **app,
            set_by="nothing",
            outcome="ok",
            sentence=_NO_RATE if listing.lane_id else _NO_LANE,
            steps=[],
            bounds=[],
            best=None,
            margin=None,
            on_cost=None,
        )
    return ExplanationOut(
        **app,
        set_by=found.set_by,
        outcome=found.outcome,
        sentence=found.sentence,
        apart=found.apart,
        steps=[StepOut(name=s.name, amount=sure(s.amount, cur), kind=s.kind) for s in found.steps],
        bounds=[BoundOut(name=b.name, price=money(b.price, cur), sets=b.sets, message=b.message, by=b.by) for b in found.bounds],
        best=money(found.best, cur),
        margin=None if found.margin is None else found.margin / 10_000,
        on_cost=None if found.on_cost is None else found.on_cost / 10_000,
    )


@router.get("/listings/{number}/why")
def reason(context: ReadContext, number: Big) -> ExplanationOut:
    listing, sku, found = what_if.explain_price(context, number)
    return _reason(context, listing, sku.code, found)


@router.get("/responses/{number}/why")
def explain_decision(context: ReadContext, number: Big) -> ExplanationOut:
    response, listing, sku, found = what_if.explain_decision(context, number)
    return _reason(
        context,
        listing,
        sku.code,
        found,
        old_price=sure(response.old_price, listing.currency),
        response=response.id,
        response_state=response.state,
    )


class PricePoint(BaseModel):
    at: datetime
    price: Money
    landed: Money | None


class CostPoint(BaseModel):
    at: datetime
    cost: Money
    stock: int


class History(BaseModel):
    """Price and landed cost from the responses that were sent; what the item behind it cost, from its sightings."""

    points: list[PricePoint]
    costs: list[CostPoint]


@router.get("/listings/{number}/history")
def history(context: ReadContext, number: Big, days: Annotated[int, Query(ge=1, le=365)] = 60) -> History:
    """The last days, with what held at their beginning."""
    listing, since = context.get(Listing, number, "listing"), context.now - timedelta(days=days)
    rows = what_if.decisions_of(context, number, since)
    cur = listing.currency
    points = [PricePoint(at=r.at, price=sure(r.new_price, cur), landed=money((r.terms or {}).get("landed"), cur)) for r in rows]
    points.insert(0, PricePoint(at=since, price=sure(rows[0].old_price if rows else listing.wanted_price, cur), landed=None))
    behind = what_if.items_behind(context, listing)
    costs = []
    if behind:
        item = context.get(Item, behind[0][0], "item")
        seen = sweeps.item_history(context, item.id, since)
        costs = [CostPoint(at=at, cost=sure(cost, item.currency), stock=stock) for at, cost, stock in seen]
    return History(points=points, costs=costs)
