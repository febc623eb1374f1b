"""The hands on the practice world: its clock, its dials, small interventions, and the record of what really happened."""

from __future__ import annotations

import json
import random
from datetime import datetime
from email.message import EmailMessage
from typing import Any

from fastapi import HTTPException, Request, Response
from pydantic import BaseModel, ConfigDict, Field

from . import pop
from .counter import world_of
from .dials import DIALS, SERVICES
from .life import buy, live, set_item, show
from .partners import seller_named
from .routes import Router
from .state import World, iso
from .trade import in_its_money

router = Router(prefix="/world")


FACTS = (
    "^(hold_seconds|breaks_off|buyers_a_day|market_share|retail_calls|fair_calls|fair_pass_minutes|fair_batch_minutes|fair_offers_most|fair_title_most|"
    "folder_renamed|folder_comma|folder_utf8|comes_back|complains|asks_back|depot_slips|past_known|office_refuses|shop_sending|shop_free_from|shop_discount|fair_fee_(optics|charts|paper|lights|other))$"
)


class ClockChange(BaseModel):
    model_config = ConfigDict(extra="forbid")
    speed: float | None = Field(None, ge=0, le=3600)
    jump_minutes: float | None = Field(None, gt=0, le=60 * 24 * 60)
    to: datetime | None = None
    next_event: bool = False


class DialChange(BaseModel):
    model_config = ConfigDict(extra="forbid")
    service: str
    name: str
    value: float = Field(ge=0, le=1000)


class ItemChange(BaseModel):
    model_config = ConfigDict(extra="forbid")
    number: str
    supplier: str = "wholesale"
    cost: int | None = Field(None, ge=1)
    pack_size: int | None = Field(None, ge=1)
    renamed: str | None = None
    title: str | None = Field(None, max_length=300)
    stock: int | None = Field(None, ge=0)
    gone: bool | None = None


class Purchase(BaseModel):
    model_config = ConfigDict(extra="forbid")
    sku: str | None = None
    quantity: int | None = Field(None, gt=0)
    country: str | None = None
    store: str | None = None
    buyer: dict[str, str] = Field(default_factory=dict)


class Regret(BaseModel):
    """What a buyer does to an order afterwards."""

    model_config = ConfigDict(extra="forbid")
    number: str
    cancel: bool = False
    quantity: int | None = Field(None, gt=0)
    buyer: dict[str, str] = Field(default_factory=dict)


class Fact(BaseModel):
    model_config = ConfigDict(extra="forbid")
    name: str = Field(pattern=FACTS)
    value: float = Field(ge=0, le=100_000)


@router.get("/clock")
def clock(request: Request) -> dict[str, Any]:
    world = world_of(request)
    return {"now": iso(world.now()), "speed": world.speed}


@router.post("/clock")
def set_clock(request: Request, change: ClockChange) -> dict[str, Any]:
    world = world_of(request)
    with world.lock:
        at = None
        if change.jump_minutes:
            at = world.now() + int(change.jump_minutes * 60_000)
        elif change.to:
            at = int(change.to.timestamp() * 1000)
            if at < world.now():
                raise HTTPException(422, "the world's clock does not go backwards")
        elif change.next_event:
            row = world.one("select min(due) as due from event")
            at = max(world.now(), row["due"]) if row and row["due"] else None
        world.set_clock(at, change.speed)
        request.app.state.hooks.extend(live(world))
    return clock(request)


@router.get("/dials")
def dials(request: Request) -> dict[str, Any]:
    world = world_of(request)
    return {
        "services": [
            {
                "service": service,
                "name": name,
                "dials": [
                    {"name": dial, "message": told, "unit": unit, "value": world.dial(service, dial)}
                    for dial, (told, unit, known) in DIALS.items()
                    if service in known
                ],
            }
            for service, name in SERVICES.items()
        ]
    }


@router.post("/dials")
def turn(request: Request, change: DialChange) -> dict[str, Any]:
    world = world_of(request)
    if change.service not in SERVICES or change.service not in DIALS.get(change.name, ("", "", ()))[2]:
        raise HTTPException(422, "there is no such dial")
    with world.change() as db:
        if change.name == "frozen" and change.value and not world.dial(change.service, "frozen"):
            db.execute("delete from supply_frozen where supplier = ?", (change.service,))
            db.execute(
                "insert into supply_frozen select supplier, number, cost, stock from supply_item where supplier = ?", (change.service,)
            )
            world.remember(f"frozen_at_{change.service}", world.now())
        world.turn(change.service, change.name, change.value)
    return dials(request)


