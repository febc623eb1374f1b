"""What every mailbox that is read has in common: one login a look, a fault of its own for every failure, nothing left open."""

from __future__ import annotations

import ssl
from abc import ABC, abstractmethod
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any, Generic, TypeVar
from urllib.parse import urlsplit

import httpx

from . import outside, tls
from .errors import Refused, Unavailable
from .inbox_protocol import IncomingMail
from .protocols import Account, Budget

B = TypeVar("B")


class Visit(ABC, Generic[B]):
    """One look at a mailbox, with a connection that nobody else has: however many mails are read in it, the name is given once.

    A library's own `failure` means that the mailbox is busy; the connection is closed after it, and made anew by the next question.
    """

    failure: type[Exception]

    def __init__(self, box: MailReader) -> None:
        self.at = box
        self._box: B | None = None

    @abstractmethod
    def uids(self) -> list[str]:
        """What lies there, the oldest first."""

    @abstractmethod
    def letter(self, uid: str) -> IncomingMail:
        """One mail. A mail that cannot be read is told with its fault; Malformed where it came torn."""

    @abstractmethod
    def _signed_in(self) -> B:
        """A connection under the name, sealed where it can be."""

    @abstractmethod
    def _bye(self, box: B) -> None:
        """Leave as the protocol has it; may fail."""

    @abstractmethod
    def _close(self, box: B) -> None:
        """Let go without a word."""

    def leave(self) -> None:
        box, self._box = self._box, None
        if box is not None:
            try:
                self._bye(box)
            except (OSError, EOFError, self.failure):
                self._close(box)

    def _must_be_sealed(self) -> None:
        """Where nothing is sealed, a password goes to this very machine alone."""
        if not tls.on_this_machine(self.at.host):
            raise Refused(f"the mailbox offers no sealed connection, so the password is not sent there; use {self.at.scheme}s://")

    def _drop(self) -> None:
        box, self._box = self._box, None
        if box is not None:
            self._close(box)

    @contextmanager
    def _open(self) -> Iterator[B]:
        try:
            with outside.cut_after(self.at.deadline * outside.STEP_DEADLINES) as cut:
                if self._box is None:
                    self._box = self._signed_in()
                else:
                    cut.add(self._box.sock)  # type: ignore[attr-defined]
                yield self._box
        except ssl.SSLCertVerificationError as error:
            self._drop()
            raise tls.unverified(self.at.host, error) from error
        except self.failure as error:
            self._drop()
            raise Unavailable("the mailbox is busy; it will be tried again") from error
        except (OSError, EOFError) as error:
            self._drop()
            raise Unavailable(f"the mailbox cannot be reached at {self.at.host}:{self.at.port}") from error
        except BaseException:
            self._drop()
            raise


class MailReader:
    """address: scheme://host:port, with an s behind the scheme where it is sealed from the start; key: name:password.

    It keeps no connection: threads may share it, each visit has its own.
    """

    scheme: str
    usual_ports: tuple[int, int]
    visits: type[Visit[Any]]

    def __init__(self, address: str, key: str, deadline: float, transport: httpx.BaseTransport | None = None) -> None:
        kinds = (self.scheme, f"{self.scheme}s")
        try:
            parts = urlsplit(address)
            self.port = parts.port or self.usual_ports[parts.scheme == kinds[1]]
        except ValueError:
            parts = urlsplit("")
        if parts.scheme not in kinds or not parts.hostname:
            raise Refused(f"{address!r} is not the address of a mailbox such as {kinds[1]}://mail.example:{self.usual_ports[1]}")
        self.host, self.sealed, self.deadline = parts.hostname, parts.scheme == kinds[1], deadline
        self.name, _, self.word = key.partition(":")

    def budget(self) -> Budget | None:
        return None

    def account(self) -> Account:
        with self.visit() as there:
            return Account("Answers", "", "", ["read mail"], number=f"{self.name}@{self.host}", there=tuple(there.uids()))

    @contextmanager
    def visit(self) -> Iterator[Visit[Any]]:
        visit = self.visits(self)
        try:
            yield visit
        finally:
            visit.leave()
