"""Artwork placed on a blank: where it lies on every size, which version each colour takes, and what is left out, with the reason."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import select

from ...connectors.print_protocol import BlankTerms
from ...core.print_choice import Chosen, PrintFault, Spot, fitted, on_area
from ...data.outbox import AuditEntry
from ...data.printing import ArtVersion, Artwork, Blank, PrintDesign, PrintPlace
from ..base import undoing
from ..base.context import Context
from ..base.errors import Conflict, Invalid
from . import lane_prints
from .blank_terms import area_of, sides_of, terms_of
from .houses import same_colours
from .lane_prints import Checker, Printed

NAME_MOST = 100
# A metre on every side: nothing that is printed on reaches further.
FAR = 1_000_000


@dataclass(frozen=True)
class Cell:
    """One colour in one size: what is printed on each side, and the worst of it."""

    colour: str
    size: str
    sides: dict[str, Chosen]
    fault: PrintFault
    soft: bool

    @property
    def sellable(self) -> bool:
        return self.fault is PrintFault.none


def create(context: Context, name: str, artwork: int, blank: int, size: str = "") -> PrintDesign:
    """Artwork on a blank, as large as the front of its middle size allows."""
    art, row = context.get(Artwork, artwork, "artwork"), context.get(Blank, blank, "blank")
    terms = terms_of(row)
    if row.ended_at is not None or art.removed_at is not None:
        raise Conflict("the artwork or the blank is not there any more")
    sizes = [one.name for one in terms.sizes]
    chosen = size or sizes[(len(sizes) - 1) // 2]
    side = sides_of(terms)[0]
    area = area_of(terms, side, chosen)
    if area is None:
        raise Invalid(f"{row.name} has no size {chosen}", {"size": "is none of its sizes"})
    design = PrintDesign(
        name=_named(name or f"{art.name}, {row.name}"), artwork_id=artwork, blank_id=blank, size=chosen, left_out=[], spares=[],
        pictures={}, made_at=context.now,
    )  # fmt: skip
    context.session.add(design)
    context.session.flush()
    spot = fitted(shape_of(context, artwork), area)
    context.session.add(PrintPlace(design_id=design.id, side=side, x=spot.x, y=spot.y, w=spot.w))
    context.log("design.make", design.name, f"{art.name} placed on {row.name}", after={"design": design.id}, undo=True)
    context.session.flush()
    return design


def _named(name: str) -> str:
    plain = " ".join(name.split())
    if not plain or len(plain) > NAME_MOST:
        raise Invalid(f"give it a name of up to {NAME_MOST} letters", {"name": "is empty or too long"})
    return plain


def shape_of(context: Context, artwork: int) -> tuple[int, int]:
    """The shape that an artwork is placed by: that of its first version. Light and dark ones lie exactly on each other by it."""
    mine = ArtVersion.artwork_id == artwork, ArtVersion.replaced_at.is_(None)
    row = context.session.scalar(select(ArtVersion).where(*mine).order_by(ArtVersion.id).limit(1))
    return (row.width, row.height) if row else (1, 1)


def places_of(context: Context, design: int) -> dict[str, Spot]:
    rows = context.session.scalars(select(PrintPlace).where(PrintPlace.design_id == design).order_by(PrintPlace.id))
    return {row.side: Spot(row.x, row.y, row.w) for row in rows}


def all_designs(context: Context) -> Sequence[PrintDesign]:
    """Every design, the newest first."""
    return context.session.scalars(select(PrintDesign).where(PrintDesign.removed_at.is_(None)).order_by(PrintDesign.id.desc())).all()


@dataclass(frozen=True)
class DesignChange:
    """What a person changes; None = as it is. places: by side, None = nothing is printed there any more."""

    name: str | None = None
    size: str | None = None
    keep: str | None = None
    left_out: Sequence[str] | None = None
    spares: Sequence[int] | None = None
    places: dict[str, Spot | None] | None = None


def change(context: Context, number: int, version: int | None, wish: DesignChange) -> PrintDesign:
    """Change a design; what is sold of it follows: checked anew, and its files made anew. Can be undone."""
    row = context.get_version(PrintDesign, number, version, "design")
    blank = context.get(Blank, row.blank_id, "blank")
    terms, before = terms_of(blank), _state(context, row)
    if wish.name is not None:
        row.name = _named(wish.name)
    if wish.keep is not None:
        if wish.keep not in ("millimetres", "proportion"):
            raise Invalid("artwork keeps its millimetres, or its proportion", {"keep": "is neither"})
        row.keep = wish.keep
    if wish.left_out is not None:
        row.left_out = sorted({one.name for one in terms.colours} & set(wish.left_out))
    if wish.spares is not None:
        row.spares = [one for one in wish.spares if context.get(Blank, one, "blank").kind == blank.kind and one != blank.id]
    if wish.size is not None and wish.size != row.size:
        _move_to(context, row, terms, wish.size)
    if wish.places is not None:
        _place(context, row, terms, wish.places)
    context.session.flush()
    after = _state(context, row)
    if after == before:
        row.version -= 1
        return row
    context.log("design.change", row.name, f"{row.name}: {_told(before, after)}", before=before, after={"design": number}, undo=True)
    follow(context, row)
    return row


def _move_to(context: Context, row: PrintDesign, terms: BlankTerms, size: str) -> None:
    """Look at it on another size: its places are told there as they lie there now."""
    shape = shape_of(context, row.artwork_id)
    for place in context.session.scalars(select(PrintPlace).where(PrintPlace.design_id == row.id)).all():
        own, new = area_of(terms, place.side, row.size), area_of(terms, place.side, size)
        if own is None or new is None:
            raise Invalid(f"nothing is printed on the {place.side} of {size}", {"size": "has no such side"})
        spot = on_area(Spot(place.x, place.y, place.w), shape, own, new, row.keep)
        place.x, place.y, place.w = spot.x, spot.y, spot.w
    row.size = size


def _place(context: Context, row: PrintDesign, terms: BlankTerms, places: dict[str, Spot | None]) -> None:
    there = {one.side: one for one in context.session.scalars(select(PrintPlace).where(PrintPlace.design_id == row.id))}
    for side, spot in places.items():
        if side not in sides_of(terms):
            raise Invalid(f"it has no {side}", {"side": "is none of its sides"})
        old = there.get(side)
        if spot is None:
            if old is not None:
                context.session.delete(there.pop(side))
            continue
        if not (0 < spot.w <= FAR and abs(spot.x) <= FAR and abs(spot.y) <= FAR):
            raise Invalid("artwork must be wider than nothing and lie on its side", {"w": "is out of bounds"})
        if old is None:
            old = there[side] = PrintPlace(design_id=row.id, side=side, x=0, y=0, w=0)
            context.session.add(old)
        old.x, old.y, old.w = spot.x, spot.y, spot.w
    if not there:
        raise Invalid("something must be printed on one side at least")


def _state(context: Context, row: PrintDesign) -> dict[str, Any]:
    places = {side: [spot.x, spot.y, spot.w] for side, spot in places_of(context, row.id).items()}
    return {
        "design": row.id, "name": row.name, "size": row.size, "keep": row.keep, "left_out": list(row.left_out or []),
        "spares": list(row.spares or []), "places": places,
    }  # fmt: skip


def _told(before: dict[str, Any], after: dict[str, Any]) -> str:
    words = {"name": "named otherwise", "size": "shown on another size", "keep": "kept otherwise on other sizes", 
             "left_out": "other colours", "spares": "other spare houses", "places": "placed anew"}  # fmt: skip
    return ", ".join(said for name, said in words.items() if before[name] != after[name])


@undoing.undoes("design.make", "design.change", "design.remove", whole=True)
def undo_design(context: Context, act: AuditEntry) -> None:
    if act.kind == "design.make":
        _take_away(context, context.get_version(PrintDesign, undoing.after(act)["design"], None, "design"))
        return
    before = undoing.before(act)
    row = context.get(PrintDesign, before["design"], "design")
    row.version += 1
    if act.kind == "design.remove":
        row.removed_at = None
        return
    row.name, row.size, row.keep, row.left_out, row.spares = (before[name] for name in ("name", "size", "keep", "left_out", "spares"))
    for place in context.session.scalars(select(PrintPlace).where(PrintPlace.design_id == row.id)).all():
        context.session.delete(place)
    context.session.flush()
    for side, (x, y, w) in before["places"].items():
        context.session.add(PrintPlace(design_id=row.id, side=side, x=x, y=y, w=w))
    context.session.flush()
    follow(context, row)


def remove(context: Context, number: int, version: int | None) -> PrintDesign:
    """Conflict while something is sold of it."""
    row = context.get_version(PrintDesign, number, version, "design")
    _take_away(context, row)
    context.log("design.remove", row.name, f"{row.name} removed", before={"design": number}, undo=True)
    return row


def _take_away(context: Context, row: PrintDesign) -> None:
    if sold(context, row.id):
        raise Conflict(f"{row.name} is sold; end its listings first")
    row.removed_at = context.now


def sold(context: Context, number: int) -> dict[tuple[str, str], int]:
    """What is made of a design: (colour, size) of the main house -> SKU."""
    design = context.get(PrintDesign, number, "design")
    return {(row.colour, row.size): row.sku_id for row in lane_prints.of_design(context, number) if row.blank_id == design.blank_id}


def cells(context: Context, row: PrintDesign, blank: Blank | None = None) -> list[Cell]:
    """Every colour in every size of a blank (the main house's, or a spare's), with its checks."""
    main = context.get(Blank, row.blank_id, "blank")
    other = blank or main
    checker, terms = Checker(context), terms_of(other)
    places, shape = places_of(context, row.id), shape_of(context, row.artwork_id)
    out = []
    for colour in (one.name for one in terms.colours):
        for size in (one.name for one in terms.sizes):
            sides = {}
            for side, spot in spots(row, terms_of(main), terms, places, shape, size).items():
                sides[side] = checker.chosen(row.artwork_id, other, colour, size, side, spot)
            faults = [one.fault for one in sides.values() if one.fault]
            soft = any(one.checked is not None and one.checked.outcome.value == "soft" for one in sides.values())
            out.append(Cell(colour, size, sides, faults[0] if faults else PrintFault.none, soft))
    return out


def spots(
    row: PrintDesign, own: BlankTerms, other: BlankTerms, places: dict[str, Spot], shape: tuple[int, int], size: str
) -> dict[str, Spot]:
    """Where the artwork lies on a size of a blank, by side; a side that has no area there is told as it lies on its own."""
    out = {}
    for side, spot in places.items():
        base, area = area_of(own, side, row.size), area_of(other, side, size)
        out[side] = spot if base is None or area is None else on_area(spot, shape, base, area, row.keep)
    return out


def follow(context: Context, row: PrintDesign) -> None:
    """What is sold of a design is printed as it lies now."""
    main = context.get(Blank, row.blank_id, "blank")
    places, shape = places_of(context, row.id), shape_of(context, row.artwork_id)
    known: dict[int, BlankTerms] = {}
    wanted: dict[tuple[int, int], Printed] = {}
    for one in lane_prints.of_design(context, row.id):
        terms = known.setdefault(one.blank_id, terms_of(context.get(Blank, one.blank_id, "blank")))
        where = spots(row, terms_of(main), terms, places, shape, one.size)
        wanted[one.lane_id, one.item_id] = Printed(
            one.lane_id, one.item_id, one.sku_id, row.artwork_id, one.blank_id, one.colour, one.size, where, row.id
        )
    lane_prints.write(context, list(wanted.values()))


def spare_cells(context: Context, row: PrintDesign) -> dict[int, dict[tuple[str, str], tuple[str, str]]]:
    """Of each spare blank: (our colour, size) -> its own colour and size, where it may print that too."""
    own = terms_of(context.get(Blank, row.blank_id, "blank"))
    out = {}
    for number in row.spares or []:
        blank = context.get(Blank, number, "blank")
        able = {(one.colour, one.size) for one in cells(context, row, blank) if one.sellable}
        colours = same_colours(own, terms_of(blank))
        out[number] = {
            (mine, size.name): (theirs, size.name) for mine, theirs in colours.items() for size in own.sizes if (theirs, size.name) in able
        }
    return out