@router.post("/items")
def change_item(request: Request, change: ItemChange) -> dict[str, Any]:
    world = world_of(request)
    with world.change() as db:
        row = world.one("select * from supply_item where supplier = ? and number = ?", (change.supplier, change.number))
        if not row:
            raise HTTPException(404, f"no item {change.number}")
        stock = row["stock"] if change.stock is None else change.stock
        set_item(world, change.supplier, change.number, change.cost or row["cost"], stock, world.now())
        gone = row["gone"] if change.gone is None else int(change.gone)
        db.execute(
            "update supply_item set gone = ?, pack_size = ?, number = ?, title = ? where supplier = ? and number = ?",
            (
                gone,
                change.pack_size or row["pack_size"],
                change.renamed or change.number,
                change.title or row["title"],
                change.supplier,
                change.number,
            ),
        )
    return {"number": change.number}


class ListingChange(BaseModel):
    """Somebody changes a listing in the store's own pages, behind everybody's back; amounts in minor units."""

    sku: str
    store: str = "shop"
    price: int | None = None
    quantity: int | None = None
    state: str | None = None


@router.post("/listings")
def change_listing(request: Request, change: ListingChange) -> dict[str, Any]:
    world = world_of(request)
    with world.change() as db:
        row = world.one("select * from shop_listing where store = ? and sku = ?", (change.store, change.sku))
        if not row:
            raise HTTPException(404, f"no listing {change.sku}")
        given = [row[name] if (value := getattr(change, name)) is None else value for name in ("price", "quantity", "state")]
        db.execute(
            "update shop_listing set price = ?, quantity = ?, state = ? where store = ? and sku = ?", (*given, change.store, change.sku)
        )
        show(world, change.store, change.sku, world.now(), "somebody")
    return {"sku": change.sku}


@router.post("/buy")
def buy_now(request: Request, wish: Purchase) -> dict[str, Any]:
    """Somebody buys now: any SKU that is on sale, or the one named."""
    world = world_of(request)
    with world.change():
        order = buy(world, random.Random(world.luck.random()), world.now(), wish.sku, wish.quantity, wish.country, wish.store, wish.buyer)
    if not order:
        raise HTTPException(409, "nothing of that is on sale")
    request.app.state.hooks.append(order)
    return {"number": order["number"]}


@router.post("/regret")
def regret(request: Request, wish: Regret) -> dict[str, Any]:
    """A buyer cancels or changes an order; its store tells of it again."""
    world = world_of(request)
    with world.change() as db:
        row = world.one("select * from shop_order where number = ?", (wish.number,))
        if not row or row["state"] != "open":
            raise HTTPException(409, f"order {wish.number} is not open")
        body = json.loads(row["body"])
        body["buyer"] |= wish.buyer
        if wish.cancel:
            body["ended_at"] = world.now()
        for line in body["lines"][:1] if wish.quantity else []:
            line["quantity"] = wish.quantity
        db.execute(
            "update shop_order set seq = (select max(seq) + 1 from shop_order), state = ?, body = ? where number = ?",
            ("cancelled" if wish.cancel else "open", json.dumps(body), wish.number),
        )
    return {"number": wish.number}


@router.post("/facts")
def set_fact(request: Request, fact: Fact) -> dict[str, Any]:
    world = world_of(request)
    with world.change():
        world.remember(fact.name, fact.value)
    return {fact.name: fact.value}


class MailToUs(BaseModel):
    model_config = ConfigDict(extra="forbid")
    sender: str = Field(max_length=200)
    subject: str = Field("", max_length=200)
    text: str = Field("", max_length=5000)
    # File names with their text.
    files: dict[str, str] = Field(default_factory=dict)


