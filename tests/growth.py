"""A house of many SKUs for the tests of growth, made by the bench's own generator, once for each size."""

from __future__ import annotations

import shutil
from pathlib import Path

from amber_lane.clock import Clock, SystemClock
from amber_lane.data.session import Database
from amber_lane.jobs.portions import Portions
from amber_lane.services.base.context import Context
from bench.house.make import make

from .business import empty_file


class Grown:
    """A made house without a server: its database, and its long work done when portions.run_due() is asked for."""

    def __init__(self, folder: Path, n: int) -> None:
        self.n, self.folder = n, folder
        shutil.copy(empty_file(), folder / "house.db")
        self.db: Database = make(folder, n)
        self.clock: Clock = SystemClock()
        self.portions = Portions(self.db, self.clock)

    def context(self, s: object, who: str = "Tester", person: int | None = None) -> Context:
        return Context(s, self.clock, who, person)  # type: ignore[arg-type]
