"""Whose turn it is to write: SQLite has one write lock, and gives it to whoever asks at the right moment. Here people come first, and
everybody in the order of asking; among several processes too, by two files beside the data."""

from __future__ import annotations

import fcntl
import threading
import time
from collections import deque
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import IO

# Seconds between two looks whether another process is done.
LOOK = 0.002


class TooLong(TimeoutError):
    """Nobody could write for too long."""


class Turns:
    """One lock for all that write to one database; within a process it may be given back by another thread than took it.

    beside: the database's file, where it has one. Beside it stand `….turn`, locked by who writes, and `….people`, locked by all those
    who wait and are not patient.
    """

    def __init__(self, within: float, beside: Path | None = None) -> None:
        self.within, self.beside = within, beside
        self.state = threading.Condition()
        self.taken = False
        self.asking: deque[object] = deque()
        self.patient: deque[object] = deque()
        self._files: tuple[IO[bytes], IO[bytes]] | None = None

    def take(self, patient: bool = False) -> None:
        """Wait for the turn; TooLong after the time that was set. patient: long work, which waits for as long as others have to write."""
        ticket, until = object(), None if patient else time.monotonic() + self.within
        queue = self.patient if patient else self.asking
        with self.state:
            queue.append(ticket)
            try:
                while self.taken or queue[0] is not ticket or (patient and self.asking):
                    left = None if until is None else until - time.monotonic()
                    if left is not None and left <= 0:
                        raise TooLong("nobody could write for too long")
                    self.state.wait(left)
                self.taken = True
            finally:
                queue.remove(ticket)
                self.state.notify_all()
        try:
            self._take_from_others(patient, until)
        except BaseException:
            self._free()
            raise

    def _take_from_others(self, patient: bool, until: float | None) -> None:
        """The same among processes."""
        if self.beside is None:
            return
        if self._files is None:
            # Open for as long as the database is.
            turn_file, people_file = (Path(f"{self.beside}.{name}") for name in ("turn", "people"))
            self._files = turn_file.open("ab"), people_file.open("ab")
        turn, people = self._files
        if not patient:
            # Shared by all who wait; it is theirs at once but for the moment in which a patient one looks.
            fcntl.flock(people, fcntl.LOCK_SH)
        try:
            while not self._try(turn, people if patient else None):
                if until is not None and time.monotonic() > until:
                    raise TooLong("nobody could write for too long")
                time.sleep(LOOK)
        finally:
            if not patient:
                fcntl.flock(people, fcntl.LOCK_UN)

    def _try(self, turn: IO[bytes], people: IO[bytes] | None) -> bool:
        try:
            if people is not None:
                fcntl.flock(people, fcntl.LOCK_EX | fcntl.LOCK_NB)
                fcntl.flock(people, fcntl.LOCK_UN)
            fcntl.flock(turn, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            return False
        return True

    def give(self) -> None:
        if self._files is not None:
            fcntl.flock(self._files[0], fcntl.LOCK_UN)
        self._free()

    def _free(self) -> None:
        with self.state:
            self.taken = False
            self.state.notify_all()

    def close(self) -> None:
        for one in self._files or ():
            one.close()
        self._files = None

    @contextmanager
    def turn(self, patient: bool = False) -> Iterator[None]:
        self.take(patient)
        try:
            yield
        finally:
            self.give()
