"""A sweep in which everything changed, from sightings to outbox, against raw writes of the same rows."""

from __future__ import annotations

import sqlite3
import statistics
import tempfile
from datetime import UTC, datetime, timedelta
from pathlib import Path

import numpy as np

from amber_lane.data.setup import Supplier
from amber_lane.jobs.portions import Portions
from amber_lane.services.base.context import Context
from amber_lane.services.monitoring import large_sweeps, sweeps

from . import big
from .measure import Report, memory_mb, seconds

TABLES = ("sighting", "listing_decision", "outbox")


def raw(path: Path, target: Path) -> float:
    """What raw sqlite3 needs to write the rows of the last sweep: sightings, responses, outbox; and the updates of items and listings."""
    source = sqlite3.connect(path)
    rows = {name: source.execute(f"select * from {name} order by id desc limit 100000").fetchall() for name in TABLES}
    items = source.execute("select cost, stock, offer, seen_at, changed_at, doubt_cost, doubt_stock, doubt_seen, id from item").fetchall()
    listings = source.execute(
        "select wanted_price, wanted_quantity, state, paused_by, steady, lane_id, landed, profit, net, set_by, outcome, version, step_price, step_at, id from listing"
    ).fetchall()
    kept = ("item", "listing", "sku", "store", "supplier", "origin", "lane", "sweep")
    # The tables alone, without what is worked out from them at every write.
    names = ", ".join(f"'{name}'" for name in (*kept, *TABLES))
    query = f"select sql from sqlite_master where sql is not null and type in ('table', 'index') and tbl_name in ({names})"
    schema = [row[0] for row in source.execute(query)]
    out = sqlite3.connect(target, isolation_level=None)
    for pragma in ("journal_mode=WAL", "synchronous=NORMAL", "cache_size=-64000"):
        out.execute(f"pragma {pragma}")
    for statement in schema:
        out.execute(statement)
    for name in kept:
        full = source.execute(f"select * from {name}").fetchall()
        out.execute("begin")
        out.executemany(f"insert into {name} values ({','.join('?' * len(full[0]))})", full)
        out.execute("commit")

    def write() -> None:
        out.execute("begin immediate")
        for name in TABLES:
            out.executemany(f"insert into {name} values ({','.join('?' * len(rows[name][0]))})", rows[name])
        out.executemany(
            "update item set cost=?, stock=?, offer=?, seen_at=?, changed_at=?, doubt_cost=?, doubt_stock=?, doubt_seen=? where id=?", items
        )
        out.executemany(
            "update listing set wanted_price=?, wanted_quantity=?, state=?, paused_by=?, steady=?, lane_id=?, landed=?, profit=?, net=?, set_by=?, outcome=?,"
            " version=?, step_price=?, step_at=? where id=?",
            listings,
        )
        out.execute("commit")

    return seconds(write)


def run(report: Report, n: int = 100_000) -> None:
    ratios, times, first = [], [], 0.0
    rng = np.random.default_rng(5)
    for lap in range(3):
        with tempfile.TemporaryDirectory() as folder:
            db = big.make(Path(folder), n)
            with db.reading() as s:
                cost = np.array([row[0] for row in s.connection().exec_driver_sql("select cost from item order by id")], dtype=np.int64)
            told = sweeps.SweepData(
                [f"IT-{i:06d}" for i in range(1, n + 1)],
                cost * rng.integers(104, 130, n) // 100 + 1,
                ["GBP"] * n,
                rng.integers(3, 60, n).astype(np.int64),
                datetime.now(UTC) + timedelta(seconds=lap),
            )

            def sweep() -> None:
                # As the worker does it: in portions that let others write, and what follows for listings after it.
                with db.writing() as s:
                    context = Context(s, big.CLOCK, "Watch")
                    number = sweeps.begin(context, context.get(Supplier, 1, "supplier")).id
                large_sweeps.carry_out(db.reading, db.writing, lambda s: Context(s, big.CLOCK, "Watch"), number, told)
                Portions(db, big.CLOCK).run_due()

            took = seconds(sweep)
            first = first or memory_mb()
            with db.reading() as s:
                counts = {name: s.connection().exec_driver_sql(f"select count(*) from {name}").scalar_one() for name in TABLES}
            assert counts["sighting"] == n and counts["outbox"] > n * 0.9, counts
            db.close()
            ratios.append(took / raw(Path(folder) / "big.db", Path(folder) / "raw.db"))
            times.append(took)
    ratio = statistics.median(ratios)
    report.add(
        f"sweep: {n:,} sightings decided and written",
        f"{statistics.median(times):.1f} s, {ratio:.2f} times the raw writes",
        "at most 2.5 times",
        ratio <= 2.5,
    )
    report.add("sweep: most memory the process has held after the first one", f"{first:.0f} MB", "under 600 MB", first < 600)
