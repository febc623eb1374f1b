"""People let in by a link of their own: mailed where the house has a mailbox, else handed over by whoever invites them."""

from __future__ import annotations

from ...core.permissions import Scope
from ...data.setup import Person
from ..base.context import Context
from ..base.errors import Conflict
from ..outbox import queue
from . import users
from .password_reset import INVITED_FOR, make_link

GOOD_FOR = INVITED_FOR


def invite(context: Context, name: str, mail: str, role: str, scope: Scope) -> Person:
    """Enter somebody who says their own name and password by a link."""
    return users.make_person(context, name.strip() or mail.strip().partition("@")[0], mail, None, role, scope)


def again(context: Context, number: int) -> Person:
    """Somebody whose link may be made anew: they have not come in yet."""
    person = context.get(Person, number, "person")
    if person.gone_at or users.has_password(person):
        raise Conflict(f"{person.name} has come in already; who forgot the password asks for a link where they sign in")
    context.log("person.invite", person.name, f"{person.name} is invited once more")
    return person


def send(context: Context, person: Person, page: str) -> tuple[bool, str]:
    """Make the link, and mail it if there is a mailbox. Returns whether it is mailed, and the link. page: where it leads."""
    link, token = make_link(context, person, invites=True)
    address = f"{page}#invited={token}"
    text = (
        f"Hello {person.name},\n\n"
        f"{context.actor} lets you in to Amber Lane, as {person.role}. Say your name and a password of your own here, within a week:\n\n"
        f"{address}\n\n"
        "It works once. If you do not know what this is about, do nothing.\n"
    )
    return queue.mail(context, f"invite:{link.id}", f"person:{person.id}", person.mail, "You are let in to Amber Lane", text), address
