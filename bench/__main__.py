"""Run all benchmarks and write docs/benchmarks.md."""

from __future__ import annotations

import platform
import sqlite3
import sys
from importlib import import_module
from pathlib import Path

import numpy

from .measure import Report

TARGET = Path(__file__).resolve().parents[1] / "docs" / "benchmarks.md"


def main() -> int:
    report = Report()
    # Each part is read in when its turn comes, so that no part's memory counts what only others need.
    for part in (
        "sweep",
        "prices",
        "watching",
        "likeness",
        "lanes",
        "goods",
        "reading",
        "delivery",
        "page",
        "week",
        "routing",
        "orders",
        "books",
        "printing",
        "depot",
        "doors",
    ):
        import_module(f".{part}", __package__).run(report)
    machine = f"{platform.machine()}, 2 shared cores, Python {platform.python_version()}, NumPy {numpy.__version__}, SQLite {sqlite3.sqlite_version}"
    lines = [
        "# Benchmarks",
        "",
        "Written by `make bench`. Quote the ratios: the machine is shared, and its speed drifts.",
        "",
        "A sweep is written in portions that let others write in between, and what follows for listings after it; its baseline writes the same rows at",
        "once and lets nobody in. That is why it is so many times the raw writes; [benchmarks-house.md](benchmarks-house.md) has what others wait meanwhile.",
        "",
        f"Machine: {machine}.",
        "",
        "| what | measured | aim | met |",
        "|---|---|---|---|",
    ]
    lines += [f"| {row.name} | {row.value} | {row.aim} | {'yes' if row.met else 'no'} |" for row in report.rows]
    TARGET.parent.mkdir(exist_ok=True)
    TARGET.write_text("\n".join(lines) + "\n")
    return 0 if all(row.met for row in report.rows) else 1


if __name__ == "__main__":
    sys.exit(main())
