"""The print houses: blanks, files by their checksum, orders that name their files, proofs; faults as at every partner."""

from __future__ import annotations

import hashlib
import io
import json
import random
from collections.abc import Callable
from typing import Any, TypeVar

from fastapi import HTTPException, Request, Response
from PIL import Image, UnidentifiedImageError

from .claims import ClaimAsk, claims_of, keep, take
from .counter import world_of
from .life import DAY, tiers_of
from .partners import Seller
from .print_goods import HOUSES, Blank, House, cost_of
from .routes import Router
from .state import World, iso
from .trade import Purchase, as_of, let_go, origins_out, place, purchases_of, shelf_of, told_cost, told_stock

router = Router()
FILE_MOST = 80_000_000
F = TypeVar("F", bound=Callable[..., Any])


def _at(method: str, path: str, status: int = 200) -> Callable[[F], F]:
    """Both houses speak alike, each under its own address."""

    def register(do: F) -> F:
        for code in HOUSES:
            router.add_api_route(f"/{code}/api{path}", do, methods=[method], status_code=status)
        return do

    return register


def stock_houses(world: World) -> None:
    """Put the houses' blanks on their shelves; each has a luck of its own."""
    if world.one("select 1 from supply_item where supplier = 'tarn' limit 1"):
        return
    now = world.now()
    for code, house in HOUSES.items():
        rng = random.Random(f"{code}-{world.seed}")
        origin = house.seller.origins[0]["code"]
        for blank in house.blanks:
            for number, colour, size, sides in blank.numbers(house.seller.mark):
                cost, stock = cost_of(blank, size, sides), rng.randint(60, 400)
                title = f"{blank.name}, {colour}, {size}" + (", printed on both sides" if sides == 2 else "")
                words = (title, "", "", "", blank.kind, f"{colour}, {size}", 1, blank.weight)
                world.db.execute(
                    f"insert into supply_item values ({','.join('?' * 14)},0)", (code, number, *words, cost, cost, stock, origin)
                )
                world.db.execute("insert into supply_history values (?,?,?,?,?)", (code, number, now - 60 * DAY, cost, stock))


def enter(request: Request) -> tuple[World, House]:
    world, house = world_of(request), HOUSES[request.url.path.split("/")[1]]
    if request.headers.get("press-key") != house.key.replace("practice", world.key):
        raise HTTPException(401, "unknown key")
    return world, house


@_at("GET", "/account")
def account(request: Request) -> dict[str, Any]:
    seller = enter(request)[1].seller
    pages = f"{str(request.base_url).rstrip('/')}{request.url.path.removesuffix('/api/account')}/goods/"
    return {
        "name": seller.name,
        "country": seller.country,
        "currency": seller.currency,
        "may": ["read blanks and stock", "take files", "take orders", "show proofs"],
        "account": f"{seller.mark}-771",
        "site": pages,
    }


@_at("GET", "/origins")
def origins(request: Request) -> dict[str, Any]:
    return {"origins": origins_out(enter(request)[1].seller)}


@_at("GET", "/blanks")
def blanks(request: Request) -> dict[str, Any]:
    _, house = enter(request)
    return {"blanks": [_blank(house, one) for one in house.blanks]}


def _blank(house: House, one: Blank) -> dict[str, Any]:
    return {
        "code": one.code,
        "name": one.name,
        "kind": one.kind,
        "colours": [{"name": name, "rgb": house.rgb(name)} for name in one.colours],
        "sizes": [{"name": name, "width_mm": size[0], "height_mm": size[1]} for name, (size, _, _) in one.sizes.items()],
        "areas": [
            {"side": side, "size": name, "width_mm": area[0], "height_mm": area[1]}
            for side in one.sides
            for name, (_, area, _) in one.sizes.items()
        ],
        "items": [{"number": n, "colour": c, "size": s, "sides": k} for n, c, s, k in one.numbers(house.seller.mark)],
        **dict(zip(("dpi_least", "dpi_good", "dpi_best"), one.dots or (house.dpi_least, house.dpi_good, house.dpi_best), strict=True)),
        "read_least": 80,
        "file": "area" if house.whole else "artwork",
        "kinds": ["image/png"],
        "made_by": house.maker,
    }


