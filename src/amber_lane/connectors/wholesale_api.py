"""The wholesaler's live interface: JSON over HTTP with a bearer key."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import asdict

import httpx
from pydantic import Field

from .errors import Malformed
from .http import Caller
from .protocols import (
    Account,
    CatalogueItem,
    OriginTerms,
    Purchase,
    PurchaseAnswer,
    Seen,
    ServiceTerms,
    SweepPage,
    Tracking,
)
from .wire import Name, Short, Time, Wire, clip, minor, rows_of

_PAGE = 500
_PAGES_MAX = 2_000


class _Account(Wire):
    name: Short
    country: Short
    currency: Short
    may: list[Short]


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


class _Band(Wire):
    up_to_g: int = Field(gt=0)
    first: Short
    following: Short


class _Service(Wire):
    code: Short
    name: Short
    country: Short
    first: Short
    following: Short
    free_over: Short | None = None
    days_low: int
    days_high: int
    tracked: bool = True
    bands: list[_Band] = Field(default_factory=list)


class _Origin(Wire):
    code: Short
    name: Short
    country: Short
    cut_off: Short = "16:00"
    handling: Short = "0"
    services: list[_Service]


class _Origins(Wire):
    origins: list[_Origin]


class _Purchase(Wire):
    number: Short
    reference: Short
    state: Short
    told: Short = ""
    billed: Short | None = None
    currency: Short
    tracking_number: Short | None = None
    carrier: Short | None = None


class _Purchases(Wire):
    purchases: list[_Purchase]


class WholesaleApi:
    def __init__(self, address: str, key: str, deadline: float, transport: httpx.BaseTransport | None = None) -> None:
        self.call = Caller("the wholesaler", address, {"Authorization": f"Bearer {key}"}, deadline, transport)
        self.unreadable: list[str] = []

    def account(self) -> Account:
        said = self.call.ask("/account", _Account)
        return Account(said.name, said.country, said.currency, list(said.may))

    def origins(self) -> list[OriginTerms]:
        currency = self.account().currency
        said = self.call.ask("/origins", _Origins)
        try:
            return [
                OriginTerms(
                    o.code,
                    o.name,
                    o.country,
                    o.cut_off,
                    minor(o.handling, currency),
                    [
                        ServiceTerms(
                            s.code,
                            s.name,
                            s.country,
                            minor(s.first, currency),
                            minor(s.following, currency),
                            None if s.free_over is None else minor(s.free_over, currency),
                            s.days_low,
                            s.days_high,
                            s.tracked,
                            _bands(s.bands, currency),
                        )
                        for s in o.services
                    ],
                )
                for o in said.origins
            ]
        except ValueError as error:
            raise Malformed(f"the wholesaler's services cannot be read: {error}") from error

    def catalogue(self) -> Iterator[list[CatalogueItem]]:
        for page in range(1, _PAGES_MAX):
            said = self.call.ask("/items", _Items, page=page, size=_PAGE)
            yield rows_of(said.items, lambda row: _item(_Item.model_validate(row)), "number", self.unreadable)
            if page >= said.pages:
                return

    def sweep_page(self, page: int) -> SweepPage:
        said = self.call.ask("/offers", _Offers, page=page, size=_PAGE)
        bad: list[str] = []
        seen = rows_of(said.offers, lambda row: _seen(_Offer.model_validate(row)), "number", bad)
        return SweepPage(said.as_of, seen, min(said.pages, _PAGES_MAX), bad)

    def buy(self, purchase: Purchase) -> PurchaseAnswer:
        address = asdict(purchase.address)
        address.pop("email")
        body = {
            "reference": purchase.reference,
            "origin": purchase.origin,
            "service": purchase.service,
            "note": purchase.note,
            "address": address,
            "lines": [asdict(line) for line in purchase.lines],
        }
        return _answer(self.call.tell("POST", "/purchases", body, _Purchase, {"Idempotency-Key": purchase.reference}))

    def find_purchases(self, references: list[str]) -> list[PurchaseAnswer]:
        said = self.call.ask("/purchases", _Purchases, reference=",".join(references))
        return [_answer(one) for one in said.purchases if one.reference in references]


def _bands(bands: list[_Band], currency: str) -> tuple[tuple[int, int, int], ...]:
    return tuple(sorted((band.up_to_g, minor(band.first, currency), minor(band.following, currency)) for band in bands))


def _tiers(row: _Offer) -> tuple[tuple[int, int], ...]:
    """Costs by quantity; one that cannot be read leaves the plain cost, which is the dearer one."""
    try:
        return tuple((tier.at, minor(tier.cost, row.currency)) for tier in row.tiers)
    except ValueError:
        return ()


def _seen(row: _Offer) -> Seen:
    return Seen(row.number, minor(row.cost, row.currency), row.currency, row.stock, _tiers(row))


def _item(i: _Item) -> CatalogueItem:
    words = (i.gtin, i.mpn, i.brand, i.category, i.options)
    cost = minor(i.cost, i.currency)
    sizes = (max(i.pack_size, 1), max(i.weight_g, 0))
    return CatalogueItem(i.number, clip(i.title), cost, i.currency, i.stock, i.origin, *words, *sizes, _tiers(i))


def _answer(one: _Purchase) -> PurchaseAnswer:
    if one.state not in ("received", "accepted", "refused", "shipped"):
        raise Malformed(f"the wholesaler gives {one.reference} a state that we do not know: {one.state}")
    tracking = Tracking(one.tracking_number, one.carrier or "") if one.tracking_number else None
    try:
        billed = None if one.billed is None else minor(one.billed, one.currency)
    except ValueError as error:
        raise Malformed(f"the wholesaler's bill for {one.reference} cannot be read") from error
    return PurchaseAnswer(one.reference, one.number, one.state, one.told, billed, tracking)
