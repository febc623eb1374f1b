"""A PDF as pictures of its first pages: nothing of it is kept but what can be seen. Run in a process of its own (see apart)."""

from __future__ import annotations

import io
import struct

from .limits import NotASheet

PAGES_MOST = 4
# Points of a page's longer side.
SIDE = 1600


def drawn(data: bytes) -> bytes:
    """The first pages as JPEGs, each after its length (four bytes). NotASheet where it is no PDF that can be opened."""
    import pypdfium2  # type: ignore[import-untyped]

    try:
        document = pypdfium2.PdfDocument(data)
        if not len(document):
            raise NotASheet("the PDF has no page")
        out = []
        for n in range(min(len(document), PAGES_MOST)):
            page = document[n]
            longer = max(page.get_width(), page.get_height(), 1)
            image = page.render(scale=min(SIDE / longer, 8), may_draw_forms=False).to_pil().convert("RGB")
            made = io.BytesIO()
            image.save(made, "JPEG", quality=85)
            out.append(made.getvalue())
    except pypdfium2.PdfiumError as error:
        raise NotASheet("the PDF cannot be opened: it is broken, or asks for a password") from error
    return b"".join(struct.pack(">I", len(one)) + one for one in out)


def parts(flat: bytes) -> list[bytes]:
    """The pictures again, of what `drawn` made.

    >>> parts(b"\\x00\\x00\\x00\\x02ab\\x00\\x00\\x00\\x01c")
    [b'ab', b'c']
    """
    out, at = [], 0
    while at < len(flat):
        size = struct.unpack_from(">I", flat, at)[0]
        out.append(flat[at + 4 : at + 4 + size])
        at += 4 + size
    return out
