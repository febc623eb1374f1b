"""What a house says of a blank, read back from where it is kept."""

from __future__ import annotations

from typing import Any

from PIL import ImageColor

from ...connectors.print_protocol import BlankItem, BlankSize, BlankTerms, ClothColour, PrintArea
from ...core.print_choice import Area
from ...data.printing import Blank
from ..base.errors import Invalid
from .drawing import Scene


def terms_of(blank: Blank) -> BlankTerms:
    """What a house says of a blank."""
    data: dict[str, Any] = dict(blank.terms)
    for name, kind in (("colours", ClothColour), ("sizes", BlankSize), ("areas", PrintArea), ("items", BlankItem)):
        data[name] = tuple(kind(**one) for one in data[name])
    return BlankTerms(**data)


def area_of(terms: BlankTerms, side: str, size: str) -> Area | None:
    return next((Area(one.width, one.height) for one in terms.areas if (one.side, one.size) == (side, size)), None)


def size_of(terms: BlankTerms, size: str) -> Area:
    return next(Area(one.width, one.height) for one in terms.sizes if one.name == size)


def sides_of(terms: BlankTerms) -> list[str]:
    return list(dict.fromkeys(one.side for one in terms.areas))


def rgb_of(terms: BlankTerms, colour: str) -> tuple[int, int, int]:
    text = next(one.rgb for one in terms.colours if one.name == colour)
    red, green, blue = ImageColor.getrgb(text)[:3]
    return red, green, blue


def scene_of(blank: Blank, colour: str, size: str, side: str) -> Scene:
    """What a picture of a blank shows; Invalid where it has no such side, size or colour."""
    terms = terms_of(blank)
    area = area_of(terms, side, size)
    if area is None or colour not in {one.name for one in terms.colours}:
        raise Invalid(f"{blank.name} has no {side} of {colour}, {size}")
    return Scene(blank.kind, "#{:02x}{:02x}{:02x}".format(*rgb_of(terms, colour)), size_of(terms, size), area)
