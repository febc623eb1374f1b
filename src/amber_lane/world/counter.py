"""What every store of the world does alike: listings shown and changed, orders told, parcels noted, pictures kept."""

from __future__ import annotations

import hashlib
import json
import time
from collections.abc import Callable
from typing import Any

from fastapi import HTTPException, Request, Response

from . import lands
from .life import DAY, show
from .partners import SHOPS
from .state import World, iso

STATES = ("live", "paused", "ended")
WORDS = ("title", "description", "gtin", "mpn", "brand", "category", "options", "tags", "family")


def world_of(request: Request) -> World:
    world: World = request.app.state.world
    return world


def listings_of(world: World, store: str, after: str, limit: int) -> list[dict[str, Any]]:
    return world.rows("select * from shop_listing where store = ? and sku > ? order by sku limit ?", (store, after, limit))


def listing_of(world: World, store: str, sku: str) -> dict[str, Any]:
    """One listing; HTTPException 404 where there is none."""
    row = world.one("select * from shop_listing where store = ? and sku = ?", (store, sku))
    if not row:
        raise HTTPException(404, f"no listing {sku}")
    return row


def change(world: World, store: str, sku: str, given: dict[str, Any], key: str, make: bool = False) -> dict[str, Any]:
    """Change what is given of a listing (price as text), or make it; the same key again changes nothing. The row as it is now."""
    with world.change() as db:
        row = world.one("select * from shop_listing where store = ? and sku = ?", (store, sku))
        if row and key and world.one("select 1 from shop_show where store = ? and sku = ? and key = ?", (store, sku, key)):
            return row
        if not row:
            if not make:
                raise HTTPException(404, f"no listing {sku}")
            db.execute(
                "insert into shop_listing(store, sku, title, gtin, mpn, brand, category, options, weight_g, price, quantity, state, "
                "popularity) values (?,?,'','','','','','',0,0,0,'paused',1.2)",
                (store, sku),
            )
            row = listing_of(world, store, sku)
        new = row | _checked(given)
        if not 1 <= new["price"] <= 100_000_000 or not 0 <= new["quantity"] <= 1_000_000 or new["state"] not in STATES:
            raise HTTPException(422, "price, quantity or state is out of bounds")
        if not new["title"].strip() or len(new["title"]) > int(world.fact(f"{store}_title_most", 200)):
            raise HTTPException(422, f"the title must have 1 to {int(world.fact(f'{store}_title_most', 200))} letters")
        columns = [*WORDS, "weight_g", "price", "compare_at", "quantity", "state", "pictures"]
        db.execute(
            f"update shop_listing set {', '.join(f'{name} = ?' for name in columns)} where store = ? and sku = ?",
            [*(new[name] for name in columns), store, sku],
        )
        show(world, store, sku, world.now(), "api", key)
        return listing_of(world, store, sku)


def _checked(given: dict[str, Any]) -> dict[str, Any]:
    out = {name: value for name, value in given.items() if value is not None}
    try:
        for name in ("price", "compare_at"):
            if name in out:
                out[name] = lands.minor_of(out[name]) if out[name] != "" else None
    except ValueError as error:
        raise HTTPException(422, str(error)) from error
    if "pictures" in out:
        out["pictures"] = json.dumps(out["pictures"])
    return out


def orders_after(world: World, store: str, cursor: int, limit: int) -> tuple[list[dict[str, Any]], int, bool]:
    """Orders after a cursor, the new cursor, whether there are more; the fault dials of a store turn them about."""
    rows = world.rows("select * from shop_order where store = ? and seq > ? order by seq limit ?", (store, cursor, limit))
    last = rows[-1]["seq"] if rows else cursor
    out = [order_out(row) for row in rows]
    if out and world.luck.random() < world.dial(store, "duplicates"):
        out += out[:3]
    if world.luck.random() < world.dial(store, "out_of_order"):
        out.reverse()
    return out, last, len(rows) == limit


def order_of(world: World, store: str, number: str) -> dict[str, Any]:
    row = world.one("select * from shop_order where store = ? and number = ?", (store, number))
    if not row:
        raise HTTPException(404, f"no order {number}")
    return row


def order_out(row: dict[str, Any]) -> dict[str, Any]:
    body = json.loads(row["body"])
    lines = [line | {"unit_price": lands.text(line["unit_price"])} for line in body["lines"]]
    return {
        "number": row["number"],
        "ordered_at": iso(row["at"]),
        "currency": lands.here().currency,
        "state": row["state"],
        "lines": lines,
        "shipping": lands.text(body.get("shipping", 0)),
        "discount": lands.text(body.get("discount", 0)),
        "buyer": body["buyer"],
        "promised_by": iso(row["at"] + body["promised_days"] * DAY)[:10],
    }


