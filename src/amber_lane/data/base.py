"""What every table stands on: naming, column types, and small builders for common columns."""

from __future__ import annotations

import json
from datetime import UTC, date, datetime, time
from enum import StrEnum
from typing import Any, ClassVar, TypeVar

from sqlalchemy import BigInteger, Dialect, Integer, MetaData, Select, Text, TypeDecorator, text
from sqlalchemy.dialects.sqlite.base import SQLiteCompiler
from sqlalchemy.orm import DeclarativeBase, Mapped, Session, mapped_column

from ..core.states import MACHINES

Q = TypeVar("Q", bound=Select[*tuple[Any, ...]])

EPOCH = datetime(1970, 1, 1, tzinfo=UTC)


def to_ms(value: datetime) -> int:
    """An aware time as milliseconds since 1970; ValueError for a naive one."""
    if value.tzinfo is None:
        raise ValueError("a time without a zone cannot be stored")
    gap = value - EPOCH
    return (gap.days * 86_400 + gap.seconds) * 1000 + gap.microseconds // 1000


def from_ms(value: int) -> datetime:
    """Milliseconds since 1970 as an aware UTC time."""
    return datetime.fromtimestamp(value // 1000, UTC).replace(microsecond=value % 1000 * 1000)


def day_ms(value: date) -> int:
    """A day of the calendar as `Day` columns keep it."""
    return to_ms(datetime.combine(value, time(), UTC))


class UtcTime(TypeDecorator[datetime]):
    """An aware time, stored as integer milliseconds: sorts, compares and bulk-inserts as a number."""

    impl = BigInteger
    cache_ok = True

    def process_bind_param(self, value: datetime | None, dialect: Dialect) -> int | None:
        return None if value is None else to_ms(value)

    def process_result_value(self, value: Any, dialect: Dialect) -> datetime | None:
        return None if value is None else from_ms(value)


class StateText(TypeDecorator[StrEnum]):
    """A state of a machine, stored as its word. What no machine knows any more stays the word that it is."""

    impl = Text
    cache_ok = True

    def __init__(self, states: type[StrEnum]) -> None:
        super().__init__()
        self.states = states
        self._known: dict[str, StrEnum] = {one.value: one for one in states}

    def process_bind_param(self, value: StrEnum | str | None, dialect: Dialect) -> str | None:
        return None if value is None else str(value)

    def process_result_value(self, value: Any, dialect: Dialect) -> Any:
        return self._known.get(value, value)


class Day(TypeDecorator[date]):
    """A day of the calendar, which is in no time zone: stored as the milliseconds of its midnight in UTC."""

    impl = BigInteger
    cache_ok = True

    def process_bind_param(self, value: date | None, dialect: Dialect) -> int | None:
        return None if value is None else day_ms(value)

    def process_result_value(self, value: Any, dialect: Dialect) -> date | None:
        return None if value is None else from_ms(value).date()


class Json(TypeDecorator[Any]):
    """Data as JSON text; what cannot be read later is given back as its text, never thrown away."""

    impl = Text
    cache_ok = True

    def process_bind_param(self, value: object, dialect: Dialect) -> str | None:
        return None if value is None else json.dumps(value, ensure_ascii=False, separators=(",", ":"))

    def process_result_value(self, value: Any, dialect: Dialect) -> object:
        if value is None:
            return None
        try:
            return json.loads(value)
        except ValueError:
            return {"unreadable": value}


def _hint(self: SQLiteCompiler, table: object, hint: str) -> str:
    return hint


# SQLite knows such hints (INDEXED BY), SQLAlchemy's compiler for it does not.
SQLiteCompiler.get_from_hint_text = _hint  # type: ignore[method-assign, assignment]


def by_index(query: Q, table: Any, name: str) -> Q:
    """The same query, which walks a table by this index and no other: no plan depends on what the database guesses of its rows."""
    return query.with_hint(table, f"INDEXED BY {name}", "sqlite")


def statistics(s: Session) -> None:
    """What the database guesses of its rows, brought up to date where that is needed; a few rows of each table are looked at."""
    if s.get_bind().dialect.name == "sqlite":
        link = s.connection()
        link.exec_driver_sql("pragma analysis_limit = 400")
        link.exec_driver_sql("pragma optimize")


def part(where: str) -> dict[str, Any]:
    """The rows that a partial index holds. It is used only where a query says the very same, with its values written out."""
    return {"sqlite_where": text(where), "postgresql_where": text(where)}


class Base(DeclarativeBase):
    metadata = MetaData(
        naming_convention={
            "ix": "ix_%(table_name)s_%(column_0_N_name)s",
            "uq": "uq_%(table_name)s_%(column_0_N_name)s",
            "ck": "ck_%(table_name)s_%(constraint_name)s",
            "fk": "fk_%(table_name)s_%(column_0_N_name)s_%(referred_table_name)s",
            "pk": "pk_%(table_name)s",
        }
    )
    type_annotation_map: ClassVar[dict[Any, Any]] = {
        datetime: UtcTime,
        date: Day,
        str: Text,
        int: BigInteger,
        dict[str, Any]: Json,
        list[Any]: Json,
        **{type(one.first): StateText(type(one.first)) for one in MACHINES},
    }


class Row(Base):
    """A table with a number of its own."""

    __abstract__ = True

    id: Mapped[int] = mapped_column(BigInteger().with_variant(Integer, "sqlite"), primary_key=True)


class Versioned(Row):
    """A row that a person changes: two people at once are told apart by `version`."""

    __abstract__ = True

    version: Mapped[int] = mapped_column(default=1)
