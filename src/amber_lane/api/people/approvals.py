"""Acts above somebody's limit: what waits for whom, approved (in whole or in part) by making the same call for them, or refused."""

from __future__ import annotations

from datetime import datetime

import anyio.to_thread
import httpx
from fastapi import Request, Response
from pydantic import BaseModel, Field
from starlette.types import Receive, Scope, Send

from ...core.states import ApprovalState
from ...data.people import Approval
from ...services.people import approvals
from ..deps import APPROVES, ReadContext, TheApp, WriteContext, context_of
from ..guard import GuardedRouter, for_everyone
from ..schemas import Ask, Big, Done, Money, sure

router = GuardedRouter("/approvals", tags=["people"], read=(), write=())


class ApprovalPart(BaseModel):
    id: int
    name: str
    amount: Money | None


class ApprovalOut(BaseModel):
    """reason: which limit it is above; why: what whoever asked gave as theirs; decision: why it was refused;
    mine: the one who looks asked for it; decides: they may decide it. parts: of which some may be approved alone."""

    id: int
    version: int
    at: datetime
    who: str
    limit: str
    amount: Money | None
    message: str
    reason: str
    why: str
    state: str
    decided_at: datetime | None
    decided_who: str
    decision: str
    parts: list[ApprovalPart]
    mine: bool
    decides: bool


@router.get("")
@for_everyone
def all_approvals(context: ReadContext) -> list[ApprovalOut]:
    """What waits for the one who looks, and what they asked for or decided, the newest first."""
    return [
        ApprovalOut(
            id=one.id,
            version=one.version,
            at=one.at,
            who=one.who,
            limit=one.limit,
            amount=None if one.amount is None else sure(one.amount, one.currency),
            message=one.message,
            reason=one.reason,
            why=str(one.body.get("reason") or ""),
            state=one.state,
            decided_at=one.decided_at,
            decided_who=one.decided_who,
            decision=one.decision,
            parts=[ApprovalPart(id=number, name=name, amount=sure(amount, one.currency)) for number, name, amount in one.parts]
            if one.parts_in
            else [],
            mine=one.person_id == context.person,
            decides=one.state == ApprovalState.waiting and approvals.may_decide(context, one),
        )
        for one in approvals.listed(context)
    ]


class ApproveAsk(Ask):
    """parts: these alone, null = all of it."""

    parts: list[Big] | None = Field(None, max_length=100_000)


@router.post("/{number}/approve")
@for_everyone
async def approve(request: Request, app: TheApp, number: Big, ask: ApproveAsk) -> Response:
    """Do what was asked for, as one's own act for whoever asked; its answer is this one's. Decided in the same transaction."""

    def read() -> tuple[str, str, dict[str, object]]:
        with app.db.reading() as s:
            row = context_of(request, s).get(Approval, number, "approval")
            return row.method, row.path, approvals.body_of(row, ask.parts)

    method, path, body = await anyio.to_thread.run_sync(read)

    async def again(scope: Scope, receive: Receive, send: Send) -> None:
        await request.app({**scope, APPROVES: number, "client": request.scope["client"]}, receive, send)

    headers = {name: request.headers[name] for name in ("cookie", "host", "x-amber-lane", "user-agent") if name in request.headers}
    base = f"{request.url.scheme}://{request.url.netloc}"
    async with httpx.AsyncClient(transport=httpx.ASGITransport(app=again), base_url=base) as client:
        done = await client.request(method, path, json=body, headers=headers)
    kept = {name: done.headers[name] for name in ("content-type", "retry-after") if name in done.headers}
    return Response(done.content, done.status_code, kept)


class RefuseAsk(Ask):
    version: int
    reason: str = Field("", max_length=300)


@router.post("/{number}/refuse")
@for_everyone
def refuse(context: WriteContext, number: Big, ask: RefuseAsk) -> Done:
    return Done(message=f"Refused; {approvals.refuse(context, number, ask.version, ask.reason).who} reads why")


@router.post("/{number}/withdraw")
@for_everyone
def withdraw(context: WriteContext, number: Big) -> Done:
    approvals.withdraw(context, number)
    return Done(message="You do not ask for it any more")
