"""Catalogue sheets in others' words: guessed once, remembered, and read or refused when their make changes."""

from __future__ import annotations

import time

import pytest
from hypothesis import given
from hypothesis import strategies as st

from amber_lane.connectors.folder_sheet import items_of
from amber_lane.sheets.mapped import Reading, SheetChanged, amount, count, guess_encoding, look, read_rows
from amber_lane.sheets.opened import NotASheet
from amber_lane.sheets.table import xlsx_bytes

HEAD = "Nr artykułu;Nazwa;Cena netto;Stan;EAN;Szt. w opak."
ROWS = ["Q-1;Żarówka nocna;1.234,50;12;2000000000008;1", "Q-2;Mapa nieba;7,25;50+;;3"]


def sheet(*rows: str, head: str = HEAD, encoding: str = "cp1250") -> bytes:
    return "\r\n".join([head, *(rows or ROWS)]).encode(encoding)


def items(data: bytes, reading: Reading, bad: list[str] | None = None):
    rows, places, notices = read_rows(data, reading)
    return items_of(rows, places, reading, "PLN", bad if bad is not None else []), notices


def test_a_first_look_guesses_letters_separator_decimals_and_columns() -> None:
    seen = look(sheet())
    assert (seen.reading.encoding, seen.reading.separator, seen.reading.decimal, seen.missing) == ("cp1250", ";", ",", [])
    assert seen.reading.columns["item"] == "nr artykułu" and seen.reading.columns["pack_size"] == "szt. w opak."
    found, notices = items(sheet(), seen.reading)
    assert [(one.number, one.title, one.cost, one.stock, one.pack_size) for one in found] == [
        ("Q-1", "Żarówka nocna", 123450, 12, 1),
        ("Q-2", "Mapa nieba", 725, 50, 3),
    ]
    assert notices == [] and found[0].gtin == "2000000000008"
    assert Reading.of(seen.reading.kept()) == seen.reading
    assert look(b"Code,Colour\n1,red\n").missing == ["title", "cost", "stock"]
    book = look(xlsx_bytes(["Number", "Name", "Price", "Stock"], [["A", "Lamp", "2.50", "4"]]))
    assert (
        book.reading.separator == ""
        and items(xlsx_bytes(["Number", "Name", "Price", "Stock"], [["A", "Lamp", "2.50", "4"]]), book.reading)[0][0].cost == 250
    )


def test_what_changed_is_noticed_and_what_is_in_doubt_is_not_read() -> None:
    reading = look(sheet()).reading
    assert "utf-8" in items(sheet(encoding="utf-8"), reading)[1][0]
    moved = sheet(*[row.replace(";", "|") for row in ROWS], head=HEAD.replace(";", "|"))
    found, notices = items(moved, reading)
    assert "upright strokes" in notices[0] and found[0].cost == 123450
    found, notices = items(sheet(*[row + ";x" for row in ROWS], head=HEAD + ";Nowość"), reading)
    assert "nowość" in notices[0] and len(found) == 2
    with pytest.raises(SheetChanged, match=r"stan is gone.*stan mag"):
        items(sheet(head=HEAD.replace("Stan", "Stan mag")), reading)
    # 1,234.50 read with a decimal comma would be a thousandth of what is meant.
    with pytest.raises(SheetChanged, match="a point"):
        items(sheet("Q-1;Lampa;1234.50;12;;1"), reading)
    with pytest.raises(SheetChanged, match="not utf-8"):
        items(sheet(), look(sheet(encoding="utf-8")).reading)


def test_rows_that_cannot_be_read_are_told_and_stop_nobody_else() -> None:
    reading, bad = look(sheet()).reading, []
    found, _ = items(
        sheet(*ROWS, "Q-3;Lampa;za darmo;1;;1", "Q-4;;1,00;1;;1", "Q-5;Lampa;1,00;brak;;1", ";;;;;", "Q-6;L;9,99;-4;;1"), reading, bad
    )
    assert [one.number for one in found] == ["Q-1", "Q-2"]
    assert [text.split(",")[0] for text in bad] == ["row 4", "row 5", "row 6", "row 8"] and "za darmo" in bad[0]


@pytest.mark.parametrize("data", [b"", b"   \n", b"\x00\x01\x02;\x03", b"one column\n1\n", b"PK\x03\x04not a book", b"%PDF-1.7 \xff\xfe"])
def test_what_is_no_sheet_is_refused_in_plain_words(data: bytes) -> None:
    with pytest.raises(NotASheet):
        look(data)


@given(st.integers(0, 10**9), st.sampled_from([",", "."]), st.booleans())
def test_amounts_come_back_as_they_were_written(minor: int, mark: str, grouped: bool) -> None:
    whole = f"{minor // 100:,}" if grouped else str(minor // 100)
    text = (whole.replace(",", ".") if mark == "," else whole) + f"{mark}{minor % 100:02d}"
    assert amount(text, mark) == f"{minor // 100}.{minor % 100:02d}"


@pytest.mark.parametrize("text", ["", "1,2,3", "1.5.2", "--1", "12 ok now", "1e5", "٣"])
def test_what_is_no_amount_or_number_is_none(text: str) -> None:
    with pytest.raises(ValueError, match="is not"):
        amount(text, ",")
    with pytest.raises(ValueError, match="whole number"):
        count(text or "x")


def test_a_sheet_of_a_hundred_megabytes_is_refused_before_it_is_read() -> None:
    reading, huge = look(sheet()).reading, HEAD.encode("cp1250") + b"\r\n" + b"Q-1;Lampa;1,00;5;;1\r\n" * 5_000_000
    started = time.perf_counter()
    with pytest.raises(NotASheet, match="300,000 rows"):
        read_rows(huge, reading)
    with pytest.raises(NotASheet, match=r"120 MB|300,000 rows"):
        look(huge * 2)
    assert time.perf_counter() - started < 20


def test_letters_of_old_tables_are_told_apart() -> None:
    assert [
        guess_encoding(text.encode(name))
        for text, name in (("Łódź, żółw śpi", "cp1250"), ("für Mädchen, très bien", "cp1252"), ("Łódź", "utf-8"), ("x", "utf-16"))
    ] == [
        "cp1250",
        "cp1252",
        "utf-8",
        "utf-16",
    ]
