"""The marketplace: passes that run out, changes taken in batches and answered later, calls counted, fees and an allowance."""

from __future__ import annotations

import json
import secrets
from typing import Any

from fastapi import HTTPException, Request, Response
from pydantic import BaseModel, ConfigDict, Field

from . import counter, fair_money, lands, returns
from .counter import world_of
from .life import HAPPENS
from .partners import SHOPS
from .routes import Router
from .state import World, iso

router = Router(prefix="/fair/api")
SHOP = SHOPS["fair"]
BATCH_MOST = 250
# Its words for what a listing is.
STATUS = {"live": "on", "paused": "off", "ended": "closed"}
_passes: dict[str, float] = {}


class Pass(BaseModel):
    model_config = ConfigDict(extra="forbid")
    name: str
    secret: str


class Change(BaseModel):
    model_config = ConfigDict(extra="forbid")
    code: str
    price: str | None = None
    pieces: int | None = None
    status: str | None = None
    name: str | None = None
    text: str | None = None
    barcode: str | None = None
    makers_number: str | None = None
    maker: str | None = None
    group: str | None = None
    comes_in: str | None = None
    goes_with: str | None = None
    labels: str | None = None
    grams: int | None = None
    was_price: str | None = None
    pictures: list[str] | None = None


class Batch(BaseModel):
    model_config = ConfigDict(extra="forbid")
    changes: list[Change] = Field(min_length=1, max_length=BATCH_MOST)


class Sent(BaseModel):
    model_config = ConfigDict(extra="forbid")
    note: str
    parcel: str
    carrier: str


def _counted(request: Request, response: Response) -> World:
    """Count a call; so many in ten real seconds, told with every answer."""
    world = world_of(request)
    counter.count_call(world, "fair", int(world.fact("fair_calls", 120)), response)
    return world


def enter(request: Request, response: Response) -> World:
    world = _counted(request, response)
    until = _passes.get(request.headers.get("fair-pass", ""))
    if until is None or until < world.now():
        raise HTTPException(401, "this pass has run out" if until else "unknown pass", {"fair-pass-state": "renew"})
    return world


@router.post("/pass", status_code=201)
def make_pass(request: Request, response: Response, body: Pass) -> dict[str, Any]:
    """A pass for ten minutes of the world's time."""
    world = _counted(request, response)
    if (body.name, body.secret) != ("dusk-dial", f"{world.key}-fair"):
        raise HTTPException(403, "unknown name or wrong secret")
    name = secrets.token_urlsafe(18)
    minutes = float(world.fact("fair_pass_minutes", 10))
    _passes[name] = world.now() + minutes * 60_000
    return {"pass": name, "minutes": minutes}


@router.get("/me")
def me(request: Request, response: Response) -> dict[str, Any]:
    world = enter(request, response)
    return {
        "name": SHOP.name,
        "land": lands.here().country,
        "money": lands.here().currency,
        "may": ["read listings", "write listings", "make listings", "read orders", "write fulfilments"],
        "carriers": list(SHOP.carriers),
        "account": "seller 8814",
        "fees": [
            {"group": group, "percent": percent, "least": lands.text(lands.here().amount(least))}
            for group, percent, least in fair_money.FEES
        ],
        "pieces_most": int(world.fact("fair_pieces_most", 5200)),
        "offers_most": int(world.fact("fair_offers_most", 800)),
    }


def _offer(row: dict[str, Any]) -> dict[str, Any]:
    return {
        "code": row["sku"],
        "name": row["title"],
        "text": row["description"],
        "barcode": row["gtin"],
        "makers_number": row["mpn"],
        "maker": row["brand"],
        "group": row["category"],
        "comes_in": row["options"],
        "goes_with": row["family"],
        "labels": row["tags"],
        "grams": row["weight_g"],
        "price": lands.text(row["price"]),
        "was_price": None if row["compare_at"] is None else lands.text(row["compare_at"]),
        "pieces": row["quantity"],
        "status": STATUS[row["state"]],
        "pictures": json.loads(row["pictures"]),
    }


@router.get("/offers")
def offers(request: Request, response: Response, after: str = "") -> dict[str, Any]:
    rows = counter.listings_of(enter(request, response), "fair", after, 200)
    return {"offers": [_offer(row) for row in rows], "on": rows[-1]["sku"] if len(rows) == 200 else None}


@router.get("/offers/{code}")
def offer(request: Request, response: Response, code: str) -> dict[str, Any]:
    return _offer(counter.listing_of(enter(request, response), "fair", code))


@router.put("/batches/{key}", status_code=202)
def put_batch(request: Request, response: Response, key: str, batch: Batch) -> dict[str, Any]:
    """Take a batch of changes; they are done some minutes later. The same key again is the same batch."""
    world = enter(request, response)
    if len({one.code for one in batch.changes}) != len(batch.changes):
        raise HTTPException(422, "a code stands twice in this batch")
    wait = float(world.fact("fair_batch_minutes", 1)) * 60_000
    with world.change() as db:
        known = world.one("select 1 from batch where store = 'fair' and key = ?", (key,))
        if not known:
            due = int(world.now() + wait)
            body = json.dumps([one.model_dump(exclude_none=True) for one in batch.changes])
            db.execute("insert into batch values ('fair', ?, ?, ?, ?, null)", (key, world.now(), due, body))
            world.plan(due, "batch", key=key)
    return {"key": key, "state": "waiting"}


