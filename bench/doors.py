"""How fast other people write while files made to hurt are opened, one after another, by two who hand them in."""

from __future__ import annotations

import tempfile
import threading
import time
from pathlib import Path

from tests.hostile import ALL

from .house.acts import Writer, settle
from .house.make import make
from .house.server import Server
from .measure import Report

SKUS, AIM = 5_000, 200.0


def _p95(took: list[float]) -> float:
    return sorted(took)[max(round(len(took) * 0.95) - 1, 0)] * 1000


def run(report: Report) -> None:
    with tempfile.TemporaryDirectory() as name:
        make(Path(name), SKUS).close()
        server = Server(Path(name))
        try:
            settle(server, calm=5)
            server.quiet()
            with Writer(server.person()) as alone:
                time.sleep(5)
            with Writer(server.person()) as beside:
                hands = [threading.Thread(target=_hand_in, args=(server, turn)) for turn in (1, -1)]
                for one in hands:
                    one.start()
                for one in hands:
                    one.join()
        finally:
            server.stop()
    value = (
        f"p95 {_p95(beside.took):.0f} ms of {len(beside.took)}, longest {max(beside.took) * 1000:.0f} ms ({_p95(alone.took):.0f} ms alone)"
    )
    good = not beside.refused and _p95(beside.took) <= AIM
    report.add(
        "a small write of somebody else while ten hostile files are opened, each twice", value, f"{AIM:.0f} ms at p95, none refused", good
    )


def _hand_in(server: Server, turn: int) -> None:
    client = server.person()
    for name, (made, _) in list(ALL.items())[::turn]:
        answer = client.post("/sheets/items/look", files={"file": (f"{name}.xlsx", made(), "application/octet-stream")})
        if answer.status_code not in (200, 422):
            raise RuntimeError(f"{name}: {answer.status_code} {answer.text[:200]}")
