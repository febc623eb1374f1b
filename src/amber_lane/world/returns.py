"""Returns that buyers ask for in their store: they wait for an answer until the store decides by itself, and send what may come back."""

from __future__ import annotations

import json
import random
from datetime import datetime
from typing import Any

from fastapi import HTTPException, Request
from pydantic import BaseModel, ConfigDict, Field

from . import counter, lands, post
from .counter import SENT, world_of
from .life import DAY, HAPPENS, HOUR
from .routes import Router
from .state import World, iso

router = Router(prefix="/world")
REASONS = {
    "damaged": "It is broken.",
    "defective": "It does not work.",
    "wrong_item": "I ordered another one.",
    "missing": "A part is missing.",
    "not_as_described": "It looks nothing like the picture.",
    "late": "It came too late, I do not need it any more.",
    "changed_mind": "I do not like it after all.",
}
ANSWERS = ("accepted", "kept", "refused")
# A store waits so many days for an answer.
PATIENCE = 3


def ask(world: World, number: str, reason: str, line: int = 1, units: int = 1) -> str:
    """The buyer of an order asks for a return. Its number."""
    row = world.one("select * from shop_order where number = ?", (number,))
    if row is None:
        raise HTTPException(404, f"no order {number}")
    lines = {one["line_no"]: one for one in json.loads(row["body"])["lines"]}
    if line not in lines or not 0 < units <= lines[line]["quantity"]:
        raise HTTPException(422, "that order has no such line, or not so many of it")
    n = (world.one("select count(*) as n from buyer_return") or {"n": 0})["n"] + 1
    given = f"RT-{4100 + n}"
    body = {"line": line, "units": units, "reason": reason, "words": REASONS[reason]}
    due = world.now() + PATIENCE * DAY
    world.db.execute(
        "insert into buyer_return(number, store, order_no, body, state, at, due, seq) values (?,?,?,?,'asked',?,?,?)",
        (given, row["store"], number, json.dumps(body), world.now(), due, _next(world)),
    )
    world.plan(due, "return_lapse", number=given)
    return given


def _next(world: World) -> int:
    seq = int(world.fact("return_seq", 0)) + 1
    world.remember("return_seq", seq)
    return seq


def _set(world: World, number: str, state: str, **more: object) -> None:
    """A new state, and what goes with it in its body."""
    row = world.one("select * from buyer_return where number = ?", (number,))
    assert row
    body = json.loads(row["body"]) | more
    world.db.execute(
        "update buyer_return set state = ?, body = ?, seq = ? where number = ?", (state, json.dumps(body), _next(world), number)
    )


def after(world: World, store: str, cursor: int, limit: int = 50) -> tuple[list[dict[str, Any]], int, bool]:
    """Returns that changed after a cursor, the new cursor, and whether there are more."""
    rows = world.rows("select * from buyer_return where store = ? and seq > ? order by seq limit ?", (store, cursor, limit))
    out = [row | json.loads(row["body"]) for row in rows]
    last = rows[-1]["seq"] if rows else cursor
    if out and world.luck.random() < world.dial(store, "duplicates"):
        out += out[:2]
    if world.luck.random() < world.dial(store, "out_of_order"):
        out.reverse()
    return out, last, len(rows) == limit


def answer(world: World, store: str, number: str, state: str, our_number: str, address: str, reason: str) -> None:
    """The seller's answer; the same again changes nothing, and another one is refused."""
    with world.change():
        row = world.one("select * from buyer_return where store = ? and number = ?", (store, number))
        if row is None:
            raise HTTPException(404, f"no return {number}")
        if state not in ANSWERS or (state == "accepted" and not (our_number and address)) or (state == "refused" and not reason):
            raise HTTPException(422, "accept it with a number and an address, let it be kept, or refuse it with a reason")
        body = json.loads(row["body"])
        if row["state"] != "asked":
            if body.get("answer") == [state, our_number]:
                return
            raise HTTPException(409, f"that return is {row['state']} already")
        _set(world, number, state, answer=[state, our_number], our_number=our_number, to=address, because=reason)
        rng = random.Random(f"sends-{world.seed}-{number}")
        if state == "accepted" and rng.random() >= world.dial(store, "never_sends"):
            world.plan(world.now() + rng.randint(20, 50) * HOUR, "return_sent", number=number)


def _sent(world: World, body: dict[str, Any]) -> None:
    """The buyer sends it: with the label that our number names, else with a parcel of their own."""
    row = world.one("select * from buyer_return where number = ?", (body["number"],))
    if row is None or row["state"] != "accepted":
        return
    known = json.loads(row["body"])
    tracking = post.label_for(world, known["our_number"]) or post.a_number(row["id"] * 41 + 7_000_000)
    post.travel(world, tracking, known["to"], random.Random(f"back-{world.seed}-{row['number']}").uniform(1.2, 3.0))
    _set(world, row["number"], "sent", tracking=tracking, carrier="Swiftwing Post")


