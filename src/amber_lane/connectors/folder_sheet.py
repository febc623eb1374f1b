"""A supplier who puts a sheet of all its goods into a folder now and then, and reads purchase orders from there."""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Iterator
from datetime import UTC, datetime
from email.utils import parsedate_to_datetime
from typing import Any
from urllib.parse import urlsplit

import httpx

from ..core.currency import MINOR_DIGITS
from ..core.ids import check_gtin
from ..sheets import values
from ..sheets.mapped import FIELDS, NEEDED, Reading, amount, count, read_rows
from ..sheets.opened import NotASheet
from ..sheets.table import csv_bytes
from .errors import Malformed, NotThere, OutsideError, Refused, UnknownOutcome
from .http import Caller
from .protocols import Account, Budget, CatalogueItem, CataloguePage, ItemSeen, OriginTerms, Purchase, PurchaseAnswer, SweepPage
from .wire import PurchaseOut, clip, minor, path_part, purchase_answer, said_with

_LINK = re.compile(r'href="([^"?#]{1,200}\.(?:csv|xlsx))"', re.IGNORECASE)
_ANSWERS = "answers.csv"
_TWO = frozenset(code for code, digits in MINOR_DIGITS.items() if digits == 2)
# What a sheet may leave out.
OPTIONAL = tuple(name for name in FIELDS if name not in (*NEEDED, "currency", "origin"))
PURCHASE_HEADER = (
    "purchase_order",
    "line_no",
    "item",
    "quantity",
    "name",
    "address_1",
    "address_2",
    "city",
    "region",
    "postcode",
    "country",
    "phone",
    "service",
    "note",
)


class FolderSheet:
    """key: 'name:password', or empty. how: the sheet's Reading as it is kept, empty until a person has named its columns."""

    one_by_one = False

    def __init__(
        self, address: str, key: str, deadline: float, transport: httpx.BaseTransport | None = None, how: dict[str, Any] | None = None
    ) -> None:
        self.call = Caller("the folder", address, {}, deadline, transport)
        if key:
            self.call.client.auth = httpx.BasicAuth(*key.partition(":")[::2])
        self.reading = Reading.of(how["reading"]) if how and how.get("reading") else None
        self.currency: str = (how or {}).get("currency", "")

    def account(self) -> Account:
        """A folder says nothing of whose it is; that a sheet lies in it is all that can be checked."""
        name, _ = self._newest()
        return Account("", "", "", [f"read {name}", "put purchase orders"])

    def budget(self) -> Budget | None:
        return self.call.budget

    def origins(self) -> list[OriginTerms]:
        """A folder tells no terms; those that a person entered stand."""
        return []

    def _newest(self) -> tuple[str, str]:
        """The newest sheet's name and path: names that carry a date sort by it."""
        page = self.call.fetch("/").text
        if "<html" in page.lower() and "</html>" not in page.lower():
            raise Malformed("the folder's page of links is torn")
        host = urlsplit(str(self.call.client.base_url)).path.rstrip("/")
        names = sorted({link.removeprefix(host).lstrip("/") for link in _LINK.findall(page)} - {_ANSWERS})
        names = [name for name in names if "/" not in name and ":" not in name]
        if not names:
            raise Refused("there is no CSV or XLSX sheet in the folder; is it the right address?")
        return names[-1], f"/{names[-1]}"

    def sheet(self) -> tuple[bytes, datetime]:
        """The newest sheet as it is, and when it was put there."""
        name, path = self._newest()
        answer = self.call.fetch(path)
        try:
            at = parsedate_to_datetime(answer.headers["last-modified"]).astimezone(UTC)
        except (KeyError, ValueError, TypeError) as error:
            raise Malformed(f"the folder does not say when {name} was made, so nobody knows how old its figures are") from error
        return answer.content, at

    def _items(self, bad: list[str]) -> tuple[list[CatalogueItem], datetime, list[str]]:
        """The sheet's items, when it was made, and what was noticed about its make."""
        if self.reading is None:
            raise Refused("nobody has said yet which columns the sheet has; name them under Set-up, Stores and suppliers")
        data, at = self.sheet()
        try:
            rows, places, notices = read_rows(data, self.reading)
            return items_of(rows, places, self.reading, self.currency, bad), at, notices
        except NotASheet as error:
            raise Refused(str(error)) from error

    def catalogue(self) -> Iterator[CataloguePage]:
        bad: list[str] = []
        yield CataloguePage(self._items(bad)[0], bad)

    def sweep_page(self, page: int, cursor: str = "") -> SweepPage:
        bad: list[str] = []
        items, at, notices = self._items(bad)
        return SweepPage(at, [ItemSeen(i.number, i.cost, i.currency, i.stock, (), pack_size_of(i)) for i in items], 1, bad, notices)

    def item(self, number: str) -> CatalogueItem | None:
        return next((one for one in self._items([])[0] if one.number == number), None)

    def buy(self, purchase: Purchase) -> PurchaseAnswer:
        to = purchase.address
        where = [to.name, to.address_1, to.address_2, to.city, to.region, to.postcode, to.country, to.phone]
        tail = [purchase.service, said_with(purchase.note, purchase.greeting)]
        rows = [[purchase.reference, line.line_no, line.item, line.quantity, *where, *tail] for line in purchase.lines]
        self.call.send("PUT", f"/in/{path_part(purchase.reference)}.csv", content=csv_bytes(PURCHASE_HEADER, rows))
        try:
            found = self.find_purchases([purchase.reference])
        except OutsideError as error:
            raise UnknownOutcome("the purchase order was put into the folder, and its answers cannot be read") from error
        if not found:
            raise UnknownOutcome("the purchase order lies in the folder, but is not among the answers yet")
        return found[0]

    def recall(self, reference: str) -> PurchaseAnswer:
        raise Refused("there is no sheet for cancelling in this folder; write to the supplier")

    def find_purchases(self, references: list[str]) -> list[PurchaseAnswer]:
        try:
            text = self.call.fetch(f"/{_ANSWERS}").text
        except NotThere:
            return []
        try:
            return self._answers(text, references)
        except (ValueError, KeyError, csv.Error) as error:
            raise Malformed(f"the folder's sheet of answers cannot be read: {str(error).splitlines()[0]}") from error

    def _answers(self, text: str, references: list[str]) -> list[PurchaseAnswer]:
        out = []
        for row in csv.DictReader(io.StringIO(text, newline=""), delimiter=";"):
            if row.get("reference") in references:
                if any(value is None for value in row.values()):
                    raise Malformed("the folder's sheet of answers is torn")
                bill = row["billed"].replace(",", ".") or None
                fields = {**row, "billed": bill, "currency": self.currency, "tracking_number": row["tracking_number"] or None}
                out.append(purchase_answer(PurchaseOut.model_validate(fields), "the folder"))
        return out


