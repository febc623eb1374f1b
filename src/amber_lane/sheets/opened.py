"""A sheet opened as people have it: CSV in its dialects and letters, workbooks of several sheets, either in a zip; title lines above the
header, totals below, columns without a name. What was left out is told."""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Collection, Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from itertools import chain, islice

from . import apart
from .limits import BYTES_MAX, CELL_MAX, NotASheet, OverLimit, within
from .packed import PackedFile, is_flat, is_packed, parts_of

ENCODINGS = ("utf-8", "cp1250", "cp1252", "iso8859-2", "utf-16")
_SEPARATORS = ";,\t|"
# So many rows are looked at to find the header and what tells columns apart.
_SAMPLE = 60
_ABOVE = 25
_TOTALS = re.compile(
    r"(grand |sub ?)?totals?\b|sum\b|summe\b|gesamt\w*\b|zwischensumme\b|somme\b|total (général|general)\b|suma\b|razem\b", re.IGNORECASE
)
_NUMBER = re.compile(r"[-+(]?[^\w]{0,2}\d[\d., '\u00a0]*\W{0,2}")
_DECLARED = re.compile(r'^"?sep=(.)"?\r?$', re.IGNORECASE)


class Cells(list[str]):
    """A row's cells, and in which row of the file it stands (from 1)."""

    __slots__ = ("n",)
    n: int


@dataclass
class OpenedFile:
    """header: names as they stand, '' where there is none, a second of the same name as 'name (2)'. rows: text, as wide as they are.

    encoding and separator: '' for a workbook; tab: which sheet of it, or which file of a zip, out of `tabs`; above: rows before the header.
    left: what was not read and why, filled while the rows are read.
    """

    header: list[str]
    rows: Iterator[list[str]]
    encoding: str = ""
    separator: str = ""
    tab: str = ""
    tabs: list[str] = field(default_factory=list)
    above: int = 0
    left: list[str] = field(default_factory=list)

    @property
    def names(self) -> list[str]:
        """The header as names are compared: lower case, one blank between words."""
        return [plain_name(name) for name in self.header]


def plain_name(name: str) -> str:
    return " ".join(name.split()).lower()


def open_sheet(data: bytes, known: Collection[str] = (), encoding: str = "", tab: str = "") -> OpenedFile:
    """Open whatever a person has. known: names that columns may have, in lower case; by them the header is found.

    encoding, tab: what was chosen instead of our guess. NotASheet in plain words when it is none.
    """
    if not data.strip(b" \t\r\n\x0b\x0c"):
        raise NotASheet("the file is empty; start from the template")
    if len(data) > BYTES_MAX:
        raise OverLimit("bytes", f"the file is larger than {BYTES_MAX // 1_000_000} MB; split it")
    if data[:8] == b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1":
        raise NotASheet("this is a workbook of the old kind (.xls); save it anew as XLSX")
    if is_packed(data):
        parts = parts_of(data if is_flat(data) else apart.flat(data))
        return _files(parts, known, encoding, tab) if any(one.form != "rows" for one in parts) else _workbook(parts, known, tab)
    return _text(data, known, encoding)


def readable(data: bytes) -> bytes:
    """A file in a form that can be read at any time at little cost: what has to be opened for it is opened now, in a process of its own.

    Called where a file comes in, before any transaction. NotASheet, OverLimit as by `open_sheet`.
    """
    if len(data) > BYTES_MAX:
        raise OverLimit("bytes", f"the file is larger than {BYTES_MAX // 1_000_000} MB; split it")
    return apart.flat(data) if is_packed(data) and not is_flat(data) else data


def guess_encoding(data: bytes) -> str:
    """UTF-8 or UTF-16 where it is surely that; else the one of the old tables whose letters make words."""
    if data[:2] in (b"\xff\xfe", b"\xfe\xff"):
        return "utf-16"
    try:
        data.decode("utf-8-sig")
        return "utf-8"
    except UnicodeDecodeError:
        pass
    odd = bytes(byte for byte in data[:200_000] if byte > 0x7F)
    score = {}
    for name in ("cp1250", "iso8859-2", "cp1252"):
        text = odd.decode(name, "replace")
        letters = "ąćęłńóśźżĄĆĘŁŃÓŚŹŻčďěňřšťůž" if name != "cp1252" else "äöüßÄÖÜéèêàçñåøæîôû€£"
        score[name] = sum(text.count(one) for one in letters)
    best = max(score, key=lambda name: score[name])
    # Where both tables make as many words, the one of the west is the usual one.
    return "cp1252" if score["cp1252"] == score[best] else best


def decode(data: bytes, encoding: str) -> str:
    """The letters of a sheet; NotASheet where they cannot be read so."""
    if encoding not in ENCODINGS:
        raise NotASheet(f"letters cannot be read as {encoding!r}; choose one of {', '.join(ENCODINGS)}")
    try:
        text = data.decode("utf-8-sig" if encoding == "utf-8" else encoding)
    except UnicodeError:
        raise NotASheet(f"the sheet's letters are not {encoding}; choose another") from None
    if "\x00" in text[:10_000]:
        raise NotASheet("the file is not a sheet; save it as CSV or XLSX")
    return text


def csv_rows(text: str, separator: str) -> Iterator[list[str]]:
    csv.field_size_limit(CELL_MAX)
    try:
        yield from csv.reader(io.StringIO(text, newline=""), delimiter=separator)
    except csv.Error as error:
        raise NotASheet(f"the file stops being a sheet: {error}") from error


