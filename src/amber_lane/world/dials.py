"""Fault dials: the ways in which the outside misbehaves, turned on per service."""

from __future__ import annotations

import asyncio
import json
import time
from collections.abc import Awaitable, Callable, MutableMapping
from typing import Any

from .newcomers import NEWCOMERS
from .partners import SELLERS, SHOPS
from .print_goods import HOUSES
from .state import World

Message = MutableMapping[str, Any]
Receive = Callable[[], Awaitable[Message]]
Send = Callable[[Message], Awaitable[None]]

SERVICES = {
    **{code: one.name for code, one in SHOPS.items()},
    **{code: one.name for code, one in SELLERS.items()},
    **{code: house.seller.name for code, house in HOUSES.items()},
    **{code: one.name for code, one in NEWCOMERS.items()},
    "depot": "Larkfield Depot",
    "post": "Swiftwing Post",
    "bank": "Harbour Bank",
    "wharf": "Wharf Files",
    "mail": "Mailbox",
}
STORES, SUPPLIERS = tuple(SHOPS), (*SELLERS, *NEWCOMERS, *HOUSES)
CALLED = (*STORES, *SUPPLIERS, "depot", "post", "bank", "wharf")
# name -> (what it does, unit, services that know it)
DIALS: dict[str, tuple[str, str, tuple[str, ...]]] = {
    "slow": ("answers late by up to", "seconds", CALLED),
    "errors": ("fails before doing the work", "share", (*CALLED, "mail")),
    "lost_answer": ("does the work, then loses its answer", "share", CALLED),
    "rate_limit": ("takes at most so many calls a second", "calls", CALLED),
    "malformed": ("answers with a torn text", "share", (*CALLED, "mail")),
    "duplicates": ("says things twice", "share", (*STORES, "post")),
    "out_of_order": ("says things in the wrong order", "share", (*STORES, "post")),
    "webhook_lost": ("forgets to tell of new orders", "share", ("shop",)),
    "part_fails": ("fails a part of every batch", "share", ("fair",)),
    "penny": ("shows a price of 0.01", "share", SUPPLIERS),
    "zero_stock": ("shows no stock at all", "share", SUPPLIERS),
    "odd_rate": ("tells a rate with a digit lost", "share", ("bank",)),
    "askew": ("prints beside its place by", "percent", tuple(HOUSES)),
    "miscounts": ("counts lines of a load short", "share", ("depot",)),
    "damages": ("finds goods of a load damaged", "share", ("depot",)),
    "loses_carton": ("loses a carton of a load", "share", ("depot",)),
    "full": ("has no room, and leaves loads at the gate", "share", ("depot",)),
    "labels_unused": ("makes labels that buyers never use", "share", ("post",)),
    "never_sends": ("lets buyers never send what may come back", "share", ("shop", "fair")),
    "silent": ("never answers claims", "share", SUPPLIERS),
    "refuses_claims": ("refuses claims", "share", SUPPLIERS),
    "pays_less": ("pays less than was claimed, by", "share", SUPPLIERS),
    "frozen": ("stands still and shows old figures", "share", SUPPLIERS),
}


class FaultDials:
    """ASGI middleware that applies the dials of the service a path belongs to."""

    def __init__(self, app: Any, world: World) -> None:
        self.app, self.world = app, world

    async def __call__(self, scope: Message, receive: Receive, send: Send) -> None:
        service = scope.get("path", "").split("/")[1:2]
        if scope["type"] != "http" or not service or service[0] not in CALLED:
            await self.app(scope, receive, send)
            return
        await self._faulty(service[0], scope, receive, send)

    async def _faulty(self, service: str, scope: Message, receive: Receive, send: Send) -> None:
        world, luck = self.world, self.world.luck
        limit = world.dial(service, "rate_limit")
        calls, now = world.calls[f"any of {service}"], time.monotonic()
        while calls and calls[0] < now - 1:
            calls.popleft()
        if limit and len(calls) >= limit:
            await _answer(send, 429, {"error": "too many calls; wait a second"}, [(b"retry-after", b"1")])
            return
        calls.append(now)
        if slow := world.dial(service, "slow"):
            await asyncio.sleep(luck.uniform(0, slow))
        if luck.random() < world.dial(service, "errors"):
            await _answer(send, 503, {"error": "out of order for the moment"})
            return
        lose = luck.random() < world.dial(service, "lost_answer")
        tear = luck.random() < world.dial(service, "malformed")
        if not (lose or tear):
            await self.app(scope, receive, send)
            return
        kept: list[Message] = []

        async def keep(message: Message) -> None:
            kept.append(message)

        await self.app(scope, receive, keep)
        if lose and luck.random() < float(world.fact("breaks_off", 0.3)):
            # The work is done, and the line breaks in the middle of the answer.
            await send({"type": "http.response.start", "status": 200, "headers": [(b"content-length", b"100")]})
            await send({"type": "http.response.body", "body": b"{", "more_body": True})
            return
        if lose:
            # The work is done; whoever asked gives up long before this answer goes out.
            await asyncio.sleep(float(world.fact("hold_seconds", 12)))
        if tear:
            body = b"".join(one.get("body", b"") for one in kept)
            await _raw(send, kept[0]["status"], body[: len(body) // 2] or b"{")
            return
        for message in kept:
            await send(message)


async def _answer(send: Send, status: int, body: dict[str, Any], headers: list[tuple[bytes, bytes]] | None = None) -> None:
    await _raw(send, status, json.dumps(body).encode(), headers)


async def _raw(send: Send, status: int, body: bytes, headers: list[tuple[bytes, bytes]] | None = None) -> None:
    head = [(b"content-type", b"application/json"), (b"content-length", str(len(body)).encode()), *(headers or [])]
    await send({"type": "http.response.start", "status": status, "headers": head})
    await send({"type": "http.response.body", "body": body})
