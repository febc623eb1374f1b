"""The demo as two processes: the practice world, and the application that follows its clock."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import time
from types import FrameType

import httpx

from .. import logs
from ..api.app import make_house
from ..settings import Settings
from .seed import is_seeded, seed


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


def run(speed: float) -> int:
    """Start the world, seed an empty house, serve; stop both at Ctrl C. Returns the exit status."""
    logs.set_up()
    settings = Settings()
    settings.data.mkdir(parents=True, exist_ok=True)
    me = [sys.executable, "-m", "amber_lane.cli"]
    world = settings.world_address
    processes = [subprocess.Popen([*me, "world"], start_new_session=True)]
    try:
        _wait(f"{world}/world/clock", processes[0], 60)
        house = make_house(settings.model_copy(update={"world": world}))
        if not is_seeded(house):
            print("Amber Lane: making the demo data", flush=True)
            seed(house, world, lambda told: print(f"  {told}", flush=True))
        house.db.close()
        httpx.post(f"{world}/world/clock", json={"speed": speed}, timeout=10, trust_env=False).raise_for_status()
        processes.append(subprocess.Popen([*me, "serve", "--world", world], start_new_session=True, env=os.environ))
        _wait(f"http://{settings.host}:{settings.port}/api/health", processes[1], 60)
        print(
            f"\nAmber Lane is open at http://{settings.host}:{settings.port}  (practice world at {world}, time runs ×{speed:g})\n"
            "The first page offers a ready account. Ctrl C closes it; all data stays.",
            flush=True,
        )
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
