"""A print house's interface: as a wholesaler's, and beside that its blanks, the files to print from, and proofs."""

from __future__ import annotations

import hashlib
from typing import Annotated

import httpx
from pydantic import Field, StringConstraints

from .described.caller import DescribedCaller
from .described.make import shipped_one
from .described.schema import SignIn
from .described.supplier import DescribedSupplier
from .errors import Malformed, NotThere, Unavailable, UnknownOutcome
from .print_protocol import BlankItem, BlankSize, BlankTerms, ClothColour, PrintArea
from .wire import Name, Short, Wire, clip, path_part

_Rgb = Annotated[str, StringConstraints(pattern=r"^#[0-9a-fA-F]{6}$")]
# Nothing that is printed on is larger than ten metres, or finer than this.
_Millimetres = Annotated[float, Field(gt=0, le=10_000, allow_inf_nan=False)]
_Dots = Annotated[int, Field(gt=0, le=2_400)]
_MOST = 5_000
_PROOF_MOST = 15_000_000


class _Colour(Wire):
    name: Name
    rgb: _Rgb


class _Size(Wire):
    name: Name
    width_mm: _Millimetres
    height_mm: _Millimetres


class _Area(Wire):
    side: Name
    size: Name
    width_mm: _Millimetres
    height_mm: _Millimetres


class _Item(Wire):
    number: Name
    colour: Name
    size: Name
    sides: Annotated[int, Field(ge=1, le=12)] = 1


class _Blank(Wire):
    code: Name
    name: Name
    kind: Short
    colours: Annotated[list[_Colour], Field(min_length=1, max_length=200)]
    sizes: Annotated[list[_Size], Field(min_length=1, max_length=100)]
    areas: Annotated[list[_Area], Field(min_length=1, max_length=500)]
    items: Annotated[list[_Item], Field(max_length=_MOST)]
    dpi_least: _Dots
    dpi_good: _Dots
    dpi_best: _Dots
    read_least: Annotated[int, Field(ge=0, le=100)] = 0
    file: Short = "artwork"
    kinds: list[Short] = Field(default_factory=lambda: ["image/png"])
    made_by: str = ""


class _Blanks(Wire):
    blanks: Annotated[list[_Blank], Field(max_length=500)]


class _File(Wire):
    sha256: Short


class PrintHouse(DescribedSupplier):
    """Speaks as the wholesaler does, with another sign-in and more that can be asked."""

    def __init__(self, address: str, key: str, deadline: float, transport: httpx.BaseTransport | None = None) -> None:
        own = {"name": "the print house", "sign_in": SignIn(kind="header", name="Press-Key")}
        super().__init__(DescribedCaller(shipped_one("wholesaler").model_copy(update=own), address, key, deadline, transport))

    def blanks(self) -> list[BlankTerms]:
        return [_terms(one) for one in self.call.ask("/blanks", _Blanks).blanks if "image/png" in one.kinds]

    def keep_file(self, data: bytes, kind: str) -> None:
        try:
            said = self.call.tell_bytes("/files", data, kind, _File)
        except UnknownOutcome as error:
            # The same file again changes nothing there, so it is simply tried again.
            raise Unavailable(error.message) from error
        if said.sha256 != hashlib.sha256(data).hexdigest():
            raise Malformed("the print house has another file than the one that was sent")

    def proof(self, reference: str) -> bytes | None:
        try:
            data = self.call.fetch(f"/purchases/{path_part(reference)}/proof").content
        except NotThere:
            return None
        if len(data) > _PROOF_MOST:
            raise Malformed("the proof has more than 15 MB")
        return data


def _hundredths(millimetres: float) -> int:
    return round(millimetres * 100)


def _terms(one: _Blank) -> BlankTerms:
    """Malformed where it names a colour, size or side that it has not."""
    colours, sizes = {row.name for row in one.colours}, {row.name for row in one.sizes}
    if {row.size for row in one.areas} - sizes or {row.size for row in one.items} - sizes or {row.colour for row in one.items} - colours:
        raise Malformed(f"the print house's {one.code} names a size or colour that it does not have")
    return BlankTerms(
        one.code,
        clip(one.name),
        one.kind,
        tuple(ClothColour(row.name, row.rgb.lower()) for row in one.colours),
        tuple(BlankSize(row.name, _hundredths(row.width_mm), _hundredths(row.height_mm)) for row in one.sizes),
        tuple(PrintArea(row.side, row.size, _hundredths(row.width_mm), _hundredths(row.height_mm)) for row in one.areas),
        tuple(BlankItem(row.number, row.colour, row.size, row.sides) for row in one.items),
        one.dpi_least,
        one.dpi_good,
        one.dpi_best,
        one.read_least,
        one.file == "area",
        clip(one.made_by),
    )
