# ruff: noqa: E501 - rows of a price list
"""What the print houses of the world print on: blanks with sizes, colours, areas and prices, all of our own making."""

from __future__ import annotations

from dataclasses import dataclass

from .lands import here
from .partners import HOME, NEAR, OTHERS, Seller, make_origin, make_way

# Colours by name; two houses dye a little differently.
CLOTH = {
    "sand": "#e4d6b3", "fog": "#c5c8c6", "heather": "#8a8195", "moss": "#4c5d3f", "slate blue": "#3b556f", "navy": "#1b2740",
    "rust": "#9b4a2d", "mid grey": "#7f8285", "white": "#fbfaf6", "cream": "#f4ecd8", "coal": "#26282b", "oat": "#d8cba8",
}  # fmt: skip


@dataclass(frozen=True)
class Blank:
    """A thing to be printed. sizes: name -> (its width and height in mm, print area on a side in mm, pence more than the smallest).

    sides: the first is in the price, each further one costs `side` pence. kind: how it looks.
    """

    code: str
    name: str
    kind: str
    colours: tuple[str, ...]
    sizes: dict[str, tuple[tuple[int, int], tuple[int, int], int]]
    cost: int
    weight: int
    sides: tuple[str, ...] = ("front",)
    side: int = 260
    # Least, good and best dots an inch, where they are not the house's.
    dots: tuple[int, int, int] | None = None

    def numbers(self, mark: str) -> list[tuple[str, str, str, int]]:
        """(item number, colour, size, how many sides) of everything that can be ordered."""
        many = (1, 2) if len(self.sides) > 1 else (1,)
        return [
            (
                f"{mark}-{self.code}-{colour.replace(' ', '')}-{size.replace(' ', '')}{'-BOTH' if sides == 2 else ''}".upper(),
                colour,
                size,
                sides,
            )
            for colour in self.colours
            for size in self.sizes
            for sides in many
        ]


@dataclass(frozen=True)
class House:
    """A print house. whole: it wants a picture of the whole print area, not the artwork alone. dyes: colours that are its own."""

    seller: Seller
    key: str
    blanks: tuple[Blank, ...]
    dpi_least: int
    dpi_good: int
    dpi_best: int
    whole: bool
    maker: str
    dyes: dict[str, str]

    def rgb(self, colour: str) -> str:
        return self.dyes.get(colour, CLOTH[colour])


BAGS = {
    "day bag": ((360, 380), (220, 240), 0), "field bag": ((380, 420), (240, 300), 90), "kit bag": ((420, 460), (260, 300), 140),
    "tripod bag": ((420, 780), (290, 560), 310), "camp bag": ((520, 620), (320, 420), 280),
}  # fmt: skip
PRINTS = {"A4": ((210, 297), (200, 287), 0), "A3": ((297, 420), (287, 410), 260), "A2": ((420, 594), (410, 584), 640)}
CUSHIONS = {"40 cm": ((400, 400), (300, 300), 0), "50 cm": ((500, 500), (380, 380), 210)}

HOUSES = {
    "tarn": House(
        Seller(
            "tarn", "Tarn Print House", "", "", "TP", (make_origin("home", "", "", 40, "12:00", "Tarn Print House returns"),),
            (make_way("print48", "Printed and tracked", HOME, 320, 90, None, 4, 6), make_way("print48", "Printed, abroad", NEAR, 690, 180, None, 6, 9)),
            tiers=True, moves=0.2,
        ),
        "practice-tarn",
        (
            Blank("BAG", "Moor canvas bag", "bag", ("sand", "fog", "heather", "moss", "slate blue", "navy", "rust", "mid grey"), BAGS, 690, 260, ("front", "back")),
            Blank("MUG", "Hearth mug", "mug", ("white", "cream", "navy", "coal"), {"300 ml": ((238, 95), (200, 85), 0)}, 430, 380),
            Blank("CUSHION", "Loft cushion", "cushion", ("sand", "heather", "moss", "navy", "rust", "cream"), CUSHIONS, 880, 620, ("front", "back"), 310),
            Blank("BLANKET", "Night blanket", "blanket", ("fog", "moss", "navy", "coal"), {"single": ((1300, 1700), (600, 600), 0), "double": ((1700, 2000), (800, 800), 900)}, 1950, 1400, dots=(60, 120, 150)),
            Blank("PRINT", "Star print on paper", "paper", ("white", "cream"), PRINTS, 390, 180),
        ),
        150, 300, 400, False, "Printed to order by Tarn Print House, Whitby", {},
    ),
    "copper": House(
        Seller(
            "copper", "Copperbeck Press", "", "", "CB", (make_origin("home", "", "", 60, "15:00", "Copperbeck returns"),),
            (make_way("bench", "From the bench", HOME, 380, 110, None, 3, 4), make_way("bench", "From the bench, abroad", NEAR, 720, 200, None, 5, 8)),
            tiers=True, moves=0.2,
        ),
        "practice-copperbeck",
        (
            Blank("TOTE", "Beck canvas bag", "bag", ("sand", "fog", "moss", "navy", "coal"), {name: BAGS[name] for name in ("day bag", "field bag", "kit bag")}, 720, 250, ("front", "back"), 280),
            Blank("CUP", "Beck mug", "mug", ("white", "coal", "navy"), {"300 ml": ((236, 94), (196, 84), 0)}, 450, 370),
            Blank("PILLOW", "Beck cushion", "cushion", ("sand", "navy", "cream"), CUSHIONS, 860, 600, ("front",), 310),
            Blank("SHEET", "Beck paper print", "paper", ("white",), PRINTS, 420, 180),
        ),
        150, 250, 300, True, "Printed to order by Copperbeck Press", {"navy": "#1e2a45", "sand": "#e1d2ad", "moss": "#50613f"},
    ),
}  # fmt: skip


def cost_of(blank: Blank, size: str, sides: int) -> int:
    """What one costs, in the land's money."""
    return here().amount(blank.cost + blank.sizes[size][2] + (blank.side if sides == 2 else 0))


OTHERS.update({code: house.seller for code, house in HOUSES.items()})
