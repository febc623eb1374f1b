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
from itertools import zip_longest
from typing import IO

from openpyxl import Workbook
from openpyxl.utils import get_column_letter
from openpyxl.worksheet.datavalidation import DataValidation

from .opened import BYTES_MAX, NotASheet, open_sheet

ROWS_MAX = 1_000_000
# So many rows of a template offer their lists.
TEMPLATE_ROWS = 20_000
_FORMULA = ("=", "+", "-", "@")
_NUMBER = re.compile(r"[+-]?\d+(\.\d+)?")
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
    """A value as a spreadsheet may show it: never a formula. Plain numbers stay numbers.

    >>> safe("=1+1"), safe("-0.85"), safe(None)
    ("'=1+1", '-0.85', '')
    """
    text = "" if value is None else str(value)
    return f"'{text}" if text.startswith(_FORMULA) and not _NUMBER.fullmatch(text) else text


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


def xlsx_bytes(
    header: Sequence[str], rows: Iterable[Sequence[object]], title: str = "Sheet", lists: Mapping[str, Sequence[str]] | None = None
) -> bytes:
    """The same table as the first sheet of a workbook; every value is text, so nothing runs or is cut short.

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
    sheet.append(list(header))
    for row in rows:
        sheet.append([safe(value) for value in row])
    if names is not None and lists:
        names.append(list(lists))
        for values in zip_longest(*lists.values(), fillvalue=""):
            names.append([safe(value) for value in values])
    out = io.BytesIO()
    book.save(out)
    return out.getvalue()
