"""Mail by SMTP (RFC 5321). address: smtp://host:port (sealed by STARTTLS where the server can), smtps://host:port (sealed from the start);
after a `|` the address where sent mail can be asked for. key: name:password, or empty.

A mail is sent once the server has taken it. Where a connection breaks while it is being handed over, nobody knows; that is said.
"""

from __future__ import annotations

import base64
import html
import smtplib
import socket
import ssl
from collections.abc import Iterator
from contextlib import contextmanager
from email.errors import HeaderParseError
from email.headerregistry import Address
from email.message import EmailMessage
from email.policy import SMTP, SMTPUTF8
from email.utils import format_datetime, localtime
from urllib.parse import urlsplit

import httpx

from . import outside, tls
from .errors import CannotAsk, Denied, OutsideError, Refused, Unavailable, UnknownOutcome
from .http import Caller
from .protocols import Account, Budget, Mail
from .wire import Short, Wire


class _Message(Wire):
    reference: Short = ""


class _Messages(Wire):
    messages: list[_Message]


class _Plain(smtplib.SMTP):
    def _get_socket(self, host: str, port: int, timeout: float) -> socket.socket:
        return outside.connect(host, port, timeout)


class _Sealed(smtplib.SMTP_SSL):
    def _get_socket(self, host: str, port: int, timeout: float) -> socket.socket:
        return self.context.wrap_socket(outside.connect(host, port, timeout), server_hostname=host)


class SmtpMail:
    def __init__(self, address: str, key: str, deadline: float, transport: httpx.BaseTransport | None = None) -> None:
        server, _, asked = address.partition("|")
        try:
            parts = urlsplit(server)
            self.sealed = parts.scheme == "smtps"
            self.port = parts.port or (465 if self.sealed else 587 if key else 25)
        except ValueError:
            parts = urlsplit("")
        if parts.scheme not in ("smtp", "smtps") or not parts.hostname:
            raise Refused(f"{server!r} is not a mail address such as smtps://mail.example:465 or smtp://mail.example:587")
        self.host, self.deadline = parts.hostname, deadline
        self.name, _, self.word = key.partition(":")
        self.call = Caller("the mailbox", asked, {}, deadline, transport) if asked else None

    def budget(self) -> Budget | None:
        return None

    def account(self) -> Account:
        with self._visit():
            return Account("Mailbox", "", "", ["send mail"])

    def send(self, mail: Mail) -> None:
        message, sender, to = made(mail)
        with self._visit() as server:
            utf8 = not (to + sender).isascii()
            if utf8 and not server.has_extn("smtputf8"):
                raise Refused(f"the mail server cannot write from {sender} to {mail.to}: an address there has letters beyond ASCII")
            data = message.as_bytes(policy=(SMTPUTF8 if utf8 else SMTP).clone(max_line_length=78))
            # Until the mail itself is handed over, whatever breaks leaves nothing behind there.
            try:
                server.ehlo_or_helo_if_needed()
                options = ["SMTPUTF8", "BODY=8BITMIME"] if utf8 else []
                _said(server.mail(sender, options), f"mail from {sender}")
                _said(server.rcpt(to), f"mail to {mail.to}")
            except (OSError, smtplib.SMTPException) as error:
                raise Unavailable("the mail server broke off before a mail was handed over; it will be tried again") from error
            try:
                _said(server.data(data), "this mail")
            except smtplib.SMTPDataError as error:
                raise _fault(error.smtp_code, error.smtp_error, "this mail") from error
            except (OSError, smtplib.SMTPException) as error:
                raise UnknownOutcome("the mail server broke off while a mail was handed over") from error

    def find_mail(self, reference: str) -> bool:
        if self.call is None:
            raise CannotAsk("the mail server broke off while this was handed over, and cannot be asked whether it arrived")
        said = self.call.ask("/messages", _Messages, reference=reference)
        return any(one.reference == reference for one in said.messages)

    @contextmanager
    def _visit(self) -> Iterator[smtplib.SMTP]:
        """A connection that is left at the end, and broken off where it goes on for too long."""
        with outside.cut_after(self.deadline * outside.STEP_DEADLINES), self._server() as server:
            yield server

    def _server(self) -> smtplib.SMTP:
        """A connection, sealed where that is asked for or can be, and signed in where a name is given."""
        try:
            server: smtplib.SMTP
            if self.sealed:
                server = _Sealed(self.host, self.port, timeout=self.deadline, context=tls.context())
            else:
                server = _Plain(self.host, self.port, timeout=self.deadline)
        except smtplib.SMTPConnectError as error:
            raise _fault(error.smtp_code, error.smtp_error, "us") from error
        except ssl.SSLError as error:
            raise self._unsure(error) from error
        except (OSError, smtplib.SMTPException) as error:
            raise Unavailable(f"the mailbox cannot be reached at {self.host}:{self.port}") from error
        try:
            self._enter(server)
        except Exception as error:
            server.close()
            raise self._meaning(error) from error
        return server

    def _enter(self, server: smtplib.SMTP) -> None:
        """Seal the connection where it can be, and sign in where a name is given."""
        server.ehlo_or_helo_if_needed()
        if not self.sealed and server.has_extn("starttls"):
            server.starttls(context=tls.context())
            server.ehlo()
        elif not self.sealed and self.name and not tls.on_this_machine(self.host):
            raise Refused("the mail server offers no sealed connection, so the password is not sent there; use smtps:// or another port")
        if self.name:
            server.login(self.name, self.word)

    def _meaning(self, error: Exception) -> Exception:
        """What went wrong while entering, in our words; what is none of a server's faults stays what it is."""
        if isinstance(error, smtplib.SMTPAuthenticationError):
            if 400 <= error.smtp_code < 500:
                return Unavailable("the mail server lets nobody in just now; it will be tried again")
            return Denied("the mail server does not know that name or password")
        if isinstance(error, UnicodeEncodeError):
            return Denied(tls.BEYOND_ASCII)
        if isinstance(error, smtplib.SMTPNotSupportedError):
            return Refused("the mail server takes no name and password; leave the key empty")
        if isinstance(error, ssl.SSLError):
            return self._unsure(error)
        if isinstance(error, OSError | smtplib.SMTPException):
            return Unavailable(f"the mailbox cannot be reached at {self.host}:{self.port}")
        return error

    def _unsure(self, error: ssl.SSLError) -> OutsideError:
        if isinstance(error, ssl.SSLCertVerificationError):
            return tls.unverified(self.host, error)
        return Unavailable(f"no sealed connection to {self.host}:{self.port}; is it the right port?")


