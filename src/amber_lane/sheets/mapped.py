"""Catalogue sheets in a supplier's own words: looked at once with a person, remembered, and read the same way ever after.

A sheet that has changed its make since is told, and where its meaning is in doubt it is not read at all.
"""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Iterator, Sequence
from dataclasses import asdict, dataclass, field
from typing import Any

from .table import BYTES_MAX, NotASheet, read_workbook

# Ours -> words that suppliers have been seen to use, in lower case; the first that fits is offered.
FIELDS: dict[str, tuple[str, ...]] = {
    "item": ("item", "item number", "number", "sku", "code", "article", "nr art.", "nr artykułu", "art. no", "artikelnummer", "kod"),
    "title": ("title", "name", "product", "description short", "nazwa", "bezeichnung", "product name"),
    "cost": ("cost", "price", "net price", "cena netto", "cena", "preis", "unit price", "price net"),
    "stock": ("stock", "quantity", "qty", "available", "stan", "ilość", "bestand", "on hand"),
    "currency": ("currency", "waluta", "währung"),
    "gtin": ("gtin", "ean", "barcode", "ean13", "upc"),
    "mpn": ("mpn", "maker's number", "part number", "nr producenta", "manufacturer number"),
    "brand": ("brand", "maker", "marka", "manufacturer", "producent", "marke"),
    "category": ("category", "group", "grupa", "kategoria", "kategorie"),
    "options": ("options", "variant", "wariant", "variante", "size and colour"),
    "pack_size": ("pack size", "pack", "pack_size", "szt. w opak.", "pieces in pack", "pcs per pack"),
    "weight_g": ("weight g", "weight_g", "grams", "masa g", "gewicht g", "weight"),
    "least_price": ("least price", "least_price", "minimum price", "least advertised price"),
    "lead_days": ("lead days", "lead_days", "days"),
    "origin": ("origin", "warehouse", "magazyn", "lager"),
    "link": ("link", "address", "url", "page"),
}
NEEDED = ("item", "title", "cost", "stock")
ENCODINGS = ("utf-8", "cp1250", "cp1252", "iso8859-2", "utf-16")
_NUMBER = {",": re.compile(r"-?[0-9]{1,3}(\.?[0-9]{3})*(,[0-9]+)?"), ".": re.compile(r"-?[0-9]{1,3}(,?[0-9]{3})*(\.[0-9]+)?")}
_SAMPLE = 200
# More rows than this would take more memory than a desk should; it is said before anything is read.
ROWS_MOST = 300_000
_TOO_LONG = f"the sheet has more than {ROWS_MOST:,} rows; ask for it in parts, nothing was changed"


class SheetChanged(NotASheet):
    """The sheet is not made as it was when its columns were named; says what changed and what to do."""


@dataclass(frozen=True)
class Reading:
    """How a sheet is read: ours -> the column's name there; separator '' = a workbook; decimal '' = no decimals seen."""

    columns: dict[str, str]
    encoding: str
    separator: str
    decimal: str
    header: list[str] = field(default_factory=list)

    @classmethod
    def of(cls, kept: dict[str, Any]) -> Reading:
        return cls(**kept)

    def kept(self) -> dict[str, Any]:
        return asdict(self)


@dataclass(frozen=True)
class Look:
    """A first look at a sheet: how it seems to be made, its first rows, and which columns seem to be ours."""

    reading: Reading
    rows: list[list[str]]
    missing: list[str]


def look(data: bytes, encoding: str = "", rows: int = 6) -> Look:
    """Look at a sheet that nobody has named the columns of. encoding: what a person chose instead of our guess."""
    _check_size(data)
    if _is_workbook(data):
        header, body = read_workbook(data)
        encoding, separator = "", ""
    else:
        encoding = encoding or guess_encoding(data)
        text = _decode(data, encoding)
        separator = _separator(text)
        reader = _csv(text, separator)
        header, body = next(reader, []), reader
    names = _names(header)
    if len([name for name in names if name]) < 2:
        raise NotASheet("the first row must name the columns; this sheet has no such row")
    first = [row for _, row in zip(range(_SAMPLE), body, strict=False)]
    columns = _guess(names)
    decimal = _decimal(first, names.index(columns["cost"])) if "cost" in columns else ""
    reading = Reading(columns, encoding, separator, decimal, names)
    return Look(reading, first[:rows], [name for name in NEEDED if name not in columns])


