"""What a person sees of a design: sizes with their sharpness, colours with what reads on them, and the houses side by side."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction

from sqlalchemy import func, select

from ...core.books import Kind
from ...core.print_choice import PrintFault
from ...core.states import ListingState, PurchaseState
from ...data.books import JournalEntry
from ...data.orders import PurchaseOrder
from ...data.printing import ArtVersion, Blank, LanePrint, PrintDesign
from ...data.setup import Store, Supplier
from ...data.shelf import Listing
from ...data.source import Item
from ..base.context import Context
from ..base.errors import Conflict
from ..mapping.landed_cost import Costing
from . import designs, houses
from .blank_terms import area_of, sides_of, size_of, terms_of
from .lane_prints import WORDS


@dataclass(frozen=True)
class SizeLook:
    """One size on the side that is looked at; lengths in hundredths of a millimetre. outcome: ok, soft or refused; fault: why refused."""

    name: str
    area: tuple[int, int]
    spot: tuple[int, int, int, int]
    dpi: int
    outcome: str
    fault: str


@dataclass(frozen=True)
class ColourLook:
    """One colour, on the side and size that are looked at. version, ground: what is printed on it; readable in tenths of a percent;
    sold: in how many sizes it is listed."""

    name: str
    rgb: str
    version: int | None
    ground: str
    readable: int
    outcome: str
    fault: str
    reason: str
    left_out: bool
    sizes: int
    sold: int


@dataclass(frozen=True)
class HouseLook:
    """A blank of one house. landed: what one costs at the door of the store's country (store's minor units; None = not sent there).

    colours, sizes: how many it has; refused of answered purchases, refunded of orders, so far.
    """

    blank: int
    name: str
    house: str
    supplier: int
    colours: int
    sizes: int
    landed: int | None
    dearest: int | None
    currency: str
    days: tuple[int, int]
    refused: int
    answered: int
    refunded: int
    orders: int
    # Share of its parcels that came late, in ppm; None where that is not known yet.
    late: int | None


@dataclass(frozen=True)
class DesignLook:
    design: PrintDesign
    blank: Blank
    house: Supplier
    sides: list[str]
    side: str
    places: dict[str, tuple[int, int, int]]
    shape: tuple[int, int]
    sizes: list[SizeLook]
    colours: list[ColourLook]
    listings: int
    on_sale: int


def look(context: Context, number: int, side: str = "") -> DesignLook:
    """A design as it stands; side: the one that is looked at, '' = the first that is printed on."""
    row = context.get(PrintDesign, number, "design")
    blank = context.get(Blank, row.blank_id, "blank")
    terms, shape = terms_of(blank), designs.shape_of(context, row.artwork_id)
    places = designs.places_of(context, number)
    at = side if side in sides_of(terms) else next(iter(places))
    found = designs.cells(context, row)
    sold = designs.sold(context, number)
    return DesignLook(
        row,
        blank,
        context.get(Supplier, blank.supplier_id, "supplier"),
        sides_of(terms),
        at,
        {name: (spot.x, spot.y, spot.w) for name, spot in places.items()},
        shape,
        [_size(row, blank, shape, at, one.name, found, context) for one in terms.sizes],
        [_colour(context, row, one.name, one.rgb, at, found, sold) for one in terms.colours],
        *_listed(context, sold),
    )


def _size(
    row: PrintDesign, blank: Blank, shape: tuple[int, int], side: str, size: str, found: Sequence[designs.Cell], context: Context
) -> SizeLook:
    """The worst of its colours that read: what is wrong with it is its size, not its colour."""
    terms = terms_of(blank)
    area = area_of(terms, side, size) or size_of(terms, size)
    spots = designs.spots(row, terms, terms, designs.places_of(context, row.id), shape, size)
    spot = spots.get(side)
    mine = [one.sides[side] for one in found if one.size == size and side in one.sides and one.colour not in (row.left_out or [])]
    able = [one for one in mine if one.checked is not None and one.fault is not PrintFault.unreadable] or [
        one for one in mine if one.checked
    ]
    worst = min(able, key=lambda one: (one.fault == "", one.checked.dpi if one.checked else 0), default=None)
    checked = worst.checked if worst else None
    return SizeLook(
        size,
        (area.w, area.h),
        (spot.x, spot.y, spot.w, spot.height(*shape)) if spot else (0, 0, 0, 0),
        checked.dpi if checked else 0,
        "refused" if worst and worst.fault else checked.outcome.value if checked else "",
        worst.fault.value if worst else "",
    )


def _colour(
    context: Context, row: PrintDesign, colour: str, rgb: str, side: str, found: Sequence[designs.Cell], sold: dict[tuple[str, str], int]
) -> ColourLook:
    mine = [one for one in found if one.colour == colour]
    cell = next(one for one in mine if one.size == row.size)
    chosen = cell.sides.get(side) or next(iter(cell.sides.values()))
    version = context.session.get(ArtVersion, chosen.version) if chosen.version else None
    fault = cell.fault
    return ColourLook(
        colour,
        rgb,
        chosen.version,
        (version.colour or version.ground) if version else "",
        chosen.checked.readable if chosen.checked else 0,
        "refused" if fault else "soft" if cell.soft else "ok",
        fault.value,
        WORDS.get(fault, ""),
        colour in (row.left_out or []),
        sum(one.sellable for one in mine),
        sum(1 for name, _ in sold if name == colour),
    )


def _listed(context: Context, sold: dict[tuple[str, str], int]) -> tuple[int, int]:
    """How many listings there are of a design, and how many of them are on sale."""
    rows = select(Listing.state, func.count()).where(Listing.sku_id.in_(list(sold.values())), Listing.state != ListingState.ended)
    counts = dict(context.session.execute(rows.group_by(Listing.state)).tuples().all())
    return sum(counts.values()), counts.get(ListingState.live, 0)


def on_sale(context: Context, sold: dict[tuple[str, str], int]) -> int:
    """How many listings of a design are on sale."""
    return _listed(context, sold)[1]


def listed_in(context: Context, sold: dict[tuple[str, str], int], store: int) -> set[int]:
    """SKUs of a design that a store lists already."""
    here = Listing.sku_id.in_(list(sold.values())), Listing.store_id == store, Listing.state != ListingState.ended
    return set(context.session.scalars(select(Listing.sku_id).where(*here)))


def store_of(context: Context, design: int) -> int:
    """The store that lists most of a design, else the first one there is."""
    mine = Listing.sku_id.in_(list(designs.sold(context, design).values())), Listing.state != ListingState.ended
    most = select(Listing.store_id).where(*mine).group_by(Listing.store_id).order_by(func.count().desc(), Listing.store_id).limit(1)
    found = context.session.scalar(most) or context.session.scalar(
        select(Store.id).where(Store.ended_at.is_(None)).order_by(Store.id).limit(1)
    )
    if found is None:
        raise Conflict("connect a store first: prices and days are those of a store")
    return found


def compare(context: Context, kind: str, store: Store, size: str = "", sides: int = 1) -> list[HouseLook]:
    """All blanks of a kind side by side, by what they cost at a store's door. size: what is compared, '' = all."""
    found = houses.blanks(context, kind)
    items = houses.items_of(context, [blank for blank, _ in found])
    costing = Costing(context)
    out = []
    for blank, supplier in found:
        terms = terms_of(blank)
        costs, days = [], (0, 0)
        for one in terms.sizes:
            if size and one.name != size:
                continue
            item = next((row for (number, _, name, n), row in items.items() if (number, name, n) == (blank.id, one.name, sides)), None)
            told = _landed(costing, item, store)
            if told is not None:
                costs.append(told[0])
                days = told[1]
        record = _record(context, supplier.id)
        out.append(
            HouseLook(
                blank.id, blank.name, supplier.name, supplier.id, len(terms.colours), len(terms.sizes), min(costs, default=None),
                max(costs, default=None), store.currency, days, *record, supplier.late_ppm,
            )
        )  # fmt: skip
    return sorted(out, key=lambda one: (one.landed is None, one.landed or 0, one.house))


