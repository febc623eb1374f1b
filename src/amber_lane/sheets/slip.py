"""A packing slip as PDF: the store's name, what is in the parcel and a word to the receiver. No price is on it."""

from __future__ import annotations

import io
from collections.abc import Sequence
from pathlib import Path

import reportlab
from reportlab.lib.colors import HexColor
from reportlab.lib.pagesizes import A5
from reportlab.lib.styles import ParagraphStyle
from reportlab.lib.units import mm
from reportlab.pdfbase import pdfmetrics
from reportlab.pdfbase.ttfonts import TTFont
from reportlab.platypus import Paragraph, SimpleDocTemplate, Spacer, Table

_INK, _SOFT, _RULE = HexColor("#22262b"), HexColor("#5d6266"), HexColor("#ddd6c7")


def _fonts() -> tuple[str, str]:
    """The fonts that come with the library, since those of the reader know few letters."""
    folder = Path(reportlab.__file__).parent / "fonts"
    for name, file in (("Slip", "Vera.ttf"), ("Slip bold", "VeraBd.ttf")):
        if name not in pdfmetrics.getRegisteredFontNames():
            pdfmetrics.registerFont(TTFont(name, str(folder / file)))
    return "Slip", "Slip bold"


def _safe(text: str) -> str:
    return text.replace("&", "&amp;").replace("<", "&lt;").replace(">", "&gt;")


def slip_pdf(store: str, order: str, receiver: Sequence[str], lines: Sequence[tuple[int, str]], greeting: str) -> bytes:
    """receiver: the lines of the label; lines: (quantity, what)."""
    plain, bold = _fonts()
    body = ParagraphStyle("body", fontName=plain, fontSize=9, leading=13, textColor=_INK)
    small = ParagraphStyle("small", parent=body, fontSize=8, textColor=_SOFT)
    title = ParagraphStyle("title", parent=body, fontName=bold, fontSize=16, leading=20)
    rows = [[Paragraph(str(quantity), body), Paragraph(_safe(what), body)] for quantity, what in lines]
    table = Table(rows, colWidths=[14 * mm, None], style=[("LINEBELOW", (0, 0), (-1, -1), 0.5, _RULE), ("VALIGN", (0, 0), (-1, -1), "TOP")])
    story = [
        Paragraph(_safe(store), title),
        Paragraph(f"Your order {_safe(order)}", small),
        Spacer(1, 6 * mm),
        Paragraph("<br/>".join(_safe(one) for one in receiver if one), body),
        Spacer(1, 6 * mm),
        table,
    ]
    if greeting:
        story += [Spacer(1, 8 * mm), Paragraph(_safe(greeting), body)]
    out = io.BytesIO()
    margins = dict.fromkeys(("leftMargin", "rightMargin", "topMargin", "bottomMargin"), 16 * mm)
    SimpleDocTemplate(out, pagesize=A5, title=f"{store}: order {order}", author=store, **margins).build(story)
    return out.getvalue()
