"""Lanes by the hundred thousand: a sheet of 200,000 rows against the raw writes, the station's list, the queue and the faults."""

from __future__ import annotations

import csv
import io
import json
import sqlite3
import statistics
import sys
import tempfile
import time
from functools import partial
from pathlib import Path

from amber_lane.api.app import make_app_state
from amber_lane.clock import SystemClock
from amber_lane.data.session import Database
from amber_lane.services.base.context import Context
from amber_lane.services.imports.sheet_kinds import kind_of
from amber_lane.services.mapping import audit
from amber_lane.services.mapping.mapping_queue import to_settle
from amber_lane.settings import Settings
from amber_lane.sheets.table import read_sheet

from . import big
from .measure import Report, in_a_process, memory_mb, percentile, seconds, signed_in

ROWS = 200_000


def sheet(n: int) -> bytes:
    """A main lane for every SKU, each to the item before its own."""
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow(["store", "sku", "supplier", "item", "units_per_sale", "use"])
    writer.writerows(["Big shop", f"SKU-{i:06d}", "Supplier", f"IT-{(i % n) + 1:06d}", "1", "main"] for i in range(1, n + 1))
    return out.getvalue().encode()


def bare(folder: Path, n: int) -> Database:
    """The house of the other benchmarks, without its lanes."""
    db = big.make(folder, n)
    with db.writing() as s:
        s.connection().exec_driver_sql("delete from lane_part")
        s.connection().exec_driver_sql("delete from lane")
    return db


def taken(data: bytes, folder: Path, n: int) -> float:
    """Seconds to read, check and take the sheet, as its job does before its listings are looked at."""
    db, kind = bare(folder, n), kind_of("lanes")
    start = time.perf_counter()
    with db.reading() as s:
        rows = read_sheet(data, kind.required, kind.optional).rows
        checked = kind.check(Context(s, big.CLOCK, "bench"), rows, lambda done: None)
    with db.writing() as s:
        kind.take(Context(s, big.CLOCK, "bench"), checked)
    took = time.perf_counter() - start
    assert checked.counts == {"new": n, "changed": 0, "same": 0, "bad": 0}, checked.counts
    db.close()
    return took


def raw(data: bytes, folder: Path, n: int) -> float:
    """The least that writes the same rows: csv, two dictionaries of ids, executemany."""
    bare(folder, n).close()
    link = sqlite3.connect(folder / "big.db")
    start = time.perf_counter()
    skus = dict(link.execute("select code, id from sku"))
    items = dict(link.execute("select number, id from item"))
    rows = list(csv.DictReader(io.StringIO(data.decode())))
    link.executemany(
        "insert into lane(id, version, sku_id, sku_code, supplier_id, origin_id, service, priority, state, reason, opened_at, opened_by)"
        " values (?, 1, ?, ?, 1, 1, 't48', 0, 'new', '', ?, 'raw')",
        [(i, skus[row["sku"]], row["sku"], big.AT) for i, row in enumerate(rows, 1)],
    )
    link.executemany(
        "insert into lane_part(lane_id, item_id, units_num, units_den) values (?, ?, 1, 1)",
        [(i, items[row["item"]]) for i, row in enumerate(rows, 1)],
    )
    link.commit()
    took = time.perf_counter() - start
    link.close()
    return took


def alone(n: int) -> dict[str, float]:
    """Both in turn, in a process of its own, so that its memory can be told."""
    data, ratios, took = sheet(n), [], 0.0
    for _ in range(3):
        with tempfile.TemporaryDirectory() as one, tempfile.TemporaryDirectory() as other:
            took = taken(data, Path(one), n)
            ratios.append(took / raw(data, Path(other), n))
    return {"seconds": took, "ratio": statistics.median(ratios), "peak": memory_mb()}


def run(report: Report, n: int = 100_000) -> None:
    told = in_a_process("lanes", ROWS)
    report.add(
        f"lanes sheet: {ROWS:,} rows read, checked and taken",
        f"{told['seconds']:.1f} s, {told['ratio']:.2f} times raw csv and executemany, {told['peak']:.0f} MB",
        "at most 4 times",
        told["ratio"] <= 4,
    )
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        big.make(folder, n).close()
        house = make_app_state(Settings(data=folder, database_url=f"sqlite:///{folder / 'big.db'}", jobs=False), clock=SystemClock())
        with signed_in(house) as client:
            for what, query, every, aim in (
                ("by SKU", "sort=sku", 900, 50),
                ("filtered by state and supplier", "sort=sku&filters=state:open;supplier:1", 700, 50),
                ("searched by a word and sorted", "words=SKU-05&sort=sku", 90, 250),
            ):
                path = f"/api/v1/lanes?{query}&limit=100"
                client.get(path)
                times = [seconds(partial(client.get, f"{path}&offset={i * every}")) for i in range(60)]
                p95 = percentile(times, 0.95) * 1000
                report.add(f"lanes: 100 rows of {n:,} {what}, p95", f"{p95:.0f} ms", f"under {aim} ms", p95 < aim)
        with house.db.writing() as s:
            # So many listings are without a lane, and so many lanes shut, as in a shop that grows.
            s.connection().exec_driver_sql("delete from lane_part where lane_id <= 300")
            s.connection().exec_driver_sql("delete from lane where id <= 300")
            s.connection().exec_driver_sql("update lane set state = 'shut', reason = 'another pack' where id between 301 and 600")
        with house.db.reading() as s:
            context = Context(s, house.clock, "bench")
            rows = to_settle(context)
            assert len(rows) == 600
            queue = percentile([seconds(lambda: to_settle(context)) for _ in range(9)], 0.9) * 1000
            faults = percentile([seconds(lambda: audit.faults(context)) for _ in range(5)], 0.9) * 1000
        report.add(f"lanes: the queue of 600 among {n:,} SKUs", f"{queue:.0f} ms", "under 250 ms", queue < 250)
        report.add(f"lanes: {n:,} looked over for faults", f"{faults:.0f} ms", "under 2,000 ms", faults < 2000)
        house.db.close()


if __name__ == "__main__":
    print(json.dumps(alone(int(sys.argv[1]))))
