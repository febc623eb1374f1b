"""The data copied while it is written, put back on an empty machine, looked over; and a disk that is full or may not be written."""

from __future__ import annotations

import os
import signal
import sqlite3
import subprocess
import sys
import threading
import time
from contextlib import closing
from pathlib import Path
from typing import Any

import pytest
from fastapi.testclient import TestClient
from sqlalchemy import event, func, select, update
from typer.testing import CliRunner

from amber_lane.api.app import make_app, make_app_state
from amber_lane.cli import app as commands
from amber_lane.clock import SystemClock
from amber_lane.data import backups
from amber_lane.data.outbox import AuditEntry, Outbox
from amber_lane.data.session import Database
from amber_lane.data.shelf import Picture
from amber_lane.services.base.context import Context
from amber_lane.services.purchasing import purchase_orders
from amber_lane.settings import Settings

from ..business import begin
from ..small import Small


def _env(folder: Path) -> dict[str, str]:
    return {"AMBER_LANE_DATA": str(folder), "AMBER_LANE_DATABASE_URL": f"sqlite:///{folder / 'small.db'}"}


def amber(folder: Path, *words: str) -> Any:
    """The command, over the data in a folder; whole, but for a process of its own."""
    return CliRunner().invoke(commands, words, env=_env(folder))


def begun(folder: Path, *words: str) -> Any:
    """The same in a process of its own, which goes on."""
    command = [str(Path(sys.executable).parent / "amber-lane"), *words]
    return subprocess.Popen(command, env=os.environ | _env(folder), stdout=subprocess.PIPE, stderr=subprocess.STDOUT)


def test_a_backup_is_whole_or_is_not_and_a_house_stands_again_on_an_empty_machine(small: Small, tmp_path: Path) -> None:
    here = Path(small.db.engine.url.database or "").parent
    small.write(lambda context: context.session.add(Picture(sha="x", kind="image/png", width=1, height=1, data=os.urandom(30_000_000))))
    saved, over = tmp_path / "saved.db", threading.Event()

    def write() -> None:
        while not over.wait(0.002):
            small.write(lambda context: context.log("x", "x", "somebody writes"))

    writer = threading.Thread(target=write)
    writer.start()
    try:
        cut = 0
        while cut < 3:
            process, part = begun(here, "backup", str(saved)), saved.with_name("saved.db.part")
            while process.poll() is None and not (part.exists() and part.stat().st_size):
                time.sleep(0.001)
            process.send_signal(signal.SIGKILL)
            process.wait()
            if saved.exists():
                # It had come to its end before.
                assert backups.look_over(saved) == []
                saved.unlink()
            cut += 1
        done = amber(here, "backup", str(saved))
    finally:
        over.set()
        writer.join()
    assert done.exit_code == 0 and "Keep" in done.stdout and saved.stat().st_mode & 0o077 == 0, done.stderr
    assert "is there already" in amber(here, "backup", str(saved)).stderr
    there = tmp_path / "another machine"
    back = amber(there, "restore", str(saved))
    assert back.exit_code == 0, back.stderr
    assert "all is as it should be" in amber(there, "check").stdout
    with closing(sqlite3.connect(there / "small.db")) as data, small.db.reading() as s:
        assert data.execute("select count(*), sum(length(data)) from picture").fetchone() == (1, 30_000_000)
        assert (
            0
            < data.execute("select count(*) from audit_entry").fetchone()[0]
            <= int(s.scalar(select(func.count()).select_from(AuditEntry)) or 0)
        )
    # Put back once more, what stands there is kept.
    assert "What stood here is" in amber(there, "restore", str(saved)).stdout
    assert backups.look_over(next((there / backups.FOLDER).glob("*-before-restore.db"))) == []


