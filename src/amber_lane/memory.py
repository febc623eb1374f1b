"""Memory that is not used any more goes back to the machine, which Python's allocator beneath many threads does not do by itself."""

from __future__ import annotations

import ctypes
import ctypes.util
import os
from pathlib import Path

_ARENA_MAX = -8


def _libc() -> ctypes.CDLL | None:
    name = ctypes.util.find_library("c")
    return ctypes.CDLL(name) if name else None


def few_arenas(most: int = 2) -> None:
    """Let all threads share a few pools of memory; before the first thread begins. Does nothing where that is not known."""
    libc = _libc()
    if libc is not None and hasattr(libc, "mallopt"):
        libc.mallopt(_ARENA_MAX, most)


def give_back() -> None:
    """Give back what is free now. Takes a few milliseconds."""
    libc = _libc()
    if libc is not None and hasattr(libc, "malloc_trim"):
        libc.malloc_trim(0)


def held() -> int:
    """Bytes of the machine's memory that this process holds now; 0 where that is not told."""
    statm = Path("/proc/self/statm")
    return int(statm.read_text().split()[1]) * os.sysconf("SC_PAGE_SIZE") if statm.exists() else 0
