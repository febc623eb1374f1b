"""Buyers who write: something came broken, wrong or never, and they say so by mail, some with a picture."""

from __future__ import annotations

import io
import json
import random
from email.message import EmailMessage
from typing import Any

from fastapi import HTTPException, Request
from PIL import Image, ImageDraw
from pydantic import BaseModel, ConfigDict, Field

from . import pop
from .counter import SENT, world_of
from .life import DAY, HAPPENS, HOUR
from .routes import Router
from .state import World

router = Router(prefix="/world")
SAYS = {
    "damaged": ("Broken on arrival", "it came today and is broken: there is a crack right across it. A picture is with this mail."),
    "missing": ("Something is missing", "the box came, but not all that I ordered was in it."),
    "wrong_item": ("Not what I ordered", "this is the wrong one, I ordered another. What shall I do with it?"),
    "lost": ("Where is my parcel?", "it says delivered, but nothing has arrived here and the neighbours have nothing either."),
    "defective": ("It does not work", "I tried it twice with fresh batteries and it does not work."),
    "changed_mind": ("I would like to return it", "it is fine, but I have changed my mind and would like to send it back."),
}


def write(world: World, number: str, reason: str, name: str = "", sender: str = "", picture: bool = True) -> None:
    """A mail of the buyer of an order. name, sender: of somebody else than whom its store knows."""
    row = world.one("select * from shop_order where number = ?", (number,))
    if row is None and not (name and sender):
        raise HTTPException(404, f"no order {number}")
    buyer = (json.loads(row["body"])["buyer"] if row else {}) | ({"name": name} if name else {})
    subject, text = SAYS[reason]
    mail = EmailMessage()
    mail["From"] = f"{buyer['name']} <{sender or buyer.get('email') or 'somebody@post.example'}>"
    mail["To"], mail["Subject"] = "orders@dusk-and-dial.example", f"{subject}, order {number}"
    mail["Message-ID"] = f"<{number}-{world.now()}@post.example>"
    mail.set_content(f"Hello,\n\nabout my order {number}: {text}\n\n{buyer['name']}\n")
    if picture and reason in ("damaged", "defective", "wrong_item"):
        mail.add_attachment(_photo(number), maintype="image", subtype="jpeg", filename="photo.jpg")
    pop.put(world, mail.as_bytes())


def _photo(number: str) -> bytes:
    """A picture of something with a crack, another one for each order."""
    rng = random.Random(f"photo-{number}")
    image = Image.new("RGB", (640, 480), (196, 188, 174))
    draw = ImageDraw.Draw(image)
    draw.rounded_rectangle((140, 100, 500, 380), 40, fill=(rng.randint(60, 160), rng.randint(60, 120), 90))
    crack = [(150 + 35 * n, 240 + rng.randint(-60, 60)) for n in range(11)]
    draw.line(crack, fill=(20, 20, 20), width=5)
    out = io.BytesIO()
    image.save(out, "JPEG", quality=80)
    return out.getvalue()


def perhaps(world: World, number: str) -> None:
    """Some days after an order has left, its buyer may write; how many do is a fact of the world."""
    rng = random.Random(f"complains-{world.seed}-{number}")
    if rng.random() < float(world.fact("complains", 0)):
        reason = rng.choice(sorted(SAYS))
        world.plan(world.now() + 2 * DAY + rng.randint(1, 30) * HOUR, "complain", number=number, reason=reason)


def _happens(world: World, body: dict[str, Any]) -> None:
    write(world, body["number"], body["reason"])


HAPPENS["complain"] = _happens
SENT.append(perhaps)


class Complaint(BaseModel):
    model_config = ConfigDict(extra="forbid")
    number: str
    reason: str = Field("damaged", pattern="^(damaged|missing|wrong_item|lost|defective|changed_mind)$")
    name: str = ""
    sender: str = ""
    picture: bool = True


@router.post("/complain")
def complain_now(request: Request, ask: Complaint) -> dict[str, str]:
    """The buyer of an order writes a mail now."""
    world = world_of(request)
    with world.change():
        write(world, ask.number, ask.reason, ask.name, ask.sender, ask.picture)
    return {"number": ask.number}
