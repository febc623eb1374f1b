"""A small business in a test: the practice world as a process of its own, and a house that trades with it over HTTP."""

from __future__ import annotations

import fcntl
import hashlib
import os
import shutil
import socket
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from datetime import datetime
from functools import cache
from pathlib import Path
from typing import Any

import httpx
from sqlalchemy import select

from amber_lane.api.app import make_app_state
from amber_lane.api.deps import AppState
from amber_lane.clock import PacedClock
from amber_lane.core.states import OrderLineState, OutboxState
from amber_lane.data.lanes import Lane
from amber_lane.data.orders import Order, OrderLine
from amber_lane.data.outbox import Outbox
from amber_lane.data.prices import PriceRule
from amber_lane.data.session import Database
from amber_lane.data.setup import Store, Supplier
from amber_lane.data.shelf import Listing, Sku
from amber_lane.data.source import Item
from amber_lane.services.base import regional
from amber_lane.services.base.context import Context
from amber_lane.services.fulfilment import parcel_tracking
from amber_lane.services.listings import going_live
from amber_lane.services.mapping import lanes
from amber_lane.services.partners import connections
from amber_lane.services.people import users
from amber_lane.services.pricing.drafts import PolicyChange
from amber_lane.services.purchasing import purchase_orders
from amber_lane.settings import Settings

ROOT = Path(__file__).resolve().parents[1]
# Houses that say where they are; the others were there before that was asked.
ZONES, ENDINGS = {"US": "America/Denver", "JP": "Asia/Tokyo"}, {"JP": "80"}
KEYS = {"store": "dusk-dial:practice-shop", "supplier": "practice-northlight", "carrier": "practice-swiftwing"}


def free_ports() -> tuple[int, int]:
    """Neighbouring free ports: the world's and those of its mails, out and in."""
    while True:
        with socket.socket() as one, socket.socket() as two, socket.socket() as three, socket.socket() as four:
            one.bind(("127.0.0.1", 0))
            port = one.getsockname()[1]
            try:
                for n, other in enumerate((two, three, four), 1):
                    other.bind(("127.0.0.1", port + n))
            except OSError:
                continue
            return port, port + 1


class Worlds:
    """The worlds of a test process: one that nobody uses is begun anew for whoever comes next."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.free: list[WorldProcess] = []
        self.all: list[WorldProcess] = []

    @contextmanager
    def one(self, house: str = "GB") -> Iterator[WorldProcess]:
        """A world as it begins, for as long as it is needed."""
        world = next((one for one in self.free if one.house == house), None)
        if world is None:
            world = WorldProcess(self.folder / str(len(self.all)), house)
            self.all.append(world)
        else:
            self.free.remove(world)
            world.back("begun")
        yield world
        self.free.append(world)

    def stop(self) -> None:
        for world in self.all:
            world.stop()


@cache
def _own() -> tempfile.TemporaryDirectory[str]:
    """What is kept for all tests of this process, and goes with it."""
    return tempfile.TemporaryDirectory(prefix="amber-lane-")


@cache
def empty_file() -> Path:
    """A database file with all tables and nothing in them; making it anew for every test would be most of the time. It is made once for all
    processes, and kept until the code of the data changes."""
    code = sorted((ROOT / "src/amber_lane/data").rglob("*.py"))
    mark = hashlib.sha256(b"".join(one.read_bytes() for one in code)).hexdigest()[:16]
    folder = ROOT / ".pytest_cache"
    folder.mkdir(exist_ok=True)
    path = folder / f"empty-{mark}.db"
    with (folder / "empty.lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not path.exists():
            for old in folder.glob("empty-*"):
                old.unlink()
            made = Path(_own().name) / "empty.db"
            db = Database(f"sqlite:///{made}")
            db.migrate()
            with db.engine.connect() as connection:
                connection.exec_driver_sql("pragma wal_checkpoint(truncate)")
            db.close()
            shutil.copy(made, part := path.with_suffix(".part"))
            part.replace(path)
    return path


def begin(folder: Path) -> None:
    """A house's folder with a database that has nothing in it, as its first start would make it."""
    folder.mkdir(parents=True, exist_ok=True)
    if not (folder / "amber-lane.db").exists():
        shutil.copy(empty_file(), folder / "amber-lane.db")


