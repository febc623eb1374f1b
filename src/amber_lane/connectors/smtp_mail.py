"""Mail by SMTP. address: smtp://host:port, and after a `|` the address where sent mail can be asked for."""

from __future__ import annotations

import smtplib
import socket
from email.errors import HeaderParseError
from email.message import EmailMessage
from urllib.parse import urlsplit

import httpx

from .errors import Refused, Unavailable, UnknownOutcome
from .http import Caller
from .protocols import Account, Mail
from .wire import Short, Wire


class _Message(Wire):
    reference: Short = ""


class _Messages(Wire):
    messages: list[_Message]


class SmtpMail:
    def __init__(self, address: str, key: str, deadline: float, transport: httpx.BaseTransport | None = None) -> None:
        server, _, asked = address.partition("|")
        parts = urlsplit(server)
        if parts.scheme != "smtp" or not parts.hostname:
            raise Refused(f"{server!r} is not a mail address such as smtp://127.0.0.1:25")
        self.host, self.port, self.deadline = parts.hostname, parts.port or 25, deadline
        self.call = Caller("the mailbox", asked, {}, deadline, transport) if asked else None

    def account(self) -> Account:
        with self._server():
            return Account("Mailbox", "", "", ["send mail"])

    def send(self, mail: Mail) -> None:
        message = EmailMessage()
        try:
            # A line of its own in a header would be a header of the writer's own.
            for name, text in (("From", mail.sender), ("To", mail.to), ("Subject", mail.subject), ("X-Reference", mail.reference)):
                message[name] = " ".join(text.split())
            message["Message-ID"] = f"<{''.join(mail.reference.split())}@amber-lane.invalid>"
            if message["To"].defects or len(message["To"].addresses) != 1:
                raise ValueError
        except (ValueError, IndexError, HeaderParseError) as error:
            raise Refused(f"{mail.to!r} is not one mail address") from error
        message.set_content(mail.body)
        for name, kind, text in mail.files:
            main, _, rest = kind.partition(";")[0].partition("/")
            message.add_attachment(text.encode(), maintype=main, subtype=rest, filename=name)
        with self._server() as server:
            try:
                server.send_message(message)
            except (smtplib.SMTPRecipientsRefused, smtplib.SMTPSenderRefused) as error:
                raise Refused(f"the mailbox does not take mail to {mail.to}") from error
            except smtplib.SMTPResponseException as error:
                if 400 <= error.smtp_code < 500:
                    raise Unavailable("the mailbox is busy; it will be tried again") from error
                raise Refused(f"the mailbox says no ({error.smtp_code})") from error
            except (OSError, smtplib.SMTPException) as error:
                raise UnknownOutcome("the mailbox broke off in the middle of a mail") from error

    def find_mail(self, reference: str) -> bool:
        if self.call is None:
            # Where sent mail cannot be asked for, a mail too few is better than the same mail twice.
            return True
        said = self.call.ask("/messages", _Messages, reference=reference)
        return any(one.reference == reference for one in said.messages)

    def _server(self) -> smtplib.SMTP:
        try:
            return smtplib.SMTP(self.host, self.port, timeout=self.deadline)
        except (OSError, socket.gaierror, smtplib.SMTPException) as error:
            raise Unavailable(f"the mailbox cannot be reached at {self.host}:{self.port}") from error
