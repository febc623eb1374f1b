"""Supplier items: the catalogue brought in, and the terms that come with them."""

from __future__ import annotations

import json
from collections.abc import Iterable, Sequence
from operator import attrgetter
from typing import Any

from sqlalchemy import select, update
from sqlalchemy.orm import Session

from ...connectors.protocols import CatalogueItem
from ...core.cost import believable_tiers
from ...core.currency import MINOR_DIGITS
from ...core.likeness import ThingRow
from ...core.watch import COST_MAX, STOCK_MAX
from ...data.base import to_ms
from ...data.bulk import bulk_insert, bulk_update, in_chunks
from ...data.setup import Origin, Setting, Supplier
from ...data.source import Item
from ..base.context import Context
from ..mapping import validity

WORDS = ("title", "gtin", "mpn", "brand", "category", "options", "pack_size", "weight_g", "link", "least_price", "lead_days")
# What the index of words holds; an item's number and codes are words too.
_words = attrgetter(*WORDS)
NAMED_MOST = 10_000
WORDS_STAMP = "item-words"
_MONEY = ("currency", "cost", "stock", "offer", "seen_at", "changed_at", "doubt_cost", "doubt_stock", "doubt_seen", "tiers")
_INDEXED = "title, brand, options, category, number, gtin, mpn"


def bring_in(
    context: Context, supplier: Supplier, items: Sequence[CatalogueItem], all_new: bool = False
) -> tuple[int, list[tuple[str, str]]]:
    """A part of a supplier's catalogue: new items enter with their first offer, known ones follow in words only.

    What a source is silent of stays as it is known. Price and stock of known items move by sweeps alone, where they can be
    doubted. Returns how many were new, and which numbers were refused with why. all_new: the caller knows that none of them is there.
    A known item that comes in another pack now has its lanes shut, and so has one whose words do not fit its SKU any more.
    """
    origins = {row.code: row.id for row in context.session.scalars(select(Origin).where(Origin.supplier_id == supplier.id))}
    only = next(iter(origins), "") if len(origins) == 1 else ""
    query = select(Item.id, Item.number, *(getattr(Item, word) for word in WORDS)).where(Item.supplier_id == supplier.id)
    known: dict[str, Any] = {}
    for start in range(0, 0 if all_new else len(items), NAMED_MOST):
        some = [one.number for one in items[start : start + NAMED_MOST]]
        known |= {row.number: row for row in context.session.execute(query.where(Item.number.in_(some)))}
    fresh, moved, refused, packs = {}, [], [], []
    renamed: dict[int, tuple[ThingRow, ThingRow]] = {}
    at, monies, owner = to_ms(context.now), [supplier.currency, *(supplier.also or [])], supplier.id
    for one in items:
        origin = one.origin or only
        reason = _wrong(one, monies, origin, origins)
        if reason:
            refused.append((one.number, reason))
            continue
        words = _words(one)
        row = known.get(one.number)
        if row is None:
            money = (one.currency, one.cost, max(one.stock, -1), "good", at, at, -1, -1, 0, tiers_text(one.cost, one.tiers))
            fresh[one.number] = (owner, origins.get(origin), one.number, *words, *money)
            continue
        if one.silent:
            one = one._replace(**{name: getattr(row, name) for name in one.silent})
            words = _words(one)
        if tuple(row[2:]) != words:
            moved.append((*words, row.id))
            if row.pack_size != one.pack_size:
                packs.append((row.id, row.pack_size, one.pack_size))
            elif (row.title, row.gtin, row.options) != (one.title, one.gtin, one.options):
                was = ThingRow(str(row.id), row.title, row.brand, row.gtin, row.mpn, row.pack_size, options=row.options)
                renamed[row.id] = (was, ThingRow(str(row.id), one.title, one.brand, one.gtin, one.mpn, one.pack_size, options=one.options))
    bulk_insert(
        context.session,
        Item,
        ("supplier_id", "origin_id", "number", *WORDS, *_MONEY),
        list(fresh.values()),
    )
    bulk_update(context.session, Item, WORDS, moved)
    touched = validity.shut_for_packs(context, supplier, packs) | validity.look_at_words(context, supplier, renamed)
    index_words(context, [row[-1] for row in moved])
    if touched:
        context.reprice(touched, alone=True)
        context.reroute()
    return len(fresh), refused


