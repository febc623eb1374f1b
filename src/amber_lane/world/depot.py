"""The depot: holds goods of others, counts what comes in (sometimes wrong), and sends from its shelves. Its book is its own."""

from __future__ import annotations

import hashlib
import io
import json
import random
from datetime import UTC, datetime
from typing import Any

from fastapi import HTTPException, Request, Response
from PIL import Image, ImageDraw, UnidentifiedImageError
from pydantic import BaseModel, ConfigDict, Field

from .counter import world_of
from .lands import here, text
from .life import BACK, DAY, HAPPENS, HOUR, SHIPPED, set_item
from .partners import HOME, NEAR, NEXT, OTHERS, Seller, make_origin, make_way
from .routes import Router
from .state import World, iso
from .trade import Purchase, let_go, origins_out, place, purchases_of

router = Router()
CODE = "depot"
BANDS = [(2_000, 125, 40), (10_000, 210, 60), (30_000, 480, 120)]
DEPOT = Seller(
    CODE,
    "Larkfield Depot",
    "",
    "",
    "LK",
    (make_origin("larkfield", "Larkfield", "", 30, "15:00", "Larkfield Depot returns"),),
    (
        make_way("next", "Next working day", HOME, 125, 40, None, 1, 2, BANDS),
        make_way("abroad", "Tracked abroad", NEAR, 520, 120, None, 4, 6),
        make_way("abroad", "Tracked abroad", NEXT, 590, 120, None, 4, 7),
    ),
)
OTHERS[CODE] = DEPOT
# In made-up pence: of a litre and month, of a carton that comes in, of a unit that is picked; grams, mm, litres; the dearest thing.
STORAGE, RECEIVE, PICK = 3, 90, 20
WEIGHT_MOST, SIDE_MOST, VALUE_MOST, ROOM = 12_000, 900, 40_000, 4_000
CARTON = (15_000, 600, 400, 400)


class Goods(BaseModel):
    model_config = ConfigDict(extra="forbid")
    number: str
    title: str
    kind: str = ""
    weight_g: int = Field(ge=0)
    length_mm: int = Field(gt=0)
    width_mm: int = Field(gt=0)
    height_mm: int = Field(gt=0)
    value_minor: int = Field(ge=0)
    currency: str
    pictures: list[str] = Field(default_factory=list)


class Said(BaseModel):
    text: str = Field(min_length=1, max_length=1000)


class LoadLine(BaseModel):
    goods: str
    units: int = Field(gt=0)
    lot: str = ""
    best_before: str | None = None


class LoadCarton(BaseModel):
    sscc: str = Field(pattern="^[0-9]{18}$")
    weight_g: int = Field(gt=0)
    lines: list[LoadLine] = Field(min_length=1)


class Load(BaseModel):
    model_config = ConfigDict(extra="forbid", populate_by_name=True)
    sender: str = Field(alias="from")
    cartons: list[LoadCarton]


def enter(request: Request) -> World:
    world = world_of(request)
    if request.headers.get("depot-key") != f"{world.key}-larkfield":
        raise HTTPException(401, "unknown key")
    return world


def own_address() -> dict[str, str]:
    _, city, region, postcode = here().own
    return {
        "name": "Larkfield Depot, goods in",
        "address_1": "Unit 5, Larkfield Way",
        "city": city,
        "region": region,
        "postcode": postcode,
        "country": here().country,
    }


@router.get("/depot/api/account")
def account(request: Request) -> dict[str, Any]:
    enter(request)
    may = ["take goods in", "count", "tell its stock", "send orders"]
    return {"name": DEPOT.name, "country": DEPOT.country, "currency": DEPOT.currency, "may": may, "account": "LK-3307"}


@router.get("/depot/api/origins")
def origins(request: Request) -> dict[str, Any]:
    enter(request)
    return {"origins": origins_out(DEPOT)}


