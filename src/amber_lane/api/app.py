"""The application: one house, its routers under /api/v1, and the built pages."""

from __future__ import annotations

import asyncio
import contextlib
import threading
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from functools import cache
from pathlib import Path

import anyio.to_thread
import httpx
import structlog
from fastapi import APIRouter, Depends, FastAPI, Request
from fastapi.responses import HTMLResponse, Response
from fastapi.routing import APIRoute
from starlette.exceptions import HTTPException
from starlette.middleware.gzip import GZipMiddleware
from starlette.routing import BaseRoute
from starlette.staticfiles import StaticFiles
from starlette.types import Scope

from .. import __version__
from ..beside import Beside
from ..clock import Clock, clock_of
from ..connectors import outside
from ..data.backups import before_change
from ..data.session import Database
from ..jobs.worker import Worker
from ..memory import give_back
from ..services.base.credentials import CredentialStore
from ..services.partners.registry import ConnectorRegistry
from ..settings import Settings
from .alerts import today
from .books import costs, held_against, profit, ranking
from .catalogue import search
from .claims import buyer_mails, returns
from .claims import cases as claim_cases
from .delivery import agent_leases
from .depot import goods as depot_goods
from .depot import goods_acts as depot_acts
from .depot import loads as depot_loads
from .deps import AppState, known_questions, seated
from .document import describe
from .errors import add_errors
from .fulfilment import parcels
from .guard import ROOT, permitted
from .headers import Guard
from .imports import sheets
from .inbound import agent_portal
from .listings import allowance, going_live, listings, variant_matrix
from .mapping import lanes, mapping_queue
from .monitoring import catalogue_sheets, decision_groups, sweeps
from .orders import order_acts, orders
from .partners import connections, descriptions, files, first_steps, life_cycle, partner_terms
from .people import approvals, own_sign_in, own_work, program_keys, roles, sign_in, users
from .pricing import exchange_rates, explanations, prices
from .printing import artwork, designs, pictures
from .pulse import Live
from .purchasing import buying_accounts, payment_batches, purchase_orders
from .sourcing import sourcing

# Reads slow each other down when many threads share one interpreter; a few keep the answers even.
THREADS = 6


class Pages(StaticFiles):
    """The built pages; an unknown path that is not a file is the application's own view. root: the path under which they stand."""

    def __init__(self, folder: Path, root: str) -> None:
        super().__init__(directory=folder, html=True)
        self.file, self.root = folder / "index.html", root
        self.read: tuple[int, str] = (0, "")

    @property
    def page(self) -> str:
        """The first page as it is built now: pages that were built anew have other names for their parts."""
        try:
            built = self.file.stat().st_mtime_ns
            if built != self.read[0]:
                self.read = built, self.file.read_text("utf-8").replace('<base href="/" />', f'<base href="{self.root}/" />')
        except FileNotFoundError:
            # They are being built at this moment.
            pass
        return self.read[1]

    async def get_response(self, path: str, scope: Scope) -> Response:
        if path in (".", "", "index.html"):
            return HTMLResponse(self.page)
        try:
            return await super().get_response(path, scope)
        except HTTPException as error:
            if error.status_code != 404 or path.startswith(("api/", "assets/")):
                raise
            return HTMLResponse(self.page)


def make_app_state(settings: Settings, transport: httpx.BaseTransport | None = None, clock: Clock | None = None) -> AppState:
    """Open the data folder and all that stands on it; tables are brought up to date."""
    settings.data.mkdir(parents=True, exist_ok=True)
    outside.allow(settings.reachable)
    db = Database(settings.url)
    _for_its_owner_alone(settings.data, db)
    if kept := before_change(db, settings.data):
        structlog.get_logger().warning("the data was copied before its shape is changed", backup=str(kept))
    db.migrate()
    credentials = CredentialStore.at(settings.data, settings.secret)
    hand = clock or clock_of(settings.world)
    connectors = ConnectorRegistry(credentials, settings.call_deadline, transport)
    return AppState(settings, db, hand, connectors, Worker(db, hand, connectors, settings.data, settings.world))


def _known(scope: Scope) -> bool:
    """Whether a request is of somebody who is signed in, or of a store's program."""
    request = Request(scope)
    try:
        return seated(request) is not None or agent_leases.holds_token(request)
    except HTTPException:
        # Wrong keys too often: a stranger, who is told so where the call is answered.
        return False


