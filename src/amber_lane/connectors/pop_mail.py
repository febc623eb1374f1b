"""A mailbox read by POP3 (RFC 1939). address: pop://host:port (sealed by STLS where the server can), pops:// where it is sealed from the
start; key: name:password.

Nothing is deleted there: whoever reads it remembers which mails it has had.
"""

from __future__ import annotations

import poplib
import ssl
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any
from urllib.parse import urlsplit

import httpx

from . import tls
from .errors import Denied, Malformed, Refused, Unavailable
from .letters import BYTES_MOST, read
from .protocols import Account, Letter

# What a mailbox says when it cannot let anybody in just now (RFC 2449, 3206).
BUSY = ("[IN-USE]", "[LOGIN-DELAY]", "[SYS/TEMP]")
# Programs write lines of any length, whatever the standard says; the library would give up at 2,048 letters.
poplib._MAXLINE = BYTES_MOST  # type: ignore[attr-defined]


class PopMail:
    def __init__(self, address: str, key: str, deadline: float, transport: httpx.BaseTransport | None = None) -> None:
        try:
            parts = urlsplit(address)
            self.port = parts.port or (995 if parts.scheme == "pops" else 110)
        except ValueError:
            parts = urlsplit("")
        if parts.scheme not in ("pop", "pops") or not parts.hostname:
            raise Refused(f"{address!r} is not the address of a mailbox such as pops://mail.example:995")
        self.host, self.sealed, self.deadline = parts.hostname, parts.scheme == "pops", deadline
        self.name, _, self.word = key.partition(":")
        self._box: poplib.POP3 | None = None
        self._visiting = False

    def account(self) -> Account:
        with self._open() as box:
            there = tuple(_numbers(box))
        return Account("Answers", "", "", ["read mail"], number=f"{self.name}@{self.host}", there=there)

    @contextmanager
    def visit(self) -> Iterator[None]:
        """One look: however many mails are read in it, the name is given once."""
        self._visiting = True
        try:
            yield
        finally:
            self._visiting = False
            self._leave()

    def uids(self) -> list[str]:
        with self._open() as box:
            return list(_numbers(box))

    def letter(self, uid: str) -> Letter:
        """One mail. A mail that cannot be read is told with its fault; Malformed where it came torn."""
        with self._open() as box:
            number = _numbers(box).get(uid)
            if number is None:
                return Letter(uid, None, "", "", "", fault="it is gone from the mailbox")
            # Asked for one mail, it answers with one line; its types say otherwise.
            told: Any = box.list(number)
            if int(told.split()[2]) > BYTES_MOST:
                head = b"\r\n".join(box.top(number, 0)[1])
                seen = read(uid, head)
                return Letter(uid, seen.at, seen.sender, seen.subject, "", fault=f"it is larger than {BYTES_MOST // 1_000_000} MB")
            try:
                lines = box.retr(number)[1]
            except poplib.error_proto as error:
                if "EOF" in str(error):
                    raise Malformed("a mail came torn from the mailbox") from error
                raise
            return read(uid, b"\r\n".join(lines))

    def _leave(self) -> None:
        box, self._box = self._box, None
        if box is not None:
            try:
                box.quit()
            except (OSError, EOFError, poplib.error_proto):
                box.close()

    @contextmanager
    def _open(self) -> Iterator[poplib.POP3]:
        try:
            if self._box is None:
                self._box = self._signed_in()
            yield self._box
        except Malformed:
            self._drop()
            raise
        except poplib.error_proto as error:
            self._drop()
            raise Unavailable("the mailbox is busy; it will be tried again") from error
        except ssl.SSLCertVerificationError as error:
            self._drop()
            raise Refused(
                f"the certificate of {self.host} cannot be verified ({error.verify_message}); "
                f"where it is of an authority of your own, name its file in {tls.CA_FILE}"
            ) from error
        except (OSError, EOFError) as error:
            self._drop()
            raise Unavailable(f"the mailbox cannot be reached at {self.host}:{self.port}") from error
        except BaseException:
            self._drop()
            raise
        if not self._visiting:
            self._leave()

    def _drop(self) -> None:
        box, self._box = self._box, None
        if box is not None:
            box.close()

    def _signed_in(self) -> poplib.POP3:
        box: poplib.POP3
        if self.sealed:
            box = poplib.POP3_SSL(self.host, self.port, timeout=self.deadline, context=tls.context())
        else:
            box = poplib.POP3(self.host, self.port, timeout=self.deadline)
        try:
            if not self.sealed:
                self._seal(box)
            box.user(self.name)
            box.pass_(self.word)
        except poplib.error_proto as error:
            box.close()
            if any(code in str(error) for code in BUSY):
                raise
            raise Denied("the mailbox does not know that name or password") from error
        except BaseException:
            box.close()
            raise
        return box

    def _seal(self, box: poplib.POP3) -> None:
        try:
            can = "STLS" in box.capa()
        except poplib.error_proto:
            can = False
        if can:
            box.stls(tls.context())
        elif not tls.on_this_machine(self.host):
            raise Refused("the mailbox offers no sealed connection, so the password is not sent there; use pops://")


def _numbers(box: poplib.POP3) -> dict[str, int]:
    """uid -> its number in this visit."""
    rows = (line.decode("ascii", "replace").split() for line in box.uidl()[1])
    try:
        return {row[1]: int(row[0]) for row in rows}
    except (IndexError, ValueError) as error:
        raise Malformed("the mailbox's list of mails cannot be read") from error
