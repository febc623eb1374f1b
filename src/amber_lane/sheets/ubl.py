"""OASIS UBL 2.1 documents: a purchase order written as `Order`; `OrderResponse` and `DespatchAdvice` read back.

Whatever is read is first held against the standard's own schemas, which lie beside this file.
"""

from __future__ import annotations

import re
import threading
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import datetime
from decimal import Decimal, InvalidOperation
from functools import cache
from pathlib import Path
from typing import Any

from lxml import etree

URN = "urn:oasis:names:specification:ubl:schema:xsd:"
CAC, CBC = URN + "CommonAggregateComponents-2", URN + "CommonBasicComponents-2"
BYTES_MAX = 5_000_000
# A schema keeps what it found wrong in itself, so one at a time.
_ONE = threading.Lock()
_SCHEMAS = Path(__file__).parent / "ubl21" / "maindoc"
# Codes of an answer: taken, refused, taken with changes. Of a line: taken, changed, not taken, and the like.
_ANSWERS = {"AP": "accepted", "AB": "received", "RE": "refused", "CA": "accepted", "29": "accepted", "27": "refused"}
_NOT_TAKEN = frozenset({"7"})


class NotADocument(ValueError):
    """It is no UBL document that we can read; says why."""


@dataclass(frozen=True)
class DocumentLine:
    """One item of an order. net: what the line costs, as an amount in text."""

    number: int
    item: str
    title: str
    quantity: int
    net: str


@dataclass(frozen=True)
class OrderDocument:
    """What a purchase order says. buyer and seller: their names; address: the receiver's parts."""

    reference: str
    made_at: datetime
    currency: str
    buyer: str
    seller: str
    address: dict[str, str]
    service: str
    note: str
    greeting: str
    lines: tuple[DocumentLine, ...]


@dataclass(frozen=True)
class Answer:
    """state: accepted, received, refused, shipped. lacking: (line number, why) of lines that are not sent; billed: text or ''."""

    reference: str
    their_number: str
    state: str
    message: str
    billed: str
    currency: str
    tracking: str
    carrier: str
    lacking: tuple[tuple[int, str], ...]


def order_xml(order: OrderDocument) -> bytes:
    """The order as a UBL 2.1 document, its elements in the order of the schema."""
    root = etree.Element(f"{{{URN}Order-2}}Order", nsmap={None: URN + "Order-2", "cac": CAC, "cbc": CBC})  # type: ignore[dict-item]
    put(root, "UBLVersionID", "2.1")
    put(root, "ID", order.reference)
    put(root, "IssueDate", order.made_at.date().isoformat())
    put(root, "IssueTime", order.made_at.strftime("%H:%M:%S") + "Z")
    for text in (order.note, order.greeting and f"Greeting to the receiver: {order.greeting}"):
        if text:
            put(root, "Note", text)
    put(root, "DocumentCurrencyCode", order.currency)
    for name, who in (("BuyerCustomerParty", order.buyer), ("SellerSupplierParty", order.seller)):
        party = box(box(root, name), "Party")
        put(box(party, "PartyName"), "Name", who)
    delivery = box(root, "Delivery")
    place = box(box(delivery, "DeliveryLocation"), "Address")
    address = order.address
    for element, value in (
        ("StreetName", address["address_1"]),
        ("AdditionalStreetName", address.get("address_2", "")),
        ("CityName", address["city"]),
        ("PostalZone", address["postcode"]),
        ("CountrySubentity", address.get("region", "")),
    ):
        if value:
            put(place, element, value)
    put(box(place, "Country"), "IdentificationCode", address["country"])
    receiver = box(delivery, "DeliveryParty")
    put(box(receiver, "PartyName"), "Name", address["name"])
    if address.get("phone"):
        put(box(receiver, "Contact"), "Telephone", address["phone"])
    put(box(root, "DeliveryTerms"), "ID", order.service)
    for line in order.lines:
        item_line = box(box(root, "OrderLine"), "LineItem")
        put(item_line, "ID", str(line.number))
        put(item_line, "Quantity", str(line.quantity), unitCode="EA")
        put(item_line, "LineExtensionAmount", line.net, currencyID=order.currency)
        item = box(item_line, "Item")
        put(item, "Name", line.title or line.item)
        put(box(item, "SellersItemIdentification"), "ID", line.item)
    return bytes(etree.tostring(root, xml_declaration=True, encoding="UTF-8", pretty_print=True))


@cache
def _schema(kind: str) -> etree.XMLSchema:
    return etree.XMLSchema(etree.parse(str(_SCHEMAS / f"UBL-{kind}-2.1.xsd")))


def faults(root: Any) -> str:
    """What is wrong with a document by the schema of its kind, in one line; '' where it is valid."""
    kind = etree.QName(root).localname
    schema = _schema(kind)
    with _ONE:
        if schema.validate(root):
            return ""
        log: Any = schema.error_log
        first = log[0]
    return f"line {first.line}: {re.sub(r'{[^}]*}', '', first.message)}"


