"""Sheets as offices make them: their letters, title lines, totals, several sheets, zips, their names for columns and their ways of writing."""

from __future__ import annotations

import io
import zipfile
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given
from hypothesis import strategies as st
from openpyxl import Workbook

from amber_lane.sheets import values
from amber_lane.sheets.mapping import Columns, Manner, look, read
from amber_lane.sheets.opened import NotASheet, open_sheet
from amber_lane.sheets.packed import flatten, is_packed

ITEMS = (
    ("supplier", "item", "title", "cost", "currency", "stock"),
    ("gtin", "mpn", "brand", "pack_size", "origin", "weight_g", "lead_days", "category", "options", "link", "least_price"),
)
ORDERS = (
    ("store", "order_no", "sku", "quantity", "name", "address_1", "city", "postcode", "country"),
    ("address_2", "region", "phone", "email", "unit_price", "currency", "ordered_at", "promised_by", "note"),
)
US = Manner(".", "mdy", ZoneInfo("America/Chicago"))
DEALER = """Prairie Optics Supply
Dealer price list, effective 11/24/2026

Part #,Description,UPC,Your Net,MSRP,QOH,Weight
PO-1,"Red lamp, clip",200000120016,$4.50,$9.99,1.000,8 oz
PO-2,Star map,,"$1,234.50","$1,999.00",12.000,12 lb
PO-3,Eyepiece,,($4.50),,3.000,
TOTAL,,,,,16.000,
"""
FIXED = {"supplier": "= Prairie", "currency": "= USD"}


def us_rows(data: bytes, how: Columns | None = None) -> list[dict[str, str]]:
    seen = look(data, *ITEMS, US)
    found = how or Columns({**seen.columns.columns, **FIXED}, seen.columns.tab)
    return [dict(row) for row in read(data, *ITEMS, US, found).rows]


def test_a_dealers_price_list_is_read_as_its_writer_meant_it() -> None:
    seen = look(DEALER.encode(), *ITEMS, US)
    assert seen.above == 2 and seen.missing == ["supplier", "currency"]
    assert {name: seen.columns.columns[name] for name in ("item", "title", "cost", "stock", "gtin", "weight_g")} == {
        "item": "part #",
        "title": "description",
        "cost": "your net",
        "stock": "qoh",
        "gtin": "upc",
        "weight_g": "weight",
    }
    rows = us_rows(DEALER.encode())
    assert [(row["item"], row["cost"], row["stock"], row["weight_g"]) for row in rows] == [
        ("PO-1", "4.50", "1", "227"),
        ("PO-2", "1234.50", "12", "5443"),
        ("PO-3", "-4.50", "3", ""),
    ]
    assert rows[0]["gtin"] == "200000120016" and rows[0]["currency"] == "USD"
    out = read(DEALER.encode(), *ITEMS, US, Columns({**seen.columns.columns, **FIXED}))
    list(out.rows)
    assert out.left == ["1 row of totals"] and out.unknown == ["MSRP"]


def book(**tabs: list[list[object]]) -> bytes:
    made = Workbook()
    made.remove(made.active)
    for name, rows in tabs.items():
        sheet = made.create_sheet(name)
        for row in rows:
            sheet.append(row)
    out = io.BytesIO()
    made.save(out)
    return out.getvalue()


def packed(**files: bytes) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as into:
        for name, data in files.items():
            into.writestr(name, data)
    return out.getvalue()


LIST = [["Part #", "Description", "Your Net", "QOH"], ["PO-1", "Lamp", 4.5, 7], ["0012", "Map", 1.25, 0]]
PLAIN = "Part #;Description;Your Net;QOH\nPO-1;Lamp;4,5;7\n0012;Map;1,25;0\n"


@pytest.mark.parametrize(
    "data",
    [
        book(Cover=[["Our list"], ["Call us"]], Prices=LIST),
        PLAIN.encode("utf-16"),
        PLAIN.encode("cp1252"),
        b"sep=;\r\n" + PLAIN.encode(),
        PLAIN.replace(";", "\t").encode(),
        PLAIN.replace(",", ".").replace(";", ",").encode(),
        packed(**{"list.csv": PLAIN.encode(), "__MACOSX/._list.csv": b"\x00\x01"}),
        packed(**{"list.xlsx": book(Prices=[[None, *row] for row in LIST])}),
        (PLAIN + "\n\nPart #;Description;Your Net;QOH\nPO-9;Cap;2;1\nGrand total;;;8\n").encode(),
    ],
    ids=["tabs", "utf-16", "cp1252", "declared", "tabulators", "commas", "zip", "zipped-book-with-an-empty-column", "printed-pages"],
)
def test_every_form_gives_the_same_rows(data: bytes) -> None:
    rows = [(row["item"], row["title"], row["cost"], row["stock"]) for row in us_rows(data)]
    assert [(a, b, float(c), d) for a, b, c, d in rows[:2]] == [("PO-1", "Lamp", 4.5, "7"), ("0012", "Map", 1.25, "0")]
    assert [row[0] for row in rows[2:]] == (["PO-9"] if b"PO-9" in data else [])


