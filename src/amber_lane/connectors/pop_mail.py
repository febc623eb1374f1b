"""A mailbox read by POP3 (RFC 1939). address: pop://host:port (sealed by STLS where the server can), pops:// where it is sealed from the
start; key: name:password.

Nothing is deleted there: whoever reads it remembers which mails it has had.
"""

from __future__ import annotations

import poplib
import socket
from typing import Any

from . import outside, tls
from .errors import Denied, Malformed
from .inbox_protocol import IncomingMail
from .letters import BYTES_MOST, read
from .reading import MailReader, Visit

# What a mailbox says when it cannot let anybody in just now (RFC 2449, 3206).
BUSY = ("[IN-USE]", "[LOGIN-DELAY]", "[SYS/TEMP]")
# Programs write lines of any length, whatever the standard says; the library would give up at 2,048 letters.
poplib._MAXLINE = BYTES_MOST  # type: ignore[attr-defined]


class _Plain(poplib.POP3):
    def _create_socket(self, timeout: float) -> socket.socket:
        return outside.connect(self.host, self.port, timeout)


class _Sealed(poplib.POP3_SSL):
    def _create_socket(self, timeout: float) -> socket.socket:
        return tls.context().wrap_socket(outside.connect(self.host, self.port, timeout), server_hostname=self.host)


class PopVisit(Visit[poplib.POP3]):
    failure = poplib.error_proto

    def uids(self) -> list[str]:
        with self._open() as box:
            return list(_numbers(box))

    def letter(self, uid: str) -> IncomingMail:
        with self._open() as box:
            number = _numbers(box).get(uid)
            if number is None:
                return IncomingMail(uid, None, "", "", "", fault="it is gone from the mailbox")
            # Asked for one mail, it answers with one line; its types say otherwise.
            listed: Any = box.list(number)
            if int(listed.split()[2]) > BYTES_MOST:
                seen = read(uid, b"\r\n".join(box.top(number, 0)[1]))
                return IncomingMail(uid, seen.at, seen.sender, seen.subject, "", fault=f"it is larger than {BYTES_MOST // 1_000_000} MB")
            try:
                lines = box.retr(number)[1]
            except poplib.error_proto as error:
                if "EOF" in str(error):
                    raise Malformed("a mail came torn from the mailbox") from error
                raise
            return read(uid, b"\r\n".join(lines))

    def _bye(self, box: poplib.POP3) -> None:
        box.quit()

    def _close(self, box: poplib.POP3) -> None:
        box.close()

    def _signed_in(self) -> poplib.POP3:
        box: poplib.POP3
        at = self.at
        if at.sealed:
            box = _Sealed(at.host, at.port, timeout=at.deadline, context=tls.context())
        else:
            box = _Plain(at.host, at.port, timeout=at.deadline)
        try:
            if not at.sealed:
                self._seal(box)
            box.user(at.name)
            box.pass_(at.word)
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
        else:
            self._must_be_sealed()


class PopMail(MailReader):
    scheme, usual_ports, visits = "pop", (110, 995), PopVisit


def _numbers(box: poplib.POP3) -> dict[str, int]:
    """uid -> its number in this visit."""
    rows = (line.decode("ascii", "replace").split() for line in box.uidl()[1])
    try:
        return {row[1]: int(row[0]) for row in rows}
    except (IndexError, ValueError) as error:
        raise Malformed("the mailbox's list of mails cannot be read") from error
