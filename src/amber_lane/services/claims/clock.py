"""The clock of claims: suppliers that do not answer are reminded twice, then it is a person's."""

from __future__ import annotations

from datetime import timedelta

from sqlalchemy import select

from ...core.claims import ClaimReason
from ...data.claims import Claim
from ...data.setup import Supplier
from ..base import house_days
from ..base.context import Context
from ..outbox import queue
from . import letters
from .cases import MORE_DAYS, WORDS, note

REMINDERS = 2


def remind(context: Context) -> int:
    """Remind whoever is over their time, by mail where there is one; those with an interface are asked by it all the time. Returns how
    many were."""
    today = house_days.today(context)
    rows = select(Claim).where(Claim.state == "asked", Claim.due < today, Claim.reminded < REMINDERS).order_by(Claim.id)
    n = 0
    for row in context.session.scalars(rows).all():
        supplier = context.get(Supplier, row.supplier_id, "supplier")
        row.reminded, row.due = row.reminded + 1, today + timedelta(days=MORE_DAYS)
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
    silent = (Claim.state == "asked") & (Claim.reminded >= REMINDERS)
    promised = Claim.state == "accepted"
    return list(context.session.scalars(select(Claim).where(silent | promised, Claim.due < today).order_by(Claim.id)))


def said(row: Claim) -> str:
    """What a claim is about, in a few words."""
    return WORDS[ClaimReason(row.reason)]
