"""Pictures of a design for its listings: every colour and side, drawn outside of any transaction, kept once, and put first."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from sqlalchemy.orm import Session

from ...core.print_choice import Spot
from ...data.printing import ArtFile, ArtVersion, Blank, PrintDesign
from ...data.session import Database
from ..base.context import Context
from ..listings import images
from . import designs, files, variants
from .blank_terms import scene_of

STEP = 6


def make(db: Database, context_of: Callable[[Session], Context], design: int, progress: Callable[[int, int], None]) -> int:
    """Draw all colours and sides that may be printed, as the design lies now; those that are as they were are not drawn again.

    Returns how many pictures there are. progress may raise to stop.
    """
    with db.reading() as s:
        jobs = _jobs(context_of(s), design)
    pictures: dict[tuple[str, str], int] = {}
    for start in range(0, len(jobs), STEP):
        part = jobs[start : start + STEP]
        drawn = [
            (colour, side, mark, had or _draw(db, design, colour, side, version, spot)) for colour, side, mark, had, version, spot in part
        ]
        with db.writing() as s:
            context = context_of(s)
            row = context.get(PrintDesign, design, "design")
            kept = dict(row.pictures or {})
            for colour, side, mark, made in drawn:
                number = made if isinstance(made, int) else images.keep(context, made).id
                pictures[colour, side] = number
                kept[f"{colour}|{side}"] = [mark, number]
            row.pictures = kept
            variants.show_pictures(context, row, {key: number for key, number in pictures.items() if key[0] in {one[0] for one in part}})
        progress(min(start + STEP, len(jobs)), len(jobs))
    return len(jobs)


Job = tuple[str, str, str, int | None, int, Spot]


def _jobs(context: Context, number: int) -> Sequence[Job]:
    """Colour, side, what it is made of, the picture that is there already, the version and its place; for each picture to be had."""
    row = context.get(PrintDesign, number, "design")
    blank = context.get(Blank, row.blank_id, "blank")
    places, out = designs.places_of(context, number), []
    for cell in designs.cells(context, row):
        if cell.size != row.size or not cell.sellable or cell.colour in (row.left_out or []):
            continue
        for side, chosen in cell.sides.items():
            spot = places[side]
            mark = f"{chosen.version}:{spot.x}:{spot.y}:{spot.w}:{row.size}:{blank.version}"
            had = (row.pictures or {}).get(f"{cell.colour}|{side}")
            out.append((cell.colour, side, mark, had[1] if had and had[0] == mark else None, chosen.version or 0, spot))
    return out


def _draw(db: Database, design: int, colour: str, side: str, version: int, spot: Spot) -> images.Made:
    with db.reading() as s:
        row = s.get_one(PrintDesign, design)
        blank, art = s.get_one(Blank, row.blank_id), s.get_one(ArtVersion, version)
        sight, size = s.get_one(ArtFile, art.sight_id), row.size
    height = spot.height(art.width, art.height)
    return images.as_listing_picture(scene_of(blank, colour, size, side).with_art(files.opened(sight), spot, height))
