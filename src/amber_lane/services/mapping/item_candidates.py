"""Items that might fill a SKU, as the mapping desk shows them: likeness drawn in their titles, units, landed cost, what is kept."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, replace
from fractions import Fraction

from sqlalchemy import select

from ...core.likeness import REVIEW, Evidence, Mark, marks
from ...core.states import LaneCause, LaneState, ListingState
from ...data.lanes import Lane
from ...data.setup import Store
from ...data.shelf import Listing, Sku
from ...data.source import Item
from ..base.context import Context
from .auto_matching import patterns, proof_of
from .landed_cost import Costing, UnitLanded, stock_of
from .lanes import lanes_of
from .similarity import Candidate, candidates, compare

LIKELY = 90
_COUNT = re.compile(r"\d+")


@dataclass(frozen=True)
class Offer:
    """One item for a SKU. units: supplier units per unit sold that the packs ask for; profit, net: of one unit at today's price."""

    like: Candidate
    units: Fraction
    cost: UnitLanded
    profit: int | None
    net: int | None
    stock: int | None
    theirs: list[Mark]
    ours: list[Mark]
    doubt: str = ""
    lane: Lane | None = None


@dataclass(frozen=True)
class Offers:
    rows: list[Offer]
    store: Store | None
    listing: Listing | None


def listing_of(context: Context, sku: int) -> Listing | None:
    """The listing that speaks for a SKU: on sale first, the oldest first."""
    rows = context.session.scalars(
        select(Listing).where(Listing.sku_id == sku, Listing.state != ListingState.ended).order_by(Listing.id)
    ).all()
    return next((row for row in rows if row.state in (ListingState.live, ListingState.paused)), rows[0] if rows else None)


def offers(context: Context, sku: Sku, words: str = "", limit: int = 6) -> Offers:
    """The likest items for a SKU, or those that a search finds, in the money of the store that sells it."""
    found = candidates(context, sku, words, limit + 4, patterns(context))
    if known := context.scope.suppliers:
        found = [one for one in found if one.item.supplier_id in known]
    if not words.strip():
        found = [one for one in found if one.item.offer != "gone"]
    found = found[:limit]
    mine = {parts[0].item_id: (lane, parts[0]) for lane, parts in lanes_of(context, sku.id) if len(parts) == 1 and not lane.is_substitute}
    listing = listing_of(context, sku.id)
    costing = Costing(context)
    store = costing.facts.stores.get(listing.store_id) if listing else next(iter(costing.facts.stores.values()), None)
    rows = []
    for one in found:
        lane, part = mine.get(one.item.id, (None, None))
        # A lane that is there keeps the units that a person gave it; only where its pack is another one now are they asked anew.
        kept = part is not None and lane is not None and not (lane.state == LaneState.shut and lane.cause == LaneCause.packs)
        units = Fraction(part.units_num, part.units_den) if kept and part else units_of(one.evidence)
        legs = costing.of_item(one.item, units, store.country, costing.usual(sku.id)) if store else []
        cost = costing.landed(legs, store) if store else UnitLanded(reason="no store")
        profit = net = None
        if listing and not cost.reason:
            profit, net = costing.profit(listing, sku, costing.facts.suppliers[one.item.supplier_id], [cost.landed])[0]
        theirs, ours = marks(one.item.title, one.evidence), marks(sku.title, one.evidence, theirs=False)
        rows.append(Offer(one, units, cost, profit, net, stock_of([(one.item, units)]), theirs, ours, lane=lane))
    return Offers([replace(one, doubt=_doubt(one, rows)) for one in rows], store, listing)


def _doubt(one: Offer, rows: Sequence[Offer]) -> str:
    """Why a likely item is not opened without asking; '' where it would be, or where its differences say so themselves."""
    if one.like.decision != REVIEW or one.like.score < LIKELY or one.like.differs:
        return ""
    same = [other for other in rows if other is not one and other.like.item.supplier_id == one.like.item.supplier_id]
    if any(other.like.score >= LIKELY and not other.like.differs for other in same):
        return "two of this supplier fit alike"
    if any(other.like.score >= LIKELY - 30 for other in rows if other is not one):
        return "others say the same and one thing more"
    return "not enough is said to be sure"


def units_of(evidence: list[Evidence]) -> Fraction:
    """Supplier units per unit sold, by the packs that the two titles speak of.

    >>> units_of([Evidence("pack", "single", "pack of 5", -0.8)]), units_of([])
    (Fraction(1, 5), Fraction(1, 1))
    """
    for one in evidence:
        if one.field == "pack" and one.weight < 0:
            ours, theirs = (int(found.group()) if (found := _COUNT.search(text)) else 1 for text in (one.ours, one.theirs))
            return Fraction(ours, max(theirs, 1))
    return Fraction(1)


def proof_for(context: Context, sku: Sku, item: int) -> dict[str, object] | None:
    """What speaks for an item that a person picks, as its lane keeps it."""
    row = context.session.get(Item, item)
    if row is None:
        return None
    one = compare(sku, row, patterns(context))
    return proof_of(one.score, one.agrees, one.differs, by=context.actor)
