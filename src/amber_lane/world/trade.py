"""What every supplier of the world does alike: terms told, purchases placed by reference, answers given."""

from __future__ import annotations

import json
from typing import Any

from fastapi import HTTPException
from pydantic import BaseModel, ConfigDict, Field

from .life import MINUTE, cost_of
from .partners import Seller
from .state import World, iso


class Print(BaseModel):
    """What is printed on one side; file and preview by their checksums."""

    model_config = ConfigDict(extra="forbid")
    side: str
    x_mm: float
    y_mm: float
    w_mm: float = Field(gt=0)
    h_mm: float = Field(gt=0)
    file: str
    preview: str


class Line(BaseModel):
    model_config = ConfigDict(extra="forbid")
    line_no: int
    item: str
    quantity: int = Field(gt=0)
    prints: list[Print] = Field(default_factory=list)


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
    greeting: str = Field("", max_length=300)
    address: Address
    lines: list[Line] = Field(min_length=1)


def origins_out(seller: Seller) -> list[dict[str, Any]]:
    """A seller's warehouses with their services, amounts as text."""
    services = [
        {
            "code": s["code"],
            "name": s["name"],
            "country": s["country"],
            "first": seller.text(s["first"]),
            "following": seller.text(s["following"]),
            "free_over": None if s["free_over"] is None else seller.text(s["free_over"]),
            "days_low": s["low"],
            "days_high": s["high"],
            "tracked": True,
            "bands": [
                {"up_to_g": up_to, "first": seller.text(first), "following": seller.text(following)}
                for up_to, first, following in s["bands"]
            ],
        }
        for s in seller.services
    ]
    return [origin | {"handling": seller.text(origin["handling"]), "services": services} for origin in seller.origins]


def place(world: World, seller: Seller, body: Purchase) -> dict[str, Any]:
    """Take a purchase; HTTPException 422 where it cannot be sent. A second one by the same reference is a second one."""
    now = world.now()
    with world.change() as db:
        goods = weight = 0
        for line in body.lines:
            row = world.one(
                "select cost, weight_g from supply_item where supplier = ? and number = ? and not gone", (seller.code, line.item)
            )
            if not row:
                raise HTTPException(422, f"there is no item {line.item}")
            one = cost_of(line.item, row["cost"], line.quantity) if seller.tiers else row["cost"]
            goods += one * line.quantity
            weight += row["weight_g"] * line.quantity
        service = next((s for s in seller.services if s["code"] == body.service and s["country"] == body.address.country), None)
        origin = next((o for o in seller.origins if o["code"] == body.origin), None)
        if not service or not origin:
            raise HTTPException(422, f"{body.service} does not go from {body.origin} to {body.address.country}")
        units = sum(line.quantity for line in body.lines)
        free = service["free_over"] is not None and goods >= service["free_over"]
        bands = service["bands"]
        first, following = next(((f, n) for up_to, f, n in bands if weight <= up_to), (service["first"], service["following"]))
        if bands and weight > bands[-1][0]:
            raise HTTPException(422, f"{weight} g is too heavy for {body.service}")
        ship = 0 if free else first + following * (units - 1)
        bill = goods + (goods * seller.tax + 500_000) // 1_000_000 + ship + origin["handling"]
        done = db.execute(
            "insert into purchase(supplier, reference, at, state, body, told, billed, updated) values (?,?,?,?,?,?,?,?)",
            (seller.code, body.reference, now, "received", json.dumps(body.model_dump()), "", bill, now),
        )
        number = done.lastrowid or 0
        world.plan(now + (2 + number % 8) * MINUTE, "decide", purchase=number)
        row = world.one("select * from purchase where id = ?", (number,))
        assert row
        return purchase_out(seller, row)


def purchase_out(seller: Seller, row: dict[str, Any]) -> dict[str, Any]:
    return {
        "number": f"{'NLT' if seller.mark == 'NT' else seller.mark}-{row['id']:06d}",
        "reference": row["reference"],
        "state": row["state"],
        "message": row["told"] or "",
        "billed": seller.text(row["billed"]),
        "currency": seller.currency,
        "tracking_number": row["tracking_number"] or None,
        "carrier": "Swiftwing Post" if row["tracking_number"] else None,
        "updated": iso(row["updated"]),
    }


def purchases_of(world: World, seller: Seller, references: list[str]) -> list[dict[str, Any]]:
    marks = ",".join("?" * len(references))
    rows = world.rows(f"select * from purchase where supplier = ? and reference in ({marks}) order by id", [seller.code, *references])
    return [purchase_out(seller, row) for row in rows]


def let_go(world: World, seller: Seller, reference: str) -> None:
    """Do not send what was bought by a reference; 409 where it has left, 404 where nobody bought it. Twice is as once."""
    with world.change() as db:
        rows = world.rows("select * from purchase where supplier = ? and reference = ? order by id", (seller.code, reference))
        if not rows:
            raise HTTPException(404, f"no purchase {reference}")
        for row in rows:
            if row["state"] not in ("received", "accepted", "withdrawn"):
                raise HTTPException(409, f"{reference} is {row['state']} already")
            if row["state"] == "accepted":
                for line in json.loads(row["body"])["lines"]:
                    db.execute(
                        "update supply_item set stock = stock + ? where supplier = ? and number = ?",
                        (line["quantity"], seller.code, line["item"]),
                    )
            db.execute("update purchase set state = 'withdrawn', billed = 0, updated = ? where id = ?", (world.now(), row["id"]))


EURO = 4296


def hash_of(text: str) -> int:
    """A number that is the same in every run, unlike the built-in one."""
    value = 7
    for letter in text:
        value = (value * 31 + ord(letter)) % 1_000_003
    return value


def told_cost(world: World, seller: Seller, row: dict[str, Any]) -> int:
    """What a seller says that an item costs, its fault dials included."""
    penny = world.dial(seller.code, "penny")
    return 1 if penny and (hash_of(row["number"]) % 1000) < penny * 1000 else row["cost"]


def in_its_money(seller: Seller, number: str, cost: int) -> tuple[int, str]:
    """A cost as the seller writes it, and in which money: the importer buys and sells some goods in euros, and bills them in its own."""
    if seller.code == "folder" and hash_of(number) % 4 == 0:
        return max(cost * 1000 // EURO, 1), "EUR"
    return cost, seller.currency


def told_stock(world: World, seller: Seller, row: dict[str, Any]) -> int:
    return 0 if world.dial(seller.code, "zero_stock") else row["stock"]


def as_of(world: World, seller: Seller) -> int:
    """When the figures that a seller shows are from."""
    frozen = world.fact(f"frozen_at_{seller.code}") if world.dial(seller.code, "frozen") else None
    return int(frozen or world.now())


def shelf_of(world: World, seller: Seller, size: int = -1, start: int = 0) -> list[dict[str, Any]]:
    """A seller's items by number as it shows them now; a frozen one shows old figures."""
    rows = world.rows(
        "select * from supply_item where supplier = ? and not gone order by number limit ? offset ?", (seller.code, size, start)
    )
    if world.dial(seller.code, "frozen"):
        old = {row["number"]: row for row in world.rows("select number, cost, stock from supply_frozen where supplier = ?", (seller.code,))}
        rows = [row | old.get(row["number"], {}) for row in rows]
    return rows