@router.get("/batches/{key}")
def batch(request: Request, response: Response, key: str) -> dict[str, Any]:
    world = enter(request, response)
    row = world.one("select * from batch where store = 'fair' and key = ?", (key,))
    if not row:
        raise HTTPException(404, f"no batch {key}")
    results = json.loads(row["results"]) if row["results"] else None
    return {"key": key, "state": "done" if results is not None else "waiting", "results": results or []}


def do_batch(world: World, event: dict[str, Any]) -> None:
    """Carry out a batch, each change by itself; a share of them fails where the dial says so."""
    key = event["key"]
    row = world.one("select * from batch where store = 'fair' and key = ? and results is null", (key,))
    if not row:
        return
    results = []
    for one in json.loads(row["body"]):
        try:
            if world.luck.random() < world.dial("fair", "part_fails"):
                raise HTTPException(503, "the group of this offer is being sorted; send it again later")
            state = one.get("status")
            if state is not None and state not in STATUS.values():
                raise HTTPException(422, f"there is no status {state!r}")
            given = {ours: one[theirs] for theirs, ours in NAMES.items() if theirs in one}
            if state is not None:
                given["state"] = next(ours for ours, theirs in STATUS.items() if theirs == state)
            _within(world, one["code"], given)
            counter.change(world, "fair", one["code"], given, f"{key}:{one['code']}", make="name" in one)
            results.append({"code": one["code"], "ok": True, "reason": ""})
        except HTTPException as error:
            results.append({"code": one["code"], "ok": False, "reason": str(error.detail), "again": error.status_code == 503})
    world.db.execute("update batch set results = ? where store = 'fair' and key = ?", (json.dumps(results), key))


HAPPENS["batch"] = do_batch


def _within(world: World, code: str, given: dict[str, Any]) -> None:
    """The allowance of offers that are on at once; who is over it may not put another on."""
    if given.get("state") == "live":
        row = world.one("select count(*) as n from shop_listing where store = 'fair' and state = 'live' and sku != ?", (code,))
        if row and row["n"] >= int(world.fact("fair_offers_most", 800)):
            raise HTTPException(422, "your allowance of offers is used up; close another first")


NAMES = {
    "name": "title",
    "text": "description",
    "barcode": "gtin",
    "makers_number": "mpn",
    "maker": "brand",
    "group": "category",
    "comes_in": "options",
    "goes_with": "family",
    "labels": "tags",
    "grams": "weight_g",
    "price": "price",
    "was_price": "compare_at",
    "pieces": "quantity",
    "pictures": "pictures",
}


@router.post("/pictures", status_code=201)
async def picture(request: Request, response: Response) -> dict[str, str]:
    return {"id": counter.keep_picture(enter(request, response), "fair", await request.body())}


@router.get("/orders")
def orders(request: Request, response: Response, since: int = 0) -> dict[str, Any]:
    out, last, more = counter.orders_after(enter(request, response), "fair", since, 100)
    return {"orders": [_order(one) for one in out], "since": last, "more": more}


def _order(one: dict[str, Any]) -> dict[str, Any]:
    return {
        "order": one["number"],
        "at": one["ordered_at"],
        "money": one["currency"],
        "state": one["state"],
        "arrive_by": one["promised_by"],
        "send_to": one["buyer"],
        "lines": [
            {"line": x["line_no"], "code": x["sku"], "name": x["title"], "pieces": x["quantity"], "each": x["unit_price"]}
            for x in one["lines"]
        ],
    }


@router.get("/orders/{number}/parcels")
def parcels(request: Request, response: Response, number: str) -> dict[str, Any]:
    found = counter.fulfilments_of(enter(request, response), "fair", number)
    return {"parcels": [{"note": one["reference"], "parcel": one["tracking_number"], "carrier": one["carrier"]} for one in found]}


@router.post("/orders/{number}/parcels", status_code=201)
def sent(request: Request, response: Response, number: str, body: Sent) -> dict[str, Any]:
    counter.fulfil(enter(request, response), "fair", number, body.note, body.parcel, body.carrier)
    return {"note": body.note}


@router.get("/payouts")
def payouts(request: Request, response: Response, after: int = 0) -> dict[str, Any]:
    """What is paid out for each day of orders, the day after at two in the morning; after: the number of a day that is known."""
    found, last, more = fair_money.payouts_after(enter(request, response), after, 40)
    return {"payouts": found, "after": last, "more": more}


@router.get("/returns")
def asked_back(request: Request, response: Response, since: int = 0) -> dict[str, Any]:
    found, last, more = returns.after(enter(request, response), "fair", since)
    return {"asked": [returns.fair_out(one) for one in found], "since": last, "more": more}


@router.put("/returns/{number}")
def answer_return(request: Request, response: Response, number: str, body: returns.FairAnswer) -> dict[str, Any]:
    world = enter(request, response)
    returns.answer(world, "fair", number, returns.SAID.get(body.say, ""), body.our_number, body.to, body.because)
    return {"ticket": number, "status": body.say}


class RefundLine(BaseModel):
    line: int
    quantity: int = 0
    money: str | None = None


class Refund(BaseModel):
    lines: list[RefundLine]
    reference: str


@router.post("/orders/{number}/refund")
def refund(request: Request, response: Response, number: str, body: Refund) -> dict[str, Any]:
    world = enter(request, response)
    counter.refund(world, "fair", number, [(one.line, one.quantity, one.money) for one in body.lines], body.reference)
    return {"order": number, "state": "refunded", "at": iso(world.now())}


@router.post("/orders/{number}/cancel")
def cancel(request: Request, response: Response, number: str) -> dict[str, Any]:
    world = enter(request, response)
    counter.cancel(world, "fair", number)
    return {"order": number, "state": "cancelled", "at": iso(world.now())}
