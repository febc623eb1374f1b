"""Queries read as NumPy columns, at the driver's speed."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from sqlalchemy import String, case, func, literal, select
from sqlalchemy.orm import Session

from ..core.money import Bools, Ints
from ..core.price import NONE

# Stands in no text that is read here.
_APART = "\x1f"


class Columns:
    """A query that is read as columns; one that is asked again and again is made once: of few rows that takes longer than reading them."""

    def __init__(self, query: Any) -> None:
        self.query, rows = query, query.subquery()
        self.texts = [isinstance(column.type, String) for column in rows.c]
        # Each column joined to one text by the database, which takes half the time and lets other threads work meanwhile.
        self.joined = select(
            func.count(),
            *(
                func.group_concat(func.coalesce(column, ""), _APART) if text else func.group_concat(func.coalesce(column, NONE), ",")
                for column, text in zip(rows.c, self.texts, strict=True)
            ),
        )


def fetch_columns(s: Session, asked: Any, given: dict[str, Any] | None = None) -> list[Any]:
    """A query's rows as one int64 column per field; text fields as lists. NULL becomes NONE, or an empty text.

    asked: a query, or Columns of one that was made before; given: what its parameters are.
    """
    asked = asked if isinstance(asked, Columns) else Columns(asked)
    if s.get_bind().dialect.name == "sqlite":
        totals = s.connection().execute(asked.joined, given).one()
        if not totals[0]:
            return [np.zeros(0, dtype=np.int64) for _ in asked.texts]
        return [
            one.split(_APART) if text else np.fromstring(one, dtype=np.int64, sep=",")
            for one, text in zip(totals[1:], asked.texts, strict=True)
        ]
    # The driver's own rows: wrapping each of a hundred thousand would take as long as reading them.
    rows = s.connection().execute(asked.query, given).cursor.fetchall()
    if not rows:
        return [np.zeros(0, dtype=np.int64) for _ in asked.texts]
    out: list[Any] = []
    for column in zip(*rows, strict=True):
        if isinstance(column[0], str):
            out.append(list(column))
        else:
            out.append(np.array(column, dtype=np.int64))
    return out


def or_none(column: Any) -> Any:
    """A column whose NULL is `NONE`."""
    return func.coalesce(column, literal(NONE))


def place_of(column: Any, words: Sequence[str]) -> Any:
    """A word as its place in a list, -1 where it is none of them."""
    return case({word: i for i, word in enumerate(words)}, value=column, else_=-1)


def join(parts: list[Any]) -> Any:
    """The same column of several queries behind one another."""
    if isinstance(parts[0], list):
        return [value for part in parts for value in part]
    filled = [part for part in parts if len(part)]
    if filled and isinstance(filled[0], list):
        return [value for part in filled for value in part]
    return np.concatenate(filled) if filled else parts[0]


def sorted_by(columns: list[Any], order: Sequence[int]) -> list[Any]:
    """The same rows in the order of some of their columns."""
    if len(columns[0]) < 2:
        return columns
    sort = np.lexsort([columns[i] for i in reversed(order)])
    return [_pick(column, sort) for column in columns]


def spliced(columns: list[Any], fresh: list[Any], gone: Bools, order: Sequence[int]) -> list[Any]:
    """The same columns with other rows in place of some. gone: rows that are left out; order: the columns that put rows in order."""
    at = np.flatnonzero(gone)
    if not len(at) and not len(fresh[0]):
        return columns
    if len(fresh[0]) == len(at) and all(np.array_equal(columns[i][at], fresh[i]) for i in order):
        return [_put(column, at, new) for column, new in zip(columns, fresh, strict=True)]
    kept = np.flatnonzero(~gone)
    both = [join([_pick(column, kept), new]) if len(new) else _pick(column, kept) for column, new in zip(columns, fresh, strict=True)]
    return sorted_by(both, order)


def _pick(column: Any, at: Ints) -> Any:
    return [column[i] for i in at.tolist()] if isinstance(column, list) else column[at]


def _put(column: Any, at: Ints, new: Any) -> Any:
    out = column.copy()
    if isinstance(column, list):
        for place, value in zip(at.tolist(), new, strict=True):
            out[place] = value
    else:
        out[at] = new
    return out


def coded(words: list[str]) -> tuple[Ints, list[str]]:
    """Words as places in the list of them all."""
    names = sorted(set(words))
    place = {name: i for i, name in enumerate(names)}
    return np.fromiter((place[word] for word in words), np.int64, len(words)), names
