"""Suppliers whose interfaces nobody wrote a connector for: each with goods of its own, and a dialect that its paper explains."""

from __future__ import annotations

import random
from pathlib import Path
from typing import Any

from fastapi import HTTPException

from .life import set_item
from .partners import HOME, NEAR, OTHERS, Seller, make_origin, make_way
from .state import World

MOST = 60
FERN = Seller(
    "fern",
    "Fernmoor Trade",
    "",
    "",
    "FM",
    (make_origin("moor", "Moor gate", "", 40, "15:00", "Fernmoor returns"),),
    (make_way("parcel", "Moor parcel", HOME, 210, 60, 4500, 2, 4), make_way("parcel", "Moor parcel", NEAR, 640, 180, None, 5, 8)),
)
MARRAM = Seller(
    "marram",
    "Marram Supply",
    "",
    "",
    "MS",
    (make_origin("dune", "Dune yard", "", 0, "13:00", "Marram returns"),),
    (make_way("post", "Dune post", HOME, 260, 90, None, 3, 5),),
)
CINDER = Seller(
    "cinder",
    "Cinder Row",
    "",
    "",
    "CR",
    (make_origin("row", "The Row", "", 25, "12:00", "Cinder Row returns"),),
    (make_way("van", "Row van", HOME, 195, 70, 3800, 1, 3),),
)
NEWCOMERS = {one.code: one for one in (FERN, MARRAM, CINDER)}
OTHERS.update(NEWCOMERS)


def stock(world: World, seller: Seller) -> None:
    """Put goods on a newcomer's shelves when it is first called: some of the wholesaler's, at costs of its own."""
    if world.one("select 1 from supply_item where supplier = ? limit 1", (seller.code,)):
        return
    rng = random.Random(f"{seller.code}-{world.seed}")
    with world.change() as db:
        rows = world.rows("select * from supply_item where supplier = 'wholesale' order by number limit ?", (MOST,))
        for n, row in enumerate(rows):
            number, cost = f"{seller.mark}-{n + 1:04d}", max(row["cost"] * rng.randint(88, 118) // 100, 1)
            words = [row[name] for name in ("title", "gtin", "mpn", "brand", "category", "options", "pack_size", "weight_g")]
            left = 0 if n % 17 == 5 else rng.randint(20, 400)
            origin = seller.origins[0]["code"]
            db.execute(f"insert into supply_item values ({','.join('?' * 14)},0)", (seller.code, number, *words, cost, cost, left, origin))
            set_item(world, seller.code, number, cost, left, world.now())


def shelf(world: World, seller: Seller, after: str, size: int) -> list[dict[str, Any]]:
    """Items after a number, in their order."""
    return world.rows(
        "select * from supply_item where supplier = ? and not gone and number > ? order by number limit ?", (seller.code, after, size)
    )


def item(world: World, seller: Seller, number: str) -> dict[str, Any]:
    """One item; HTTPException 404 where there is none."""
    row = world.one("select * from supply_item where supplier = ? and number = ? and not gone", (seller.code, number))
    if not row:
        raise HTTPException(404, f"no item {number}")
    return row


def paper_of(code: str) -> str:
    """The paper in which a newcomer explains its interface."""
    return (Path(__file__).parent / "papers" / f"{code}.html").read_text()