class WorldProcess:
    """The practice world in a process of its own, with its clock paused."""

    def __init__(self, folder: Path, house: str = "GB") -> None:
        self.house = house
        # Another test may take a port in the moment between its being free and its being used: then there are others.
        for _ in range(4):
            self.port, self.mail_port = free_ports()
            self.address = f"http://127.0.0.1:{self.port}"
            if self._start(folder):
                break
        else:
            raise RuntimeError("the practice world does not start")
        self.post("facts", name="buyers_a_day", value=0)
        self.post("facts", name="hold_seconds", value=1.2)
        # Waiting for an answer that is held is waiting: most that are lost break off.
        self.post("facts", name="breaks_off", value=0.8)
        self.post("facts", name="comes_back", value=0)
        # Nothing moves by itself: what changes in a test is what the test changes.
        self.post("facts", name="market_share", value=0)
        # Houses as they stood at moments that were kept, by the moment's name.
        self.houses: dict[str, Path] = {}
        self.keep("begun")

    def _start(self, folder: Path) -> bool:
        """Whether it came up on its ports."""
        env = os.environ | {"AMBER_LANE_DATA": str(folder), "AMBER_LANE_WORLD_PORT": str(self.port)}
        self.process = subprocess.Popen(
            [sys.executable, "-m", "amber_lane.cli", "world", "--small", "--speed", "0", "--house", self.house], env=env
        )
        # Given up before the world gives it up: a connection that both leave at once would lose the next question.
        limits = httpx.Limits(keepalive_expiry=2)
        self.client = httpx.Client(base_url=self.address, timeout=60, trust_env=False, limits=limits)
        until = time.monotonic() + 30
        while True:
            try:
                self.client.get("/world/clock")
                return self.process.poll() is None
            except httpx.HTTPError:
                if self.process.poll() is not None or time.monotonic() > until:
                    self.client.close()
                    self.process.kill()
                    return False
                time.sleep(0.05)

    def post(self, path: str, **body: Any) -> dict[str, Any]:
        if path == "buy":
            # Somebody of the house's own country buys in the own shop, unless a test says who and where: nobody sends to all others.
            body = {"store": "shop", "country": self.house, **body}
        response = self.client.post(f"/world/{path}", json=body)
        assert response.is_success, response.text
        return response.json()

    def record(self) -> dict[str, Any]:
        return self.client.get("/world/record").json()

    def shown(self, sku: str) -> list[dict[str, Any]]:
        return self.client.get(f"/world/record/listings/{sku}").json()["shown"]

    def dial(self, service: str, name: str, value: float) -> None:
        self.post("dials", service=service, name=name, value=value)

    def calm(self) -> None:
        for service in self.client.get("/world/dials").json()["services"]:
            for dial in service["dials"]:
                if dial["value"]:
                    self.dial(service["service"], dial["name"], 0)

    def keep(self, name: str) -> None:
        self.client.put(f"/world/moments/{name}").raise_for_status()

    def back(self, name: str) -> None:
        """The world as it was at a moment that was kept."""
        self.client.post(f"/world/moments/{name}").raise_for_status()

    def stop(self) -> None:
        self.client.close()
        self.process.terminate()
        self.process.wait(10)