@router.get("/depot/api/terms")
def terms(request: Request) -> dict[str, Any]:
    enter(request)
    land = here()
    weight, length, width, height = CARTON
    return {
        "storage_litre_month": text(land.amount(STORAGE)),
        "receive_carton": text(land.amount(RECEIVE)),
        "pick_unit": text(land.amount(PICK)),
        "weight_most_g": WEIGHT_MOST,
        "side_most_mm": SIDE_MOST,
        "value_most": text(land.amount(VALUE_MOST)),
        "kinds": [],
        "carton": {"weight_g": weight, "length_mm": length, "width_mm": width, "height_mm": height},
        "days_low": 1,
        "days_high": 3,
        "room_litres": ROOM,
        "address": own_address(),
    }


@router.post("/depot/api/pictures", status_code=201)
async def picture(request: Request) -> dict[str, Any]:
    """Take a picture of goods; it is named by what it shows, so the same again changes nothing."""
    enter(request)
    data = await request.body()
    try:
        with Image.open(io.BytesIO(data), formats=["PNG", "JPEG"]) as image:
            image.load()
    except (UnidentifiedImageError, OSError) as error:
        raise HTTPException(422, "that is no picture that can be read") from error
    return {"name": hashlib.sha256(data).hexdigest()[:24]}


@router.put("/depot/api/goods/{number}")
def hold(request: Request, number: str, ask: Goods) -> dict[str, Any]:
    """Ask it to hold goods; by the same number once."""
    world = enter(request)
    with world.change() as db:
        row = world.one("select * from depot_goods where number = ?", (number,))
        if not row or row["state"] == "refused":
            state, message = _judge(ask)
            db.execute(
                "insert or replace into depot_goods values (?,?,?,?,?,?,?)",
                (number, ask.title, json.dumps(ask.model_dump()), state, message, world.now(), ""),
            )
            if state == "asked":
                # Somebody has to look at it.
                world.plan(world.now() + 2 * HOUR, "depot_agrees", number=number)
        return _goods_out(world, number)


def _judge(ask: Goods) -> tuple[str, str]:
    if ask.weight_g > WEIGHT_MOST or max(ask.length_mm, ask.width_mm, ask.height_mm) > SIDE_MOST:
        return "refused", f"we take up to {WEIGHT_MOST // 1000} kg and {SIDE_MOST} mm"
    if ask.value_minor > here().amount(VALUE_MOST):
        return "refused", f"we take goods of up to {text(here().amount(VALUE_MOST))} {here().currency} each"
    if ask.kind == "lights":
        return "question", "Are there batteries in it, and of what kind?"
    return "asked", ""


def _agree(world: World, body: dict[str, Any]) -> None:
    row = world.one("select * from depot_goods where number = ?", (body["number"],))
    if not row or row["state"] not in ("asked", "question"):
        return
    ask = json.loads(row["body"])
    world.db.execute("update depot_goods set state = 'agreed', message = '' where number = ?", (row["number"],))
    origin = DEPOT.origins[0]["code"]
    words = (row["title"], "", "", "", ask["kind"], "", 1, ask["weight_g"])
    world.db.execute(f"insert or ignore into supply_item values ({','.join('?' * 14)},0)", (CODE, row["number"], *words, 0, 0, 0, origin))


@router.post("/depot/api/goods/{number}/answer")
def answer(request: Request, number: str, said: Said) -> dict[str, Any]:
    world = enter(request)
    with world.change() as db:
        row = world.one("select * from depot_goods where number = ?", (number,))
        if not row:
            raise HTTPException(404, f"no goods {number}")
        if row["state"] == "question":
            db.execute("update depot_goods set state = 'asked', message = '', answer = ? where number = ?", (said.text, number))
            world.plan(world.now() + 2 * HOUR, "depot_agrees", number=number)
        return _goods_out(world, number)


@router.get("/depot/api/goods")
def goods(request: Request, number: str) -> dict[str, Any]:
    world = enter(request)
    found = [_goods_out(world, one) for one in number.split(",")[:500] if world.one("select 1 from depot_goods where number = ?", (one,))]
    return {"goods": found}


def _goods_out(world: World, number: str) -> dict[str, Any]:
    row = world.one("select * from depot_goods where number = ?", (number,))
    assert row
    return {"number": number, "state": row["state"], "message": row["message"]}


