"""From a design to listings in preparation: every colour and size chosen that may be printed, each with its lanes, price and picture."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction
from html import escape

from sqlalchemy import select

from ...core.states import LISTING, ListingState
from ...data.bulk import by_id
from ...data.printing import Blank, PrintDesign
from ...data.setup import Store, Supplier
from ...data.shelf import Listing, Sku, Variant
from ...data.source import Item
from ..base.context import Context
from ..base.errors import Conflict, UseCaseError
from ..catalogue.search import Finder
from ..listings.content_rules import Cleaner
from ..mapping import lanes
from ..pricing.manual_price import price_prepared
from . import designs, lane_prints
from .blank_terms import size_of, terms_of
from .houses import items_of
from .lane_prints import Printed

CHUNK = 12


@dataclass(frozen=True)
class Combination:
    """One colour and size that can be made. others: (blank, item, colour, size) of spare houses."""

    colour: str
    size: str
    item: Item
    others: tuple[tuple[int, Item, str, str], ...]


@dataclass(frozen=True)
class MadeVariants:
    """listings: made now; same: there already; failed: "colour, size" -> why."""

    listings: list[int]
    same: int
    failed: dict[str, str]


def wanted(context: Context, design: PrintDesign) -> list[Combination]:
    """Colours and sizes that may be printed and are not left out."""
    main = context.get(Blank, design.blank_id, "blank")
    sides = len(designs.places_of(context, design.id))
    spares = designs.spare_cells(context, design)
    blanks = [main, *(context.get(Blank, number, "blank") for number in spares)]
    items = items_of(context, blanks)
    out = []
    for cell in designs.cells(context, design):
        if not cell.sellable or cell.colour in (design.left_out or []):
            continue
        item = items.get((main.id, cell.colour, cell.size, sides))
        if item is None:
            continue
        others = []
        for number, able in spares.items():
            colour, size = able.get((cell.colour, cell.size), ("", ""))
            other = items.get((number, colour, size, sides)) if colour else None
            if other is not None:
                others.append((number, other, colour, size))
        out.append(Combination(cell.colour, cell.size, item, tuple(others)))
    return out


def make(context: Context, finder: Finder, design_id: int, store_id: int, part: Sequence[Combination]) -> MadeVariants:
    """Prepare listings of some combinations in a store, at the price that the rules make now. One act with the rest of its job."""
    design, store = context.get(PrintDesign, design_id, "design"), context.get(Store, store_id, "store")
    blank = context.get(Blank, design.blank_id, "blank")
    worth = finder.worth(context, store_id, [one.item.id for one in part])
    house = context.get(Supplier, blank.supplier_id, "supplier")
    cleaner, there = Cleaner(context, store), designs.sold(context, design_id)
    title = cleaner.title(design.name, house.name)
    words = describe(blank, store, cleaner.clean(design.name))
    made, same, failed, prints = [], 0, dict[str, str](), list[Printed]()
    for one in part:
        told = worth.get(one.item.id)
        try:
            with context.session.begin_nested():
                sku = there.get((one.colour, one.size))
                if sku is not None and _listed(context, sku, store_id):
                    same += 1
                    continue
                if told is None or not told.known:
                    raise Conflict(f"no price of {one.item.number} meets your rules in {store.name}, or nobody sends it there")
                mine = list[Printed]()
                if sku is None:
                    sku = _sku(context, store, design, blank, one, title)
                    mine = _lanes(context, sku, design, blank, one, store)
                made.append(_listing(context, store, sku, f"{title}, {one.colour}, {one.size}", words, told.price, blank.kind))
                prints += mine
        except UseCaseError as error:
            failed[f"{one.colour}, {one.size}"] = error.message
    lane_prints.write(context, prints)
    if made:
        price_prepared(context, list(by_id(context.session, Listing, made).values()))
        context.log_part(
            "listing.prepare",
            store.name,
            lambda n: f"{n} listing{'s' if n != 1 else ''} of {design.name} prepared for {store.name}, each with its lane",
            {"listings": made},
            len(made),
        )
    return MadeVariants(made, same, failed)


def _listed(context: Context, sku: int, store: int) -> bool:
    return context.session.scalar(select(Listing.id).where(Listing.sku_id == sku, Listing.store_id == store)) is not None


def code_of(store: Store, design: PrintDesign, colour: str, size: str) -> str:
    """A SKU that says what it is: store, design, colour, size."""
    plain = [re.sub(r"[^A-Za-z0-9]+", "-", text).strip("-").upper() for text in (colour, size)]
    return f"{store.code}-P{design.id}-{plain[0]}-{plain[1]}"[:60]


def _sku(context: Context, store: Store, design: PrintDesign, blank: Blank, one: Combination, title: str) -> int:
    # A store may have it from before: then the next free one is taken, so that nothing of it is overwritten.
    base = code_of(store, design, one.colour, one.size)
    taken = set(context.session.scalars(select(Sku.code).where(Sku.code.startswith(base, autoescape=True))))
    code = next(name for name in (base, *(f"{base}-{n}" for n in range(2, len(taken) + 3))) if name not in taken)
    sku = Sku(
        code=code, title=f"{title}, {one.colour}, {one.size}", category=blank.kind, options=f"{one.colour}, {one.size}",
        weight_g=one.item.weight_g,
    )  # fmt: skip
    context.session.add(sku)
    context.session.flush()
    context.session.add(Variant(family=f"P{design.id}", sku_id=sku.id, options={"Colour": one.colour, "Size": one.size}))
    return sku.id


def _lanes(context: Context, sku: int, design: PrintDesign, blank: Blank, one: Combination, store: Store) -> list[Printed]:
    """The main house first, then those that stand in."""
    main = terms_of(blank)
    places, shape = designs.places_of(context, design.id), designs.shape_of(context, design.artwork_id)
    out = []
    for number, item, colour, size in ((blank.id, one.item, one.colour, one.size), *one.others):
        if item.origin_id is None:
            continue
        service = lanes.cheapest_service(context, item.origin_id, store.id)
        lane = lanes.open_lane(context, sku, [lanes.LaneItem(item.id, Fraction(1))], use=99, service=service, by_itself=False)
        other = terms_of(context.get(Blank, number, "blank"))
        spots = designs.spots(design, main, other, places, shape, size)
        out.append(Printed(lane.id, item.id, sku, design.artwork_id, number, colour, size, spots, design.id))
    return out


def _listing(context: Context, store: Store, sku: int, title: str, words: str, price: int, category: str) -> int:
    row = Listing(store_id=store.id, sku_id=sku, title=title, description=words, state=LISTING.first, currency=store.currency)
    row.wanted_price = row.shown_price = price
    row.wanted_quantity = row.shown_quantity = 0
    row.shown_state, row.category = "", category
    context.session.add(row)
    context.session.flush()
    return row.id


def describe(blank: Blank, store: Store, name: str) -> str:
    """What a listing says of it: what it is, how large each size is, and who makes it, where the store wants to know."""
    terms = terms_of(blank)
    kind = {"paper": "Print on paper", "mug": "Printed mug"}.get(blank.kind, f"Printed {blank.kind}")
    sizes = [(one.name, size_of(terms, one.name)) for one in terms.sizes]
    rows = "".join(f"<tr><td>{escape(size)}</td><td>{_cm(of.w)} x {_cm(of.h)} cm</td></tr>" for size, of in sizes)
    maker = f"<p>{escape(terms.made_by)}.</p>" if store.tell_maker and terms.made_by else ""
    return f"<p>{escape(name)}. {kind}, printed for each order.</p><table>{rows}</table>{maker}"


def _cm(hundredths: int) -> str:
    """Centimetres, as a buyer reads them."""
    return f"{hundredths / 1000:.1f}".removesuffix(".0")


def show_pictures(context: Context, design: PrintDesign, pictures: dict[tuple[str, str], int]) -> int:
    """Put pictures (colour, side) of a design first at its listings that are not on sale yet. Returns how many listings."""
    n, sides = 0, list(designs.places_of(context, design.id))
    for (colour, _), sku in designs.sold(context, design.id).items():
        mine = [pictures[colour, side] for side in sides if (colour, side) in pictures]
        for row in context.session.scalars(select(Listing).where(Listing.sku_id == sku, Listing.state == ListingState.preparing)).all():
            if mine and list(row.pictures or [])[: len(mine)] != mine:
                row.pictures = [*mine, *(one for one in row.pictures or [] if one not in mine)]
                n += 1
    context.session.flush()
    return n
