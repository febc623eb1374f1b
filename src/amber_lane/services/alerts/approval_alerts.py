"""What waits for the word of whoever looks: acts above others' limits, and refusals of what they asked for. Never kept for others."""

from __future__ import annotations

from datetime import timedelta

from sqlalchemy import select

from ...core.states import ApprovalState
from ...data.people import Approval
from ..base.context import Context
from ..people import approvals
from .alert import Alert, AlertKey, AlertStep

# A refusal is told on Today for so long.
TOLD_FOR = timedelta(days=2)
GO = "/today/approvals"


def waiting(context: Context) -> list[Alert]:
    """Acts that wait for whoever acts to approve or refuse, and those of theirs that were refused lately."""
    if context.person is None:
        return []
    out = []
    for row in approvals.waiting(context):
        if approvals.may_decide(context, row):
            step, station = AlertStep("Look and decide", go=GO), "orders" if row.limit == "spend" else "transit"
            message = f"{row.who} asks for your word: {row.message}"
            out.append(
                Alert(AlertKey("approval", row.id), station, "Your word", message, row.reason, row.at, step, row.amount or 0, tone="waits")
            )
    refused = select(Approval).where(
        Approval.person_id == context.person, Approval.state == ApprovalState.refused, Approval.decided_by != context.person
    )
    for row in context.session.scalars(refused.where(Approval.decided_at > context.now - TOLD_FOR).order_by(Approval.id)):
        step, station = AlertStep("See it", go=GO), "orders" if row.limit == "spend" else "transit"
        message = f"{row.decided_who} refused what you asked for: {row.message}"
        key = AlertKey("approval_refused", row.id)
        out.append(Alert(key, station, "Refused", message, row.decision or "no reason was given", row.decided_at or row.at, step))
    return out
