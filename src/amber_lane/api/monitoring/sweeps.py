"""Sweeps, responses, doubted items and held sweeps."""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import Annotated

from fastapi import Depends, Query, Response
from pydantic import BaseModel, Field

from ...core.permissions import Permission as P
from ...data.setup import Supplier
from ...data.tallies import tally as tally_of
from ...data.watch import Sweep
from ...services.base.job_queue import start
from ...services.catalogue import item_detail
from ...services.grids import goods_grids
from ...services.grids.goods_grids import GridQuery
from ...services.listings import drift
from ...services.monitoring import sweeps
from ...services.partners import rosters
from ...services.pricing import what_if
from ..deps import ReadContext, WriteContext
from ..guard import GuardedRouter
from ..schemas import Ask, Big, Done, Money, Page, rows_out, sure, wish, written

router = GuardedRouter("/watch", tags=["watch"], read=(P.SEE_GOODS, P.SEE_MONEY), write=(P.PRICE,))


class Mark(BaseModel):
    """One sweep of the strip."""

    id: int
    started: datetime
    ended: datetime | None
    state: str
    changes: int
    doubted: int
    refused: int
    retries: int
    calls: int
    items: int
    message: str
    asked_by: str


class Strip(BaseModel):
    supplier_id: int
    supplier: str
    kind: str
    every: int
    items: int
    next_sweep: datetime | None
    good_at: datetime | None
    stale: bool
    watching: bool
    link: str
    message: str
    marks: list[Mark]


@router.get("/strips")
def strips(context: ReadContext, hours: Annotated[int, Query(ge=1, le=24 * 14)] = 15) -> list[Strip]:
    """Each supplier's sweeps of the last hours."""
    items, links, out = item_detail.item_counts(context), rosters.links(context), []
    for supplier in rosters.suppliers(context, by_name=True):
        marks = sweeps.since(context, supplier.id, context.now - timedelta(hours=hours))
        link = links.get(("supplier", supplier.id))
        out.append(
            Strip(
                supplier_id=supplier.id,
                supplier=supplier.name,
                kind=supplier.kind,
                every=supplier.sweep_minutes,
                items=items.get(supplier.id, 0),
                next_sweep=supplier.next_sweep,
                good_at=supplier.good_sweep_at,
                stale=supplier.stale,
                watching=supplier.watching,
                link=link.state if link else "none",
                message=link.message if link else "",
                marks=[Mark.model_validate(one, from_attributes=True) for one in reversed(marks)],
            )
        )
    return out


class ResponseOut(BaseModel):
    id: int
    at: datetime
    kind: str
    state: str
    listing: int
    sku: str
    title: str
    store: str
    item: str | None
    item_title: str | None
    item_id: int | None
    old_price: Money
    new_price: Money
    old_quantity: int
    new_quantity: int
    old_state: str
    new_state: str
    set_by: int
    outcome: int
    sweep: int | None
    act: int | None
    # What was done here that it follows, where it was no sweep.
    cause: str | None


@router.get("/responses", response_model=Page[ResponseOut])
def responses(context: ReadContext, ask: Annotated[GridQuery, Depends(wish)]) -> Response:
    rows, total = goods_grids.page(context, "responses", ask)
    return written({"rows": rows_out(rows, {"old_price": "currency", "new_price": "currency"}), "total": total})


class Tally(BaseModel):
    states: dict[str, int]
    kinds: dict[str, int]
    doubted: int
    differs: int


@router.get("/tally")
def tally(context: ReadContext) -> Tally:
    """How many responses of each state and kind, for the filters."""
    s = context.session
    states, kinds = ({key: n for (key,), n in tally_of(s, f"decisions by {what}").items()} for what in ("state", "kind"))
    return Tally(states=states, kinds=kinds, doubted=sweeps.count_doubted(context), differs=drift.counted(context))


class Doubt(BaseModel):
    item_id: int
    number: str
    title: str
    supplier: str
    cost: Money
    stock: int
    seen_cost: Money
    seen_stock: int
    seen_again: int


@router.get("/doubts")
def doubts(context: ReadContext) -> list[Doubt]:
    return [
        Doubt(
            item_id=i.id,
            number=i.number,
            title=i.title,
            supplier=name,
            cost=sure(i.cost, i.currency),
            stock=i.stock,
            seen_cost=sure(i.doubt_cost, i.currency),
            seen_stock=i.doubt_stock,
            seen_again=i.doubt_seen,
        )
        for i, name in sweeps.doubted(context)
    ]


class Believe(Ask):
    believe: bool


@router.post("/doubts/{item}")
def settle_doubt(context: WriteContext, item: Big, ask: Believe) -> Done:
    sweeps.settle_doubt(context, item, ask.believe)
    return Done(message="Believed, the listings follow" if ask.believe else "Set aside, the last good values stand")


@router.post("/sweeps/{sweep}/settle")
def settle_held(context: WriteContext, sweep: Big, ask: Believe) -> Done:
    counts = sweeps.settle_held(context, sweep, ask.believe)
    context.carry_out()
    return Done(message=sweeps.tell_counts(counts) or "Nothing had to change" if ask.believe else "Set aside, the last good stock stands")


class HeldOut(BaseModel):
    sweep: Mark
    supplier: str
    rows: list[dict[str, str | int]]


@router.get("/sweeps/{sweep}")
def sweep(context: ReadContext, sweep: Big) -> HeldOut:
    """One sweep with the sightings that it wrote."""
    row = context.get(Sweep, sweep, "sweep")
    return HeldOut(
        sweep=Mark.model_validate(row, from_attributes=True),
        supplier=context.get(Supplier, row.supplier_id, "supplier").name,
        rows=[
            {
                "item": i.number,
                "title": i.title,
                "verdict": s.verdict,
                "old_stock": s.old_stock,
                "stock": s.stock,
                "old_cost": sure(s.old_cost, i.currency).amount,
                "cost": sure(s.cost, i.currency).amount,
                "currency": i.currency,
            }
            for s, i in sweeps.written_by(context, sweep)
        ],
    )


@router.post("/sweeps/{sweep}/undo")
def undo_sweep(context: WriteContext, sweep: Big) -> Done:
    """Send the old values again for all that a sweep did; listings with newer changes stay as they are."""
    row = context.get(Sweep, sweep, "sweep")
    n = sweeps.take_back(context, sweep=row.id)
    return Done(message=f"{n} taken back, the old values go out again", count=n)


@router.post("/suppliers/{supplier}/sweep")
def sweep_now(context: WriteContext, supplier: Big) -> Done:
    row = context.get(Supplier, supplier, "supplier")
    start(context, "sweep", f"sweep-{supplier}", f"Sweep of {row.name}", {"id": supplier})
    return Done(message=f"A sweep of {row.name} starts now")


class Pick(Ask):
    responses: list[Big] = Field(min_length=1, max_length=200_000)


class SettleAsk(Pick):
    approve: bool


@router.post("/responses/undo")
def undo_responses(context: WriteContext, ask: Pick) -> Done:
    n = sweeps.take_back(context, responses=ask.responses)
    return Done(message=f"{n} taken back", count=n)


@router.post("/responses/settle")
def settle(context: WriteContext, ask: SettleAsk) -> Done:
    n = what_if.answer_waiting(context, ask.responses, ask.approve)
    return Done(message=f"{n} settled", count=n)
