"""The listings sheet and the supplier items sheet."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Any
from zlib import crc32

from sqlalchemy import delete, func, select

from ...connectors.protocols import CatalogueItem, StoreListing
from ...connectors.wire import clip
from ...core.currency import parse_money
from ...core.ids import check_gtin
from ...core.states import DecisionState
from ...core.writing import grouped
from ...data.bulk import by_id, in_chunks
from ...data.lanes import Lane
from ...data.orders import OrderLine
from ...data.outbox import AuditEntry
from ...data.session import Database
from ...data.setup import Origin, Store, Supplier
from ...data.shelf import Listing, Sku
from ...data.source import Item
from ...data.watch import ListingDecision
from ...sheets.table import unsafe
from ..base import undoing
from ..base.context import Context
from ..base.errors import Conflict
from ..base.import_frame import Checked, KnownNames, Row, each, need, whole
from ..catalogue import ingest
from ..listings import store_listings
from ..monitoring import catalogue_sheets, large_sweeps, sweeps

# What a check of listings needs to know of those that are there.
_FACTS = tuple(getattr(Sku, name) for name in store_listings.FACTS)
_SHOWN = (
    Listing.store_id,
    Sku.code,
    Listing.title,
    Listing.description,
    Listing.words_due,
    Listing.theirs,
    Listing.shown_price,
    Listing.shown_quantity,
    Listing.shown_state,
)
# A larger sheet is not undone as one; it says so beforehand.
# Items that enter in one portion.
ENTER = 1000


def check_listings(context: Context, rows: Iterable[Row], progress: Callable[[int], None]) -> Checked:
    names, out = KnownNames(context), Checked()
    known: dict[tuple[int, str], Any] = {
        (row.store_id, row.code): row for row in context.session.execute(select(*_SHOWN, *_FACTS).join(Sku, Sku.id == Listing.sku_id))
    }
    words, facts = 0, 0
    taken: dict[tuple[int, str], StoreListing] = {}
    repeated: list[str] = []
    zeros = {code.lstrip("0"): code for _, code in known if code.startswith("0")}
    lost: list[tuple[str, str]] = []

    def read(row: Row) -> None:
        nonlocal words, facts
        store, sku = names.store(row), need(row, "sku")
        price = parse_money(need(row, "price"), store.currency, "price")
        if not 1 <= price <= 100_000_000:
            raise ValueError(f"price: {row['price']} must lie between 0.01 and 1,000,000")
        state = row.get("state") or "live"
        if state not in ("live", "paused", "ended"):
            raise ValueError(f"state: {state!r} is not live, paused or ended")
        was = known.get((store.id, sku))
        one = _listing_in(row, store, price, state, known_gtin=was.gtin if was is not None else "")
        if (store.id, sku) in taken:
            if taken[store.id, sku] == one:
                repeated.append(sku)
                return
            raise ValueError(f"{sku} stands twice in the sheet, and not alike; the first row counts")
        taken[store.id, sku] = one
        if was is None:
            if near := zeros.get(sku.lstrip("0")):
                lost.append((sku, near))
            out.add("new", (store.id, one), f"{sku}: {one.title}")
            return
        theirs = store_listings.differing(was, one)
        said = [name for name in store_listings.FACTS if getattr(one, name)]
        fills = any(not getattr(was, name) for name in said) or bool(one.description and not was.description)
        words += bool(theirs) and not was.words_due
        facts += any(getattr(was, name) not in ("", 0, getattr(one, name)) for name in said)
        moved = (was.shown_price, was.shown_quantity, was.shown_state) != (price, one.quantity, state)
        out.add("changed" if moved or fills or theirs != was.theirs else "same", (store.id, one), f"{sku}: {one.title}")

    each(rows, progress, out, read)
    notes = [
        _twice(repeated),
        _lost_zeros(lost),
        f"{grouped(words)} with another title or description than ours: the Shelf shows both, to take theirs or to send ours."
        * (words > 0),
        f"{grouped(facts)} with another barcode, maker, category, options or weight than we have: ours is kept." * (facts > 0),
    ]
    out.note = " ".join(note for note in notes if note)
    return out


def _listing_in(row: Row, store: Store, price: int, state: str, known_gtin: str) -> StoreListing:
    mpn, brand, category, options = (row.get(name, "") for name in ("mpn", "brand", "category", "options"))
    return StoreListing(
        row["sku"],
        clip(_title(row)),
        price,
        store.currency,
        whole(row, "quantity", 0, 1_000_000),
        state,
        _barcode(row, known_gtin),
        mpn,
        brand,
        category,
        options,
        whole(row, "weight_g", 0, 10_000_000) if row.get("weight_g") else 0,
        row.get("description", "")[:20_000],
    )


def _barcode(row: Row, known: str = "") -> str:
    """Checked, unless it is what we have already."""
    if known and row.get("gtin") == known:
        return known
    return check_gtin(row["gtin"]) if row.get("gtin") else ""


def _twice(numbers: list[str]) -> str:
    n = len(numbers)
    return f"{grouped(n)} {'rows stand' if n > 1 else 'row stands'} twice in it, such as {numbers[0]}; each counts once." if numbers else ""


def _lost_zeros(lost: list[tuple[str, str]]) -> str:
    """An office suite takes 0012001 for a number and writes 12001."""
    if not lost:
        return ""
    n, (theirs, ours) = len(lost), lost[0]
    differ = f"{grouped(n)} new that differ{'s' if n == 1 else ''} from ours only in leading zeros"
    return f"{differ}: {theirs} is {ours} here. Save that column as text."


def _title(row: Row) -> str:
    title = unsafe(row.get("title", "").strip())
    if not title:
        raise ValueError("title is empty")
    return title


def take_listings(context: Context, checked: Checked) -> int:
    """Listings of a sheet, or a portion of them, enter or are told as they are shown; all of it is undone as one."""
    newest = {table: int(context.session.scalar(select(func.max(table.id))) or 0) for table in (Listing, Sku)}
    wanted = {(number, one.sku) for number, one in checked.good}
    pairs = select(Sku, Listing).join(Sku, Sku.id == Listing.sku_id)
    known = [
        (sku, row)
        for chunk in in_chunks({code for _, code in wanted})
        for sku, row in context.session.execute(pairs.where(Sku.code.in_(chunk))).tuples()
        if (row.store_id, sku.code) in wanted
    ]
    shown = {str(row.id): [row.shown_price, row.shown_quantity, row.shown_state, row.theirs] for _, row in known}
    lacked = {sku: [name for name in store_listings.FACTS if not getattr(sku, name)] for sku, _ in known}
    plain = [row for _, row in known if not row.description]
    for store in context.session.scalars(select(Store)).all():
        store_listings.bring_in(context, store, [one for number, one in checked.good if number == store.id], fill=True)
    n = len(checked.good)
    made = [list(context.session.scalars(select(table.id).where(table.id > newest[table]))) for table in (Listing, Sku)]
    after = {"listings": made[0], "skus": made[1]}
    filled = {
        str(sku.id): has for sku, names in lacked.items() if (has := {name: value for name in names if (value := getattr(sku, name))})
    }
    described = {str(row.id): crc32(row.description.encode()) for row in plain if row.description}
    before = {"shown": shown, "filled": filled, "described": described}
    context.log_part(
        "listing.sheet", "listings", lambda n: f"{grouped(n)} listing{'' if n == 1 else 's'} brought in by a sheet", after, n, before
    )
    return n


def take_listings_back(context: Context, act: AuditEntry) -> None:
    """Undo a sheet of listings: what it made is gone, what it told of the others is as before. Conflict where one of them is in use."""
    made = act.after or {"listings": [], "skus": []}
    used = {
        "a lane": select(Lane.id).where(Lane.sku_id.in_(made["skus"]), Lane.closed_at.is_(None)),
        "an order": select(OrderLine.id).where(OrderLine.sku_id.in_(made["skus"])),
        "a change sent": select(ListingDecision.id).where(
            ListingDecision.listing_id.in_(made["listings"]), ListingDecision.state == DecisionState.sent
        ),
    }
    for what, query in used.items():
        if context.session.scalar(query.limit(1)) is not None:
            raise Conflict(f"{what} stands on a listing of this sheet; take that back first")
    for row in by_id(context.session, Listing, made["listings"]).values():
        context.session.execute(delete(ListingDecision).where(ListingDecision.listing_id == row.id))
        context.session.delete(row)
    context.session.flush()
    for sku in by_id(context.session, Sku, made["skus"]).values():
        context.session.execute(delete(Lane).where(Lane.sku_id == sku.id))
        context.session.delete(sku)
    before = act.before or {"shown": {}}
    listings = by_id(context.session, Listing, map(int, before["shown"]))
    for number, (price, quantity, state, theirs) in before["shown"].items():
        kept = listings.get(int(number))
        # What the store itself told since is newer than what stood before the sheet.
        if kept is not None and kept.shown_at is not None and kept.shown_at <= act.at:
            kept.shown_price, kept.shown_quantity, kept.shown_state, kept.theirs = price, quantity, state, theirs
    # What a person wrote over it since stays.
    for number, words in before.get("described", {}).items():
        kept = listings.get(int(number))
        if kept is not None and crc32(kept.description.encode()) == words:
            kept.description = ""
    for place, sku in by_id(context.session, Sku, map(int, before.get("filled", {}))).items():
        for name, value in before["filled"][str(place)].items():
            if getattr(sku, name) == value:
                setattr(sku, name, 0 if name == "weight_g" else "")
    context.session.flush()


def check_items(context: Context, rows: Iterable[Row], progress: Callable[[int], None]) -> Checked:
    names, out = KnownNames(context), Checked()
    words = (getattr(Item, name) for name in ingest.WORDS)
    known = {
        (row[0], row[1]): row[2:] for row in context.session.execute(select(Item.supplier_id, Item.number, Item.cost, Item.stock, *words))
    }
    gtin_at = 2 + list(ingest.WORDS).index("gtin")
    taken: dict[tuple[int, str], CatalogueItem] = {}
    repeated: list[str] = []
    zeros = {number.lstrip("0"): number for _, number in known if number.startswith("0")}
    lost: list[tuple[str, str]] = []
    origins: dict[int, list[str]] = {}
    for supplier_id, code in context.session.execute(select(Origin.supplier_id, Origin.code)):
        origins.setdefault(supplier_id, []).append(code)

    def read(row: Row) -> None:
        supplier, number = names.supplier(row), need(row, "item")
        currency = need(row, "currency").upper()
        if currency != supplier.currency:
            raise ValueError(f"currency: {currency} is not {supplier.name}'s, {supplier.currency}")
        cost = parse_money(need(row, "cost"), currency, "cost")
        if not 0 < cost <= 100_000_000:
            raise ValueError(f"cost: {row['cost']} must lie between 0.01 and 1,000,000")
        places = origins.get(supplier.id, [])
        origin = row.get("origin") or (places[0] if places else "")
        if origin not in places:
            raise ValueError(f"origin: {origin!r} is not one of {', '.join(places) or 'none yet'}")
        was = known.get((supplier.id, number))
        one = _item_in(row, cost, currency, origin, known_gtin=was[gtin_at] if was is not None else "")
        if was is None and (near := zeros.get(number.lstrip("0"))):
            lost.append((number, near))
        if (supplier.id, number) in taken:
            if taken[supplier.id, number] == one:
                repeated.append(number)
                return
            raise ValueError(f"{number} stands twice in the sheet, and not alike; the first row counts")
        taken[supplier.id, number] = one
        values = [cost, one.stock, *(getattr(one, name) for name in ingest.WORDS)]
        same = was is not None and all(
            a == b or name in one.silent for name, a, b in zip(("", "", *ingest.WORDS), was, values, strict=True)
        )
        out.add("new" if was is None else "same" if same else "changed", (supplier.id, one), f"{number}: {one.title}")

    each(rows, progress, out, read)
    out.note = " ".join(note for note in (_twice(repeated), _lost_zeros(lost)) if note)
    return out


def _item_in(row: Row, cost: int, currency: str, origin: str, known_gtin: str) -> CatalogueItem:
    mpn, brand, category, options = (row.get(name, "") for name in ("mpn", "brand", "category", "options"))
    return CatalogueItem(
        row["item"],
        clip(_title(row)),
        cost,
        currency,
        whole(row, "stock", 0, 100_000_000),
        origin,
        _barcode(row, known_gtin),
        mpn,
        brand,
        category,
        options,
        whole(row, "pack_size", 1, 100_000) if row.get("pack_size") else 1,
        whole(row, "weight_g", 0, 10_000_000) if row.get("weight_g") else 0,
        least_price=parse_money(row["least_price"], currency, "least_price") if row.get("least_price") else None,
        lead_days=whole(row, "lead_days", 0, 1000) if row.get("lead_days") else 0,
        link=row.get("link", "")[:500],
        silent=tuple(name for name in ingest.WORDS if not row.get(name)),
    )


def carry_items(db: Database, context_of: Callable[[Any], Context], checked: Checked, progress: Callable[[int], None]) -> None:
    """The same of any size: items enter in portions, and for known ones the sheet is a sweep of any size."""
    of: dict[int, list[CatalogueItem]] = {}
    for number, one in checked.good:
        of.setdefault(number, []).append(one)
    done = 0
    for number, mine in of.items():
        for start in range(0, len(mine), ENTER):
            with db.writing(patient=True) as s:
                context = context_of(s)
                ingest.bring_in(context, context.get(Supplier, number, "supplier"), mine[start : start + ENTER])
            done += len(mine[start : start + ENTER])
            progress(done)
        with db.writing() as s:
            context = context_of(s)
            sweep = sweeps.begin(context, context.get(Supplier, number, "supplier"), context.actor).id
            message = catalogue_sheets.sweep_data(mine, context, packs=False)
        large_sweeps.carry_out(db.reading, db.writing, context_of, sweep, message)
    with db.writing() as s:
        _log_items(context_of(s), len(checked.good))


def _log_items(context: Context, n: int) -> None:
    context.log("item.sheet", "items", f"{n} supplier items brought in by a sheet", count=n)


def take_items(context: Context, checked: Checked) -> int:
    """New items enter; for known ones the sheet is a sweep like any other, with its doubts and holds."""
    for supplier in context.session.scalars(select(Supplier)).all():
        mine = [one for number, one in checked.good if number == supplier.id]
        if not mine:
            continue
        ingest.bring_in(context, supplier, mine)
        sweep = sweeps.begin(context, supplier, context.actor)
        sweeps.take_sweep(context, sweep, catalogue_sheets.sweep_data(mine, context, packs=False))
    _log_items(context, len(checked.good))
    return len(checked.good)


@undoing.undoes("listing.sheet")
def undo_listing_sheet(context: Context, act: AuditEntry) -> None:
    take_listings_back(context, act)
