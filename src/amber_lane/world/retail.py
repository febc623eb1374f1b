"""The retail site: one item a call, few calls a minute, sales tax on top, items that vanish or come in another pack."""

from __future__ import annotations

from typing import Any

from fastapi import HTTPException, Request, Response

from .counter import count_call, world_of
from .partners import SELLERS
from .routes import Router
from .state import World, iso
from .trade import Purchase, as_of, origins_out, place, purchases_of, told_cost, told_stock

router = Router(prefix="/retail/api")
SELLER = SELLERS["retail"]


def enter(request: Request, response: Response) -> World:
    """Let in who has the key, as often as the site allows: so many calls in ten real seconds, told with every answer."""
    world = world_of(request)
    if request.headers.get("site-key") != f"{world.key}-sable":
        raise HTTPException(401, "unknown key")
    count_call(world, "retail", int(world.fact("retail_calls", 60)), response)
    return world


@router.get("/me")
def me(request: Request, response: Response) -> dict[str, Any]:
    enter(request, response)
    return {
        "shop": SELLER.name,
        "country": SELLER.country,
        "currency": SELLER.currency,
        "sales_tax_percent": "20",
        "account": "C-551907",
        "pages": f"{str(request.base_url).rstrip('/')}/retail/p/",
        "sending": origins_out(SELLER),
    }


@router.get("/items/{number}")
def item(request: Request, response: Response, number: str) -> dict[str, Any]:
    world = enter(request, response)
    row = world.one("select * from supply_item where supplier = ? and number = ? and not gone", (SELLER.code, number))
    if not row:
        raise HTTPException(404, f"no item {number}")
    return {
        "number": row["number"],
        "name": row["title"],
        "price": SELLER.text(told_cost(world, SELLER, row)),
        "left": told_stock(world, SELLER, row),
        "pieces_in_pack": row["pack_size"],
        "grams": row["weight_g"],
        "barcode": row["gtin"],
        "made_by": row["brand"],
        "makers_number": row["mpn"],
        "group": row["category"],
        "comes_in": row["options"],
        "as_of": iso(as_of(world, SELLER)),
    }


@router.post("/orders", status_code=201)
def order(request: Request, response: Response, body: Purchase) -> dict[str, Any]:
    return place(enter(request, response), SELLER, body)


@router.get("/orders/{reference}")
def order_by(request: Request, response: Response, reference: str) -> dict[str, Any]:
    world = enter(request, response)
    found = purchases_of(world, SELLER, [reference])
    if not found:
        raise HTTPException(404, f"no order {reference}")
    return found[0]