def pack_size_of(one: CatalogueItem) -> int:
    """What a sheet says of an item's pack; 0 = nothing."""
    return 0 if "pack_size" in one.silent else one.pack_size


def items_of(
    rows: Iterator[list[str]],
    places: dict[str, int],
    reading: Reading,
    currency: str,
    bad: list[str],
    most_bad: int = 10_000,
    bad_rows: list[tuple[list[str], str]] | None = None,
) -> list[CatalogueItem]:
    """Items from the rows of a catalogue sheet; a row that cannot be read is told in `bad` and stops nobody else.

    bad_rows: takes those rows as they stood, each with why.
    """
    read = _RowReader(places, reading, currency)
    out = []
    for n, row in enumerate(rows, 2):
        if not any(row):
            continue
        # What a row is too short for, and what the sheet has no column of, is the empty cell at its end.
        cells = [one.strip() for one in row] + [""] * max(read.width - len(row), 1)
        try:
            out.append(read.item(cells))
        except ValueError as error:
            if bad_rows is not None:
                bad_rows.append((list(row), str(error)))
            if len(bad) < most_bad:
                bad.append(f"row {getattr(row, 'n', n)}, {cells[places.get('item', -1)][:40] or 'no number'}: {error}")
    return out


class _RowReader:
    """Reads the cells of a row as an item. at: where each column stands; -1 = the sheet has none."""

    def __init__(self, places: dict[str, int], reading: Reading, currency: str) -> None:
        self.at = {name: places.get(name, -1) for name in FIELDS}
        self.decimal, self.pieces, self.currency = reading.decimal, reading.pieces, currency
        self.unit_of_weight = values.unit_in(reading.columns.get("weight_g", ""))
        self.silent = tuple(name for name in OPTIONAL if name not in places)
        self.width = max(places.values(), default=0) + 1

    def item(self, cells: list[str]) -> CatalogueItem:
        def cell(name: str, most: int = 300) -> str:
            return cells[self.at[name]][:most] if self.at[name] >= 0 else ""

        number, name = cells[self.at["item"]], clip(cells[self.at["title"]])
        if not number or len(number) > 100 or not name:
            raise ValueError("the number or the title is empty")
        unit = cells[self.at["currency"]].upper() or self.currency
        least, weight = cell("least_price"), self.at["weight_g"] >= 0
        return CatalogueItem(
            number,
            name,
            _cost(cells[self.at["cost"]], self.decimal, unit),
            unit,
            count(cells[self.at["stock"]], self.pieces),
            cell("origin"),
            _gtin(cell("gtin")),
            cell("mpn"),
            cell("brand"),
            cell("category"),
            cell("options"),
            max(count(cell("pack_size") or "1", self.pieces), 1),
            _grams(cell("weight_g"), self.decimal, self.unit_of_weight) if weight else 0,
            (),
            _cost(least, self.decimal, unit) if least else None,
            count(cell("lead_days") or "0", self.pieces),
            cell("link", 500),
            self.silent,
        )


def _cost(text: str, decimal: str, currency: str) -> int:
    """An amount in minor units; the plain ones of two decimals, which nearly all are, are read without ado."""
    whole, _, part = text.partition(decimal or ".")
    if (
        len(part) == 2
        and currency in _TWO
        and part.isascii()
        and part.isdecimal()
        and whole.isascii()
        and whole.isdecimal()
        and len(whole) < 10
    ):
        return int(whole + part)
    return minor(amount(text, decimal), currency)


def _grams(text: str, decimal: str, unit: str) -> int:
    if text.isascii() and text.isdecimal() and unit == "g" and len(text) <= 8:
        return int(text)
    return int(values.grams_text(text, decimal or ".", unit)) if text else 0


def _gtin(text: str) -> str:
    """A barcode whose check digit is right; a wrong one is left out, since it would only mislead."""
    if not text:
        return ""
    try:
        return check_gtin(text)
    except ValueError:
        return ""
