"""Sizes and colours of one thing that have no lane yet, settled together: which item of which supplier fills which of them."""

from __future__ import annotations

import re
from dataclasses import dataclass
from fractions import Fraction

from sqlalchemy import select

from ...core import options as choices
from ...core.likeness import OPEN, REVIEW, match, message
from ...data import words
from ...data.bulk import by_id
from ...data.lanes import Lane, Rejection
from ...data.setup import Supplier
from ...data.shelf import Listing, Sku, Variant
from ...data.source import Item
from ..base.context import Context
from ..base.regional import home_of
from .auto_matching import patterns, rows_of_skus
from .landed_cost import Costing
from .similarity import near_items, row_of_item

MOST = 60
_WORD = re.compile(r"\w+")


@dataclass(frozen=True)
class Cell:
    """The likest item that a supplier has for one SKU. landed in the store's money, None where it cannot be counted."""

    item: Item
    score: int
    decision: str
    agrees: list[str]
    differs: list[str]
    landed: int | None
    # Supplier units for one unit sold, by the packs that both speak of.
    units: Fraction


@dataclass(frozen=True)
class Family:
    """SKUs of one thing (rows), suppliers that have some of it (columns), and the likest item in each place."""

    skus: list[Sku]
    laned: set[int]
    suppliers: list[Supplier]
    cells: dict[tuple[int, int], Cell]
    currency: str


def siblings(context: Context, sku: Sku) -> list[Sku]:
    """A SKU and the other sizes and colours of the same thing, as they were made or by their titles."""
    made = context.session.scalar(select(Variant.family).where(Variant.sku_id == sku.id))
    if made:
        query = select(Sku).join(Variant, Variant.sku_id == Sku.id).where(Variant.family == made)
        return list(context.session.scalars(query.order_by(Sku.code).limit(MOST)))
    key = choices.family(sku.title, sku.options)
    said = _WORD.findall(key)
    if not said:
        return [sku]
    rows = context.session.scalars(select(Sku).where(Sku.id.in_(words.with_all("sku", said))).order_by(Sku.code).limit(2000))
    return [one for one in rows if one.id == sku.id or choices.family(one.title, one.options) == key][:MOST]


def family_of(context: Context, sku_id: int) -> Family:
    """The whole matrix, decided over all of it at once (section 6: best assignment, not row by row)."""
    sku = context.get(Sku, sku_id, "SKU")
    mine = siblings(context, sku)
    ids = [one.id for one in mine]
    laned = set(
        context.session.scalars(select(Lane.sku_id).where(Lane.sku_id.in_(ids), Lane.closed_at.is_(None), Lane.is_substitute.is_(False)))
    )
    near: set[int] = set()
    for one in mine:
        near |= set(near_items(context, one))
    items = [item for item in by_id(context.session, Item, near).values() if item.offer != "gone" and item.origin_id]
    refused = {
        (str(s), str(i)) for s, i in context.session.execute(select(Rejection.sku_id, Rejection.item_id).where(Rejection.sku_id.in_(ids)))
    }
    rows = rows_of_skus(context, ids)
    found = match(rows, [row_of_item(item) for item in items], refused, shown=len(items) or 1, patterns=patterns(context))
    listing = context.session.scalar(select(Listing).where(Listing.sku_id.in_(ids)).order_by(Listing.id).limit(1))
    costing = Costing(context)
    store = costing.facts.stores.get(listing.store_id) if listing else next(iter(costing.facts.stores.values()), None)
    cells: dict[tuple[int, int], Cell] = {}
    taken: set[tuple[int, int]] = set()
    pairs = [(int(row.key), one) for row, near_rows in zip(rows, found, strict=True) for one in near_rows if one.decision in (OPEN, REVIEW)]
    # Each item goes to the SKU that it is likest to; what is sure goes first.
    for number, likest in sorted(pairs, key=lambda pair: (pair[1].decision != OPEN, -pair[1].score, pair[0])):
        item = items[likest.theirs]
        if (number, item.supplier_id) in cells or (item.id, item.supplier_id) in taken:
            continue
        taken.add((item.id, item.supplier_id))
        cost = costing.landed(costing.of_item(item, likest.units, store.country, costing.usual(number)), store) if store else None
        landed = cost.landed if cost and not cost.reason else None
        cells[number, item.supplier_id] = Cell(
            item, max(0, min(100, round(likest.score))), likest.decision, *message(likest.evidence), landed, likest.units
        )
    names = by_id(context.session, Supplier, {supplier for _, supplier in cells})
    count = {number: sum(1 for _, supplier in cells if supplier == number) for number in names}
    columns = sorted(names.values(), key=lambda one: (-count[one.id], one.name))[:6]
    return Family(mine, laned, columns, cells, store.currency if store else home_of(context.session))
