"""Queries read as NumPy columns, at the driver's speed."""

from __future__ import annotations

import gc
import threading
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from typing import Any

import numpy as np
from sqlalchemy import case, func, literal
from sqlalchemy.orm import Session

from ..core.money import Ints
from ..core.price import NONE

_quiet_lock = threading.Lock()
_quiet = 0


@contextmanager
def quiet() -> Iterator[None]:
    """Work on very many rows without looking for rubbish among them, which would take a fifth of the time.

    Reference counts free what they free all the same; whoever comes last turns the search on again.
    """
    global _quiet
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


def fetch_columns(s: Session, query: Any) -> list[Any]:
    """A query's rows as one int64 column per field; text fields as lists. NULL becomes NONE."""
    # The driver's own rows: wrapping each of a hundred thousand would take as long as reading them.
    rows = s.connection().execute(query).cursor.fetchall()
    if not rows:
        return [np.zeros(0, dtype=np.int64) for _ in query.selected_columns]
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


def coded(words: list[str]) -> tuple[Ints, list[str]]:
    """Words as places in the list of them all."""
    names = sorted(set(words))
    place = {name: i for i, name in enumerate(names)}
    return np.fromiter((place[word] for word in words), np.int64, len(words)), names
