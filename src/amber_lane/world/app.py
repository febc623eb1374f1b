"""The practice world as one application, with a thread that lets time do its work."""

from __future__ import annotations

import json
import threading
import time
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from typing import Any

import httpx
from fastapi import FastAPI, HTTPException, Request
from fastapi.responses import JSONResponse

from . import (
    cinder,
    complaints,
    consent,
    control,
    craft,
    depot,
    fair,
    fern,
    folder,
    front,
    imap,
    mail,
    marram,
    pop,
    post,
    printing,
    rates,
    retail,
    returns,
    shop,
    wharf,
    wholesale,
)
from .counter import order_out
from .dials import FaultDials
from .life import live
from .shop import sign
from .state import World, iso


def make_app(world: World, mail_port: int | None = None, tick: float = 0.2) -> FastAPI:
    """The world's HTTP face. tick: real seconds between looks at what is due."""
    stop = threading.Event()

    @asynccontextmanager
    async def life(app: FastAPI) -> AsyncIterator[None]:
        controller = mail.start_mail(world, mail_port) if mail_port else None
        # The mailbox that mail to us comes to has the ports after the one that takes mail from us: POP3, then IMAP.
        houses = [pop.start_pop(world, mail_port + 1), imap.start_imap(world, mail_port + 2)] if mail_port else []
        thread = threading.Thread(target=_run, args=(app, world, stop, tick), daemon=True)
        thread.start()
        yield
        stop.set()
        thread.join(2)
        if controller:
            controller.stop()
        for house in houses:
            house.shutdown()
            house.server_close()
        world.set_clock()

    app = FastAPI(title="Practice world", lifespan=life, docs_url=None, redoc_url=None)
    app.state.world, app.state.hooks = world, []
    for part in (
        shop,
        fair,
        craft,
        wholesale,
        folder,
        retail,
        printing,
        depot,
        post,
        rates,
        mail,
        control,
        complaints,
        returns,
        fern,
        marram,
        cinder,
        wharf,
        consent,
        front,
    ):
        app.include_router(part.router)
    app.add_middleware(FaultDials, world=world)

    @app.exception_handler(404)
    async def nowhere(request: Request, error: HTTPException) -> JSONResponse:
        # Whoever asks for something by a path that is there is told by it; a path that is not is answered with where to look.
        if "endpoint" in request.scope:
            return JSONResponse({"detail": error.detail}, 404)
        return front.nowhere(request)

    @app.exception_handler(Exception)
    async def failed(_: Request, error: Exception) -> JSONResponse:
        return JSONResponse({"error": str(error)}, 500)

    return app


def _run(app: FastAPI, world: World, stop: threading.Event, tick: float) -> None:
    """Live, tell of new orders, and keep the hand of the clock so that a killed world wakes where it was."""
    with httpx.Client(timeout=3) as client:
        laps = 0
        while not stop.wait(tick):
            hooks: list[dict[str, Any]] = app.state.hooks
            hooks.extend(live(world))
            laps += 1
            if world.speed and laps % 10 == 0:
                world.set_clock()
            while hooks:
                _tell(client, world, hooks.pop(0))


def _tell(client: httpx.Client, world: World, order: dict[str, Any]) -> None:
    hook = world.fact("webhook")
    if not hook or order["store"] != "shop" or world.luck.random() < world.dial("shop", "webhook_lost"):
        return
    row = world.one("select * from shop_order where number = ?", (order["number"],))
    if not row:
        return
    if late := world.dial("shop", "slow"):
        time.sleep(world.luck.uniform(0, late))
    body = json.dumps(order_out(row)).encode()
    at = iso(world.now())
    times = 2 if world.luck.random() < world.dial("shop", "duplicates") else 1
    for _ in range(times):
        try:
            client.post(
                hook["address"],
                content=body,
                headers={"Shop-Signed-At": at, "Shop-Signature": sign(hook["secret"], at, body), "Content-Type": "application/json"},
            )
        except httpx.HTTPError:
            # Like many shops, this one does not try again; the orders are there to be read.
            return