def separator_of(text: str) -> str:
    """What tells the columns apart: the sign by which most of the first rows have the same, and the most, columns."""
    lines = "".join(islice(io.StringIO(text, newline=""), _SAMPLE))
    best, score = ",", (0, 0)
    for sign in _SEPARATORS:
        try:
            widths = [len(row) for row in csv.reader(io.StringIO(lines, newline=""), delimiter=sign) if any(cell.strip() for cell in row)]
        except csv.Error:
            continue
        wide = [width for width in widths if width > 1]
        if not wide:
            continue
        usual = max(set(wide), key=lambda width: (wide.count(width), width))
        if (wide.count(usual), usual) > score:
            best, score = sign, (wide.count(usual), usual)
    return best


def _text(data: bytes, known: Collection[str], encoding: str) -> OpenedFile:
    encoding = encoding or guess_encoding(data)
    text = decode(data, encoding)
    first, _, rest = text.partition("\n")
    said = _DECLARED.match(first.strip())
    if said:
        text = rest
    separator = said[1] if said else separator_of(text)
    out = _table(csv_rows(text, separator), known)
    out.encoding, out.separator = encoding, separator
    return out


def _files(parts: Sequence[PackedFile], known: Collection[str], encoding: str, tab: str) -> OpenedFile:
    """Sheets that came in a zip: the one that was chosen, else the largest."""
    one = next((one for one in parts if one.name == tab), max(parts, key=lambda one: len(one.data)))
    if one.form == "flat":
        out = _workbook([part for part in parts_of(one.data) if part.form == "rows"], known, "")
    else:
        out = _table(one.rows(), known) if one.form == "rows" else _text(one.data, known, encoding)
    names = [one.name for one in parts]
    if len(names) > 1 and not out.tabs[1:]:
        out.tab, out.tabs = one.name, names
    return out


def _workbook(sheets: Sequence[PackedFile], known: Collection[str], tab: str) -> OpenedFile:
    """A sheet of a workbook: the one chosen, else the one whose header says most, else the first with anything in it."""
    if not sheets:
        raise NotASheet("there is no sheet in the file; save it anew as XLSX")
    tabs = [one.name for one in sheets]
    if tab and tab not in tabs:
        raise NotASheet(f"the sheet {tab} is gone from the workbook; there are {', '.join(tabs[:6])}")
    chosen = next((one for one in sheets if one.name == tab), None)
    if chosen is None:
        heads = [list(islice(one.rows(), _ABOVE)) for one in sheets[:40]]
        scores = [(max((_known(row, known) for row in head), default=0), sum(1 for row in head if any(row)) > 1) for head in heads]
        chosen = sheets[max(range(len(heads)), key=lambda at: (scores[at], -at))]
    out = _table(chosen.rows(), known)
    out.tab, out.tabs = chosen.name, tabs
    return out


def _table(rows: Iterator[list[str]], known: Collection[str]) -> OpenedFile:
    """The header among the first rows, and what stands below it."""
    rows = within(rows)
    first = list(islice(rows, _ABOVE + _SAMPLE))
    at = _header_at(first, known)
    if at is None:
        raise NotASheet("no row names the columns; put their names above them, as in the template")
    header = _distinct(first[at])
    out = OpenedFile(header, iter(()), above=sum(1 for row in first[:at] if any(cell.strip() for cell in row)))
    out.rows = _below(chain(first[at + 1 :], rows), out, at)
    return out


def _known(row: Sequence[str], known: Collection[str]) -> int:
    return sum(1 for cell in row if cell.strip() and plain_name(cell) in known)


def _header_at(rows: Sequence[Sequence[str]], known: Collection[str]) -> int | None:
    """Which row names the columns: the one that names most of ours, else the first that is as wide as what follows and has no numbers."""
    near = rows[:_ABOVE]
    if not near:
        return None
    scores = [_known(row, known) for row in near]
    best = max(scores, default=0)
    if best >= 2:
        return scores.index(best)
    filled = [sum(1 for cell in row if cell.strip()) for row in rows]
    # As wide as most rows are: a title above stands in one or two cells.
    usual = sorted(filled)[len(filled) * 3 // 4]
    for place, row in enumerate(near):
        names = [cell for cell in row if cell.strip()]
        if len(names) >= max(usual * 0.6, 1) and not any(_NUMBER.fullmatch(cell.strip()) for cell in names):
            return place
    return next((place for place, n in enumerate(filled) if n), None)


def _distinct(row: Sequence[str]) -> list[str]:
    """Names of columns; one that stands twice is told apart by its number."""
    seen: dict[str, int] = {}
    out = []
    for cell in row:
        name = " ".join(cell.split())
        key = name.lower()
        seen[key] = seen.get(key, 0) + 1
        out.append(f"{name} ({seen[key]})" if name and seen[key] > 1 else name)
    return out


def _below(rows: Iterable[list[str]], out: OpenedFile, at: int) -> Iterator[list[str]]:
    """The rows under the header, without totals and without the header when a page repeats it."""
    head = [name.lower() for name in out.header]
    totals = repeated = 0
    for n, row in enumerate(rows, at + 2):
        cells = [cell.strip() for cell in row]
        filled = [cell for cell in cells if cell]
        if not filled:
            continue
        if len(filled) * 2 <= len(head) and _TOTALS.match(filled[0]) and len(head) > 2:
            totals += 1
            continue
        if len(filled) > 1 and [" ".join(cell.split()).lower() for cell in cells[: len(head)]] == head[: len(cells)]:
            repeated += 1
            continue
        numbered = Cells(row)
        numbered.n = n
        yield numbered
    if totals:
        out.left.append(f"{totals} row{'s' if totals > 1 else ''} of totals")
    if repeated:
        out.left.append(f"the header, repeated {repeated} time{'s' if repeated > 1 else ''}")


__all__ = ["BYTES_MAX", "ENCODINGS", "NotASheet", "OpenedFile", "OverLimit", "is_packed", "open_sheet", "plain_name", "readable"]
