"""What runs by itself in a process beside the one that answers people, so that neither takes the other's time."""

from __future__ import annotations

import signal
import subprocess
import sys
import threading
import time

import structlog

from .settings import Settings

log = structlog.get_logger()
# Seconds that a stop waits for what is in hand; what is cut off then is found again at the next start, as after every kill.
STOP_WITHIN = 5.0
# A worker that has grown beyond so many bytes over large work begins anew when nothing of it is left to do, at the soonest after so many
# seconds: what Python holds in pieces goes back to the machine only then. It ends with this status.
LARGE, SOONEST, ANEW = 300 * 2**20, 120.0, 75


class Beside:
    """The process of the worker, started anew whenever it ends by itself."""

    def __init__(self, world: str = "") -> None:
        self.command = [sys.executable, "-m", "amber_lane.cli", "work", *(["--world", world] if world else [])]
        self.stopping = threading.Event()
        self.process: subprocess.Popen[bytes] | None = None

    def start(self) -> None:
        threading.Thread(target=self._keep, daemon=True, name="beside").start()

    def _keep(self) -> None:
        wait = 1.0
        while not self.stopping.is_set():
            begun = time.monotonic()
            # In a group of its own: a Ctrl C is passed on by whoever started it.
            self.process = subprocess.Popen(self.command, start_new_session=True)
            status = self.process.wait()
            if self.stopping.is_set():
                return
            if status == ANEW:
                continue
            log.error("the worker ended and is started anew", status=status)
            wait = 1.0 if time.monotonic() - begun > 60 else min(wait * 2, 30.0)
            self.stopping.wait(wait)

    def stop(self) -> None:
        self.stopping.set()
        process = self.process
        if process is None or process.poll() is not None:
            return
        process.send_signal(signal.SIGTERM)
        try:
            process.wait(STOP_WITHIN)
        except subprocess.TimeoutExpired:
            process.kill()
            process.wait()


def work(settings: Settings) -> None:
    """Be that process: work until told to stop, or until whoever started it is gone."""
    import gc
    import os

    from . import memory
    from .clock import clock_of
    from .connectors import outside
    from .data.session import Database
    from .jobs.worker import Worker
    from .services.base.credentials import CredentialStore
    from .services.partners.registry import ConnectorRegistry

    gc.freeze()
    outside.allow(settings.reachable)
    over = threading.Event()
    for sign in (signal.SIGTERM, signal.SIGINT):
        signal.signal(sign, lambda *_: over.set())
    db, clock = Database(settings.url), clock_of(settings.world)
    credentials = CredentialStore.at(settings.data, settings.secret)
    worker = Worker(db, clock, ConnectorRegistry(credentials, settings.call_deadline), settings.data, settings.world)
    worker.start()
    parent = os.getppid()
    look, status = time.monotonic() + SOONEST, 0
    while not over.wait(0.5):
        if os.getppid() != parent:
            break
        if time.monotonic() > look and memory.held() > LARGE:
            if not worker.at_work():
                log.info("the worker begins anew, to give back memory", held=memory.held())
                status = ANEW
                break
            look = time.monotonic() + 10
    stopped = threading.Thread(target=worker.stop, daemon=True)
    stopped.start()
    stopped.join(STOP_WITHIN - 1)
    # Whatever is still in hand is cut off: all of it may be.
    os._exit(status)
