"""Changes of listings taken back: the values of before go out again, where nothing newer stands on top."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from contextlib import suppress
from typing import Any

from sqlalchemy import ColumnElement, func, select

from ...core.states import DECISION, DecisionState
from ...core.writing import grouped
from ...data.bulk import by_id, in_chunks
from ...data.outbox import AuditEntry
from ...data.shelf import Listing
from ...data.watch import ListingDecision
from ..base import portions, undoing
from ..base.context import Context
from ..base.errors import Conflict
from ..outbox.listing_changes import ListingWish, want_many


def undo_responses(context: Context, sweep: int | None = None, responses: Sequence[int] = ()) -> int:
    """Send the old values again, for a whole sweep or for single responses; later changes of a listing stay. Very many in portions."""
    query = select(ListingDecision.id).where(_went_out()).order_by(ListingDecision.id)
    if sweep:
        found = list(context.session.scalars(query.where(ListingDecision.sweep_id == sweep)))
    else:
        found = [number for chunk in in_chunks(responses) for number in context.session.scalars(query.where(ListingDecision.id.in_(chunk)))]
    if len(found) > portions.AT_ONCE:
        portions.enter(
            context, "undo_responses", f"Taking {grouped(len(found))} responses back", {}, portions.cut(found), len(found), stops=False
        )
        return len(found)
    done = _undo_responses(context, {}, found)
    if not done:
        raise Conflict("newer changes stand on top of it, so the old values would be wrong; nothing was changed")
    return done


def _went_out() -> ColumnElement[bool]:
    # A price that waits may have had its quantity or its state changed all the same: that was sent, and goes back.
    moved = (ListingDecision.old_quantity != ListingDecision.new_quantity) | (ListingDecision.old_state != ListingDecision.new_state)
    return (ListingDecision.state == DecisionState.sent) | ((ListingDecision.state == DecisionState.waits) & moved)


@portions.work("undo_responses")
def _undo_responses(context: Context, body: dict[str, Any], part: Sequence[int]) -> int:
    went_out = _went_out()
    rows = [row for row in by_id(context.session, ListingDecision, part).values() if row.state in (DecisionState.sent, DecisionState.waits)]
    newest: dict[int, int] = {}
    for chunk in in_chunks({row.listing_id for row in rows}):
        query = select(ListingDecision.listing_id, func.max(ListingDecision.id)).where(ListingDecision.listing_id.in_(chunk), went_out)
        newest |= dict(context.session.execute(query.group_by(ListingDecision.listing_id)).tuples().all())
    undone = [row for row in rows if newest.get(row.listing_id) == row.id]
    listings = by_id(context.session, Listing, (row.listing_id for row in undone))
    want_many(context, [ListingWish(listings[row.listing_id], row.old_price, row.old_quantity, row.old_state) for row in undone])
    for row in undone:
        if row.state == DecisionState.sent:
            row.state = DECISION.step(row.state, "undo")
        if row.state == DecisionState.waits:
            row.new_quantity, row.new_state = row.old_quantity, row.old_state
    return len(undone)


def as_before(context: Context, act: int, skus: Collection[int] | None = None) -> None:
    """Listings that an act changed (of some SKUs: None = all) show again what they did before it, where nothing newer stands on top."""
    query = select(ListingDecision.id).where(
        ListingDecision.audit_entry_id == act, ListingDecision.state.in_((DecisionState.sent, DecisionState.waits))
    )
    if skus is None:
        numbers = list(context.session.scalars(query))
    else:
        mine = query.join(Listing, Listing.id == ListingDecision.listing_id)
        numbers = [number for chunk in in_chunks(skus) for number in context.session.scalars(mine.where(Listing.sku_id.in_(chunk)))]
    if numbers:
        with suppress(Conflict):
            undo_responses(context, responses=numbers)


@undoing.undoes("watch.respond")
def undo_watch_respond(context: Context, act: AuditEntry) -> None:
    undo_responses(context, sweep=undoing.after(act)["sweep"])
