"""Today, the pulse, the log, undo, and the finder."""

from __future__ import annotations

import json
from dataclasses import replace
from datetime import datetime
from typing import Annotated, Any

from fastapi import Depends, Query, Request, Response
from pydantic import BaseModel, Field
from sse_starlette.sse import EventSourceResponse

from ...connectors import payloads
from ...core.permissions import EVERYTHING
from ...core.permissions import Permission as P
from ...core.states import JobState
from ...data.outbox import Job
from ...services.activity import undo
from ...services.alerts import today
from ...services.alerts.alert import SHOWN
from ...services.base import portions
from ...services.base.errors import MayNot, NotFound
from ...services.base.regional import home_of
from ...services.grids import find_anything, goods_grids
from ...services.grids.goods_grids import GridQuery
from ...services.outbox import queue
from ...services.partners import rosters
from ...services.people import handing_out
from ..deps import ReadContext, SignedIn, TheApp, WriteContext
from ..guard import GuardedRouter, for_everyone, needs
from ..pulse import Pulse, mine_of
from ..schemas import Ask, Big, Done, Money, Page, rows_out, sure, wish, written

router = GuardedRouter(tags=["today"], read=(), write=())


class NextStep(BaseModel):
    label: str
    act: bool
    go: str


class AlertMember(BaseModel):
    """One of what a row stands for; its key does the row's step for it alone."""

    key: str
    name: str
    message: str
    go: str
    at_risk: Money | None


class PickOut(BaseModel):
    value: str
    name: str


class AlertOut(BaseModel):
    key: str
    station: str
    kind: str
    message: str
    reason: str
    since: datetime
    step: NextStep
    other: NextStep | None
    at_risk: Money | None
    per_day: bool
    tone: str
    count: int
    # The dearest of what it stands for, and how many more there are.
    members: list[AlertMember]
    more_members: int
    choices: list[PickOut]
    # Whom it is given to, '' = nobody; mine: whoever looks.
    given: str
    mine: bool


class Flow(BaseModel):
    supplier: int
    supplier_name: str
    store: int
    store_name: str
    lines: int
    slow: int


class ActOut(BaseModel):
    id: int
    at: datetime
    who: str
    kind: str
    on: str
    message: str
    reason: str
    undo: str
    before: Any = None
    after: Any = None


class AloneOut(ActOut):
    """The newest of its kind; times and count: how often since `since`, and how many things by all of them."""

    times: int
    count: int
    since: datetime


class Day(BaseModel):
    """By the journal. expected: what orders that are ready now are to leave, of today alone."""

    day: str
    profit: Money
    sales: Money
    expected: Money


class Today(BaseModel):
    alerts: list[AlertOut]
    a_day: Money | None
    once: Money | None
    flow: list[Flow]
    alone: list[AloneOut]
    days: list[Day]
    # Currencies that have no rate to the house's, so that what is in them is in no sum.
    left_out: list[str]


def _act(row: object) -> ActOut:
    return ActOut.model_validate(row, from_attributes=True)


@router.get("/today")
@for_everyone
def get_today(context: ReadContext) -> Today:
    found, home = today.open_for(context), home_of(context.session)
    allowed, has = context.allowed or EVERYTHING, handing_out.given(context)
    days, left_out = today.profit_by_day(context) if allowed.may(P.SEE_BOOKS) else ([], [])
    whole = not allowed.scope.limited and allowed.may(P.SEE_ORDERS, P.SEE_MONEY)
    return Today(
        alerts=[
            AlertOut(
                key=t.key,
                station=t.station,
                kind=t.kind,
                message=t.message,
                reason=t.reason,
                since=t.since,
                step=NextStep(label=t.step.label, act=t.step.act, go=t.step.go),
                other=NextStep(label=t.other.label, act=t.other.act, go=t.other.go) if t.other else None,
                at_risk=sure(t.at_risk, home),
                per_day=t.per_day,
                tone=t.tone,
                count=t.count,
                members=[
                    AlertMember(key=m.key, name=m.name, message=m.message, go=m.go, at_risk=sure(m.at_risk, home))
                    for m in t.members[:SHOWN]
                ],
                more_members=max((t.members_of or len(t.members)) - SHOWN, 0),
                choices=[PickOut(value=value, name=name) for value, name in t.choices],
                given=has[t.key].name if t.key in has else "",
                mine=t.key in has and has[t.key].mine,
            )
            for t in found
        ],
        a_day=sure(sum(t.at_risk for t in found if t.per_day), home),
        once=sure(sum(t.at_risk for t in found if not t.per_day), home),
        flow=[Flow(**one) for one in today.flow(context)] if whole else [],
        alone=[
            AloneOut(**_act(one.act).model_dump(), times=one.times, count=one.count, since=one.since)
            for one in (today.done_alone(context) if whole else [])
        ],
        days=[
            Day(day=one.day.isoformat(), profit=sure(one.profit, home), sales=sure(one.sales, home), expected=sure(one.expected, home))
            for one in days
        ],
        left_out=left_out,
    )


class AlertStepAsk(Ask):
    """other: the second way on, not the best step. choice: what was chosen, where the step asks for one. keys: of a cause, these alone."""

    key: str = Field(max_length=200)
    other: bool | None = None
    choice: str | None = Field(None, max_length=200)
    keys: list[str] | None = Field(None, max_length=2000)


