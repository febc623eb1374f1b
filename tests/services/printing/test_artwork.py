"""Artwork as people hand it in: what cannot be printed truly is refused in words, and nothing of it is kept."""

from __future__ import annotations

import io
import struct
import zlib

import pytest
from PIL import Image
from sqlalchemy import func, select

from amber_lane.data.printing import ArtFile, ArtVersion, Artwork
from amber_lane.services.activity import undo
from amber_lane.services.base.errors import Conflict, Invalid
from amber_lane.services.printing import artwork, files, svg_apart

from ...drawings import png, svg
from ...small import Small


def saved(image: Image.Image, form: str, **more: object) -> bytes:
    out = io.BytesIO()
    image.save(out, form, **more)
    return out.getvalue()


def bomb() -> bytes:
    """A PNG of a few bytes that says it has 400 million points."""

    def chunk(kind: bytes, data: bytes) -> bytes:
        return struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))

    head = struct.pack(">IIBBBBB", 20_000, 20_000, 8, 6, 0, 0, 0)
    return b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", head) + chunk(b"IDAT", zlib.compress(b"\0" * 64)) + chunk(b"IEND", b"")


def sixteen() -> bytes:
    """A PNG with 16 bits a colour."""
    rows = b"".join(b"\0" + b"\x12\x34" * 3 * 32 for _ in range(32))

    def chunk(kind: bytes, data: bytes) -> bytes:
        return struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))

    return (
        b"\x89PNG\r\n\x1a\n"
        + chunk(b"IHDR", struct.pack(">IIBBBBB", 32, 32, 16, 2, 0, 0, 0))
        + chunk(b"IDAT", zlib.compress(rows))
        + chunk(b"IEND", b"")
    )


AWAY = '<image href="http://elsewhere.example/a.png" width="10" height="10"/>'
ODD = {
    "nothing": (b"", "is empty"),
    "no picture": (b"just words, and many of them", "cannot be read|no artwork"),
    "half a picture": (png(400)[:900], "no artwork"),
    "CMYK": (saved(Image.new("CMYK", (64, 64)), "JPEG"), "CMYK"),
    "16 bits": (sixteen(), "16 bits"),
    "16 bits grey": (saved(Image.new("I;16", (64, 64)), "PNG"), "16 bits"),
    "a bomb": (bomb(), "100 million"),
    "a dot": (saved(Image.new("RGB", (4, 4)), "PNG"), "only 4 x 4"),
    "a film": (saved(Image.new("RGB", (64, 64)), "GIF"), "no artwork"),
    "an address": (svg(inside=AWAY), "outside of itself"),
    "a style that reaches out": (svg(inside="<style>*{fill:url(http://elsewhere.example/x)}</style>"), "outside of itself"),
    "a use of another file": (svg(inside='<use xlink:href="other.svg#a"/>'), "outside of itself"),
    "a file of this machine": (svg(inside='<image xlink:href="file:///etc/passwd" width="9" height="9"/>'), "outside of itself"),
    "a script": (svg(inside="<script>alert(1)</script>"), "no drawing"),
    "something that runs": (svg(inside='<rect width="9" height="9" onload="x()"/>'), "runs"),
    "writing": (svg(inside='<text x="1" y="9">Moon</text>'), "font"),
    "an entity": (
        b'<!DOCTYPE svg [<!ENTITY a "b">]><svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 9 9"><desc>&a;</desc></svg>',
        "own making",
    ),
    "no size": (b'<svg xmlns="http://www.w3.org/2000/svg"><circle r="4"/></svg>', "how wide"),
    "broken": (b'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 9 9"><circle', "cannot be read"),
}


@pytest.mark.parametrize("name", ODD)
def test_what_cannot_be_printed_truly_is_refused_in_words(name: str) -> None:
    data, says = ODD[name]
    with pytest.raises(Invalid, match=says):
        files.check(data)


def test_a_drawing_made_to_grow_without_end_stops_nobody_but_itself(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(svg_apart.drawn, "__defaults__", (2,))
    again = "".join(f'<g id="a{n + 1}">' + f'<use xlink:href="#a{n}"/>' * 20 + "</g>" for n in range(9))
    with pytest.raises(Invalid, match=r"takes too much|cannot be drawn"):
        files.check(svg(inside=f'<defs><rect id="a0" width="9" height="9"/>{again}</defs><use xlink:href="#a9"/>'))
    assert files.check(svg()).vector, "the next one is drawn as ever"


def test_what_is_seen_through_stays_so_and_only_the_points_are_taken_over() -> None:
    image = Image.new("RGBA", (640, 320), (0, 0, 0, 0))
    image.paste((200, 10, 10, 128), (0, 0, 320, 320))
    place = Image.Exif()
    place[0x010E] = "made at home"
    given = files.check(saved(image, "PNG", exif=place))
    again = files.opened(given.whole)
    assert again.getpixel((5, 5)) == (200, 10, 10, 128) and again.getpixel((600, 5))[3] == 0
    assert b"made at home" not in given.whole.data
    large = files.check(png(3000))
    assert (large.whole.width, large.sight.width) == (3000, 1000) and not large.vector
    drawn = files.check(svg())
    assert drawn.vector and drawn.sight.width == drawn.sight.height == 1000


def test_a_drawing_is_kept_once_and_its_newest_version_counts_and_comes_back(small: Small) -> None:
    given = files.check(png(400))
    row = small.write(lambda context: artwork.add(context, "  New   moon ", given, "light"))
    assert row.name == "New moon"
    with pytest.raises(Conflict, match="already"):
        small.write(lambda context: artwork.add(context, "new moon", given))
    small.write(lambda context: artwork.add(context, "The same again", given))
    assert small.all(select(func.count()).select_from(ArtFile)) == [1], "the same bytes, small enough to be looked at as they are"
    other = files.check(png(500, "#000000"))
    small.write(lambda context: artwork.add_version(context, row.id, other, "light"))
    now = select(ArtVersion.width).where(ArtVersion.artwork_id == row.id, ArtVersion.replaced_at.is_(None))
    assert small.all(now) == [500]
    small.write(lambda context: undo.undo(context, small.act("artwork.version").id))
    assert small.all(now) == [400]
    (version,) = small.all(select(ArtVersion.id).where(ArtVersion.artwork_id == row.id, ArtVersion.replaced_at.is_(None)))
    with pytest.raises(Conflict, match="only version"):
        small.write(lambda context: artwork.drop_version(context, version))
    with pytest.raises(Invalid, match="one colour"):
        small.write(lambda context: artwork.add_version(context, row.id, other, "colour", " "))
    small.write(lambda context: artwork.remove(context, row.id, None))
    assert [one[0].name for one in small.write(artwork.all_artwork)] == ["The same again"]
    small.write(lambda context: undo.undo(context, small.act("artwork.remove").id))
    assert small.all(select(Artwork.removed_at).where(Artwork.id == row.id)) == [None]
