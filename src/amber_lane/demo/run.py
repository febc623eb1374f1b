"""The demo as two processes: the practice world, and the application that follows its clock."""

from __future__ import annotations

import os
import signal
import sqlite3
import subprocess
import sys
import time
from contextlib import closing
from types import FrameType

import httpx

from .. import logs
from ..settings import Settings

UNFINISHED = "demo-unfinished"


def _wait(address: str, process: subprocess.Popen[bytes], seconds: float) -> None:
    until = time.monotonic() + seconds
    while time.monotonic() < until:
        if process.poll() is not None:
            raise RuntimeError(f"a part of the demo ended at once ({process.returncode}); is its port in use?")
        try:
            if httpx.get(address, timeout=2, trust_env=False).is_success:
                return
        except httpx.HTTPError:
            time.sleep(0.1)
    raise RuntimeError(f"{address} does not answer")


def _has_data(settings: Settings) -> bool:
    """Whether a store is there already; asked without loading the whole application."""
    path = settings.data / "amber-lane.db"
    if settings.database_url or not path.is_file():
        return False
    with closing(sqlite3.connect(path)) as base:
        try:
            return bool(base.execute("select count(*) from store").fetchone()[0])
        except sqlite3.OperationalError:
            return False


def _start_program(settings: Settings, world: str, me: list[str]) -> subprocess.Popen[bytes]:
    """The program that works the craft market, as its keeper would start it on their own machine."""
    from .partners import CRAFT, TOKEN

    env = os.environ | {"AMBER_LANE_TOKEN": (settings.data / TOKEN).read_text().strip(), "AMBER_LANE_STORE_KEY": CRAFT.key}
    at = f"http://{settings.host}:{settings.port}"
    return subprocess.Popen([*me, "agent", "--store", f"{world}{CRAFT.path}", "--at", at], env=env, start_new_session=True)


def _begin_anew(settings: Settings) -> None:
    """Throw away demo data whose making was cut off; a house that has ever been opened is never touched."""
    mark = settings.data / UNFINISHED
    if mark.exists():
        print("Amber Lane: the demo data was not finished last time; it is made anew", flush=True)
        for name in ("amber-lane.db", "world.db"):
            for tail in ("", "-wal", "-shm"):
                (settings.data / f"{name}{tail}").unlink(missing_ok=True)
        mark.unlink()


def _fill(settings: Settings, world: str, land: str) -> None:
    """Make the demo data in an empty house."""
    from ..api.app import make_app_state
    from .partners import LANDS
    from .seed import is_seeded, seed

    house = make_app_state(settings.model_copy(update={"world": world}))
    if not is_seeded(house):
        print("Amber Lane: making the demo data", flush=True)
        (settings.data / UNFINISHED).touch()
        seed(house, world, LANDS[land], lambda message: print(f"  {message}", flush=True))
        (settings.data / UNFINISHED).unlink()
    house.db.close()


def run(speed: float, skus: int, house: str) -> int:
    """Start the world, seed an empty house, serve; stop both at Ctrl C. skus: how many there are about; house: the country of a new
    one. Returns the exit status."""
    logs.set_up()
    settings = Settings()
    settings.data.mkdir(parents=True, exist_ok=True)
    _begin_anew(settings)
    me = [sys.executable, "-m", "amber_lane.cli"]
    world = settings.world_address
    serve = [*me, "serve", "--world", world]
    processes = [subprocess.Popen([*me, "world", "--skus", str(skus), "--house", house], start_new_session=True)]
    try:
        if _has_data(settings):
            # Both at once: the application waits for the world's clock by itself.
            processes.append(subprocess.Popen(serve, start_new_session=True))
        _wait(f"{world}/world/clock", processes[0], 60 + skus / 50)
        if len(processes) == 1:
            _fill(settings, world, house)
            processes.append(subprocess.Popen(serve, start_new_session=True))
        httpx.post(f"{world}/world/clock", json={"speed": speed}, timeout=10, trust_env=False).raise_for_status()
        _wait(f"http://{settings.host}:{settings.port}/api/health", processes[1], 60)
        print(
            f"\nAmber Lane is open at http://{settings.host}:{settings.port}  (practice world at {world}, time runs ×{speed:g})\n"
            "The first page offers a ready account. Ctrl C closes it; all data stays.",
            flush=True,
        )
        processes.append(_start_program(settings, world, me))
        return _watch(processes)
    except (RuntimeError, httpx.HTTPError) as error:
        print(f"amber-lane: {error}", file=sys.stderr)
        return 1
    finally:
        for process in reversed(processes):
            process.terminate()
        for process in processes:
            try:
                process.wait(8)
            except subprocess.TimeoutExpired:
                process.kill()


def _watch(processes: list[subprocess.Popen[bytes]]) -> int:
    """Until a signal comes, or a part ends by itself."""
    stopped = False

    def stop(number: int, frame: FrameType | None) -> None:
        nonlocal stopped
        stopped = True

    signal.signal(signal.SIGINT, stop)
    signal.signal(signal.SIGTERM, stop)
    while not stopped and all(process.poll() is None for process in processes):
        time.sleep(0.2)
    return 0 if stopped else 1
