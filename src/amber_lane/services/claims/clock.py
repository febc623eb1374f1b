"""The clock of claims: suppliers that do not answer are reminded, as often as the limits say; then it is a person's."""

from __future__ import annotations

from collections.abc import Callable
from datetime import timedelta

from sqlalchemy import select

from ...core.claims import ClaimReason
from ...core.states import ClaimState
from ...data.claims import Claim
from ...data.setup import Supplier
from ..base import house_days
from ..base.context import Context
from ..outbox import queue
from ..pricing.policy import policy_for
from . import letters
from .cases import WORDS, answer_days, note


def remind(context: Context) -> int:
    """Remind whoever is over their time, by mail where there is one; those with an interface are asked by it all the time. Returns how
    many were."""
    today = house_days.today(context)
    rows = select(Claim).where(Claim.state == ClaimState.asked, Claim.due < today).order_by(Claim.id)
    n, most = 0, _reminders(context)
    for row in context.session.scalars(rows).all():
        supplier = context.get(Supplier, row.supplier_id, "supplier")
        if row.reminded >= most(supplier):
            continue
        row.reminded, row.due = row.reminded + 1, today + timedelta(days=max(answer_days(context, row) // 2, 1))
        row.version += 1
        subject, body = letters.of_one(context, row, supplier)
        key = f"claim-remind-{row.reference}-{row.reminded}"
        mailed = "@" in supplier.mail and queue.mail(
            context, key, f"claim:{row.id}", supplier.mail, f"Reminder: {subject}", body, supplier=supplier.id
        )
        note(context, row, "remind", f"{supplier.name} reminded by mail" if mailed else f"{supplier.name} has not answered")
        n += 1
    if n:
        context.log("claim.remind", "claims", f"{n} claim{'' if n == 1 else 's'} without an answer: reminded", count=n)
    return n


def overdue(context: Context) -> list[Claim]:
    """Claims that nobody answers any more, and money that was promised and has not come."""
    today = house_days.today(context)
    most = _reminders(context)
    rows = context.session.scalars(
        select(Claim).where(Claim.state.in_((ClaimState.asked, ClaimState.accepted)), Claim.due < today).order_by(Claim.id)
    )
    return [
        one for one in rows if one.state == ClaimState.accepted or one.reminded >= most(context.get(Supplier, one.supplier_id, "supplier"))
    ]


def _reminders(context: Context) -> Callable[[Supplier], int]:
    """How often each supplier is reminded before it is a person's, as the limits say."""
    known: dict[str, int] = {}

    def most(supplier: Supplier) -> int:
        if supplier.code not in known:
            known[supplier.code] = int(policy_for(context.session, supplier=supplier.code)["claim_reminders"])
        return known[supplier.code]

    return most


def said(row: Claim) -> str:
    """What a claim is about, in a few words."""
    return WORDS[ClaimReason(row.reason)]
