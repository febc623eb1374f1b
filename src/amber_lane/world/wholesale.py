"""The wholesaler: its catalogue, price and stock by page and by item, services, and purchase orders by reference.

It does not notice a purchase that is sent twice: it sends the goods twice, and bills them twice.
"""

from __future__ import annotations

from typing import Any

from fastapi import HTTPException, Request

from .claims import ClaimAsk, claims_of, keep, take
from .counter import world_of
from .life import tiers_of
from .partners import SELLERS
from .routes import Router
from .state import World, iso
from .trade import Purchase, as_of, let_go, origins_out, place, purchases_of, shelf_of, told_cost, told_stock

router = Router(prefix="/wholesale/api")
SELLER = SELLERS["wholesale"]


def enter(request: Request) -> World:
    world = world_of(request)
    if request.headers.get("authorization") != f"Bearer {world.key}-northlight":
        raise HTTPException(401, "unknown key")
    return world


@router.get("/account")
def account(request: Request) -> dict[str, Any]:
    enter(request)
    return {
        "name": SELLER.name,
        "country": SELLER.country,
        "currency": SELLER.currency,
        "may": ["read items", "send purchase orders"],
        "terms": "paid within 14 days",
        "account": "NT-C-3308",
        "site": f"{str(request.base_url).rstrip('/')}/wholesale/goods/",
    }


@router.get("/origins")
def origins(request: Request) -> dict[str, Any]:
    enter(request)
    return {"origins": origins_out(SELLER)}


def _page(request: Request, page: int, size: int) -> tuple[World, list[dict[str, Any]], int]:
    world = enter(request)
    size = max(1, min(size, 500))
    total = world.one("select count(*) as n from supply_item where supplier = ? and not gone", (SELLER.code,))
    assert total
    return world, shelf_of(world, SELLER, size, (max(page, 1) - 1) * size), max(1, -(-total["n"] // size))


def _shown(world: World, row: dict[str, Any]) -> dict[str, Any]:
    offer = {
        "number": row["number"],
        "cost": SELLER.text(told_cost(world, SELLER, row)),
        "currency": SELLER.currency,
        "stock": told_stock(world, SELLER, row),
    }
    tiers = [{"at": at, "cost": SELLER.text(cost)} for at, cost in tiers_of(row["number"], row["cost"])]
    return offer | ({"tiers": tiers} if tiers else {})


@router.get("/offers")
def offers(request: Request, page: int = 1, size: int = 500) -> dict[str, Any]:
    world, rows, pages = _page(request, page, size)
    return {"as_of": iso(as_of(world, SELLER)), "page": page, "pages": pages, "offers": [_shown(world, row) for row in rows]}


@router.get("/items")
def items(request: Request, page: int = 1, size: int = 500) -> dict[str, Any]:
    world, rows, pages = _page(request, page, size)
    return {"as_of": iso(as_of(world, SELLER)), "page": page, "pages": pages, "items": [_item(world, row) for row in rows]}


def _item(world: World, row: dict[str, Any]) -> dict[str, Any]:
    words = ("title", "gtin", "mpn", "brand", "category", "options", "pack_size", "weight_g", "origin")
    return {k: row[k] for k in words} | _shown(world, row)


@router.get("/items/{number}")
def item(request: Request, number: str) -> dict[str, Any]:
    world = enter(request)
    row = world.one("select * from supply_item where supplier = ? and number = ? and not gone", (SELLER.code, number))
    if not row:
        raise HTTPException(404, f"no item {number}")
    return _item(world, row)


@router.post("/purchases", status_code=201)
def purchase(request: Request, body: Purchase) -> dict[str, Any]:
    return place(enter(request), SELLER, body)


@router.post("/purchases/{reference}/withdraw")
def withdraw(request: Request, reference: str) -> dict[str, Any]:
    world = enter(request)
    let_go(world, SELLER, reference)
    return purchases_of(world, SELLER, [reference])[0]


@router.post("/evidence", status_code=201)
async def evidence(request: Request) -> dict[str, Any]:
    """A picture that goes with claims."""
    enter(request)
    return keep(await request.body())


@router.put("/claims/{reference}")
def claim(request: Request, reference: str, ask: ClaimAsk) -> dict[str, Any]:
    """Ask for money back, or for the same once more; by the same reference once."""
    return take(enter(request), SELLER, reference, ask)


@router.get("/claims")
def claims(request: Request, reference: str) -> dict[str, Any]:
    return {"claims": claims_of(enter(request), SELLER, reference.split(",")[:100])}


@router.get("/purchases")
def purchases(request: Request, reference: str) -> dict[str, Any]:
    world = enter(request)
    return {"purchases": purchases_of(world, SELLER, reference.split(",")[:100])}
