"""Listings: brought in from a store, changed by a person, and read in long lists."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from sqlalchemy import select

from ...core.writing import grouped
from ...data.bulk import by_id, in_chunks
from ...data.outbox import AuditEntry
from ...data.shelf import Listing
from ..base import portions, undoing
from ..base.context import Context
from ..outbox.listing_changes import ListingWish, want_many
from ..outbox.store_switches import must


def set_on_sale(context: Context, numbers: Iterable[int], on: bool, reason: str = "", undoes: int | None = None) -> int:
    """Pause or put back listings by hand, very many of them in portions. Returns how many move; those already so are left alone.

    undoes: the act that this takes back, which is the act that is written of it.
    """
    rows = _not_so(context, numbers, on)
    if not rows:
        return 0
    moved, done = sorted(rows), "put back on sale" if on else "taken off sale"
    for store in set(rows.values()):
        must(context, store, "stock")
    act = undoes
    if act is None:
        what = "listing.resume" if on else "listing.pause"
        message = f"{grouped(len(moved))} {done}"
        act = context.log(what, f"{len(moved)} listings", message, reason=reason, after={"listings": moved}, undo=True, count=len(moved)).id
    if len(moved) <= portions.AT_ONCE:
        _put_on_sale(context, {"on": on}, moved)
    else:
        title = f"{'Putting' if on else 'Taking'} {grouped(len(moved))} listings {'back on' if on else 'off'} sale"
        portions.enter(context, "on_sale", title, {"on": on, "act": act}, portions.cut(moved), len(moved))
    return len(moved)


def _not_so(context: Context, numbers: Iterable[int], on: bool) -> dict[int, int]:
    """Those of some listings that would move, with their stores."""
    found: dict[int, int] = {}
    for chunk in in_chunks(dict.fromkeys(numbers)):
        query = select(Listing.id, Listing.store_id).where(Listing.id.in_(chunk), Listing.state == ("paused" if on else "live"))
        found |= dict(context.session.execute(query).tuples().all())
    return found


@portions.work("on_sale")
def _put_on_sale(context: Context, body: dict[str, Any], part: list[int]) -> int:
    on = body["on"]
    rows = [one for one in by_id(context.session, Listing, part).values() if one.state == ("paused" if on else "live")]
    for listing in rows:
        listing.paused_by = "" if on else "hand"
    want_many(context, [ListingWish(listing, state="live" if on else "paused") for listing in rows])
    return len(rows)


@portions.finish("on_sale")
def _is_on_sale(context: Context, body: dict[str, Any], done: int, failed: int) -> str:
    message = f"{grouped(done)} {'put back on sale' if body['on'] else 'taken off sale'}"
    return message + (f", {grouped(failed)} not" if failed else "")


__all__ = [
    "set_on_sale",
]


@undoing.undoes("listing.pause", "listing.resume")
def undo_listing_pause(context: Context, act: AuditEntry) -> None:
    set_on_sale(context, undoing.after(act)["listings"], act.kind == "listing.pause", undoes=act.id)