def guess_encoding(data: bytes) -> str:
    """UTF-8 where it is surely that; else the one of the old tables whose letters make words."""
    if data[:2] in (b"\xff\xfe", b"\xfe\xff"):
        return "utf-16"
    try:
        data.decode("utf-8-sig")
        return "utf-8"
    except UnicodeDecodeError:
        pass
    odd = [byte for byte in data[:200_000] if byte > 0x7F]
    score = {}
    for name in ("cp1250", "iso8859-2", "cp1252"):
        text = bytes(odd).decode(name, "replace")
        letters = "ąćęłńóśźżĄĆĘŁŃÓŚŹŻčďěňřšťůž" if name != "cp1252" else "äöüßÄÖÜéèêàçñåøæîôû"
        score[name] = sum(text.count(one) for one in letters)
    return max(score, key=lambda name: score[name])


def read_rows(data: bytes, reading: Reading) -> tuple[Iterator[list[str]], dict[str, int], list[str]]:
    """Rows of a sheet as lists of text, where each of our columns stands, and what was noticed.

    SheetChanged when a named column is gone, or its letters or numbers cannot surely be read as before.
    """
    _check_size(data)
    notices: list[str] = []
    if _is_workbook(data):
        if reading.separator:
            notices.append("the sheet comes as a workbook now")
        header, body = read_workbook(data)
    else:
        text = _text(data, reading, notices)
        separator = reading.separator or ";"
        found = _separator(text)
        if found != separator:
            notices.append(f"its columns are told apart by {_called(found)} now, not by {_called(separator)}")
        reader = _csv(text, found)
        header, body = next(reader, []), reader
    names = _names(header)
    gone = [theirs for theirs in reading.columns.values() if theirs not in names]
    fresh = [name for name in names if name and name not in reading.header]
    if gone:
        hint = f"; new there: {', '.join(fresh[:4])}" if fresh else ""
        raise SheetChanged(f"the column {', '.join(gone[:4])} is gone from the sheet{hint}. Name its columns again; nothing was changed")
    if fresh:
        notices.append(f"new columns, not read: {', '.join(fresh[:6])}")
    places = {ours: names.index(theirs) for ours, theirs in reading.columns.items()}
    first = [row for _, row in zip(range(_SAMPLE), body, strict=False)]
    decimal = _decimal(first, places["cost"])
    if decimal and reading.decimal and decimal != reading.decimal:
        raise SheetChanged(
            f"amounts are written with {_called(decimal)} for the decimals now, with {_called(reading.decimal)} before. "
            "Name its columns again to say which is right; nothing was changed"
        )
    return _chain(first, body), places, notices


def amount(text: str, decimal: str) -> str:
    """An amount as a supplier writes it, with a point for decimals and nothing between thousands; ValueError if it is none.

    >>> amount("1.234,50", ","), amount("12", ",")
    ('1234.50', '12')
    """
    mark = decimal or "."
    given, text = text, text.replace("\u00a0", "").replace(" ", "")
    if not _NUMBER[mark].fullmatch(text):
        raise ValueError(f"{given[:40]!r} is not an amount")
    return text.replace(".", "").replace(",", ".") if mark == "," else text.replace(",", "")


