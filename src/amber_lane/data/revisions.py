"""How often each table was changed, kept by the tables' own transactions: whoever kept something made of them knows when it is old.

A statement tells the tables that it changes or reads by its text, so nobody has to remember to say so.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from contextlib import contextmanager

from sqlalchemy import Connection, Engine, event, text
from sqlalchemy.orm import Session

from .tables import metadata

_CHANGES = re.compile(r'\s*(?:insert\s+(?:or\s+\w+\s+)?into|update(?:\s+or\s+\w+)?|delete\s+from|replace\s+into)\s+"?(\w+)', re.IGNORECASE)
_NAME = re.compile(r"\w+")
_TOUCHED, _READ, _THERE, _SEEN = "amber_touched", "amber_read", "amber_revisions", "amber_seen"
TABLE = "revision"
# Said of what was made of more than tables: of columns in memory, of files, of what waits.
ANYTHING = "*"
_UP = text(f"insert into {TABLE} (name, n) values (:name, 1) on conflict (name) do update set n = {TABLE}.n + 1")


def watch(engine: Engine) -> None:
    """From now on the changes of this engine's transactions are counted."""
    event.listen(engine, "before_cursor_execute", _note)
    event.listen(engine, "begin", _begin)
    event.listen(engine, "commit", _commit)


def _begin(connection: Connection) -> None:
    connection.info[_TOUCHED] = set()
    for name in (_READ, _SEEN):
        connection.info.pop(name, None)


def _note(connection: Connection, _: object, statement: str, *__: object) -> None:
    if (read := connection.info.get(_READ)) is not None:
        read.update(metadata.tables.keys() & set(_NAME.findall(statement)))
    found = _CHANGES.match(statement)
    if found and found.group(1) in metadata.tables and found.group(1) != TABLE:
        connection.info.setdefault(_TOUCHED, set()).add(found.group(1))


def _commit(connection: Connection) -> None:
    touched: set[str] = connection.info.get(_TOUCHED) or set()
    connection.info[_TOUCHED] = set()
    if touched and _is_there(connection):
        connection.execute(_UP, [{"name": name} for name in sorted(touched)])


def _is_there(connection: Connection) -> bool:
    """Data of an older shape, while it is brought up to date, has no such table yet."""
    if not connection.info.get(_THERE):
        connection.info[_THERE] = connection.dialect.has_table(connection, TABLE)
    return bool(connection.info[_THERE])


def of(s: Session) -> dict[str, int]:
    """How often each table was changed, as this transaction sees it from its beginning to its end; a table that never was is left out."""
    info = s.connection().info
    if _SEEN not in info:
        info[_SEEN] = {name: int(n) for name, n in s.execute(text(f"select name, n from {TABLE}"))}
    seen: dict[str, int] = info[_SEEN]
    return seen


@contextmanager
def recording(connection: Connection) -> Iterator[set[str]]:
    """The tables that are read on a connection meanwhile; one within another tells both."""
    outer = connection.info.get(_READ)
    connection.info[_READ] = read = set[str]()
    try:
        yield read
    finally:
        if outer is None:
            connection.info.pop(_READ, None)
        else:
            outer |= read
            connection.info[_READ] = outer


def made_of(s: Session, read: set[str]) -> dict[str, int]:
    """How often each of the recorded tables was changed, as this transaction sees it; {} = anything may change what was made."""
    if ANYTHING in read:
        return {}
    at = of(s)
    return {name: at.get(name, 0) for name in sorted(read - {TABLE})}


def beside(s: Session) -> None:
    """What is made now is made of more than the tables that it reads: whoever records them is told that anything may change it."""
    if (read := s.connection().info.get(_READ)) is not None:
        read.add(ANYTHING)
