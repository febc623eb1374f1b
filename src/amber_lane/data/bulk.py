"""Many rows at once: at the driver's speed, in chunks that fit one question, and without looking for dead values meanwhile."""

from __future__ import annotations

import gc
import threading
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from functools import cache
from typing import Any, TypeVar

from sqlalchemy import Select, select
from sqlalchemy.orm import Session

from .base import Row
from .statements import among

R = TypeVar("R", bound=Row)
K = TypeVar("K", int, str)
_quiet_lock = threading.Lock()
_quiet = 0


def bulk_insert(s: Session, table: type[Row], columns: Sequence[str], rows: Sequence[tuple[Any, ...]]) -> None:
    """Many plain rows at the driver's speed; values are as the database keeps them (times in ms, JSON as text)."""
    if rows:
        quote, mark = _dialect(s)
        names = ", ".join(quote(name) for name in columns)
        marks = ", ".join([mark] * len(columns))
        s.connection().exec_driver_sql(f"INSERT INTO {quote(table.__tablename__)} ({names}) VALUES ({marks})", list(rows))


def bulk_update(s: Session, table: type[Row], columns: Sequence[str], rows: Sequence[tuple[Any, ...]]) -> None:
    """Update many rows by id; each row is the columns' values and then the id."""
    if rows:
        quote, mark = _dialect(s)
        sets = ", ".join(f"{quote(name)} = {mark}" for name in columns)
        s.connection().exec_driver_sql(f"UPDATE {quote(table.__tablename__)} SET {sets} WHERE id = {mark}", list(rows))


def _dialect(s: Session) -> tuple[Any, str]:
    dialect = s.get_bind().dialect
    return dialect.identifier_preparer.quote, "%s" if dialect.paramstyle in ("format", "pyformat") else "?"


def in_chunks(values: Iterable[K], size: int = 5000) -> Iterable[list[K]]:
    """Lists short enough for one IN clause."""
    chunk = list(values)
    for start in range(0, len(chunk), size):
        yield chunk[start : start + size]


@contextmanager
def quiet(many: bool = True) -> Iterator[None]:
    """Work on very many rows without looking for rubbish among them, which would take a fifth of the time.

    Reference counts free what they free all the same; whoever comes last turns the search on again.
    """
    global _quiet
    if not many:
        yield
        return
    with _quiet_lock:
        _quiet += 1
        gc.disable()
    try:
        yield
    finally:
        with _quiet_lock:
            _quiet -= 1
            if not _quiet:
                gc.enable()


@cache
def _of_ids(kind: type[R]) -> Select[R]:
    return select(kind).where(kind.id.in_(among("ids")))


def by_id(s: Session, kind: type[R], ids: Iterable[int]) -> dict[int, R]:
    """Rows by number, in one query per chunk."""
    found: dict[int, R] = {}
    for chunk in in_chunks({i for i in ids if i}):
        found |= {row.id: row for row in s.scalars(_of_ids(kind), {"ids": chunk})}
    return found
