"""Files for print houses, made for the format and size of each, with a picture of how it shall look; outside of any transaction."""

from __future__ import annotations

import io
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

from PIL import Image
from sqlalchemy import Select, or_, select
from sqlalchemy.orm import Session

from ...core.print_choice import INCH, Spot
from ...data.bulk import in_chunks
from ...data.printing import ArtFile, ArtVersion, Blank, LanePrint
from ...data.session import Database
from ..base.context import Context
from . import files, lane_prints
from .blank_terms import area_of, scene_of, terms_of

# So many are made between two looks at the clock, and written together.
STEP = 8


@dataclass(frozen=True)
class Wanted:
    """A print whose files are to be made, with all that they are made of."""

    row: int
    lane: int
    version: int
    vector: bool
    source: int
    sight: int
    blank: int
    colour: str
    size: str
    side: str
    spot: Spot
    height: int


def due(s: Session) -> list[int]:
    """Prints that may be made and have no file yet."""
    missing = or_(LanePrint.file_id.is_(None), LanePrint.preview_id.is_(None))
    query = select(LanePrint.id).where(LanePrint.outcome.in_(("ok", "soft")), missing).order_by(LanePrint.id)
    return list(s.scalars(query))


def make(db: Database, context_of: Callable[[Session], Context], progress: Callable[[int, int], None]) -> int:
    """Make all files that are due, and open the lanes that waited for them. progress may raise to stop. Returns how many were made."""
    maker, looks, done = _Maker(db), _Maker(db), 0
    with db.reading() as s:
        wanted = [_wanted(row, version) for chunk in in_chunks(due(s)) for row, version in s.execute(_both(chunk)).tuples()]
    # The largest of each drawing first: smaller ones are made from it.
    wanted.sort(key=lambda one: (one.source, -maker.most(one), one.row))
    for start in range(0, len(wanted), STEP):
        part = wanted[start : start + STEP]
        # Both are work on pixels, which two cores do side by side.
        with ThreadPoolExecutor(1) as beside:
            previews = beside.map(looks.preview, part)
            made = list(zip(part, [maker.file(one) for one in part], previews, strict=True))
        with db.writing() as s:
            context = context_of(s)
            rows = {row.id: row for row in s.scalars(select(LanePrint).where(LanePrint.id.in_([one.row for one in part])))}
            for one, file, preview in made:
                row = rows.get(one.row)
                # What was changed meanwhile is made anew the next time.
                if row is not None and (row.version_id, row.x, row.y, row.w) == (one.version, one.spot.x, one.spot.y, one.spot.w):
                    row.file_id, row.preview_id = files.keep(context, file).id, files.keep(context, preview).id
            s.flush()
            lane_prints.check(context, {one.lane for one, _, _ in made})
        done += len(part)
        progress(done, len(wanted))
    return done


def _both(numbers: Sequence[int]) -> Select[LanePrint, ArtVersion]:
    return select(LanePrint, ArtVersion).join(ArtVersion, ArtVersion.id == LanePrint.version_id).where(LanePrint.id.in_(numbers))


def _wanted(row: LanePrint, version: ArtVersion) -> Wanted:
    return Wanted(
        row.id, row.lane_id, version.id, version.vector, version.file_id, version.sight_id, row.blank_id,
        row.colour, row.size, row.side, Spot(row.x, row.y, row.w), row.h,
    )  # fmt: skip


class _Maker:
    """Keeps the last files that it opened, and what it made of them."""

    def __init__(self, db: Database) -> None:
        self.db = db
        self.sources: dict[int, files.Made] = {}
        self.made: dict[tuple[object, ...], files.Made] = {}
        self.blanks: dict[int, Blank] = {}
        self.master: tuple[int, Image.Image] | None = None

    def source(self, number: int) -> files.Made:
        if number not in self.sources:
            if len(self.sources) > 3:
                self.sources.clear()
            with self.db.reading() as s:
                row = s.get_one(ArtFile, number)
                self.sources[number] = files.Made(row.data, row.kind, row.width, row.height)
        return self.sources[number]

    def blank(self, number: int) -> Blank:
        if number not in self.blanks:
            with self.db.reading() as s:
                self.blanks[number] = s.get_one(Blank, number)
        return self.blanks[number]

    def file(self, one: Wanted) -> files.Made:
        """What the house prints from: the artwork at that size with no more dots than the house makes use of, or its whole print area."""
        terms = terms_of(self.blank(one.blank))
        area = area_of(terms, one.side, one.size)
        assert area is not None
        key = (one.source, one.blank, one.size, one.side, one.spot)
        if key not in self.made:
            if len(self.made) > 40:
                self.made.clear()
            art = self.pixels(one, self.most(one))
            dots = art.width * INCH / one.spot.w
            if terms.whole_area:
                art = _on_area(art, one, (round(area.w * dots / INCH), round(area.h * dots / INCH)), dots)
            self.made[key] = _with_dots(art, dots)
        return self.made[key]

    def most(self, one: Wanted) -> int:
        """How many pixels across the house makes use of at that size; no more than anybody prints, however large it is."""
        best = terms_of(self.blank(one.blank)).dpi_best
        return min(max(1, round(one.spot.w * best / INCH)), int((files.POINTS_MOST * one.spot.w / one.height) ** 0.5))

    def pixels(self, one: Wanted, most: int) -> Image.Image:
        """The artwork so many pixels across, or as many as it has; drawn once for all that are no larger."""
        if self.master is None or self.master[0] != one.source or (one.vector and self.master[1].width < most):
            source = self.source(one.source)
            self.master = (one.source, files.draw(source.data, most) if one.vector else files.opened(source))
        art = self.master[1]
        if art.width <= most:
            return art
        return art.resize((most, max(1, round(most * art.height / art.width))), Image.Resampling.LANCZOS)

    def preview(self, one: Wanted) -> files.Made:
        """How it shall look."""
        scene = scene_of(self.blank(one.blank), one.colour, one.size, one.side)
        return files.as_file(scene.with_art(files.opened(self.source(one.sight)), one.spot, one.height))


def _on_area(art: Image.Image, one: Wanted, size: tuple[int, int], dots: float) -> Image.Image:
    canvas = Image.new("RGBA", (max(1, size[0]), max(1, size[1])), (0, 0, 0, 0))
    canvas.paste(art, (round(one.spot.x * dots / INCH), round(one.spot.y * dots / INCH)))
    return canvas


def _with_dots(art: Image.Image, dots: float) -> files.Made:
    """The file says how many dots an inch it has, so that it comes out at its size."""
    out = io.BytesIO()
    art.save(out, "PNG", compress_level=3, dpi=(round(dots), round(dots)))
    return files.Made(out.getvalue(), files.PNG, art.width, art.height)
