"""The importer's folder: a sheet of all its goods on the hour, a place to put purchase orders, a sheet of answers.

The sheet is made as its office makes it: its own words for the columns, semicolons, decimal commas, an old encoding.
"""

from __future__ import annotations

import base64
import csv
import io
from email.utils import formatdate
from typing import Any

from fastapi import HTTPException, Request, Response

from .counter import world_of
from .life import HOUR
from .partners import SELLERS
from .routes import Router
from .state import World, iso
from .trade import Address, Line, Purchase, as_of, in_its_money, place, purchases_of, shelf_of, told_cost, told_stock

router = Router(prefix="/folder")
SELLER = SELLERS["folder"]
HEADER = [
    "Nr artykułu",
    "Nazwa",
    "EAN",
    "Nr producenta",
    "Marka",
    "Grupa",
    "Wariant",
    "Szt. w opak.",
    "Masa g",
    "Cena netto",
    "Waluta",
    "Stan",
]


def enter(request: Request) -> World:
    world = world_of(request)
    wanted = "Basic " + base64.b64encode(f"duskdial:{world.key}-quayside".encode()).decode()
    if request.headers.get("authorization", "") != wanted:
        raise HTTPException(401, "unknown name or password")
    return world


def _hour(world: World) -> int:
    return as_of(world, SELLER) // HOUR * HOUR


def _name(world: World) -> str:
    return f"stan-{iso(_hour(world))[:13].replace('T', '-')}.csv"


@router.get("/")
def index(request: Request) -> Response:
    """What lies in the folder, as a page of links."""
    world = enter(request)
    names = [_name(world), "answers.csv", "in/"]
    rows = "".join(f'<li><a href="{name}">{name}</a></li>' for name in names)
    return Response(f"<html><body><h1>Index</h1><ul>{rows}</ul></body></html>", media_type="text/html")


def _comma(amount: int) -> str:
    return f"{amount // 100},{amount % 100:02d}"


def sheet(world: World) -> bytes:
    """All goods as of the last full hour. Facts of the world change its make: the header's words, encoding, separator."""
    header = list(HEADER)
    if world.fact("folder_renamed", 0):
        header[header.index("Stan")] = "Stan mag."
    separator = "," if world.fact("folder_comma", 0) else ";"
    out = io.StringIO(newline="")
    writer = csv.writer(out, delimiter=separator, lineterminator="\r\n")
    writer.writerow(header)
    for row in shelf_of(world, SELLER):
        words = [row["number"], row["title"], row["gtin"], row["mpn"], row["brand"], row["category"], row["options"]]
        cost, money = in_its_money(SELLER, row["number"], told_cost(world, SELLER, row))
        writer.writerow([*words, row["pack_size"], row["weight_g"], _comma(cost), money, told_stock(world, SELLER, row)])
    return out.getvalue().encode("utf-8" if world.fact("folder_utf8", 0) else "cp1250", "replace")


@router.get("/answers.csv")
def answers(request: Request, reference: str = "") -> Response:
    """The newest purchase orders and what became of them."""
    world = enter(request)
    rows = world.rows("select distinct reference from purchase where supplier = 'folder' order by id desc limit 500")
    out = io.StringIO(newline="")
    writer = csv.writer(out, delimiter=";", lineterminator="\r\n")
    writer.writerow(["reference", "number", "state", "message", "billed", "tracking_number", "carrier"])
    for one in purchases_of(world, SELLER, [row["reference"] for row in rows]):
        bill = one["billed"].replace(".", ",")
        writer.writerow(
            [one["reference"], one["number"], one["state"], one["message"], bill, one["tracking_number"] or "", one["carrier"] or ""]
        )
    return Response(out.getvalue().encode(), media_type="text/csv")


@router.get("/{name}")
def file(request: Request, name: str) -> Response:
    world = enter(request)
    if name != _name(world):
        raise HTTPException(404, f"no file {name}")
    return Response(sheet(world), media_type="text/csv", headers={"last-modified": formatdate(_hour(world) / 1000, usegmt=True)})


@router.put("/in/{name}", status_code=201)
async def put(request: Request, name: str) -> dict[str, Any]:
    """A purchase order as a sheet; the office reads it at once. The same name again replaces nothing: it is read again."""
    world = enter(request)
    text = (await request.body()).decode("utf-8-sig")
    rows = list(csv.DictReader(io.StringIO(text, newline="")))
    if not rows:
        raise HTTPException(422, "the sheet is empty")
    first = rows[0]
    address = {key: first.get(key, "") for key in Address.model_fields}
    lines = [Line(line_no=int(row["line_no"]), item=row["item"], quantity=int(row["quantity"])) for row in rows]
    purchase = Purchase(
        reference=first["purchase_order"],
        origin=SELLER.origins[0]["code"],
        service=first["service"],
        note=first.get("note", ""),
        address=Address(**address),
        lines=lines,
    )
    place(world, SELLER, purchase)
    return {"name": name}
