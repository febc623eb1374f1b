"""Mail with servers as they are: sealed, with a name and a password, refusing and breaking off at every stage; mails of every make read."""

from __future__ import annotations

import dataclasses
import email
import io
import socket
import ssl
import threading
import time
import zipfile
from collections.abc import Iterator
from email import policy
from email.message import EmailMessage
from pathlib import Path
from typing import Any

import pytest
from aiosmtpd.controller import Controller
from aiosmtpd.smtp import AuthResult

from amber_lane.connectors import tls
from amber_lane.connectors.errors import CannotAsk, Denied, Refused, Unavailable, UnknownOutcome
from amber_lane.connectors.kinds import connect
from amber_lane.connectors.letters import BYTES_MOST, of_html, read
from amber_lane.connectors.protocols import Mail

from ..certificates import make

LETTER = Mail(
    "mail-7",
    "Größe & Söhne, Läden <orders@our-shop.example>",
    "Wren, of Whitby <wren@post.example>",
    "Grüße",
    "Hello\nhttps://a.example/1\n",
)


@pytest.fixture(scope="module")
def sealed(tmp_path_factory: pytest.TempPathFactory) -> tuple[ssl.SSLContext, Path]:
    """A server's certificate for this machine, and the file of the authority that signed it: itself."""
    folder = tmp_path_factory.mktemp("ca")
    cert, secret = make(folder)
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(cert, secret)
    return context, cert


class MailHouse:
    """A mail server in a test: what it says at each stage, and the mails that it took."""

    def __init__(self) -> None:
        self.says: dict[str, str] = {}
        self.took: list[Any] = []

    async def handle_MAIL(self, server: Any, session: Any, envelope: Any, address: str, options: list[str]) -> str:
        envelope.mail_from = address
        return self.says.get("mail", "250 OK")

    async def handle_RCPT(self, server: Any, session: Any, envelope: Any, address: str, options: list[str]) -> str:
        envelope.rcpt_tos.append(address)
        return self.says.get("rcpt", "250 OK")

    async def handle_DATA(self, server: Any, session: Any, envelope: Any) -> str:
        if self.says.get("data", "").startswith("break"):
            server.transport.abort()
            return "250 OK"
        if "data" not in self.says:
            self.took.append(envelope)
        return self.says.get("data", "250 OK")


@pytest.fixture
def house(sealed: tuple[ssl.SSLContext, Path], monkeypatch: pytest.MonkeyPatch) -> Iterator[tuple[MailHouse, str]]:
    """A server that asks for STARTTLS and a name. Yields it with its address."""
    monkeypatch.setenv(tls.CA_FILE, str(sealed[1]))
    here = MailHouse()
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]

    def known(server: Any, session: Any, envelope: Any, mechanism: str, data: Any) -> AuthResult:
        return AuthResult(success=(data.login, data.password) == (b"orders", b"right:word"), handled=False)

    controller = Controller(
        here,
        hostname="127.0.0.1",
        port=port,
        tls_context=sealed[0],
        require_starttls=True,
        auth_required=True,
        authenticator=known,
        auth_exclude_mechanism={"LOGIN"},
    )
    controller.start()
    yield here, f"smtp://127.0.0.1:{port}"
    controller.stop()


def test_a_mail_goes_sealed_under_a_name_and_says_who_writes(house: tuple[MailHouse, str]) -> None:
    server, address = house
    connect("mailbox", "smtp", address, "orders:right:word", 5).send(LETTER)
    (took,) = server.took
    assert (took.mail_from, took.rcpt_tos) == ("orders@our-shop.example", ["wren@post.example"])
    seen = read("1", took.content)
    raw = took.content.decode()
    assert seen.sender == "orders@our-shop.example" and seen.subject == "Grüße" and seen.text == "Hello\nhttps://a.example/1"
    for line in ("Message-ID: <mail-7@our-shop.example>", "Auto-Submitted: auto-generated", "Reply-To:", "Date: ", "text/html"):
        assert line in raw
    assert (
        '<a href="https://a.example/1">' in email.message_from_bytes(took.content, policy=policy.default).get_body(("html",)).get_content()
    )
    with pytest.raises(Denied, match="name or password"):
        connect("mailbox", "smtp", address, "orders:wrong", 5).account()


