"""Files made to hurt whoever opens them, each a few kilobytes; made when they are asked for."""

from __future__ import annotations

import io
import zipfile
from collections.abc import Callable

from amber_lane.sheets.packed import FLAT

_TYPES = """<?xml version="1.0"?><Types xmlns="http://schemas.openxmlformats.org/package/2006/content-types">
<Default Extension="rels" ContentType="application/vnd.openxmlformats-package.relationships+xml"/>
<Default Extension="xml" ContentType="application/xml"/>
<Override PartName="/xl/workbook.xml" ContentType="application/vnd.openxmlformats-officedocument.spreadsheetml.sheet.main+xml"/>
<Override PartName="/xl/worksheets/sheet1.xml" ContentType="application/vnd.openxmlformats-officedocument.spreadsheetml.worksheet+xml"/>
<Override PartName="/xl/sharedStrings.xml"
 ContentType="application/vnd.openxmlformats-officedocument.spreadsheetml.sharedStrings+xml"/></Types>"""
_OFFICE = "http://schemas.openxmlformats.org/officeDocument/2006/relationships"
_RELS = """<?xml version="1.0"?><Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships">{}</Relationships>"""
_BOOK = f"""<?xml version="1.0"?><workbook xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main" xmlns:r="{_OFFICE}">
<sheets><sheet name="S" sheetId="1" r:id="rId1"/></sheets></workbook>"""
_MAIN = 'xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main"'


def zipped(**files: bytes | str) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED, compresslevel=9) as into:
        for name, data in files.items():
            into.writestr(name, data)
    return out.getvalue()


def workbook(sheet: str, strings: str = "") -> bytes:
    """A workbook of one sheet, written out: what stands in <worksheet>, and its shared strings."""
    rel = f'<Relationship Id="rId{{}}" Type="{_OFFICE}/{{}}" Target="{{}}"/>'
    strings = strings or f'<?xml version="1.0"?><sst {_MAIN}></sst>'
    inside = [("worksheet", "worksheets/sheet1.xml"), ("sharedStrings", "sharedStrings.xml")]
    files = {
        "[Content_Types].xml": _TYPES,
        "_rels/.rels": _RELS.format(rel.format(1, "officeDocument", "xl/workbook.xml")),
        "xl/workbook.xml": _BOOK,
        "xl/_rels/workbook.xml.rels": _RELS.format("".join(rel.format(n, *one) for n, one in enumerate(inside, 1))),
        "xl/worksheets/sheet1.xml": f'<?xml version="1.0"?><worksheet {_MAIN}>{sheet}</worksheet>',
        "xl/sharedStrings.xml": strings,
    }
    return zipped(**files)


def cell(place: str, text: str = "1") -> str:
    return f'<c r="{place}" t="inlineStr"><is><t>{text}</t></is></c>'


def row(n: int, *cells: str) -> str:
    return f'<row r="{n}">{"".join(cells)}</row>'


HEAD = row(1, cell("A1", "item"), cell("B1", "stock"))
_LAUGH = "".join(f'<!ENTITY l{n} "{f"&l{n - 1};" * 10}">' for n in range(1, 10))
_SHARED = '<c r="A2" t="s"><v>0</v></c>'


def _deep_flat() -> bytes:
    deep = FLAT
    for _ in range(3_000):
        deep = FLAT + b'{"name": "x", "form": "flat", "bytes": %d}\n' % len(deep) + deep
    return deep


# By name: how each is made, and the limit at which it fails.
ALL: dict[str, tuple[Callable[[], bytes], str]] = {
    # It says that it has 16,384 x 1,048,576 cells, in 1.5 kB.
    "far corner": (
        lambda: workbook(
            f'<dimension ref="A1:XFD1048576"/><sheetData>{HEAD}'
            f"{row(2, cell('A2'), cell('XFD2'))}{row(1048576, cell('XFD1048576'))}</sheetData>"
        ),
        "columns",
    ),
    # No more cells than are allowed, each row a million further down.
    "gaps": (
        lambda: workbook(
            f"<sheetData>{HEAD}{''.join(row(n * 1_000_000 + 2, cell(f'A{n * 1_000_000 + 2}')) for n in range(1, 30))}</sheetData>"
        ),
        "rows",
    ),
    "many wide": (
        lambda: workbook(f"<sheetData>{HEAD}{''.join(row(n, cell(f'ALL{n}')) for n in range(2, 20_500))}</sheetData>"),
        "cells|columns",
    ),
    "laughter": (
        lambda: workbook(
            f"<sheetData>{HEAD}{row(2, _SHARED)}</sheetData>",
            f'<?xml version="1.0"?><!DOCTYPE sst [<!ENTITY l0 "ha">{_LAUGH}]><sst {_MAIN}><si><t>&l9;</t></si></sst>',
        ),
        "",
    ),
    "grows": (lambda: zipped(**{"list.csv": b"item,stock\n" + b"a" * 60_000_000}), "ratio"),
    "large": (lambda: zipped(**{f"list-{n}.csv": bytes(50_000_000) for n in range(9)}), "unpacked"),
    "nested": (lambda: zipped(**{"a.csv": zipped(**{"b.csv": zipped(**{"c.csv": b"item,stock\n"})})}), ""),
    "deep flat": (_deep_flat, ""),
    "deep json": (lambda: FLAT + b'{"name": "x", "form": "rows", "bytes": 200001}\n' + b"[" * 200_000 + b"\n", ""),
    "wide text": (lambda: b"item," + b"stock," * 5_000 + b"\n" + b"a,1,\n" * 3, "columns"),
}
