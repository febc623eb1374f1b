"""Parts of statements that are asked again and again. Such a one is put together once, by a function that is kept with its result: putting
it together takes longer than asking it of a small table."""

from __future__ import annotations

from functools import cache
from typing import Any, TypeVar

from sqlalchemy import BindParameter, Select, bindparam, select

from .base import Row
from .setup import Setting

R = TypeVar("R", bound=Row)


def among(name: str) -> BindParameter[Any]:
    """A list that is given by this name when the statement is asked: `column.in_(among("orders"))`."""
    return bindparam(name, expanding=True)


@cache
def all_of(table: type[R]) -> Select[R]:
    """All rows of a table."""
    return select(table)


@cache
def setting(name: str) -> Select[Setting]:
    """What is kept under a name."""
    return select(Setting).where(Setting.name == name)
