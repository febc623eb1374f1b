"""The carrier: what is known of parcels by their tracking numbers."""

from __future__ import annotations

from typing import Any

from fastapi import APIRouter, HTTPException, Request

from .counter import world_of
from .state import iso

router = APIRouter(prefix="/post/api")


@router.get("/account")
def account(request: Request) -> dict[str, Any]:
    _enter(request)
    return {"name": "Swiftwing Post", "country": "GB", "may": ["read tracking"], "account": "SP-71-220"}


def _enter(request: Request) -> Any:
    world = world_of(request)
    if request.headers.get("authorization") != f"Bearer {world.key}-swiftwing":
        raise HTTPException(401, "unknown key")
    return world


@router.get("/tracking")
def tracking(request: Request, numbers: str) -> dict[str, Any]:
    """Events of up to 50 parcels; numbers the carrier does not know are left out."""
    world = _enter(request)
    out = []
    for number in numbers.split(",")[:50]:
        if not world.one("select 1 from parcel where number = ?", (number,)):
            continue
        events = [
            {"at": iso(e["at"]), "kind": e["kind"], "message": e["told"], "place": e["place"]}
            for e in world.rows("select * from parcel_event where number = ? order by at, id", (number,))
        ]
        if events and world.luck.random() < world.dial("post", "duplicates"):
            events += events[-1:]
        if world.luck.random() < world.dial("post", "out_of_order"):
            events.reverse()
        out.append({"number": number, "events": events})
    return {"parcels": out}