@router.post("/mail")
def write_to_us(request: Request, ask: MailToUs) -> dict[str, Any]:
    """A mail from somebody lies in our mailbox."""
    message = EmailMessage()
    message["From"], message["To"], message["Subject"] = ask.sender, "orders@amber-lane.invalid", ask.subject
    message.set_content(ask.text or "\n")
    for name, text in ask.files.items():
        kind = ("application", "xml") if name.endswith(".xml") else ("text", "csv")
        message.add_attachment(text.encode(), maintype=kind[0], subtype=kind[1], filename=name)
    pop.put(world_of(request), message.as_bytes())
    return {"subject": ask.subject}


@router.put("/moments/{name}")
def keep_moment(request: Request, name: str) -> dict[str, Any]:
    """Remember the world as it is now, until its process ends."""
    world_of(request).keep(name)
    return {"name": name}


@router.post("/moments/{name}")
def back_to_moment(request: Request, name: str) -> dict[str, Any]:
    """The world is again as it was at that moment, its clock too; what was told to others stays told."""
    world = world_of(request)
    if name not in world.moments:
        raise HTTPException(404, f"no moment {name} was kept")
    world.back(name)
    request.app.state.hooks.clear()
    return {"name": name}


def _counts(world: World, sql: str) -> dict[str, int]:
    return {row["name"]: row["n"] for row in world.rows(sql)}


@router.get("/record")
def record(request: Request) -> dict[str, Any]:
    """What really happened: every purchase and fulfilment, by reference and order."""
    world = world_of(request)
    return {
        "refunds": world.fact("refunds", {}) or {},
        "purchases": world.rows("select id, supplier, reference, at, state, billed, tracking_number from purchase order by id"),
        "fulfilments": world.rows("select store, number, reference, tracking_number, at from shop_fulfilment order by id"),
        "orders": [_paid(row) for row in world.rows("select store, seq, number, at, state, body from shop_order order by seq")],
        "mails": _counts(world, "select reference as name, count(*) as n from mail group by reference"),
    }


def _paid(row: dict[str, Any]) -> dict[str, Any]:
    """An order with what its buyer paid in all instead of what is in it."""
    body = json.loads(row.pop("body"))
    goods = sum(line["unit_price"] * line["quantity"] for line in body["lines"])
    return row | {"paid": goods + body.get("shipping", 0) - body.get("discount", 0)}


@router.get("/record/listings/{sku}")
def shown(request: Request, sku: str, store: str = "shop") -> dict[str, Any]:
    """What a store showed of one SKU, and who changed it; and all that it says of it now."""
    world = world_of(request)
    rows = world.rows("select at, price, quantity, state, by, key from shop_show where store = ? and sku = ? order by seq", (store, sku))
    return {"shown": rows, "now": world.one("select * from shop_listing where store = ? and sku = ?", (store, sku))}


@router.get("/record/printed/{reference}")
def printed(request: Request, reference: str) -> dict[str, Any]:
    """What houses were given to print by a reference, each time that it came."""
    rows = world_of(request).rows("select supplier, body from purchase where reference = ? order by id", (reference,))
    return {"printed": [{"supplier": row["supplier"], "lines": json.loads(row["body"])["lines"]} for row in rows]}


@router.get("/record/print-files/{sha}")
def print_file(request: Request, sha: str) -> Response:
    """A file as a house has it."""
    row = world_of(request).one("select bytes from print_file where sha = ? limit 1", (sha,))
    if not row:
        raise HTTPException(404, "no house has that file")
    return Response(row["bytes"], media_type="image/png")


@router.get("/record/numbers")
def numbers(request: Request, supplier: str) -> dict[str, Any]:
    """The numbers of a supplier's items that it sells now, those that stores show first."""
    rows = world_of(request).rows(
        "select number from supply_item where supplier = ? and not gone "
        "order by gtin = '' or gtin not in (select gtin from shop_listing), number",
        (supplier,),
    )
    return {"numbers": [row["number"] for row in rows]}


@router.get("/record/items")
def history(request: Request, after: int = 0, limit: int = 50_000) -> dict[str, Any]:
    """Prices and stocks of all items as they really were."""
    rows = world_of(request).rows(
        "select rowid as seq, supplier, number, at, cost, stock from supply_history where rowid > ? order by rowid limit ?",
        (after, min(limit, 50_000)),
    )
    for row in rows:
        row["cost"] = in_its_money(seller_named(row["supplier"]), row["number"], row["cost"])[0]
    return {"history": rows, "next": rows[-1]["seq"] if rows else None}
