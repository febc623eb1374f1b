"""The engine, its SQLite settings, sessions, and bringing the tables up to date."""

from __future__ import annotations

import fcntl
import os
import sqlite3
import sys
import time
from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager, nullcontext
from pathlib import Path
from typing import IO, Any

import structlog
from sqlalchemy import Connection, Engine, create_engine, event
from sqlalchemy.orm import Session, sessionmaker

from . import revisions, shapes, upkeep
from .kept import HERE, Cache
from .turns import Turns

_INCREMENTAL, _ROOM = 2, 256
# Seconds that a transaction waits for its turn.
WRITE_WITHIN = 20.0
# How many statements are kept compiled. A busy house has some eight hundred, and one that falls out costs more than running it.
STATEMENTS = 2_000
# Seconds after which a transaction is told of in the log.
LONG = 0.5
ENDS = "amber_ends"
log = structlog.get_logger()


def at_end(s: Session, name: str, do: Callable[[], None]) -> None:
    """Have something done once before a transaction is kept, however often it is asked for; where nothing is kept it is not done."""
    s.info.setdefault(ENDS, {})[name] = do


class Database:
    """One database: `reading()` for looks, `writing()` for a transaction that commits once at its end."""

    def __init__(self, url: str) -> None:
        self.url = url
        self.sqlite = url.startswith("sqlite")
        options: dict[str, Any] = {"connect_args": {"timeout": 20, "check_same_thread": False}} if self.sqlite else {}
        self.engine: Engine = create_engine(url, pool_size=20, max_overflow=20, query_cache_size=STATEMENTS, **options)
        if self.sqlite:
            event.listen(self.engine, "connect", _settings)
            event.listen(self.engine, "begin", _begin)
        revisions.watch(self.engine)
        self.kept = Cache(self.reading)
        file = self.engine.url.database if self.sqlite else None
        self.turns = Turns(WRITE_WITHIN, Path(file) if file and file != ":memory:" else None)
        # Held for as long as it is open, so that nobody puts another file in its place.
        self._held = _hold(Path(file)) if file and file != ":memory:" else None
        self._sessions = sessionmaker(self.engine, expire_on_commit=False)

    def migrate(self, to: str = "head") -> None:
        """Bring the tables to the newest shape; safe to call at every start. to: an older shape, for tests."""
        with self._unhindered() as connection, connection.begin():
            had, wanted = shapes.of(connection), shapes.newest() if to == "head" else to
            if had != wanted:
                shapes.change(connection, to)
                if self.sqlite and (broken := connection.exec_driver_sql("pragma foreign_key_check").fetchall()):
                    raise RuntimeError(
                        f"the new shape of the tables would lose what belongs together, so nothing was changed: {broken[:3]}"
                    )
            if self.sqlite and to == "head":
                upkeep.make(connection)
        if self.sqlite and had != wanted:
            self._give_back()

    def _give_back(self) -> None:
        """What is deleted later gives its room back bit by bit; data of before is written anew for that, once."""
        with closing(self.engine.raw_connection()) as raw:
            cursor = raw.cursor()
            if cursor.execute("pragma auto_vacuum").fetchone()[0] != _INCREMENTAL:
                cursor.execute(f"pragma auto_vacuum = {_INCREMENTAL}")
                cursor.execute("vacuum")

    def tidy(self) -> None:
        """Bring what was written lately to its place in the file, while others read and write."""
        if self.sqlite:
            with closing(self.engine.raw_connection()) as raw:
                raw.cursor().execute("pragma wal_checkpoint(passive)")

    def shrink(self, most: int = 200) -> None:
        """Give room that nothing stands in any more back to the disk, some pages at a time so that nobody waits for it."""
        if not self.sqlite:
            return
        while True:
            with self.turns.turn(patient=True), closing(self.engine.raw_connection()) as raw:
                cursor = raw.cursor()
                left = cursor.execute("pragma freelist_count").fetchone()[0]
                # A little room is kept for what comes next.
                if left <= _ROOM:
                    return
                cursor.execute(f"pragma incremental_vacuum({most})").fetchall()
                if cursor.execute("pragma freelist_count").fetchone()[0] >= left:
                    return

    @contextmanager
    def _unhindered(self) -> Iterator[Connection]:
        """A connection that may put a table in another's place: SQLite would take that for the loss of all its rows' children.

        Foreign keys are looked at by the migration itself instead, before anything is kept.
        """
        with self.engine.connect() as connection:
            driver: Any = connection.connection.dbapi_connection
            if self.sqlite:
                driver.execute("PRAGMA foreign_keys=OFF")
            try:
                yield connection
            finally:
                if self.sqlite:
                    driver.execute("PRAGMA foreign_keys=ON")

    @contextmanager
    def reading(self) -> Iterator[Session]:
        """A session for reading; what it changes is thrown away."""
        with self._sessions() as session:
            session.info[HERE] = self.kept
            yield session

    @contextmanager
    def writing(self, patient: bool = False, taken: bool = False) -> Iterator[Session]:
        """One transaction. SQLite takes its write lock at the start, so that none fails half-way for want of it.

        patient: a portion of long work, before which everybody else goes; taken: the caller has the turn and gives it back.
        """
        with nullcontext() if taken else self.turns.turn(patient), self._sessions() as session:
            begun = time.monotonic()
            session.info["write"] = True
            if self.sqlite:
                session.connection(execution_options={"amber_write": True})
            yield session
            # What is done at the end may change more; and what is still to be flushed may ask for it.
            session.flush()
            while ends := session.info.pop(ENDS, None):
                for do in ends.values():
                    do()
                session.flush()
            session.commit()
            if (took := time.monotonic() - begun) > LONG:
                # Everybody else waited for it; whose it is stands two frames up, above the context manager's own.
                log.warning("a write held the others up", seconds=round(took, 2), of=sys._getframe(2).f_code.co_qualname)

    def close(self) -> None:
        self.engine.dispose()
        self.turns.close()
        if self._held is not None:
            self._held.close()


def held_beside(file: Path) -> Path:
    """What everybody who has a file of data open holds a shared lock of."""
    return file.with_name(f"{file.name}.open")


def _hold(file: Path) -> IO[bytes] | None:
    try:
        held = os.fdopen(os.open(held_beside(file), os.O_CREAT | os.O_RDWR, 0o600), "rb+")
    except OSError:
        # On a disk that can only be read nobody restores anything either.
        return None
    try:
        fcntl.flock(held, fcntl.LOCK_SH | fcntl.LOCK_NB)
    except BlockingIOError as error:
        held.close()
        raise RuntimeError("the data is being put back just now; start again in a moment") from error
    return held


def _settings(connection: sqlite3.Connection, _: object) -> None:
    connection.isolation_level = None
    cursor = connection.cursor()
    for pragma in (
        "journal_mode=WAL",
        "synchronous=NORMAL",
        "foreign_keys=ON",
        "busy_timeout=20000",
        "cache_size=-12000",
        "temp_store=MEMORY",
        # Tidied beside the work (see Database.tidy), so that no commit waits for it; this is for a house that nobody tidies.
        "wal_autocheckpoint=16000",
    ):
        cursor.execute(f"PRAGMA {pragma}")
    cursor.close()


def _begin(connection: Connection) -> None:
    write = connection.get_execution_options().get("amber_write")
    connection.exec_driver_sql("BEGIN IMMEDIATE" if write else "BEGIN")
