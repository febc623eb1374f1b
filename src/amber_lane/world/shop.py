"""The own-site shop: listings, orders by cursor, fulfilments with tracking, and a signed word of new orders."""

from __future__ import annotations

import base64
import hashlib
import hmac
import json
from typing import Any

from fastapi import APIRouter, Header, HTTPException, Request
from pydantic import BaseModel, ConfigDict

from .life import DAY, show
from .state import World, iso, pence, pounds

router = APIRouter(prefix="/shop/api")
STATES = ("live", "paused", "ended")


def world_of(request: Request) -> World:
    world: World = request.app.state.world
    return world


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
        "name": "Dusk & Dial shop",
        "country": "GB",
        "currency": "GBP",
        "may": ["read listings", "write listings", "read orders", "write fulfilments"],
        "carriers": ["Swiftwing Post"],
    }


def _listing(row: dict[str, Any]) -> dict[str, Any]:
    return {k: row[k] for k in ("sku", "title", "gtin", "mpn", "brand", "category", "options", "weight_g", "quantity", "state")} | {
        "price": pounds(row["price"]),
        "currency": "GBP",
    }


@router.get("/listings")
def listings(request: Request, after: str = "", limit: int = 250) -> dict[str, Any]:
    world = enter(request)
    rows = world.rows("select * from shop_listing where sku > ? order by sku limit ?", (after, min(limit, 250)))
    return {"listings": [_listing(row) for row in rows], "next": rows[-1]["sku"] if len(rows) == min(limit, 250) else None}


@router.get("/listings/{sku}")
def listing(request: Request, sku: str) -> dict[str, Any]:
    row = enter(request).one("select * from shop_listing where sku = ?", (sku,))
    if not row:
        raise HTTPException(404, f"no listing {sku}")
    return _listing(row)


@router.patch("/listings/{sku}")
def change_listing(request: Request, sku: str, change: Change, idempotency_key: str = Header("")) -> dict[str, Any]:
    world = enter(request)
    with world.change() as db:
        row = world.one("select * from shop_listing where sku = ?", (sku,))
        if not row:
            raise HTTPException(404, f"no listing {sku}")
        if idempotency_key and world.one("select 1 from shop_show where sku = ? and key = ?", (sku, idempotency_key)):
            return _listing(row)
        try:
            price = row["price"] if change.price is None else pence(change.price)
        except ValueError as error:
            raise HTTPException(422, str(error)) from error
        quantity = row["quantity"] if change.quantity is None else change.quantity
        state = change.state or row["state"]
        if not 1 <= price <= 100_000_000 or not 0 <= quantity <= 1_000_000 or state not in STATES:
            raise HTTPException(422, "price, quantity or state is out of bounds")
        db.execute("update shop_listing set price = ?, quantity = ?, state = ? where sku = ?", (price, quantity, state, sku))
        show(world, sku, world.now(), "api", idempotency_key)
        return _listing(row | {"price": price, "quantity": quantity, "state": state})


def order_out(row: dict[str, Any]) -> dict[str, Any]:
    body = json.loads(row["body"])
    lines = [line | {"unit_price": pounds(line["unit_price"])} for line in body["lines"]]
    return {
        "number": row["number"],
        "ordered_at": iso(row["at"]),
        "currency": "GBP",
        "state": row["state"],
        "lines": lines,
        "buyer": body["buyer"],
        "promised_by": iso(row["at"] + body["promised_days"] * DAY)[:10],
    }


@router.get("/orders")
def orders(request: Request, cursor: int = 0, limit: int = 100) -> dict[str, Any]:
    world = enter(request)
    rows = world.rows("select * from shop_order where seq > ? order by seq limit ?", (cursor, min(limit, 100)))
    last = rows[-1]["seq"] if rows else cursor
    out = [order_out(row) for row in rows]
    if out and world.luck.random() < world.dial("shop", "duplicates"):
        out += out[:3]
    if world.luck.random() < world.dial("shop", "out_of_order"):
        out.reverse()
    return {"orders": out, "cursor": last, "more": len(rows) == min(limit, 100)}


@router.get("/orders/{number}/fulfilments")
def fulfilments(request: Request, number: str) -> dict[str, Any]:
    rows = enter(request).rows("select reference, tracking_number, carrier from shop_fulfilment where number = ?", (number,))
    return {"fulfilments": rows}


@router.post("/orders/{number}/fulfilments", status_code=201)
def fulfil(request: Request, number: str, body: Fulfilment) -> dict[str, Any]:
    world = enter(request)
    with world.change() as db:
        if not world.one("select 1 from shop_order where number = ?", (number,)):
            raise HTTPException(404, f"no order {number}")
        if body.carrier != "Swiftwing Post":
            raise HTTPException(422, f"this shop does not know the carrier {body.carrier!r}")
        db.execute(
            "insert into shop_fulfilment(number, at, reference, tracking_number, carrier) values (?,?,?,?,?)",
            (number, world.now(), body.reference, body.tracking_number, body.carrier),
        )
        db.execute("update shop_order set state = 'sent' where number = ?", (number,))
    return {"reference": body.reference}


@router.get("/orders/{number}")
def order(request: Request, number: str) -> dict[str, Any]:
    row = enter(request).one("select * from shop_order where number = ?", (number,))
    if not row:
        raise HTTPException(404, f"no order {number}")
    return order_out(row)


@router.post("/orders/{number}/cancel")
def cancel(request: Request, number: str) -> dict[str, Any]:
    world = enter(request)
    with world.change() as db:
        row = world.one("select * from shop_order where number = ?", (number,))
        if not row:
            raise HTTPException(404, f"no order {number}")
        if row["state"] == "sent":
            raise HTTPException(409, "that order has been sent already")
        db.execute("update shop_order set state = 'cancelled' where number = ?", (number,))
    return {"number": number, "state": "cancelled"}


@router.put("/webhook")
def set_webhook(request: Request, body: Webhook) -> dict[str, Any]:
    world = enter(request)
    with world.change():
        world.remember("webhook", body.model_dump())
    return {"address": body.address}


def sign(secret: str, at: str, body: bytes) -> str:
    """The signature that goes with a word of a new order."""
    return hmac.new(secret.encode(), at.encode() + b"\n" + body, hashlib.sha256).hexdigest()
