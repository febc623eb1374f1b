"""One reader and one writer for every sheet: CSV in its dialects, and XLSX (its first sheet).

Reading: UTF-8 with or without a byte order mark; comma, semicolon or tab told apart by itself; the
header row in any order; unknown columns kept and reported. Writing: a value that a spreadsheet would
run as a formula is written as text.
"""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date, datetime
from itertools import chain, islice, zip_longest
from typing import IO, Any

from openpyxl import Workbook
from openpyxl.cell import WriteOnlyCell
from openpyxl.cell.cell import ILLEGAL_CHARACTERS_RE
from openpyxl.styles import Font
from openpyxl.utils import get_column_letter
from openpyxl.worksheet.datavalidation import DataValidation

from .headings import MONEY, PIECES
from .opened import BYTES_MAX, NotASheet, open_sheet

ROWS_MAX = 1_000_000
# So many rows of a template offer their lists.
TEMPLATE_ROWS = 20_000
_FORMULA = ("=", "+", "-", "@", "\t", "\r")
# Numbers, phone numbers and days begin like a formula and are none.
_NO_FORMULA = re.compile(r"[+-][\d\s().,/-]*")
_PLAIN_NUMBER = re.compile(r"-?\d{1,15}(\.\d{1,9})?")
_MOMENT = re.compile(r"\d{4}-\d\d-\d\d([T ]\d\d:\d\d(:\d\d(\.\d+)?)?(Z|[+-]\d\d:\d\d)?)?")
# Columns of a workbook that are numbers; all others are text, so that no SKU or barcode is ever taken for one.
_NUMBERS = MONEY | PIECES | {
    "weight_g", "rate", "landed", "profit", "net", "hand_price", "old_price", "new_price", "paid", "kept", "pace", "wanted_quantity",
    "old_quantity", "new_quantity", "goods", "shipping", "handling", "lines", "units", "count", "days", "use_no", "score",
}  # fmt: skip
_WIDEST = 60
_DECIMAL_COMMA = re.compile(r"[+-]?\d+(\.\d{3})*,\d+")


@dataclass
class Sheet:
    """header as given (lower case, trimmed); rows as text by column; `decimal_comma` where numbers use one."""

    header: list[str]
    rows: Iterable[dict[str, str]]
    unknown: list[str] = field(default_factory=list)


def read_sheet(data: bytes, required: Sequence[str], optional: Sequence[str] = (), all_needed: bool = True) -> Sheet:
    """Open a sheet. Errors: NotASheet when it is none, is too large, or a required column is missing."""
    if not data.strip():
        raise NotASheet("the file is empty; start from the template")
    if len(data) > BYTES_MAX:
        raise NotASheet("the file is larger than 120 MB; split it")
    header, rows = _read_workbook(data) if data[:4] == b"PK\x03\x04" else _read_csv(data)
    names = [name.strip().lower() for name in header]
    twice = sorted({name for name in names if name and names.count(name) > 1})
    if twice:
        raise NotASheet(f"the column {twice[0]} is there twice; keep one")
    missing = [name for name in required if name not in names]
    if missing and all_needed:
        raise NotASheet(
            f"the column{'s' if len(missing) > 1 else ''} {', '.join(missing)} "
            f"{'are' if len(missing) > 1 else 'is'} missing; the first row must name the columns, as in the template"
        )
    known = {*required, *optional}
    return Sheet(names, _as_rows(names, rows), [name for name in names if name and name not in known])


def _as_rows(names: list[str], rows: Iterable[Sequence[str]]) -> Iterator[dict[str, str]]:
    for number, row in enumerate(rows):
        if number >= ROWS_MAX:
            raise NotASheet("the sheet has more than a million rows; split it")
        if any(cell.strip() for cell in row):
            yield {name: (row[i].strip() if i < len(row) else "") for i, name in enumerate(names) if name}


def _read_csv(data: bytes) -> tuple[list[str], Iterator[list[str]]]:
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError:
        raise NotASheet("the file is not UTF-8 text; save it as CSV UTF-8 or XLSX") from None
    if "\x00" in text[:10_000]:
        raise NotASheet("the file is not a sheet; save it as CSV or XLSX")
    first = text.split("\n", 1)[0]
    separator = max(",;\t", key=first.count)
    csv.field_size_limit(1_000_000)
    reader = csv.reader(io.StringIO(text, newline=""), delimiter=separator)
    try:
        header = next(reader)
    except (StopIteration, csv.Error):
        raise NotASheet("the file has no header row; start from the template") from None
    return header, _csv_rows(reader, separator == ";")


def _csv_rows(reader: Iterator[list[str]], comma: bool) -> Iterator[list[str]]:
    try:
        for row in reader:
            yield [_point(cell) for cell in row] if comma else row
    except csv.Error as error:
        raise NotASheet(f"the file stops being a sheet: {error}") from error


def _point(cell: str) -> str:
    text = cell.strip()
    return text.replace(".", "").replace(",", ".") if _DECIMAL_COMMA.fullmatch(text) else cell


def _read_workbook(data: bytes) -> tuple[list[str], Iterator[list[str]]]:
    """Header and rows of a workbook's sheet, as text; NotASheet when it cannot be opened."""
    book = open_sheet(data)
    return [name.removesuffix(" (2)") for name in book.header], book.rows