def test_a_certificate_that_nobody_vouches_for_is_refused(house: tuple[MailHouse, str], monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.delenv(tls.CA_FILE)
    with pytest.raises(Refused, match=r"certificate of 127\.0\.0\.1.*AMBER_LANE_CA_FILE"):
        connect("mailbox", "smtp", house[1], "orders:right:word", 5).account()


@pytest.mark.parametrize("stage", ["mail", "rcpt", "data"])
def test_what_passes_is_tried_again_and_what_is_final_keeps_its_words(house: tuple[MailHouse, str], stage: str) -> None:
    server, address = house
    mailbox = connect("mailbox", "smtp", address, "orders:right:word", 5)
    server.says = {stage: "451 4.7.1 greylisted, come back"}
    with pytest.raises(Unavailable, match="greylisted, come back"):
        mailbox.send(LETTER)
    server.says = {stage: "550 5.1.1 nobody of that name"}
    with pytest.raises(Refused, match="nobody of that name"):
        mailbox.send(LETTER)
    assert not server.took


def test_what_breaks_off_while_it_is_handed_over_is_never_called_sent(house: tuple[MailHouse, str]) -> None:
    server, address = house
    mailbox = connect("mailbox", "smtp", address, "orders:right:word", 5)
    server.says = {"data": "break"}
    with pytest.raises(UnknownOutcome):
        mailbox.send(LETTER)
    with pytest.raises(CannotAsk):
        mailbox.find_mail("mail-7")


def test_a_password_is_not_sent_where_anybody_could_read_it(monkeypatch: pytest.MonkeyPatch) -> None:
    """A server elsewhere that offers nothing sealed."""
    with socket.socket() as listening:
        listening.bind(("127.0.0.1", 0))
        listening.listen()
        said: list[bytes] = []

        def serve() -> None:
            one, _ = listening.accept()
            one.sendall(b"220 hello\r\n")
            said.append(one.recv(200))
            one.sendall(b"250-hello\r\n250 AUTH PLAIN\r\n")
            said.append(one.recv(200))
            one.close()

        thread = threading.Thread(target=serve, daemon=True)
        thread.start()
        monkeypatch.setattr(tls, "on_this_machine", lambda host: False)
        with pytest.raises(Refused, match="no sealed connection"):
            connect("mailbox", "smtp", f"smtp://127.0.0.1:{listening.getsockname()[1]}", "orders:word", 5).account()
        thread.join(5)
    assert b"AUTH" not in b"".join(said)


def mail(**parts: Any) -> EmailMessage:
    out = EmailMessage()
    out["From"], out["Subject"] = "Ines <ines@buying.example>", "Answers"
    for name, value in parts.items():
        out[name] = value
    return out


def packed(name: str, data: bytes) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as into:
        into.writestr(name, data)
    return out.getvalue()


def with_zips(*zips: bytes) -> bytes:
    out = mail()
    out.set_content("see inside")
    for n, one in enumerate(zips):
        out.add_attachment(one, maintype="application", subtype="zip", filename=f"{n}.zip")
    return out.as_bytes()


SHEET = b"purchase_order,answer\nA-1,accepted\n"


def test_mails_of_every_make_are_read() -> None:
    html = mail()
    html.set_content("<p>Dear all,<br>it is <b>sent</b></p>", subtype="html")
    assert read("1", html.as_bytes()).text == "Dear all,\nit is sent"
    assert read("2", with_zips(packed("deep/answers.csv", SHEET))).files == (("answers.csv", SHEET),)
    forwarded = mail()
    forwarded.set_content("fyi")
    inner = mail()
    inner.set_content("inner words")
    inner.add_attachment(SHEET, maintype="text", subtype="csv")
    forwarded.add_attachment(inner)
    ((name, data),) = read("3", forwarded.as_bytes()).files
    assert name.endswith(".csv") and data.replace(b"\r", b"") == SHEET
    wide = mail()
    wide.set_content("x" * 200_000, cte="8bit")
    assert read("4", wide.as_bytes()).text.startswith("xxx")
    for kind, words in (("ms-tnef", "winmail.dat"), ("pkcs7-mime", "S/MIME")):
        closed = mail()
        closed.set_content(b"\x00\x01", maintype="application", subtype=kind)
        seen = read("5", closed.as_bytes())
        assert words in seen.fault and (seen.sender, seen.subject) == ("ines@buying.example", "Answers")


def test_a_zip_in_a_mail_neither_grows_without_end_nor_breaks_its_mail() -> None:
    large = packed("much.csv", b"0" * (BYTES_MOST * 2 // 3))
    seen = read("1", with_zips(large, large, packed("answers.csv", SHEET)))
    assert [name for name, _ in seen.files] == ["much.csv", "1.zip", "answers.csv"], "what has no room stays as it came"
    whole = packed("answers.csv", SHEET * 20)
    for at in range(len(whole)):
        torn = whole[:at] + bytes([whole[at] ^ 0xFF]) + whole[at + 1 :]
        (file,) = read("2", with_zips(torn)).files
        assert file[1] in (SHEET * 20, torn)


def test_a_password_or_file_that_cannot_be_used_says_what_to_mend(house: tuple[MailHouse, str], monkeypatch: pytest.MonkeyPatch) -> None:
    for word in ("größe", "слово"):
        with pytest.raises(Denied, match="plain letters"):
            connect("mailbox", "smtp", house[1], f"orders:{word}", 5).account()
    odd = dataclasses.replace(LETTER, sender="größe@our-shop.example")
    connect("mailbox", "smtp", house[1], "orders:right:word", 5).send(odd)
    assert house[0].took[0].mail_from == odd.sender, "a sender's letters too are said to the server beforehand"
    monkeypatch.setenv(tls.CA_FILE, "/nowhere/authority.pem")
    with pytest.raises(Unavailable, match=r"/nowhere/authority\.pem.* cannot be read"):
        connect("mailbox", "smtp", house[1], "orders:right:word", 5).account()


def test_a_mail_of_ours_that_came_back_says_which_and_why() -> None:
    report = (
        b'From: MAILER-DAEMON@there.example\r\nSubject: returned\r\nContent-Type: multipart/report; report-type=delivery-status; boundary="B"\r\n'
        b"\r\n--B\r\nContent-Type: text/plain\r\n\r\nsorry\r\n--B\r\nContent-Type: message/delivery-status\r\n\r\n"
        b"Reporting-MTA: dns; there.example\r\n\r\nFinal-Recipient: rfc822; wren@post.example\r\nAction: failed\r\nStatus: 5.1.1\r\n"
        b"Diagnostic-Code: smtp; 550 no such user\r\n\r\n--B\r\nContent-Type: text/rfc822-headers\r\n\r\n"
        b"Message-ID: <mail-7@our-shop.example>\r\nSubject: Order\r\n\r\n--B--\r\n"
    )
    bounce = read("1", report).bounce
    assert bounce and (bounce.reference, bounce.to, bounce.reason) == ("mail-7", "wren@post.example", "550 no such user")
    assert read("2", report.replace(b"Action: failed", b"Action: delayed")).bounce is None


def test_an_answer_carries_the_key_of_the_mail_that_it_answers(house: tuple[MailHouse, str]) -> None:
    server, address = house
    key = "AL-ABCDEFGHIJKLMNOP"
    connect("mailbox", "smtp", address, "orders:right:word", 5).send(dataclasses.replace(LETTER, key=key))
    ours = email.message_from_bytes(server.took[0].content, policy=policy.default)
    assert ours["Message-ID"] == f"<mail-7.{key}@our-shop.example>"
    for line, found in (
        (f"In-Reply-To: {ours['Message-ID']}", (key,)),
        (f"References: <a@b.example>\r\n {ours['Message-ID']}", (key,)),
        (f"Subject: Re: orders [{key}]", (key,)),
        (f"Subject: Re: orders [{key.lower()}] [{key}X]", ()),
    ):
        assert read("1", f"{line}\r\nFrom: a@b.example\r\n\r\nHello".encode()).keys == found
    assert read("1", f"From: a@b.example\r\n\r\nHello\r\n> Please leave {key} in".encode()).keys == (key,)
    back = (
        b'Content-Type: multipart/report; report-type=delivery-status; boundary="B"\r\n\r\n--B\r\nContent-Type: message/delivery-status\r\n\r\n'
        b"Final-Recipient: rfc822; x@y.example\r\nAction: failed\r\n\r\n--B\r\nContent-Type: text/rfc822-headers\r\n\r\n"
        + f"Message-ID: {ours['Message-ID']}\r\n\r\n--B--\r\n".encode()
    )
    assert read("1", back).bounce.reference == "mail-7"


def test_what_a_receiving_server_says_of_the_sender_is_told_the_topmost_first() -> None:
    said = (
        b"Authentication-Results: mx.ours.example 1; spf=pass smtp.mailfrom=x;\r\n dkim=pass header.d=y;\r\n"
        b" dmarc=pass (p=REJECT) header.from=Supply.example\r\n"
        b"Authentication-Results: mx.ours.example; dmarc=fail header.from=supply.example\r\n"
        b"Authentication-Results: evil.example; dmarc=pass header.from=supply.example; x=dmarc=pass\r\n"
        b"From: orders@supply.example\r\n\r\nHello"
    )
    forged = (
        b'Authentication-Results: mx.ours.example; spf=fail smtp.mailfrom="x; dmarc=pass header.from=supply.example;"@evil.example\r\n\r\n',
        b"Authentication-Results: mx.ours.example; spf=fail (x; dmarc=pass header.from=supply.example; y) smtp.mailfrom=evil\r\n\r\n",
        b'Authentication-Results: mx.ours.example; spf=fail smtp.mailfrom=x"; dmarc=pass header.from=supply.example\r\n\r\n',
    )
    assert [read("1", one).vouched for one in forged] == [(), (), ()]
    assert read("1", said).vouched == (("mx.ours.example", "supply.example"), ("evil.example", "supply.example"))


@pytest.mark.parametrize("text", ["<script" * 150_000, "<style>" * 150_000, "<" * 1_000_000, "<p " * 300_000, "<!--" * 250_000])
def test_no_page_takes_long_to_read(text: str) -> None:
    begun = time.process_time()
    of_html(text)
    assert time.process_time() - begun < 2
