"""Buyers who write: a mail that is about an order of theirs, kept with its pictures until somebody opens a case of it or has read it."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Protocol

from sqlalchemy import func, select

from ...core.claims import ClaimReason, reason_in
from ...core.permissions import Scope
from ...data.claims import Claim
from ...data.orders import Order
from ...data.outbox import AuditEntry
from ...data.setup import Letter, Store
from ..base import undoing
from ..base.context import Context
from ..base.errors import Conflict, NotFound
from ..claims import cases
from ..listings import images

# What could be a number of an order, and how many of them are looked for.
_NUMBER = re.compile(r"[A-Z0-9][A-Z0-9-]{2,24}", re.IGNORECASE)
NUMBERS_MOST, BODY_MOST = 60, 4000


class Mail(Protocol):
    """What of a mail is looked at (connectors.inbox_protocol.IncomingMail). sender: its bare address in small letters."""

    @property
    def uid(self) -> str: ...
    @property
    def at(self) -> datetime | None: ...
    @property
    def sender(self) -> str: ...
    @property
    def subject(self) -> str: ...
    @property
    def text(self) -> str: ...


@dataclass(frozen=True)
class About:
    """Which order a mail is about; is_buyers: it comes from the address that it was ordered with."""

    order: Order
    is_buyers: bool


def find(context: Context, mail: Mail) -> About | None:
    """The order that a mail names, else the newest of whoever writes; None where it is of nobody who ever ordered.

    Anybody can name any number: from another address than the buyer's it is told as such, and shown to whoever reads it.
    """
    numbers = list(dict.fromkeys(one.upper() for one in _NUMBER.findall(f"{mail.subject} {mail.text[:BODY_MOST]}")))[:NUMBERS_MOST]
    # By store and number, as the index of orders has them.
    by_number = select(Order).where(Order.store_id.in_(context.session.scalars(select(Store.id)).all()), Order.number.in_(numbers))
    named = list(context.session.scalars(by_number.order_by(Order.id.desc()))) if numbers else []
    theirs = [one for one in named if mail.sender and one.mail.lower() == mail.sender]
    if theirs:
        return About(theirs[0], True)
    if "@" in mail.sender:
        newest = select(Order).where(func.lower(Order.mail) == mail.sender).order_by(Order.id.desc()).limit(1)
        if (order := context.session.scalar(newest)) is not None:
            return About(order, True)
    # A word that looks like a number is none where it fits orders of several stores.
    return About(named[0], False) if len(named) == 1 and any(letter.isdigit() for letter in named[0].number) else None


def keep(context: Context, inbox: int, mail: Mail, about: About, pictures: Sequence[images.Made]) -> Letter:
    """Keep a buyer's mail until a person has read it. Nothing is decided by what it says."""
    row = Letter(
        inbox_id=inbox,
        uid=mail.uid,
        at=min(mail.at or context.now, context.now),
        sender=mail.sender,
        subject=mail.subject,
        body=mail.text,
        supplier_id=None,
        message=f"about order {about.order.number}",
        needs=True,
        order_id=about.order.id,
        is_buyers=about.is_buyers,
        pictures=[images.keep(context, one, is_evidence=True).id for one in pictures],
    )
    context.session.add(row)
    context.session.flush()
    context.log("letter.buyer", about.order.number, f"{about.order.buyer} wrote about order {about.order.number}", count=0)
    return row


def to_read(context: Context) -> list[tuple[Letter, Order]]:
    """Buyers' mails that nobody has read, the oldest first."""
    query = select(Letter, Order).join(Order, Order.id == Letter.order_id).where(Letter.needs).order_by(Letter.id)
    scope = context.scope
    if scope.stores:
        query = query.where(Order.store_id.in_(scope.stores))
    return [] if _elsewhere(scope) else list(context.session.execute(query).tuples())


def _elsewhere(scope: Scope) -> bool:
    """Whoever works for suppliers or categories alone reads no buyers' mails: those are about whole orders."""
    return bool(scope.suppliers or scope.categories)


def one(context: Context, number: int) -> tuple[Letter, Order]:
    """A buyer's mail, read or not. NotFound where it is none of those that whoever acts works for."""
    row = context.get(Letter, number, "mail")
    order = context.session.get(Order, row.order_id or 0)
    if order is None or _elsewhere(context.scope) or (context.scope.stores and order.store_id not in context.scope.stores):
        raise NotFound(f"there is no buyer's mail {number}")
    return row, order


def likely(row: Letter) -> ClaimReason | None:
    """What it seems to be about, for the form of a case."""
    return reason_in(f"{row.subject} {row.body}")


def open_case(context: Context, number: int, start: cases.Start) -> Claim:
    """Open a case with a buyer's mail: its words and pictures go along, and it is read by that. Undone with the case."""
    row, order = one(context, number)
    if not row.needs:
        raise Conflict("this mail was read already")
    if cases.known(context, start.line).order.id != order.id:
        raise Conflict(f"that line is not of order {order.number}, about which the buyer writes")
    claim = cases.open_claim(context, start)
    claim.letter_id = row.id
    claim.evidence = list(row.pictures)[: cases.PICTURES_MOST]
    row.needs, row.read_at = False, context.now
    n = len(claim.evidence)
    told = f" and sent {n} picture{'' if n == 1 else 's'}" if n else ""
    cases.note(context, claim, "wrote", f"{order.buyer} wrote “{row.subject or 'no subject'}”{told}")
    return claim


def close(context: Context, number: int) -> None:
    """Somebody has read it, and no case comes of it."""
    row, order = one(context, number)
    if not row.needs:
        raise Conflict("this mail was read already")
    row.needs, row.read_at = False, context.now
    message = f"read what {order.buyer} wrote about order {order.number}"
    context.log("letter.buyer_read", order.number, message, after={"letter": number}, undo=True)


@undoing.undoes("letter.buyer_read")
def undo_close(context: Context, act: AuditEntry) -> None:
    row = context.get(Letter, undoing.after(act)["letter"], "mail")
    row.needs, row.read_at = True, None
