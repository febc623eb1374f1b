"""The print calculator's sheet (`amber-lane calc print`): artwork and where it lies in, whether it may be printed out."""

from __future__ import annotations

import re
import warnings
from decimal import Decimal
from fractions import Fraction
from functools import lru_cache
from pathlib import Path

import numpy as np
from PIL import Image, UnidentifiedImageError

from ..core import numbers, print_checks
from ..core.print_checks import Limits, Pixels, Placed
from .table import read_sheet

REQUIRED = (
    "job", "art", "area_w_mm", "area_h_mm", "x_mm", "y_mm", "w_mm", "h_mm", "colour", "dpi_least", "dpi_good", "read_least",
)  # fmt: skip
HEADER = ("job", "dpi", "inside", "readable", "outcome", "reason")
# A picture that would unpack to more is none that a person drew.
PIXELS_MOST = 100_000_000
BYTES_MOST = 200_000_000
_COLOUR = re.compile(r"#([0-9a-fA-F]{2})([0-9a-fA-F]{2})([0-9a-fA-F]{2})")


def print_sheet(data: bytes, folder: Path) -> list[list[str]]:
    """One row out for each in; rows that cannot be read say why in the last column. folder: where the paths of `art` begin."""
    artwork = lru_cache(maxsize=4)(lambda path: _open(folder, path))
    shares: dict[tuple[str, tuple[int, int, int]], Fraction] = {}
    out = []
    for row in read_sheet(data, REQUIRED).rows:
        job = row.get("job", "")
        try:
            placed, cloth, limits = _placed(row), _cloth(row.get("colour", "")), _limits(row)
            size, pixels = artwork(row.get("art", ""))
            key = (row["art"], cloth)
            if key not in shares:
                shares[key] = print_checks.readable(pixels, cloth)
            done = print_checks.check(placed, size, shares[key], limits)
        except ValueError as error:
            out.append([job, "", "", "", "", str(error)])
            continue
        out.append([job, str(done.dpi), "yes" if done.inside else "no", str(Decimal(done.readable).scaleb(-1)), done.outcome.value, ""])
    return out


def _open(folder: Path, name: str) -> tuple[tuple[int, int], Pixels]:
    """An artwork's size, and its pixels as they are looked at: RGBA, at most a megapixel."""
    if not name:
        raise ValueError("art is empty")
    path = (folder / name).resolve()
    if not path.is_relative_to(folder.resolve()):
        raise ValueError(f"art: {name!r} lies outside of the sheet's folder")
    try:
        if path.stat().st_size > BYTES_MOST:
            raise ValueError(f"art: {name!r} is larger than 200 MB")
        with warnings.catch_warnings(), Image.open(path, formats=("PNG",)) as image:
            warnings.simplefilter("ignore", Image.DecompressionBombWarning)
            if image.width * image.height > PIXELS_MOST:
                raise ValueError(f"art: {name!r} has more than 100 megapixels")
            if image.mode.startswith("I") or image.mode == "F":
                raise ValueError(f"art: {name!r} has 16 bits a colour; save it with 8")
            size = image.size
            picture = image.convert("RGBA")
    except FileNotFoundError as error:
        raise ValueError(f"art: there is no {name!r} in the sheet's folder") from error
    except (OSError, UnidentifiedImageError, SyntaxError, Image.DecompressionBombError) as error:
        raise ValueError(f"art: {name!r} is no PNG that can be read") from error
    factor = print_checks.reduction(*size)
    if factor > 1:
        picture = picture.reduce(factor)
    return size, np.asarray(picture, dtype=np.uint8)


def _number(row: dict[str, str], name: str) -> Fraction:
    if not row.get(name):
        raise ValueError(f"{name} is empty")
    value = Fraction(numbers.parse_decimal(row[name], name))
    if abs(value) > 10**6:
        raise ValueError(f"{name}: {row[name]} is too large")
    return value


def _placed(row: dict[str, str]) -> Placed:
    h = _number(row, "h_mm") if row.get("h_mm") else None
    area_w, area_h, x, y, w = (_number(row, name) for name in ("area_w_mm", "area_h_mm", "x_mm", "y_mm", "w_mm"))
    placed = Placed(area_w, area_h, x, y, w, h)
    if min(placed.area_w, placed.area_h, placed.w, h if h is not None else placed.w) <= 0:
        raise ValueError("an area and what lies on it must be wider and higher than nothing")
    return placed


def _limits(row: dict[str, str]) -> Limits:
    return Limits(*(_number(row, name) for name in ("dpi_least", "dpi_good", "read_least")))


def _cloth(text: str) -> tuple[int, int, int]:
    found = _COLOUR.fullmatch(text)
    if not found:
        raise ValueError(f"colour: {text!r} is not a colour such as #1f2f57")
    red, green, blue = (int(part, 16) for part in found.groups())
    return red, green, blue
