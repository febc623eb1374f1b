"""The sheet by which listings that are there are joined to artwork and a print house."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from fractions import Fraction

from sqlalchemy import select

from ...core.numbers import parse_decimal
from ...core.print_choice import Spot
from ...data.bulk import by_id, in_chunks
from ...data.lanes import Lane, LanePart
from ...data.printing import Artwork, Blank, LanePrint
from ...data.setup import Supplier
from ...data.shelf import Listing, Sku
from ...data.source import Item
from ..base.context import Context
from ..base.errors import UseCaseError
from ..base.import_frame import Checked, KnownNames, Row, each, need
from ..mapping import lanes
from ..printing import lane_prints
from ..printing.blank_terms import area_of, sides_of, terms_of
from ..printing.houses import items_of
from ..printing.lane_prints import Checker, Printed

Wish = tuple[int, int, Printed]


def check_print_lanes(context: Context, rows: Iterable[Row], progress: Callable[[int], None]) -> Checked:
    """A row for each side that is printed; rows of one SKU and house are one lane."""
    names, out, checker = KnownNames(context), Checked(), Checker(context)
    s, given = context.session, list(rows)
    codes = {row.get("sku", "") for row in given}
    skus = {row.code: row for chunk in in_chunks(codes) for row in s.scalars(select(Sku).where(Sku.code.in_(chunk)))}
    mine = [row.id for row in skus.values()]
    pairs = select(Listing.sku_id, Listing.store_id)
    listed = {tuple(row) for chunk in in_chunks(mine) for row in s.execute(pairs.where(Listing.sku_id.in_(chunk)))}
    blanks = {
        (supplier.lower(), code.lower()): row
        for row in s.scalars(select(Blank).where(Blank.ended_at.is_(None)))
        for supplier in [context.get(Supplier, row.supplier_id, "supplier").name]
        for code in (row.code, row.name)
    }
    art = {row.name.lower(): row for row in s.scalars(select(Artwork).where(Artwork.removed_at.is_(None)))}
    items = items_of(context, {row.id: row for row in blanks.values()}.values())
    there: dict[tuple[int, int, str], tuple[int, int, int]] = {
        (sku, item, side): (x, y, w)
        for sku, item, side, x, y, w in s.execute(
            select(LanePrint.sku_id, LanePrint.item_id, LanePrint.side, LanePrint.x, LanePrint.y, LanePrint.w)
            .join(Lane, Lane.id == LanePrint.lane_id)
            .where(Lane.closed_at.is_(None))
        )
    }

    def read(row: Row) -> None:
        store, sku = names.store(row), skus.get(need(row, "sku"))
        if sku is None:
            raise ValueError(f"sku: there is no {row['sku']!r}")
        if (sku.id, store.id) not in listed:
            raise ValueError(f"sku: {store.name} does not list {sku.code}")
        house = names.supplier({**row, "supplier": need(row, "house")})
        blank = blanks.get((house.name.lower(), need(row, "blank").lower()))
        if blank is None:
            raise ValueError(f"blank: {house.name} has no blank {row['blank']!r}")
        artwork = art.get(need(row, "artwork").lower())
        if artwork is None:
            raise ValueError(f"artwork: there is none called {row['artwork']!r}")
        terms, side = terms_of(blank), need(row, "side").lower()
        colour = _one_of([one.name for one in terms.colours], need(row, "colour"), "colour", blank.name)
        size = _one_of([one.name for one in terms.sizes], need(row, "size"), "size", blank.name)
        if side not in sides_of(terms) or area_of(terms, side, size) is None:
            raise ValueError(f"side: {blank.name} is not printed on its {side}")
        item = items.get((blank.id, colour, size, 1))
        if item is None:
            raise ValueError(f"colour: {house.name} sells no {blank.name} in {colour}, {size}")
        spot = Spot(*(round(Fraction(parse_decimal(need(row, name), name)) * 100) for name in ("x_mm", "y_mm", "w_mm")))
        if spot.w <= 0:
            raise ValueError("w_mm must be more than 0")
        done = checker.chosen(artwork.id, blank, colour, size, side, spot)
        if done.fault:
            raise ValueError(lane_prints.WORDS[done.fault])
        had = there.get((sku.id, item.id, side))
        kind = "same" if had == (spot.x, spot.y, spot.w) else "new" if had is None else "changed"
        wish = Printed(0, item.id, sku.id, artwork.id, blank.id, colour, size, {side: spot})
        out.add(kind, None if kind == "same" else (store.id, sku.id, wish), f"{sku.code}: {artwork.name} on {blank.name}, {colour}, {size}")

    each(given, progress, out, read)
    return out


def _one_of(known: list[str], text: str, what: str, whose: str) -> str:
    found = next((one for one in known if one.lower() == text.lower()), None)
    if found is None:
        raise ValueError(f"{what}: {whose} has no {what} {text!r}; it has {', '.join(known)}")
    return found


def take_print_lanes(context: Context, checked: Checked) -> int:
    """Open the lanes that are not there, and print on them what the sheet says."""
    wishes: list[Wish] = [one for one in checked.good if one is not None]
    s, prints = context.session, list[Printed]()
    for store, sku, wish in wishes:
        query = select(Lane.id).join(LanePart, LanePart.lane_id == Lane.id).where(Lane.sku_id == sku, Lane.closed_at.is_(None))
        lane = s.scalar(query.where(LanePart.item_id == wish.item).limit(1))
        if lane is None:
            item = by_id(s, Item, [wish.item])[wish.item]
            if item.origin_id is None:
                raise UseCaseError(f"the house does not say where {item.number} is sent from")
            service = lanes.cheapest_service(context, item.origin_id, store)
            parts = [lanes.LaneItem(wish.item, Fraction(1))]
            lane = lanes.open_lane(context, sku, parts, use=99, service=service, respond_now=False).id
        spots = {one.side: Spot(one.x, one.y, one.w) for one in s.scalars(select(LanePrint).where(LanePrint.lane_id == lane))}
        prints.append(Printed(lane, wish.item, sku, wish.artwork, wish.blank, wish.colour, wish.size, spots | dict(wish.spots)))
    lane_prints.write(context, prints)
    if prints:
        context.log("lane.print", "print lanes", f"{len(prints)} lanes printed by sheet", count=len(prints))
    return len(prints)
