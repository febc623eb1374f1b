"""Opens files from outside in a process of its own, with limits, so that none of them stops the house or keeps anybody waiting.

The process is given the file and nothing of our settings; it runs as the same user, so it is bounded rather than locked in. What it gives
back is plain lines (see packed).
"""

from __future__ import annotations

import hashlib
import json
import subprocess
import sys
import threading
import time
from pathlib import Path

from . import pdf_pages
from .limits import BYTES_MAX, MEMORY_MAX, SECONDS_MAX, NotASheet, OverLimit

# So many files are opened at once, and so many seconds the next one waits for its turn.
AT_ONCE, WAIT = 2, 60.0
# Seconds of the clock that a file may take: it shares the machine with others.
WITHIN = 2.0 * SECONDS_MAX
_FAULT, _TRIES, _FORGET = 3, 2, 30 * 86_400
_turn = threading.BoundedSemaphore(AT_ONCE)
_marks: Path | None = None


def keep_marks(folder: Path) -> None:
    """Where it is written down which file is being opened: one that broke the reader twice is not opened a third time, also after a
    restart."""
    global _marks
    _marks = folder


def flat(data: bytes) -> bytes:
    """A workbook or a zip as a flat file. NotASheet says why it cannot be opened, OverLimit which limit it breaks."""
    return _made(data, "flat")


def pages(data: bytes) -> list[bytes]:
    """The first pages of a PDF as JPEGs. Errors as `flat`."""
    return pdf_pages.parts(_made(data, "pages"))


def _made(data: bytes, what: str) -> bytes:
    if len(data) > BYTES_MAX:
        raise OverLimit("bytes", f"the file is larger than {BYTES_MAX // 1_000_000} MB; split it")
    if not _turn.acquire(timeout=WAIT):
        raise NotASheet("many files are being opened now; bring it in again in a minute")
    try:
        mark = _begin(data)
        done = subprocess.run(
            [sys.executable, "-I", "-m", "amber_lane.sheets.apart", what],
            input=data,
            stdout=subprocess.PIPE,
            stderr=subprocess.DEVNULL,
            timeout=WITHIN,
            check=False,
            # Nothing of ours is in its surroundings.
            env={"LANG": "C.UTF-8", "OPENBLAS_NUM_THREADS": "1"},
        )
    except OSError as error:
        # The machine has no room for a process: that is no fault of the file.
        _end(mark)
        raise NotASheet(f"it cannot be opened just now ({error.strerror}); bring it in again in a minute") from error
    except subprocess.TimeoutExpired:
        raise OverLimit("seconds", f"opening the file took more than {WITHIN:.0f} seconds; split it, or save it anew") from None
    finally:
        _turn.release()
    if done.returncode == 0:
        _end(mark)
        return done.stdout
    if done.returncode != _FAULT:
        raise OverLimit("seconds", f"opening the file took more than {SECONDS_MAX} seconds of work, or broke it off; save it anew")
    _end(mark)
    answer = json.loads(done.stdout)
    raise OverLimit(answer["limit"], answer["message"]) if answer["limit"] else NotASheet(answer["message"])


def _begin(data: bytes) -> Path | None:
    """Write down that a file is opened; what ends well takes it back."""
    if _marks is None:
        return None
    _marks.mkdir(parents=True, exist_ok=True)
    for old in _marks.iterdir():
        if time.time() - old.stat().st_mtime > _FORGET:
            old.unlink(missing_ok=True)
    mark = _marks / hashlib.sha256(data).hexdigest()
    broken = len(mark.read_bytes()) if mark.exists() else 0
    if broken >= _TRIES:
        raise OverLimit("broken", "this very file broke the reader twice, so it is not opened again; save it anew, or in another form")
    with mark.open("ab") as out:
        out.write(b"x")
    return mark


def _end(mark: Path | None) -> None:
    if mark is not None:
        mark.unlink(missing_ok=True)


def _limit_itself() -> None:
    import os
    import resource

    resource.setrlimit(resource.RLIMIT_CPU, (SECONDS_MAX, SECONDS_MAX))
    resource.setrlimit(resource.RLIMIT_AS, (MEMORY_MAX, MEMORY_MAX))
    # It writes no files and begins no processes.
    resource.setrlimit(resource.RLIMIT_FSIZE, (0, 0))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    os.nice(10)


def main() -> int:
    """The process itself: a file on its standard input, the flat file or why there is none on its standard output."""
    _limit_itself()
    try:
        if sys.argv[1:] == ["pages"]:
            made = pdf_pages.drawn(sys.stdin.buffer.read())
        else:
            from .packed import flatten

            made = flatten(sys.stdin.buffer.read())
        sys.stdout.buffer.write(made)
        return 0
    except MemoryError:
        message, limit = f"opening the file takes more than {MEMORY_MAX / 1e9:.1f} GB of memory; split it", "memory"
    except OverLimit as error:
        message, limit = str(error), error.limit
    except NotASheet as error:
        message, limit = str(error), ""
    sys.stdout.write(json.dumps({"message": message, "limit": limit}))
    return _FAULT


if __name__ == "__main__":
    sys.exit(main())
