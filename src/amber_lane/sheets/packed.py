"""Workbooks and zips made flat: their sheets as plain lines, which whoever reads them later can do without opening anything.

Opening is what a hostile file can make dear, so it is done in a process of its own (see apart). A flat file is a first line, then for each
sheet or file in it a line of JSON (name, form, bytes) and so many bytes: `rows` = a JSON list of texts a line; `text` = the file as it is;
`flat` = a workbook that was in a zip.
"""

from __future__ import annotations

import io
import json
import zipfile
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from datetime import date, datetime
from typing import Any

from .limits import CELL_MAX, PARTS_MAX, UNPACKED_MAX, NotASheet, OverLimit, unpacked, within

FLAT = b"amber-lane flat sheet 1\n"
_PACKED = b"PK\x03\x04"
_SHEETS = (".csv", ".txt", ".tsv", ".xlsx", ".xlsm")


@dataclass(frozen=True)
class PackedFile:
    """A sheet of a workbook or a file of a zip. form: rows, text or flat."""

    name: str
    form: str
    data: bytes

    def rows(self) -> Iterator[list[str]]:
        """Its rows, where it has any: those of a workbook's sheet."""
        try:
            for line in io.BytesIO(self.data):
                row = json.loads(line)
                if not isinstance(row, list):
                    raise NotASheet("the file is no sheet; save it anew as CSV or XLSX")
                yield [str(cell) for cell in row]
        except (ValueError, RecursionError) as error:
            raise NotASheet("the file is no sheet; save it anew as CSV or XLSX") from error


def is_packed(data: bytes) -> bool:
    """Whether it is a workbook or a zip, or was one."""
    return data[:4] == _PACKED or data.startswith(FLAT)


def is_flat(data: bytes) -> bool:
    return data.startswith(FLAT)


def parts_of(data: bytes) -> list[PackedFile]:
    """What is in a flat file. NotASheet where it is none."""
    out: list[PackedFile] = []
    at = len(FLAT)
    try:
        while at < len(data) and len(out) < PARTS_MAX:
            end = data.index(b"\n", at)
            head = json.loads(data[at:end])
            name, form, size = str(head["name"]), str(head["form"]), int(head["bytes"])
            if form not in ("rows", "text", "flat") or not 0 <= size <= len(data) - end - 1:
                raise ValueError(form)
            out.append(PackedFile(name, form, data[end + 1 : end + 1 + size]))
            at = end + 1 + size
    except (ValueError, KeyError, TypeError, RecursionError) as error:
        raise NotASheet("the file is no sheet; save it anew as CSV or XLSX") from error
    return out


def _put(parts: Iterable[PackedFile]) -> bytes:
    out = io.BytesIO()
    out.write(FLAT)
    for one in parts:
        out.write(json.dumps({"name": one.name, "form": one.form, "bytes": len(one.data)}).encode() + b"\n" + one.data)
        if out.tell() > UNPACKED_MAX:
            raise OverLimit("unpacked", f"the file unpacks to more than {UNPACKED_MAX // 1_000_000} MB; split it")
    return out.getvalue()


def flatten(data: bytes) -> bytes:
    """A workbook or a zip with sheets in it made flat. NotASheet says why it cannot be, OverLimit which limit it breaks."""
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as packed:
            names = packed.namelist()
            # Names of parts take room too, and nothing of them is in the sizes.
            if len(names) > 10_000:
                raise OverLimit("unpacked", "there are more than 10,000 files in it; keep the one that is needed")
            unpacked((one.file_size for one in packed.infolist()), len(data))
            workbook = any(name.startswith("xl/") for name in names)
    except NotASheet:
        raise
    except MemoryError:
        raise
    except Exception as error:
        # What is damaged fails in whatever way its bytes lead to.
        raise NotASheet("the file looks like a workbook or a zip but cannot be opened; save it anew as XLSX or CSV") from error
    return _put(_workbook(data) if workbook else _zip(data))


def _zip(data: bytes) -> Iterator[PackedFile]:
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as packed:
            inside = [
                one
                for one in packed.infolist()
                if one.filename.lower().endswith(_SHEETS) and not one.filename.startswith("__MACOSX") and not one.is_dir()
            ]
            if not inside:
                raise NotASheet("there is no CSV or XLSX in this zip")
            for one in inside[:PARTS_MAX]:
                if one.flag_bits & 1:
                    raise NotASheet("the zip is locked with a password; unpack it first")
                with packed.open(one) as stream:
                    body = stream.read(one.file_size + 1)
                if body[:4] != _PACKED:
                    yield PackedFile(one.filename, "text", body)
                    continue
                inner = flatten(body)
                if any(part.form != "rows" for part in parts_of(inner)):
                    raise NotASheet("there is a zip in this zip; unpack it first")
                yield PackedFile(one.filename, "flat", inner)
    except (NotASheet, MemoryError):
        raise
    except Exception as error:
        raise NotASheet("the zip cannot be opened; make it anew") from error


def _workbook(data: bytes) -> Iterator[PackedFile]:
    # Loaded where it is used: only the process that opens files from outside does.
    from openpyxl import load_workbook

    try:
        book = load_workbook(io.BytesIO(data), read_only=True, data_only=True)
        sheets = [one for one in book.worksheets if one.sheet_state == "visible"] or book.worksheets
        cells = 0
        for one in sheets[:PARTS_MAX]:
            # What it says of its own size is not believed.
            one.reset_dimensions()
            out = io.BytesIO()
            for row in within(_rows(one), cells):
                cells += len(row)
                out.write(json.dumps(row, ensure_ascii=False).encode("utf-8", "replace") + b"\n")
                if out.tell() > UNPACKED_MAX:
                    raise OverLimit("unpacked", f"the file unpacks to more than {UNPACKED_MAX // 1_000_000} MB; split it")
            yield PackedFile(one.title, "rows", out.getvalue())
    except (NotASheet, MemoryError):
        raise
    except Exception as error:
        raise NotASheet("the file looks like a workbook but cannot be opened, or stops in the middle; save it anew as XLSX") from error


def _rows(sheet: Any) -> Iterator[list[str]]:
    for row in sheet.iter_rows(values_only=True):
        cells = [cell_text(value)[:CELL_MAX] for value in row]
        while cells and not cells[-1]:
            cells.pop()
        yield cells


def cell_text(value: object) -> str:
    """A workbook's value as text: numbers in their shortest form, days as 2026-03-12."""
    if value is None:
        return ""
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, float):
        # A spreadsheet keeps 19.95 as a binary float; its shortest form is what the person typed.
        return repr(value).removesuffix(".0")
    if isinstance(value, datetime):
        return value.date().isoformat() if not (value.hour or value.minute or value.second) else value.isoformat(sep=" ")
    return value.isoformat() if isinstance(value, date) or hasattr(value, "isoformat") else str(value)
