"""The marketplace: passes that run out, changes in batches whose result is fetched later, calls counted in every answer."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from datetime import date
from typing import Any, TypeVar

import httpx
from pydantic import BaseModel, Field

from ..core.currency import plain
from .errors import CarrierUnknown, Denied, Malformed, NotThere, Postponed, Refused
from .http import Caller
from .protocols import (
    Account,
    Address,
    BatchAnswer,
    Budget,
    FeeTerms,
    ListingChange,
    ListingPage,
    OrderPage,
    SettlementLine,
    SettlementPage,
    StoreListing,
    StoreOrder,
    Tracking,
    Word,
)
from .refund_line import RefundLine
from .return_protocol import ReturnPage, ReturnWord
from .returns_wire import FairReturns, fair_answer, fair_return
from .wire import Buyer, Short, Time, Wire, clip, minor, order_lines, order_state, path_part, ppm, refund_body, rows_of

R = TypeVar("R")
M = TypeVar("M", bound=BaseModel)
_STATES = {"on": "live", "off": "paused", "closed": "ended"}
_STATUS = {ours: theirs for theirs, ours in _STATES.items()}


class _Pass(Wire):
    # Its name for a pass is a word that Python keeps for itself.
    word: str = Field(alias="pass", min_length=1, max_length=2000)


class _Fee(Wire):
    group: Short
    percent: Short
    least: Short = "0"


class _Me(Wire):
    name: Short
    land: Short
    money: Short
    may: list[Short]
    carriers: list[Short] = Field(default_factory=list)
    account: Short = ""
    fees: list[_Fee] = Field(default_factory=list)
    pieces_most: int | None = None
    offers_most: int | None = None


class _Offer(Wire):
    code: Short
    name: str
    price: Short
    pieces: int
    status: Short
    text: str = ""
    barcode: Short = ""
    makers_number: Short = ""
    maker: Short = ""
    group: Short = ""
    comes_in: Short = ""
    grams: int = 0


class _Offers(Wire):
    offers: list[dict[str, object]]
    on: str | None


class _Result(Wire):
    code: Short
    ok: bool
    reason: str = ""
    # It would be taken another time.
    again: bool = False


class _Batch(Wire):
    state: Short
    results: list[_Result] = Field(default_factory=list)


class _Line(Wire):
    line: int
    code: Short
    name: str = ""
    pieces: int
    each: Short


class _Order(Wire):
    order: Short
    at: Time
    money: Short
    state: Short
    arrive_by: date | None = None
    send_to: Buyer
    lines: list[_Line]


class _Orders(Wire):
    orders: list[dict[str, object]]
    since: int
    more: bool


class _PayoutRow(Wire):
    row: int
    order: Short = ""
    about: Short
    amount: Short
    at: Time


class _Payout(Wire):
    payout: Short
    paid: Short
    at: Time
    rows: list[_PayoutRow]


class _Payouts(Wire):
    payouts: list[dict[str, object]]
    after: int
    more: bool


# Its words for what a row is about.
_ABOUT = {"sale": "sale", "commission": "fee", "commission back": "fee_back", "money back": "refund", "correction": "adjustment"}


class _Parcel(Wire):
    note: Short


class _Parcels(Wire):
    parcels: list[_Parcel]


class _Picture(Wire):
    id: Short


class _Done(Wire):
    pass


_CODES: dict[str, type[Refused | Postponed]] = {"unknown_carrier": CarrierUnknown}


@dataclass(frozen=True)
class _Key:
    name: str
    secret: str


class MarketApi:
    """key: 'name:secret'. A pass is fetched with it, and fetched anew when it has run out; nothing is done without one."""

    batch_most = 250
    tells_settlements = True

    def __init__(self, address: str, key: str, deadline: float, transport: httpx.BaseTransport | None = None) -> None:
        self.key = _Key(*key.partition(":")[::2])
        self.call = Caller("the marketplace", address, {}, deadline, transport, _CODES)
        self.money = ""

    def _with_pass(self, do: Callable[[], R]) -> R:
        """Do something with a pass that holds. Refusing a pass says that nothing was done, so it may be done again with a new one."""
        if "fair-pass" in self.call.client.headers:
            try:
                return do()
            except Denied:
                pass
        said = self.call.tell("POST", "/pass", {"name": self.key.name, "secret": self.key.secret}, _Pass)
        self.call.client.headers["fair-pass"] = said.word
        return do()

    def _ask(self, path: str, model: type[M], **params: object) -> M:
        return self._with_pass(lambda: self.call.ask(path, model, **params))

    def _tell(self, method: str, path: str, body: object, model: type[M]) -> M:
        return self._with_pass(lambda: self.call.tell(method, path, body, model))

    def account(self) -> Account:
        said = self._ask("/me", _Me)
        self.money = said.money
        try:
            fees = tuple(FeeTerms(fee.group, ppm(fee.percent), minor(fee.least, said.money)) for fee in said.fees)
        except ValueError as error:
            raise Malformed(f"the marketplace's fees cannot be read: {error}") from error
        units, listings = said.pieces_most, said.offers_most
        shows = (fees, units, listings, tuple(said.carriers))
        return Account(said.name, said.land, said.money, list(said.may), "", 0, *shows, number=said.account)

    def budget(self) -> Budget | None:
        return self.call.budget

    def _money(self) -> str:
        """Its money, which offers do not name."""
        return self.money or self.account().currency

    def listings(self) -> Iterator[ListingPage]:
        money, after = self._money(), ""
        while True:
            page = self._ask("/offers", _Offers, after=after)
            bad: list[str] = []
            yield ListingPage(rows_of(page.offers, lambda row: _listing(_Offer.model_validate(row), money), "code", bad), bad)
            if not page.on or page.on <= after:
                return
            after = page.on

    def orders(self, cursor: str) -> OrderPage:
        page = self._ask("/orders", _Orders, since=cursor or "0")
        bad: list[str] = []
        orders = rows_of(page.orders, lambda row: _order(_Order.model_validate(row)), "order", bad)
        return OrderPage(orders, str(page.since), page.more, bad)

    def settlements(self, cursor: str) -> SettlementPage:
        money, page = self._money(), self._ask("/payouts", _Payouts, after=cursor or "0")
        bad: list[str] = []
        lines = [
            line for one in rows_of(page.payouts, lambda row: _payout(_Payout.model_validate(row), money), "payout", bad) for line in one
        ]
        return SettlementPage(lines, str(page.after), page.more, bad)

    def change_listing(self, change: ListingChange, key: str) -> None:
        raise Refused("the marketplace takes changes in batches")

    def find_change(self, change: ListingChange, key: str) -> bool:
        if change.words is not None:
            return False
        return change.shown_by(_listing(self._ask(f"/offers/{path_part(change.sku)}", _Offer), change.currency))

    def send_batch(self, changes: list[ListingChange], key: str) -> None:
        self._tell("PUT", f"/batches/{path_part(key)}", {"changes": [_body(one) for one in changes]}, _Done)

    def find_batch(self, key: str) -> BatchAnswer | None:
        try:
            said = self._ask(f"/batches/{path_part(key)}", _Batch)
        except NotThere:
            return None
        results = {one.code: "" if one.ok else one.reason or "no reason was given" for one in said.results}
        return BatchAnswer(said.state == "done", results, frozenset(one.code for one in said.results if one.again and not one.ok))

    def keep_picture(self, data: bytes, kind: str) -> str:
        name: str = self._with_pass(lambda: self.call.tell_bytes("/pictures", data, kind, _Picture)).id
        return name

    def fulfil(self, order: str, tracking: Tracking, reference: str) -> None:
        body = {"note": reference, "parcel": tracking.number, "carrier": tracking.carrier}
        self._tell("POST", f"/orders/{path_part(order)}/parcels", body, _Done)

    def find_fulfilment(self, order: str, reference: str) -> bool:
        return any(one.note == reference for one in self._ask(f"/orders/{path_part(order)}/parcels", _Parcels).parcels)

    def refund(self, order: str, lines: list[RefundLine], currency: str, reference: str) -> None:
        self._tell(
            "POST",
            f"/orders/{path_part(order)}/refund",
            {"lines": [refund_body(one, currency, "money") for one in lines], "reference": reference},
            _Done,
        )

    def returns(self, cursor: str) -> ReturnPage:
        money, page = self._money(), self._ask("/returns", FairReturns, since=cursor or "0")
        bad: list[str] = []
        asked = rows_of(page.asked, lambda row: fair_return(row, money), "ticket", bad)
        return ReturnPage(asked, str(page.since), page.more, bad)

    def answer_return(self, word: ReturnWord) -> None:
        self._tell("PUT", f"/returns/{path_part(word.number)}", fair_answer(word), _Done)

    def cancel(self, order: str) -> None:
        self._tell("POST", f"/orders/{path_part(order)}/cancel", {}, _Done)

    def tell_of_orders(self, address: str, secret: str) -> None:
        raise Refused("the marketplace does not tell of orders; they are read by the clock")

    def read_word(self, headers: dict[str, str], body: bytes, secret: str) -> Word:
        raise Denied("the marketplace does not tell of orders")


def _body(change: ListingChange) -> dict[str, Any]:
    body: dict[str, Any] = {"code": change.sku, "pieces": change.quantity}
    if change.price is not None:
        body["price"] = plain(change.price, change.currency)
    if change.state is not None:
        body["status"] = _STATUS[change.state]
    words = change.words
    if words is not None:
        body |= {
            "name": words.title,
            "text": words.description,
            "barcode": words.gtin,
            "makers_number": words.mpn,
            "maker": words.brand,
            "group": words.category,
            "comes_in": words.options,
            "goes_with": words.family,
            "labels": words.tags,
            "grams": words.weight_g,
            "pictures": list(words.pictures),
        }
        if change.price is not None:
            body["was_price"] = "" if words.compare_at is None else plain(words.compare_at, change.currency)
    return body


def _listing(one: _Offer, money: str) -> StoreListing:
    state = _STATES.get(one.status)
    if state is None:
        raise Refused(f"the marketplace shows {one.code} in a state that we do not know: {one.status}")
    try:
        price = minor(one.price, money)
    except ValueError as error:
        raise Malformed(f"the marketplace's price of {one.code} cannot be read: {error}") from error
    words = (one.barcode, one.makers_number, one.maker, one.group, one.comes_in)
    shown = (max(one.pieces, 0), state)
    return StoreListing(one.code, clip(one.name), price, money, *shown, *words, max(one.grams, 0), one.text[:20_000])


def _payout(one: _Payout, money: str) -> list[SettlementLine]:
    unknown = sorted({row.about for row in one.rows} - _ABOUT.keys())
    if unknown:
        raise ValueError(f"a row is about {unknown[0]!r}, which nobody here knows")
    lines = [SettlementLine(one.payout, str(row.row), row.order, _ABOUT[row.about], minor(row.amount, money), row.at) for row in one.rows]
    return [*lines, SettlementLine(one.payout, "payout", "", "payout", minor(one.paid, money), one.at)]


def _order(one: _Order) -> StoreOrder:
    lines = order_lines(((x.line, x.code, x.pieces, x.each, x.name) for x in one.lines), one.money)
    to = Address(**one.send_to.model_dump())
    return StoreOrder(one.order, one.at, one.money, to, lines, one.arrive_by, *order_state(one.state))
