"""The people who may sign in."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy import select

from ...core.permissions import MANAGER, Scope
from ...core.texts import is_mail
from ...data.setup import Person
from ..base.context import Context
from ..base.credentials import hash_password
from ..base.errors import Conflict, Invalid
from .passwords import password_fault

NOBODYS = Scope()


# What no password's hash is: of who is invited and has said none yet.
NO_PASSWORD = "-"


def has_password(person: Person) -> bool:
    """Whether somebody has come in once; who was invited says a password by their link."""
    return person.password != NO_PASSWORD


def make_person(context: Context, name: str, mail: str, password: str | None, role: str = MANAGER, scope: Scope = NOBODYS) -> Person:
    """Enter a person who may sign in; password None: who is invited, and says one by a link."""
    wrong, name = {}, " ".join(name.split())
    if not name:
        wrong["name"] = "is empty"
    if not is_mail(mail.strip()):
        wrong["mail"] = "is not a mail address"
    if password is not None and (fault := password_fault(password, mail, name)):
        wrong["password"] = fault
    if wrong:
        raise Invalid("; ".join(f"{field} {message}" for field, message in wrong.items()), wrong)
    if context.session.scalar(select(Person.id).where(Person.mail == mail.strip().lower())):
        raise Conflict("there is somebody with that mail address already")
    person = Person(
        name=name.strip(),
        mail=mail.strip().lower(),
        password=hash_password(password) if password is not None else NO_PASSWORD,
        role=role,
        scope=scope.kept(),
    )
    context.session.add(person)
    context.session.flush()
    context.log("person.join", person.name, f"{person.name} {'joined' if password is not None else 'is invited'} as {role}")
    return person


def any_there(context: Context) -> bool:
    """Whether anybody was ever entered here."""
    return context.session.scalar(select(Person.id).limit(1)) is not None


def present(context: Context) -> Sequence[Person]:
    return context.session.scalars(select(Person).where(Person.gone_at.is_(None)).order_by(Person.id)).all()


def with_mail(context: Context, mail: str) -> Person | None:
    """Who signs in with a mail address."""
    return context.session.scalar(select(Person).where(Person.mail == mail, Person.gone_at.is_(None)))
