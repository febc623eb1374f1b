"""The process of the worker: it begins anew after large work, not while any is left, and the next one is started at once."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

from sqlalchemy import delete
from structlog.testing import capture_logs

from amber_lane import beside
from amber_lane.beside import Beside
from amber_lane.data.outbox import Job

from ..small import Small

GROWN = """
from amber_lane import beside, memory
from amber_lane.settings import Settings
beside.SOONEST, memory.held = 0.0, lambda: beside.LARGE + 1
beside.work(Settings())
"""


def test_a_worker_that_has_grown_begins_anew_once_its_work_is_done(small: Small, tmp_path: Path) -> None:
    small.write(lambda context: context.session.add(Job(key="x", kind="of nobody here", title="x", body={}, total=1, made_at=context.now)))
    env = {**os.environ, "AMBER_LANE_DATA": str(tmp_path), "AMBER_LANE_DATABASE_URL": small.db.url}
    with subprocess.Popen([sys.executable, "-c", GROWN], env=env, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True) as process:
        assert process.stdout is not None
        assert any("worker started" in line for line in process.stdout) and process.poll() is None
        small.write(lambda context: context.session.execute(delete(Job)))
        assert "begins anew" in process.stdout.read() and process.wait(20) == beside.ANEW


def test_the_next_worker_is_started_at_once_where_the_last_begins_anew(tmp_path: Path) -> None:
    told = tmp_path / "begun"
    os.mkfifo(told)
    one = Beside()
    # The first ends as one that has grown does, the second stays; each says that it has begun.
    one.command = [
        sys.executable,
        "-c",
        f"import os, pathlib, sys, time\nfirst = not os.path.exists({str(tmp_path / 'was')!r})\n"
        f"pathlib.Path({str(tmp_path / 'was')!r}).touch()\nopen({str(told)!r}, 'w').write('x')\n"
        f"sys.exit({beside.ANEW}) if first else time.sleep(60)",
    ]
    with capture_logs() as logs:
        one.start()
        for _ in range(2):
            with told.open() as pipe:
                assert pipe.read() == "x"
        one.stop()
    assert logs == [] and one.process is not None and one.process.poll() is not None
