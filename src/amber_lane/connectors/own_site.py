"""The own-site shop: JSON over HTTP with a key and a secret, and a signed word of each new order."""

from __future__ import annotations

import hashlib
import hmac
from collections.abc import Iterator
from dataclasses import asdict
from datetime import date, datetime
from typing import Any

import httpx
from pydantic import Field, TypeAdapter, ValidationError

from ..core.currency import plain
from .errors import CarrierUnknown, Denied, Malformed, Postponed, Refused
from .http import Caller
from .protocols import (
    Account,
    Address,
    BatchAnswer,
    Budget,
    ListingChange,
    ListingPage,
    OrderPage,
    SettlementPage,
    StoreListing,
    StoreOrder,
    Tracking,
    Word,
)
from .refund_line import RefundLine
from .return_protocol import ReturnPage, ReturnWord
from .returns_wire import ShopReturns, shop_answer, shop_return
from .wire import BesidePrices, Buyer, Name, Short, Time, Wire, clip, minor, order_lines, order_state, path_part, refund_body, rows_of


class _Account(Wire):
    name: Short
    country: Short
    currency: Short
    may: list[Short]
    carriers: list[Short] = Field(default_factory=list)
    account: Short = ""


class _Listing(Wire):
    sku: Short
    title: str
    price: Short
    currency: Short
    quantity: int
    state: Short
    gtin: Short = ""
    mpn: Short = ""
    brand: Short = ""
    category: Short = ""
    options: Short = ""
    weight_g: int = 0
    description: str = ""


class _Listings(Wire):
    listings: list[dict[str, object]]
    next: str | None


class _Line(Wire):
    line_no: int
    sku: Short
    title: str = ""
    quantity: int
    unit_price: Short


class _Order(Wire):
    number: Name
    ordered_at: Time
    currency: Short
    state: Short
    lines: list[_Line]
    buyer: Buyer
    promised_by: date | None = None
    shipping: Short | None = None
    discount: Short | None = None
    tax: Short | None = None


class _Orders(Wire):
    orders: list[dict[str, object]]
    cursor: int
    more: bool


class _Done(Wire):
    pass


class _Picture(Wire):
    id: Short


class _Fulfilment(Wire):
    reference: Short


class _Fulfilments(Wire):
    fulfilments: list[_Fulfilment]


_WHEN: TypeAdapter[datetime] = TypeAdapter(Time)
_CODES: dict[str, type[Refused | Postponed]] = {"unknown_carrier": CarrierUnknown, "busy": Postponed}


