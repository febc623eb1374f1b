"""The sheet by which listings that are there are joined to artwork and a print house."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from fractions import Fraction

from sqlalchemy import select

from ...core.numbers import parse_decimal
from ...core.print_choice import Spot
from ...data.bulk import by_id, in_chunks
from ...data.lanes import Lane, LanePart
from ...data.printing import Artwork, LanePrint
from ...data.shelf import Listing, Sku
from ...data.source import Item
from ..base.context import Context
from ..base.errors import UseCaseError
from ..base.import_frame import Checked, KnownNames, Row, each, need
from ..mapping import lanes
from ..printing import lane_prints
from ..printing.blank_terms import area_of, sides_of, terms_of
from ..printing.houses import blanks, items_of
from ..printing.lane_prints import Checker, Printed


def check_print_lanes(context: Context, rows: Iterable[Row], progress: Callable[[int], None]) -> Checked:
    """A row for each side that is printed; rows of one SKU and house are one lane."""
    given, out = list(rows), Checked()
    known = _Known(context, given)
    each(given, progress, out, lambda row: known.read(row, out))
    return out


class _Known:
    """All that rows are held against, read at once."""

    def __init__(self, context: Context, given: list[Row]) -> None:
        s = context.session
        self.names, self.checker = KnownNames(context), Checker(context)
        codes = {row.get("sku", "") for row in given}
        self.skus = {row.code: row for chunk in in_chunks(codes) for row in s.scalars(select(Sku).where(Sku.code.in_(chunk)))}
        mine, pairs = [row.id for row in self.skus.values()], select(Listing.sku_id, Listing.store_id)
        self.listed = {tuple(row) for chunk in in_chunks(mine) for row in s.execute(pairs.where(Listing.sku_id.in_(chunk)))}
        self.blanks = {
            (supplier.lower(), code.lower()): row
            for row, house in blanks(context)
            for supplier in [house.name]
            for code in (row.code, row.name)
        }
        self.art = {row.name.lower(): row for row in s.scalars(select(Artwork).where(Artwork.removed_at.is_(None)))}
        self.items = items_of(context, {row.id: row for row in self.blanks.values()}.values())
        prints = select(LanePrint).join(Lane, Lane.id == LanePrint.lane_id).where(Lane.closed_at.is_(None))
        self.there = {(row.sku_id, row.item_id, row.side): (row.x, row.y, row.w) for row in s.scalars(prints)}
        self.sides: dict[tuple[str, ...], set[str]] = {}
        for row in given:
            self.sides.setdefault(_thing(row), set()).add((row.get("side") or "").strip().lower())

    def read(self, row: Row, out: Checked) -> None:
        """ValueError says what is wrong with a row."""
        store, sku = self.names.store(row), self.skus.get(need(row, "sku"))
        if sku is None:
            raise ValueError(f"sku: there is no {row['sku']!r}")
        if (sku.id, store.id) not in self.listed:
            raise ValueError(f"sku: {store.name} does not list {sku.code}")
        house = self.names.supplier({**row, "supplier": need(row, "house")})
        blank = self.blanks.get((house.name.lower(), need(row, "blank").lower()))
        if blank is None:
            raise ValueError(f"blank: {house.name} has no blank {row['blank']!r}")
        artwork = self.art.get(need(row, "artwork").lower())
        if artwork is None:
            raise ValueError(f"artwork: there is none called {row['artwork']!r}")
        terms, side = terms_of(blank), need(row, "side").lower()
        colour = _one_of([one.name for one in terms.colours], need(row, "colour"), "colour", blank.name)
        size = _one_of([one.name for one in terms.sizes], need(row, "size"), "size", blank.name)
        if side not in sides_of(terms) or area_of(terms, side, size) is None:
            raise ValueError(f"side: {blank.name} is not printed on its {side}")
        many = len(self.sides[_thing(row)] & set(sides_of(terms)))
        item = self.items.get((blank.id, colour, size, many))
        if item is None:
            how = f"printed on {many} sides" if many > 1 else "printed on one side"
            raise ValueError(f"colour: {house.name} sells no {blank.name} in {colour}, {size}, {how}")
        spot = Spot(*(round(Fraction(parse_decimal(need(row, name), name)) * 100) for name in ("x_mm", "y_mm", "w_mm")))
        if spot.w <= 0:
            raise ValueError("w_mm must be more than 0")
        done = self.checker.chosen(artwork.id, blank, colour, size, side, spot)
        if done.fault:
            raise ValueError(lane_prints.WORDS[done.fault])
        had = self.there.get((sku.id, item.id, side))
        kind = "same" if had == (spot.x, spot.y, spot.w) else "new" if had is None else "changed"
        wish = Printed(0, item.id, sku.id, artwork.id, blank.id, colour, size, {side: spot})
        out.add(kind, (store.id, sku.id, wish), f"{sku.code}: {artwork.name} on {blank.name}, {colour}, {size}")


def _thing(row: Row) -> tuple[str, ...]:
    """What rows of several sides have in common."""
    return tuple((row.get(name) or "").strip().lower() for name in ("sku", "house", "blank", "colour", "size"))


def _one_of(known: list[str], text: str, what: str, whose: str) -> str:
    found = next((one for one in known if one.lower() == text.lower()), None)
    if found is None:
        raise ValueError(f"{what}: {whose} has no {what} {text!r}; it has {', '.join(known)}")
    return found


def take_print_lanes(context: Context, checked: Checked) -> int:
    """Open the lanes that are not there, and print on them what the sheet says."""
    s, prints = context.session, dict[int, Printed]()
    for store, sku, wish in checked.good:
        query = select(Lane.id).join(LanePart, LanePart.lane_id == Lane.id).where(Lane.sku_id == sku, Lane.closed_at.is_(None))
        lane = s.scalar(query.where(LanePart.item_id == wish.item).limit(1))
        if lane is None:
            item = by_id(s, Item, [wish.item])[wish.item]
            if item.origin_id is None:
                raise UseCaseError(f"the house does not say where {item.number} is sent from")
            service = lanes.cheapest_service(context, item.origin_id, store)
            parts = [lanes.LaneItem(wish.item, Fraction(1))]
            lane = lanes.open_lane(context, sku, parts, use=99, service=service, by_itself=False).id
        there = {one.side: Spot(one.x, one.y, one.w) for one in s.scalars(select(LanePrint).where(LanePrint.lane_id == lane))}
        spots = {**(prints[lane].spots if lane in prints else there), **wish.spots}
        prints[lane] = Printed(lane, wish.item, sku, wish.artwork, wish.blank, wish.colour, wish.size, spots)
    lane_prints.write(context, list(prints.values()))
    if prints:
        context.log("lane.print", "print lanes", f"{len(prints)} lanes printed by sheet", count=len(prints))
        context.reprice({one.sku for one in prints.values()})
        context.reroute()
    return len(prints)
