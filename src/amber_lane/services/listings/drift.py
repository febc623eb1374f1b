"""What stores show otherwise than we asked and they confirmed: found by reading their own listings once a day, and settled."""

from __future__ import annotations

from collections.abc import Collection, Iterable
from dataclasses import dataclass
from datetime import datetime

import numpy as np
from sqlalchemy import func, select

from ...connectors.protocols import StoreListing
from ...core.price import proceeds
from ...core.states import ListingState, OutboxState
from ...data.bulk import by_id
from ...data.outbox import Outbox
from ...data.setup import Store
from ...data.shelf import Listing, Sku
from ...data.watch import Drift
from ..base.context import Context
from ..base.errors import Conflict
from ..outbox import listing_changes
from ..pricing import manual_price
from ..pricing.apply import with_sharers
from ..pricing.frame import load
from . import on_sale, store_listings

MISSING = "missing"
RECENT = 20_000
_OPEN = (OutboxState.waiting, OutboxState.claimed, OutboxState.unknown, OutboxState.posted)


@dataclass(frozen=True)
class Differing:
    """One open difference beside the listing that it is about."""

    drift: Drift
    listing: Listing
    sku: Sku
    store: Store


def _moving(context: Context, begun: datetime) -> set[str]:
    """Listings that a change is on its way for, or that changed while their store was being read: nothing can be said of them."""
    open_ones = select(Outbox.subject).where(Outbox.kind == "listing", Outbox.state.in_(_OPEN))
    # Only the newest changes can have been done so lately; the older ones are not gone through page by page.
    newest = int(context.session.scalar(select(func.max(Outbox.id))) or 0)
    recent = Outbox.id > newest - RECENT
    lately = select(Outbox.subject).where(recent, Outbox.kind == "listing", Outbox.state == OutboxState.done, Outbox.done_at >= begun)
    return {*context.session.scalars(open_ones), *context.session.scalars(lately)}


def _rejected(context: Context) -> set[str]:
    """Listings whose change a store rejected: told as that; that the store shows the old thing meanwhile is no second trouble."""
    return set(context.session.scalars(select(Outbox.subject).where(Outbox.kind == "listing", Outbox.state == OutboxState.dead)))


def compare(context: Context, store: Store, theirs: Iterable[StoreListing], begun: datetime) -> set[int]:
    """A page of a store's own listings. Returns the ids of ours that it holds; what differs is kept, what agrees again ends.

    A quantity below what we asked is no difference: buyers took some.
    """
    page = {one.sku: one for one in theirs}
    rows = context.session.execute(
        select(Sku.code, Listing).join(Sku, Sku.id == Listing.sku_id).where(Listing.store_id == store.id, Sku.code.in_(list(page)))
    ).all()
    moving, rejected = _moving(context, begun), _rejected(context)
    known = {
        one.listing_id: one
        for one in context.session.scalars(select(Drift).where(Drift.ended_at.is_(None), Drift.listing_id.in_([row.id for _, row in rows])))
    }
    seen: set[int] = set()
    for code, listing in rows:
        shown = page[code]
        seen.add(listing.id)
        subject = f"listing:{listing.id}"
        if subject in rejected and listing.id in known:
            known[listing.id].ended_at, known[listing.id].how = context.now, "gone"
        if listing.state == ListingState.preparing or subject in moving or subject in rejected or shown.currency != listing.currency:
            continue
        on_sale = listing.state == ListingState.live
        # What is not written is not ours to differ from.
        differs = store.write_stock and (shown.state != listing.state or (on_sale and shown.quantity > listing.wanted_quantity))
        differs |= store.write_prices and on_sale and shown.price != listing.wanted_price
        _keep(context, listing, known.get(listing.id), differs, shown.price, shown.quantity, shown.state)
        listing.shown_price, listing.shown_quantity, listing.shown_state, listing.shown_at = (
            shown.price,
            shown.quantity,
            shown.state,
            context.now,
        )
    context.session.flush()
    store_listings.follow_shown(context, store, [row.sku_id for _, row in rows])
    return seen


def _keep(context: Context, listing: Listing, known: Drift | None, differs: bool, price: int, quantity: int, state: str) -> None:
    if not differs:
        if known is not None:
            known.ended_at, known.how = context.now, "gone"
    elif known is None:
        context.session.add(Drift(listing_id=listing.id, seen_at=context.now, price=price, quantity=quantity, state=state))
    else:
        known.price, known.quantity, known.state = price, quantity, state


