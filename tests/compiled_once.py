"""Statements are compiled once for all databases of a test process: every house of a test has an engine of its own, and compiling the same
statements for each of them was a fifth of the time of all tests."""

from __future__ import annotations

from typing import Any

from sqlalchemy.dialects.sqlite.pysqlite import SQLiteDialect_pysqlite
from sqlalchemy.engine import Engine
from sqlalchemy.util import LRUCache


def share() -> None:
    """All engines made from now on use one cache. Its keys hold the dialect, and all of SQLite's are alike here."""
    compiled: LRUCache[Any, Any] = LRUCache(20_000)
    make = Engine.__init__

    def made(self: Engine, *args: Any, **more: Any) -> None:
        make(self, *args, **more)
        self._compiled_cache = compiled

    Engine.__init__ = made  # type: ignore[method-assign]
    SQLiteDialect_pysqlite.__hash__ = lambda self: hash(type(self))  # type: ignore[method-assign]
    SQLiteDialect_pysqlite.__eq__ = lambda self, other: type(self) is type(other)  # type: ignore[method-assign]
