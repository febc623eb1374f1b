"""The retail site: one item a call, few calls, sales tax on top of what it shows."""

from __future__ import annotations

from collections.abc import Iterator

import httpx
from pydantic import Field

from .errors import Malformed, NotThere, Refused
from .http import Caller
from .protocols import Account, Budget, CatalogueItem, CataloguePage, OriginTerms, Purchase, PurchaseAnswer, SweepPage
from .wire import (
    Name,
    OriginsOut,
    PurchaseOut,
    Short,
    Time,
    Wire,
    clip,
    minor,
    origin_terms,
    path_part,
    ppm,
    purchase_answer,
    purchase_body,
)


class _Me(Wire):
    shop: Short
    country: Short
    currency: Short
    sales_tax_percent: Short = "0"
    pages: Short = ""
    account: Short = ""
    sending: list[OriginsOut.Origin]


class _Item(Wire):
    number: Name
    name: str
    price: Short
    left: int
    pieces_in_pack: int = Field(1, ge=1, le=100_000)
    grams: int = Field(0, ge=0, le=10_000_000)
    barcode: Short = ""
    made_by: Short = ""
    makers_number: Short = ""
    group: Short = ""
    comes_in: Short = ""
    as_of: Time


class RetailSite:
    one_by_one = True

    def __init__(self, address: str, key: str, deadline: float, transport: httpx.BaseTransport | None = None) -> None:
        self.call = Caller("the retail site", address, {"Site-Key": key}, deadline, transport)
        self.money = ""

    def _me(self) -> _Me:
        said = self.call.ask("/me", _Me)
        self.money = said.currency
        return said

    def account(self) -> Account:
        said = self._me()
        may = ["read items one by one", "send purchase orders"]
        try:
            tax = ppm(said.sales_tax_percent)
        except ValueError as error:
            raise Malformed(f"the retail site's sales tax cannot be read: {error}") from error
        return Account(said.shop, said.country, said.currency, may, said.pages, tax, number=said.account)

    def budget(self) -> Budget | None:
        return self.call.budget

    def origins(self) -> list[OriginTerms]:
        said = self._me()
        return origin_terms(OriginsOut(origins=said.sending), said.currency, "the retail site")

    def catalogue(self) -> Iterator[CataloguePage]:
        """It tells no catalogue: items are brought in by their numbers."""
        return iter(())

    def sweep_page(self, page: int) -> SweepPage:
        raise Refused("the retail site is asked item by item")

    def item(self, number: str) -> CatalogueItem | None:
        money = self.money or self._me().currency
        try:
            one = self.call.ask(f"/items/{path_part(number)}", _Item)
        except NotThere:
            return None
        if one.number != number:
            raise Malformed(f"the retail site answered with {one.number} when asked for {number}")
        try:
            cost = minor(one.price, money)
        except ValueError as error:
            raise Malformed(f"the retail site's price of {number} cannot be read: {error}") from error
        words = (one.barcode, one.makers_number, one.made_by, one.group, one.comes_in)
        return CatalogueItem(one.number, clip(one.name), cost, money, one.left, "online", *words, one.pieces_in_pack, one.grams)

    def buy(self, purchase: Purchase) -> PurchaseAnswer:
        return purchase_answer(self.call.tell("POST", "/orders", purchase_body(purchase), PurchaseOut), "the retail site")

    def recall(self, reference: str) -> PurchaseAnswer:
        raise Refused("the retail site takes no cancelling of an order; ask it for a return")

    def find_purchases(self, references: list[str]) -> list[PurchaseAnswer]:
        found = []
        for reference in references:
            try:
                said = self.call.ask(f"/orders/{path_part(reference)}", PurchaseOut)
            except NotThere:
                continue
            found.append(purchase_answer(said, "the retail site"))
        return found
