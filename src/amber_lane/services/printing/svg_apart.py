"""Draws an SVG in a process of its own, with limits: a drawing that is made to grow without end stops nobody but itself."""

from __future__ import annotations

import subprocess
import sys

# Of the processor, and of the clock, which it shares with others; bytes of memory: the largest that is printed takes about a third of it.
SECONDS, WITHIN, MEMORY = 30, 90.0, 3_000_000_000


class NotDrawn(ValueError):
    """It cannot be drawn; says whether that is since it takes too much."""

    def __init__(self, too_much: bool) -> None:
        super().__init__("it takes too much" if too_much else "it is no drawing")
        self.too_much = too_much


def drawn(svg: bytes, across: int, seconds: int = SECONDS) -> bytes:
    """A PNG of an SVG, so many pixels across. NotDrawn where there is none."""
    command = [sys.executable, "-I", "-m", __name__, str(across), str(seconds)]
    surroundings = {"LANG": "C.UTF-8"}
    try:
        done = subprocess.run(
            command, input=svg, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, timeout=WITHIN, check=False, env=surroundings
        )
    except subprocess.TimeoutExpired:
        raise NotDrawn(True) from None
    if done.returncode == 0 and done.stdout:
        return done.stdout
    raise NotDrawn(done.returncode != 1)


def main() -> int:
    """The process itself: an SVG on its standard input, a PNG on its standard output; 1 = it is no drawing."""
    import resource

    import resvg_py

    across, seconds = int(sys.argv[1]), int(sys.argv[2])
    resource.setrlimit(resource.RLIMIT_CPU, (seconds, seconds))
    resource.setrlimit(resource.RLIMIT_AS, (MEMORY, MEMORY))
    resource.setrlimit(resource.RLIMIT_FSIZE, (0, 0))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    try:
        sys.stdout.buffer.write(resvg_py.svg_to_bytes(svg_string=sys.stdin.buffer.read().decode(), width=across, skip_system_fonts=True))
    except ValueError:
        return 1
    return 0


if __name__ == "__main__":
    sys.exit(main())
