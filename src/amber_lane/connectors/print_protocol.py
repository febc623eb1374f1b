"""What a print house can do for us, beside what every supplier can. Lengths are hundredths of a millimetre."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Protocol, runtime_checkable

from .protocols import SupplierLink


@dataclass(frozen=True)
class ClothColour:
    """A colour that a blank comes in; rgb such as #1b2740, in sRGB."""

    name: str
    rgb: str


@dataclass(frozen=True)
class BlankSize:
    """width, height: of the thing itself, in hundredths of a millimetre."""

    name: str
    width: int
    height: int


@dataclass(frozen=True)
class PrintArea:
    """What can be printed of a side of a size; hundredths of a millimetre."""

    side: str
    size: str
    width: int
    height: int


@dataclass(frozen=True)
class BlankItem:
    """The item of the house's catalogue that a blank is ordered by, printed on so many sides."""

    number: str
    colour: str
    size: str
    sides: int


@dataclass(frozen=True)
class BlankTerms:
    """A thing that a house prints on. dpi: the least it takes, what it calls good, and the most it uses; read_least in percent.

    whole_area: its files are pictures of the whole print area, not the artwork alone; made_by: what the buyer has to be told.
    """

    code: str
    name: str
    kind: str
    colours: tuple[ClothColour, ...]
    sizes: tuple[BlankSize, ...]
    areas: tuple[PrintArea, ...]
    items: tuple[BlankItem, ...]
    dpi_least: int
    dpi_good: int
    dpi_best: int
    read_least: int
    whole_area: bool = False
    made_by: str = ""


@runtime_checkable
class PrintLink(SupplierLink, Protocol):
    """A house that prints what is ordered: a supplier whose items want files."""

    def blanks(self) -> list[BlankTerms]: ...
    def keep_file(self, data: bytes, kind: str) -> None:
        """Hand over a file. It is known by its checksum, so the same again changes nothing; Malformed when another one is told back."""
        ...

    def proof(self, reference: str) -> bytes | None:
        """The house's picture of what it printed for a purchase; None while there is none."""
        ...