def test_what_is_not_whole_is_not_put_back_nor_over_a_house_that_runs(small: Small, tmp_path: Path) -> None:
    small.db.close()
    here = Path(small.db.engine.url.database or "").parent
    saved = tmp_path / "saved.db"
    backups.copy(here / "small.db", saved)
    torn = tmp_path / "torn.db"
    whole = saved.read_bytes()
    for data, told in ((whole[: len(whole) // 2], "not whole"), (b"no data at all" * 500, "cannot be read"), (b"", "cannot be read")):
        torn.write_bytes(data)
        answer = amber(here, "restore", str(torn))
        assert answer.exit_code == 2 and told in answer.stderr and "nothing was changed" in answer.stderr
    # Over a house that is broken it is put back all the same, and what was broken is kept.
    ruin = tmp_path / "ruin"
    ruin.mkdir()
    (ruin / "small.db").write_bytes(b"no data at all" * 500)
    assert amber(ruin, "restore", str(saved)).exit_code == 0 and "as it should be" in amber(ruin, "check").stdout
    assert next((ruin / backups.FOLDER).glob("*-before-restore.db")).read_bytes().startswith(b"no data")
    # Whoever has it open, if only for a look, keeps it from being put back.
    other = Database(small.db.url)
    assert "stop it first" in amber(here, "restore", str(saved)).stderr
    other.close()
    assert amber(here, "restore", str(saved)).exit_code == 0
    assert backups.look_over(here / "small.db") == []


@pytest.mark.parametrize(
    ("does", "told"),
    [
        ("delete from sku where id = 1", "points at a row of sku"),
        ("update tally set n = n + 3 where name = 'items'", "tally of items says"),
        ("update purchase_order set state = 'waiting'", "wait to be sent although they went out"),
    ],
)  # fmt: skip
def test_what_does_not_belong_together_is_found(small: Small, tmp_path: Path, does: str, told: str) -> None:
    order = small.order("A", ("S-1", 1, 900))

    def bought(context: Context) -> None:
        (made,) = purchase_orders.send(context, [order.id])
        made.state = "sent"
        context.session.execute(update(Outbox).where(Outbox.key == made.reference).values(state="done"))

    small.write(bought)
    copy = tmp_path / "copy.db"
    backups.copy(Path(small.db.engine.url.database or ""), copy)
    assert backups.look_over(copy) == []
    with closing(sqlite3.connect(copy)) as data:
        data.execute(does)
        data.commit()
    assert any(told in one for one in backups.look_over(copy)), backups.look_over(copy)


def test_a_full_or_closed_disk_is_told_in_words_and_goes_on_by_itself(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    begin(tmp_path)
    house = make_app_state(Settings(data=tmp_path, jobs=False, web=tmp_path), clock=SystemClock())
    limit: dict[str, str] = {}

    @event.listens_for(house.db.engine, "begin")
    def narrow(connection: Any) -> None:
        for name, value in limit.items():
            connection.exec_driver_sql(f"pragma {name}={value}")

    with TestClient(make_app(house), headers={"X-Amber-Lane": "1"}) as client:
        person = {
            "name": "Ada",
            "country": "GB",
            "zone": "Europe/London",
            "mail": "ada@amber-lane.example",
            "password": "seven quiet herons",
        }
        assert client.post("/api/v1/session/first", json=person).status_code == 200
        large = {"key": "x" * 190, "hours": 1}
        for setting, value, free, words in (
            ("max_page_count", "1", "4294967294", "disk is full"),
            ("query_only", "on", "off", "only be read"),
        ):
            limit[setting] = value
            tries = (client.post("/api/v1/today/snooze", json={"key": f"{n}" * 190, "hours": 1}) for n in range(1, 10) for _ in range(20))
            full = next(one for one in tries if one.status_code != 200)
            assert full.status_code == 507 and words in full.json()["detail"] and full.headers["retry-after"]
            assert client.get("/api/v1/setup/people").status_code == 200, "what is there can be read"
            limit[setting] = free
            assert client.post("/api/v1/today/snooze", json=large).status_code == 200
            limit.clear()
        assert backups.look_over(Path(house.db.engine.url.database or "")) == []


def test_nobody_else_on_the_machine_reads_the_data(tmp_path: Path) -> None:
    (tmp_path / "secret").write_text("x" * 40)
    (tmp_path / "secret").chmod(0o644)
    house = make_app_state(Settings(data=tmp_path, jobs=False, web=tmp_path), clock=SystemClock())
    assert tmp_path.stat().st_mode & 0o077 == 0
    assert not [one for one in tmp_path.iterdir() if one.is_file() and one.stat().st_mode & 0o077]
    house.db.close()