class SnoozeAsk(Ask):
    key: str = Field(max_length=200)
    hours: int = Field(4, ge=1, le=24 * 30)
    until_change: bool = False


@router.post("/today/step")
@for_everyone
def do_step(context: WriteContext, ask: AlertStepAsk) -> Done:
    return Done(message=today.do_step(context, ask.key, bool(ask.other), ask.choice or "", ask.keys or ()))


@router.post("/today/snooze")
@for_everyone
def snooze(context: WriteContext, ask: SnoozeAsk) -> Done:
    today.put_off(context, ask.key, ask.hours, ask.until_change)
    return Done(message="put off until it changes" if ask.until_change else f"put off for {ask.hours} h")


class GiveAsk(Ask):
    """person: to whom; null = to nobody, so that it is everybody's again."""

    key: str = Field(max_length=200)
    person: Big | None


@router.post("/today/give")
@for_everyone
def give(context: WriteContext, ask: GiveAsk) -> Done:
    """Give a row to somebody, who sees it first."""
    return Done(message=today.give(context, ask.key, ask.person))


class Helper(BaseModel):
    id: int
    name: str


@router.get("/today/helpers")
@for_everyone
def helpers(context: ReadContext, station: Annotated[str, Query(max_length=20)]) -> list[Helper]:
    """To whom a row of a station can be given."""
    if not today.is_theirs(context, station):
        return []
    return [Helper(id=one.id, name=one.name) for one in handing_out.may_take(context, today.takes(station))]


@router.get("/acts", response_model=Page[ActOut])
@for_everyone
def acts(context: ReadContext, ask: Annotated[GridQuery, Depends(wish)]) -> Response:
    if not (context.allowed or EVERYTHING).may(P.SETTINGS):
        # What others did is a manager's to read; everybody reads their own.
        ask = replace(ask, filters={**(ask.filters or {}), "person": str(context.person)})
    rows, total = goods_grids.page(context, "acts", ask)
    return written({"rows": rows_out(rows, {}), "total": total})


@router.post("/acts/{number}/undo")
@for_everyone
def undo_act(context: WriteContext, number: Big) -> Done:
    undo.may_take_back(context, number)
    return Done(message=f"Undone: {undo.undo(context, number).message}")


class OutboxOut(BaseModel):
    """One change for the outside. about: the SKU, order or address it concerns; asks: what it asks for."""

    id: int
    key: str
    target: str
    about: str
    asks: str
    kind: str
    state: str
    tries: int
    made_at: datetime
    done_at: datetime | None
    answer: str
    overtaken_by: str | None


@router.get("/outbox", response_model=Page[OutboxOut])
@needs(P.SETTINGS)
def outbox_rows(context: ReadContext, ask: Annotated[GridQuery, Depends(wish)]) -> Response:
    rows, total = goods_grids.page(context, "outbox", ask)
    names = rosters.target_names(context)
    out = []
    for one in rows_out(rows, {}):
        said = payloads.read(one["kind"], json.loads(one.pop("body")))
        out.append(
            one | {"target": names.get(one["target"], ""), "about": said.about if said else "", "asks": said.summary if said else ""}
        )
    return written({"rows": out, "total": total})


@router.post("/outbox/{number}/retry")
@needs(P.SETTINGS)
def retry(context: WriteContext, number: Big) -> Done:
    return Done(message=f"Tried again: {queue.about(queue.retry(context, number))}")


class Found(BaseModel):
    kind: str
    name: str
    message: str
    go: str


@router.get("/find")
@for_everyone
def find(context: ReadContext, words: Annotated[str, Query(max_length=100)]) -> list[Found]:
    """SKUs, orders, tracking numbers, purchase orders and items that hold the words."""
    return [Found(kind=one.kind, name=one.name, message=one.message, go=one.go) for one in find_anything.find(context, words.strip())]


class JobOut(BaseModel):
    id: int
    kind: str
    title: str
    state: str
    total: int
    done: int
    message: str
    result: Any = None
    made_at: datetime
    ended_at: datetime | None


@router.get("/jobs/{number}")
@for_everyone
def job(context: ReadContext, number: Big) -> JobOut:
    made = JobOut.model_validate(context.get(Job, number, "job"), from_attributes=True)
    # What it made is of the one view that began it, and may hold money in its own way.
    return made if (context.allowed or EVERYTHING).may(P.SEE_MONEY) else made.model_copy(update={"result": None})


@router.post("/jobs/{number}/stop")
@for_everyone
def stop_job(context: WriteContext, number: Big) -> Done:
    row = context.get(Job, number, "job")
    if row.body.get("person") != context.person and not (context.allowed or EVERYTHING).may(P.SETTINGS):
        raise MayNot("somebody else began this; a manager stops it")
    if row.state not in (JobState.waiting, JobState.running):
        raise NotFound("this job has ended")
    if row.kind in portions.WORK:
        portions.stop(context, row)
    row.stop_asked = True
    return Done(message=f"{row.title} is being stopped")


@router.get("/pulse")
@for_everyone
def pulse(app: TheApp, number: SignedIn) -> Pulse:
    return mine_of(app, number)


@router.get("/events", response_class=EventSourceResponse)
@for_everyone
async def events(request: Request, app: TheApp, number: SignedIn) -> EventSourceResponse:
    """The pulse as server-sent events, whenever something changed."""
    return EventSourceResponse(request.app.state.live.listen(request, number))
