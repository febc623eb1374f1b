"""Workbooks and zips made flat, and what no flat file is; the process that does it is tested in test_apart."""

from __future__ import annotations

import io
import json
import zipfile
from datetime import date, datetime, time

import pytest
from openpyxl import Workbook

from amber_lane.sheets import limits, packed
from amber_lane.sheets.limits import NotASheet, OverLimit
from amber_lane.sheets.match import match_sheets
from amber_lane.sheets.packed import PackedFile, cell_text, flatten, is_flat, is_packed, parts_of

from .. import hostile


def book(*sheets: tuple[str, list[list[object]], bool]) -> bytes:
    """A workbook; of each sheet its name, its rows and whether it is hidden."""
    made = Workbook()
    made.remove(made.active)
    for name, rows, hidden in sheets:
        one = made.create_sheet(name)
        one.sheet_state = "hidden" if hidden else "visible"
        for row in rows:
            one.append(row)
    out = io.BytesIO()
    made.save(out)
    return out.getvalue()


def test_a_workbook_is_its_visible_sheets_with_values_as_people_typed_them() -> None:
    rows = [["item", "cost", "day", "left", "on"], ["I-1", 19.95, datetime(2026, 3, 12), None, True], ["I-2", 20.0, time(9, 30), "", None]]
    found = parts_of(flatten(book(("Prices", rows, False), ("Notes", [["x"]], True), ("More", [["item"], [7]], False))))
    assert [one.name for one in found] == ["Prices", "More"] and {one.form for one in found} == {"rows"}
    assert list(found[0].rows()) == [
        ["item", "cost", "day", "left", "on"],
        ["I-1", "19.95", "2026-03-12", "", "yes"],
        ["I-2", "20", "09:30:00"],
    ]
    assert list(found[1].rows()) == [["item"], ["7"]]


@pytest.mark.parametrize(
    ("value", "text"),
    [
        (None, ""),
        (True, "yes"),
        (False, "no"),
        (0.1 + 0.2, "0.30000000000000004"),
        (1e16, "1e+16"),
        (5, "5"),
        (datetime(2026, 3, 12, 9, 5), "2026-03-12 09:05:00"),
        (date(2026, 3, 12), "2026-03-12"),
        ("=A1", "=A1"),
    ],
)
def test_a_cell_as_text(value: object, text: str) -> None:
    assert cell_text(value) == text


def test_a_zip_gives_the_sheets_in_it_and_leaves_the_rest() -> None:
    inner = book(("One", [["item", "stock"], ["I-1", 4]], False))
    names = {"list.csv": b"item;stock\nI-1;4\n", "readme.pdf": b"%PDF", "__MACOSX/list.csv": b"x", "deep/": b"", "deep/Old.XLSX": inner}
    found = parts_of(flatten(hostile.zipped(**names)))
    assert [(one.name, one.form) for one in found] == [("list.csv", "text"), ("deep/Old.XLSX", "flat")]
    assert found[0].data == b"item;stock\nI-1;4\n" and is_flat(found[1].data)
    assert list(parts_of(found[1].data)[0].rows()) == [["item", "stock"], ["I-1", "4"]]


def locked() -> bytes:
    """A zip whose one file says that it is locked."""
    data = bytearray(hostile.zipped(**{"list.csv": b"item\n"}))
    for mark, at in ((b"PK\x03\x04", 6), (b"PK\x01\x02", 8)):
        data[data.index(mark) + at] |= 1
    return bytes(data)


def many_names() -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as made:
        for n in range(10_001):
            made.writestr(f"{n}.txt", b"")
    return out.getvalue()


@pytest.mark.parametrize(
    ("data", "told"),
    [
        (hostile.zipped(**{"notes.pdf": b"x"}), "no CSV or XLSX in this zip"),
        (hostile.zipped(**{"a.csv": hostile.zipped(**{"b.csv": b"x"})}), "a zip in this zip"),
        (locked(), "locked with a password"),
        (many_names(), "more than 10,000 files"),
        (b"PK\x03\x04" + b"torn" * 20, "cannot be opened"),
        (book(("One", [["a"]], False))[:-200], "cannot be opened"),
        (hostile.zipped(**{"xl/workbook.xml": b"<nothing/>", "[Content_Types].xml": b"<x/>"}), "save it anew as XLSX"),
    ],
)
def test_what_cannot_be_opened_says_what_to_do(data: bytes, told: str) -> None:
    assert is_packed(data)
    with pytest.raises(NotASheet, match=told):
        flatten(data)