@router.put("/depot/api/loads/{reference}")
def announce(request: Request, reference: str, load: Load) -> dict[str, Any]:
    """Say that a load will come; the same reference again puts the first right while it has not come."""
    world = enter(request)
    with world.change() as db:
        row = world.one("select * from depot_load where reference = ?", (reference,))
        if row and row["state"] not in ("announced", "cancelled"):
            return _load_out(row)
        for line in (line for one in load.cartons for line in one.lines):
            held = world.one("select state from depot_goods where number = ?", (line.goods,))
            if not held or held["state"] != "agreed":
                raise HTTPException(422, f"we do not hold {line.goods}")
        state = "announced" if load.cartons else "cancelled"
        body = json.dumps(load.model_dump(by_alias=True))
        db.execute("insert or replace into depot_load values (?,?,?,?,?,?,?)", (reference, body, state, world.now(), "{}", "{}", ""))
        bought = world.one("select * from purchase where reference = ? and state = 'shipped'", (reference,))
        if state == "announced" and (load.sender == "own" or bought):
            _set_out(world, reference, 2.0)
        row = world.one("select * from depot_load where reference = ?", (reference,))
        assert row
        return _load_out(row)


def _set_out(world: World, reference: str, days: float) -> None:
    """It is on the road; a load is planned to arrive once."""
    if not world.one("select 1 from event where kind = 'depot_arrive' and body like ?", (f'%"{reference}"%',)):
        world.plan(world.now() + int(days * DAY), "depot_arrive", reference=reference)


def shipped(world: World, purchase: int) -> None:
    """A supplier has sent what is for one of the announced loads; or the depot itself has sent an order."""
    row = world.one("select * from purchase where id = ?", (purchase,))
    if not row:
        return
    if row["supplier"] == CODE:
        if not world.one("select 1 from depot_move where reference = ? and kind = 'sent'", (row["reference"],)):
            for line in json.loads(row["body"])["lines"]:
                _move(world, line["item"], line["quantity"], "sent", row["reference"])
        return
    if world.one("select 1 from depot_load where reference = ? and state = 'announced'", (row["reference"],)):
        rng = random.Random(f"road-{world.seed}-{row['reference']}")
        _set_out(world, row["reference"], rng.uniform(1.2, 2.6) + (3.5 if row["supplier"] == "folder" else 0))


def returned(world: World, number: str) -> None:
    """A parcel of its own found nobody and is on the shelf again."""
    row = world.one("select p.* from purchase p join parcel r on r.purchase = p.id where r.number = ?", (number,))
    if not row or row["supplier"] != CODE:
        return
    for line in json.loads(row["body"])["lines"]:
        _put(world, line["item"], line["quantity"])
        _move(world, line["item"], line["quantity"], "returned", row["reference"], "as new")


def _put(world: World, number: str, units: int) -> None:
    row = world.one("select stock from supply_item where supplier = ? and number = ?", (CODE, number))
    if row:
        set_item(world, CODE, number, 0, max(row["stock"] + units, 0), world.now())


def _move(world: World, number: str, units: int, kind: str, reference: str, note: str = "") -> None:
    if units > 0:
        world.db.execute(
            "insert into depot_move(at, number, units, kind, reference, note) values (?,?,?,?,?,?)",
            (world.now(), number, units, kind, reference, note),
        )


def _arrive(world: World, body: dict[str, Any]) -> None:
    reference = body["reference"]
    row = world.one("select * from depot_load where reference = ?", (reference,))
    if not row or row["state"] != "announced":
        return
    rng = random.Random(f"gate-{world.seed}-{reference}")
    now = world.now()
    days = rng.uniform(0.6, 1.8)
    if datetime.fromtimestamp(now / 1000, UTC).weekday() == 0:
        days += 1.0
    told = ""
    if rng.random() < world.dial(CODE, "full") or _litres(world) > ROOM:
        days, told = days + 2.0, "we are full at the moment; it waits at the gate"
    cartons = json.loads(row["body"])["cartons"]
    if len(cartons) > 1 and rng.random() < world.dial(CODE, "loses_carton"):
        cartons = cartons[:-1]
    came: dict[str, int] = {}
    for line in (line for one in cartons for line in one["lines"]):
        came[line["goods"]] = came.get(line["goods"], 0) + line["units"]
    world.db.execute(
        "update depot_load set state = 'arrived', at = ?, came = ?, told = ? where reference = ?", (now, json.dumps(came), told, reference)
    )
    world.plan(now + int(days * DAY), "depot_count", reference=reference, again=False)


