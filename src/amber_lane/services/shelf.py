"""Listings: brought in from a store, changed by a person, and read in long lists."""

from __future__ import annotations

import json
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from sqlalchemy import select, update

from ..connectors.protocols import StoreListing
from ..core.money import plain, show
from ..core.price import keep
from ..core.states import LISTING
from ..data.setup import Store
from ..data.shelf import Listing, Sku
from . import outbox, portions
from .desk import Desk, Invalid, by_id, in_chunks
from .phrases import clean_html
from .store_switches import let_out, must, writes
from .wording import words_due

# What is told of a SKU beside its title.
FACTS = ("gtin", "mpn", "brand", "category", "options", "weight_g")


def bring_in(desk: Desk, store: Store, listings: Iterable[StoreListing], fill: bool = False) -> int:
    """Listings as the store shows them. New ones become ours; known ones tell what the store shows now.

    What we want there is never overwritten by what is shown there; fill: what we do not know yet of a SKU or a listing is taken over.
    Returns how many were new.
    """
    told = {one.sku: one for one in listings}
    skus = {row.code: row for chunk in in_chunks(told) for row in desk.s.scalars(select(Sku).where(Sku.code.in_(chunk)))}
    here = select(Listing).where(Listing.store_id == store.id)
    numbers = [row.id for row in skus.values()]
    known = {row.sku_id: row for chunk in in_chunks(numbers) for row in desk.s.scalars(here.where(Listing.sku_id.in_(chunk)))}
    fresh = 0
    for one in told.values():
        if one.currency != store.currency:
            raise Invalid(
                f"{store.name} shows {one.sku} in {one.currency}, but it was connected in {store.currency}; mend the store's currency"
            )
        sku = skus.get(one.sku)
        if sku is None:
            sku = Sku(
                code=one.sku,
                title=one.title,
                gtin=one.gtin,
                mpn=one.mpn,
                brand=one.brand,
                category=one.category,
                options=one.options,
                weight_g=one.weight_g,
            )
            desk.s.add(sku)
            desk.s.flush()
            skus[one.sku] = sku
        elif fill:
            for name in FACTS:
                if getattr(one, name) and not getattr(sku, name):
                    setattr(sku, name, getattr(one, name))
        row = known.get(sku.id)
        if row is None:
            fresh += 1
            desk.s.add(
                Listing(
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
                    shown_at=desk.now,
                )
            )
        else:
            row.shown_price, row.shown_quantity, row.shown_state, row.shown_at = one.price, one.quantity, one.state, desk.now
            if fill and one.description and not row.description:
                row.description = clean_html(one.description)
            row.theirs = differing(row, one)
    desk.s.flush()
    for chunk in in_chunks([row.id for row in skus.values()]):
        follow_shown(desk, store, chunk)
    return fresh


def follow_shown(desk: Desk, store: Store, skus: Sequence[int] | None = None) -> None:
    """What we do not write is what the store shows: so it is taken for what we want, and nothing is overwritten later. skus: of these."""
    mine = [Listing.store_id == store.id, Listing.shown_state.in_(("live", "paused")), Listing.state.in_(("live", "paused"))]
    if skus is not None:
        mine.append(Listing.sku_id.in_(skus))
    if not store.write_prices:
        desk.s.execute(update(Listing).where(*mine, Listing.wanted_price != Listing.shown_price).values(wanted_price=Listing.shown_price))
    if not store.write_stock:
        desk.s.execute(
            update(Listing).where(*mine, Listing.wanted_quantity != Listing.shown_quantity).values(wanted_quantity=Listing.shown_quantity)
        )
        moved = (*mine, Listing.state != Listing.shown_state)
        desk.s.execute(update(Listing).where(*moved, Listing.shown_state == "paused").values(state=Listing.shown_state, paused_by="hand"))
        desk.s.execute(update(Listing).where(*moved, Listing.shown_state == "live").values(state=Listing.shown_state, paused_by=""))
    desk.s.expire_all()


def differing(row: Listing, shown: StoreListing) -> dict[str, str] | None:
    """Words that the store shows otherwise than we would; None where they agree, or ours are on their way."""
    if row.words_due:
        return row.theirs
    pairs = (("title", row.title, shown.title), ("description", row.description, clean_html(shown.description)))
    found = {name: theirs for name, ours, theirs in pairs if theirs and theirs != ours}
    return found or None


@dataclass(frozen=True)
class Wanted:
    """What a store shall show of one listing; None = as it is wanted already."""

    listing: Listing
    price: int | None = None
    quantity: int | None = None
    state: str | None = None


def want(desk: Desk, listing: Listing, price: int | None = None, quantity: int | None = None, state: str | None = None) -> None:
    """Decide what a store shall show of one listing, and put it in the outbox; an unsent older wish is dropped."""
    want_many(desk, [Wanted(listing, price, quantity, state)])


def want_many(desk: Desk, wishes: Sequence[Wanted]) -> None:
    """The same for many listings at once; the cost of each does not grow with what waits."""
    stores = by_id(desk.s, Store, {one.listing.store_id for one in wishes})
    codes: dict[int, str] = {}
    for chunk in in_chunks({one.listing.sku_id for one in wishes}):
        codes |= dict(desk.s.execute(select(Sku.id, Sku.code).where(Sku.id.in_(chunk))).tuples().all())
    for one in wishes:
        _set(desk, one)
    desk.s.flush()
    sent = [one.listing for one in wishes if writes(stores[one.listing.store_id])]
    words, mark = words_due(desk, [row.id for row in sent]), outbox.batch_mark()
    rows = []
    for listing in sent:
        body = {
            **({"words": words[listing.id]} if listing.id in words else {}),
            "listing": listing.id,
            "sku": codes[listing.sku_id],
            "price": plain(listing.wanted_price, listing.currency),
            "currency": listing.currency,
            "quantity": listing.wanted_quantity,
            "state": listing.state,
        }
        told = json.dumps(let_out(stores[listing.store_id], body), ensure_ascii=False, separators=(",", ":"))
        rows.append((f"listing-{listing.id}-{listing.version}-{mark}", f"store:{listing.store_id}", listing.id, told))
    outbox.put_listings(desk, rows)


