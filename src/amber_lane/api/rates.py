"""Exchange rates, suppliers' plans, and the replay of rules over the past."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from fastapi import APIRouter
from pydantic import BaseModel, Field
from sqlalchemy import select

from ..core.money import show_rate
from ..data.setup import RateSource
from ..data.shelf import Listing
from ..services import rates, replay, supplier_plans
from ..services.facts import HOME
from .deps import ReadDesk, WriteDesk
from .prices import PlanBody, WhatIfAsk
from .shapes import Ask, Big, Done, Money, money, sure

router = APIRouter(prefix="/prices", tags=["prices"])


class RateOut(BaseModel):
    """A rate that prices need: from a supplier's money to a store's. rate None = nobody has entered it; old: nobody has told
    a new one for days."""

    base: str
    quote: str
    rate: str | None
    since: datetime | None
    source: str
    old: bool


class RateDoubt(BaseModel):
    """A rate that was told and is too far from the last one to be used before it is told again."""

    source: int
    name: str
    told: str
    was: str


class Rates(BaseModel):
    pairs: list[RateOut]
    doubts: list[RateDoubt]
    sources: list[str]


@router.get("/rates")
def get_rates(desk: ReadDesk) -> Rates:
    sources = desk.s.scalars(select(RateSource)).all()
    return Rates(
        pairs=[
            RateOut(
                base=one.base,
                quote=one.quote,
                rate=None if one.nano is None else show_rate(one.nano),
                since=one.since,
                source=one.source,
                old=one.old,
            )
            for one in rates.pairs(desk)
        ],
        doubts=[
            RateDoubt(source=row.id, name=name, told=show_rate(int(told["nano"])), was=show_rate(int(told["was"])))
            for row in sources
            for name, told in (row.doubted or {}).items()
        ],
        sources=[row.name for row in sources],
    )


class RateSettleAsk(Ask):
    name: str = Field(pattern="^[A-Z]{3} [A-Z]{3}$")
    believe: bool


@router.post("/rates/{source}/settle")
def settle_rate(desk: WriteDesk, source: Big, ask: RateSettleAsk) -> Done:
    rates.settle(desk, source, ask.name, ask.believe)
    return Done(told="Believed, the prices follow" if ask.believe else "Set aside, the old rate stands")


class PlanOut(BaseModel):
    """A plan beside our pace; money a month in the supplier's currency. pays_from None = it never pays."""

    supplier: int
    supplier_name: str
    version: int
    plan: PlanBody
    reached: bool
    counts: bool
    own: int
    pace: Money
    bought: Money
    pays_from: Money | None
    saves: Money
    share: float | None


@router.get("/plans")
def plans(desk: ReadDesk) -> list[PlanOut]:
    """Whether each membership and volume discount pays at the present pace."""
    return [
        PlanOut(
            supplier=one.supplier.id,
            supplier_name=one.supplier.name,
            version=one.supplier.version,
            plan=PlanBody(
                name=one.plan.name, discount=one.plan.discount, fee=one.plan.fee, from_spend=one.plan.from_spend, taken=one.plan.taken
            ),
            reached=one.plan.reached,
            counts=one.plan.counts,
            own=one.supplier.discount,
            pace=sure(one.pace, one.supplier.currency),
            bought=sure(one.bought, one.supplier.currency),
            pays_from=money(one.worth.pays_from, one.supplier.currency),
            saves=sure(one.worth.saves, one.supplier.currency),
            share=None if one.worth.share is None else one.worth.share / 1_000_000,
        )
        for one in supplier_plans.worths(desk)
    ]


class ReplayAsk(Ask):
    """Two sets of rules run over the last days; None = those in force."""

    days: int = Field(28, ge=1, le=60)
    one: WhatIfAsk | None = None
    other: WhatIfAsk | None = None


class ReplaySide(BaseModel):
    """What would have been. live: the share of the time on sale; days: earned on each day."""

    listings: int
    moves: int
    pauses: int
    live: float
    lines: int
    sold: int
    at_loss: int
    lost: Money
    oversold: int
    refunds: Money
    missed: int
    earned: Money
    days: list[float]


class ReplayMover(BaseModel):
    listing: int
    sku: str
    title: str
    one: Money
    other: Money


class ReplayOut(BaseModel):
    since: datetime
    one: ReplaySide
    other: ReplaySide
    movers: list[ReplayMover]


@router.post("/replay")
def run_replay(desk: ReadDesk, ask: ReplayAsk) -> ReplayOut:
    past = replay.read(desk, ask.days)
    one = replay.run(desk, past, ask.one.change() if ask.one else None)
    other = replay.run(desk, past, ask.other.change() if ask.other else None)
    gap = other.earned - one.earned
    order = [i for i in abs(gap).argsort(kind="stable")[::-1][:40].tolist() if gap[i]]
    titles = dict(
        desk.s.execute(select(Listing.id, Listing.title).where(Listing.id.in_([int(one.book.ids[i]) for i in order]))).tuples().all()
    )
    return ReplayOut(
        since=datetime.fromtimestamp(past.start / 1000, desk.now.tzinfo),
        one=_side(one),
        other=_side(other),
        movers=[
            ReplayMover(
                listing=int(one.book.ids[i]),
                sku=one.book.sku_code[i],
                title=titles.get(int(one.book.ids[i]), ""),
                one=sure(int(one.earned[i]), one.book.currency[i]),
                other=sure(int(other.earned[i]), one.book.currency[i]),
            )
            for i in order
        ],
    )


def _side(run: Any) -> ReplaySide:
    return ReplaySide(
        listings=len(run.book.ids),
        moves=run.moves,
        pauses=run.pauses,
        live=run.live_share / 1_000_000,
        lines=len(run.line_row),
        sold=run.count(0) + run.count(1),
        at_loss=run.count(replay.LOSS),
        lost=sure(run.sum(replay.LOSS), HOME),
        oversold=run.count(replay.OVERSOLD),
        refunds=sure(run.sum(replay.OVERSOLD), HOME),
        missed=run.count(replay.MISSED),
        earned=sure(int(run.sales.earned.sum()), HOME),
        days=[value / 100 for value in run.days],
    )
