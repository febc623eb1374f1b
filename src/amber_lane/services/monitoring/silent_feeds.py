"""A feed that says the same for ever: by its own past something would have changed long ago, so it is treated as stopped."""

from __future__ import annotations

from datetime import datetime, timedelta
from itertools import pairwise

from sqlalchemy import select

from ...core.states import SweepState
from ...data.base import from_ms, to_ms
from ...data.setup import Setting, Supplier
from ...data.watch import Sweep
from ..base.context import Context

# At an even pace, eight changes that did not come have a chance below one in a thousand; a night that it always kept silent is none.
EXPECTED, LONGER = 8.0, 1.5
LOOKED_BACK, SEEN_LEAST = timedelta(days=30), 20


def message(context: Context, supplier: Supplier) -> str:
    """Why a supplier's feed is not believed although it answers: how long it has said the same, and how many changes would have come.
    '' where that may well be true."""
    rows = select(Sweep.started).where(
        Sweep.supplier_id == supplier.id, Sweep.changes > 0, Sweep.state == SweepState.good, Sweep.started > context.now - LOOKED_BACK
    )
    times = list(context.session.scalars(rows.order_by(Sweep.started)))
    if len(times) < SEEN_LEAST:
        return ""
    last = max(times[-1], _accepted(context, supplier.id) or times[-1])
    silent, span = context.now - last, times[-1] - times[0]
    longest = max(later - sooner for sooner, later in pairwise(times))
    expected = (len(times) - 1) * silent / span if span else 0.0
    if expected < EXPECTED or silent <= LONGER * longest:
        return ""
    hours = silent.total_seconds() / 3600
    how_long = f"{hours:.0f} h" if hours >= 2 else f"{silent.total_seconds() / 60:.0f} min"
    return f"it has said the same for {how_long}; by its own past about {expected:.0f} changes would have come"


def _name(supplier: int) -> str:
    return f"same-is-right-{supplier}"


def _accepted(context: Context, supplier: int) -> datetime | None:
    row = context.session.scalar(select(Setting).where(Setting.name == _name(supplier)))
    return from_ms(int(row.value["at"])) if row else None


def accept(context: Context, supplier: Supplier) -> None:
    """A person says that nothing has changed there; from now on it is counted anew."""
    row = context.session.scalar(select(Setting).where(Setting.name == _name(supplier.id)))
    if row is None:
        row = Setting(name=_name(supplier.id), value={})
        context.session.add(row)
    row.value = {"at": to_ms(context.now)}
    supplier.next_sweep = context.now
    context.log("watch.same", supplier.name, f"{supplier.name}: nothing has changed there, its figures are right")
    context.session.flush()
