"""Statements are compiled once for all databases of a test process: every house of a test has an engine of its own, and compiling the same
statements for each of them was a fifth of the time of all tests."""

from __future__ import annotations

from typing import Any

from sqlalchemy import Engine
from sqlalchemy.dialects.sqlite.pysqlite import SQLiteDialect_pysqlite
from sqlalchemy.util import LRUCache

from amber_lane.data import session


def share() -> None:
    """All engines made from now on use one cache. Its keys hold the dialect, and all of SQLite's are alike here."""
    compiled: LRUCache[Any, Any] = LRUCache(20_000)
    make = session.create_engine

    def made(*args: Any, **more: Any) -> Engine:
        engine = make(*args, **more)
        engine._compiled_cache = compiled
        return engine

    session.create_engine = made  # type: ignore[assignment]
    SQLiteDialect_pysqlite.__hash__ = lambda self: hash(type(self))  # type: ignore[method-assign]
    SQLiteDialect_pysqlite.__eq__ = lambda self, other: type(self) is type(other)  # type: ignore[method-assign]
