"""The own-site shop: listings, orders by cursor, fulfilments with tracking, and a signed word of new orders."""

from __future__ import annotations

import base64
import hashlib
import hmac
import json
from typing import Any

from fastapi import Header, HTTPException, Request
from pydantic import BaseModel, ConfigDict

from . import counter, lands, returns
from .counter import order_out, world_of
from .partners import SHOPS
from .routes import Router
from .state import World

router = Router(prefix="/shop/api")
SHOP = SHOPS["shop"]


def enter(request: Request) -> World:
    """Let in who has the key and the secret; 401 for all others."""
    world = world_of(request)
    given = request.headers.get("authorization", "")
    wanted = "Basic " + base64.b64encode(f"dusk-dial:{world.key}-shop".encode()).decode()
    if not hmac.compare_digest(given.encode(), wanted.encode()):
        raise HTTPException(401, "unknown key or wrong secret")
    return world


class Change(BaseModel):
    model_config = ConfigDict(extra="forbid")
    price: str | None = None
    quantity: int | None = None
    state: str | None = None


class Whole(Change):
    """Everything about a listing; it is made where there is none."""

    title: str | None = None
    description: str | None = None
    gtin: str | None = None
    mpn: str | None = None
    brand: str | None = None
    category: str | None = None
    options: str | None = None
    tags: str | None = None
    family: str | None = None
    weight_g: int | None = None
    compare_at: str | None = None
    pictures: list[str] | None = None


class Fulfilment(BaseModel):
    model_config = ConfigDict(extra="forbid")
    reference: str
    tracking_number: str
    carrier: str


class Webhook(BaseModel):
    address: str
    secret: str


@router.get("/account")
def account(request: Request) -> dict[str, Any]:
    enter(request)
    return {
        "name": SHOP.name,
        "country": lands.here().country,
        "currency": lands.here().currency,
        "may": ["read listings", "write listings", "make listings", "read orders", "write fulfilments"],
        "carriers": list(SHOP.carriers),
        "account": "S-20417",
    }


def _listing(row: dict[str, Any]) -> dict[str, Any]:
    return {k: row[k] for k in ("sku", *counter.WORDS, "weight_g", "quantity", "state")} | {
        "price": lands.text(row["price"]),
        "compare_at": None if row["compare_at"] is None else lands.text(row["compare_at"]),
        "pictures": json.loads(row["pictures"]),
        "currency": lands.here().currency,
    }


@router.get("/listings")
def listings(request: Request, after: str = "", limit: int = 250) -> dict[str, Any]:
    rows = counter.listings_of(enter(request), "shop", after, min(limit, 250))
    return {"listings": [_listing(row) for row in rows], "next": rows[-1]["sku"] if len(rows) == min(limit, 250) else None}


@router.get("/listings/{sku}")
def listing(request: Request, sku: str) -> dict[str, Any]:
    return _listing(counter.listing_of(enter(request), "shop", sku))


@router.patch("/listings/{sku}")
def change_listing(request: Request, sku: str, change: Change, idempotency_key: str = Header("")) -> dict[str, Any]:
    return _listing(counter.change(enter(request), "shop", sku, change.model_dump(), idempotency_key))


@router.put("/listings/{sku}")
def put_listing(request: Request, sku: str, whole: Whole, idempotency_key: str = Header("")) -> dict[str, Any]:
    return _listing(counter.change(enter(request), "shop", sku, whole.model_dump(), idempotency_key, make=True))


@router.post("/pictures", status_code=201)
async def picture(request: Request) -> dict[str, str]:
    return {"id": counter.keep_picture(enter(request), "shop", await request.body())}


@router.get("/orders")
def orders(request: Request, cursor: int = 0, limit: int = 100) -> dict[str, Any]:
    out, last, more = counter.orders_after(enter(request), "shop", cursor, min(limit, 100))
    return {"orders": out, "cursor": last, "more": more}


@router.get("/orders/{number}/fulfilments")
def fulfilments(request: Request, number: str) -> dict[str, Any]:
    return {"fulfilments": counter.fulfilments_of(enter(request), "shop", number)}


@router.post("/orders/{number}/fulfilments", status_code=201)
def fulfil(request: Request, number: str, body: Fulfilment) -> dict[str, Any]:
    counter.fulfil(enter(request), "shop", number, body.reference, body.tracking_number, body.carrier)
    return {"reference": body.reference}


@router.get("/orders/{number}")
def order(request: Request, number: str) -> dict[str, Any]:
    return order_out(counter.order_of(enter(request), "shop", number))


@router.post("/orders/{number}/cancel")
def cancel(request: Request, number: str) -> dict[str, Any]:
    counter.cancel(enter(request), "shop", number)
    return {"number": number, "state": "cancelled"}


class RefundLine(BaseModel):
    line: int
    quantity: int = 0
    amount: str | None = None


class Refund(BaseModel):
    lines: list[RefundLine]
    reference: str


@router.post("/orders/{number}/refund")
def refund(request: Request, number: str, body: Refund) -> dict[str, Any]:
    counter.refund(enter(request), "shop", number, [(one.line, one.quantity, one.amount) for one in body.lines], body.reference)
    return {"number": number, "state": "refunded"}


@router.get("/returns")
def asked_back(request: Request, cursor: int = 0) -> dict[str, Any]:
    found, last, more = returns.after(enter(request), "shop", cursor)
    return {"returns": [returns.shop_out(one) for one in found], "cursor": last, "more": more}


@router.post("/returns/{number}/answer")
def answer_return(request: Request, number: str, body: returns.ShopAnswer) -> dict[str, Any]:
    returns.answer(enter(request), "shop", number, body.state, body.return_number, body.address, body.reason)
    return {"number": number, "state": body.state}


@router.put("/webhook")
def set_webhook(request: Request, body: Webhook) -> dict[str, Any]:
    world = enter(request)
    with world.change():
        world.remember("webhook", body.model_dump())
    return {"address": body.address}


def sign(secret: str, at: str, body: bytes) -> str:
    """The signature that goes with a word of a new order."""
    return hmac.new(secret.encode(), at.encode() + b"\n" + body, hashlib.sha256).hexdigest()
