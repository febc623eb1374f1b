"""Whose turn it is to write: SQLite has one write lock, and gives it to whoever asks at the right moment. Here people come first, and
everybody in the order of asking."""

from __future__ import annotations

import threading
import time
from collections import deque
from collections.abc import Iterator
from contextlib import contextmanager


class TooLong(TimeoutError):
    """Nobody could write for too long."""


class Turns:
    """One lock for all that write to one database in this process; it may be given back by another thread than took it."""

    def __init__(self, within: float) -> None:
        self.within = within
        self.state = threading.Condition()
        self.taken = False
        self.asking: deque[object] = deque()
        self.patient: deque[object] = deque()

    def take(self, patient: bool = False) -> None:
        """Wait for the turn; TooLong after the time that was set. patient: long work, which waits for as long as others have to write."""
        ticket, until = object(), time.monotonic() + self.within
        queue = self.patient if patient else self.asking
        with self.state:
            queue.append(ticket)
            try:
                while self.taken or queue[0] is not ticket or (patient and self.asking):
                    left = None if patient else until - time.monotonic()
                    if left is not None and left <= 0:
                        raise TooLong("nobody could write for too long")
                    self.state.wait(left)
                self.taken = True
            finally:
                queue.remove(ticket)
                self.state.notify_all()

    def give(self) -> None:
        with self.state:
            self.taken = False
            self.state.notify_all()

    @contextmanager
    def turn(self, patient: bool = False) -> Iterator[None]:
        self.take(patient)
        try:
            yield
        finally:
            self.give()
