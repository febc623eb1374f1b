"""Acts above somebody's limit: asked for, and done by somebody who may, in whose transaction it is decided; or refused."""

from __future__ import annotations

import hashlib
import json
from typing import Any

from sqlalchemy import or_, select

from ...core.permissions import Limit, Permission
from ...core.states import APPROVAL, ApprovalState
from ...data.base import by_index
from ...data.people import IS_WAITING, Approval
from ..base.context import Context
from ..base.errors import AboveLimit, Conflict, Invalid, MayNot
from ..base.regional import home_of

SHOWN = 100
# Who spends orders; who refunds orders or follows cases.
DOES = {Limit.SPEND: (Permission.ORDER,), Limit.REFUND: (Permission.ORDER, Permission.CLAIM)}


def ask(context: Context, error: AboveLimit, method: str, path: str, body: dict[str, Any]) -> Approval:
    """Ask for a call that was above the limit of whoever acts; the same call is asked for once."""
    if error.parts_in:
        # What was asked for is what was there then, also where the call meant all of it.
        body = {**body, error.parts_in: sorted(number for number, _, _ in error.parts)}
    mark = hashlib.sha256(json.dumps([method, path, body], sort_keys=True).encode()).hexdigest()
    mine = (Approval.person_id == context.person, Approval.mark == mark, IS_WAITING)
    if (there := context.session.scalar(select(Approval).where(*mine))) is not None:
        return there
    row = Approval(
        at=context.now,
        state=APPROVAL.first,
        person_id=context.person,
        who=context.actor,
        limit=error.limit.value,
        amount=error.amount,
        currency=home_of(context.session),
        message=error.what,
        reason=error.reason,
        method=method,
        path=path,
        body=body,
        mark=mark,
        parts=[list(one) for one in error.parts],
        parts_in=error.parts_in if len(error.parts) > 1 else "",
    )
    context.session.add(row)
    context.session.flush()
    context.log("approval.ask", row.message, f"{row.who} asks for: {row.message}", reason=row.reason)
    return row


def waiting(context: Context) -> list[Approval]:
    """What waits, the oldest first."""
    query = select(Approval).where(IS_WAITING).order_by(Approval.id)
    return list(context.session.scalars(by_index(query, Approval, "ix_approval_waiting")))


def listed(context: Context) -> list[Approval]:
    """What whoever asks may see: what they asked for, what they decided, and what waits for them."""
    mine = or_(Approval.person_id == context.person, Approval.decided_by == context.person)
    rows = context.session.scalars(select(Approval).where(mine).order_by(Approval.id.desc()).limit(SHOWN)).all()
    theirs = [one for one in waiting(context) if may_decide(context, one)]
    return [*theirs, *(one for one in rows if one not in theirs)]


def may_decide(context: Context, row: Approval) -> bool:
    """Whether whoever acts may approve it: somebody else than who asked, who does such things, and whose own limit is not below it."""
    allowed = context.allowed
    if allowed is None or row.person_id == context.person or allowed.scope.limited:
        return False
    if not any(allowed.may(one) for one in DOES[Limit(row.limit)]):
        return False
    most = allowed.role.limit(Limit(row.limit))
    return most is None or (row.amount is not None and most >= row.amount)


def body_of(row: Approval, parts: list[int] | None) -> dict[str, Any]:
    """The call's body as it was asked for, or with these parts of it alone."""
    if parts is None:
        return row.body
    asked = {one[0] for one in row.parts}
    if not row.parts_in or not parts or not set(parts) <= asked:
        raise Invalid("choose among what was asked for", {"parts": "are none of it"})
    return {**row.body, row.parts_in: sorted(set(parts))}


def approve(context: Context, number: int) -> str:
    """Decide it, in the transaction that does what was asked for. Returns who acts, for whom. Conflict where it is decided already."""
    row = _open(context, number)
    _decide(context, row, "approve")
    context.approved = row.amount
    context.log("approval.approve", row.message, f"{context.actor} approved what {row.who} asked for: {row.message}")
    return f"{context.actor}, asked by {row.who}"


def refuse(context: Context, number: int, version: int, reason: str) -> Approval:
    """Refuse it; whoever asked reads why."""
    row = _open(context, number)
    if row.version != version:
        raise Conflict("somebody changed this while you had it open; look at it again")
    _decide(context, row, "refuse", reason.strip())
    context.log("approval.refuse", row.message, f"{context.actor} refused what {row.who} asked for: {row.message}", reason=row.decision)
    return row


def withdraw(context: Context, number: int) -> Approval:
    """Whoever asked does not want it any more."""
    row = context.get(Approval, number, "approval")
    if row.person_id != context.person:
        raise MayNot("somebody else asked for it")
    if row.state != ApprovalState.waiting:
        raise Conflict(f"it is {row.state} already")
    _decide(context, row, "refuse", "withdrawn")
    context.log("approval.withdraw", row.message, f"{row.who} does not ask any more for: {row.message}")
    return row


def _decide(context: Context, row: Approval, move: str, why: str = "") -> None:
    row.version += 1
    row.state, row.decided_at, row.decision = APPROVAL.step(row.state, move), context.now, why
    row.decided_by, row.decided_who = context.person, context.actor


def _open(context: Context, number: int) -> Approval:
    row = context.get(Approval, number, "approval")
    if row.state != ApprovalState.waiting:
        raise Conflict(f"{row.decided_who} decided this already: it is {row.state}")
    if not may_decide(context, row):
        raise MayNot("this is above your own limit, or your own to ask for; somebody else decides it")
    return row
