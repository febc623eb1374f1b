"""What was worked out of the data and is kept until one of the tables that it was made from changes."""

from __future__ import annotations

import threading
from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any, TypeVar

from sqlalchemy.orm import Session

from . import revisions

T = TypeVar("T")
HERE = "amber_kept"


@dataclass(frozen=True)
class _One:
    value: Any
    tables: dict[str, int]
    until: datetime


class Kept:
    """Values by name. Each is made by one thread at a time; who asks for it meanwhile waits for that one."""

    def __init__(self) -> None:
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
                with Session(connection, info={HERE: self}) as own, revisions.recording(connection) as tables:
                    value = make(own)
                tables.discard(revisions.TABLE)
                had = _One(value, {} if still else {table: at.get(table, 0) for table in tables}, now + timedelta(minutes=minutes))
                self.values[name] = had
            # Also of what was kept already: whoever keeps something made of it depends on the same tables.
            read.update(had.tables)
            found: T = had.value
            return found


def _moved(had: _One, at: dict[str, int]) -> bool:
    return any(at.get(table, 0) != n for table, n in had.tables.items())


def kept(s: Session, name: str, now: datetime, make: Callable[[Session], T], minutes: float = 1.0, still: bool = False) -> T:
    """See Kept.get; within a transaction that writes, and where nothing is kept, it is worked out on the spot."""
    here: Kept | None = s.info.get(HERE)
    return make(s) if here is None else here.get(s, name, now, minutes, still, make)
