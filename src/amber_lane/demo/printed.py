# ruff: noqa: E501 - drawings
"""What the demo prints for each order: artwork of our own drawing on twelve things by two houses, one too soft and one unreadable."""

from __future__ import annotations

import io
import math
import random
from collections.abc import Sequence

from PIL import Image, ImageDraw
from sqlalchemy import Select, select

from ..api.deps import AppState
from ..core.print_choice import Spot
from ..core.states import ListingState
from ..data.printing import Artwork, Blank, LanePrint, PrintDesign
from ..data.setup import Store, Supplier
from ..data.shelf import Listing, Sku
from ..services.base.context import Context
from ..services.base.job_queue import start
from ..services.listings import publishing
from ..services.printing import artwork, designs, files
from ..services.sourcing import print_samples
from .partners import OWNER

INK = {"light": "#22262b", "dark": "#f6efdc"}
# Artwork, on what, by whom, which colours of the main house, and whether the other house stands in.
THINGS: tuple[tuple[str, str, str, tuple[str, ...], bool], ...] = (
    ("New moon over the moor", "bag", "Tarn Print House", ("sand", "navy", "moss"), True),
    ("The Plough", "bag", "Copperbeck Press", ("sand", "coal"), True),
    ("Ink wood", "bag", "Tarn Print House", ("fog", "navy"), False),
    ("New moon over the moor", "mug", "Tarn Print House", ("white", "navy"), True),
    ("Tawny owl", "mug", "Copperbeck Press", ("white", "coal"), True),
    ("Five lanterns", "mug", "Tarn Print House", ("cream", "coal"), False),
    ("The Plough", "cushion", "Tarn Print House", ("sand", "navy", "rust"), True),
    ("Tawny owl", "cushion", "Copperbeck Press", ("navy", "cream"), False),
    ("Tide and stars", "blanket", "Tarn Print House", ("fog", "navy"), False),
    ("Old star chart", "blanket", "Tarn Print House", ("fog",), False),
    ("Tide and stars", "paper", "Tarn Print House", ("white", "cream"), False),
    ("Five lanterns", "paper", "Copperbeck Press", ("white",), True),
)


def _svg(inside: str) -> bytes:
    return f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 400 400">{inside}</svg>'.encode()


def _moon(ink: str) -> str:
    stars = "".join(f'<circle cx="{x}" cy="{y}" r="7" fill="{ink}"/>' for x, y in ((52, 110), (330, 78), (352, 196)))
    crescent = f'<path d="M200 40 a140 140 0 1 0 118 214 a118 118 0 1 1 -118 -214z" fill="{ink}"/>'
    return f'{crescent}{stars}<path d="M20 360 Q200 280 380 360" stroke="{ink}" stroke-width="12" fill="none"/>'


def _plough(ink: str) -> str:
    at = ((60, 120), (128, 138), (186, 176), (238, 204), (256, 276), (342, 290), (350, 206))
    line = " ".join(f"{x},{y}" for x, y in (*at, at[3]))
    dots = "".join(f'<circle cx="{x}" cy="{y}" r="15" fill="{ink}"/>' for x, y in at)
    return f'<polyline points="{line}" fill="none" stroke="{ink}" stroke-width="6"/>{dots}'


def _owl(ink: str) -> str:
    eyes = "".join(
        f'<circle cx="{x}" cy="160" r="44" fill="none" stroke="{ink}" stroke-width="12"/><circle cx="{x}" cy="160" r="17" fill="{ink}"/>'
        for x in (150, 250)
    )
    body = f'<path d="M80 96 q30 34 60 20 q60 -22 120 0 q30 14 60 -20 q20 130 -20 216 q-40 60 -100 60 t-100 -60 q-40 -86 -20 -216z" fill="none" stroke="{ink}" stroke-width="14"/>'
    wings = "".join(
        f'<path d="M{150 + 20 * n} {250 + 24 * (n % 2)} q15 20 30 0" fill="none" stroke="{ink}" stroke-width="8"/>' for n in range(5)
    )
    return f'{body}{eyes}<path d="M188 196 l12 24 l12 -24z" fill="{ink}"/>{wings}'


def _lanterns(ink: str) -> str:
    one = []
    for n in range(5):
        x, y = 44 + n * 78, 120 + round(50 * math.sin(n * 1.4))
        one.append(
            f'<path d="M{x} 20 V{y}" stroke="{ink}" stroke-width="5"/><rect x="{x - 24}" y="{y}" width="48" height="78" rx="14" fill="{ink}"/>'
        )
    return "".join(one) + f'<path d="M10 20 H390" stroke="{ink}" stroke-width="7"/>'


def _tide(ink: str) -> str:
    rng = random.Random("tide")
    waves = "".join(
        f'<path d="M10 {240 + 34 * n} q48 -40 95 0 t95 0 t95 0 t95 0" fill="none" stroke="{ink}" stroke-width="{13 - 2 * n}"/>'
        for n in range(4)
    )
    return waves + "".join(
        f'<circle cx="{rng.randint(24, 376)}" cy="{rng.randint(24, 180)}" r="{rng.choice((5, 8, 12))}" fill="{ink}"/>' for _ in range(26)
    )


