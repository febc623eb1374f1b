"""Work handed out: a row of Today or of the mapping queue is given to a person, who sees theirs first."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import timedelta

from sqlalchemy import delete, select

from ...core.permissions import Permission
from ...data.people import HandedOut
from ...data.setup import Person
from ..base.context import Context
from ..base.errors import Conflict
from . import roles, users

# What was given so long ago and is settled since is of no use any more.
KEPT = timedelta(days=60)


@dataclass(frozen=True)
class Given:
    """Whom a row is given to. mine: whoever looks."""

    name: str
    mine: bool


def sku_key(sku: int) -> str:
    """How a SKU of the mapping queue is named among rows."""
    return f"sku:{sku}"


def given(context: Context) -> dict[str, Given]:
    """All rows that somebody was given, by their keys."""
    query = select(HandedOut.key, Person.id, Person.name).join(Person, Person.id == HandedOut.person_id).where(Person.gone_at.is_(None))
    return {key: Given(name, number == context.person) for key, number, name in context.session.execute(query).tuples()}


def may_take(context: Context, permissions: Iterable[Permission]) -> list[Person]:
    """People to whom a row can be given: those who may do what it takes, the one who gives among them."""
    asked = tuple(permissions)
    return [one for one in users.present(context) if users.has_password(one) and roles.allowed(context.session, one).may(*asked)]


def give(context: Context, key: str, person: int | None, permissions: Iterable[Permission]) -> str:
    """Give a row to somebody, or take it back from whoever has it (None). Conflict where they may not do what it takes."""
    row = context.session.scalar(select(HandedOut).where(HandedOut.key == key))
    if person is None:
        if row is not None:
            context.session.delete(row)
        return "it is everybody's again"
    who = next((one for one in may_take(context, permissions) if one.id == person), None)
    if who is None:
        raise Conflict("they cannot do this; give it to somebody who may")
    if row is None:
        row = HandedOut(key=key)
        context.session.add(row)
    row.person_id, row.at = who.id, context.now
    context.session.execute(delete(HandedOut).where(HandedOut.at < context.now - KEPT))
    context.log("row.give", key, f"{context.actor} gave {who.name} something to do", count=0)
    return f"{who.name} sees it first"
