"""Keys of programs of one's own: each may do what its person chose for it, and never more than that person may do now."""

from __future__ import annotations

import secrets
from collections.abc import Iterable
from dataclasses import replace

from sqlalchemy import select, update
from sqlalchemy.orm import Session

from ...core.permissions import Allowed, Permission, Scope, whole
from ...data.people import ProgramKey
from ...data.setup import Person
from ..base.context import Context
from ..base.errors import Conflict, Invalid, NotFound
from . import roles
from .sessions import NOTED, hash_of, now

# By it a key is known among other secrets, wherever it turns up.
PREFIX = "alk_"
MOST = 20
# What no program does: letting people in is a person's.
NEVER = frozenset({Permission.PEOPLE})


def make(context: Context, name: str, permissions: Iterable[Permission]) -> tuple[ProgramKey, str]:
    """A new key of whoever acts, and its secret, which is shown this once. Invalid where it would do more than they may."""
    name, asked = " ".join(name.split()), whole(permissions)
    person = context.get(Person, context.person or 0, "person")
    own = roles.allowed(context.session, person).role.permissions - NEVER
    wrong = {}
    if not name:
        wrong["name"] = "is empty"
    if not asked or not asked <= own:
        wrong["permissions"] = "are none" if not asked else f"go beyond yours: {', '.join(sorted(asked - own))}"
    if wrong:
        raise Invalid("; ".join(f"{field} {message}" for field, message in wrong.items()), wrong)
    if len(mine(context)) >= MOST:
        raise Conflict(f"you have {MOST} keys already; end one that is not used any more")
    secret = PREFIX + secrets.token_urlsafe(32)
    row = ProgramKey(
        person_id=person.id, name=name[:60], hash=hash_of(secret), permissions=sorted(one.value for one in asked), made_at=now()
    )
    context.session.add(row)
    context.session.flush()
    context.log("program_key.make", person.name, f"{person.name} made the key {row.name} for a program: {', '.join(row.permissions)}")
    return row, secret


def mine(context: Context) -> list[ProgramKey]:
    """Keys of whoever acts that still open, the newest first."""
    query = select(ProgramKey).where(ProgramKey.person_id == context.person, ProgramKey.ended_at.is_(None))
    return list(context.session.scalars(query.order_by(ProgramKey.id.desc())))


def end(context: Context, number: int) -> ProgramKey:
    """It opens nothing any more, at once."""
    row = context.session.get(ProgramKey, number)
    if row is None or row.person_id != context.person or row.ended_at is not None:
        raise NotFound(f"there is no key {number} of yours")
    row.ended_at = now()
    context.log("program_key.end", context.actor, f"{context.actor} ended the key {row.name}")
    return row


def find(s: Session, secret: str) -> tuple[ProgramKey, Person] | None:
    """Whose program a secret is of, while it and its person are there."""
    if not secret.startswith(PREFIX):
        return None
    query = select(ProgramKey, Person).join(Person, Person.id == ProgramKey.person_id)
    found = s.execute(query.where(ProgramKey.hash == hash_of(secret), ProgramKey.ended_at.is_(None), Person.gone_at.is_(None))).first()
    return None if found is None else (found[0], found[1])


def allowed(s: Session, row: ProgramKey, person: Person) -> Allowed:
    """What a program may do now: what was chosen for it, as far as its person may still do it, with that person's limits."""
    own = roles.allowed(s, person)
    known = {one.value for one in Permission}
    chosen = frozenset(Permission(name) for name in row.permissions if name in known)
    return Allowed(replace(own.role, permissions=(chosen & own.role.permissions) - NEVER), Scope.of(person.scope or {}))


def is_due(row: ProgramKey) -> bool:
    """Whether it is to be written down again that it is used."""
    return row.used_at is None or row.used_at < now() - NOTED


def note(s: Session, number: int) -> None:
    s.execute(update(ProgramKey).where(ProgramKey.id == number).values(used_at=now()))