def _wood(ink: str) -> str:
    rng = random.Random("wood")
    trees = []
    for n in range(9):
        x, top = 30 + n * 43, rng.randint(40, 150)
        trees.append(f'<path d="M{x} {top} L{x - 26} 330 H{x + 26}z M{x} 330 V372" fill="{ink}" stroke="{ink}" stroke-width="8"/>')
    return "".join(trees)


DRAWN = {
    "New moon over the moor": _moon, "The Plough": _plough, "Tawny owl": _owl, "Five lanterns": _lanterns, "Tide and stars": _tide,
    "Ink wood": _wood,
}  # fmt: skip


def _chart(side: int) -> bytes:
    """An old chart as a scan: rings and stars in points, and too few of them for a blanket."""
    image = Image.new("RGBA", (side, side), (0, 0, 0, 0))
    draw, middle, rng = ImageDraw.Draw(image), side / 2, random.Random("chart")
    for part in (0.48, 0.36, 0.24, 0.12):
        draw.ellipse(
            [middle - side * part, middle - side * part, middle + side * part, middle + side * part],
            outline=INK["light"],
            width=max(2, side // 160),
        )
    for _ in range(90):
        turn, far, r = rng.uniform(0, 2 * math.pi), rng.uniform(0.03, 0.46) * side, side * rng.choice((0.006, 0.01, 0.016))
        x, y = middle + far * math.cos(turn), middle + far * math.sin(turn)
        draw.ellipse([x - r, y - r, x + r, y + r], fill=INK["light"])
    out = io.BytesIO()
    image.save(out, "PNG")
    return out.getvalue()


def prepare(house: AppState) -> None:
    """Artwork brought in, placed, listed in the craft market and published; two of the things wait for a person."""
    given = {name: {ground: files.check(_svg(draw(ink))) for ground, ink in INK.items()} for name, draw in DRAWN.items()}
    sharp, soft = files.check(_chart(5200)), files.check(_chart(900))
    with house.db.writing() as s:
        context = Context(s, house.clock, OWNER)
        for name, versions in given.items():
            row = artwork.add(context, name, versions["light"], "light")
            artwork.add_version(context, row.id, versions["dark"], "dark")
        chart = artwork.add(context, "Old star chart", sharp)
        store = s.scalars(select(Store).where(Store.kind == "program")).one()
        store.tell_maker = True
        made = [_design(context, *one) for one in THINGS]
        for number in made:
            start(context, "print.variants", f"print-variants-{number}-{store.id}", "Printed goods", {"design": number, "store": store.id})
    house.worker.jobs.run_due()
    with house.db.writing() as s:
        context = Context(s, house.clock, OWNER)
        publishing.publish(context, list(s.scalars(_listings(made).where(Listing.state == ListingState.preparing))))
        # The scan comes back smaller from its restorer, and somebody takes the light drawing of the wood away.
        artwork.add_version(context, chart.id, soft, "any")
        wood = s.scalars(select(Artwork).where(Artwork.name == "Ink wood")).one()
        dark = next(one for row, some, _ in artwork.all_artwork(context) if row.id == wood.id for one in some if one.ground == "dark")
        artwork.drop_version(context, dark.id)
        print_samples.order(context, made[0], "navy", "field bag")
    house.worker.jobs.run_due()


def _listings(made: Sequence[int]) -> Select[int]:
    return (
        select(Listing.id)
        .join(Sku, Sku.id == Listing.sku_id)
        .where(Sku.id.in_(select(LanePrint.sku_id).where(LanePrint.design_id.in_(made))))
    )


def _design(context: Context, art: str, kind: str, house: str, colours: tuple[str, ...], spare: bool) -> int:
    s = context.session
    blanks = dict(
        s.execute(select(Supplier.name, Blank).join(Supplier, Supplier.id == Blank.supplier_id).where(Blank.kind == kind)).tuples().all()
    )
    row, main = s.scalars(select(Artwork).where(Artwork.name == art)).one(), blanks[house]
    what = {"paper": "print"}.get(kind, kind)
    design: PrintDesign = designs.create(context, f"{art} {what}", row.id, main.id, "field bag" if kind == "bag" else "")
    left = [one["name"] for one in main.terms["colours"] if one["name"] not in colours]
    others = [blank.id for name, blank in blanks.items() if name != house] if spare else []
    places: dict[str, Spot | None] | None = None
    if kind in ("bag", "cushion"):
        # In the middle of its upper half, half as wide as may be printed.
        (side, at), *_ = designs.places_of(context, design.id).items()
        places = {side: Spot(at.x + at.w // 4, at.y + at.w // 10, at.w // 2)}
    designs.change(context, design.id, None, designs.DesignChange(left_out=left, spares=others, places=places))
    return design.id
