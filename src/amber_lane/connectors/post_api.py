"""A postal carrier's tracking interface: up to 50 numbers a call."""

from __future__ import annotations

import httpx

from .http import Caller
from .protocols import Account, Budget, CarrierWord
from .wire import Short, Time, Wire

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


class PostApi:
    def __init__(self, address: str, key: str, deadline: float, transport: httpx.BaseTransport | None = None) -> None:
        self.call = Caller("the carrier", address, {"Authorization": f"Bearer {key}"}, deadline, transport)

    def budget(self) -> Budget | None:
        return self.call.budget

    def account(self) -> Account:
        said = self.call.ask("/account", _Account)
        return Account(said.name, said.country, "", list(said.may), number=said.account)

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
