"""A supplier's bill as a UBL 2.1 Invoice: what it charges for each order that it names."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date
from decimal import Decimal
from typing import Any

from .ubl import CAC, CBC, NotADocument, amount_of, document, text_at

# Words and codes of charges that are for sending; all others are handling.
_SENDING = ("freight", "ship", "carriage", "postage", "deliver", "transport")
_FREIGHT = frozenset({"FC", "DL", "SAA"})
# Corrections and credit notes say other things with the same words.
_BILLS = frozenset({"", "380"})


@dataclass(frozen=True)
class Charged:
    """What an invoice charges for one order, amounts in major units of its currency. goods by order; the rest is of the whole invoice."""

    number: str
    issued: date
    currency: str
    goods: dict[str, Decimal]
    shipping: Decimal
    handling: Decimal
    tax: Decimal

    @property
    def total(self) -> Decimal:
        return sum(self.goods.values(), Decimal(0)) + self.shipping + self.handling + self.tax


def read_invoice(data: bytes) -> Charged:
    """NotADocument in plain words where it is none, or where its parts do not add up to what it asks."""
    root = document(data, ("Invoice",), "an Invoice")
    kind = text_at(root, "InvoiceTypeCode")
    if kind not in _BILLS:
        raise NotADocument(f"this is an invoice of the kind {kind}; only plain ones (380) are read")
    whole = text_at(root, "OrderReference/ID")
    currencies: set[str] = set()
    goods: dict[str, Decimal] = {}
    for line in root.iterfind(f"{{{CAC}}}InvoiceLine"):
        reference = text_at(line, "OrderLineReference/OrderReference/ID") or whole
        if not reference:
            raise NotADocument("a line does not say which order it is of (OrderReference)")
        goods[reference] = goods.get(reference, Decimal(0)) + amount_of(line.find(f"{{{CBC}}}LineExtensionAmount"), currencies)
    shipping = handling = Decimal(0)
    for one in root.iterfind(f"{{{CAC}}}AllowanceCharge"):
        amount = amount_of(one.find(f"{{{CBC}}}Amount"), currencies)
        if text_at(one, "ChargeIndicator") != "true":
            first = next(iter(goods))
            goods[first] -= amount
        elif _is_sending(one):
            shipping += amount
        else:
            handling += amount
    tax = sum((amount_of(one.find(f"{{{CBC}}}TaxAmount"), currencies) for one in root.iterfind(f"{{{CAC}}}TaxTotal")), Decimal(0))
    asked = amount_of(root.find(f"{{{CAC}}}LegalMonetaryTotal/{{{CBC}}}PayableAmount"), currencies)
    if len(currencies) != 1:
        raise NotADocument(f"its amounts are in {' and '.join(sorted(currencies)) or 'no currency'}; one is read at a time")
    try:
        issued = date.fromisoformat(text_at(root, "IssueDate")[:10])
    except ValueError as error:
        raise NotADocument(f"its date {text_at(root, 'IssueDate')!r} cannot be read") from error
    made = Charged(text_at(root, "ID"), issued, currencies.pop(), goods, shipping, handling, tax)
    if made.total != asked:
        raise NotADocument(f"its parts add up to {made.total}, and it asks {asked}; nothing of it was taken")
    return made


def _is_sending(one: Any) -> bool:  # noqa: ANN401 - lxml names no type of its elements
    told = text_at(one, "AllowanceChargeReason").casefold()
    return text_at(one, "AllowanceChargeReasonCode") in _FREIGHT or any(word in told for word in _SENDING)
