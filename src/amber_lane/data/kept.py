"""What was worked out of the data and is kept until one of the tables that it was made from changes."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable
from contextlib import AbstractContextManager
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Any, TypeVar

from sqlalchemy.exc import SQLAlchemyError
from sqlalchemy.orm import Session

from . import revisions

T = TypeVar("T")
HERE = "amber_kept"
# What takes longer to make than so many seconds may lag where that is allowed, and is then made no more often than every so many times
# as long: while very much is written, it would be made all the time.
LONG, TIMES = 0.1, 5.0


@dataclass(frozen=True)
class _One:
    value: Any
    tables: dict[str, int]
    until: datetime
    # Seconds that it took, and when it was made, by a clock that only goes forward.
    took: float
    made: float


class Cache:
    """Values by name. Each is made by one thread at a time; who asks for it meanwhile waits for that one.

    reading: opens a session that reads, for what is made beside whoever asks.
    """

    def __init__(self, reading: Callable[[], AbstractContextManager[Session]]) -> None:
        self.reading = reading
        self.beside: set[str] = set()
        self.values: dict[str, _One] = {}
        self.locks: dict[str, threading.RLock] = {}
        self.lock = threading.Lock()

    def get(self, s: Session, name: str, now: datetime, minutes: float, still: bool, make: Callable[[Session], T]) -> T:
        """The value by this name, made anew where a table that it was read from has changed or it is older than so many minutes.

        still: whatever changes meanwhile.

        make is given a session of its own in the same transaction, so that all that it reads is seen.
        """
        connection = s.connection()
        with self.lock:
            mine = self.locks.setdefault(name, threading.RLock())
        with mine, revisions.recording(connection) as read:
            at = revisions.of(s)
            had = self.values.get(name)
            if had is None or now >= had.until or now < had.until - timedelta(minutes=minutes) or _moved(had, at):
                begun = time.monotonic()
                with Session(connection, info={HERE: self}) as own, revisions.recording(connection) as tables:
                    value = make(own)
                took = time.monotonic() - begun
                depends = {} if still else {table: at.get(table, 0) for table in tables - {revisions.TABLE}}
                had = _One(value, depends, now + timedelta(minutes=minutes), took, begun + took)
                self.values[name] = had
            # Also of what was kept already: whoever keeps something made of it depends on the same tables.
            read.update(had.tables)
            found: T = had.value
            return found

    def lagging(self, s: Session, name: str, now: datetime, minutes: float, make: Callable[[Session], T]) -> T:
        """The same for whoever looks all the time: what takes long to make is made beside, and the last is given meanwhile."""
        had = self.values.get(name)
        if had is None or had.took < LONG:
            return self.get(s, name, now, minutes, False, make)
        with self.lock:
            due = name not in self.beside and time.monotonic() - had.made >= TIMES * had.took
            if due:
                self.beside.add(name)
        if due:
            threading.Thread(target=self._make, args=(name, now, minutes, make), daemon=True).start()
        # It may be older than the tables that whoever asks sees.
        revisions.beside(s)
        found: T = had.value
        return found

    def _make(self, name: str, now: datetime, minutes: float, make: Callable[[Session], Any]) -> None:
        try:
            with self.reading() as s:
                self.get(s, name, now, minutes, False, make)
        except SQLAlchemyError:
            # The house is being closed; whoever looks next has it made.
            return
        finally:
            with self.lock:
                self.beside.discard(name)


def _moved(had: _One, at: dict[str, int]) -> bool:
    return any(at.get(table, 0) != n for table, n in had.tables.items())


# A moment for what no time makes old.
NEVER_OLD = datetime(2000, 1, 1, tzinfo=UTC)


def kept(
    s: Session, name: str, now: datetime, make: Callable[[Session], T], minutes: float = 1.0, still: bool = False, lags: bool = False
) -> T:
    """See Kept.get, or Kept.lagging. Within a transaction that writes, and where nothing is kept, it is worked out on the spot."""
    here: Cache | None = s.info.get(HERE)
    if here is None:
        return make(s)
    return here.lagging(s, name, now, minutes, make) if lags else here.get(s, name, now, minutes, still, make)
