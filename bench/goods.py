"""Finding goods, catalogue sheets, pasted lines, publishing in batches, and the allowance plan."""

from __future__ import annotations

import csv
import io
import json
import random
import sqlite3
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

import numpy as np
from sqlalchemy import select, update

from amber_lane.api.catalogue.search import item_rows
from amber_lane.connectors.protocols import BatchAnswer, CatalogueItem, ListingChange
from amber_lane.core.allowance import plan
from amber_lane.data.outbox import Job, Outbox
from amber_lane.data.setup import Supplier
from amber_lane.data.shelf import Listing
from amber_lane.data.source import Item
from amber_lane.jobs.background_jobs import LongJobs
from amber_lane.jobs.batches import Batches
from amber_lane.jobs.outbox_senders import PictureDesk
from amber_lane.services.base.context import Context
from amber_lane.services.base.job_queue import start
from amber_lane.services.catalogue import ingest
from amber_lane.services.catalogue.search import Finder, Search
from amber_lane.services.listings import publishing
from amber_lane.services.monitoring import catalogue_sheets
from amber_lane.sheets.mapped import look

from . import big
from .measure import Report, in_a_process, percentile, seconds

WORDS = ("headlamp", "red padded", "star", "map moon", "stool", "chart 77", "ca", "field", "", "stool padded", "IT-0042", "canvas blue")
SORTS = ("profit", "margin", "days", "lands", "stock")
NOUNS = ("headlamp", "star chart", "field stool", "dew strap", "moon map", "thermal mug", "night vest", "bat kit")


def sheet(n: int) -> bytes:
    rng, out = random.Random(4), io.StringIO(newline="")
    writer = csv.writer(out, delimiter=";")
    writer.writerow(["Number", "Name", "EAN", "Maker", "Group", "Options", "Pack", "Grams", "Price", "Currency", "Stock"])
    for i in range(n):
        noun, cost = NOUNS[i % len(NOUNS)], rng.randint(100, 9000)
        words = [f"CS-{i:06d}", f"{noun} {i % 977}, padded", "", f"maker {i % 40}", f"cat {i % 20}", "navy", 1, 200]
        writer.writerow([*words, f"{cost // 100},{cost % 100:02d}", "GBP", rng.randint(0, 500)])
    return out.getvalue().encode()


def raw_sheet(data: bytes, path: Path) -> None:
    """What csv and executemany alone need for the same rows into the same table."""
    base = sqlite3.connect(path, isolation_level=None)
    base.execute("pragma synchronous=NORMAL")
    base.execute("begin immediate")
    reader = csv.reader(io.StringIO(data.decode(), newline=""), delimiter=";")
    next(reader)
    rows = [
        (r[0], r[1], r[2], r[3], r[4], r[5], int(r[6]), int(r[7]), int(r[8].replace(",", "")), r[9], int(r[10]), big.AT, big.AT)
        for r in reader
    ]
    base.executemany(
        "insert into item(supplier_id, origin_id, number, title, gtin, mpn, brand, category, options, link, pack_size, weight_g, lead_days, cost, currency,"
        " stock, offer, seen_at, changed_at, doubt_cost, doubt_stock, doubt_seen) values (1,1,?,?,?,'',?,?,?,'',?,?,0,?,?,?,'good',?,?,-1,-1,0)",
        rows,
    )
    base.execute("commit")
    base.close()


def memory_mb() -> float:
    """The most memory that this process has held since it began; what its parent held does not count."""
    told = next(line for line in Path("/proc/self/status").read_text().splitlines() if line.startswith("VmHWM"))
    return int(told.split()[1]) / 1024


def take_alone(n: int) -> dict[str, float]:
    """The sheet read, checked and stored, and the raw baseline, in this process alone, so that its memory can be told."""
    data, ratios, took = sheet(n), [], 0.0
    start_mb = memory_mb()
    for lap in range(3):
        with tempfile.TemporaryDirectory() as name:
            db = big.make(Path(name), 10)
            with db.writing() as s:
                s.execute(update(Supplier).values(kind="sheet", reading=look(data).reading.kept()))

            def take() -> None:
                catalogue_sheets.take_sheet(1, data, db, lambda s: Context(s, big.CLOCK, "bench"), lambda done, of: None)

            took = seconds(take)
            with db.reading() as s:
                assert len(s.scalars(select(Item.id)).all()) == n + 10
            db.close()
            if not lap:
                peak = memory_mb()
            other = Path(name) / "raw"
            other.mkdir()
            big.make(other, 10).close()
            ratios.append(took / seconds(lambda: raw_sheet(data, other / "big.db")))
    return {"seconds": took, "ratio": sorted(ratios)[1], "peak": peak, "start": start_mb}


