"""Parts of statements that are asked again and again. Such a one is put together once, by a function that is kept with its result: putting
it together takes longer than asking it of a small table."""

from __future__ import annotations

from functools import cache
from typing import Any, TypeVar

from sqlalchemy import BindParameter, Select, bindparam, select
from sqlalchemy.orm import Session

from .base import Row
from .setup import Link, Setting

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


@cache
def _link() -> Select[Link]:
    return select(Link).where(Link.owner == bindparam("owner"), Link.owner_id == bindparam("number"))


def find_link(s: Session, owner: str, number: int) -> Link | None:
    """How a partner is reached; None where it is not joined."""
    return s.scalar(_link(), {"owner": owner, "number": number})
