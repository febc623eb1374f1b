"""The wholesaler's live interface: JSON over HTTP with a bearer key."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import asdict

import httpx
from pydantic import Field

from ..core.currency import plain
from .claim_protocol import ClaimAnswer, ClaimAsk
from .errors import Malformed, NotThere, Unavailable, UnknownOutcome
from .http import Caller
from .protocols import Account, Budget, CatalogueItem, CataloguePage, ItemSeen, OriginTerms, Purchase, PurchaseAnswer, SweepPage, Tracking
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
    purchase_answer,
    purchase_body,
    rows_of,
)

_PAGE = 500
_PAGES_MAX = 2_000


class _Account(Wire):
    name: Short
    country: Short
    currency: Short
    may: list[Short]
    site: Short = ""
    account: Short = ""


class _Tier(Wire):
    at: int
    cost: Short


class _Offer(Wire):
    number: Name
    cost: Short
    currency: Short
    stock: int
    tiers: list[_Tier] = Field(default_factory=list)


class _Item(_Offer):
    title: str
    origin: Short
    gtin: Short = ""
    mpn: Short = ""
    brand: Short = ""
    category: Short = ""
    options: Short = ""
    pack_size: int = 1
    weight_g: int = 0


class _Offers(Wire):
    as_of: Time
    pages: int
    offers: list[dict[str, object]]


class _Items(Wire):
    pages: int
    items: list[dict[str, object]]


class _Purchases(Wire):
    purchases: list[PurchaseOut]


class _Claim(Wire):
    number: Short
    reference: Name
    state: Short
    message: Short = ""
    amount: Short | None = None
    currency: Short = ""
    tracking_number: Short | None = None
    carrier: Short | None = None


class _Claims(Wire):
    claims: list[_Claim]


class _Evidence(Wire):
    name: Name


CLAIM_STATES = ("received", "question", "accepted", "refused", "paid")


class WholesaleApi:
    one_by_one = False

    def __init__(self, address: str, key: str, deadline: float, transport: httpx.BaseTransport | None = None) -> None:
        self.call = Caller("the wholesaler", address, {"Authorization": f"Bearer {key}"}, deadline, transport)

    def account(self) -> Account:
        said = self.call.ask("/account", _Account)
        return Account(said.name, said.country, said.currency, list(said.may), said.site, number=said.account)

    def origins(self) -> list[OriginTerms]:
        currency = self.account().currency
        return origin_terms(self.call.ask("/origins", OriginsOut), currency, "the wholesaler")

    def catalogue(self) -> Iterator[CataloguePage]:
        for page in range(1, _PAGES_MAX):
            said = self.call.ask("/items", _Items, page=page, size=_PAGE)
            bad: list[str] = []
            yield CataloguePage(rows_of(said.items, lambda row: _item(_Item.model_validate(row)), "number", bad), bad)
            if page >= said.pages:
                return

    def sweep_page(self, page: int) -> SweepPage:
        said = self.call.ask("/offers", _Offers, page=page, size=_PAGE)
        bad: list[str] = []
        seen = rows_of(said.offers, lambda row: _seen(_Offer.model_validate(row)), "number", bad)
        return SweepPage(said.as_of, seen, min(said.pages, _PAGES_MAX), bad)

    def buy(self, purchase: Purchase) -> PurchaseAnswer:
        key = {"Idempotency-Key": purchase.reference}
        return purchase_answer(self.call.tell("POST", "/purchases", purchase_body(purchase), PurchaseOut, key), "the wholesaler")

    def find_purchases(self, references: list[str]) -> list[PurchaseAnswer]:
        said = self.call.ask("/purchases", _Purchases, reference=",".join(references))
        return [purchase_answer(one, "the wholesaler") for one in said.purchases if one.reference in references]

    def recall(self, reference: str) -> PurchaseAnswer:
        return purchase_answer(self.call.tell("POST", f"/purchases/{path_part(reference)}/withdraw", {}, PurchaseOut), "the wholesaler")

    def keep_evidence(self, data: bytes, kind: str) -> str:
        try:
            return self.call.tell_bytes("/evidence", data, kind, _Evidence).name
        except UnknownOutcome as error:
            raise Unavailable(error.message) from error

    def claim(self, ask: ClaimAsk) -> ClaimAnswer:
        body = {**asdict(ask), "amount": plain(ask.amount, ask.currency), "pictures": list(ask.pictures)}
        try:
            said = _claim(self.call.tell("PUT", f"/claims/{path_part(ask.reference)}", body, _Claim))
        except UnknownOutcome as error:
            # The same again adds nothing there, so it is simply tried again.
            raise Unavailable(error.message) from error
        if said.reference != ask.reference:
            raise Unavailable(f"the supplier was asked about claim {ask.reference} and answered about another")
        return said

    def find_claims(self, references: list[str]) -> list[ClaimAnswer]:
        said = self.call.ask("/claims", _Claims, reference=",".join(references))
        return [_readable(one) for one in said.claims if one.reference in references]

    def item(self, number: str) -> CatalogueItem | None:
        try:
            return _item(self.call.ask(f"/items/{path_part(number)}", _Item))
        except NotThere:
            return None
        except ValueError as error:
            raise Malformed(f"the wholesaler's item {number} cannot be read: {error}") from error

    def budget(self) -> Budget | None:
        return self.call.budget


def _readable(one: _Claim) -> ClaimAnswer:
    """One that cannot be read is told, and stops no other."""
    try:
        return _claim(one)
    except Malformed as error:
        return ClaimAnswer(one.reference, "", one.number, error.message)


def _claim(one: _Claim) -> ClaimAnswer:
    """Malformed when its state or its amount cannot be read."""
    if one.state not in CLAIM_STATES:
        raise Malformed(f"the supplier gives claim {one.reference} a state that we do not know: {one.state}")
    tracking = Tracking(one.tracking_number, one.carrier or "") if one.tracking_number else None
    try:
        amount = None if one.amount is None else minor(one.amount, one.currency)
    except ValueError as error:
        raise Malformed(f"what the supplier pays for claim {one.reference} cannot be read") from error
    if amount is not None and amount < 0:
        raise Malformed(f"what the supplier pays for claim {one.reference} is below nought")
    return ClaimAnswer(one.reference, one.state, one.number, one.message, amount, one.currency.upper(), tracking)


def _tiers(row: _Offer) -> tuple[tuple[int, int], ...]:
    """Costs by quantity; one that cannot be read leaves the plain cost, which is the dearer one."""
    try:
        return tuple((tier.at, minor(tier.cost, row.currency)) for tier in row.tiers)
    except ValueError:
        return ()


def _seen(row: _Offer) -> ItemSeen:
    return ItemSeen(row.number, minor(row.cost, row.currency), row.currency, row.stock, _tiers(row))


def _item(i: _Item) -> CatalogueItem:
    words = (i.gtin, i.mpn, i.brand, i.category, i.options)
    cost = minor(i.cost, i.currency)
    sizes = (max(i.pack_size, 1), max(i.weight_g, 0))
    return CatalogueItem(i.number, clip(i.title), cost, i.currency, i.stock, i.origin, *words, *sizes, _tiers(i))