def _landed(costing: Costing, item: Item | None, store: Store) -> tuple[int, tuple[int, int]] | None:
    if item is None or item.origin_id is None:
        return None
    told = costing.landed(costing.of_item(item, Fraction(1), store.country), store)
    return None if told.reason else (told.landed, (told.days_low, told.days_high))


def _record(context: Context, supplier: int) -> tuple[int, int, int, int]:
    """Refused, answered, refunded orders, orders of a house."""
    s = context.session
    rows = select(PurchaseOrder.state, func.count()).where(PurchaseOrder.supplier_id == supplier).group_by(PurchaseOrder.state)
    states = dict(s.execute(rows).tuples().all())
    answered = sum(states.get(name, 0) for name in (PurchaseState.accepted, PurchaseState.shipped, PurchaseState.refused))
    mine = JournalEntry.supplier_id == supplier
    refunded = s.scalar(select(func.count(JournalEntry.order_id.distinct())).where(mine, JournalEntry.kind == Kind.refund.value))
    orders = s.scalar(select(func.count(PurchaseOrder.order_id.distinct())).where(PurchaseOrder.supplier_id == supplier))
    return states.get(PurchaseState.refused, 0), answered, int(refunded or 0), int(orders or 0)


def waiting(context: Context) -> dict[int, int]:
    """Designs with lanes that may not be printed: design -> how many."""
    rows = select(LanePrint.design_id, func.count(LanePrint.lane_id.distinct())).where(LanePrint.outcome == "refused")
    return {int(number): n for number, n in context.session.execute(rows.group_by(LanePrint.design_id)) if number}
