"""Timing in turns: the thing and its baseline one after the other, the median of the ratios."""

from __future__ import annotations

import json
import resource
import statistics
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from typing import Any

from fastapi.testclient import TestClient

from amber_lane.api.app import make_app
from amber_lane.api.deps import AppState


@dataclass
class Row:
    """One line of the report."""

    name: str
    value: str
    aim: str
    met: bool


@dataclass
class Report:
    rows: list[Row] = field(default_factory=list)

    def add(self, name: str, value: str, aim: str, met: bool) -> None:
        self.rows.append(Row(name, value, aim, met))
        print(f"{'ok  ' if met else 'MISS'} {name}: {value} (aim: {aim})", flush=True)


def seconds(run: Callable[[], Any]) -> float:
    start = time.perf_counter()
    run()
    return time.perf_counter() - start


def in_turn(one: Callable[[], Any], other: Callable[[], Any], times: int = 5) -> tuple[float, float, float]:
    """Median seconds of both, and the median of their ratios pair by pair."""
    one(), other()
    pairs = [(seconds(one), seconds(other)) for _ in range(times)]
    return statistics.median(a for a, _ in pairs), statistics.median(b for _, b in pairs), statistics.median(a / b for a, b in pairs)


def memory_mb() -> float:
    """The most memory this process has held."""
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024


def in_a_process(part: str, *given: int) -> dict[str, Any]:
    """What a part of the bench tells as its last line, run in a process of its own so that its memory is its own; before it stands its log."""
    asked = [sys.executable, "-m", f"bench.{part}", *(str(one) for one in given)]
    said = subprocess.run(asked, capture_output=True, check=True, text=True).stdout.splitlines()
    told: dict[str, Any] = json.loads(said[-1])
    return told


def percentile(values: list[float], share: float) -> float:
    return sorted(values)[min(len(values) - 1, int(len(values) * share))]


@contextmanager
def signed_in(house: AppState) -> Iterator[TestClient]:
    """A client of this house whose first person has just been entered."""
    who = {"mail": "b@amber-lane.example", "password": "long-enough-word", "name": "Bench", "country": "GB", "zone": "Europe/London"}
    with TestClient(make_app(house), headers={"X-Amber-Lane": "1"}) as client:
        client.post("/api/v1/session/first", json=who).raise_for_status()
        yield client
