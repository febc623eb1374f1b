"""A packing slip as PDF: the store's name, what is in the parcel and a word to the receiver. No price is on it.

Every name that a buyer can have is printed: Latin, Greek, Cyrillic, Hebrew, Arabic, Thai, Han, kana and Hangul, with what is written
from right to left shaped as it is read. Only the letters that are used go into the file.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from pathlib import Path

from fpdf import FPDF
from fpdf.enums import XPos, YPos

_INK, _SOFT, _RULE = (34, 38, 43), (93, 98, 102), (221, 214, 199)
_FONTS = Path(__file__).with_name("fonts")
_MARGIN, _LINE = 16, 4.8
# A font beside the plain one -> the letters that it is there for.
_BESIDE = {
    "hebrew": re.compile(r"[\u0590-\u05ff\ufb1d-\ufb4f]"),
    "arabic": re.compile(r"[\u0600-\u06ff\u0750-\u077f\u08a0-\u08ff\ufb50-\ufdff\ufe70-\ufeff]"),
    "thai": re.compile(r"[\u0e00-\u0e7f]"),
    "han": re.compile(r"[\u3000-\u30ff\u31f0-\u31ff\u4e00-\u9fff\uff00-\uffef]"),
    "hangul": re.compile(r"[\u1100-\u11ff\u3130-\u318f\uac00-\ud7a3]"),
}
_PLAIN = re.compile(r"[\u0020-\u052f\u1e00-\u1fff\u2000-\u22ff]")


class Page(FPDF):
    """Paper with our fonts. texts: all that will be written, so that only the fonts that are needed go into the file; size: mm."""

    def __init__(self, texts: Sequence[str], size: tuple[float, float] = (148, 210), margin: float = _MARGIN) -> None:
        super().__init__(format=size)
        self.set_margin(margin)
        self.set_auto_page_break(True, margin)
        self.add_font("slip", "", str(_FONTS / "plain.ttf"))
        self.add_font("slip", "B", str(_FONTS / "bold.ttf"))
        together = "".join(texts)
        beside = [name for name, letters in _BESIDE.items() if letters.search(together)]
        for name in beside:
            self.add_font(name, "", str(_FONTS / f"{name}.ttf"))
        if beside:
            self.set_fallback_fonts(beside, exact_match=False)
        self.set_text_shaping(True)

    def say(self, text: str, size: float, style: str = "", soft: bool = False, line: float = _LINE, wide: float = 0) -> None:
        self.set_font("slip", style, size)
        self.set_text_color(*(_SOFT if soft else _INK))
        self.multi_cell(wide, line, shown_letters(text), align="L", new_x=XPos.LMARGIN, new_y=YPos.NEXT)


def shown_letters(text: str) -> str:
    """A text with nothing left out unseen: a letter that no font here has stands as its number."""
    known = "".join(one if one == "\n" or _printed(one) else f"[U+{ord(one):04X}]" for one in text)
    return known or " "


def _printed(letter: str) -> bool:
    return bool(_PLAIN.match(letter)) or any(letters.match(letter) for letters in _BESIDE.values())


def slip_pdf(store: str, order: str, receiver: Sequence[str], lines: Sequence[tuple[int, str]], greeting: str) -> bytes:
    """receiver: the lines of the label; lines: (quantity, what)."""
    page = Page([store, order, *receiver, *(what for _, what in lines), greeting])
    page.set_title(f"{store}: order {order}")
    page.set_author(store)
    page.add_page()
    page.say(store, 16, "B", line=7)
    page.say(f"Your order {order}", 8, soft=True)
    page.ln(6)
    for one in receiver:
        if one:
            page.say(one, 9)
    page.ln(6)
    page.set_draw_color(*_RULE)
    for quantity, what in lines:
        top = page.get_y()
        page.set_font("slip", "", 9)
        page.set_text_color(*_INK)
        page.cell(14, _LINE + 1, str(quantity))
        page.multi_cell(0, _LINE + 1, shown_letters(what), align="L", new_x=XPos.LMARGIN, new_y=YPos.NEXT)
        if page.get_y() > top:
            page.line(_MARGIN, page.get_y(), page.w - _MARGIN, page.get_y())
    if greeting:
        page.ln(8)
        page.say(greeting, 9)
    return bytes(page.output())
