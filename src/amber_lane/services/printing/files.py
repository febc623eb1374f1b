"""Files of artwork: checked and made anew before anything is kept of them, and the same bytes kept once."""

from __future__ import annotations

import hashlib
import io
import re
import warnings
from dataclasses import dataclass

from lxml import etree
from PIL import Image, ImageCms, UnidentifiedImageError
from sqlalchemy import select

from ...core.print_checks import reduction
from ...data.printing import ArtFile
from ..base.context import Context
from ..base.errors import Invalid
from . import svg_apart

BYTES_MOST = 60_000_000
POINTS_MOST = 100_000_000
SVG_MOST = 5_000_000
SIDE_LEAST = 16
PNG, SVG = "image/png", "image/svg+xml"
# What of an SVG reaches out of it, or runs.
_RUNS = {"script", "foreignObject", "handler", "set", "animate", "animateTransform", "animateMotion", "iframe"}
_AWAY = re.compile(r"url\(\s*['\"]?(?!#)|@import|expression\(", re.IGNORECASE)


@dataclass(frozen=True)
class Made:
    """A file made anew. width, height: in pixels; of an SVG the shape that it says it has."""

    data: bytes
    kind: str
    width: int
    height: int


@dataclass(frozen=True)
class Given:
    """Artwork as it was given: the whole of it, and at most a megapixel of it, by which it is judged and shown."""

    whole: Made
    sight: Made

    @property
    def vector(self) -> bool:
        return self.whole.kind == SVG


def check(data: bytes) -> Given:
    """Artwork made anew from what was given; alpha stays. May take seconds, so before a transaction.

    Invalid in plain words where it is no PNG, JPEG or SVG, has colours that cannot be turned truly, reaches outside of itself, or would
    unpack to more than anybody prints.
    """
    if not data:
        raise Invalid("the file is empty")
    if len(data) > BYTES_MOST:
        raise Invalid("the artwork has more than 60 MB; save it smaller")
    head = data[:1000].lstrip(b"\xef\xbb\xbf \r\n\t")
    return _vector(data) if head.startswith((b"<?xml", b"<svg", b"<!--", b"<!DOCTYPE svg")) else _points(data)


def _points(data: bytes) -> Given:
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore", Image.DecompressionBombWarning)
            opened = Image.open(io.BytesIO(data), formats=("PNG", "JPEG"))
            if opened.width * opened.height > POINTS_MOST:
                raise Invalid(f"the artwork has {opened.width} x {opened.height} points; 100 million are the most")
            if opened.mode == "CMYK":
                raise Invalid("the artwork is CMYK, whose colours cannot be turned truly; save it as sRGB")
            if opened.mode.startswith("I") or opened.mode == "F" or _sixteen(data, opened):
                raise Invalid("the artwork has 16 bits a colour; save it with 8")
            if min(opened.size) < SIDE_LEAST:
                raise Invalid(f"the artwork is only {opened.width} x {opened.height} points")
            opened.load()
            picture = _in_srgb(opened)
    except Invalid:
        raise
    except Image.DecompressionBombError as error:
        raise Invalid("the artwork would unpack to far more than 100 million points") from error
    except (UnidentifiedImageError, OSError, ValueError, SyntaxError, MemoryError) as error:
        raise Invalid("that is no artwork that can be read; give a PNG, JPEG or SVG") from error
    return Given(_made(picture), _made(_reduced(picture)))


def _sixteen(data: bytes, opened: Image.Image) -> bool:
    """Whether a PNG has 16 bits a colour: its head says so, while it is read with 8."""
    return opened.format == "PNG" and len(data) > 24 and data[24] == 16


def _in_srgb(opened: Image.Image) -> Image.Image:
    """The same colours as sRGB with alpha; Invalid where its own profile cannot be read."""
    profile = opened.info.get("icc_profile")
    picture = opened.convert("RGBA")
    if not profile:
        return picture
    try:
        own = ImageCms.ImageCmsProfile(io.BytesIO(profile))
        if own.profile.xcolor_space.strip() != "RGB":
            return picture
        alpha = picture.getchannel("A")
        turned = ImageCms.profileToProfile(picture.convert("RGB"), own, ImageCms.createProfile("sRGB"))
    except (ImageCms.PyCMSError, OSError, ValueError) as error:
        raise Invalid("the artwork's colour profile cannot be read; save it as sRGB") from error
    if turned is None:
        return picture
    turned.putalpha(alpha)
    return turned