def _set(desk: Desk, wish: Wanted) -> None:
    listing, price, quantity, state = wish.listing, wish.price, wish.quantity, wish.state
    if price is not None and price != listing.wanted_price:
        must(desk, listing.store_id, "prices")
    if (quantity is not None and quantity != listing.wanted_quantity) or (state and state != listing.state):
        must(desk, listing.store_id, "stock")
    listing.wanted_price = listing.wanted_price if price is None else price
    listing.wanted_quantity = listing.wanted_quantity if quantity is None else quantity
    if state and state != listing.state:
        move = {"live": "resume" if listing.state == "paused" else "publish", "paused": "pause", "ended": "end"}[state]
        listing.state = LISTING.step(listing.state, move)
        listing.paused_by = "" if state == "live" else listing.paused_by
    listing.version += 1


def fix_price(desk: Desk, number: int, version: int, price: int | None, why: str = "", until: datetime | None = None) -> Listing:
    """Fix a price by hand (None = let the rule set it again). It is still guarded: a price that loses money is refused."""
    from .book import load
    from .publishing import price_prepared
    from .respond import respond, with_sharers

    listing = desk.get_version(Listing, number, version, "listing")
    if listing.state != "preparing":
        must(desk, listing.store_id, "prices")
    before = {"hand_price": listing.hand_price, "price": listing.wanted_price}
    if price is not None:
        if not 1 <= price <= 100_000_000:
            raise Invalid("a price must lie between 0.01 and 1,000,000", {"price": "must lie between 0.01 and 1,000,000"})
        book = load(desk, with_sharers(desk, {listing.sku_id}), preparing=listing.state == "preparing")
        for row in (book.ids == listing.id).nonzero()[0].tolist() if len(book.ids) else []:
            if not book.counted[row]:
                continue
            left = int(keep(book.wanted_price * 0 + price, book.terms).profit[row])
            if left < 0:
                raise Invalid(
                    f"at {show(price, listing.currency)} every sale loses {show(-left, listing.currency)}",
                    {"price": f"loses {show(-left, listing.currency)} a sale"},
                )
    listing.hand_price, listing.hand_why, listing.hand_until = price, why, until
    sku = desk.get(Sku, listing.sku_id, "SKU")
    told = (
        f"{sku.code}: price fixed at {show(price, listing.currency)}" if price is not None else f"{sku.code}: price follows the rule again"
    )
    act = desk.log("price.hand", sku.code, told, why=why, before=before, after={"hand_price": price, "listing": number}, undo=True)
    desk.s.flush()
    if listing.state == "preparing":
        price_prepared(desk, [listing])
    else:
        respond(desk, [listing.sku_id], act=act.id, only={number})
    desk.s.refresh(listing)
    return listing


def set_on_sale(desk: Desk, numbers: Iterable[int], on: bool, why: str = "", undoes: int | None = None) -> int:
    """Pause or put back listings by hand, very many of them in portions. Returns how many move; those already so are left alone.

    undoes: the act that this takes back, which is the act that is written of it.
    """
    rows = _not_so(desk, numbers, on)
    if not rows:
        return 0
    moved, done = sorted(rows), "put back on sale" if on else "taken off sale"
    for store in set(rows.values()):
        must(desk, store, "stock")
    act = undoes
    if act is None:
        what = "listing.resume" if on else "listing.pause"
        told = f"{len(moved):,} {done}"
        act = desk.log(what, f"{len(moved)} listings", told, why=why, after={"listings": moved}, undo=True, count=len(moved)).id
    if len(moved) <= portions.AT_ONCE:
        _put_on_sale(desk, {"on": on}, moved)
    else:
        title = f"{'Putting' if on else 'Taking'} {len(moved):,} listings {'back on' if on else 'off'} sale"
        portions.enter(desk, "on_sale", title, {"on": on, "act": act}, portions.cut(moved), len(moved))
    return len(moved)


def _not_so(desk: Desk, numbers: Iterable[int], on: bool) -> dict[int, int]:
    """Those of some listings that would move, with their stores."""
    found: dict[int, int] = {}
    for chunk in in_chunks(dict.fromkeys(numbers)):
        query = select(Listing.id, Listing.store_id).where(Listing.id.in_(chunk), Listing.state == ("paused" if on else "live"))
        found |= dict(desk.s.execute(query).tuples().all())
    return found


@portions.work("on_sale")
def _put_on_sale(desk: Desk, body: dict[str, Any], part: list[int]) -> int:
    on = body["on"]
    rows = [one for one in by_id(desk.s, Listing, part).values() if one.state == ("paused" if on else "live")]
    for listing in rows:
        listing.paused_by = "" if on else "hand"
    want_many(desk, [Wanted(listing, state="live" if on else "paused") for listing in rows])
    return len(rows)


@portions.finish("on_sale")
def _is_on_sale(desk: Desk, body: dict[str, Any], done: int, failed: int) -> str:
    told = f"{done:,} {'put back on sale' if body['on'] else 'taken off sale'}"
    return told + (f", {failed:,} not" if failed else "")


__all__ = ["Wanted", "bring_in", "fix_price", "set_on_sale", "want", "want_many"]
