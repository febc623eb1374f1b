"""Matching SKUs with supplier items: time, growth, memory; how right and how complete it is."""

from __future__ import annotations

import csv
import json
import random
import sys
import tempfile
import time
from pathlib import Path

from sqlalchemy import select

from amber_lane.core.likeness import OPEN, ThingRow, match
from amber_lane.data.shelf import Sku
from amber_lane.data.source import Item
from amber_lane.services.base.context import Context
from amber_lane.services.catalogue import ingest
from amber_lane.services.mapping import item_candidates
from tests.matching import Made, make

from . import big
from .measure import Report, in_a_process, memory_mb, percentile, seconds

EXAMPLES = Path(__file__).resolve().parents[2] / "shared" / "examples" / "match"
WORDS = 150


def shares(made: Made) -> tuple[float, float, float]:
    """Sure pairs that are right; SKUs with an item that were opened; those that have it in their first three."""
    found = match(made.skus, made.items)
    sure = [(one.ours, one.theirs) for rows in found for one in rows if one.decision == OPEN]
    have = {place for place, _ in made.truth}
    opened = {place for place, _ in sure} & have
    near = sum(any((place, one.theirs) in made.truth for one in found[place][:3]) for place in have)
    return sum(pair in made.truth for pair in sure) / max(len(sure), 1), len(opened) / len(have), near / len(have)


def alone(skus: int, items: int) -> dict[str, float]:
    """One matching in a process of its own, so that its memory is its own."""
    made = make(9, skus, items, WORDS)
    begin = time.perf_counter()
    right, opened, near = shares(made)
    return {"seconds": time.perf_counter() - begin, "right": right, "opened": opened, "near": near, "peak": memory_mb()}


def run(report: Report) -> None:
    half_items, half_skus, whole = (in_a_process("likeness", *size) for size in ((5_000, 25_000), (2_500, 50_000), (5_000, 50_000)))
    report.add(
        "matching: 5,000 SKUs against 50,000 items",
        f"{whole['seconds']:.1f} s, {whole['peak']:.0f} MB; sure ones right {whole['right']:.2%}, "
        f"opened alone {whole['opened']:.1%}, in the first three {whole['near']:.1%}",
        "under 25 s, 2 GB",
        whole["seconds"] < 25 and whole["peak"] < 2000 and whole["right"] >= 0.995 and whole["near"] >= 0.98,
    )
    growth = whole["seconds"] / half_items["seconds"], whole["seconds"] / half_skus["seconds"]
    report.add(
        "matching: twice the items, twice the SKUs",
        f"{growth[0]:.2f} times, {growth[1]:.2f} times as long",
        "at most 2.2 times",
        max(growth) <= 2.2,
    )
    if EXAMPLES.exists():
        right, opened, near = shares(examples())
        report.add(
            "matching the examples: sure ones right, opened alone, in the first three",
            f"{right:.2%}, {opened:.1%}, {near:.1%}",
            "99.5 %, 70 %, 98 %",
            right >= 0.995 and opened >= 0.7 and near >= 0.98,
        )
    _one(report)


def examples() -> Made:
    def read(name: str) -> list[dict[str, str]]:
        with (EXAMPLES / name).open(encoding="utf-8") as file:
            return list(csv.DictReader(file))

    def row(r: dict[str, str], key: str, price: str) -> ThingRow:
        words = (r["title"], r["brand"], r["gtin"], r["mpn"])
        return ThingRow(r[key], *words, int(r.get("pack_size") or 1), float(r[price]), r["currency"], r.get("supplier", ""))

    made = Made([row(r, "sku", "price") for r in read("listings.csv")], [row(r, "item", "cost") for r in read("offers.csv")], set())
    mine, theirs = {one.key: i for i, one in enumerate(made.skus)}, {(one.supplier, one.key): i for i, one in enumerate(made.items)}
    made.truth = {(mine[r["sku"]], theirs[r["supplier"], r["item"]]) for r in read("truth.csv")}
    return made


def _one(report: Report, n: int = 100_000) -> None:
    made = make(11, 400, n, WORDS)
    with tempfile.TemporaryDirectory() as name:
        db = big.make(Path(name), n)
        with db.writing() as s:
            for part, rows, table in ((made.items, n, "item"), (made.skus, 400, "sku")):
                s.connection().exec_driver_sql(
                    f"update {table} set title = ?, gtin = ?, mpn = ? where id = ?",
                    [(one.title, one.gtin, one.mpn, i) for i, one in enumerate(part[:rows], 1)],
                )
            ingest.index_words(Context(s, big.CLOCK, "bench"), list(s.scalars(select(Item.id))))
        times = []
        for number in random.Random(3).sample(range(1, 401), 120):
            with db.reading() as s:
                sku = s.get(Sku, number)
                assert sku is not None
                context = Context(s, big.CLOCK, "bench")
                times.append(seconds(lambda context=context, sku=sku: item_candidates.offers(context, sku)))  # type: ignore[misc]
        db.close()
    p95 = percentile(times, 0.95) * 1000
    told = f"{p95:.0f} ms (median {percentile(times, 0.5) * 1000:.0f} ms)"
    report.add(f"candidates of one SKU among {n:,} items, with landed cost and marks: p95", told, "under 100 ms", p95 < 100)


if __name__ == "__main__":
    print(json.dumps(alone(int(sys.argv[1]), int(sys.argv[2]))))
