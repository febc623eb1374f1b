"""Artwork with its versions: brought in as files, shown, taken away."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated

from fastapi import Form, Response
from pydantic import BaseModel

from ...core.permissions import Permission as P
from ...data.printing import ArtFile, ArtVersion
from ...services.printing import artwork
from ..deps import ReadContext, WriteContext
from ..files import ArtworkFile
from ..guard import GuardedRouter
from ..schemas import Ask, Big, Done, download

router = GuardedRouter("/printing", tags=["printing"], read=(P.SEE_GOODS,), write=(P.LIST,))
Name = Annotated[str, Form(min_length=1, max_length=artwork.NAME_MOST)]
Ground = Annotated[str, Form(pattern="^(any|light|dark|colour)$")]
Colour = Annotated[str, Form(max_length=60)]
FOREVER = {"Cache-Control": "private, max-age=31536000, immutable", "Content-Security-Policy": "default-src 'none'"}


class ArtVersionOut(BaseModel):
    """ground: any, light, dark or colour; width and height in points, of a drawing (vector) its shape."""

    id: int
    ground: str
    colour: str
    width: int
    height: int
    vector: bool
    made_at: datetime


class ArtworkOut(BaseModel):
    """listings, orders: what a new version would reach."""

    id: int
    version: int
    name: str
    made_at: datetime
    versions: list[ArtVersionOut]
    listings: int
    orders: int


class Added(BaseModel):
    message: str
    id: int


class VersionedAsk(Ask):
    version: int


@router.get("/artwork")
def all_artwork(context: ReadContext) -> list[ArtworkOut]:
    """Every artwork with its versions of now, by name."""
    return [
        ArtworkOut(
            id=row.id,
            version=row.version,
            name=row.name,
            made_at=row.made_at,
            versions=[
                ArtVersionOut(
                    id=one.id,
                    ground=one.ground,
                    colour=one.colour,
                    width=one.width,
                    height=one.height,
                    vector=one.vector,
                    made_at=one.made_at,
                )
                for one in versions
            ],
            listings=reach.listings,
            orders=reach.orders,
        )
        for row, versions, reach in artwork.all_artwork(context)
    ]


@router.post("/artwork", status_code=201)
def add(given: ArtworkFile, context: WriteContext, name: Name, ground: Ground = "any", colour: Colour = "") -> Added:
    """Bring in artwork as PNG, JPEG or SVG; it is checked and made anew."""
    row = artwork.add(context, name, given, ground, colour)
    return Added(message=f"{row.name} is here", id=row.id)


@router.post("/artwork/{number}/versions", status_code=201)
def add_version(given: ArtworkFile, context: WriteContext, number: Big, ground: Ground, colour: Colour = "") -> Done:
    """A version in place of the one for the same cloth; what is printed from it follows, what was sent stays as it was."""
    artwork.add_version(context, number, given, ground, colour)
    reach = artwork.reach_of(context, number)
    told = f"; {reach.listings} listings follow" if reach.listings else ""
    return Done(message=f"The version is here{told}", count=reach.listings)


@router.delete("/versions/{number}")
def drop_version(context: WriteContext, number: Big) -> Done:
    """Take a version away; the last one stays."""
    artwork.drop_version(context, number)
    return Done(message="The version is taken away")


@router.post("/artwork/{number}/remove")
def remove_artwork(context: WriteContext, number: Big, ask: VersionedAsk) -> Done:
    """Remove an artwork that nothing is printed from."""
    row = artwork.remove(context, number, ask.version)
    return Done(message=f"{row.name} is removed")


@router.get("/versions/{number}/picture", response_class=Response, responses=download("image/png"))
def version_picture(context: ReadContext, number: Big) -> Response:
    """At most a megapixel of a version, as it is judged."""
    row = context.get(ArtVersion, number, "version of an artwork")
    file = context.get(ArtFile, row.sight_id, "file")
    return Response(file.data, media_type=file.kind, headers=FOREVER)
