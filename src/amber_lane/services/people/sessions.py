"""Who is signed in: each signing in is kept here, so that it can be ended, and what a person may do is asked of the person.

Times are the real ones: in the practice world a day lasts minutes, and nobody wants to sign in every few of them.
"""

from __future__ import annotations

import hashlib
import secrets
from datetime import UTC, datetime, timedelta
from functools import cache

from sqlalchemy import ColumnElement, Select, bindparam, select, update
from sqlalchemy.orm import Session

from ...core.permissions import MANAGER, Scope
from ...data.setup import Person, SignIn
from ..base import house_days
from ..base.context import Context
from ..base.credentials import hash_password, password_fits
from ..base.errors import Conflict, Invalid, NotFound
from .passwords import password_fault

# Left alone for so long a signing in is over, and after so long in any case.
IDLE, LONGEST = timedelta(hours=24), timedelta(days=14)
# When it was last used is written down no more often than this.
NOTED = timedelta(minutes=5)


def now() -> datetime:
    return datetime.now(UTC)


def hash_of(token: str) -> str:
    return hashlib.sha256(token.encode("utf-8", "replace")).hexdigest()


def begin(s: Session, person: Person, address: str, program: str) -> str:
    """Sign a person in. Returns the secret that stands in their cookie from now on, and nowhere else."""
    token, at = secrets.token_urlsafe(32), now()
    s.add(SignIn(hash=hash_of(token), person_id=person.id, at=at, seen_at=at, address=address[:60], program=program[:200]))
    person.seen_at = at
    s.flush()
    return token


def _open() -> tuple[ColumnElement[bool], ...]:
    """What holds still; see `_since`."""
    return (SignIn.ended_at.is_(None), SignIn.seen_at > bindparam("seen"), SignIn.at > bindparam("begun"))


def _since(at: datetime) -> dict[str, datetime]:
    return {"seen": at - IDLE, "begun": at - LONGEST}


@cache
def _holder() -> Select[SignIn, Person]:
    mine = (SignIn.hash == bindparam("hash"), Person.gone_at.is_(None))
    return select(SignIn, Person).join(Person, Person.id == SignIn.person_id).where(*mine, *_open())


def find(s: Session, token: str) -> tuple[SignIn, Person] | None:
    """Whose secret this is, while it holds."""
    if not token:
        return None
    found = s.execute(_holder(), {"hash": hash_of(token), **_since(now())}).first()
    return None if found is None else (found[0], found[1])


def came_from(s: Session, person: int, address: str) -> bool:
    """Whether a person has signed in from an address before."""
    return s.scalar(select(SignIn.id).where(SignIn.person_id == person, SignIn.address == address).limit(1)) is not None


def is_due(row: SignIn) -> bool:
    """Whether it is to be written down again that it is used."""
    return row.seen_at < now() - NOTED


def note(s: Session, row: int) -> None:
    s.execute(update(SignIn).where(SignIn.id == row).values(seen_at=now()))


def mine(s: Session, person: int) -> list[SignIn]:
    """A person's open sign-ins, the latest first."""
    return list(s.scalars(select(SignIn).where(SignIn.person_id == person, *_open()).order_by(SignIn.seen_at.desc()), _since(now())))


def end(s: Session, token: str) -> None:
    s.execute(update(SignIn).where(SignIn.hash == hash_of(token), SignIn.ended_at.is_(None)).values(ended_at=now()))


def end_one(context: Context, number: int) -> None:
    """A person ends one of their own sign-ins, as on a machine that was lost."""
    row = context.session.get(SignIn, number)
    if row is None or row.person_id != context.person:
        raise NotFound(f"there is no sign-in {number} of yours")
    row.ended_at = row.ended_at or now()
    context.log("person.out", context.actor, f"{context.actor} ended a sign-in of {house_days.moment_text(context, row.at)}")


def end_all(s: Session, person: int, but: str = "") -> int:
    """End all sign-ins of a person. but: the secret of one that stays. Returns how many."""
    query = update(SignIn).where(SignIn.person_id == person, SignIn.ended_at.is_(None))
    return int(s.execute(query.where(SignIn.hash != hash_of(but)).values(ended_at=now())).rowcount)  # type: ignore[attr-defined]


def change_password(context: Context, token: str, was: str, fresh: str) -> None:
    """A person's own password; their other sign-ins end."""
    person = context.get(Person, context.person or 0, "person")
    if not password_fits(person.password, was):
        raise Invalid("that is not your password until now", {"was": "is not your password"})
    if wrong := password_fault(fresh, person.mail, person.name):
        raise Invalid(f"password {wrong}", {"password": wrong})
    person.password = hash_password(fresh)
    n = end_all(context.session, person.id, but=token)
    context.log("person.password", person.name, f"{person.name} changed the password" + (f"; {n} other sign-ins ended" if n else ""))


def change_role(context: Context, number: int, version: int, role: str, scope: Scope) -> str:
    """What a person may do from now on; their sign-ins end, so that nothing goes on as before."""
    person = context.get_version(Person, number, version, "person")
    if person.role == MANAGER and role != MANAGER:
        _another_manager(context, person)
    before = person.role
    person.role, person.scope = role, scope.kept()
    end_all(context.session, person.id)
    message = f"{person.name} is {role} from now on, and signs in anew"
    context.log("person.role", person.name, message, before={"role": before}, after={"role": role})
    return message


def remove(context: Context, number: int, version: int) -> str:
    """A person does not sign in any more; what they did stays theirs."""
    person = context.get_version(Person, number, version, "person")
    if person.id == context.person:
        raise Conflict("nobody removes themselves; another manager does")
    if person.role == MANAGER:
        _another_manager(context, person)
    person.gone_at = now()
    # The address is free for whoever comes after; the hash can be no password's.
    person.mail, person.password = f"{person.mail}#{person.id}", "-"
    end_all(context.session, person.id)
    message = f"{person.name} does not sign in any more"
    context.log("person.leave", person.name, message)
    return message


def _another_manager(context: Context, person: Person) -> None:
    others = select(Person.id).where(Person.role == MANAGER, Person.gone_at.is_(None), Person.id != person.id)
    if context.session.scalar(others.limit(1)) is None:
        raise Conflict(f"{person.name} is the only manager; make another one first")