class Business:
    """A house joined to the world, with lanes opened by barcode and one house rule."""

    def __init__(self, world: WorldProcess, folder: Path, joined: bool = True) -> None:
        self.world, self.folder = world, folder
        # Whether a worker runs beside us, which may have in hand what is waited for.
        self.beside = False
        self.app_state = self.open()
        if joined:
            world.back("begun")
            self.at("joined", self.join)

    def at(self, moment: str, make: Callable[[], object]) -> None:
        """House and world as they are after `make`, which is done once for all tests of a world that begin there."""
        kept = self.world.houses.get(moment)
        if kept is None:
            make()
            self.world.houses[moment] = kept = Path(tempfile.mkdtemp(dir=_own().name)) / "house"
            self.world.keep(moment)
            self.close()
            shutil.copytree(self.folder, kept)
        else:
            self.world.back(moment)
            self.close()
            shutil.rmtree(self.folder)
            shutil.copytree(kept, self.folder)
        self.app_state = self.open()

    def open(self) -> AppState:
        begin(self.folder)
        settings = Settings(data=self.folder, world=self.world.address, jobs=False, call_deadline=0.6, web=self.folder)
        made = make_app_state(settings)
        # What fails is asked again at once: the world is none the better for a rest.
        made.worker.reader.rest = lambda seconds: None
        return made

    def context(self, s: Any, who: str = "Tester") -> Context:
        return Context(s, self.app_state.clock, who)

    def join(self) -> None:
        with self.app_state.db.writing() as s:
            context = self.context(s)
            users.make_person(context, "Tester", "tester@amber-lane.example", "long-enough-word")
            if self.world.house in ZONES:
                regional.set_usual_place(context, self.world.house, ZONES[self.world.house])
            parcel_tracking.make_templates(context)
            for owner, kind, path in (
                ("store", "own_site", "/shop/api"),
                ("supplier", "wholesale_api", "/wholesale/api"),
                ("carrier", "post_api", "/post/api"),
            ):
                given = connections.Join(owner, kind, "", f"{self.world.address}{path}", KEYS[owner])
                connections.join_partner(
                    context, self.app_state.connectors, given, connections.ask_account(self.app_state.connectors, given)
                )
            mail = connections.Join("mailbox", "smtp", "Mail", f"smtp://127.0.0.1:{self.world.mail_port}|{self.world.address}/mail/api")
            connections.join_partner(context, self.app_state.connectors, mail, connections.ask_account(self.app_state.connectors, mail))
            going_live.all_on(context, s.scalars(select(Store)).one())
            # What was sold in the world before this house opened is not its business.
            s.scalars(select(Store)).one().orders_cursor = str(max([0, *(one["seq"] for one in self.world.record()["orders"])]))
            s.add(
                PriceRule(
                    scope="house",
                    scope_key="",
                    rule="margin",
                    rule_value=280_000,
                    min_profit=150,
                    endings=ENDINGS.get(self.world.house, "95"),
                )
            )
            PolicyChange("house", "", {"send": "hand", "resume_sweeps": 2}).keep(context)
        self.app_state.reader.catalogue(1)
        self.app_state.reader.listings(1)
        with self.app_state.db.writing() as s:
            context = self.context(s)
            pairs = s.execute(select(Sku.id, Item.id).join(Item, (Item.gtin == Sku.gtin) & (Item.gtin != ""))).all()
            for sku, item in pairs:
                lanes.open_lane(context, sku, [lanes.LaneItem(item, lanes.Fraction(1))])
        self.settle()

    def follow(self) -> None:
        answer = self.world.client.get("/world/clock").json()
        assert isinstance(self.app_state.clock, PacedClock)
        self.app_state.clock.set(datetime.fromisoformat(answer["now"]), answer["speed"])

    def on(self, minutes: float) -> None:
        """Let time pass in the world, without anything being done here."""
        self.world.post("clock", jump_minutes=minutes)
        self.follow()

    def sweep(self) -> dict[str, int]:
        self.on(1)
        return self.app_state.reader.sweep(1, "test")

    def settle(self, rounds: int = 1) -> None:
        """Carry out what waits in the outbox, however often it must be tried."""
        for _ in range(rounds):
            self.app_state.worker.deliver()
        until = time.monotonic() + 20
        while self.beside and self.all(select(Outbox.id).where(Outbox.state == OutboxState.claimed)):
            assert time.monotonic() < until, "what is in hand was not done in time"
            time.sleep(0.05)

    def ask_at_once(self) -> bool:
        """What nobody knows the fate of is asked for when it is next looked at, without the rest that it is given. Whether there is any."""
        waiting = self.app_state.worker.delivery.not_before
        waiting.update(dict.fromkeys(waiting, 0.0))
        return bool(waiting)

    def round(self, minutes: float = 15) -> None:
        self.on(minutes)
        self.app_state.worker.once()

    def buy(self, **wish: Any) -> str:
        number: str = self.world.post("buy", **wish)["number"]
        self.app_state.reader.orders(1)
        return number

    def one(self, query: Any) -> Any:
        with self.app_state.db.reading() as s:
            return s.scalars(query).one()

    def all(self, query: Any) -> list[Any]:
        with self.app_state.db.reading() as s:
            return list(s.scalars(query))

    def listing(self, sku: str) -> Listing:
        return self.one(select(Listing).join(Sku, Sku.id == Listing.sku_id).where(Sku.code == sku))

    def listing_in(self, store: int, sku: str) -> Listing:
        return self.one(select(Listing).join(Sku, Sku.id == Listing.sku_id).where(Sku.code == sku, Listing.store_id == store))

    def laned(self, place: int = 0) -> tuple[str, Item]:
        """A SKU that is on sale with plenty behind it, and its item."""
        with self.app_state.db.reading() as s:
            rows = s.execute(
                select(Sku.code, Item)
                .join(Lane, Lane.sku_id == Sku.id)
                .join(lanes.LanePart, lanes.LanePart.lane_id == Lane.id)
                .join(Item, Item.id == lanes.LanePart.item_id)
                .join(Listing, Listing.sku_id == Sku.id)
                .where(Listing.state == "live", Item.stock > 12)
                .order_by(Sku.code)
            ).all()
        return rows[place][0], rows[place][1]

    def on_the_road(self, *places: int) -> list[OrderLine]:
        """Lines of one order each, of the SKUs at these places, that a supplier has sent."""
        numbers = [self.buy(sku=self.laned(place)[0], quantity=1) for place in places]
        orders = self.all(select(Order.id).where(Order.number.in_(numbers)))
        with self.app_state.db.writing() as s:
            purchase_orders.send(self.context(s), orders)
        self.settle()
        for turn in range(10):
            self.on(8 * 60 if turn < 4 else 60)
            self.app_state.reader.answers(1)
            lines = self.all(select(OrderLine).where(OrderLine.order_id.in_(orders)).order_by(OrderLine.id))
            if turn < 3:
                continue
            if all(one.state == OrderLineState.on_the_road for one in lines):
                return lines
            # A busy machine answers too late now and then; what was lost so is asked for, and goes again.
            self.ask_at_once()
            self.settle()
        raise AssertionError(f"not all were sent: {[one.state for one in lines]}")

    def close(self) -> None:
        self.app_state.db.close()


__all__ = ["Business", "Store", "Supplier", "WorldProcess"]
