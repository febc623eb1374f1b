"""What the calls about designs answer. Lengths are hundredths of a millimetre."""

from __future__ import annotations

from pydantic import BaseModel

from ..schemas import Money


class BlankOut(BaseModel):
    id: int
    name: str
    kind: str
    house: str
    colours: list[str]
    sizes: list[str]


class DesignRow(BaseModel):
    """sold: in how many colours and sizes; refused: lanes that may not be printed."""

    id: int
    version: int
    name: str
    artwork: str
    blank: str
    kind: str
    house: str
    picture: int | None
    sold: int
    on_sale: int
    refused: int


class PrintingOut(BaseModel):
    designs: list[DesignRow]
    blanks: list[BlankOut]


class PrintSize(BaseModel):
    name: str
    area_w: int
    area_h: int
    x: int
    y: int
    w: int
    h: int
    dpi: int
    outcome: str
    fault: str


class PrintColour(BaseModel):
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


class PrintHouseOut(BaseModel):
    """landed to dearest: what one costs at the store's door, from the smallest size to the largest; None = not sent there."""

    blank: int
    name: str
    house: str
    colours: int
    sizes: int
    landed: Money | None
    dearest: Money | None
    days_low: int
    days_high: int
    refused: int
    answered: int
    refunded: int
    orders: int
    # Share of its parcels that came late, in ppm; None where that is not known yet.
    late: int | None
    # Whether it is the main house, one that stands in, or could.
    use: str


class SpotOut(BaseModel):
    x: int
    y: int
    w: int


class DesignOut(BaseModel):
    id: int
    version: int
    name: str
    artwork: int
    artwork_name: str
    blank: int
    # Of the blank: changes with all that its house says of it.
    blank_version: int
    blank_name: str
    kind: str
    house: str
    size: str
    keep: str
    sides: list[str]
    side: str
    places: dict[str, SpotOut]
    # How high artwork is for its width, as two whole numbers.
    shape_w: int
    shape_h: int
    dpi_least: int
    dpi_good: int
    read_least: int
    sizes: list[PrintSize]
    colours: list[PrintColour]
    houses: list[PrintHouseOut]
    store: int
    combinations: int
    # Those of them that are not listed in the store.
    missing: int
    listings: int
    on_sale: int
    cost: Money | None
    price: Money | None
    profit: Money | None
    dearest_more: Money | None
