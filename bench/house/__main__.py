"""Measure houses of three sizes over HTTP and write docs/benchmarks-house.md; sizes may be given instead."""

from __future__ import annotations

import itertools
import platform
import sqlite3
import sys
from collections.abc import Iterable
from pathlib import Path

import numpy

from .run import Figure, growth, measure, plain

TARGET = Path(__file__).resolve().parents[2] / "docs" / "benchmarks-house.md"
SIZES = (10_000, 100_000, 300_000)
# The aims hold in a house of this size.
AIMED = 100_000
KINDS = {
    "look": "What a person looks at (p95)",
    "look beside": "Pages while thousands of rows are taken off sale and brought back (p95)",
    "act": "What a person does with very many rows (as long as it goes on)",
    "write": "A small write of somebody else meanwhile (p95, and the longest); none was refused",
    "machine": "The machine",
}


def _value(one: Figure | None) -> str:
    return "" if one is None else f"{one.value:,.1f} {one.unit}"


def _times(value: float | None) -> str:
    return "" if value is None else f"× {value:.1f}"


def table(houses: dict[int, list[Figure]]) -> Iterable[str]:
    """The rows of each kind: what each house took, how much more than the one before, the aim."""
    sizes = list(houses)
    head = "| | " + " | ".join(f"{n:,}" for n in sizes) + " | " + " | ".join(f"{b:,} to {a:,}" for b, a in itertools.pairwise(sizes))
    for kind, title in KINDS.items():
        yield f"## {title}\n"
        yield f"{head} | aim at {AIMED:,} | met |"
        yield "|---|" + "---:|" * (2 * len(sizes) - 1) + "---:|---|"
        by_name = [{plain(one.name): one for one in houses[n] if one.kind == kind} for n in sizes]
        rises = [growth(houses[a], houses[b]) for a, b in itertools.pairwise(sizes)]
        for name in by_name[-1]:
            rows = [found.get(name) for found in by_name]
            aimed = dict(zip(sizes, rows, strict=True)).get(AIMED)
            most = aimed.most if aimed else None
            met = "" if aimed is None or most is None else "yes" if aimed.value <= most else "**no**"
            cells = [*map(_value, rows), *(_times(rise.get(name)) for rise in rises)]
            shown = rows[0].name if rows[0] and kind in ("look", "machine", "look beside") else name
            yield f"| {shown} | {' | '.join(cells)} | {'' if most is None else f'{most:,} {aimed.unit}' if aimed else ''} | {met} |"
        yield ""


def head() -> Iterable[str]:
    """What stands above the tables."""
    return (
        "# Houses of three sizes",
        "",
        "Written by `make bench-house`: made-up houses (two lanes and three items a SKU, five suppliers, sixty days of sightings, a full",
        "outbox), the server as people run it, everything over HTTP. Quote the growth: the machine is shared, and its speed drifts.",
        "The rows of an act are a part of the house, so ten times the house is ten times the rows; each ends with 1.5 s in which it is",
        "made sure that nothing goes on any more. For which aims are missed, and why, see [running](running.md#how-large).",
        "",
        f"Machine: {platform.machine()}, 2 shared cores, Python {platform.python_version()}, NumPy {numpy.__version__}, SQLite {sqlite3.sqlite_version}.",
        "",
    )


def main(sizes: Iterable[int] = SIZES) -> int:
    """0 when all aims are met."""
    houses: dict[int, list[Figure]] = {}
    for n in sizes:
        houses[n] = measure(n)
        # What was measured stands, whatever becomes of the larger ones.
        TARGET.write_text("\n".join([*head(), *table(houses)]))
    return int(any(one.most is not None and one.value > one.most for one in houses.get(AIMED, [])))


if __name__ == "__main__":
    sys.exit(main([int(one) for one in sys.argv[1:]] or SIZES))