def run(report: Report, n: int = 100_000) -> None:
    told = in_a_process("goods", n)
    report.add(
        f"catalogue sheet: {n:,} rows read, checked, stored and put into the index of words",
        f"{told['seconds']:.1f} s, {told['ratio']:.2f} times csv + executemany",
        "at most 4 times",
        told["ratio"] <= 4,
    )
    report.add("catalogue sheet: most memory of its process", f"{told['peak']:.0f} MB", "under 400 MB", told["peak"] < 400)
    with tempfile.TemporaryDirectory() as name:
        db = big.make(Path(name), n)
        with db.writing() as s:
            s.connection().exec_driver_sql(
                "update item set title = printf('%s %d, %s', case id % 4 when 0 then 'red headlamp' when 1 then 'star chart' when 2 then 'field stool' else 'moon map' end,"
                " id % 977, case id % 3 when 0 then 'padded' else 'canvas blue' end)"
            )
            ingest.index_words(Context(s, big.CLOCK, "bench"))
        _search(report, db, n)
        _paste(report, db)
        _publish(report, db)
        db.close()
    rng = np.random.default_rng(2)
    pace, profit, most = rng.gamma(0.5, 0.6, 20_000), rng.integers(-200, 4000, 20_000), rng.integers(0, 20, 20_000)
    took = seconds(lambda: plan(pace, profit, most, 30_000, 6_000))
    report.add("allowance: 20,000 candidates, both limits", f"{took:.2f} s", "under 1 s", took < 1)


def _search(report: Report, db: Any, n: int) -> None:
    finder, times, hits = Finder(), [], 0
    rng = random.Random(6)
    with db.reading() as s:
        filled = seconds(lambda: finder.find(Context(s, big.CLOCK, "bench"), Search(1)))
    for lap in range(120):
        if lap % 20 == 10:
            # A sweep has moved some prices since.
            with db.writing() as s:
                context = Context(s, big.CLOCK, "bench")
                s.execute(update(Item).where(Item.id % 400 == lap).values(cost=Item.cost + 10, changed_at=context.now))
        sort = SORTS[lap % len(SORTS)]
        ask = Search(
            1, WORDS[lap % len(WORDS)], lands_most=rng.choice([None, 3000]), sort=sort, down=sort != "days", offset=rng.choice([0, 0, 50])
        )
        begin = time.perf_counter()
        with db.reading() as s:
            context = Context(s, big.CLOCK, "bench")
            found = finder.find(context, ask)
            item_rows(context, finder, found.goods, found.view, 1, found.ids)
            hits += found.total > 0
        times.append(time.perf_counter() - begin)
    assert hits > 90, hits
    p95 = percentile(times, 0.95) * 1000
    report.add(
        f"search over {n:,} items, landed cost, price and profit on each of 50 rows: p95",
        f"{p95:.0f} ms (median {percentile(times, 0.5) * 1000:.0f} ms; the first one after a start {filled:.2f} s)",
        "under 80 ms",
        p95 < 80,
    )


def _paste(report: Report, db: Any) -> None:
    with db.writing() as s:
        context = Context(s, big.CLOCK, "bench")
        fresh = [CatalogueItem(f"PX-{i:05d}", f"Padded lamp {i}", 300 + i, "GBP", 9, "leeds") for i in range(1000)]
        ingest.bring_in(context, context.get(Supplier, 1, "supplier"), fresh)
        text = "\n".join(one.number for one in fresh)
        number = start(context, "paste", "paste-bench", "bench", {"text": text, "store": 1}).id
    jobs = LongJobs(db, big.CLOCK, None)  # type: ignore[arg-type]
    with db.reading() as s:
        jobs.finder.find(Context(s, big.CLOCK, "bench"), Search(1))
    took = seconds(jobs.run_due)
    with db.reading() as s:
        job = s.get(Job, number)
        assert job.result["counts"]["made"] == 1000, job.message
    report.add(
        "1,000 pasted lines prepared, each with its lane open", f"{1000 / took:.0f} a second", "at least 100 a second", 1000 / took >= 100
    )


class Counting:
    """A store that takes batches of 250 and answers at once."""

    batch_most = 250

    def __init__(self) -> None:
        self.calls: list[int] = []
        self.known: dict[str, list[str]] = {}

    def send_batch(self, changes: list[ListingChange], key: str) -> None:
        self.calls.append(len(changes))
        self.known[key] = [one.sku for one in changes]

    def find_batch(self, key: str) -> BatchAnswer:
        return BatchAnswer(True, dict.fromkeys(self.known[key], ""))


def _publish(report: Report, db: Any) -> None:
    with db.reading() as s:
        ids = list(s.scalars(select(Listing.id).where(Listing.state == "preparing").limit(500)))

    def put() -> None:
        with db.writing() as s:
            assert len(publishing.publish(Context(s, big.CLOCK, "bench"), ids).sent) == 500

    took, link = seconds(put), Counting()
    Batches(db, big.CLOCK, 1.0, PictureDesk(db, big.CLOCK)).run("store:1", link, 1000, True)  # type: ignore[arg-type]
    with db.reading() as s:
        assert {row.state for row in s.scalars(select(Outbox))} == {"posted"}
    report.add(
        "500 listings published to the batch store",
        f"{len(link.calls)} calls for changes; decided in {took:.1f} s",
        "2 calls of 250",
        link.calls == [250, 250],
    )


if __name__ == "__main__":
    print(json.dumps(take_alone(int(sys.argv[1]))))
