"""A price fixed by a person, and the prices of listings in preparation."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime

from ...core.currency import show
from ...core.price import NONE, proceeds, solve
from ...core.states import ListingState
from ...data.outbox import AuditEntry
from ...data.shelf import Listing, Sku
from ..base import undoing
from ..base.context import Context
from ..base.errors import Invalid
from ..outbox import listing_changes
from ..outbox.store_switches import must
from .apply import with_sharers
from .frame import load


def price_prepared(context: Context, rows: Sequence[Listing]) -> None:
    """Prices of listings in preparation by the rules of now, where they have a lane whose cost is known."""
    book = load(context, with_sharers(context, {row.sku_id for row in rows}), preparing=True)
    priced = solve(book.terms, book.limits, book.endings)
    places = {number: at for at, number in enumerate(book.ids.tolist())}
    for row in rows:
        at = places.get(row.id)
        if at is not None and book.counted[at] and int(priced.price[at]) != NONE:
            row.wanted_price = row.hand_price or int(priced.price[at])
            row.landed, row.net = int(book.landed[at]), int(priced.kept.net[at])
            row.profit = int(proceeds(book.wanted_price * 0 + row.wanted_price, book.terms).profit[at])
    context.session.flush()


def fix_price(context: Context, number: int, version: int, price: int | None, reason: str = "", until: datetime | None = None) -> Listing:
    """Fix a price by hand (None = let the rule set it again). It is still guarded: a price that loses money is refused."""

    listing = context.get_version(Listing, number, version, "listing")
    if listing.state != ListingState.preparing:
        must(context, listing.store_id, "prices")
    before = {"hand_price": listing.hand_price, "price": listing.wanted_price}
    if price is not None:
        if not 1 <= price <= 100_000_000:
            raise Invalid("a price must lie between 0.01 and 1,000,000", {"price": "must lie between 0.01 and 1,000,000"})
        book = load(context, with_sharers(context, {listing.sku_id}), preparing=listing.state == ListingState.preparing)
        for row in (book.ids == listing.id).nonzero()[0].tolist() if len(book.ids) else []:
            if not book.counted[row]:
                continue
            left = int(proceeds(book.wanted_price * 0 + price, book.terms).profit[row])
            if left < 0:
                raise Invalid(
                    f"at {show(price, listing.currency)} every sale loses {show(-left, listing.currency)}",
                    {"price": f"loses {show(-left, listing.currency)} a sale"},
                )
    listing.hand_price, listing.hand_reason, listing.hand_until = price, reason, until
    sku = context.get(Sku, listing.sku_id, "SKU")
    message = (
        f"{sku.code}: price fixed at {show(price, listing.currency)}" if price is not None else f"{sku.code}: price follows the rule again"
    )
    act = context.log(
        "price.hand", sku.code, message, reason=reason, before=before, after={"hand_price": price, "listing": number}, undo=True
    )
    context.session.flush()
    if listing.state == ListingState.preparing:
        price_prepared(context, [listing])
    else:
        context.reprice([listing.sku_id], act=act.id, only={number})
    return listing


@undoing.undoes("price.hand", whole=True)
def undo_price_hand(context: Context, act: AuditEntry) -> None:
    listing = context.get(Listing, undoing.after(act)["listing"], "listing")
    was = undoing.before(act)
    fix_price(context, listing.id, listing.version, was["hand_price"], "undone")
    if was["hand_price"] is None and listing.wanted_price != was["price"] and listing.state in (ListingState.live, ListingState.paused):
        listing_changes.want(context, listing, price=was["price"])
