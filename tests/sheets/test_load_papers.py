"""The papers of a load: labels, packing list and despatch advice say the same of every carton."""

from __future__ import annotations

from datetime import UTC, datetime

import pytest
from lxml import etree

from amber_lane.sheets.carton_labels import CartonLabel, LabelLine, LoadPaper, bars, labels_pdf, packing_list_pdf
from amber_lane.sheets.limits import NotASheet
from amber_lane.sheets.pdf_pages import PAGES_MOST, drawn, parts
from amber_lane.sheets.ubl import CAC, CBC, faults
from amber_lane.sheets.ubl_despatch import despatch_xml

from ..pdf_texts import texts

AT = datetime(2026, 4, 7, 13, 5, 9, tzinfo=UTC)


def carton(n: int, *lines: LabelLine) -> CartonLabel:
    return CartonLabel(f"0040000000000{n:05d}", 4200 + n, lines)


LONG = "A lantern of brass and glass with a handle, a hook, a spare wick and a tin of oil, for hanging and for carrying about"
PAPER = LoadPaper(
    "L-2026-7",
    "Ember & Sons",
    ("North Depot", "Dock 4", "12 Gate Road", "Leeds LS1 4PR"),
    "7 Apr 2026",
    (
        carton(1, LabelLine("BL-1", LONG, 12, "lot 7, best before 1 May 2027"), LabelLine("ΚΕΡΊ-2", "Κερί", 3)),
        carton(2, *(LabelLine(f"G-{n}", f"Thing {n}", n) for n in range(1, 10))),
        carton(3, LabelLine("BL-1", "", 7)),
    ),
)


def test_each_label_names_its_carton_where_it_goes_and_what_is_in_it() -> None:
    pages = texts(labels_pdf(PAPER))
    assert len(pages) == 3
    for n, (page, one) in enumerate(zip(pages, PAPER.cartons, strict=True), 1):
        assert f"Carton {n} of 3" in page and f"(00) {one.sscc}" in page and "Load L-2026-7" in page
        assert "North Depot" in page and "Ember & Sons" in page
    assert "12 × BL-1 lot 7, best before 1 May 2027" in pages[0] and "3 × ΚΕΡΊ-2" in pages[0] and "…" in pages[0], "too long is cut"
    assert "6 × G-6" in pages[1] and "7 × G-7" not in pages[1] and "and 3 more, see the packing list" in pages[1]
    four = texts(labels_pdf(PAPER, a4=True))
    assert len(four) == 1 and all(one.sscc in four[0] for one in PAPER.cartons)


def test_the_barcode_is_the_number_of_the_carton() -> None:
    runs = bars(PAPER.cartons[0].sscc)
    assert sum(width for _, width in runs) == 156 and [black for black, _ in runs[:2]] == [True, False]
    assert bars(PAPER.cartons[0].sscc) != bars(PAPER.cartons[1].sscc)


def test_the_packing_list_has_every_line_and_the_sums_agree() -> None:
    whole = " ".join(texts(packing_list_pdf(PAPER)))
    units = sum(line.units for one in PAPER.cartons for line in one.lines)
    assert f"3 cartons, {units} units, 12.6 kg" in whole and "from Ember & Sons" in whole
    for one in PAPER.cartons:
        assert f"(00) {one.sscc}" in whole
        for line in one.lines:
            assert line.goods in whole
    many = LoadPaper("L-9", "Ember & Sons", ("North",), "today", tuple(carton(n, LabelLine(f"M-{n}", "m", 1)) for n in range(120)))
    pages = texts(packing_list_pdf(many))
    assert len(pages) > 1 and "M-119" in pages[-1]


def test_the_despatch_advice_is_valid_and_says_the_same_of_every_carton() -> None:
    root = etree.fromstring(despatch_xml(PAPER, AT, "North Depot"))
    assert faults(root) == ""
    names = {"cac": CAC, "cbc": CBC}
    units = [one.text for one in root.findall("cac:Shipment/cac:TransportHandlingUnit/cbc:ID", names)]
    assert units == [one.sscc for one in PAPER.cartons]
    told = [
        (
            row.findtext("cac:Item/cac:BuyersItemIdentification/cbc:ID", namespaces=names),
            int(row.findtext("cbc:DeliveredQuantity", namespaces=names) or 0),
            row.findtext("cac:Shipment/cac:TransportHandlingUnit/cbc:ID", namespaces=names),
        )
        for row in root.findall("cac:DespatchLine", names)
    ]
    assert told == [(line.goods, line.units, one.sscc) for one in PAPER.cartons for line in one.lines]
    assert root.findtext("cbc:IssueDate", namespaces=names) == "2026-04-07" and root.findtext("cbc:ID", namespaces=names) == "L-2026-7"
    named = [one.text for one in root.findall("cac:DespatchLine/cac:Item/cbc:Name", names)]
    assert named[-1] == "BL-1", "goods without a title are named by their number"


def test_a_pdf_becomes_pictures_of_its_first_pages_and_what_is_none_is_told() -> None:
    many = LoadPaper("L-9", "E", ("N",), "today", tuple(carton(n, LabelLine("M", "m", 1)) for n in range(7)))
    pictures = parts(drawn(labels_pdf(many)))
    assert len(pictures) == PAGES_MOST and all(one.startswith(b"\xff\xd8") for one in pictures)
    for data in (b"", b"%PDF-1.7\nnothing", b"PK\x03\x04"):
        with pytest.raises(NotASheet, match="cannot be opened"):
            drawn(data)
