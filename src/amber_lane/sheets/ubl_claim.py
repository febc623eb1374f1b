"""Claims as OASIS UBL 2.1: what came broken, short or late written as `ReceiptAdvice`, and the supplier's `CreditNote` read back.

The number of a claim is that of its ReceiptAdvice; a CreditNote names it as ReceiptDocumentReference, of the whole or of each line.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from decimal import Decimal

from lxml import etree

from ..core.claims import ClaimReason
from .ubl import CAC, CBC, URN, NotADocument, amount_of, box, document, put, text_at

# What is missing of a line; of all other reasons it is there, and refused.
SHORT = frozenset({ClaimReason.no_number, ClaimReason.no_movement, ClaimReason.lost, ClaimReason.missing})
LATE = frozenset({ClaimReason.late})


@dataclass(frozen=True)
class ClaimedLine:
    """One claim, by its own number. line: of the order; units: that are claimed; words: why, in words; wish: what is asked for."""

    reference: str
    order: str
    line: int
    item: str
    title: str
    units: int
    reason: ClaimReason
    words: str
    wish: str


@dataclass(frozen=True)
class ClaimDocument:
    """One or more claims to one supplier. number: of the document, which is that of its claim where it has one."""

    number: str
    made_at: datetime
    buyer: str
    seller: str
    lines: tuple[ClaimedLine, ...]


def advice_xml(one: ClaimDocument) -> bytes:
    """The claims as a UBL 2.1 ReceiptAdvice, its elements in the order of the schema."""
    root = etree.Element(f"{{{URN}ReceiptAdvice-2}}ReceiptAdvice", nsmap={None: URN + "ReceiptAdvice-2", "cac": CAC, "cbc": CBC})  # type: ignore[dict-item]
    put(root, "UBLVersionID", "2.1")
    put(root, "ID", one.number)
    put(root, "IssueDate", one.made_at.date().isoformat())
    put(root, "IssueTime", one.made_at.strftime("%H:%M:%S") + "Z")
    for order in dict.fromkeys(line.order for line in one.lines):
        put(box(root, "OrderReference"), "ID", order)
    for name, who in (("DeliveryCustomerParty", one.buyer), ("DespatchSupplierParty", one.seller)):
        put(box(box(box(root, name), "Party"), "PartyName"), "Name", who)
    for n, line in enumerate(one.lines, 1):
        part = box(root, "ReceiptLine")
        put(part, "ID", str(n))
        put(part, "Note", f"{line.wish} {line.words}".strip())
        if line.reason in SHORT:
            put(part, "ShortQuantity", str(line.units), unitCode="EA")
        elif line.reason in LATE:
            put(part, "ReceivedQuantity", str(line.units), unitCode="EA")
            put(part, "TimingComplaint", "late")
        else:
            put(part, "RejectedQuantity", str(line.units), unitCode="EA")
            put(part, "RejectReason", line.reason.value.replace("_", " "))
        order_line = box(part, "OrderLineReference")
        put(order_line, "LineID", str(line.line))
        put(box(order_line, "OrderReference"), "ID", line.order)
        put(box(part, "DocumentReference"), "ID", line.reference)
        item = box(part, "Item")
        put(item, "Name", line.title or line.item)
        put(box(item, "SellersItemIdentification"), "ID", line.item)
    return bytes(etree.tostring(root, xml_declaration=True, encoding="UTF-8", pretty_print=True))


@dataclass(frozen=True)
class CreditNote:
    """What a supplier gives back. amounts: by the number of the claim, in major units of its currency."""

    number: str
    currency: str
    amounts: dict[str, Decimal]


def is_credit_note(data: bytes) -> bool:
    """Whether it looks like one, before it is read."""
    return b"CreditNote-2" in data[:2000]


def read_credit_note(data: bytes) -> CreditNote:
    """NotADocument in plain words where it is none, names no claim, or where its lines do not add up to what it gives."""
    root = document(data, ("CreditNote",), "a CreditNote")
    currencies: set[str] = set()
    whole = text_at(root, "ReceiptDocumentReference/ID")
    amounts: dict[str, Decimal] = {}
    for line in root.iterfind(f"{{{CAC}}}CreditNoteLine"):
        reference = text_at(line, "ReceiptLineReference/DocumentReference/ID") or text_at(line, "DocumentReference/ID") or whole
        if not reference:
            raise NotADocument("a line does not say which claim it is for (DocumentReference)")
        amount = amount_of(line.find(f"{{{CBC}}}LineExtensionAmount"), currencies)
        if amount <= 0:
            raise NotADocument("a line gives nothing back")
        amounts[reference] = amounts.get(reference, Decimal(0)) + amount
    tax = sum((amount_of(one.find(f"{{{CBC}}}TaxAmount"), currencies) for one in root.iterfind(f"{{{CAC}}}TaxTotal")), Decimal(0))
    given = amount_of(root.find(f"{{{CAC}}}LegalMonetaryTotal/{{{CBC}}}PayableAmount"), currencies)
    if len(currencies) != 1:
        raise NotADocument(f"its amounts are in {' and '.join(sorted(currencies)) or 'no currency'}; one is read at a time")
    if sum(amounts.values(), Decimal(0)) + tax != given:
        raise NotADocument(f"its lines add up to {sum(amounts.values(), Decimal(0)) + tax}, and it gives {given}; nothing of it was taken")
    if tax:
        amounts = _with_tax(amounts, tax)
    return CreditNote(text_at(root, "ID"), currencies.pop(), amounts)


def _with_tax(amounts: dict[str, Decimal], tax: Decimal) -> dict[str, Decimal]:
    """Its tax comes back too: shared out by the amounts, to the last of its own digits."""
    whole, left, out = sum(amounts.values(), Decimal(0)), tax, dict(amounts)
    names: Sequence[str] = list(amounts)
    for name in names[:-1]:
        share = (tax * amounts[name] / whole).quantize(tax)
        out[name], left = out[name] + share, left - share
    out[names[-1]] += left
    return out
