"""A mailbox read by IMAP (RFC 3501). address: imap://host:port (sealed by STARTTLS where the server can), imaps:// where it is sealed from
the start; key: name:password. Only its inbox is looked at, and nothing in it is changed, not even what is marked as read.
"""

from __future__ import annotations

import imaplib
import re
import socket

from . import outside, tls
from .errors import Denied, Malformed
from .inbox_protocol import IncomingMail
from .letters import BYTES_MOST, read
from .reading import MailReader, Visit

# Thousands of mails are named in one line.
imaplib._MAXLINE = 10_000_000  # type: ignore[attr-defined]


class _Plain(imaplib.IMAP4):
    def _create_socket(self, timeout: float) -> socket.socket:
        return outside.connect(self.host, self.port, timeout)


class _Sealed(imaplib.IMAP4_SSL):
    def _create_socket(self, timeout: float) -> socket.socket:
        return tls.context().wrap_socket(outside.connect(self.host, self.port, timeout), server_hostname=self.host)


class ImapVisit(Visit[imaplib.IMAP4]):
    failure = imaplib.IMAP4.error
    _mark = ""

    def uids(self) -> list[str]:
        with self._open() as box:
            answer, data = box.uid("SEARCH", "ALL")
            if answer != "OK":
                raise Malformed("the mailbox's list of mails cannot be read")
            # Their numbers hold only as long as the mailbox keeps its mark.
            return [f"{self._mark}-{number.decode('ascii', 'replace')}" for number in (data[0] or b"").split()]

    def letter(self, uid: str) -> IncomingMail:
        mark, _, number = uid.rpartition("-")
        with self._open() as box:
            if mark != self._mark or not number.isdecimal():
                return IncomingMail(uid, None, "", "", "", fault="it is gone from the mailbox")
            answer, data = box.uid("FETCH", number, "(RFC822.SIZE)")
            size = re.search(rb"RFC822\.SIZE (\d+)", _first(data))
            if answer != "OK" or size is None:
                return IncomingMail(uid, None, "", "", "", fault="it is gone from the mailbox")
            large = int(size[1]) > BYTES_MOST
            answer, data = box.uid("FETCH", number, "(BODY.PEEK[HEADER])" if large else "(BODY.PEEK[])")
            raw = next((one[1] for one in data if isinstance(one, tuple)), None)
            if answer != "OK" or raw is None:
                raise Malformed("a mail came torn from the mailbox")
            seen = read(uid, raw)
            if large:
                return IncomingMail(uid, seen.at, seen.sender, seen.subject, "", fault=f"it is larger than {BYTES_MOST // 1_000_000} MB")
            return seen

    def _bye(self, box: imaplib.IMAP4) -> None:
        box.logout()

    def _close(self, box: imaplib.IMAP4) -> None:
        box.shutdown()

    def _signed_in(self) -> imaplib.IMAP4:
        box: imaplib.IMAP4
        at = self.at
        if at.sealed:
            box = _Sealed(at.host, at.port, ssl_context=tls.context(), timeout=at.deadline)
        else:
            box = _Plain(at.host, at.port, timeout=at.deadline)
        try:
            if not at.sealed and "STARTTLS" in box.capabilities:
                box.starttls(tls.context())
            elif not at.sealed:
                self._must_be_sealed()
            try:
                box.login(at.name, at.word)
            except UnicodeEncodeError as error:
                raise Denied(tls.BEYOND_ASCII) from error
            except imaplib.IMAP4.abort:
                raise
            except imaplib.IMAP4.error as error:
                if "UNAVAILABLE" in str(error) or "INUSE" in str(error):
                    raise
                raise Denied("the mailbox does not know that name or password") from error
            answer, _ = box.select("INBOX", readonly=True)
            mark = box.response("UIDVALIDITY")[1]
            if answer != "OK" or not mark or not mark[0]:
                raise Malformed("the mailbox's inbox cannot be opened")
            self._mark = mark[0].decode("ascii", "replace")
        except BaseException:
            box.shutdown()
            raise
        return box


class ImapMail(MailReader):
    scheme, usual_ports, visits = "imap", (143, 993), ImapVisit


def _first(data: list[object]) -> bytes:
    one = data[0] if data else b""
    return one if isinstance(one, bytes) else one[0] if isinstance(one, tuple) else b""
