"""A sweep of any size: looked at while others write, and written in portions where it changes very much."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import AbstractContextManager

import numpy as np
from sqlalchemy.orm import Session

from ...core.money import Ints
from ...data.bulk import quiet
from ...data.setup import Supplier
from ...data.watch import Sweep
from ..base import portions
from ..base.context import Context
from ..pricing.apply import respond_once_let_go
from .sightings import note
from .sweeps import SweepData, SweepLook, finish, judge_sweep, may_take, skus_behind, take_sweep, write_part, written

# Items of a sweep that are written in one portion.
ITEMS = 400


def carry_out(
    reading: Callable[[], AbstractContextManager[Session]],
    writing: Callable[..., AbstractContextManager[Session]],
    context_of: Callable[[Session], Context],
    number: int,
    data: SweepData,
) -> dict[str, int]:
    """A sweep of any size: looked at while others write, and where it changes very much, written in portions.

    reading, writing: open a session (see data.session); context_of: makes a context of one. What its listings are to follow is written down
    before the first item changes, so that a kill in the middle leaves none behind.
    """
    with reading() as s, quiet():
        context = context_of(s)
        supplier = context.get(Supplier, context.get(Sweep, number, "sweep").supplier_id, "supplier")
        stale = supplier.stale
        seen = judge_sweep(context, supplier, data)
    # Nobody waits for it, so it is cut sooner than what a person does.
    if seen.size <= portions.PORTION and not stale:
        with writing(patient=True) as s:
            return take_sweep(context_of(s), context_of(s).get(Sweep, number, "sweep"), data, seen)
    with writing() as s:
        context = context_of(s)
        good = may_take(context, context.get(Sweep, number, "sweep"), data, seen)
        follow = _follow_later(context, context.get(Sweep, number, "sweep"), seen, stale) if good else None
    for places in _cut(len(seen.held_rows[0])) if not good else ():
        with writing(patient=True) as s:
            context = context_of(s)
            where, cost, stock, verdicts = seen.held_rows
            note(
                context,
                context.get(Sweep, number, "sweep"),
                seen.known,
                where[places],
                cost[places],
                stock[places],
                verdicts[: len(places)],
            )
    if not good:
        return {}
    worth_it = np.flatnonzero(written(seen))
    all_changed, all_shut = [np.zeros(0, dtype=np.int64)], set[int]()
    cuts = [(worth_it[places], seen.missing[:0]) for places in _cut(len(worth_it))]
    for part, missing in [*cuts, *((worth_it[:0], seen.missing[places]) for places in _cut(len(seen.missing)))]:
        with writing(patient=True) as s:
            context = context_of(s)
            changed, shut = write_part(context, context.get(Sweep, number, "sweep"), seen, part, missing)
            all_changed.append(changed)
            all_shut |= shut
    with writing(patient=True) as s:
        context = context_of(s)
        counts = finish(context, context.get(Sweep, number, "sweep"), seen, np.concatenate(all_changed), all_shut, respond_here=False)
        if follow is not None:
            portions.let_go(context, follow)
    return counts


def _cut(n: int) -> list[Ints]:
    """Places of n rows in portions of a size that is written in a moment."""
    return [np.arange(start, min(start + ITEMS, n)) for start in range(0, n, ITEMS)]


def _follow_later(context: Context, sweep: Sweep, seen: SweepLook, stale: bool) -> int:
    """Write down that the listings behind all that a sweep changes are looked at once it is written."""
    supplier = context.get(Supplier, sweep.supplier_id, "supplier")
    items = seen.known.ids if stale else np.concatenate([seen.known.ids[seen.places[written(seen)]], seen.known.ids[seen.missing]])
    skus, waiting = skus_behind(context, supplier, items)
    story = {"on": supplier.name, "reason": f"a sweep of {supplier.name} changed very many items"}
    return respond_once_let_go(context, {*skus, *waiting}, sweep.id, skus, story)
