"""Labels of a load's cartons as PDF: where it goes, what is in it, and its number as a GS1-128 barcode (SSCC-18); and its packing list."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import groupby

from barcode.codex import Gs1_128
from fpdf.enums import XPos, YPos

from .slip import Page, shown_letters

LABEL = (100.0, 150.0)
A4 = (210.0, 297.0)
_INK, _SOFT = (0, 0, 0), (70, 74, 78)
# mm: a bar's narrowest part (GS1 asks for 0.495 at least), how high bars are, and the white beside them.
_MODULE, _HIGH, _QUIET = 0.5, 34.0, 6.0
_PAD = 6.0


@dataclass(frozen=True)
class LabelLine:
    """goods: our number; extra: lot and best-before, where known."""

    goods: str
    title: str
    units: int
    extra: str = ""


@dataclass(frozen=True)
class CartonLabel:
    sscc: str
    weight_g: int
    lines: tuple[LabelLine, ...]


@dataclass(frozen=True)
class LoadPaper:
    """What stands on all labels of a load. to: the lines of the depot's address."""

    reference: str
    sender: str
    to: tuple[str, ...]
    date: str
    cartons: tuple[CartonLabel, ...]


def bars(sscc: str) -> list[tuple[bool, int]]:
    """The barcode of a carton as runs of modules: (black, how many).

    >>> sum(width for _, width in bars("004000000000000077"))
    156
    """
    modules = Gs1_128(f"00{sscc}").build()[0]
    return [(one == "1", len(list(run))) for one, run in groupby(modules)]


def _texts(paper: LoadPaper) -> list[str]:
    """All of a load's words that may need letters of their own."""
    lines = (text for one in paper.cartons for line in one.lines for text in (line.goods, line.title))
    return [paper.reference, paper.sender, *paper.to, *lines]


def labels_pdf(paper: LoadPaper, a4: bool = False) -> bytes:
    """One label a page of 100 x 150 mm, or four on a sheet of A4."""
    page = Page(_texts(paper), A4 if a4 else LABEL, 0)
    page.set_auto_page_break(False)
    page.set_title(f"Load {paper.reference}: carton labels")
    for n, one in enumerate(paper.cartons):
        if not a4 or n % 4 == 0:
            page.add_page()
        left, top = ((n % 2) * 105.0 + 2.5, (n // 2 % 2) * 148.5) if a4 else (0.0, 0.0)
        _label(page, paper, n, one, left, top)
    return bytes(page.output())


def _label(page: Page, paper: LoadPaper, n: int, one: CartonLabel, left: float, top: float) -> None:
    wide = LABEL[0] - 2 * _PAD
    _write(page, left, top + 6, "To", 7, soft=True)
    for nth, part in enumerate(paper.to[:6]):
        _write(page, left, top + 9.5 + nth * 4.2, part, 10, "B" if nth == 0 else "")
    y = top + 36
    page.set_draw_color(*_INK)
    page.line(left + _PAD, y, left + _PAD + wide, y)
    _write(page, left, y + 2, f"From {paper.sender}", 8, soft=True)
    _write(page, left, y + 6.5, f"Load {paper.reference}", 13, "B")
    _write(page, left, y + 12.5, f"Carton {n + 1} of {len(paper.cartons)} · {one.weight_g / 1000:.1f} kg · {paper.date}", 9)
    y += 19
    page.line(left + _PAD, y, left + _PAD + wide, y)
    for nth, line in enumerate(one.lines[:6]):
        words = f"{line.units} × {line.goods}" + (f"  {line.extra}" if line.extra else "")
        _write(page, left, y + 2 + nth * 7.2, words, 9, "B")
        _write(page, left, y + 5.6 + nth * 7.2, line.title, 7, soft=True)
    if len(one.lines) > 6:
        _write(page, left, y + 2 + 6 * 7.2, f"and {len(one.lines) - 6} more, see the packing list", 7, soft=True)
    _bars(page, one.sscc, left, top + LABEL[1] - _HIGH - 11)


def _bars(page: Page, sscc: str, left: float, top: float) -> None:
    runs = bars(sscc)
    x = left + (LABEL[0] - sum(width for _, width in runs) * _MODULE) / 2
    page.set_fill_color(*_INK)
    for black, width in runs:
        if black:
            page.rect(x, top, width * _MODULE, _HIGH, style="F")
        x += width * _MODULE
    page.set_xy(left, top + _HIGH + 1.5)
    page.set_font("slip", "", 10)
    page.set_text_color(*_INK)
    page.cell(LABEL[0], 4.5, f"(00) {sscc}", align="C")


def _write(page: Page, left: float, top: float, text: str, size: float, style: str = "", soft: bool = False) -> None:
    page.set_font("slip", style, size)
    page.set_text_color(*(_SOFT if soft else _INK))
    wide = LABEL[0] - 2 * _PAD
    words = shown_letters(text)
    while len(words) > 4 and page.get_string_width(words) > wide:
        words = words[:-2].rstrip("… ") + "…"
    page.set_xy(left + _PAD, top)
    page.cell(wide, 4, words)


def packing_list_pdf(paper: LoadPaper) -> bytes:
    """All that is in a load, by carton, on A4."""
    page = Page(_texts(paper), A4, 18)
    page.set_title(f"Load {paper.reference}: packing list")
    page.add_page()
    page.say(f"Packing list of load {paper.reference}", 16, "B", line=8)
    units = sum(line.units for one in paper.cartons for line in one.lines)
    weight = sum(one.weight_g for one in paper.cartons) / 1000
    page.say(f"{len(paper.cartons)} cartons, {units} units, {weight:.1f} kg · from {paper.sender} · {paper.date}", 9, soft=True)
    page.ln(3)
    for part in paper.to:
        page.say(part, 9)
    for n, one in enumerate(paper.cartons):
        page.ln(3)
        page.say(f"Carton {n + 1}   (00) {one.sscc}   {one.weight_g / 1000:.1f} kg", 10, "B")
        for line in one.lines:
            page.set_font("slip", "", 9)
            page.set_text_color(*_INK)
            page.cell(14, 5, str(line.units), align="R")
            page.cell(4, 5, "")
            words = f"{line.goods}  {line.title}" + (f"  {line.extra}" if line.extra else "")
            page.multi_cell(0, 5, shown_letters(words), align="L", new_x=XPos.LMARGIN, new_y=YPos.NEXT)
    return bytes(page.output())
