"""What a mailbox that is read can do for us, and the mails in it."""

from __future__ import annotations

from contextlib import AbstractContextManager
from dataclasses import dataclass
from datetime import datetime
from typing import Protocol

from .protocols import PartnerLink


@dataclass(frozen=True)
class Bounce:
    """A mail of ours that did not arrive: its reference, to whom it went, and why in the words of who says so."""

    reference: str
    to: str
    reason: str


@dataclass(frozen=True)
class IncomingMail:
    """A mail that came. sender: its bare address in small letters; files: (name, bytes); fault: why it could not be read.

    keys: what stands in it in the form of a key of ours; vouched: (server, domain) of each server that says so of its sender.
    """

    uid: str
    at: datetime | None
    sender: str
    subject: str
    text: str
    files: tuple[tuple[str, bytes], ...] = ()
    fault: str = ""
    bounce: Bounce | None = None
    keys: tuple[str, ...] = ()
    vouched: tuple[tuple[str, str], ...] = ()


class InboxVisit(Protocol):
    def uids(self) -> list[str]:
        """What lies there, the oldest first; a mail keeps its uid for ever."""
        ...

    def letter(self, uid: str) -> IncomingMail: ...


class InboxLink(PartnerLink, Protocol):
    def visit(self) -> AbstractContextManager[InboxVisit]:
        """One look, under one login; the connection is its own and is closed at its end."""
        ...
