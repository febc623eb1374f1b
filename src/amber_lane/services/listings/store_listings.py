"""Listings as a store shows them, brought in and followed."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from sqlalchemy import func, select, update

from ...connectors.protocols import StoreListing
from ...core.states import LISTING, ListingState, OutboxState
from ...data.base import by_index
from ...data.bulk import in_chunks
from ...data.outbox import Outbox, party_of
from ...data.setup import Store
from ...data.shelf import IS_DIFFERING, Listing, Sku
from ...data.tallies import tally
from ..base.context import Context
from ..base.errors import Invalid
from .content_rules import clean_html

# What is told of a SKU beside its title.
FACTS = ("gtin", "mpn", "brand", "category", "options", "weight_g")


def bring_in(context: Context, store: Store, listings: Iterable[StoreListing], fill: bool = False) -> int:
    """Listings as the store shows them. New ones become ours; known ones tell what the store shows now.

    What we want there is never overwritten by what is shown there; fill: what we do not know yet of a SKU or a listing is taken over.
    Returns how many were new.
    """
    shown = {one.sku: one for one in listings}
    skus = {row.code: row for chunk in in_chunks(shown) for row in context.session.scalars(select(Sku).where(Sku.code.in_(chunk)))}
    here = select(Listing).where(Listing.store_id == store.id)
    numbers = [row.id for row in skus.values()]
    known = {row.sku_id: row for chunk in in_chunks(numbers) for row in context.session.scalars(here.where(Listing.sku_id.in_(chunk)))}
    fresh = 0
    for one in shown.values():
        if one.currency != store.currency:
            raise Invalid(
                f"{store.name} shows {one.sku} in {one.currency}, but it was connected in {store.currency}; mend the store's currency"
            )
        sku = skus.get(one.sku)
        if sku is None:
            sku = skus[one.sku] = Sku(code=one.sku, title=one.title, **{name: getattr(one, name) for name in FACTS})
            context.session.add(sku)
            context.session.flush()
        elif fill:
            for name in FACTS:
                if getattr(one, name) and not getattr(sku, name):
                    setattr(sku, name, getattr(one, name))
        row = known.get(sku.id)
        if row is None:
            fresh += 1
            context.session.add(_as_shown(context, store, sku, one))
        else:
            row.shown_price, row.shown_quantity, row.shown_state, row.shown_at = one.price, one.quantity, one.state, context.now
            if fill and one.description and not row.description:
                row.description = clean_html(one.description)
            row.theirs = differing(row, one)
    context.session.flush()
    for chunk in in_chunks([row.id for row in skus.values()]):
        follow_shown(context, store, chunk)
    return fresh


def _as_shown(context: Context, store: Store, sku: Sku, one: StoreListing) -> Listing:
    """A listing that the store has already: as it shows it, until somebody wants something else."""
    return Listing(
        store_id=store.id,
        sku_id=sku.id,
        title=one.title,
        description=clean_html(one.description),
        state=one.state,
        paused_by="hand" if one.state == "paused" else "",
        currency=one.currency,
        wanted_price=one.price,
        wanted_quantity=one.quantity,
        shown_price=one.price,
        shown_quantity=one.quantity,
        shown_state=one.state,
        shown_at=context.now,
    )


def follow_shown(context: Context, store: Store, skus: Sequence[int] | None = None) -> None:
    """What we do not write is what the store shows: so it is taken for what we want, and nothing is overwritten later. skus: of these."""
    mine = [
        Listing.store_id == store.id,
        Listing.shown_state.in_(("live", "paused")),
        Listing.state.in_((ListingState.live, ListingState.paused)),
    ]
    if skus is not None:
        mine.append(Listing.sku_id.in_(skus))
    if not store.write_prices:
        context.session.execute(
            update(Listing).where(*mine, Listing.wanted_price != Listing.shown_price).values(wanted_price=Listing.shown_price)
        )
    if not store.write_stock:
        context.session.execute(
            update(Listing).where(*mine, Listing.wanted_quantity != Listing.shown_quantity).values(wanted_quantity=Listing.shown_quantity)
        )
        moved = (*mine, Listing.state != Listing.shown_state)
        context.session.execute(
            update(Listing).where(*moved, Listing.shown_state == "paused").values(state=LISTING.target("pause"), paused_by="hand")
        )
        context.session.execute(
            update(Listing).where(*moved, Listing.shown_state == "live").values(state=LISTING.target("resume"), paused_by="")
        )
    context.session.expire_all()


def differing(row: Listing, shown: StoreListing) -> dict[str, str] | None:
    """Words that the store shows otherwise than we would; None where they agree, or ours are on their way."""
    if row.words_due:
        return row.theirs
    pairs = (("title", row.title, shown.title), ("description", row.description, clean_html(shown.description)))
    found = {name: theirs for name, ours, theirs in pairs if theirs and theirs != ours}
    return found or None


def counted(context: Context) -> dict[int, dict[str, int]]:
    """By store: how many of its listings are in which state, differ from ours there, or were rejected."""
    counts: dict[int, dict[str, int]] = {}
    for (number, state), n in tally(context.session, "listings").items():
        counts.setdefault(int(number), {})[state] = n
    differing = select(Listing.store_id, func.count()).where(IS_DIFFERING).group_by(Listing.store_id)
    for store, n in context.session.execute(by_index(differing, Listing, "ix_listing_theirs")):
        counts.setdefault(store, {})["differs"] = n
    dead = select(Outbox.target, func.count(func.distinct(Outbox.subject))).where(
        Outbox.state == OutboxState.dead, Outbox.kind == "listing"
    )
    for target, n in context.session.execute(dead.group_by(Outbox.target)):
        counts.setdefault(party_of(target)[1], {})["refused"] = n
    return counts
