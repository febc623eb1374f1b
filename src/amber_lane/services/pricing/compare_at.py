"""The crossed-out price of listings whose rule says how far above the price it stands; it goes to the store with the words."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from sqlalchemy import select

from ...core.money import Bools
from ...core.numbers import PPM
from ...core.price import NONE
from ...data.bulk import bulk_update, in_chunks
from ...data.shelf import Listing
from ..base.context import Context
from .decide import Decided
from .frame import Book

CHUNK = 5000


def follow(context: Context, book: Book, decided: Decided, rows: Bools | None = None) -> Decided:
    """Set it for every listing on sale whose rule asks for one and where it is another one now; those go to their stores too.

    It lies on the first ending at or above the share that is asked, and always above the price itself.
    """
    share = book.rules.values.get("compare_at")
    if share is None:
        return decided
    asked = (share != NONE) & (book.prices_on) & (decided.price > 0)
    asked &= np.ones(len(book.ids), dtype=np.bool_) if rows is None else rows
    places = np.flatnonzero(asked)
    if not len(places):
        return decided
    wanted = {}
    for place in places.tolist():
        price = int(decided.price[place])
        least = max(price + 1, -(-price * (PPM + int(share[place])) // PPM))
        ends = book.endings.listed(int(book.limits.endings[place]))
        wanted[int(book.ids[place])] = (_ending(least, ends), place)
    now: dict[int, int | None] = {}
    for chunk in in_chunks(wanted, CHUNK):
        now |= dict(context.session.execute(select(Listing.id, Listing.compare_at).where(Listing.id.in_(chunk))).tuples().all())
    moved = [(value, 1, number) for number, (value, _) in wanted.items() if now.get(number) != value]
    if not moved:
        return decided
    bulk_update(context.session, Listing, ("compare_at", "words_due"), moved)
    changed = decided.changed.copy()
    changed[[wanted[number][1] for _, _, number in moved]] = True
    return replace(decided, changed=changed)


def _ending(least: int, ends: list[int]) -> int:
    """The smallest amount of at least so much that has one of the endings; any where there are none."""
    if not ends:
        return least
    whole = least - least % 100
    return min(base + end for base in (whole, whole + 100) for end in ends if base + end >= least)
