"""The people who may sign in."""

from __future__ import annotations

from sqlalchemy import select

from ...core.texts import is_mail
from ...data.setup import Person
from ..base.context import Context
from ..base.credentials import hash_password
from ..base.errors import Conflict, Invalid
from .passwords import password_fault


def make_person(
    context: Context, name: str, mail: str, password: str, role: str = "manager", scope: dict[str, list[int]] | None = None
) -> Person:
    """Enter a person who may sign in."""
    wrong, name = {}, " ".join(name.split())
    if not name:
        wrong["name"] = "is empty"
    if not is_mail(mail.strip()):
        wrong["mail"] = "is not a mail address"
    if fault := password_fault(password, mail, name):
        wrong["password"] = fault
    if wrong:
        raise Invalid("; ".join(f"{field} {message}" for field, message in wrong.items()), wrong)
    if context.session.scalar(select(Person.id).where(Person.mail == mail.strip().lower())):
        raise Conflict("there is somebody with that mail address already")
    person = Person(name=name.strip(), mail=mail.strip().lower(), password=hash_password(password), role=role, scope=scope or {})
    context.session.add(person)
    context.session.flush()
    context.log("person.join", person.name, f"{person.name} joined as {role}")
    return person
