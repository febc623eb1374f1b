"""Exchange rates, suppliers' plans, and the replay of rules over the past."""

from __future__ import annotations

from datetime import datetime
from uuid import uuid4

from fastapi import Request
from pydantic import BaseModel, Field

from ...core.numbers import plain_rate, show_rate
from ...core.permissions import Permission as P
from ...data.tallies import tally
from ...services.base.job_queue import start
from ...services.pricing import exchange_rates, memberships, replay_summary
from ..deps import Heavy, ReadContext, SignedIn, TheApp, WriteContext, context_of
from ..guard import GuardedRouter, needs
from ..schemas import Ask, Big, Done, Money, money, sure
from .prices import PlanBody, WhatIfAsk

router = GuardedRouter("/prices", tags=["prices"], read=(P.SEE_MONEY,), write=(P.PRICE,))
# Of so many listings a replay is waited for; of more it is a job.
AT_ONCE = 3000


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
    message: str
    was: str


class Rates(BaseModel):
    pairs: list[RateOut]
    doubts: list[RateDoubt]
    sources: list[str]


@router.get("/rates")
def get_rates(context: ReadContext) -> Rates:
    sources = exchange_rates.sources(context)
    return Rates(
        pairs=[
            RateOut(
                base=one.base,
                quote=one.quote,
                rate=None if one.nano is None else plain_rate(one.nano),
                since=one.since,
                source=one.source,
                old=one.old,
            )
            for one in exchange_rates.pairs(context)
        ],
        doubts=[
            RateDoubt(source=row.id, name=name, message=show_rate(int(message["nano"])), was=show_rate(int(message["was"])))
            for row in sources
            for name, message in (row.doubted or {}).items()
        ],
        sources=[row.name for row in sources],
    )


class RateSettleAsk(Ask):
    name: str = Field(pattern="^[A-Z]{3} [A-Z]{3}$")
    believe: bool


@router.post("/rates/{source}/settle")
def settle_rate(context: WriteContext, source: Big, ask: RateSettleAsk) -> Done:
    exchange_rates.answer_doubt(context, source, ask.name, ask.believe)
    return Done(message="Believed, the prices follow" if ask.believe else "Set aside, the old rate stands")


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
def plans(context: ReadContext) -> list[PlanOut]:
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
        for one in memberships.worths(context)
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
    left_out: list[str] = Field(default_factory=list)


class ReplayStart(BaseModel):
    """What came of it; or the job that works on it, whose result that will be."""

    out: ReplayOut | None
    job: int | None


@router.post("/replay", dependencies=[Heavy])
@needs(P.SEE_GOODS, P.SEE_MONEY)
def run_replay(request: Request, app: TheApp, number: SignedIn, ask: ReplayAsk) -> ReplayStart:
    one, other = (given.change() if given else None for given in (ask.one, ask.other))
    with app.db.reading() as s:
        context = context_of(request, s)
        if sum(n for n in tally(s, "listings").values()) <= AT_ONCE:
            return ReplayStart(out=ReplayOut(**replay_summary.beside(context, ask.days, one, other)), job=None)
    body = {"days": ask.days, "one": replay_summary.as_stored(one), "other": replay_summary.as_stored(other)}
    with app.db.writing() as s:
        job = start(context_of(request, s), "replay", f"replay-{number}-{uuid4().hex}", f"Replay of {ask.days} days", body, 100)
        return ReplayStart(out=None, job=job.id)
