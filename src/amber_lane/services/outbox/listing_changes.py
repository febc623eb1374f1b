"""What listings say, as it goes to the stores with their next change."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cache

from sqlalchemy import Select, select

from ...connectors.payloads import ListingPayload, Words
from ...core.currency import plain
from ...core.states import LISTING, ListingState
from ...data.bulk import by_id, in_chunks
from ...data.setup import Store
from ...data.shelf import Listing, Sku, Variant
from ...data.statements import among
from ..base.context import Context
from . import queue
from .store_switches import let_out, must, writes


@cache
def _with_words_due() -> Select[Listing, Sku, str]:
    rows = select(Listing, Sku, Variant.family).join(Sku, Sku.id == Listing.sku_id).outerjoin(Variant, Variant.sku_id == Sku.id)
    return rows.where(Listing.id.in_(among("ids")), Listing.words_due)


def words_due(context: Context, ids: Sequence[int]) -> dict[int, Words]:
    """The words of those listings whose words are to go out, by listing. pictures: numbers of our own copies."""
    out: dict[int, Words] = {}
    for chunk in in_chunks(ids):
        for listing, sku, family in context.session.execute(_with_words_due(), {"ids": chunk}):
            out[listing.id] = Words(
                title=listing.title,
                description=listing.description,
                category=listing.category or sku.category,
                gtin=sku.gtin,
                mpn=sku.mpn,
                brand=sku.brand,
                options=sku.options,
                tags=listing.tags,
                weight_g=sku.weight_g,
                compare_at=listing.compare_at,
                pictures=tuple(listing.pictures or ()),
                family=family or "",
            )
    return out


@dataclass(frozen=True)
class ListingWish:
    """What a store shall show of one listing; None = as it is wanted already."""

    listing: Listing
    price: int | None = None
    quantity: int | None = None
    state: str | None = None


def want(context: Context, listing: Listing, price: int | None = None, quantity: int | None = None, state: str | None = None) -> None:
    """Decide what a store shall show of one listing, and put it in the outbox; an unsent older wish is dropped."""
    want_many(context, [ListingWish(listing, price, quantity, state)])


def want_many(context: Context, wishes: Sequence[ListingWish]) -> None:
    """The same for many listings at once; the cost of each does not grow with what waits."""
    stores = by_id(context.session, Store, {one.listing.store_id for one in wishes})
    codes: dict[int, str] = {}
    for chunk in in_chunks({one.listing.sku_id for one in wishes}):
        codes |= dict(context.session.execute(select(Sku.id, Sku.code).where(Sku.id.in_(chunk))).tuples().all())
    for one in wishes:
        _set(context, one)
    context.session.flush()
    sent = [one.listing for one in wishes if writes(stores[one.listing.store_id])]
    words, mark = words_due(context, [row.id for row in sent]), queue.batch_mark()
    rows = []
    for listing in sent:
        made = ListingPayload(
            listing=listing.id,
            sku=codes[listing.sku_id],
            price=plain(listing.wanted_price, listing.currency),
            currency=listing.currency,
            quantity=listing.wanted_quantity,
            state=listing.state,
            words=words.get(listing.id),
        )
        key = f"listing-{listing.id}-{listing.version}-{mark}"
        rows.append((key, f"store:{listing.store_id}", let_out(stores[listing.store_id], made)))
    queue.put_listings(context, rows)


def _set(context: Context, wish: ListingWish) -> None:
    listing, price, quantity, state = wish.listing, wish.price, wish.quantity, wish.state
    if price is not None and price != listing.wanted_price:
        must(context, listing.store_id, "prices")
    if (quantity is not None and quantity != listing.wanted_quantity) or (state and state != listing.state):
        must(context, listing.store_id, "stock")
    listing.wanted_price = listing.wanted_price if price is None else price
    listing.wanted_quantity = listing.wanted_quantity if quantity is None else quantity
    if state and state != listing.state:
        move = {"live": "resume" if listing.state == ListingState.paused else "publish", "paused": "pause", "ended": "end"}[state]
        listing.state = LISTING.step(listing.state, move)
        listing.paused_by = "" if state == "live" else listing.paused_by
    listing.version += 1
