"""Supplier items: the catalogue brought in, and the terms that come with them."""

from __future__ import annotations

import json
from collections.abc import Iterable, Sequence
from typing import Any

from sqlalchemy import select

from ..connectors.protocols import CatalogueItem
from ..core.cost import believable_tiers
from ..core.money import MINOR_DIGITS
from ..core.watch import COST_MAX, STOCK_MAX
from ..data.base import to_ms
from ..data.setup import Origin, Supplier
from ..data.source import Item
from .desk import Desk, bulk_insert, bulk_update

_WORDS = ("title", "gtin", "mpn", "brand", "category", "options", "pack_size", "weight_g")


def bring_in(desk: Desk, supplier: Supplier, items: Iterable[CatalogueItem]) -> tuple[int, list[str]]:
    """A supplier's catalogue: new items enter with their first offer, known ones follow in words only.

    Price and stock of known items move by sweeps alone, where they can be doubted. Returns how many were new,
    and what was refused with why.
    """
    origins = {row.code: row.id for row in desk.s.scalars(select(Origin).where(Origin.supplier_id == supplier.id))}
    known = {
        row.number: row
        for row in desk.s.execute(
            select(Item.id, Item.number, *(getattr(Item, word) for word in _WORDS)).where(Item.supplier_id == supplier.id)
        )
    }
    fresh, moved, refused = {}, [], []
    at = to_ms(desk.now)
    for one in items:
        why = _wrong(one, supplier, origins)
        if why:
            refused.append(f"{one.number}: {why}")
            continue
        words = tuple(getattr(one, word) for word in _WORDS)
        row = known.get(one.number)
        if row is None:
            fresh[one.number] = (
                supplier.id,
                origins.get(one.origin),
                one.number,
                *words,
                "",
                one.currency,
                one.cost,
                max(one.stock, -1),
                "good",
                at,
                at,
                -1,
                -1,
                0,
                0,
                tiers_text(one.cost, one.tiers),
            )
        elif tuple(row[2:]) != words:
            moved.append((*words, row.id))
    bulk_insert(
        desk.s,
        Item,
        (
            "supplier_id",
            "origin_id",
            "number",
            *_WORDS,
            "link",
            "currency",
            "cost",
            "stock",
            "offer",
            "seen_at",
            "changed_at",
            "doubt_cost",
            "doubt_stock",
            "doubt_seen",
            "lead_days",
            "tiers",
        ),
        list(fresh.values()),
    )
    bulk_update(desk.s, Item, _WORDS, moved)
    return len(fresh), refused


def tiers_text(cost: int, tiers: Iterable[tuple[int, int]]) -> str | None:
    """Tiers that may be believed, as the database keeps them; None where there are none."""
    good = believable_tiers(cost, tiers)
    return json.dumps(good) if good else None


def follow_tiers(desk: Desk, supplier: int, items: Sequence[tuple[int, int]], told: Sequence[tuple[tuple[int, int], ...]]) -> list[int]:
    """Costs by quantity as a sweep told them, for items (number, cost) whose cost is believed. Returns the items that moved."""
    query = select(Item.id, Item.tiers).where(Item.supplier_id == supplier, Item.tiers.is_not(None))
    kept: dict[int, list[Any] | None] = dict(desk.s.execute(query).tuples().all())
    moved = []
    for (number, cost), tiers in zip(items, told, strict=True):
        if tiers or number in kept:
            good = [list(tier) for tier in believable_tiers(cost, tiers)]
            if good != (kept.get(number) or []):
                moved.append((json.dumps(good) if good else None, number))
    bulk_update(desk.s, Item, ("tiers",), moved)
    return [number for _, number in moved]


def _wrong(one: CatalogueItem, supplier: Supplier, origins: dict[str, int]) -> str:
    if one.currency not in MINOR_DIGITS or one.currency != supplier.currency:
        return f"its currency is {one.currency}, not {supplier.currency}"
    if not 0 < one.cost <= COST_MAX:
        return "its cost is not between 0.01 and 1,000,000"
    if not -1 <= one.stock <= STOCK_MAX:
        return "its stock is negative or beyond belief"
    return "" if one.origin in origins else f"its origin {one.origin!r} is not one of the supplier's"