def _said(answer: tuple[int, bytes], what: str) -> None:
    """A server's answer: 2xx is taken; else an error with its words."""
    code, words = answer
    if not 200 <= code < 300:
        raise _fault(code, words, what)


def _fault(code: int, words: bytes | str, what: str) -> OutsideError:
    """4xx passes, 5xx is final (RFC 5321, 4.2.1)."""
    text = " ".join((words.decode("utf-8", "replace") if isinstance(words, bytes) else str(words)).split())[:300]
    if 400 <= code < 500:
        return Unavailable(f"the mail server does not take {what} just now ({code} {text}); it will be tried again")
    return Refused(f"the mail server does not take {what}: {code} {text}")


def made(mail: Mail) -> tuple[EmailMessage, str, str]:
    """The mail as it goes out, and the bare addresses of sender and receiver. Refused where one of them is none."""
    message = EmailMessage(policy=SMTP)
    sender, to = _address(mail.sender), _address(mail.to)
    domain = sender.domain
    # A line of its own in a header would be a header of the writer's own.
    message["From"], message["To"], message["Reply-To"] = sender, to, sender
    message["Subject"] = " ".join(mail.subject.split())
    message["Date"] = format_datetime(localtime())
    # What answers a mail names it, in every mail program.
    message["Message-ID"] = f"<{'.'.join([*mail.reference.split(), *([mail.key] if mail.key else [])])}@{domain}>"
    message["X-Reference"] = " ".join(mail.reference.split())
    # Machines that answer by themselves leave it alone (RFC 3834).
    message["Auto-Submitted"] = "auto-generated"
    message.set_content(mail.body)
    message.add_alternative(_as_html(mail.body), subtype="html")
    for name, kind, text in mail.files:
        main, _, rest = kind.partition(";")[0].partition("/")
        data = base64.b64decode(text) if kind.endswith(";base64") else text.encode()
        message.add_attachment(data, maintype=main, subtype=rest, filename=name)
    return message, sender.addr_spec, to.addr_spec


def _address(text: str) -> Address:
    """One mail address, with a name of any letters or without; its domain in the letters that mail servers know."""
    name, _, bare = text.rpartition("<") if text.rstrip().endswith(">") else ("", "", text)
    bare = bare.strip().removesuffix(">").strip()
    local, at, domain = bare.rpartition("@")
    try:
        if not at or not local or not domain or set(bare) & set(' ,;<>"()[]\\') or not bare.isprintable():
            raise ValueError
        known = domain.encode("idna").decode("ascii")
        return Address(display_name=" ".join(name.split()), username=local, domain=known)
    except (ValueError, IndexError, HeaderParseError) as error:
        raise Refused(f"{text!r} is not one mail address") from error


def _as_html(text: str) -> str:
    """The same words for readers that show HTML; addresses can be followed."""
    parts = []
    for word in text.split("\n"):
        out = []
        for piece in word.split(" "):
            shown = html.escape(piece)
            out.append(f'<a href="{shown}">{shown}</a>' if piece.startswith(("https://", "http://")) else shown)
        parts.append(" ".join(out))
    return f'<html><body style="font-family: sans-serif">{"<br>".join(parts)}</body></html>'