def _lapse(world: World, body: dict[str, Any]) -> None:
    """Nobody answered: the store pays the buyer back by itself."""
    row = world.one("select * from buyer_return where number = ?", (body["number"],))
    if row is None or row["state"] != "asked":
        return
    asked = json.loads(row["body"])
    order = json.loads(counter.order_of(world, row["store"], row["order_no"])["body"])
    price = next(line["unit_price"] for line in order["lines"] if line["line_no"] == asked["line"])
    whole = sum(line["unit_price"] * line["quantity"] for line in order["lines"]) - order.get("discount", 0)
    paid = min(price * asked["units"], whole - sum(_paid(world, row["store"], row["order_no"])))
    if paid <= 0:
        _set(world, row["number"], "kept")
        return
    counter.refund(world, row["store"], row["order_no"], [(asked["line"], asked["units"], lands.text(paid))], f"decided-{row['number']}")
    _set(world, row["number"], "paid_back", paid_back=lands.text(paid))


def _paid(world: World, store: str, order: str) -> list[int]:
    given = (world.fact("refunds", {}) or {}).values()
    return [lands.minor_of(one["paid"]) for one in given if (one["store"], one["order"]) == (store, order)]


def perhaps(world: World, number: str) -> None:
    """Some days after an order has left, its buyer may ask for a return in the store; how many do is a fact of the world."""
    rng = random.Random(f"returns-{world.seed}-{number}")
    if rng.random() < float(world.fact("asks_back", 0)):
        world.plan(world.now() + 3 * DAY + rng.randint(1, 40) * HOUR, "return_asked", number=number, reason=rng.choice(sorted(REASONS)))


def _asked(world: World, body: dict[str, Any]) -> None:
    row = world.one("select store from shop_order where number = ?", (body["number"],))
    if row is not None and row["store"] in ("shop", "fair"):
        ask(world, body["number"], body["reason"])


HAPPENS |= {"return_asked": _asked, "return_sent": _sent, "return_lapse": _lapse}
SENT.append(perhaps)


class PastLine(BaseModel):
    line_no: int
    sku: str
    title: str
    quantity: int = Field(gt=0)
    unit_price: str


class Past(BaseModel):
    """An order of before the world began, that the house brought along."""

    store: str = Field(pattern="^(shop|fair)$")
    at: datetime
    buyer: dict[str, str]
    lines: list[PastLine]


class Asked(BaseModel):
    model_config = ConfigDict(extra="forbid")
    past: Past | None = None
    number: str
    reason: str = Field("changed_mind", pattern=f"^({'|'.join(REASONS)})$")
    line: int = 1
    units: int = Field(1, gt=0)


@router.post("/return")
def ask_now(request: Request, body: Asked) -> dict[str, str]:
    """The buyer of an order asks for a return in its store now."""
    world = world_of(request)
    with world.change():
        if body.past is not None:
            _remember(world, body.number, body.past)
        return {"number": ask(world, body.number, body.reason, body.line, body.units)}


class ShopAnswer(BaseModel):
    state: str
    return_number: str = ""
    address: str = ""
    reason: str = ""


class FairAnswer(BaseModel):
    say: str
    our_number: str = ""
    to: str = ""
    because: str = ""


def _remember(world: World, number: str, past: Past) -> None:
    """An order of before is known from now on, and told to nobody: its place in the list is before the first."""
    if world.one("select 1 from shop_order where number = ?", (number,)):
        return
    first = (world.one("select coalesce(min(seq), 1) as n from shop_order") or {"n": 1})["n"]
    lines = [one.model_dump() | {"unit_price": lands.minor_of(one.unit_price)} for one in past.lines]
    body = {"number": number, "buyer": past.buyer, "lines": lines, "promised_days": 7, "store": past.store}
    world.db.execute(
        "insert into shop_order(seq, store, number, at, state, body) values (?,?,?,?,'sent',?)",
        (min(first, 1) - 1, past.store, number, int(past.at.timestamp() * 1000), json.dumps(body)),
    )


def shop_out(row: dict[str, Any]) -> dict[str, Any]:
    return {
        "number": row["number"], "order": row["order_no"], "line": row["line"], "quantity": row["units"], "reason": row["reason"],
        "words": row["words"], "asked_at": iso(row["at"]), "answer_by": iso(row["due"]), "state": row["state"],
        "tracking_number": row.get("tracking", ""), "carrier": row.get("carrier", ""), "paid_back": row.get("paid_back"),
        "currency": lands.here().currency,
    }  # fmt: skip


_WHY = {
    "damaged": "broken", "defective": "faulty", "wrong_item": "wrong one", "missing": "parts missing", "not_as_described": "not as shown",
    "late": "too late", "changed_mind": "not wanted",
}  # fmt: skip
_STATUS = {"asked": "waits", "accepted": "send it", "kept": "keep it", "refused": "no", "sent": "sent", "paid_back": "decided"}
SAID = {status: state for state, status in _STATUS.items()}


def fair_out(row: dict[str, Any]) -> dict[str, Any]:
    parcel = {"number": row["tracking"], "carrier": "Swiftwing"} if row.get("tracking") else None
    return {
        "ticket": row["number"], "order": row["order_no"], "line": row["line"], "pieces": row["units"], "why": _WHY[row["reason"]],
        "text": row["words"], "at": iso(row["at"]), "until": iso(row["due"]), "status": _STATUS[row["state"]], "parcel": parcel,
        "given_back": row.get("paid_back"),
    }  # fmt: skip
