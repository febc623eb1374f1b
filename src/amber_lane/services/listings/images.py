"""Pictures of listings: our own copies, checked for what they are before anything is kept of them."""

from __future__ import annotations

import hashlib
import io
import warnings
from typing import NamedTuple

from PIL import Image, ImageOps, UnidentifiedImageError
from sqlalchemy import select

from ...data.bulk import by_id
from ...data.shelf import Listing, Picture, PictureAt
from ...sheets import apart
from ...sheets.limits import NotASheet
from ..base.context import Context
from ..base.errors import Invalid, NotFound

BYTES_MOST = 15_000_000
POINTS_MOST = 40_000_000
SIDE_MOST = 2_000
SIDE_LEAST = 200
MOST = 12
KINDS = {"JPEG": "image/jpeg", "PNG": "image/png", "WEBP": "image/webp"}


class Made(NamedTuple):
    """A picture made anew: its bytes, kind and size."""

    data: bytes
    kind: str
    width: int
    height: int


def check(data: bytes) -> Made:
    """A picture made anew from what was given. Nothing but its points is taken over. Takes up to a second, so before a transaction.

    Invalid in plain words when it is none, too small, or would unpack to more than anybody needs.
    """
    if len(data) > BYTES_MOST:
        raise Invalid("the picture has more than 15 MB; make it smaller")
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("error", Image.DecompressionBombWarning)
            opened = Image.open(io.BytesIO(data), formats=list(KINDS))
            # Its size stands in its head; what is too large is never unpacked.
            if opened.width * opened.height > POINTS_MOST:
                raise Invalid(f"the picture has {opened.width} x {opened.height} points; 40 million are the most")
            opened.load()
    except Invalid:
        raise
    except (UnidentifiedImageError, OSError, ValueError, SyntaxError, Image.DecompressionBombError, Warning) as error:
        raise Invalid("that is not a picture that stores can show; give a JPEG, PNG or WebP") from error
    if min(opened.width, opened.height) < SIDE_LEAST:
        raise Invalid(f"the picture is only {opened.width} x {opened.height} points; stores want {SIDE_LEAST} at least")
    upright = ImageOps.exif_transpose(opened)
    upright.thumbnail((SIDE_MOST, SIDE_MOST))
    plain = upright.mode in ("RGBA", "LA", "P")
    made = upright.convert("RGBA" if plain else "RGB")
    out = io.BytesIO()
    made.save(out, "PNG" if plain else "JPEG", **({} if plain else {"quality": 88}))
    return Made(out.getvalue(), "image/png" if plain else "image/jpeg", made.width, made.height)


def evidence(data: bytes) -> list[Made]:
    """What shows how something came: a picture, or the first pages of a PDF, made anew. Takes up to seconds, so before a transaction."""
    if data.lstrip()[:5] != b"%PDF-":
        return [check(data)]
    if len(data) > BYTES_MOST:
        raise Invalid("the PDF has more than 15 MB; make it smaller")
    try:
        return [check(one) for one in apart.pages(data)]
    except NotASheet as error:
        raise Invalid(str(error)) from error


def add(context: Context, listing: int, made: Made) -> Picture:
    """Keep a picture and put it last among a listing's; the same one twice is kept once."""
    row = context.get(Listing, listing, "listing")
    if len(row.pictures or []) >= MOST:
        raise Invalid(f"a listing shows {MOST} pictures at most; take one away first")
    return keep(context, made)


def as_listing_picture(image: Image.Image) -> Made:
    """A picture of our own drawing, as stores show it."""
    out = io.BytesIO()
    image.convert("RGB").save(out, "JPEG", quality=88)
    return Made(out.getvalue(), "image/jpeg", image.width, image.height)


def keep(context: Context, made: Made, is_evidence: bool = False) -> Picture:
    """Keep a picture; the same bytes are kept once. is_evidence: it shows what came to a buyer, and is of whoever sees orders."""
    sha = hashlib.sha256(made.data).hexdigest()
    picture = context.session.scalar(select(Picture).where(Picture.sha == sha))
    if picture is None:
        picture = Picture(sha=sha, kind=made.kind, width=made.width, height=made.height, data=made.data, is_evidence=is_evidence)
        context.session.add(picture)
        context.session.flush()
    return picture


def checked_order(context: Context, numbers: list[int]) -> list[int]:
    """An order of pictures that are all there, each once. NotFound otherwise."""
    known = by_id(context.session, Picture, numbers)
    for number in numbers:
        if number not in known:
            raise NotFound(f"there is no picture {number}")
    return list(dict.fromkeys(numbers))[:MOST]


def names_at(context: Context, store: int, numbers: list[int]) -> dict[int, str]:
    """What a store calls those of our pictures that it has."""
    rows = select(PictureAt.picture_id, PictureAt.name).where(PictureAt.store_id == store, PictureAt.picture_id.in_(numbers))
    return dict(context.session.execute(rows).tuples().all())


def note_name(context: Context, store: int, number: int, name: str) -> None:
    if number not in names_at(context, store, [number]):
        context.session.add(PictureAt(picture_id=number, store_id=store, name=name))
        context.session.flush()