def safe(value: object) -> str:
    """A value as a spreadsheet may show it: never a formula. Numbers and phone numbers stay what they are.

    >>> safe("=1+1"), safe("-0.85"), safe(None), safe("+49 170 1234"), safe("-2+3")
    ("'=1+1", '-0.85', '', '+49 170 1234', "'-2+3")
    """
    text = "" if value is None else str(value)
    return f"'{text}" if text.startswith(_FORMULA) and not _NO_FORMULA.fullmatch(text) else text


def unsafe(text: str) -> str:
    """Undo `safe` on the way in."""
    return text[1:] if text.startswith("'") and text[1:2] in _FORMULA else text


def write_csv(out: IO[str], header: Sequence[str], rows: Iterable[Sequence[object]]) -> None:
    """Write a CSV sheet (RFC 4180)."""
    writer = csv.writer(out, lineterminator="\r\n")
    writer.writerow(header)
    writer.writerows([safe(value) for value in row] for row in rows)


def csv_bytes(header: Sequence[str], rows: Iterable[Sequence[object]]) -> bytes:
    """A CSV sheet as a file with a byte order mark, which spreadsheets need to see UTF-8."""
    out = io.StringIO(newline="")
    write_csv(out, header, rows)
    return b"\xef\xbb\xbf" + out.getvalue().encode()


def csv_parts(header: Sequence[str], rows: Iterable[Sequence[object]], size: int = 500) -> Iterator[bytes]:
    """The same file in parts, so that however many rows there are, only a few are held at a time."""
    rows = iter(rows)
    yield csv_bytes(header, islice(rows, size))
    while part := list(islice(rows, size)):
        out = io.StringIO(newline="")
        csv.writer(out, lineterminator="\r\n").writerows([safe(value) for value in row] for row in part)
        yield out.getvalue().encode()


# A sheet of a workbook holds no more rows.
XLSX_MOST = 1_048_575


def xlsx_bytes(
    header: Sequence[str], rows: Iterable[Sequence[object]], title: str = "Sheet", lists: Mapping[str, Sequence[str]] | None = None
) -> bytes:
    """The same table as the first sheet of a workbook: numbers are numbers, days are days, all else is text, so nothing runs or is cut
    short; the header stays in sight and can be filtered by.

    lists: what may stand in some columns, offered in their cells and kept in a second sheet.
    """
    book = Workbook(write_only=True)
    sheet = book.create_sheet(title)
    names = book.create_sheet("Names") if lists else None
    for place, (column, values) in enumerate((lists or {}).items(), 1):
        letter, at = get_column_letter(header.index(column) + 1), get_column_letter(place)
        offered = DataValidation(type="list", formula1=f"Names!${at}$2:${at}${len(values) + 1}", allow_blank=True, showErrorMessage=False)
        offered.add(f"{letter}2:{letter}{TEMPLATE_ROWS}")
        sheet.data_validations.append(offered)
    sheet.freeze_panes = "A2"
    rows = iter(rows)
    first = list(islice(rows, 200))
    for column_no, name in enumerate(header):
        widest = max([len(name), *(len(str(row[column_no])) for row in first if column_no < len(row) and row[column_no] is not None)])
        sheet.column_dimensions[get_column_letter(column_no + 1)].width = min(widest, _WIDEST) + 2
    bold = Font(bold=True)
    head = [WriteOnlyCell(sheet, value=name) for name in header]
    for cell in head:
        cell.font = bold
    sheet.append(head)
    numbers = [name in _NUMBERS for name in header]
    n = 1
    for row in chain(first, rows):
        n += 1
        sheet.append([_xlsx_cell(sheet, value, at < len(numbers) and numbers[at]) for at, value in enumerate(row)])
    if header:
        sheet.auto_filter.ref = f"A1:{get_column_letter(len(header))}{n}"
    if names is not None and lists:
        names.append(list(lists))
        for values in zip_longest(*lists.values(), fillvalue=""):
            names.append([_xlsx_cell(names, value, False) for value in values])
    out = io.BytesIO()
    book.save(out)
    return out.getvalue()


def _xlsx_cell(sheet: Any, value: object, number: bool) -> object:
    """A value as a workbook keeps it. number: whether its column is one of numbers."""
    if value is None or value == "":
        return None
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, int | float) and (number or not isinstance(value, str)):
        return value
    text = str(value)
    if number and _PLAIN_NUMBER.fullmatch(text):
        cell = WriteOnlyCell(sheet, value=float(text) if "." in text else int(text))
        if "." in text:
            cell.number_format = f"0.{'0' * len(text.partition('.')[2])}"
        return cell
    if isinstance(value, date) or (len(text) >= 10 and text[4] == "-" and _MOMENT.fullmatch(text)):
        moment = datetime.fromisoformat(text)
        if len(text) == 10:
            return moment.date()
        # A workbook knows no zones; the time stands as its text says it.
        return moment.replace(tzinfo=None, microsecond=0)
    text = ILLEGAL_CHARACTERS_RE.sub("", text)[:32_767]
    if text.startswith("="):
        cell = WriteOnlyCell(sheet, value=text)
        cell.data_type = "s"
        return cell
    return text