def words_stamp(s: Session) -> int:
    """A number that moves when the words of items that were there before move."""
    kept = s.scalar(select(Setting.value).where(Setting.name == WORDS_STAMP))
    return int(kept.get("n", 0)) if kept else 0


def index_words(context: Context, moved: Sequence[int] = ()) -> None:
    """Bring the index of words up to date: items that are new, and those whose words moved. Nothing outside SQLite."""
    if context.session.get_bind().dialect.name != "sqlite":
        return
    link = context.session.connection()
    if moved:
        stamp = context.session.scalar(select(Setting).where(Setting.name == WORDS_STAMP))
        if stamp is None:
            context.session.add(Setting(name=WORDS_STAMP, value={"n": 1}))
        else:
            stamp.value = {"n": int(stamp.value.get("n", 0)) + 1}
    for chunk in in_chunks(moved):
        link.exec_driver_sql("delete from item_fts where rowid = ?", [(number,) for number in chunk])
        marks = ",".join("?" * len(chunk))
        link.exec_driver_sql(f"insert into item_fts(rowid, {_INDEXED}) select id, {_INDEXED} from item where id in ({marks})", tuple(chunk))
    link.exec_driver_sql(
        f"insert into item_fts(rowid, {_INDEXED}) select id, {_INDEXED} from item where id > coalesce((select max(rowid) from item_fts), 0)"
    )


def note_looked(context: Context, supplier: int, numbers: Sequence[str]) -> None:
    """Remember when items were asked for one by one, so that the next look goes to others."""
    for start in range(0, len(numbers), 500):
        some = numbers[start : start + 500]
        context.session.execute(update(Item).where(Item.supplier_id == supplier, Item.number.in_(some)).values(looked_at=context.now))


def tiers_text(cost: int, tiers: Iterable[tuple[int, int]]) -> str | None:
    """Tiers that may be believed, as the database keeps them; None where there are none."""
    good = believable_tiers(cost, tiers)
    return json.dumps(good) if good else None


def moved_tiers(
    context: Context, supplier: int, items: Sequence[tuple[int, int]], given: Sequence[tuple[tuple[int, int], ...]]
) -> dict[int, str | None]:
    """Costs by quantity as a sweep told them, for items (number, cost) whose cost is believed: those that moved, as they are kept."""
    query = select(Item.id, Item.tiers).where(Item.supplier_id == supplier, Item.tiers.is_not(None))
    kept: dict[int, list[Any] | None] = dict(context.session.execute(query).tuples().all())
    moved: dict[int, str | None] = {}
    for (number, cost), tiers in zip(items, given, strict=True):
        if tiers or number in kept:
            good = [list(tier) for tier in believable_tiers(cost, tiers)]
            if good != (kept.get(number) or []):
                moved[number] = json.dumps(good) if good else None
    return moved


def _wrong(one: CatalogueItem, monies: list[str], origin: str, origins: dict[str, int]) -> str:
    if one.currency not in monies or one.currency not in MINOR_DIGITS:
        return f"its currency is {one.currency}, not {monies[0]}"
    if not 0 < one.cost <= COST_MAX:
        return "its cost is not between 0.01 and 1,000,000"
    if not -1 <= one.stock <= STOCK_MAX:
        return "its stock is negative or beyond belief"
    if one.least_price is not None and not 0 <= one.least_price <= COST_MAX:
        return "its least price is not between 0 and 1,000,000"
    return "" if origin in origins else f"its origin {origin!r} is not one of the supplier's"
