"""Pictures and checks of printed goods: a hundred listing pictures, and a design of a hundred colours and sizes judged."""

from __future__ import annotations

import io
from fractions import Fraction

import numpy as np
from PIL import Image, ImageDraw

from amber_lane.core.print_checks import Limits, readable
from amber_lane.core.print_choice import Area, Candidate, choose, fitted, on_area
from amber_lane.services.listings.images import as_listing_picture
from amber_lane.services.printing.drawing import Scene

from .measure import Report, in_turn

BAG, AREA = Area(38_000, 42_000), Area(24_000, 30_000)
COLOURS = [(r, g, b) for r in (20, 90, 160, 230, 250) for g in (30, 200) for b in (40, 220)]


def _art() -> Image.Image:
    image = Image.new("RGBA", (1000, 1000), (0, 0, 0, 0))
    draw = ImageDraw.Draw(image)
    for n in range(12):
        draw.ellipse([40 * n, 30 * n, 1000 - 40 * n, 1000 - 30 * n], outline="#f6efdc", width=9)
    return image


def run(report: Report) -> None:
    art, spot = _art(), fitted((1, 1), AREA)
    cloths = [f"#{r:02x}{g:02x}{b:02x}" for r, g, b in COLOURS[:10]]

    def pictures() -> None:
        for rgb in cloths:
            as_listing_picture(Scene("bag", rgb, BAG, AREA).with_art(art, spot, spot.w))

    def plain() -> None:
        """What nobody is spared: artwork made as small as it is shown, laid on a ground, and written as a picture."""
        for rgb in cloths:
            ground = Image.new("RGB", (1000, 1000), rgb)
            small = art.resize((480, 480), Image.Resampling.LANCZOS)
            ground.paste(small, (260, 300), small)
            ground.save(io.BytesIO(), "JPEG", quality=88)

    mine, _, ratio = in_turn(pictures, plain, 3)
    message = f"{10 * mine:.1f} s, {ratio:.1f} times laying it on a ground"
    report.add("A hundred pictures of a design, 1,000 pixels a side", message, "under 60 s", 10 * mine < 60)

    points = np.asarray(art, dtype=np.uint8)
    limits = Limits(Fraction(150), Fraction(300), Fraction(80))
    sizes = [Area(22_000 + 500 * n, 24_000 + 900 * n) for n in range(5)]

    def judged() -> int:
        """Twenty colours in five sizes, each with a light and a dark version."""
        done = 0
        for cloth in COLOURS:
            share = readable(points, cloth)
            both = [Candidate(1, 4000, 4000, share), Candidate(2, 4000, 4000, 1 - share)]
            for area in sizes:
                done += choose(both, on_area(spot, (1, 1), AREA, area, "proportion"), area, limits, 300).version or 0
        return done

    def opened() -> None:
        for _ in COLOURS:
            np.unique(points.reshape(-1, 4).view(np.uint32))

    own, _, times = in_turn(judged, opened, 3)
    report.add("A hundred colours and sizes checked", f"{own:.2f} s, {times:.2f} times looking at the points", "under 3 times", times < 3)
