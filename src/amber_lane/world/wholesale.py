"""The wholesaler: its catalogue, price and stock by page and by item, services, and purchase orders by reference.

It does not notice a purchase that is sent twice: it sends the goods twice, and bills them twice.
"""

from __future__ import annotations

import json
from typing import Any

from fastapi import APIRouter, HTTPException, Request
from pydantic import BaseModel, ConfigDict, Field

from .life import MINUTE, ORIGINS, SERVICES, cost_of, tiers_of
from .shop import world_of
from .state import World, iso, pounds

router = APIRouter(prefix="/wholesale/api")


def enter(request: Request) -> World:
    world = world_of(request)
    if request.headers.get("authorization") != f"Bearer {world.key}-northlight":
        raise HTTPException(401, "unknown key")
    return world


class Line(BaseModel):
    model_config = ConfigDict(extra="forbid")
    line_no: int
    item: str
    quantity: int = Field(gt=0)


class Address(BaseModel):
    name: str
    address_1: str
    address_2: str = ""
    city: str
    region: str = ""
    postcode: str
    country: str
    phone: str = ""


class Purchase(BaseModel):
    model_config = ConfigDict(extra="forbid")
    reference: str
    origin: str
    service: str
    note: str = ""
    address: Address
    lines: list[Line] = Field(min_length=1)


@router.get("/account")
def account(request: Request) -> dict[str, Any]:
    enter(request)
    return {
        "name": "Northlight Trade",
        "country": "GB",
        "currency": "GBP",
        "may": ["read items", "send purchase orders"],
        "terms": "paid within 14 days",
    }


@router.get("/origins")
def origins(request: Request) -> dict[str, Any]:
    enter(request)
    out = []
    for origin in ORIGINS:
        services = [
            {
                "code": s["code"],
                "name": s["name"],
                "country": s["country"],
                "first": pounds(s["first"]),
                "following": pounds(s["following"]),
                "free_over": None if s["free_over"] is None else pounds(s["free_over"]),
                "days_low": s["low"],
                "days_high": s["high"],
                "tracked": True,
                "bands": [
                    {"up_to_g": up_to, "first": pounds(first), "following": pounds(following)}
                    for up_to, first, following in s.get("bands", [])
                ],
            }
            for s in SERVICES
        ]
        out.append(
            {
                "code": origin["code"],
                "name": origin["name"],
                "country": origin["country"],
                "cut_off": origin["cut_off"],
                "handling": pounds(origin["handling"]),
                "services": services,
            }
        )
    return {"origins": out}