@pytest.mark.parametrize(
    ("head", "found"),
    [
        ("Artikelnummer;Bezeichnung;Einkaufspreis;Bestand;EAN;Hersteller", "item title cost stock gtin brand"),
        ("Référence;Désignation;Prix d'achat HT;Stock disponible;Code-barres;Marque", "item title cost stock gtin brand"),
        ("Referencia;Descripción;Precio neto;Existencias;Código de barras;Fabricante", "item title cost stock gtin brand"),
        ("SKU;Product name;Dealer price;Available;UPC code;Mfr", "item title cost stock gtin brand"),
    ],
)
def test_usual_names_of_columns_are_known(head: str, found: str) -> None:
    seen = look((head + "\nA-1;Lampe;1.234,50;7;;Noctis\n").encode(), *ITEMS, Manner(","))
    assert list(seen.columns.columns) == found.split() and seen.rows[0]["cost"] == "1234.50"


def test_values_speak_too_and_a_doubt_is_told() -> None:
    # A column called price with words in it is no price; one of two that could be it is offered with the other.
    seen = look(b"Item,Name,Price,Net price,Cost,Stock\nA,Lamp,on request,2.50,2.40,7\n", *ITEMS, US)
    assert seen.columns.columns["cost"] == "cost" and seen.doubts == {"cost": ["cost", "net price"]}
    orders = b"Order #,SKU,Qty,Ship to name,Address,City,State,Zip code,Country,Order date\n" + (
        b"1001,A-1,2,Wren Sorrel,4 Elm,Springfield,IL,62701,United States,11/24/2026 08:47 AM\n"
    )
    found = look(orders, *ORDERS, US)
    assert found.missing == ["store"] and found.rows[0] | {"country": "US", "region": "IL", "postcode": "62701"} == found.rows[0]
    assert found.rows[0]["ordered_at"] == "2026-11-24T08:47:00-06:00"


def test_a_day_that_cannot_be_is_its_rows_fault_alone() -> None:
    data = b"store,order_no,sku,quantity,name,address_1,city,postcode,country,ordered_at\n" + b"\n".join(
        b"S,%d,A,1,W,4 Elm,X,1,US,%s" % (n, day) for n, day in enumerate((b"24/11/2026", b"11/24/2026"))
    )
    rows = list(read(data, *ORDERS, US).rows)
    assert "written month, day, year" in rows[0].wrong and rows[1].wrong == "" and rows[1]["ordered_at"] == "2026-11-24"
    assert rows[0].raw["ordered_at"] == "24/11/2026"


@pytest.mark.parametrize(
    ("data", "told"),
    [
        (packed(**{"a.pdf": b"%PDF"}), "no CSV or XLSX in this zip"),
        (packed(**{"a.csv": packed(**{"b.csv": b"a,b\n1,2\n"})}), "cannot|zip"),
        (b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1old", "old kind"),
        (b"PK\x03\x04torn", "cannot be opened|workbook"),
    ],
)
def test_what_cannot_be_opened_says_what_to_do(data: bytes, told: str) -> None:
    with pytest.raises(NotASheet, match=told):
        look(data, *ITEMS)


def test_a_file_with_one_bad_byte_is_read_or_refused_in_words() -> None:
    book, zipped = Workbook(), io.BytesIO()
    for n in range(200):
        book.worksheets[0].append([f"item {n}", n, "Red lamp"] if n else ["item", "stock", "title"])
    as_book = io.BytesIO()
    book.save(as_book)
    with zipfile.ZipFile(zipped, "w", zipfile.ZIP_DEFLATED) as into:
        into.writestr("items.csv", "item,stock,title\n" + "a,1,Red lamp\n" * 50)
    for whole, step in ((as_book.getvalue(), 23), (zipped.getvalue(), 1)):
        for at in range(0, len(whole), step):
            torn = whole[:at] + bytes([whole[at] ^ 0xFF]) + whole[at + 1 :]
            try:
                # Here and not in a process of its own, since there are thousands.
                list(open_sheet(flatten(torn) if is_packed(torn) else torn).rows)
            except NotASheet as error:
                assert "\n" not in str(error)


@given(st.integers(-(10**9), 10**9), st.sampled_from([",", "."]), st.sampled_from(["{}", "${}", "{} €", "USD {}", "{} zł"]), st.booleans())
def test_every_way_of_writing_an_amount_means_the_same(minor: int, mark: str, around: str, grouped: bool) -> None:
    other = {",": ".", ".": ","}[mark]
    whole = f"{abs(minor) // 100:,}".replace(",", other) if grouped else str(abs(minor) // 100)
    text = around.format(f"{whole}{mark}{abs(minor) % 100:02d}")
    plain = f"{abs(minor) // 100}.{abs(minor) % 100:02d}"
    for minus in (f"({text})", f"{text}-", f"-{text}") if minor < 0 else ():
        assert values.money_text(minus, mark) == f"-{plain}"
    assert values.money_text(text, mark) == plain


@given(st.binary(max_size=300))
def test_nothing_that_is_handed_in_breaks_it(data: bytes) -> None:
    for given_ in (data, b"PK\x03\x04" + data, b"a,b\n" + data):
        try:
            list(open_sheet(given_).rows)
        except NotASheet as error:
            assert "\n" not in str(error)