def _for_its_owner_alone(folder: Path, db: Database) -> None:
    """Whatever was made under other habits: nobody else on this machine reads the data, its sheets or its secret."""
    file = db.engine.url.database if db.sqlite else None
    ours = [folder / "secret"]
    if file and file != ":memory:":
        # What the database puts beside its file has that one's rights.
        Path(file).touch(0o600)
        ours += [Path(file + end) for end in ("", "-wal", "-shm")]
    # What belongs to another user of this machine is left to them.
    with contextlib.suppress(PermissionError):
        folder.chmod(0o700)
        for one in ours:
            if one.is_file():
                one.chmod(0o600)


# Who comes in by these has another key, or none yet.
OPEN_TO_ALL = (sign_in, own_sign_in, agent_leases, agent_portal)
GUARDED = (
    today, mapping_queue, lanes, prices, explanations, exchange_rates, sweeps, buying_accounts, first_steps, going_live, life_cycle, users,
    roles, approvals, own_work, program_keys,
    purchase_orders, payment_batches, decision_groups, order_acts, orders, parcels, connections, descriptions, files, sheets, partner_terms,
    allowance, catalogue_sheets, sourcing, search, listings, variant_matrix, profit, held_against, costs, ranking,
    artwork, designs, pictures, depot_goods, depot_acts, depot_loads, claim_cases, buyer_mails, returns,
)  # fmt: skip


def _unique(route: APIRoute) -> str:
    return f"{route.tags[0] if route.tags else 'app'}_{route.name}"


@cache
def _routes() -> list[BaseRoute]:
    """Every call of the interface; one application's are like another's, and building their checks takes half a second."""
    made = APIRouter(prefix=ROOT, generate_unique_id_function=_unique)
    for part in OPEN_TO_ALL:
        made.include_router(part.router, dependencies=[Depends(known_questions)])
    for part in GUARDED:
        made.include_router(part.router, dependencies=[Depends(permitted), Depends(known_questions)])
    return made.routes


def make_app(app_state: AppState, beside: Beside | None = None) -> FastAPI:
    """The application over a house. beside: the process of all that runs by itself, where it is not this one."""

    @asynccontextmanager
    async def life(app: FastAPI) -> AsyncIterator[None]:
        anyio.to_thread.current_default_thread_limiter().total_tokens = THREADS
        app.state.live = Live(app_state)
        looking = asyncio.create_task(app.state.live.run())
        if app_state.settings.jobs:
            app_state.worker.start()
        if beside is not None:
            beside.start()
        if app_state.settings.jobs or beside is not None:
            threading.Thread(target=app_state.warm, daemon=True, name="warm").start()
        pace = asyncio.create_task(_keep_pace(app_state)) if beside is not None else None
        yield
        looking.cancel()
        if pace is not None:
            pace.cancel()
        if beside is not None:
            await anyio.to_thread.run_sync(beside.stop)
        if app_state.settings.jobs:
            await anyio.to_thread.run_sync(app_state.worker.stop)
        app_state.db.close()

    app = FastAPI(
        title="Amber Lane",
        version=__version__,
        lifespan=life,
        openapi_url="/api/openapi.json",
        docs_url=None,
        redoc_url=None,
        generate_unique_id_function=_unique,
    )
    app.state.app_state = app_state
    add_errors(app)
    describe(app)
    app.router.routes.extend(_routes())

    @app.get("/api/health", tags=["app"])
    def health() -> dict[str, str]:
        return {"status": "ok", "version": __version__}

    app.add_middleware(GZipMiddleware, minimum_size=2000)
    app.add_middleware(Guard, sealed=app_state.settings.sealed, known=_known)
    _add_pages(app, app_state.settings.web, app_state.settings.root)
    return app


async def _keep_pace(app_state: AppState) -> None:
    """Where the worker is another process, this one follows the practice world's clock by itself, and gives back memory."""
    while True:
        await asyncio.sleep(0.5 if app_state.settings.world else 20.0)
        try:
            await anyio.to_thread.run_sync(app_state.worker.follow_clock if app_state.settings.world else give_back)
        except httpx.HTTPError:
            # The next look will do.
            continue


def _add_pages(app: FastAPI, folder: Path, root: str) -> None:
    if (folder / "index.html").is_file():
        app.mount("/", Pages(folder, root), name="pages")
    else:
        structlog.get_logger().warning("no built pages", folder=str(folder))