def _page(request: Request, page: int, size: int) -> tuple[World, list[dict[str, Any]], int]:
    world = enter(request)
    size = max(1, min(size, 500))
    total = world.one("select count(*) as n from supply_item where not gone")
    assert total
    rows = world.rows("select * from supply_item where not gone order by number limit ? offset ?", (size, (max(page, 1) - 1) * size))
    if world.dial("wholesale", "frozen"):
        old = {row["number"]: row for row in world.rows("select * from supply_frozen")}
        rows = [row | old.get(row["number"], {}) for row in rows]
    return world, rows, max(1, -(-total["n"] // size))


def _shown(world: World, row: dict[str, Any]) -> dict[str, Any]:
    penny = world.dial("wholesale", "penny")
    odd = penny and (hash_of(row["number"]) % 1000) < penny * 1000
    offer = {
        "number": row["number"],
        "cost": "0.01" if odd else pounds(row["cost"]),
        "currency": "GBP",
        "stock": 0 if world.dial("wholesale", "zero_stock") else row["stock"],
    }
    tiers = [{"at": at, "cost": pounds(cost)} for at, cost in tiers_of(row["number"], row["cost"])]
    return offer | ({"tiers": tiers} if tiers else {})


def hash_of(text: str) -> int:
    """A number that is the same in every run, unlike the built-in one."""
    value = 7
    for letter in text:
        value = (value * 31 + ord(letter)) % 1_000_003
    return value


def _as_of(world: World) -> str:
    frozen = world.fact("frozen_at") if world.dial("wholesale", "frozen") else None
    return iso(frozen or world.now())


@router.get("/offers")
def offers(request: Request, page: int = 1, size: int = 500) -> dict[str, Any]:
    world, rows, pages = _page(request, page, size)
    return {"as_of": _as_of(world), "page": page, "pages": pages, "offers": [_shown(world, row) for row in rows]}


@router.get("/items")
def items(request: Request, page: int = 1, size: int = 500) -> dict[str, Any]:
    world, rows, pages = _page(request, page, size)
    return {"as_of": _as_of(world), "page": page, "pages": pages, "items": [_item(world, row) for row in rows]}


def _item(world: World, row: dict[str, Any]) -> dict[str, Any]:
    return {k: row[k] for k in ("title", "gtin", "mpn", "brand", "category", "options", "pack_size", "weight_g", "origin")} | _shown(
        world, row
    )


@router.get("/items/{number}")
def item(request: Request, number: str) -> dict[str, Any]:
    world = enter(request)
    row = world.one("select * from supply_item where number = ? and not gone", (number,))
    if not row:
        raise HTTPException(404, f"no item {number}")
    return _item(world, row)


def _purchase(row: dict[str, Any]) -> dict[str, Any]:
    return {
        "number": f"NLT-{row['id']:06d}",
        "reference": row["reference"],
        "state": row["state"],
        "told": row["told"] or "",
        "billed": pounds(row["billed"]),
        "currency": "GBP",
        "tracking_number": row["tracking_number"] or None,
        "carrier": "Swiftwing Post" if row["tracking_number"] else None,
        "updated": iso(row["updated"]),
    }


@router.post("/purchases", status_code=201)
def purchase(request: Request, body: Purchase) -> dict[str, Any]:
    world = enter(request)
    now = world.now()
    with world.change() as db:
        goods = weight = 0
        for line in body.lines:
            row = world.one("select cost, weight_g from supply_item where number = ? and not gone", (line.item,))
            if not row:
                raise HTTPException(422, f"there is no item {line.item}")
            goods += cost_of(line.item, row["cost"], line.quantity) * line.quantity
            weight += row["weight_g"] * line.quantity
        service = next((s for s in SERVICES if s["code"] == body.service and s["country"] == body.address.country), None)
        origin = next((o for o in ORIGINS if o["code"] == body.origin), None)
        if not service or not origin:
            raise HTTPException(422, f"{body.service} does not go from {body.origin} to {body.address.country}")
        units = sum(line.quantity for line in body.lines)
        free = service["free_over"] is not None and goods >= service["free_over"]
        bands = service.get("bands", [])
        first, following = next(((f, n) for up_to, f, n in bands if weight <= up_to), (service["first"], service["following"]))
        if bands and weight > bands[-1][0]:
            raise HTTPException(422, f"{weight} g is too heavy for {body.service}")
        ship = 0 if free else first + following * (units - 1)
        done = db.execute(
            "insert into purchase(reference, at, state, body, told, billed, updated) values (?,?,?,?,?,?,?)",
            (body.reference, now, "received", json.dumps(body.model_dump()), "", goods + ship + origin["handling"], now),
        )
        number = done.lastrowid or 0
        world.plan(now + (2 + number % 8) * MINUTE, "decide", purchase=number)
        row = world.one("select * from purchase where id = ?", (number,))
        assert row
        return _purchase(row)


@router.get("/purchases")
def purchases(request: Request, reference: str = "", updated_since: str = "") -> dict[str, Any]:
    world = enter(request)
    if reference:
        wanted = reference.split(",")[:100]
        marks = ",".join("?" * len(wanted))
        rows = world.rows(f"select * from purchase where reference in ({marks}) order by id", wanted)
    else:
        rows = world.rows("select * from purchase order by updated desc limit 100")
    return {"purchases": [_purchase(row) for row in rows]}
