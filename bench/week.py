"""A week in the practice world with faults on: what stale prices and stock cost with the watch, and without."""

from __future__ import annotations

import tempfile
from pathlib import Path

from tests.business import Business, WorldProcess
from tests.week import live

from .measure import Report


def run(report: Report) -> None:
    with tempfile.TemporaryDirectory() as folder:
        world = WorldProcess(Path(folder))
        business = Business(world, Path(folder) / "house")
        try:
            week = live(business)
            kept, lost = week.lost(True), week.lost(False)
        finally:
            business.close()
            world.stop()
    listings = len(week.lines)
    report.add(
        f"a week with faults, {listings} listings at half a sale a day: lost by stale prices and stock",
        f"£{kept / 100:.2f} with the watch, £{lost / 100:.2f} without",
        "told; less than half",
        kept < lost / 2,
    )
