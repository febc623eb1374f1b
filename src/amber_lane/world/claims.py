"""What suppliers of the world say to claims: they answer after days, want pictures of what is broken, refuse what comes late, pay less than
was asked, send it again, or never answer."""

from __future__ import annotations

import hashlib
import io
import json
import random
from typing import Any

from fastapi import HTTPException
from PIL import Image, UnidentifiedImageError
from pydantic import BaseModel, ConfigDict, Field

from .lands import here
from .life import DAY, HAPPENS, HOUR
from .partners import Seller, seller_named
from .state import World

PROVEN = ("damaged", "defective", "wrong_item", "missing", "not_as_described")
# What comes later than so many days after it was bought is refused.
WINDOW = 45


class ClaimAsk(BaseModel):
    model_config = ConfigDict(extra="forbid")
    reference: str
    purchase: str
    line_no: int
    units: int = Field(gt=0)
    reason: str
    wish: str = Field(pattern="^(money|again)$")
    amount: str
    currency: str
    words: str = ""
    pictures: list[str] = Field(default_factory=list)


def keep(data: bytes) -> dict[str, Any]:
    """A picture that goes with a claim, named by what it shows."""
    try:
        with Image.open(io.BytesIO(data), formats=["PNG", "JPEG"]) as image:
            image.load()
    except (UnidentifiedImageError, OSError) as error:
        raise HTTPException(422, "that is no picture that can be read") from error
    return {"name": hashlib.sha256(data).hexdigest()[:24]}


def take(world: World, seller: Seller, reference: str, ask: ClaimAsk) -> dict[str, Any]:
    """Take a claim, once by its reference; the same again may add pictures and words, and asks anew where it was refused."""
    with world.change() as db:
        if not _bought(world, seller, ask.model_dump()):
            raise HTTPException(422, f"no purchase {ask.purchase}")
        row = world.one("select * from claim where reference = ?", (reference,))
        body = json.dumps(ask.model_dump())
        if row and (row["state"] in ("accepted", "paid", "received") or row["body"] == body):
            return claim_out(seller, row)
        db.execute(
            "insert or replace into claim(reference, supplier, body, state, told, amount, at, tracking) values (?,?,?,?,?,?,?,?)",
            (reference, seller.code, body, "received", "", None, world.now(), None),
        )
        rng = random.Random(f"claim-{world.seed}-{reference}-{body}")
        if rng.random() >= world.dial(seller.code, "silent"):
            world.plan(world.now() + int(rng.uniform(0.5, 2.5) * DAY), "claim_answer", reference=reference)
        row = world.one("select * from claim where reference = ?", (reference,))
        assert row
        return claim_out(seller, row)


def _bought(world: World, seller: Seller, ask: dict[str, Any]) -> dict[str, Any] | None:
    """The purchase that a claim is about. Where the house brought a past of its own, one of before is known by what is asked for it."""
    row = world.one("select * from purchase where supplier = ? and reference = ? order by id", (seller.code, ask["purchase"]))
    if row or not world.fact("past_known", 0):
        return row
    body = json.dumps({"address": {"country": here().country}, "lines": []})
    return {"at": world.now() - 10 * DAY, "billed": seller.minor(ask["amount"]), "body": body}


def _answer(world: World, body: dict[str, Any]) -> None:
    row = world.one("select * from claim where reference = ?", (body["reference"],))
    if not row or row["state"] != "received":
        return
    ask, seller = json.loads(row["body"]), seller_named(row["supplier"])
    bought = _bought(world, seller, ask)
    rng = random.Random(f"answer-{world.seed}-{row['reference']}-{row['at']}")
    state, told, amount = "accepted", "", None
    if not bought or world.now() - bought["at"] > WINDOW * DAY or rng.random() < world.dial(seller.code, "refuses_claims"):
        state, told = "refused", f"we take claims within {WINDOW} days, and with a reason that we can follow"
    elif ask["reason"] in PROVEN and not ask["pictures"]:
        state, told = "question", "please send a picture of it"
    elif ask["wish"] == "again":
        world.plan(world.now() + 5 * HOUR, "claim_again", reference=row["reference"])
    else:
        asked = seller.minor(ask["amount"])
        most = bought["billed"] * 105 // 100
        share = 1.0 - min(world.dial(seller.code, "pays_less"), 0.9)
        amount = min(int(asked * share), most)
        world.plan(world.now() + 6 * HOUR, "claim_paid", reference=row["reference"])
    world.db.execute("update claim set state = ?, told = ?, amount = ? where reference = ?", (state, told, amount, row["reference"]))


def _paid(world: World, body: dict[str, Any]) -> None:
    world.db.execute("update claim set state = 'paid' where reference = ? and state = 'accepted'", (body["reference"],))


def _again(world: World, body: dict[str, Any]) -> None:
    """The same is sent once more for nothing: a purchase of its own that costs nothing, and its parcel."""
    row = world.one("select * from claim where reference = ? and state = 'accepted'", (body["reference"],))
    if not row:
        return
    ask = json.loads(row["body"])
    bought = _bought(world, seller_named(row["supplier"]), ask)
    assert bought
    done = world.db.execute(
        "insert into purchase(supplier, reference, at, state, body, told, billed, updated) values (?,?,?,?,?,?,?,?)",
        (row["supplier"], f"{ask['purchase']}-again", world.now(), "accepted", bought["body"], "", 0, world.now()),
    )
    HAPPENS["ship_again"](world, {"purchase": done.lastrowid, "reference": row["reference"]})


def claim_out(seller: Seller, row: dict[str, Any]) -> dict[str, Any]:
    return {
        "number": f"CL-{row['id']:05d}",
        "reference": row["reference"],
        "state": row["state"],
        "message": row["told"],
        "amount": None if row["amount"] is None else seller.text(row["amount"]),
        "currency": seller.currency,
        "tracking_number": row["tracking"],
        "carrier": "Swiftwing Post" if row["tracking"] else None,
    }


def claims_of(world: World, seller: Seller, references: list[str]) -> list[dict[str, Any]]:
    marks = ",".join("?" * len(references))
    rows = world.rows(f"select * from claim where supplier = ? and reference in ({marks}) order by id", [seller.code, *references])
    return [claim_out(seller, row) for row in rows]


HAPPENS |= {"claim_answer": _answer, "claim_paid": _paid, "claim_again": _again}