def _vector(data: bytes) -> Given:
    if len(data) > SVG_MOST:
        raise Invalid("the SVG has more than 5 MB")
    parser = etree.XMLParser(
        resolve_entities=False, no_network=True, load_dtd=False, huge_tree=False, remove_comments=True, remove_pis=True
    )
    try:
        root = etree.fromstring(data, parser)
    except (etree.XMLSyntaxError, ValueError) as error:
        raise Invalid("the SVG cannot be read") from error
    if etree.QName(root).localname != "svg" or root.getroottree().docinfo.internalDTD is not None:
        raise Invalid("that is no plain SVG: it has parts of its own making")
    for node in root.iter():
        if not isinstance(node.tag, str):
            raise Invalid("the SVG refers to parts of its own making")
        name = etree.QName(node).localname
        if name in _RUNS:
            raise Invalid(f"the SVG holds {name}, which is no drawing; take it out")
        for key, value in node.attrib.items():
            _only_inside(etree.QName(key).localname, str(value))
        if name == "style" and _AWAY.search(node.text or ""):
            raise Invalid("the SVG uses something outside of itself; put it inside, or draw it as paths")
        if name in ("text", "tspan"):
            raise Invalid("the SVG holds writing, which needs a font that is not in it; turn it into paths")
    clean = etree.tostring(root)
    width, height = _shape(root)
    # As it is looked at: a megapixel.
    across = max(1, int((1_000_000 * width / height) ** 0.5))
    return Given(Made(clean, SVG, width, height), _made(draw(clean, across)))


def _only_inside(name: str, value: str) -> None:
    lower = value.strip().lower()
    if name.lower().startswith("on"):
        raise Invalid("the SVG holds something that runs; take it out")
    if name == "href" and not lower.startswith(("#", "data:image/png", "data:image/jpeg")):
        raise Invalid("the SVG uses something outside of itself; put it inside, or draw it as paths")
    if _AWAY.search(value):
        raise Invalid("the SVG uses something outside of itself; put it inside, or draw it as paths")


def _shape(root: etree._Element) -> tuple[int, int]:
    """Width and height in thousandths of its own units, so that its shape is kept."""
    box = (root.get("viewBox") or "").replace(",", " ").split()
    sizes = [re.match(r"\s*([0-9.]+)", root.get(name) or "") for name in ("width", "height")]
    try:
        w, h = (float(box[2]), float(box[3])) if len(box) == 4 else tuple(float(found.group(1)) if found else 0.0 for found in sizes)
    except ValueError:
        w = h = 0.0
    if not (0.001 <= w <= 1e6 and 0.001 <= h <= 1e6 and 0.01 <= w / h <= 100):
        raise Invalid("the SVG does not say how wide and high it is; give it a viewBox")
    return max(1, round(w * 1000)), max(1, round(h * 1000))


def draw(svg: bytes, across: int) -> Image.Image:
    """An SVG as pixels, so many across. Invalid where it cannot be drawn, or takes too much."""
    try:
        return opened(Made(svg_apart.drawn(svg, across), PNG, 0, 0))
    except svg_apart.NotDrawn as error:
        raise Invalid("drawing the SVG takes too much; simplify it" if error.too_much else "the SVG cannot be drawn") from error
    except (ValueError, OSError) as error:
        raise Invalid("the SVG cannot be drawn") from error


def _reduced(picture: Image.Image) -> Image.Image:
    factor = reduction(*picture.size)
    return picture.reduce(factor) if factor > 1 else picture


def _made(picture: Image.Image) -> Made:
    out = io.BytesIO()
    picture.save(out, "PNG", compress_level=3)
    return Made(out.getvalue(), PNG, picture.width, picture.height)


def as_file(picture: Image.Image) -> Made:
    """A picture as a file to be kept."""
    return _made(picture)


def opened(file: ArtFile | Made) -> Image.Image:
    """A kept PNG as pixels with alpha."""
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", Image.DecompressionBombWarning)
        with Image.open(io.BytesIO(file.data), formats=("PNG",)) as image:
            return image.convert("RGBA")


def keep(context: Context, made: Made) -> ArtFile:
    """Keep a file; the same bytes are kept once."""
    sha = hashlib.sha256(made.data).hexdigest()
    row = context.session.scalar(select(ArtFile).where(ArtFile.sha == sha))
    if row is None:
        row = ArtFile(sha=sha, kind=made.kind, width=made.width, height=made.height, data=made.data)
        context.session.add(row)
        context.session.flush()
    return row
