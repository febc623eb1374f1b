"""From a supplier's item to a listing in preparation, its lane open. The same item for the same store twice does nothing twice."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from fractions import Fraction
from typing import Any

from sqlalchemy import select

from ...core.price import NONE
from ...core.states import LISTING, ListingState
from ...data.bulk import by_id
from ...data.lanes import Lane, LanePart
from ...data.outbox import AuditEntry
from ...data.setup import Store, Supplier
from ...data.shelf import Listing, Sku
from ...data.source import Item
from ...data.watch import ListingDecision
from ..base import undoing
from ..base.context import Context
from ..base.errors import UseCaseError
from ..catalogue.search import Finder, ItemWorth
from ..mapping import lanes
from ..pricing.manual_price import price_prepared
from .content_rules import Cleaner

WORDS = ("gtin", "mpn", "brand", "category", "options", "weight_g")


@dataclass(frozen=True)
class Prepared:
    """What became of one item. outcome: made, same (it was there), failed."""

    item: int
    outcome: str
    listing: int | None
    message: str


def prepare(
    context: Context, finder: Finder, items: Sequence[int], store_id: int, progress: Callable[[int], None] = lambda n: None
) -> list[Prepared]:
    """Prepare listings of items in a store, at the price that the rules make now; not yet on sale."""
    store = context.get(Store, store_id, "store")
    found = by_id(context.session, Item, items)
    priced = finder.worth(context, store_id, list(found))
    suppliers = {row.id: row for row in context.session.scalars(select(Supplier))}
    known = _Known(context, store, list(found.values()), suppliers)
    cleaner = Cleaner(context, store)
    out: list[Prepared] = []
    made: list[int] = []
    touched: set[int] = set()
    for n, number in enumerate(items, 1):
        item = found.get(number)
        if item is None:
            out.append(Prepared(number, "failed", None, "that item is not there any more"))
            continue
        try:
            with context.session.begin_nested():
                one, sku = _prepare(context, store, item, suppliers[item.supplier_id], priced[number], known, cleaner)
        except UseCaseError as error:
            out.append(Prepared(number, "failed", None, error.message))
            continue
        out.append(one)
        if one.outcome == "made" and one.listing:
            made.append(one.listing)
            if sku in known.listed:
                touched.add(sku)
        if n % 50 == 0:
            progress(n)
    if made:
        price_prepared(context, list(by_id(context.session, Listing, made).values()))
        context.log_part(
            "listing.prepare",
            store.name,
            lambda n: f"{n} listing{'s' if n != 1 else ''} prepared for {store.name}, each with its lane open",
            {"listings": made},
            len(made),
        )
    if touched:
        context.reprice(touched)
    return out


class _Known:
    """What we have of these items already: SKUs by item and by barcode, listings in the store, codes taken."""

    def __init__(self, context: Context, store: Store, items: list[Item], suppliers: dict[int, Supplier]) -> None:
        s, ids = context.session, [item.id for item in items]
        rows = s.execute(
            select(LanePart.item_id, Lane.sku_id)
            .join(Lane, Lane.id == LanePart.lane_id)
            .where(LanePart.item_id.in_(ids), Lane.closed_at.is_(None), LanePart.units_num == LanePart.units_den)
            .order_by(Lane.priority.desc())
        )
        self.by_item: dict[int, int] = dict(rows.tuples().all())
        codes = [item.gtin for item in items if item.gtin]
        self.by_gtin: dict[str, int] = dict(s.execute(select(Sku.gtin, Sku.id).where(Sku.gtin.in_(codes))).tuples().all())
        ours = {*self.by_item.values(), *self.by_gtin.values()}
        rows_of = select(Listing.sku_id, Listing.store_id, Listing.id, Listing.state).where(Listing.sku_id.in_(ours))
        found = s.execute(rows_of).all()
        self.here = {sku: number for sku, place, number, _ in found if place == store.id}
        self.listed = {sku for sku, _, _, state in found if state in (ListingState.live, ListingState.paused)}
        wanted = [code for item in items for code in codes_for(store, item, suppliers[item.supplier_id])]
        self.codes = set(s.scalars(select(Sku.code).where(Sku.code.in_(wanted))))
        self.services: dict[int, str] = {}


def _prepare(
    context: Context, store: Store, item: Item, supplier: Supplier, worth: ItemWorth, known: _Known, cleaner: Cleaner
) -> tuple[Prepared, int]:
    price, sells = worth.price, worth.known
    if item.offer == "gone":
        raise UseCaseError(f"{supplier.name} does not have {item.number} any more")
    sku_id = known.by_item.get(item.id) or (known.by_gtin.get(item.gtin) if item.gtin and item.pack_size == 1 else None)
    there = context.get(Listing, known.here[sku_id], "listing") if sku_id and sku_id in known.here else None
    if there is not None and there.state == ListingState.ended and there.shown_state == "":
        # It was dropped before it was ever shown; now it is wanted after all.
        there.state, there.wanted_price = LISTING.step(there.state, "take_back"), price if sells else there.wanted_price
        context.session.flush()
        return Prepared(item.id, "made", there.id, ""), there.sku_id
    if sku_id and sku_id in known.here:
        code = context.get(Sku, sku_id, "SKU").code
        return Prepared(item.id, "same", known.here[sku_id], f"{store.name} has it as {code}"), sku_id
    if item.origin_id is None:
        raise UseCaseError(f"{supplier.name} does not say where {item.number} is sent from")
    if item.origin_id not in known.services:
        known.services[item.origin_id] = lanes.cheapest_service(context, item.origin_id, store.id)
    service = known.services[item.origin_id]
    if not sells or price == NONE:
        raise UseCaseError(f"no price of {item.number} meets your rules in {store.name}, or nobody sends it to {store.country}")
    title = cleaner.title(item.title, supplier.name)
    if sku_id is None:
        sku = Sku(code=_code(store, item, supplier, known.codes), title=title, **{name: getattr(item, name) for name in WORDS})
        context.session.add(sku)
        context.session.flush()
        known.codes.add(sku.code)
        sku_id = sku.id
    if item.id not in known.by_item:
        lanes.open_lane(context, sku_id, [lanes.LaneItem(item.id, Fraction(1))], use=99, service=service, by_itself=False)
        known.by_item[item.id] = sku_id
        if item.gtin:
            known.by_gtin.setdefault(item.gtin, sku_id)
    row = Listing(store_id=store.id, sku_id=sku_id, title=title, state=LISTING.first, currency=store.currency)
    row.wanted_price = row.shown_price = price
    row.wanted_quantity = row.shown_quantity = 0
    row.shown_state = ""
    context.session.add(row)
    context.session.flush()
    known.here[sku_id] = row.id
    return Prepared(item.id, "made", row.id, ""), sku_id


def _code(store: Store, item: Item, supplier: Supplier, taken: set[str]) -> str:
    """A SKU of our own that says where it comes from and is nobody else's."""
    code = next((code for code in codes_for(store, item, supplier) if code not in taken), None)
    if code is None:
        raise UseCaseError(f"no free SKU for {item.number}")
    return code


