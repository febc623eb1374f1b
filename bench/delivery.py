"""Changes delivered to the practice store with one call each, in order per listing."""

from __future__ import annotations

import os
import socket
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import httpx
from sqlalchemy import select

from amber_lane.clock import SystemClock
from amber_lane.data.outbox import Outbox
from amber_lane.data.session import Database
from amber_lane.data.setup import FeeRow, Link, Store
from amber_lane.data.shelf import Listing
from amber_lane.jobs.delivery import Delivery
from amber_lane.jobs.polling import Reader
from amber_lane.services.base.context import Context
from amber_lane.services.base.credentials import CredentialStore
from amber_lane.services.outbox.listing_changes import want
from amber_lane.services.partners.registry import ConnectorRegistry

from .measure import Report, seconds


def run(report: Report, each: int = 4) -> None:
    with tempfile.TemporaryDirectory() as name, socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
        probe.close()
        env = os.environ | {"AMBER_LANE_DATA": name, "AMBER_LANE_WORLD_PORT": str(port)}
        world = subprocess.Popen([sys.executable, "-m", "amber_lane.cli", "world", "--speed", "0"], env=env)
        address = f"http://127.0.0.1:{port}"
        while True:
            try:
                httpx.get(f"{address}/world/clock", trust_env=False)
                break
            except httpx.HTTPError:
                time.sleep(0.1)
        try:
            _deliver(report, Path(name), address, each)
        finally:
            world.terminate()
            world.wait(10)


def _deliver(report: Report, folder: Path, address: str, each: int) -> None:
    db, clock, connectors = Database(f"sqlite:///{folder / 'bench.db'}"), SystemClock(), ConnectorRegistry(CredentialStore("bench"), 5)
    db.migrate()
    with db.writing() as s:
        s.add(
            Store(
                id=1,
                code="B",
                name="Bench",
                kind="own_site",
                country="GB",
                currency="GBP",
                write_prices=True,
                write_stock=True,
                mass_agreed=True,
            )
        )
        s.flush()
        s.add_all(
            (
                FeeRow(store_id=1),
                Link(
                    owner="store",
                    owner_id=1,
                    address=f"{address}/shop/api",
                    sealed_key=connectors.credentials.seal("dusk-dial:practice-shop"),
                    may=[],
                ),
            )
        )
    Reader(db, clock, connectors).listings(1)
    delivery, total = Delivery(db, clock, connectors), 0
    took = 0.0
    for lap in range(each):
        with db.writing() as s:
            context = Context(s, clock, "bench")
            for listing in s.scalars(select(Listing)).all():
                want(context, listing, price=listing.wanted_price + 100, quantity=lap + 1)
                total += 1
        took += seconds(lambda: delivery.run("store:1"))
    with db.reading() as s:
        left = s.scalars(select(Outbox).where(Outbox.state != "done")).all()
        sample = s.scalars(select(Listing)).first()
    assert not left and sample and sample.shown_quantity == each
    pace = total / took
    report.add(f"outbox: {total:,} changes delivered, one call each", f"{pace:.0f} a second", "at least 200 a second", pace >= 200)
    db.close()
