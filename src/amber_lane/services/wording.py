"""What listings say, as it goes to the stores with their next change."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from sqlalchemy import select

from ..data.shelf import Listing, Sku, Variant
from .desk import Desk, in_chunks


def words_due(desk: Desk, ids: Sequence[int]) -> dict[int, dict[str, Any]]:
    """The words of those listings whose words are to go out, by listing. pictures: numbers of our own copies."""
    out: dict[int, dict[str, Any]] = {}
    for chunk in in_chunks(ids):
        rows = desk.s.execute(
            select(Listing, Sku, Variant.family)
            .join(Sku, Sku.id == Listing.sku_id)
            .outerjoin(Variant, Variant.sku_id == Sku.id)
            .where(Listing.id.in_(chunk), Listing.words_due)
        )
        for listing, sku, family in rows:
            out[listing.id] = {
                "title": listing.title,
                "description": listing.description,
                "category": listing.category or sku.category,
                "gtin": sku.gtin,
                "mpn": sku.mpn,
                "brand": sku.brand,
                "options": sku.options,
                "tags": listing.tags,
                "weight_g": sku.weight_g,
                "compare_at": listing.compare_at,
                "pictures": list(listing.pictures or []),
                "family": family or "",
            }
    return out
