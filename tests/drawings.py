"""Artwork for tests, drawn here."""

from __future__ import annotations

import io

from PIL import Image, ImageDraw


def png(size: int = 2400, ink: str = "#f4ecd8", height: int | None = None) -> bytes:
    """A disc on nothing."""
    image = Image.new("RGBA", (size, height or size), (0, 0, 0, 0))
    ImageDraw.Draw(image).ellipse((size // 20, size // 20, size - size // 20, (height or size) - size // 20), fill=ink)
    out = io.BytesIO()
    image.save(out, "PNG", compress_level=1)
    return out.getvalue()


def svg(ink: str = "#262a2e", inside: str = "") -> bytes:
    return (
        f'<svg xmlns="http://www.w3.org/2000/svg" xmlns:xlink="http://www.w3.org/1999/xlink" viewBox="0 0 100 100">'
        f'<circle cx="50" cy="50" r="45" fill="{ink}"/>{inside}</svg>'
    ).encode()