def _litres(world: World) -> float:
    rows = world.rows("select g.body, i.stock from depot_goods g join supply_item i on i.supplier = ? and i.number = g.number", (CODE,))
    total = 0.0
    for row in rows:
        one = json.loads(row["body"])
        total += one["length_mm"] * one["width_mm"] * one["height_mm"] / 1_000_000 * row["stock"]
    return total


def _count(world: World, body: dict[str, Any]) -> None:
    reference, again = body["reference"], body["again"]
    row = world.one("select * from depot_load where reference = ?", (reference,))
    if not row or row["state"] not in ("arrived", "counted"):
        return
    rng = random.Random(f"count-{world.seed}-{reference}-{again}")
    # How often it slips by itself: a line of a load counted short, one with damage.
    slips = float(world.fact("depot_slips", 0.04))
    sent: dict[str, int] = {}
    for line in (line for one in json.loads(row["body"])["cartons"] for line in one["lines"]):
        sent[line["goods"]] = sent.get(line["goods"], 0) + line["units"]
    came, before = json.loads(row["came"]), json.loads(row["counted"])
    counted: dict[str, dict[str, int]] = {}
    for number in sent:
        real = came.get(number, 0)
        damaged = before.get(number, {}).get("damaged")
        if damaged is None:
            hurt = rng.random() < max(slips, world.dial(CODE, "damages")) if real else False
            damaged = min(real, rng.randint(1, 2)) if hurt else 0
        slip = 0 if again or rng.random() >= max(slips, world.dial(CODE, "miscounts")) else rng.randint(1, 3)
        good = max(real - damaged - slip, 0)
        counted[number] = {"units": good, "damaged": damaged}
        more = good - before.get(number, {}).get("units", 0)
        if more > 0:
            _put(world, number, more)
            _move(world, number, more, "counted_in", reference)
    world.db.execute(
        "update depot_load set state = 'counted', at = ?, counted = ?, told = '' where reference = ?",
        (world.now(), json.dumps(counted), reference),
    )


@router.get("/depot/api/loads")
def loads(request: Request, reference: str) -> dict[str, Any]:
    world = enter(request)
    asked = reference.split(",")[:200]
    marks = ",".join("?" * len(asked))
    return {"loads": [_load_out(row) for row in world.rows(f"select * from depot_load where reference in ({marks})", asked)]}


@router.post("/depot/api/loads/{reference}/count")
def count_again(request: Request, reference: str) -> dict[str, Any]:
    """Count a load once more; it takes some hours."""
    world = enter(request)
    with world.change():
        row = world.one("select * from depot_load where reference = ?", (reference,))
        if not row or row["state"] != "counted":
            raise HTTPException(409, f"{reference} is not counted yet")
        if not world.one("select 1 from event where kind = 'depot_count' and body like ?", (f'%"{reference}"%',)):
            world.plan(world.now() + 4 * HOUR, "depot_count", reference=reference, again=True)
        return _load_out(row)


@router.get("/depot/api/loads/{reference}/pictures/{number}")
def damage(request: Request, reference: str, number: str) -> Response:
    """A picture of what came damaged."""
    world = enter(request)
    row = world.one("select * from depot_load where reference = ?", (reference,))
    if not row or not json.loads(row["counted"]).get(number, {}).get("damaged"):
        raise HTTPException(404, "nothing of it came damaged")
    image = Image.new("RGB", (640, 480), "#d9c9a8")
    draw, rng = ImageDraw.Draw(image), random.Random(f"{reference}-{number}")
    draw.rectangle([120, 110, 520, 390], fill="#b08d57", outline="#6e5530", width=6)
    points = [(180 + n * 40 + rng.randint(-12, 12), 200 + rng.randint(-60, 90)) for n in range(8)]
    draw.line(points, fill="#3b2c16", width=7)
    draw.polygon([points[3], points[4], (points[4][0] - 20, points[4][1] + 70)], fill="#3b2c16")
    out = io.BytesIO()
    image.save(out, "PNG")
    return Response(out.getvalue(), media_type="image/png")


