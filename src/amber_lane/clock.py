"""The one clock. Nothing else asks the system for the time."""

from __future__ import annotations

import threading
import time
from datetime import UTC, datetime, timedelta
from functools import cache
from typing import Protocol

import httpx


class Clock(Protocol):
    def now(self) -> datetime: ...


class SystemClock:
    """The real time, UTC."""

    def now(self) -> datetime:
        return datetime.now(UTC)


class PacedClock:
    """A time that runs `speed` times as fast as the real one from a given moment; 0 = paused."""

    def __init__(self, at: datetime, speed: float = 1.0) -> None:
        self._lock = threading.Lock()
        self._at, self._mark, self._speed = at, time.monotonic(), speed

    def now(self) -> datetime:
        with self._lock:
            return self._at + timedelta(seconds=(time.monotonic() - self._mark) * self._speed)

    @property
    def speed(self) -> float:
        return self._speed

    def set(self, at: datetime, speed: float) -> None:
        """Follow another clock: it says `at` now and runs at `speed`."""
        with self._lock:
            self._at, self._mark, self._speed = at, time.monotonic(), speed


@cache
def _line() -> httpx.Client:
    """Made once: reading this machine's certificates for it takes five times as long as the question. No connection is kept open."""
    return httpx.Client(trust_env=False, limits=httpx.Limits(max_keepalive_connections=0))


def ask_world(world: str, within: float) -> tuple[datetime, float]:
    """The practice world's time and how fast it runs. within: seconds; httpx.HTTPError where it does not answer."""
    answer = _line().get(f"{world}/world/clock", timeout=within).json()
    return datetime.fromisoformat(answer["now"]), float(answer["speed"])


def clock_of(world: str, within: float = 20.0) -> Clock:
    """The time of the practice world at this address, else the real time. within: seconds that a world which is just starting is waited
    for; httpx.HTTPError after that."""
    until = time.monotonic() + within
    while world:
        try:
            return PacedClock(*ask_world(world, 10))
        except httpx.HTTPError:
            if time.monotonic() > until:
                raise
            time.sleep(0.1)
    return SystemClock()


# Programs on other machines know nothing of a practice world's time: what they are promised is in real seconds.
WALL: Clock = SystemClock()
