"""A postal carrier's tracking interface: up to 50 numbers a call."""

from __future__ import annotations

import httpx
from pydantic import Base64Bytes, Field

from .errors import Malformed, NotThere, UnknownOutcome
from .http import Caller
from .protocols import Account, Budget, CarrierWord
from .return_protocol import Label, LabelAsk
from .wire import Short, Time, Wire, minor, one_line, path_part

KINDS = frozenset({"label", "collected", "moving", "delivered", "returned"})


class _Account(Wire):
    name: Short
    country: Short
    may: list[Short]
    account: Short = ""


class _Event(Wire):
    at: Time
    kind: Short
    message: Short = ""
    place: Short = ""


class _Parcel(Wire):
    number: Short
    events: list[_Event]


class _Parcels(Wire):
    parcels: list[_Parcel]


class _Label(Wire):
    reference: Short
    number: Short
    pdf: Base64Bytes = Field(max_length=4_000_000)
    costs: Short
    currency: Short


class PostApi:
    def __init__(self, address: str, key: str, deadline: float, transport: httpx.BaseTransport | None = None) -> None:
        self.call = Caller("the carrier", address, {"Authorization": f"Bearer {key}"}, deadline, transport)

    def budget(self) -> Budget | None:
        return self.call.budget

    def account(self) -> Account:
        said = self.call.ask("/account", _Account)
        return Account(said.name, said.country, "", list(said.may), number=said.account)

    def make_label(self, ask: LabelAsk) -> Label:
        body = {"sender": one_line(ask.sender), "to": ask.to, "grams": ask.weight_g}
        try:
            return _label(self.call.tell("PUT", f"/labels/{path_part(ask.reference)}", body, _Label))
        except Malformed as error:
            raise UnknownOutcome(error.message) from error

    def find_label(self, reference: str) -> Label | None:
        try:
            return _label(self.call.ask(f"/labels/{path_part(reference)}", _Label))
        except NotThere:
            return None

    def track(self, numbers: list[str]) -> dict[str, list[CarrierWord]]:
        said = self.call.ask("/tracking", _Parcels, numbers=",".join(numbers[:50]))
        return {
            parcel.number: [
                CarrierWord(e.at, e.kind if e.kind in KINDS else "moving", e.message, e.place)
                for e in sorted(parcel.events, key=lambda event: event.at)
            ]
            for parcel in said.parcels
            if parcel.number in numbers
        }


def _label(said: _Label) -> Label:
    """Malformed where it is no PDF, or costs nothing that can be read."""
    try:
        cost = minor(said.costs, said.currency)
    except ValueError as error:
        raise Malformed(f"the carrier's label cannot be read: {error}") from error
    if not said.pdf.startswith(b"%PDF-") or cost < 0:
        raise Malformed("the carrier's label is no PDF, or costs less than nothing")
    return Label(said.reference, said.number, said.pdf, cost, said.currency)