class OwnSite:
    """key: 'name:secret'."""

    batch_most = 0
    tells_settlements = False

    def __init__(self, address: str, key: str, deadline: float, transport: httpx.BaseTransport | None = None) -> None:
        name, _, secret = key.partition(":")
        auth = httpx.BasicAuth(name, secret)
        self.call = Caller("the shop", address, {}, deadline, transport, _CODES)
        self.call.client.auth = auth

    def account(self) -> Account:
        said = self.call.ask("/account", _Account)
        return Account(said.name, said.country, said.currency, list(said.may), carriers=tuple(said.carriers), number=said.account)

    def listings(self) -> Iterator[ListingPage]:
        after = ""
        while True:
            page = self.call.ask("/listings", _Listings, after=after)
            bad: list[str] = []
            yield ListingPage(rows_of(page.listings, lambda row: _listing(_Listing.model_validate(row)), "sku", bad), bad)
            if not page.next or page.next <= after:
                return
            after = page.next

    def orders(self, cursor: str) -> OrderPage:
        page = self.call.ask("/orders", _Orders, cursor=cursor or "0")
        bad: list[str] = []
        orders = rows_of(page.orders, lambda row: _order(_Order.model_validate(row)), "number", bad)
        return OrderPage(orders, str(page.cursor), page.more, bad)

    def change_listing(self, change: ListingChange, key: str) -> None:
        body: dict[str, Any] = {"quantity": change.quantity, "state": change.state}
        words, method = change.words, "PATCH"
        if words is not None:
            body |= asdict(words) | {"compare_at": None, "pictures": list(words.pictures)}
            method = "PUT"
        if change.price is not None:
            body["price"] = plain(change.price, change.currency)
        if words is not None and change.price is not None:
            body["compare_at"] = "" if words.compare_at is None else plain(words.compare_at, change.currency)
        self.call.tell(method, f"/listings/{path_part(change.sku)}", body, _Done, {"Idempotency-Key": key})

    def find_change(self, change: ListingChange, key: str) -> bool:
        if change.words is not None:
            # Words may be sent again at will; whether all of them are there is not asked one by one.
            return False
        return change.shown_by(_listing(self.call.ask(f"/listings/{path_part(change.sku)}", _Listing)))

    def send_batch(self, changes: list[ListingChange], key: str) -> None:
        raise Refused("the shop takes changes one by one")

    def find_batch(self, key: str) -> BatchAnswer | None:
        raise Refused("the shop takes changes one by one")

    def keep_picture(self, data: bytes, kind: str) -> str:
        return self.call.tell_bytes("/pictures", data, kind, _Picture).id

    def budget(self) -> Budget | None:
        return self.call.budget

    def fulfil(self, order: str, tracking: Tracking, reference: str) -> None:
        body = {"reference": reference, "tracking_number": tracking.number, "carrier": tracking.carrier}
        self.call.tell("POST", f"/orders/{path_part(order)}/fulfilments", body, _Done, {"Idempotency-Key": reference})

    def find_fulfilment(self, order: str, reference: str) -> bool:
        said = self.call.ask(f"/orders/{path_part(order)}/fulfilments", _Fulfilments)
        return any(one.reference == reference for one in said.fulfilments)

    def refund(self, order: str, lines: list[RefundLine], currency: str, reference: str) -> None:
        self.call.tell(
            "POST",
            f"/orders/{path_part(order)}/refund",
            {"lines": [refund_body(one, currency, "amount") for one in lines], "reference": reference},
            _Done,
        )

    def returns(self, cursor: str) -> ReturnPage:
        page = self.call.ask("/returns", ShopReturns, cursor=cursor or "0")
        bad: list[str] = []
        return ReturnPage(rows_of(page.returns, shop_return, "number", bad), str(page.cursor), page.more, bad)

    def answer_return(self, word: ReturnWord) -> None:
        self.call.tell("POST", f"/returns/{path_part(word.number)}/answer", shop_answer(word), _Done)

    def cancel(self, order: str) -> None:
        self.call.tell("POST", f"/orders/{path_part(order)}/cancel", {}, _Done)

    def settlements(self, cursor: str) -> SettlementPage:
        raise Refused("the shop tells no settlements; import the sheet of what it paid out")

    def tell_of_orders(self, address: str, secret: str) -> None:
        self.call.tell("PUT", "/webhook", {"address": address, "secret": secret}, _Done)

    def read_word(self, headers: dict[str, str], body: bytes, secret: str) -> Word:
        at, signature = (headers.get(name, "").encode("utf-8", "replace") for name in ("shop-signed-at", "shop-signature"))
        wanted = hmac.new(secret.encode(), at + b"\n" + body, hashlib.sha256).hexdigest()
        if not hmac.compare_digest(wanted.encode(), signature):
            raise Denied("the word of a new order is not signed by the shop")
        try:
            return Word(_WHEN.validate_python(at.decode()), wanted, _order(_Order.model_validate_json(body)))
        except (ValidationError, ValueError) as error:
            raise Malformed("the word of a new order cannot be read") from error


def _listing(one: _Listing) -> StoreListing:
    if one.state not in ("live", "paused", "ended"):
        raise Refused(f"the shop shows {one.sku} in a state that we do not know: {one.state}")
    try:
        price = minor(one.price, one.currency)
    except ValueError as error:
        raise Malformed(f"the shop's price of {one.sku} cannot be read: {error}") from error
    return StoreListing(
        one.sku,
        clip(one.title),
        price,
        one.currency,
        max(one.quantity, 0),
        one.state,
        one.gtin,
        one.mpn,
        one.brand,
        one.category,
        one.options,
        max(one.weight_g, 0),
        one.description[:20_000],
    )


def _order(one: _Order) -> StoreOrder:
    beside = BesidePrices(one.shipping, one.discount, one.tax)
    lines = order_lines(((x.line_no, x.sku, x.quantity, x.unit_price, x.title) for x in one.lines), one.currency, beside)
    return StoreOrder(
        one.number,
        one.ordered_at,
        one.currency,
        Address(**one.buyer.model_dump()),
        lines,
        one.promised_by,
        *order_state(one.state),
    )