def codes_for(store: Store, item: Item, supplier: Supplier) -> list[str]:
    """Codes that a new SKU for an item may have, the plainest first."""
    base = f"{store.code}-{re.sub(r'[^A-Za-z0-9.-]+', '-', item.number).strip('-') or item.id}"[:60]
    return [base, f"{base}-{supplier.code}", f"{base}-{item.id}"]


def take_back(context: Context, after: dict[str, Any]) -> None:
    """Undo: listings that are still in preparation go; their lanes are closed. Those put on sale meanwhile stay."""
    for row in by_id(context.session, Listing, after["listings"]).values():
        if row.state != ListingState.preparing:
            continue
        sku, number = row.sku_id, row.id
        if context.session.scalar(select(ListingDecision.id).where(ListingDecision.listing_id == number).limit(1)) is None:
            context.session.delete(row)
        else:
            # What was ever on sale keeps its history.
            row.state = LISTING.step(row.state, "end")
        context.session.flush()
        if (
            context.session.scalar(
                select(Listing.id).where(Listing.sku_id == sku, Listing.id != number, Listing.state != ListingState.ended)
            )
            is None
        ):
            for lane, _ in lanes.lanes_of(context, sku):
                lane.closed_at = context.now
            context.session.flush()


@undoing.undoes("listing.copy", "listing.prepare")
def undo_listing_copy(context: Context, act: AuditEntry) -> None:
    take_back(context, undoing.after(act))
