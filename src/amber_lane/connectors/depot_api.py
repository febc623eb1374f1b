"""A depot's interface: goods it is asked to hold, loads and their counts, its stock and its movements, and orders to send."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from typing import Annotated, Any

import httpx
from pydantic import Field

from .depot_protocol import (
    CountedLine,
    DepotTold,
    HoldAnswer,
    HoldAsk,
    LoadNotice,
    LoadState,
    MovePage,
    StockMove,
    StockTold,
)
from .errors import Malformed, NotThere, Unavailable, UnknownOutcome
from .http import Caller
from .protocols import (
    Account,
    Address,
    Budget,
    CatalogueItem,
    CataloguePage,
    OriginTerms,
    Purchase,
    PurchaseAnswer,
    SweepPage,
)
from .wire import Buyer, Name, OriginsOut, PurchaseOut, Short, Time, Wire, minor, origin_terms, path_part, purchase_answer, purchase_body

_MOST = 100_000
_Units = Annotated[int, Field(ge=0, le=10**7)]
_Millimetres = Annotated[int, Field(ge=0, le=10**5)]
_Grams = Annotated[int, Field(ge=0, le=10**7)]
_Days = Annotated[int, Field(ge=0, le=365)]
_PICTURE_MOST = 15_000_000
HOLD_STATES = ("asked", "question", "agreed", "refused")
LOAD_STATES = ("announced", "arrived", "counted", "cancelled")
MOVES = {"counted_in": 1, "found": 1, "returned": 1, "sent": -1, "damaged": -1, "lost": -1}
WHO = "the depot"


class _Account(Wire):
    name: Short
    country: Short
    currency: Short
    may: list[Short]
    account: Short = ""


class _Carton(Wire):
    weight_g: Annotated[int, Field(gt=0, le=10**6)]
    length_mm: Annotated[int, Field(gt=0, le=10**5)]
    width_mm: Annotated[int, Field(gt=0, le=10**5)]
    height_mm: Annotated[int, Field(gt=0, le=10**5)]


class _Terms(Wire):
    storage_litre_month: Short
    receive_carton: Short
    pick_unit: Short
    weight_most_g: _Grams = 0
    side_most_mm: _Millimetres = 0
    value_most: Short = "0"
    kinds: Annotated[list[Short], Field(max_length=200)] = Field(default_factory=list)
    carton: _Carton
    days_low: _Days
    days_high: _Days
    room_litres: Annotated[int, Field(ge=0, le=10**9)] = 0
    address: Buyer


class _Picture(Wire):
    name: Name


class _Held(Wire):
    number: Name
    state: Short
    message: Short = ""


class _HeldList(Wire):
    goods: Annotated[list[_Held], Field(max_length=_MOST)]


class _Counted(Wire):
    goods: Name
    units: _Units
    damaged: _Units = 0
    note: Short = ""
    picture: bool = False


class _Load(Wire):
    reference: Name
    state: Short
    at: Time | None = None
    message: Short = ""
    lines: Annotated[list[_Counted], Field(max_length=_MOST)] = Field(default_factory=list)


class _Loads(Wire):
    loads: Annotated[list[_Load], Field(max_length=_MOST)]


class _There(Wire):
    number: Name
    there: _Units


class _Stock(Wire):
    as_of: Time
    goods: Annotated[list[_There], Field(max_length=_MOST)]


class _Move(Wire):
    id: Annotated[int, Field(ge=0, lt=2**53)]
    at: Time
    goods: Name
    units: Annotated[int, Field(ge=1, le=10**7)]
    kind: Short
    reference: Short = ""
    note: Short = ""


class _Moves(Wire):
    movements: Annotated[list[_Move], Field(max_length=1000)]
    cursor: Short
    more: bool = False


class _Purchases(Wire):
    purchases: list[PurchaseOut]


class DepotApi:
    one_by_one = False

    def __init__(self, address: str, key: str, deadline: float, transport: httpx.BaseTransport | None = None) -> None:
        self.call = Caller(WHO, address, {"Depot-Key": key}, deadline, transport)

    def account(self) -> Account:
        said = self.call.ask("/account", _Account)
        return Account(said.name, said.country, said.currency, list(said.may), number=said.account)

    def origins(self) -> list[OriginTerms]:
        """Its services with picking in each unit, so that what a parcel costs is whole."""
        currency, pick = self.account().currency, self.depot_terms().pick
        told = origin_terms(self.call.ask("/origins", OriginsOut), currency, WHO)
        return [_with_picking(one, pick) for one in told]

    def depot_terms(self) -> DepotTold:
        currency, said = self.account().currency, self.call.ask("/terms", _Terms)
        try:
            amounts = [minor(one, currency) for one in (said.storage_litre_month, said.receive_carton, said.pick_unit, said.value_most)]
        except ValueError as error:
            raise Malformed(f"{WHO}'s fees cannot be read: {error}") from error
        if min(amounts) < 0:
            raise Malformed(f"{WHO}'s fees cannot be below nought")
        sides = sorted((said.carton.length_mm, said.carton.width_mm, said.carton.height_mm), reverse=True)
        return DepotTold(
            # Told by the month of thirty days.
            round(amounts[0] * 1_000_000 / 30),
            amounts[1],
            amounts[2],
            said.weight_most_g,
            said.side_most_mm,
            amounts[3],
            tuple(said.kinds),
            said.carton.weight_g,
            (sides[0], sides[1], sides[2]),
            min(said.days_low, said.days_high),
            said.days_high,
            said.room_litres,
            Address(**said.address.model_dump()),
        )

    def ask_to_hold(self, ask: HoldAsk) -> HoldAnswer:
        length, width, height = ask.sides
        body = {
            "number": ask.number, "title": ask.title, "kind": ask.kind, "weight_g": ask.weight_g, "length_mm": length, "width_mm": width,
            "height_mm": height, "value_minor": ask.value, "currency": ask.currency, "pictures": list(ask.pictures),
        }  # fmt: skip
        return self._told_held("PUT", f"/goods/{path_part(ask.number)}", body)

    def keep_picture(self, data: bytes, kind: str) -> str:
        try:
            return self.call.tell_bytes("/pictures", data, kind, _Picture).name
        except UnknownOutcome as error:
            raise Unavailable(error.message) from error

    def answer_question(self, number: str, text: str) -> HoldAnswer:
        return self._told_held("POST", f"/goods/{path_part(number)}/answer", {"text": text})

    def _told_held(self, method: str, path: str, body: dict[str, Any]) -> HoldAnswer:
        try:
            return _held(self.call.tell(method, path, body, _Held))
        except UnknownOutcome as error:
            # The same again changes nothing there, so it is simply tried again.
            raise Unavailable(error.message) from error

    def holdings(self, numbers: list[str]) -> list[HoldAnswer]:
        said = self.call.ask("/goods", _HeldList, number=",".join(numbers))
        return [_held(one) for one in said.goods if one.number in numbers]

    def announce(self, notice: LoadNotice) -> LoadState:
        cartons = [
            {
                "sscc": one.sscc,
                "weight_g": one.weight_g,
                "lines": [
                    {"goods": goods, "units": units, "lot": lot, "best_before": best.isoformat() if best else None}
                    for goods, units, lot, best in one.lines
                ],
            }
            for one in notice.cartons
        ]
        body = {"from": notice.sender, "cartons": cartons}
        try:
            return _load(self.call.tell("PUT", f"/loads/{path_part(notice.reference)}", body, _Load))
        except UnknownOutcome as error:
            raise Unavailable(error.message) from error

    def find_loads(self, references: list[str]) -> list[LoadState]:
        said = self.call.ask("/loads", _Loads, reference=",".join(references))
        return [_load(one) for one in said.loads if one.reference in references]

    def count_again(self, reference: str) -> LoadState:
        try:
            return _load(self.call.tell("POST", f"/loads/{path_part(reference)}/count", {}, _Load))
        except UnknownOutcome as error:
            raise Unavailable(error.message) from error

    def damage_picture(self, reference: str, number: str) -> bytes | None:
        try:
            data = self.call.fetch(f"/loads/{path_part(reference)}/pictures/{path_part(number)}").content
        except NotThere:
            return None
        return data if len(data) <= _PICTURE_MOST else None

    def stock(self) -> StockTold:
        said = self.call.ask("/stock", _Stock)
        return StockTold(said.as_of, {one.number: one.there for one in said.goods})

    def movements(self, cursor: str) -> MovePage:
        said = self.call.ask("/movements", _Moves, after=cursor or "0")
        moves = []
        for one in said.movements:
            if one.kind not in MOVES:
                raise Malformed(f"{WHO} tells a movement of a kind that we do not know: {one.kind}")
            moves.append(StockMove(str(one.id), one.at, one.goods, MOVES[one.kind] * one.units, one.kind, one.reference, one.note))
        return MovePage(moves, said.cursor, said.more)

    def buy(self, purchase: Purchase) -> PurchaseAnswer:
        key = {"Idempotency-Key": purchase.reference}
        return purchase_answer(self.call.tell("POST", "/purchases", purchase_body(purchase), PurchaseOut, key), WHO)

    def find_purchases(self, references: list[str]) -> list[PurchaseAnswer]:
        said = self.call.ask("/purchases", _Purchases, reference=",".join(references))
        return [purchase_answer(one, WHO) for one in said.purchases if one.reference in references]

    def recall(self, reference: str) -> PurchaseAnswer:
        return purchase_answer(self.call.tell("POST", f"/purchases/{path_part(reference)}/withdraw", {}, PurchaseOut), WHO)

    def catalogue(self) -> Iterator[CataloguePage]:
        """It sells nothing of its own: what may be bought here is our stock, by our ledger."""
        return iter(())

    def sweep_page(self, page: int, cursor: str = "") -> SweepPage:
        raise Malformed(f"{WHO} shows no offers; its stock is read by itself")

    def item(self, number: str) -> CatalogueItem | None:
        return None

    def budget(self) -> Budget | None:
        return self.call.budget


def _with_picking(origin: OriginTerms, pick: int) -> OriginTerms:
    services = [
        replace(
            one,
            first=one.first + pick,
            following=one.following + pick,
            bands=tuple((up_to, first + pick, more + pick) for up_to, first, more in one.bands),
        )
        for one in origin.services
    ]
    return replace(origin, services=services)


def _held(one: _Held) -> HoldAnswer:
    if one.state not in HOLD_STATES:
        raise Malformed(f"{WHO} gives {one.number} a state that we do not know: {one.state}")
    return HoldAnswer(one.number, one.state, one.message)


def _load(one: _Load) -> LoadState:
    if one.state not in LOAD_STATES:
        raise Malformed(f"{WHO} gives {one.reference} a state that we do not know: {one.state}")
    if len({row.goods for row in one.lines}) < len(one.lines):
        raise Malformed(f"{WHO} counts the same goods of {one.reference} twice")
    lines = tuple(CountedLine(row.goods, row.units, row.damaged, row.note, row.picture) for row in one.lines)
    return LoadState(one.reference, one.state, one.at, lines, one.message)