def put(parent: Any, name: str, text: str, **more: str) -> None:
    """A plain element; letters that cannot be written are left out."""
    etree.SubElement(parent, f"{{{CBC}}}{name}", more).text = "".join(letter for letter in text if letter.isprintable())


def box(parent: Any, name: str) -> Any:
    """An element that holds others."""
    return etree.SubElement(parent, f"{{{CAC}}}{name}")


def read_answer(data: bytes) -> list[Answer]:
    """What an OrderResponse or a DespatchAdvice says, one answer per order that it names. NotADocument in plain words."""
    readers: dict[str, Callable[[Any], list[Answer]]] = {"OrderResponse": lambda root: [_response(root)], "DespatchAdvice": _despatch}
    root = document(data, tuple(readers), "an OrderResponse or a DespatchAdvice")
    return readers[etree.QName(root).localname](root)


def document(data: bytes, kinds: Sequence[str], called: str) -> Any:
    """The root of a document of one of these kinds, valid by its schema. NotADocument says what it is instead, or what is wrong with it."""
    if len(data) > BYTES_MAX:
        raise NotADocument("the document is larger than 5 MB")
    parser = etree.XMLParser(resolve_entities=False, no_network=True, load_dtd=False, huge_tree=False)
    try:
        root = etree.fromstring(data, parser)
    except etree.XMLSyntaxError as error:
        raise NotADocument(f"this is not XML: {error.msg}") from error
    if root.getroottree().docinfo.internalDTD is not None:
        raise NotADocument("a document with definitions of its own is not read")
    kind = etree.QName(root)
    if kind.localname not in kinds or kind.namespace != f"{URN}{kind.localname}-2":
        raise NotADocument(f"this is {kind.localname!r}, not {called} of UBL 2.1")
    if wrong := faults(root):
        raise NotADocument(f"this is no valid {kind.localname} of UBL 2.1: {wrong}")
    return root


def text_at(node: Any, path: str) -> str:
    """The first text at a path of `a` (a value) and `A` (a box) names, such as Party/Name; '' where there is none."""
    *boxes, last = path.split("/")
    found = node.find("/".join([*(f"{{{CAC}}}{name}" for name in boxes), f"{{{CBC}}}{last}"]))
    return (found.text or "").strip()[:500] if found is not None else ""


def amount_of(node: Any, currencies: set[str]) -> Decimal:
    """The amount of an element, in major units; its currency is added to those that were met. NotADocument where it is none."""
    if node is None:
        raise NotADocument("an amount is missing")
    currencies.add(node.get("currencyID", ""))
    try:
        value = Decimal((node.text or "").strip())
    except InvalidOperation as error:
        raise NotADocument(f"{node.text!r} is not an amount") from error
    if not value.is_finite() or abs(value) > 10**9:
        raise NotADocument(f"{node.text!r} is not an amount")
    return value


def _response(root: Any) -> Answer:
    reference = text_at(root, "OrderReference/ID")
    if not reference:
        raise NotADocument("the answer does not say which order it is about (OrderReference)")
    code = text_at(root, "OrderResponseCode")
    lacking = []
    for line in root.iterfind(f"{{{CAC}}}OrderLine/{{{CAC}}}LineItem"):
        if text_at(line, "LineStatusCode") in _NOT_TAKEN:
            lacking.append((_number(text_at(line, "ID")), text_at(line, "Note") or "not taken"))
    state = _ANSWERS.get(code)
    if state is None:
        raise NotADocument(f"the answer about {reference} has the code {code!r}; AP, CA and RE are known")
    total = root.find(f"{{{CAC}}}LegalMonetaryTotal/{{{CBC}}}PayableAmount")
    billed, currency = ("", "") if total is None else ((total.text or "").strip(), total.get("currencyID", ""))
    return Answer(
        reference,
        text_at(root, "SalesOrderID") or text_at(root, "ID"),
        state,
        text_at(root, "Note"),
        billed,
        currency,
        "",
        "",
        tuple(lacking),
    )


def _number(text: str) -> int:
    if not text.isascii() or not text.isdecimal() or len(text) > 6:
        raise NotADocument(f"{text!r} is not the number of a line of ours")
    return int(text)


def _despatch(root: Any) -> list[Answer]:
    shipment = root.find(f"{{{CAC}}}Shipment")
    number = ""
    carrier = ""
    if shipment is not None:
        number = text_at(shipment, "Delivery/TrackingID") or text_at(shipment, "Consignment/ID")
        carrier = text_at(shipment, "Consignment/CarrierParty/PartyName/Name") or text_at(shipment, "Delivery/CarrierParty/PartyName/Name")
    references = list(dict.fromkeys(_references(root)))
    if not references:
        raise NotADocument("the advice does not say which orders it is about (OrderReference)")
    return [Answer(one, text_at(root, "ID"), "shipped", "", "", "", number, carrier, ()) for one in references]


def _references(root: Any) -> Sequence[str]:
    whole = [text_at(one, "ID") for one in root.iterfind(f"{{{CAC}}}OrderReference")]
    lines = [text_at(one, "OrderLineReference/OrderReference/ID") for one in root.iterfind(f"{{{CAC}}}DespatchLine")]
    return [one for one in (*whole, *lines) if one]
