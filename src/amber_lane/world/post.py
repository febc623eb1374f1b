"""The carrier: what is known of parcels by their tracking numbers."""

from __future__ import annotations

import base64
import json
import random
from typing import Any

from fastapi import HTTPException, Request
from fpdf import FPDF
from pydantic import BaseModel, ConfigDict, Field

from . import lands
from .counter import world_of
from .life import DAY, HAPPENS, s10
from .routes import Router
from .state import World, iso

router = Router(prefix="/post/api")


@router.get("/account")
def account(request: Request) -> dict[str, Any]:
    _enter(request)
    return {"name": "Swiftwing Post", "country": "GB", "may": ["read tracking", "make labels"], "account": "SP-71-220"}


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


# What a label asks, by how heavy the parcel is, in pence; it is asked for once it is used.
_ASKS = ((500, 295), (2000, 420), (30_000, 760))


class LabelAsk(BaseModel):
    model_config = ConfigDict(extra="forbid")
    sender: str = Field(min_length=3, max_length=600)
    to: str = Field(min_length=3, max_length=600)
    grams: int = Field(gt=0, le=30_000)


def a_number(serial: int) -> str:
    """A number as this carrier gives them."""
    return f"SW{s10(serial % 90_000_000)}{lands.here().country}"


@router.put("/labels/{reference}")
def make_label(request: Request, reference: str, ask: LabelAsk) -> dict[str, Any]:
    """A label, made once by its reference; what is sent with it is used within days."""
    world = _enter(request)
    with world.change() as db:
        row = world.one("select * from post_label where reference = ?", (reference,))
        if row is None:
            count = world.one("select count(*) as n from post_label")
            number = a_number(60_000_000 + 37 * (count or {"n": 0})["n"])
            db.execute("insert into post_label values (?,?,?,?)", (reference, number, ask.model_dump_json(), world.now()))
            if random.Random(f"label-{world.seed}-{reference}").random() >= world.dial("post", "labels_unused"):
                world.plan(world.now() + 2 * DAY, "label_used", reference=reference)
            row = world.one("select * from post_label where reference = ?", (reference,))
    return _label_out(row)


@router.get("/labels/{reference}")
def label(request: Request, reference: str) -> dict[str, Any]:
    row = _enter(request).one("select * from post_label where reference = ?", (reference,))
    if row is None:
        raise HTTPException(404, f"no label {reference}")
    return _label_out(row)


def _label_out(row: dict[str, Any] | None) -> dict[str, Any]:
    assert row
    ask = json.loads(row["body"])
    page = FPDF(format=(100, 150))
    page.add_page()
    page.set_font("helvetica", size=12)
    for text in ("Swiftwing Post", f"To: {ask['to']}", f"From: {ask['sender']}", row["number"], row["reference"]):
        page.multi_cell(80, 7, text.encode("latin-1", "replace").decode("latin-1"), new_x="LMARGIN", new_y="NEXT")
    cost = lands.here().amount(next(pence for most, pence in _ASKS if ask["grams"] <= most))
    pdf = base64.b64encode(bytes(page.output())).decode()
    return {
        "reference": row["reference"],
        "number": row["number"],
        "pdf": pdf,
        "costs": lands.text(cost),
        "currency": lands.here().currency,
    }


def label_for(world: World, reference: str) -> str:
    """The number of a label; '' where none was made."""
    row = world.one("select number from post_label where reference = ?", (reference,))
    return str(row["number"]) if row else ""


def travel(world: World, number: str, to: str, days: float) -> None:
    """A parcel goes from a buyer to where it is sent, once."""
    if world.one("select 1 from parcel where number = ?", (number,)):
        return
    world.db.execute("insert into parcel values (?,?,?,?)", (number, 0, lands.here().country, 0))
    steps = (
        (0.0, "collected", "Handed in", "A post office"),
        (0.5, "moving", "Sorted", "Midway depot"),
        (1.0, "delivered", "Delivered", to),
    )
    for part, event, told, place in steps:
        world.plan(world.now() + int(part * days * DAY), "post", number=number, event=event, told=told, place=place[:100])


def _used(world: World, body: dict[str, Any]) -> None:
    row = world.one("select * from post_label where reference = ?", (body["reference"],))
    if row:
        travel(world, row["number"], json.loads(row["body"])["to"], 2.0)


HAPPENS["label_used"] = _used
