"""The bank: one table of exchange rates a day, that wanders a little."""

from __future__ import annotations

import random
from decimal import Decimal
from typing import Any

from fastapi import HTTPException, Request

from . import lands
from .counter import world_of
from .routes import Router
from .state import World, iso

router = Router(prefix="/bank/api")
DAY = 86_400_000
# How far a day goes at most in parts of ten thousand, and how many days a walk remembers.
WIDEST, LAPS = 35, 40


def _enter(request: Request) -> World:
    world = world_of(request)
    if request.headers.get("bank-key") != f"{world.key}-bank":
        raise HTTPException(401, "unknown key")
    return world


@router.get("/account")
def account(request: Request) -> dict[str, Any]:
    _enter(request)
    return {"name": "Harbour Bank", "may": ["read rates of the day"], "account": "HB-9034"}


@router.get("/table")
def table(request: Request) -> dict[str, Any]:
    """The day's rates for one unit of the land's money: the same all day, whoever asks."""
    world = _enter(request)
    day = world.now() // DAY
    rates = {money: str(rate(world, money, day)) for money in lands.POUND if money != lands.here().currency}
    if world.luck.random() < world.dial("bank", "odd_rate"):
        rates["PLN"] = str(rate(world, "PLN", day) / 10)
    return {"as_of": iso(day * DAY), "base": lands.here().currency, "rates": rates}


def rate(world: World, money: str, day: int) -> Decimal:
    """Each day moves by a step of its own; the sum of the last forty keeps it near where it began."""
    steps = [random.Random(f"{world.seed}-{money}-{day - back}").randint(-WIDEST, WIDEST) for back in range(LAPS)]
    start = Decimal(lands.POUND[money]) / Decimal(lands.POUND[lands.here().currency])
    return (start * (10_000 + sum(steps) // 4) / 10_000).quantize(Decimal("0.0001") if start > 1 else Decimal("0.0000001"))
