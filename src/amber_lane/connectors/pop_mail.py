"""A mailbox read by POP3 (RFC 1939). address: pop://host:port, or pops:// where it is sealed; key: name:password.

Nothing is deleted there: whoever reads it remembers which mails it has had.
"""

from __future__ import annotations

import email
import email.policy
import poplib
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from email.errors import MessageError
from email.message import EmailMessage
from email.utils import parseaddr
from typing import Any
from urllib.parse import urlsplit

import httpx

from .errors import Denied, Malformed, Refused, Unavailable
from .protocols import Account, Letter

BYTES_MOST = 12_000_000
FILES_MOST = 50
TEXT_MOST = 4000
# What a mailbox says when it cannot let anybody in just now (RFC 2449, 3206).
BUSY = ("[IN-USE]", "[LOGIN-DELAY]", "[SYS/TEMP]")


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

    def account(self) -> Account:
        with self._open() as box:
            box.stat()
        return Account("Answers", "", "", ["read mail"], number=f"{self.name}@{self.host}")

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
                return Letter(uid, None, "", "", "", fault=f"it is larger than {BYTES_MOST // 1_000_000} MB")
            try:
                lines = box.retr(number)[1]
            except poplib.error_proto as error:
                if "line too long" in str(error):
                    return Letter(uid, None, "", "", "", fault="its lines are longer than mail allows")
                if "EOF" in str(error):
                    raise Malformed("a mail came torn from the mailbox") from error
                raise
            return read(uid, b"\r\n".join(lines))

    @contextmanager
    def _open(self) -> Iterator[poplib.POP3]:
        box: poplib.POP3 | None = None
        try:
            make = poplib.POP3_SSL if self.sealed else poplib.POP3
            box = make(self.host, self.port, timeout=self.deadline)
            try:
                box.user(self.name)
                box.pass_(self.word)
            except poplib.error_proto as error:
                if any(code in str(error) for code in BUSY):
                    raise
                raise Denied("the mailbox does not know that name or password") from error
            yield box
            box.quit()
        except poplib.error_proto as error:
            raise Unavailable("the mailbox is busy; it will be tried again") from error
        except (OSError, EOFError) as error:
            raise Unavailable(f"the mailbox cannot be reached at {self.host}:{self.port}") from error
        finally:
            if box is not None:
                box.close()


def _numbers(box: poplib.POP3) -> dict[str, int]:
    """uid -> its number in this visit."""
    rows = (line.decode("ascii", "replace").split() for line in box.uidl()[1])
    try:
        return {row[1]: int(row[0]) for row in rows}
    except (IndexError, ValueError) as error:
        raise Malformed("the mailbox's list of mails cannot be read") from error


def _plain(text: str) -> str:
    """Text that can be kept: bytes that were no letters in any alphabet are shown as such."""
    return text.encode("utf-8", "replace").decode().replace("\x00", "")


def read(uid: str, raw: bytes) -> Letter:
    """A mail as it was written; what is odd about it is left out rather than believed."""
    message: EmailMessage = email.message_from_bytes(raw, policy=email.policy.default)
    try:
        at = message["Date"].datetime if message["Date"] else None
        at = (at if at.tzinfo else at.replace(tzinfo=UTC)).astimezone(UTC) if isinstance(at, datetime) else None
        body = message.get_body(preferencelist=("plain", "html"))
        text = str(body.get_content()) if body else ""
        files: list[tuple[str, bytes]] = []
        for part in message.iter_attachments():
            data = part.get_payload(decode=True)
            if isinstance(data, bytes) and len(files) < FILES_MOST:
                files.append((_plain(part.get_filename() or "")[:200], data))
        sender = _plain(parseaddr(str(message["From"] or ""))[1]).strip().lower()[:200]
        subject, text = _plain(str(message["Subject"] or ""))[:300], "\n".join(_plain(text).strip().splitlines())
        return Letter(uid, at, sender, subject, text[:TEXT_MOST], tuple(files))
    except (LookupError, ValueError, AttributeError, TypeError, MessageError) as error:
        return Letter(uid, None, "", "", "", fault=f"it is not written as a mail should be: {error}"[:300])
