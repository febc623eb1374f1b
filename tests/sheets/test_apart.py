"""Files made to hurt are refused by the limit that they break, in a process that holds nothing of ours, and never a third time."""

from __future__ import annotations

import resource
import sys
import threading
import time
from pathlib import Path

import pytest

from amber_lane.sheets import apart, packed
from amber_lane.sheets.opened import NotASheet, OverLimit, open_sheet, readable

from .. import hostile


@pytest.fixture(autouse=True)
def marks(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    folder = tmp_path / "opening"
    monkeypatch.setattr(apart, "_marks", folder)
    return folder


@pytest.mark.parametrize("name", hostile.ALL)
def test_a_file_made_to_hurt_is_refused_and_told_why(name: str, marks: Path) -> None:
    make, limit = hostile.ALL[name]
    data = make()
    before, begun = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss, time.process_time()
    with pytest.raises(NotASheet) as caught:
        for row in open_sheet(readable(data)).rows:
            assert len(row) < 2_000
    assert ";" in str(caught.value) and "\n" not in str(caught.value)
    assert not limit or (isinstance(caught.value, OverLimit) and caught.value.limit in limit.split("|"))
    # Whatever it cost, it cost it there, and nothing is left to be found at the next start.
    assert resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before < 300_000 and time.process_time() - begun < 2
    assert not marks.exists() or not list(marks.iterdir())


def test_what_breaks_the_reader_twice_is_not_opened_a_third_time(monkeypatch: pytest.MonkeyPatch) -> None:
    data = hostile.workbook(f"<sheetData>{hostile.HEAD}{hostile.row(2, hostile.cell('A2'))}</sheetData>")
    with monkeypatch.context() as once:
        once.setattr(apart, "WITHIN", 0.01)
        for _ in range(2):
            with pytest.raises(OverLimit, match="took more than"):
                readable(data)
    with pytest.raises(OverLimit, match="broke the reader twice") as caught:
        readable(data)
    assert caught.value.limit == "broken"
    assert [*open_sheet(readable(data + b"another")).rows] == [["1"]], "the same in another file is tried"


def test_a_file_that_had_to_wait_or_found_no_room_is_not_counted_as_broken(monkeypatch: pytest.MonkeyPatch) -> None:
    data = hostile.zipped(**{"a.csv": b"item,stock\na,1\n"})
    with monkeypatch.context() as busy:
        busy.setattr(apart, "_turn", threading.Semaphore(0))
        busy.setattr(apart, "WAIT", 0.0)
        for _ in range(3):
            with pytest.raises(NotASheet, match="in a minute"):
                readable(data)
    with monkeypatch.context() as narrow:
        narrow.setattr(apart.subprocess, "run", lambda *_, **__: (_ for _ in ()).throw(OSError(12, "Cannot allocate memory")))
        for _ in range(3):
            with pytest.raises(NotASheet, match="just now"):
                readable(data)
    assert [*open_sheet(readable(data)).rows] == [["a", "1"]]


def test_the_process_has_its_limits_and_nothing_of_ours(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("AMBER_LANE_SECRET", "not to be seen")
    told = (
        "import json, os, resource, sys; from amber_lane.sheets import apart; apart._limit_itself();"
        "print(json.dumps([resource.getrlimit(resource.RLIMIT_AS)[0], resource.getrlimit(resource.RLIMIT_CPU)[0], sorted(os.environ)]))"
    )
    run, seen = apart.subprocess.run, []

    def spy(command: list[str], **how: object) -> object:
        seen.append(run([command[0], "-I", "-c", told], **{**how, "input": b""}).stdout)
        return run(command, **how)

    monkeypatch.setattr(apart.subprocess, "run", spy)
    readable(hostile.zipped(**{"a.csv": b"item,stock\na,1\n"}))
    memory, seconds, names = apart.json.loads(seen[0])
    assert memory == apart.MEMORY_MAX and seconds == apart.SECONDS_MAX and not [one for one in names if one.startswith("AMBER")]


def test_memory_that_runs_out_is_told(monkeypatch: pytest.MonkeyPatch, capfd: pytest.CaptureFixture[str]) -> None:
    def hungry(_: bytes) -> bytes:
        raise MemoryError

    monkeypatch.setattr(apart, "_limit_itself", lambda: None)
    monkeypatch.setattr(packed, "flatten", hungry)
    monkeypatch.setattr(sys, "stdin", open("/dev/null"))  # noqa: SIM115
    assert apart.main() == 3 and '"limit": "memory"' in capfd.readouterr().out
