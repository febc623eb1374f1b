"""Pictures of blanks and designs, true to scale, and files of what is printed."""

from __future__ import annotations

import io
from typing import Annotated

from fastapi import Query, Response
from PIL import Image
from pydantic import BaseModel

from ...core.permissions import Permission as P
from ...data.printing import ArtFile, ArtVersion, Blank, PrintDesign
from ...services.base.errors import Invalid
from ...services.printing import designs, files, ordering
from ...services.printing.blank_terms import scene_of, terms_of
from ...services.printing.drawing import SIDE
from ..deps import ReadContext
from ..guard import GuardedRouter
from ..schemas import Big, download
from .artwork import FOREVER

router = GuardedRouter("/printing", tags=["printing"], read=(P.SEE_GOODS,), write=(P.LIST,))


class PrintScene(BaseModel):
    """Where the print area lies in the picture of a blank, in parts of its side; scale: parts for a hundredth of a millimetre."""

    left: float
    top: float
    width: float
    height: float
    scale: float


@router.get("/designs/{number}/scene")
def scene(context: ReadContext, number: Big, side: Annotated[str, Query(max_length=60)]) -> PrintScene:
    """Where the print area of the design's size lies in the picture of its blank."""
    row = context.get(PrintDesign, number, "design")
    blank = context.get(Blank, row.blank_id, "blank")
    of = scene_of(blank, terms_of(blank).colours[0].name, row.size, side).frame
    left, top, right, bottom = (one / SIDE for one in of.area)
    return PrintScene(left=left, top=top, width=right - left, height=bottom - top, scale=of.scale / SIDE)


@router.get("/blanks/{number}/picture", response_class=Response, responses=download("image/jpeg"))
def blank_picture(
    context: ReadContext, number: Big, colour: Annotated[str, Query(max_length=60)], size: Annotated[str, Query(max_length=60)],
    side: Annotated[str, Query(max_length=60)], version: int = 0,
) -> Response:  # fmt: skip
    """A blank without a print. version: of its terms, so that a changed one is shown anew."""
    blank = context.get(Blank, number, "blank")
    if size not in {one.name for one in terms_of(blank).sizes}:
        raise Invalid(f"{blank.name} has no size {size}")
    return _jpeg(scene_of(blank, colour, size, side).bare())


@router.get("/designs/{number}/picture", response_class=Response, responses=download("image/jpeg"))
def design_picture(
    context: ReadContext, number: Big, colour: Annotated[str, Query(max_length=60)], side: Annotated[str, Query(max_length=60)],
    mark: Annotated[str, Query(max_length=80)] = "",
) -> Response:  # fmt: skip
    """A design on one colour, small. mark: whatever changes with what it shows."""
    row = context.get(PrintDesign, number, "design")
    blank = context.get(Blank, row.blank_id, "blank")
    at = designs.places_of(context, number).get(side)
    cell = next((one for one in designs.cells(context, row) if (one.colour, one.size) == (colour, row.size)), None)
    chosen = cell.sides.get(side) if cell else None
    if cell is None or at is None:
        raise Invalid(f"{blank.name} has no {side} in {colour}")
    shown = scene_of(blank, colour, row.size, side)
    if chosen is None or chosen.version is None:
        return _jpeg(shown.bare(), 280)
    version = context.get(ArtVersion, chosen.version, "version of an artwork")
    art = files.opened(context.get(ArtFile, version.sight_id, "file"))
    return _jpeg(shown.with_art(art, at, at.height(version.width, version.height)), 280)


def _jpeg(image: Image.Image, side: int = SIDE) -> Response:
    out = io.BytesIO()
    shown = image if image.width == side else image.resize((side, side), Image.Resampling.LANCZOS)
    shown.convert("RGB").save(out, "JPEG", quality=86)
    return Response(out.getvalue(), media_type="image/jpeg", headers=FOREVER)


class SentPrintOut(BaseModel):
    """One side as it was sent to be printed; lengths in hundredths of a millimetre."""

    reference: str
    house: str
    item: str
    side: str
    artwork: str
    x: int
    y: int
    w: int
    h: int
    file: int
    preview: int


@router.get("/orders/{number}")
def prints_of_order(context: ReadContext, number: Big) -> list[SentPrintOut]:
    """What was sent to be printed for an order; it stays as it was, whatever becomes of the artwork."""
    return [SentPrintOut(**vars(one)) for one in ordering.of_order(context, number)]


@router.get("/files/{number}", response_class=Response, responses=download("image/png"))
def file_picture(context: ReadContext, number: Big) -> Response:
    """A picture of what was or is to be printed, or a house's proof of it."""
    row = context.get(ArtFile, number, "file")
    if row.kind != files.PNG:
        raise Invalid("that file is no picture")
    return Response(row.data, media_type=row.kind, headers=FOREVER)
