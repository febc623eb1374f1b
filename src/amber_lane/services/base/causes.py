"""What caused a thing to wait, and whether that is still so."""

from __future__ import annotations

from collections.abc import Collection

from sqlalchemy import select

from ...data.bulk import by_id
from ...data.outbox import AuditEntry
from ...data.setup import Supplier
from .context import Context

# Acts whose effect ends with what they tell of: a feed that stopped, a partner that was paused or disconnected.
PASSING = ("watch.stale", "partner.pause", "supplier.end")


def over(context: Context, acts: Collection[int]) -> set[int]:
    """Those of some acts whose cause is gone: the feed is back, the supplier is at work again."""
    rows = (
        context.session.scalars(select(AuditEntry).where(AuditEntry.id.in_(list(acts)), AuditEntry.kind.in_(PASSING))).all() if acts else []
    )
    named = {row.id: _supplier(row) for row in rows}
    suppliers = by_id(context.session, Supplier, (number for number in named.values() if number))
    found = set()
    for act, number in named.items():
        supplier = suppliers.get(number or 0)
        if supplier is not None and not supplier.stale and supplier.paused_at is None and supplier.ended_at is None:
            found.add(act)
    return found


def _supplier(act: AuditEntry) -> int | None:
    after = act.after or {}
    number = after.get("supplier") if act.kind == "watch.stale" else after.get("id") if after.get("owner") == "supplier" else None
    return int(number) if number else None
