"""Links under which a person says a new password, once: by mail and for an hour who forgot theirs, for a week who is invited."""

from __future__ import annotations

import secrets
from datetime import timedelta

from sqlalchemy import select, update
from sqlalchemy.orm import Session

from ...data.setup import PasswordLink, Person
from ..base.context import Context
from ..base.credentials import hash_password
from ..base.errors import Invalid, NotFound
from ..outbox import queue
from . import second_step
from .passwords import password_fault
from .sessions import end_all, hash_of, now

GOOD_FOR = timedelta(hours=1)
INVITED_FOR = timedelta(days=7)
NO_MORE = "this link is good no more; ask for a new one"


def signs_in(s: Session, mail: str) -> bool:
    """Whether anybody signs in with a mail address; nobody writes anything for a stranger."""
    return _of(s, mail) is not None


def is_good(s: Session, token: str) -> bool:
    """Whether a link is good now."""
    return _owner(s, token) is not None


def _of(s: Session, mail: str) -> Person | None:
    return s.scalar(select(Person).where(Person.mail == mail, Person.gone_at.is_(None)))


def _owner(s: Session, token: str) -> tuple[PasswordLink, Person] | None:
    link = s.scalar(select(PasswordLink).where(PasswordLink.hash == hash_of(token)))
    person = s.get(Person, link.person_id) if link else None
    if link is None or person is None or link.used_at or person.gone_at or now() - link.at > (INVITED_FOR if link.invites else GOOD_FOR):
        return None
    return link, person


def make_link(context: Context, person: Person, invites: bool = False) -> tuple[PasswordLink, str]:
    """A link of a person's, and the secret in it. One at a time: an older one that lies in a mailbox is good for nothing any more."""
    token = secrets.token_urlsafe(32)
    mine = (PasswordLink.person_id == person.id, PasswordLink.used_at.is_(None))
    context.session.execute(update(PasswordLink).where(*mine).values(used_at=now()))
    link = PasswordLink(hash=hash_of(token), person_id=person.id, at=now(), invites=invites)
    context.session.add(link)
    context.session.flush()
    return link, token


def ask(context: Context, mail: str, page: str, asked_from: str) -> None:
    """Send a link to whoever signs in with a mail address; nothing is done, nor told, where nobody does. page: where it leads."""
    person = _of(context.session, mail)
    if person is None:
        return
    link, token = make_link(context, person)
    text = (
        f"Hello {person.name},\n\n"
        f"somebody at {asked_from or 'an unknown place'} asked for a new password for this address in Amber Lane. "
        "If it was you, say it here within the hour:\n\n"
        f"{page}#new-password={token}\n\n"
        "If it was not you, do nothing: your password stays as it is.\n"
    )
    sent = queue.mail(context, f"password:{link.id}", f"person:{person.id}", person.mail, "A new password for Amber Lane", text)
    message = f"{person.name} asked for a new password, from {asked_from}" + ("" if sent else "; there is no mailbox to send the link by")
    context.log("person.forgot", person.name, message, count=0)


def say_anew(context: Context, token: str, password: str) -> str:
    """The new password of whose link this is; all their sign-ins end. Returns their mail address. Invalid when it is good no more."""
    found = _owner(context.session, token)
    if found is None:
        raise Invalid(NO_MORE)
    link, person = found
    if link.invites:
        raise Invalid("this link is an invitation; open it once more")
    _keep(context, person, password)
    link.used_at = now()
    context.log("person.password", person.name, f"{person.name} said a new password by a link that was mailed; all sign-ins ended")
    return person.mail


def invited(s: Session, token: str) -> Person | None:
    """Whose invitation a link is, while it is good."""
    found = _owner(s, token)
    return found[1] if found and found[0].invites else None


def accept(context: Context, token: str, name: str, password: str) -> Person:
    """Who is invited says their name and password, and may sign in from now on. Invalid when the link is good no more."""
    found = _owner(context.session, token)
    if found is None or not found[0].invites:
        raise Invalid("this link is good no more; ask whoever invited you for a new one")
    link, person = found
    person.name = " ".join(name.split()) or person.name
    _keep(context, person, password)
    link.used_at = now()
    context.actor, context.person = person.name, person.id
    context.log("person.came", person.name, f"{person.name} came in by an invitation, as {person.role}")
    return person


def say_for(context: Context, mail: str, password: str) -> str:
    """A new password said on the machine itself, for who has no other way in; the second step goes too."""
    person = _of(context.session, mail)
    if person is None:
        raise NotFound(f"nobody signs in as {mail}")
    _keep(context, person, password)
    second_step.forget(person)
    message = f"{person.name} signs in with a new password, and without a code until it is set up anew"
    context.log("person.password", person.name, message, reason="said on the machine itself")
    return message


def _keep(context: Context, person: Person, password: str) -> None:
    if wrong := password_fault(password, person.mail, person.name):
        raise Invalid(f"password {wrong}", {"password": wrong})
    person.password = hash_password(password)
    end_all(context.session, person.id)
