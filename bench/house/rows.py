"""Rows of any table from columns, with what the tables themselves say where nothing is given."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterable
from itertools import chain, islice, repeat
from typing import Any

from sqlalchemy.orm import Session

from amber_lane.data.base import Row

PORTION = 50_000
# Milliseconds; how many days are told of, and how many suppliers every made house has.
DAY, DAYS, SUPPLIERS = 86_400_000, 60, 5


def write(s: Session, table: type[Row], n: int, **columns: Any) -> None:
    """n rows: a list, an array or a function of the row's place (from 1) is a column, anything else stands in every row.

    Values are as the database keeps them: times in milliseconds, JSON as text.
    """
    given: dict[str, Iterable[Any]] = {}
    for column in table.__table__.columns:
        value = columns.pop(column.name) if column.name in columns else _default(column)
        if isinstance(value, Callable):  # type: ignore[arg-type]
            given[column.name] = map(value, range(1, n + 1))
        elif hasattr(value, "tolist"):
            given[column.name] = value.tolist()
        else:
            given[column.name] = value if isinstance(value, (list, range)) else repeat(value, n)
    if columns:
        raise ValueError(f"{table.__tablename__} has no {', '.join(columns)}")
    if n:
        names = ", ".join(f'"{name}"' for name in given)
        sql = f'insert into "{table.__tablename__}" ({names}) values ({", ".join("?" * len(given))})'
        rows = zip(*given.values(), strict=False)
        while portion := list(islice(rows, PORTION)):
            s.connection().exec_driver_sql(sql, portion)


def _default(column: Any) -> Any:
    if column.name == "id":
        return lambda place: place
    if column.default is None:
        return None
    value = column.default.arg
    value = value(None) if callable(value) else value
    return json.dumps(value) if isinstance(value, (dict, list)) else value


def times(values: Iterable[Any], each: int) -> list[Any]:
    """Every value so many times in a row."""
    return list(chain.from_iterable(repeat(one, each) for one in values))