def missing(context: Context, store: Store, seen: Collection[int], begun: datetime) -> int:
    """After the last page: listings that we hold to be on sale and the store does not have. Returns how many differences are open.

    Where a whole store seems to have gone, its answer is not believed.
    """
    held = list(context.session.scalars(select(Listing).where(Listing.store_id == store.id, Listing.state == ListingState.live)))
    moving = _moving(context, begun) | _rejected(context)
    gone = [one for one in held if one.id not in seen and f"listing:{one.id}" not in moving]
    if len(gone) * 2 > len(held) and len(gone) > 20:
        message = f"{store.name} answered only {len(held) - len(gone)} of {len(held)} listings; nothing was taken for gone"
        context.log("drift.doubted", store.name, message)
        gone = []
    open_ones = select(Drift).where(Drift.ended_at.is_(None), Drift.listing_id.in_([one.id for one in gone]))
    known = {one.listing_id: one for one in context.session.scalars(open_ones)}
    for one in gone:
        _keep(context, one, known.get(one.id), True, one.wanted_price, 0, MISSING)
    context.session.flush()
    n = len(differing(context, store.id))
    if n:
        context.log("drift.seen", store.name, f"{store.name} shows {n} listing{'s' if n > 1 else ''} otherwise than we asked", count=n)
    return n


def differing(context: Context, store: int | None = None) -> list[Differing]:
    """Open differences, those of listings that are on sale there first."""
    query = (
        select(Drift, Listing, Sku, Store)
        .join(Listing, Listing.id == Drift.listing_id)
        .join(Sku, Sku.id == Listing.sku_id)
        .join(Store, Store.id == Listing.store_id)
        .where(Drift.ended_at.is_(None))
        .order_by(Drift.state != "live", Sku.pace.desc(), Drift.id)
    )
    rows = context.session.execute(query if store is None else query.where(Listing.store_id == store)).all()
    return [Differing(*row) for row in rows]


def _loses(context: Context, listing: Listing, price: int) -> bool:
    """Whether every sale at a price would lose money."""
    book = load(context, with_sharers(context, {listing.sku_id}))
    rows = np.flatnonzero((book.ids == listing.id) & book.counted)
    return bool(len(rows)) and int(proceeds(np.full(len(book.ids), price), book.terms).profit[rows[0]]) < 0


def resolve(context: Context, numbers: Iterable[int], ours: bool) -> int:
    """A person's word on differences. ours: what we want is sent again. Else the store's is taken: its price as one by hand,
    its pause as one by hand; a listing that it does not have is ended here. What would lose money, or cannot be bought now,
    is not taken: there ours is sent again all the same."""
    rows = [one for one in by_id(context.session, Drift, numbers).values() if one.ended_at is None]
    if not rows:
        raise Conflict("these differences are done already; nothing was changed")
    listings = by_id(context.session, Listing, (one.listing_id for one in rows))
    for one in rows:
        listing = listings[one.listing_id]
        one.ended_at, one.how = context.now, "sent" if ours else "taken"
        unsafe = one.state == "live" and (listing.paused_by in ("stock", "hold") or _loses(context, listing, one.price))
        if ours or unsafe:
            one.how = "sent"
            listing_changes.want(context, listing)
        elif one.state == MISSING:
            listing_changes.want(context, listing, state="ended")
        else:
            if one.price != listing.wanted_price:
                manual_price.fix_price(context, listing.id, listing.version, one.price, "as the store showed it")
            if one.state == "paused" and listing.state == ListingState.live:
                on_sale.set_on_sale(context, [listing.id], False, "as the store showed it")
            elif one.state == "live" and listing.state == ListingState.paused:
                on_sale.set_on_sale(context, [listing.id], True, "as the store showed it")
    n = len(rows)
    what = "what we want was sent again" if ours else "what the store shows was taken"
    context.log("drift.settle", f"{n} listings", f"{n} difference{'s' if n > 1 else ''} settled: {what}", count=n)
    return n


def counted(context: Context) -> int:
    """How many differences to what stores show are open."""
    return context.session.scalar(select(func.count()).select_from(Drift).where(Drift.ended_at.is_(None))) or 0