# Who follows that an order has left.
SENT: list[Callable[[World, str], None]] = []


def fulfil(world: World, store: str, number: str, reference: str, tracking: str, carrier: str) -> None:
    """Note a parcel of an order; a store takes only carriers by the names it has for them."""
    with world.change() as db:
        order_of(world, store, number)
        if carrier not in SHOPS[store].carriers:
            raise HTTPException(422, {"code": "unknown_carrier", "says": f"this shop does not know the carrier {carrier!r}"})
        db.execute(
            "insert into shop_fulfilment(store, number, at, reference, tracking_number, carrier) values (?,?,?,?,?,?)",
            (store, number, world.now(), reference, tracking, carrier),
        )
        db.execute("update shop_order set state = 'sent' where store = ? and number = ?", (store, number))
        for tell in SENT:
            tell(world, number)


def fulfilments_of(world: World, store: str, number: str) -> list[dict[str, Any]]:
    return world.rows("select reference, tracking_number, carrier from shop_fulfilment where store = ? and number = ?", (store, number))


def cancel(world: World, store: str, number: str) -> None:
    with world.change() as db:
        if order_of(world, store, number)["state"] == "sent":
            raise HTTPException(409, "that order has been sent already")
        ended(world, store, number)
        db.execute("update shop_order set state = 'cancelled' where store = ? and number = ?", (store, number))


def ended(world: World, store: str, number: str) -> None:
    """Note when an order was cancelled, the first time: its money goes back that day."""
    row = order_of(world, store, number)
    if row["state"] != "cancelled":
        body = json.loads(row["body"]) | {"ended_at": world.now()}
        world.db.execute("update shop_order set body = ? where store = ? and number = ?", (json.dumps(body), store, number))


def _back(line: dict[str, Any], n: int, amount: str | None) -> int:
    if amount is None:
        return int(line["unit_price"] * (n or line["quantity"]))
    try:
        minor = lands.minor_of(amount)
    except ValueError as error:
        raise HTTPException(422, str(error)) from error
    if minor <= 0:
        raise HTTPException(422, "an amount to be given back is above 0")
    return minor


def refund(world: World, store: str, number: str, lines: list[tuple[int, int, str | None]], reference: str) -> None:
    """Give money of some lines back, once by its reference: (line, how many, 0 = all of it; an amount as text, None = what they were sold
    for). The order is refunded with its last penny."""
    with world.change() as db:
        order = json.loads(order_of(world, store, number)["body"])
        there = {line["line_no"]: line for line in order["lines"]}
        if any(line not in there or n > there[line]["quantity"] for line, n, _ in lines):
            raise HTTPException(422, "that order has no such line, or not so many of it")
        given = world.fact("refunds", {}) or {}
        if reference not in given:
            paid = sum(_back(there[line], n, amount) for line, n, amount in lines)
            goods = sum(line["unit_price"] * line["quantity"] for line in order["lines"])
            whole = goods + order.get("shipping", 0) - order.get("discount", 0)
            before = sum(lands.minor_of(one["paid"]) for one in given.values() if (one["store"], one["order"]) == (store, number))
            if any(amount is not None for *_, amount in lines) and before + paid > whole:
                raise HTTPException(422, f"{lands.text(whole - before)} of that order is left to be given back")
            told = {"store": store, "order": number, "lines": [line for line, *_ in lines], "paid": lands.text(paid), "at": world.now()}
            given = {**given, reference: told}
            world.remember("refunds", given)
            if before + paid >= min(goods, whole):
                db.execute("update shop_order set state = 'refunded' where store = ? and number = ?", (store, number))


def keep_picture(world: World, store: str, data: bytes) -> str:
    """Keep a picture; its name is made from its bytes, so the same one is kept once."""
    if not data.startswith((b"\xff\xd8\xff", b"\x89PNG", b"RIFF")):
        raise HTTPException(422, "that is not a picture that we can show")
    name = hashlib.sha256(data).hexdigest()[:24]
    with world.change() as db:
        db.execute("insert or ignore into shop_picture values (?,?,?)", (f"{store}-{name}", store, data))
    return f"{store}-{name}"


def count_call(world: World, service: str, limit: int, response: Response) -> None:
    """Count a call of so many in ten real seconds, told with every answer; HTTPException 429 beyond."""
    calls, now = world.calls[service], time.monotonic()
    while calls and calls[0] < now - 10:
        calls.popleft()
    left = limit - len(calls)
    head = {"calls-limit": str(limit), "calls-left": str(max(left - 1, 0)), "calls-again-in": "10"}
    if left <= 0:
        raise HTTPException(429, "too many calls", head | {"retry-after": str(int(calls[0] + 10 - now) + 1)})
    calls.append(now)
    response.headers.update(head)