def _load_out(row: dict[str, Any]) -> dict[str, Any]:
    counted = json.loads(row["counted"]) if row["state"] == "counted" else {}
    lines = [{"goods": number, **one, "picture": bool(one["damaged"])} for number, one in counted.items()]
    return {"reference": row["reference"], "state": row["state"], "at": iso(row["at"]), "message": row["told"], "lines": lines}


@router.get("/depot/api/stock")
def stock(request: Request) -> dict[str, Any]:
    """What stands on its shelves: what is packed and has not left is there still."""
    world = enter(request)
    there = {row["number"]: row["stock"] for row in world.rows("select number, stock from supply_item where supplier = ?", (CODE,))}
    for row in world.rows("select body from purchase where supplier = ? and state = 'accepted'", (CODE,)):
        for line in json.loads(row["body"])["lines"]:
            there[line["item"]] = there.get(line["item"], 0) + line["quantity"]
    return {"as_of": iso(world.now()), "goods": [{"number": number, "there": units} for number, units in sorted(there.items())]}


@router.get("/depot/api/movements")
def movements(request: Request, after: int = 0, limit: int = 200) -> dict[str, Any]:
    world = enter(request)
    limit = max(1, min(limit, 500))
    rows = world.rows("select * from depot_move where id > ? order by id limit ?", (after, limit))
    out = [
        {"id": r["id"], "at": iso(r["at"]), "goods": r["number"]} | {k: r[k] for k in ("units", "kind", "reference", "note")} for r in rows
    ]
    return {"movements": out, "cursor": str(rows[-1]["id"] if rows else after), "more": len(rows) == limit}


@router.post("/depot/api/purchases", status_code=201)
def purchase(request: Request, body: Purchase) -> dict[str, Any]:
    """An order to send; its bill is packing, picking and the parcel."""
    world = enter(request)
    with world.change() as db:
        out = place(world, DEPOT, body)
        picked = here().amount(PICK) * sum(line.quantity for line in body.lines)
        db.execute(
            "update purchase set billed = billed + ? where id = (select max(id) from purchase where supplier = ? and reference = ?)",
            (picked, CODE, body.reference),
        )
        return next(iter(reversed(purchases_of(world, DEPOT, [body.reference]))), out)


@router.get("/depot/api/purchases")
def purchases(request: Request, reference: str) -> dict[str, Any]:
    return {"purchases": purchases_of(enter(request), DEPOT, reference.split(",")[:100])}


@router.post("/depot/api/purchases/{reference}/withdraw")
def withdraw(request: Request, reference: str) -> dict[str, Any]:
    world = enter(request)
    let_go(world, DEPOT, reference)
    return purchases_of(world, DEPOT, [reference])[0]


class Slip(BaseModel):
    """Something happens on its shelves. kind: damaged, lost or found, told in its book; '' = nobody notices. shelf: what stands there is
    so many, whatever its book says; agree: it says yes to goods at once."""

    model_config = ConfigDict(extra="forbid")
    number: str
    units: int = Field(0, ge=0)
    kind: str = Field("", pattern="^(damaged|lost|found|)$")
    shelf: int | None = Field(None, ge=0)
    agree: bool = False


@router.post("/world/depot")
def slip(request: Request, what: Slip) -> dict[str, Any]:
    """Let goods break, go missing or turn up at the depot."""
    world = world_of(request)
    with world.change():
        if what.agree:
            _agree(world, {"number": what.number})
        if what.shelf is not None:
            set_item(world, CODE, what.number, 0, what.shelf, world.now())
        _put(world, what.number, what.units if what.kind == "found" else -what.units)
        if what.kind:
            _move(world, what.number, what.units, what.kind, "", "noticed on the shelf")
    row = world.one("select stock from supply_item where supplier = ? and number = ?", (CODE, what.number))
    return {"stock": row["stock"] if row else None}


HAPPENS |= {"depot_agrees": _agree, "depot_arrive": _arrive, "depot_count": _count}
SHIPPED.append(shipped)
BACK.append(returned)