def count(text: str) -> int:
    """A stock as suppliers write it: a whole number, also as 50+ or >50 (at least so many); ValueError if it is none.

    >>> count("50+"), count(" 7 "), count("12,00")
    (50, 7, 12)
    """
    if text.isascii() and text.isdigit() and len(text) <= 9:
        return int(text)
    text = text.strip().removesuffix("+").removeprefix(">").removesuffix(",00").removesuffix(".00").removesuffix(".0").strip()
    if not text.isascii() or not text.isdigit() or len(text) > 9:
        raise ValueError(f"{text[:40]!r} is not a whole number of pieces")
    return int(text)


def _chain(first: list[list[str]], body: Iterator[list[str]]) -> Iterator[list[str]]:
    n = 0
    for part in (iter(first), body):
        for row in part:
            n += 1
            if n > ROWS_MOST:
                raise NotASheet(_TOO_LONG)
            yield row


def _text(data: bytes, reading: Reading, notices: list[str]) -> str:
    """The sheet's letters. UTF-8 with signs of its own is never anything else; what is not UTF-8 cannot be read as it."""
    found = guess_encoding(data)
    was = reading.encoding or found
    if found != was and "utf" in found + was and any(byte > 0x7F for byte in data):
        if not was.startswith("utf"):
            notices.append(f"its letters are {found} now, {was} before")
            return _decode(data, found)
        raise SheetChanged(f"its letters are not {was} any more. Name its columns again to choose how they are read; nothing was changed")
    return _decode(data, was)


def _check_size(data: bytes) -> None:
    if not data.strip():
        raise NotASheet("the sheet is empty; nothing was changed")
    if len(data) > BYTES_MAX:
        raise NotASheet("the sheet is larger than 120 MB; ask for it in parts")
    if not _is_workbook(data) and data.count(b"\n") > ROWS_MOST + 1:
        raise NotASheet(_TOO_LONG)


def _is_workbook(data: bytes) -> bool:
    return data[:4] == b"PK\x03\x04"


def _decode(data: bytes, encoding: str) -> str:
    if encoding not in ENCODINGS:
        raise NotASheet(f"letters cannot be read as {encoding!r}; choose one of {', '.join(ENCODINGS)}")
    try:
        text = data.decode("utf-8-sig" if encoding == "utf-8" else encoding)
    except UnicodeError:
        raise NotASheet(f"the sheet's letters are not {encoding}; choose another") from None
    if "\x00" in text[:10_000]:
        raise NotASheet("the file is not a sheet; ask for it as CSV or XLSX")
    return text


def _separator(text: str) -> str:
    first = text.split("\n", 1)[0]
    return max(";,\t|", key=first.count)


def _csv(text: str, separator: str) -> Iterator[list[str]]:
    csv.field_size_limit(1_000_000)
    try:
        yield from csv.reader(io.StringIO(text, newline=""), delimiter=separator)
    except csv.Error as error:
        raise NotASheet(f"the file stops being a sheet: {error}") from error


def _names(header: Sequence[str]) -> list[str]:
    names = [" ".join(name.split()).lower() for name in header]
    twice = sorted({name for name in names if name and names.count(name) > 1})
    if twice:
        raise NotASheet(f"the column {twice[0]} is there twice; nobody can say which is meant")
    return names


def _guess(names: list[str]) -> dict[str, str]:
    out: dict[str, str] = {}
    for ours, words in FIELDS.items():
        found = next((word for word in words if word in names and word not in out.values()), None)
        if found:
            out[ours] = found
    return out


def _decimal(rows: list[list[str]], place: int) -> str:
    """Which sign stands before the decimals of a column: ',' or '.', or '' where no row shows it."""
    comma = point = 0
    for row in rows:
        text = row[place].strip() if place < len(row) else ""
        tail = re.search(r"([.,])(\d{1,2}|\d{4,})$", text)
        if tail:
            comma += tail[1] == ","
            point += tail[1] == "."
    return "" if comma == point == 0 else "," if comma >= point else "."


def _called(sign: str) -> str:
    return {";": "semicolons", ",": "a comma", "\t": "tabs", "|": "upright strokes", ".": "a point", "": "nothing"}.get(sign, sign)