def _rows(world: World, seller: Seller, page: int, size: int) -> tuple[list[dict[str, Any]], int]:
    size = max(1, min(size, 500))
    total = world.one("select count(*) as n from supply_item where supplier = ? and not gone", (seller.code,))
    assert total
    return shelf_of(world, seller, size, (max(page, 1) - 1) * size), max(1, -(-total["n"] // size))


def _shown(world: World, seller: Seller, row: dict[str, Any]) -> dict[str, Any]:
    told = {"cost": seller.text(told_cost(world, seller, row)), "stock": told_stock(world, seller, row)}
    tiers = [{"at": at, "cost": seller.text(cost)} for at, cost in tiers_of(row["number"], row["cost"])]
    return {"number": row["number"], "currency": seller.currency, **told, "tiers": tiers}


@_at("GET", "/offers")
def offers(request: Request, page: int = 1, size: int = 500) -> dict[str, Any]:
    world, house = enter(request)
    rows, pages = _rows(world, house.seller, page, size)
    told = [_shown(world, house.seller, row) for row in rows]
    return {"as_of": iso(as_of(world, house.seller)), "page": page, "pages": pages, "offers": told}


WORDS = ("title", "gtin", "mpn", "brand", "category", "options", "pack_size", "weight_g", "origin")


@_at("GET", "/items")
def items(request: Request, page: int = 1, size: int = 500) -> dict[str, Any]:
    world, house = enter(request)
    rows, pages = _rows(world, house.seller, page, size)
    told = [{k: row[k] for k in WORDS} | _shown(world, house.seller, row) for row in rows]
    return {"as_of": iso(as_of(world, house.seller)), "page": page, "pages": pages, "items": told}


@_at("GET", "/items/{number}")
def item(request: Request, number: str) -> dict[str, Any]:
    world, house = enter(request)
    row = world.one("select * from supply_item where supplier = ? and number = ? and not gone", (house.seller.code, number))
    if not row:
        raise HTTPException(404, f"no item {number}")
    return {k: row[k] for k in WORDS} | _shown(world, house.seller, row)


@_at("POST", "/files", 201)
async def take_file(request: Request) -> dict[str, Any]:
    """Take a file to print from. It is known by its checksum; the same again changes nothing."""
    world, house = enter(request)
    data = await request.body()
    if len(data) > FILE_MOST:
        raise HTTPException(413, "a file has 80 MB at most")
    if request.headers.get("content-type") != "image/png":
        raise HTTPException(422, "files are PNG")
    try:
        with Image.open(io.BytesIO(data), formats=["PNG"]) as image:
            width, height, mode = image.width, image.height, image.mode
    except (UnidentifiedImageError, OSError, Image.DecompressionBombError) as error:
        raise HTTPException(422, "that is no PNG that can be read") from error
    if mode not in ("RGBA", "RGB"):
        raise HTTPException(422, "files are sRGB with 8 bits a colour")
    sha = hashlib.sha256(data).hexdigest()
    with world.change() as db:
        db.execute("insert or ignore into print_file values (?,?,?,?,?,?)", (house.seller.code, sha, data, width, height, world.now()))
    return {"sha256": sha, "width": width, "height": height}


@_at("POST", "/purchases", 201)
def purchase(request: Request, body: Purchase) -> dict[str, Any]:
    world, house = enter(request)
    for line in body.lines:
        _check(world, house, line.item, [one.model_dump() for one in line.prints])
    return place(world, house.seller, body)


def _check(world: World, house: House, number: str, prints: list[dict[str, Any]]) -> None:
    """HTTPException 422 where a line cannot be printed as it is ordered."""
    found = next(
        ((blank, size, sides) for blank in house.blanks for n, _, size, sides in blank.numbers(house.seller.mark) if n == number), None
    )
    if found is None:
        raise HTTPException(422, f"there is no item {number}")
    blank, size, sides = found
    if not 1 <= len(prints) <= sides or len({one["side"] for one in prints}) < len(prints):
        raise HTTPException(422, f"{number} is printed on 1 to {sides} sides, and each needs its file")
    area = blank.sizes[size][1]
    for one in prints:
        if one["side"] not in blank.sides:
            raise HTTPException(422, f"{blank.name} has no {one['side']}")
        for name in ("file", "preview"):
            if not world.one("select 1 from print_file where supplier = ? and sha = ?", (house.seller.code, one[name])):
                raise HTTPException(422, f"the {name} {one[name][:12]} was not handed over")
        inside = one["x_mm"] >= 0 and one["y_mm"] >= 0 and one["x_mm"] + one["w_mm"] <= area[0] + 0.01
        if not inside or one["y_mm"] + one["h_mm"] > area[1] + 0.01:
            raise HTTPException(422, f"the print lies outside of the {area[0]} x {area[1]} mm of {size}")


@_at("GET", "/purchases")
def purchases(request: Request, reference: str) -> dict[str, Any]:
    world, house = enter(request)
    return {"purchases": purchases_of(world, house.seller, reference.split(",")[:100])}


@_at("POST", "/purchases/{reference}/withdraw")
def withdraw(request: Request, reference: str) -> dict[str, Any]:
    world, house = enter(request)
    let_go(world, house.seller, reference)
    return purchases_of(world, house.seller, [reference])[0]


@_at("POST", "/evidence", 201)
async def evidence(request: Request) -> dict[str, Any]:
    enter(request)
    return keep(await request.body())


@_at("PUT", "/claims/{reference}")
def claim(request: Request, reference: str, ask: ClaimAsk) -> dict[str, Any]:
    world, house = enter(request)
    return take(world, house.seller, reference, ask)


@_at("GET", "/claims")
def claims(request: Request, reference: str) -> dict[str, Any]:
    world, house = enter(request)
    return {"claims": claims_of(world, house.seller, reference.split(",")[:100])}


@_at("GET", "/purchases/{reference}/proof")
def proof(request: Request, reference: str) -> Response:
    """A picture of the printed thing before it is sent; a house whose dial is turned prints it a little askew."""
    world, house = enter(request)
    row = world.one("select * from purchase where supplier = ? and reference = ? order by id", (house.seller.code, reference))
    if not row or row["state"] not in ("accepted", "shipped"):
        raise HTTPException(404, "there is no proof of it yet")
    prints = [one for line in json.loads(row["body"])["lines"] for one in line.get("prints", [])]
    file = (
        world.one("select bytes from print_file where supplier = ? and sha = ?", (house.seller.code, prints[0]["preview"]))
        if prints
        else None
    )
    if not file:
        raise HTTPException(404, "there is no proof of it yet")
    data: bytes = file["bytes"]
    if askew := world.dial(house.seller.code, "askew"):
        with Image.open(io.BytesIO(data)) as image:
            shift = max(1, round(image.width * askew / 100))
            moved = Image.new(image.mode, image.size, image.getpixel((1, 1)))
            moved.paste(image.rotate(askew / 2, fillcolor=image.getpixel((1, 1))), (shift, 0))
        out = io.BytesIO()
        moved.save(out, "PNG")
        data = out.getvalue()
    return Response(data, media_type="image/png")


__all__ = ["HOUSES", "router", "stock_houses"]
