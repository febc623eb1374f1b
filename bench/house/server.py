"""The application as people run it, in a process of its own over a made house, and what it takes from the machine."""

from __future__ import annotations

import contextlib
import os
import socket
import subprocess
import sys
import threading
import time
from collections.abc import Iterable
from pathlib import Path
from typing import Any

import httpx


def resident(processes: Iterable[int]) -> float:
    """Megabytes that processes hold together; one that has just ended holds none."""
    total = 0
    for one in processes:
        # The worker begins anew now and then.
        with contextlib.suppress(OSError, StopIteration):
            lines = Path(f"/proc/{one}/status").read_text().splitlines()
            total += int(next(line for line in lines if line.startswith("VmRSS")).split()[1])
    return total / 1024


class Server:
    """`amber-lane serve` over a folder that holds `house.db`. started: seconds until it answered; most: megabytes held at most."""

    def __init__(self, folder: Path, **settings: str) -> None:
        self.folder = folder
        with socket.socket() as probe:
            probe.bind(("127.0.0.1", 0))
            port = probe.getsockname()[1]
        place = {"DATA": str(folder), "PORT": str(port), "DATABASE_URL": f"sqlite:///{folder / 'house.db'}", **settings}
        env = {**os.environ, **{f"AMBER_LANE_{name}": value for name, value in place.items()}}
        begun = time.perf_counter()
        command = [str(Path(sys.executable).parent / "amber-lane"), "serve"]
        self.log = (folder / "server.log").open("ab")
        self.process = subprocess.Popen(command, env=env, stdout=self.log, stderr=self.log)
        self.address = f"http://127.0.0.1:{port}"
        while True:
            if self.process.poll() is not None:
                raise RuntimeError((folder / "server.log").read_text()[-3000:])
            try:
                httpx.get(f"{self.address}/api/health", timeout=1, trust_env=False)
                break
            except httpx.HTTPError:
                time.sleep(0.02)
        self.started = time.perf_counter() - begun
        self.most = 0.0
        self.over = threading.Event()
        threading.Thread(target=self._look, daemon=True).start()
        self.client = self.person()

    def person(self) -> httpx.Client:
        """A client that is signed in."""
        client = httpx.Client(base_url=f"{self.address}/api/v1", headers={"X-Amber-Lane": "1"}, timeout=600, trust_env=False)
        who: dict[str, Any] = {"mail": "bench@amber-lane.example", "password": "long-enough-word"}
        if client.post("/session/first", json={**who, "name": "Bench", "country": "GB", "zone": "Europe/London"}).status_code >= 400:
            client.post("/session", json=who).raise_for_status()
        return client

    def processes(self) -> list[int]:
        """The server itself and the worker beside it."""
        children = Path(f"/proc/{self.process.pid}/task").glob("*/children")
        return [self.process.pid, *(int(one) for path in children for one in path.read_text().split())]

    def cpu(self) -> float:
        """Seconds of processor that they have used."""
        told = 0
        for one in self.processes():
            with contextlib.suppress(OSError):
                fields = Path(f"/proc/{one}/stat").read_text().rpartition(")")[2].split()
                told += int(fields[11]) + int(fields[12])
        return told / os.sysconf("SC_CLK_TCK")

    def quiet(self, within: float = 120) -> None:
        """Until it does next to nothing any more; what it makes ready by itself is over then."""
        until, before = time.monotonic() + within, self.cpu()
        while time.monotonic() < until:
            time.sleep(1)
            if (now := self.cpu()) - before < 0.15:
                return
            before = now

    def memory(self) -> float:
        """Megabytes that they hold together."""
        return resident(self.processes())

    def _look(self) -> None:
        while not self.over.wait(0.3):
            self.most = max(self.most, self.memory())

    def stop(self) -> float:
        """Seconds that it took to stop."""
        begun = time.perf_counter()
        self.over.set()
        self.client.close()
        self.process.terminate()
        self.process.wait(120)
        self.log.close()
        return time.perf_counter() - begun
