"""Changes of listings taken back: the values of before go out again, where nothing newer stands on top."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from contextlib import suppress
from typing import Any

from sqlalchemy import func, select

from ...data.bulk import by_id, in_chunks
from ...data.shelf import Listing
from ...data.watch import Response
from ..base import portions
from ..base.context import Desk
from ..base.errors import Conflict
from ..outbox.listing_changes import Wanted, want_many


def undo_responses(desk: Desk, sweep: int | None = None, responses: Sequence[int] = ()) -> int:
    """Send the old values again, for a whole sweep or for single responses; later changes of a listing stay. Very many in portions."""
    query = select(Response.id).where(_went_out()).order_by(Response.id)
    if sweep:
        found = list(desk.s.scalars(query.where(Response.sweep_id == sweep)))
    else:
        found = [number for chunk in in_chunks(responses) for number in desk.s.scalars(query.where(Response.id.in_(chunk)))]
    if len(found) > portions.AT_ONCE:
        portions.enter(desk, "undo_responses", f"Taking {len(found):,} responses back", {}, portions.cut(found), len(found), stops=False)
        return len(found)
    done = _undo_responses(desk, {}, found)
    if not done:
        raise Conflict("newer changes stand on top of it, so the old values would be wrong; nothing was changed")
    return done


def _went_out() -> Any:
    # A price that waits may have had its quantity or its state changed all the same: that was sent, and goes back.
    moved = (Response.old_quantity != Response.new_quantity) | (Response.old_state != Response.new_state)
    return (Response.state == "sent") | ((Response.state == "waits") & moved)


@portions.work("undo_responses")
def _undo_responses(desk: Desk, body: dict[str, Any], part: Sequence[int]) -> int:
    went_out = _went_out()
    rows = [row for row in by_id(desk.s, Response, part).values() if row.state in ("sent", "waits")]
    newest: dict[int, int] = {}
    for chunk in in_chunks({row.listing_id for row in rows}):
        query = select(Response.listing_id, func.max(Response.id)).where(Response.listing_id.in_(chunk), went_out)
        newest |= dict(desk.s.execute(query.group_by(Response.listing_id)).tuples().all())
    undone = [row for row in rows if newest.get(row.listing_id) == row.id]
    listings = by_id(desk.s, Listing, (row.listing_id for row in undone))
    want_many(desk, [Wanted(listings[row.listing_id], row.old_price, row.old_quantity, row.old_state) for row in undone])
    for row in undone:
        if row.state == "sent":
            row.state = "undone"
        if row.state == "waits":
            row.new_quantity, row.new_state = row.old_quantity, row.old_state
    return len(undone)


def as_before(desk: Desk, act: int, skus: Collection[int] | None = None) -> None:
    """Listings that an act changed (of some SKUs: None = all) show again what they did before it, where nothing newer stands on top."""
    query = select(Response.id).where(Response.act_id == act, Response.state.in_(("sent", "waits")))
    if skus is None:
        told = list(desk.s.scalars(query))
    else:
        mine = query.join(Listing, Listing.id == Response.listing_id)
        told = [number for chunk in in_chunks(skus) for number in desk.s.scalars(mine.where(Listing.sku_id.in_(chunk)))]
    if told:
        with suppress(Conflict):
            undo_responses(desk, responses=told)