def test_what_unpacks_to_too_much_is_refused_by_the_limit_it_breaks(monkeypatch: pytest.MonkeyPatch) -> None:
    wide = book(("One", [["x" * 50] * 20] * 40, False))
    monkeypatch.setattr(packed, "UNPACKED_MAX", 5_000)
    with pytest.raises(OverLimit, match="unpacks to more") as caught:
        flatten(wide)
    assert caught.value.limit == "unpacked"
    monkeypatch.undo()
    monkeypatch.setattr(limits, "CELLS_MAX", 500)
    with pytest.raises(OverLimit, match="cells"):
        flatten(wide)
    monkeypatch.undo()
    monkeypatch.setattr(limits, "ROWS_MAX", 30)
    with pytest.raises(OverLimit, match="rows"):
        flatten(wide)
    monkeypatch.undo()
    with pytest.raises(OverLimit, match="columns"):
        flatten(book(("One", [["x"] * 1_001], False)))
    monkeypatch.setattr(limits, "UNPACKED_MAX", 100)
    with pytest.raises(OverLimit, match="unpacks to more"):
        flatten(wide)


@pytest.mark.parametrize(
    "body",
    [
        b"not json\n",
        b'{"name": "x", "form": "rows"}\n',
        b'{"name": "x", "form": "program", "bytes": 0}\n',
        b'{"name": "x", "form": "rows", "bytes": 900}\nshort',
        b'{"name": "x", "form": "rows", "bytes": -1}\n',
        b'["x"]\n',
        b"no end of line",
    ],
)
def test_what_only_looks_flat_is_none(body: bytes) -> None:
    with pytest.raises(NotASheet, match="no sheet"):
        parts_of(packed.FLAT + body)


def test_rows_that_are_none_are_told() -> None:
    for data in (b'{"a": 1}\n', b"[1, 2", json.dumps([1]).encode() + b"\nx\n"):
        with pytest.raises(NotASheet, match="no sheet"):
            list(PackedFile("x", "rows", data).rows())


LISTINGS = b"""sku,title,brand,gtin,price
S-1,Amber glass lantern 20 cm,Ember,5012345678900,19.95
S-2,Woollen scarf grey,,,12.00
S-2,Another,,,1
,No number,,,1
S-3,Copper kettle,,5.01E+12,abc
"""
OFFERS = b"""supplier,item,title,brand,gtin,pack_size,cost
SUP,I-1,Lantern of amber glass 20cm,Ember,5012345678900,1,7.00
SUP,I-2,Wool scarf gray,,,6,24.00
FAR,I-2,Scarf of wool grey,,,many,5.00
SUP,I-9,Garden hose 20 m,,,1,9.00
"""


def test_the_matching_sheet_ranks_offers_and_says_what_it_left_out() -> None:
    rows, notes = match_sheets(LISTINGS, OFFERS)
    best = {row[0]: row for row in rows if row[1] == "1"}
    assert list(best) == ["S-1", "S-2", "S-3"]
    assert best["S-1"][2:4] == ("SUP", "I-1") and int(best["S-1"][4]) > 90 and "barcode 5012345678900" in best["S-1"][6]
    assert {row[3] for row in rows if row[0] == "S-2"} >= {"I-2"} and best["S-3"][3] == ""
    assert notes == [
        "listings, line 4: S-2 stands there twice; the first one is used",
        "listings, line 5: sku is empty, so the row is left out",
        "listings: 1 barcodes are written like 5.01E+12, so their last digits are lost; save the column as text",
    ]
    with pytest.raises(ValueError, match="title"):
        match_sheets(b"sku\nS-1\n", OFFERS)
