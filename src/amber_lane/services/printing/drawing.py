"""Pictures of blanks and of what is printed on them: drawn in true proportions, with the shade and weave of cloth."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache, lru_cache

import numpy as np
import numpy.typing as npt
from PIL import Image, ImageChops, ImageColor, ImageDraw, ImageFilter

from ...core.print_choice import Area, Spot

SIDE = 1000
_ROOM = 60
_GROUND = (246, 243, 236)
# Where the print area lies in the thing: how far down its middle is, of the thing's height.
_MIDDLE = {"bag": 0.54, "mug": 0.5, "cushion": 0.5, "blanket": 0.62, "paper": 0.5}
_WEAVE = {"bag": 9, "cushion": 6, "blanket": 11, "mug": 0, "paper": 2}


@dataclass(frozen=True)
class Frame:
    """Where the thing and its print area lie in a picture of SIDE by SIDE, in pixels; scale: pixels for a hundredth of a millimetre."""

    thing: tuple[float, float, float, float]
    area: tuple[float, float, float, float]
    scale: float

    def spot(self, spot: Spot, height: int) -> tuple[int, int, int, int]:
        """Where artwork lies: left, top, width and height in pixels."""
        left, top = self.area[0] + spot.x * self.scale, self.area[1] + spot.y * self.scale
        return round(left), round(top), max(1, round(spot.w * self.scale)), max(1, round(height * self.scale))


def frame(kind: str, size: Area, area: Area) -> Frame:
    """A thing as large as the picture has room for, handles included."""
    handles = size.w * 0.42 if kind == "bag" else 0.0
    ear = size.h * 0.35 if kind == "mug" else 0.0
    # A mug is drawn from its front: of what goes around it, what is seen.
    w = min(size.w, size.h * 1.0) if kind == "mug" else size.w
    scale = min((SIDE - 2 * _ROOM) / (w + ear), (SIDE - 2 * _ROOM) / (size.h + handles))
    wide, high = w * scale, size.h * scale
    left = (SIDE - wide - ear * scale) / 2
    top = (SIDE - high - handles * scale) / 2 + handles * scale
    if kind == "mug":
        scale_area = min(1.0, w * 0.86 / area.w)
        scale_print = scale * scale_area
    else:
        scale_print = scale
    aw, ah = area.w * scale_print, area.h * scale_print
    middle = top + high * _MIDDLE.get(kind, 0.5)
    at = (left + (wide - aw) / 2, max(top, middle - ah / 2))
    return Frame((left, top, left + wide, top + high), (at[0], at[1], at[0] + aw, at[1] + ah), scale_print)


@dataclass(frozen=True)
class Scene:
    """What a picture shows: a thing of a kind in a colour (such as #1b2740), its size and the print area of the side that is looked at."""

    kind: str
    rgb: str
    size: Area
    area: Area

    @property
    def frame(self) -> Frame:
        return frame(self.kind, self.size, self.area)

    def bare(self) -> Image.Image:
        return blank(self.kind, self.rgb, self.frame)

    def with_art(self, art: Image.Image, spot: Spot, height: int) -> Image.Image:
        """The thing with artwork lying at a spot."""
        of = self.frame
        return printed(self.kind, self.rgb, of, art, of.spot(spot, height))


def blank(kind: str, rgb: str, of: Frame) -> Image.Image:
    """The thing without a print. rgb: such as #1b2740."""
    colour = ImageColor.getrgb(rgb)[:3]
    picture = Image.new("RGB", (SIDE, SIDE), _GROUND)
    mask, seams = _outline(kind, of)
    cloth = _cloth(colour, _WEAVE.get(kind, 6))
    shade = _shade(mask, of, kind)
    cloth = Image.composite(cloth, Image.new("RGB", (SIDE, SIDE), tuple(int(c * 0.55) for c in colour)), shade)
    picture.paste((206, 200, 188), (0, 0), ImageChops.offset(mask, 0, 10).filter(ImageFilter.GaussianBlur(14)).point(lambda v: v * 2 // 5))
    picture.paste(cloth, (0, 0), mask)
    dark = sum(colour) < 240
    line = tuple(min(255, c + 46) if dark else max(0, c - 60) for c in colour)
    draw = ImageDraw.Draw(picture)
    for points in seams:
        draw.line(points, fill=line, width=3, joint="curve")
    return picture


def printed(kind: str, rgb: str, of: Frame, art: Image.Image, at: tuple[int, int, int, int]) -> Image.Image:
    """The thing with artwork on it: ink takes on some of the weave and the shade below it. at: left, top, width, height in pixels."""
    picture = blank(kind, rgb, of)
    left, top, wide, high = at
    ink = art.resize((wide, high), Image.Resampling.LANCZOS) if art.size != (wide, high) else art
    under = picture.crop((left, top, left + wide, top + high)).convert("L")
    level = float(np.asarray(under, dtype=np.float32).mean()) or 1.0
    light = np.clip(np.asarray(under, dtype=np.float32) / level, 0.72, 1.18)[..., None]
    flat = np.asarray(ink, dtype=np.float32)
    toned = np.clip(flat[..., :3] * (0.55 + 0.45 * light), 0, 255).astype(np.uint8)
    mask, _ = _outline(kind, of)
    seen = ImageChops.multiply(ink.getchannel("A"), mask.crop((left, top, left + wide, top + high)))
    picture.paste(Image.fromarray(toned, "RGB"), (left, top), seen)
    return picture


def _cloth(colour: tuple[int, ...], weave: int) -> Image.Image:
    if not weave:
        return Image.new("RGB", (SIDE, SIDE), colour)
    light = _threads() * weave
    return Image.fromarray(np.clip(np.array(colour, dtype=np.float32) + light, 0, 255).astype(np.uint8), "RGB")


@cache
def _threads() -> npt.NDArray[np.float32]:
    """How much lighter each place of a weave is. The same in every picture: nothing of it is left to luck."""
    rng = np.random.default_rng(12)
    rows, columns = rng.normal(0, 0.5, (SIDE, 1)), rng.normal(0, 0.5, (1, SIDE))
    return (rows + columns + rng.normal(0, 0.25, (SIDE, SIDE))).astype(np.float32)[..., None]


def _shade(mask: Image.Image, of: Frame, kind: str) -> Image.Image:
    """How much light falls on each place: less at the edges, and around a mug."""
    soft = np.asarray(mask.filter(ImageFilter.GaussianBlur(26)), dtype=np.float32) / 255
    light = np.clip((soft - 0.5) * 2, 0, 1) * 0.22 + 0.78
    left, _, right, _ = of.thing
    across = np.clip((np.arange(SIDE) - left) / max(right - left, 1), 0, 1)
    if kind == "mug":
        light *= (1 - 0.42 * np.abs(across - 0.38) ** 1.6)[None, :]
    else:
        light *= (1 - 0.08 * across)[None, :]
    return Image.fromarray(np.clip(light * 255, 0, 255).astype(np.uint8), "L")


@lru_cache(maxsize=32)
def _outline(kind: str, of: Frame) -> tuple[Image.Image, list[list[tuple[float, float]]]]:
    """The thing's shape as a mask, and its seams."""
    factor = 2
    big = Image.new("L", (SIDE * factor, SIDE * factor), 0)
    draw = ImageDraw.Draw(big)
    left, top, right, bottom = of.thing

    def box(*values: float) -> list[float]:
        return [value * factor for value in values]

    wide, high = right - left, bottom - top
    seams: list[list[tuple[float, float]]] = []
    if kind == "bag":
        lean = wide * 0.035
        shape = [
            (left + lean, top),
            (right - lean, top),
            (right, bottom - high * 0.02),
            (left + wide / 2, bottom),
            (left, bottom - high * 0.02),
        ]
        draw.polygon([(x * factor, y * factor) for x, y in shape], fill=255)
        hold, thick = wide * 0.42, wide * 0.055
        draw.arc(box(left + wide * 0.29, top - hold, right - wide * 0.29, top + hold), 180, 360, fill=255, width=int(thick * factor))
        seams.append([(left + lean, top + high * 0.045), (right - lean, top + high * 0.045)])
    elif kind == "mug":
        ear = high * 0.35
        draw.ellipse(box(right - ear * 0.55, top + high * 0.2, right + ear, bottom - high * 0.2), fill=255)
        draw.ellipse(box(right - ear * 0.3, top + high * 0.31, right + ear * 0.62, bottom - high * 0.31), fill=0)
        draw.rounded_rectangle(box(left, top, right, bottom), radius=wide * 0.05 * factor, fill=255)
        seams.append([(left + 4, top + 9), (right - 4, top + 9)])
    elif kind == "cushion":
        bow = wide * 0.045
        steps = np.linspace(0, 1, 24)
        edge = [(left + wide * t, top + bow * np.sin(np.pi * t)) for t in steps]
        edge += [(right - bow * np.sin(np.pi * t), top + high * t) for t in steps]
        edge += [(right - wide * t, bottom - bow * np.sin(np.pi * t)) for t in steps]
        edge += [(left + bow * np.sin(np.pi * t), bottom - high * t) for t in steps]
        draw.polygon([(float(x) * factor, float(y) * factor) for x, y in edge], fill=255)
    elif kind == "blanket":
        draw.rectangle(box(left, top, right, bottom), fill=255)
        for n in range(60):
            x = left + wide * (n + 0.5) / 60
            draw.line(box(x, bottom, x, bottom + 16), fill=255, width=6)
        seams.append([(left, top + high * 0.3), (right, top + high * 0.3)])
    else:
        draw.rectangle(box(left, top, right, bottom), fill=255)
    return big.resize((SIDE, SIDE), Image.Resampling.LANCZOS), seams
