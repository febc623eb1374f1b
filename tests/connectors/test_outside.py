"""Where calls may go and how long they last: no machine inside, no drip without end, no answer without measure."""

from __future__ import annotations

import gzip
import socket
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager

import pytest

from amber_lane.connectors import http, outside
from amber_lane.connectors.errors import Malformed, OutsideError, Refused, Unavailable, UnknownOutcome
from amber_lane.connectors.http import Caller
from amber_lane.connectors.imap_mail import ImapMail
from amber_lane.connectors.pop_mail import PopMail
from amber_lane.connectors.smtp_mail import SmtpMail


@pytest.mark.parametrize(
    "address",
    [
        "127.0.0.1",
        "10.0.0.5",
        "172.16.9.9",
        "192.168.1.1",
        "169.254.169.254",
        "100.64.0.1",
        "0.0.0.0",
        "255.255.255.255",
        "224.0.0.1",
        "240.0.0.1",
        "::1",
        "::",
        "fe80::1",
        "fc00::1",
        "ff02::1",
        "::ffff:127.0.0.1",
        "::ffff:169.254.169.254",
        "64:ff9b::a9fe:a9fe",
        "2002:7f00:1::",
        "fd00:ec2::254",
        "fe80::1%eth0",
    ],
)
def test_no_machine_inside_may_be_called(address: str, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(outside, "_allowed", set())
    assert not outside.may_be_called(address)


def test_the_world_outside_may_be_and_so_may_what_is_named(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(outside, "_allowed", set())
    assert outside.may_be_called("93.184.216.34") and outside.may_be_called("2606:2800:220:1::1")
    outside.allow(["10.1.2.0/24", " "])
    assert outside.may_be_called("10.1.2.9") and outside.may_be_called("::ffff:10.1.2.9") and not outside.may_be_called("10.1.3.9")
    with pytest.raises(ValueError, match="not appear"):
        outside.allow(["somewhere"])


def call(address: str, deadline: float = 0.1) -> Caller:
    return Caller("Supply House", address, {}, deadline)


@pytest.mark.parametrize("host", ["127.0.0.1", "localhost", "2130706433", "0x7f.1", "0177.0.0.1", "[::1]", "[::ffff:127.0.0.1]"])
def test_in_no_spelling_and_by_no_way(host: str, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(outside, "_allowed", set())
    with socket.create_server(("127.0.0.1", 0)) as server:
        port = server.getsockname()[1]
        plain = host.strip("[]")
        for one in (
            lambda: call(f"http://{host}:{port}").fetch("/"),
            lambda: SmtpMail(f"smtp://{host}:{port}", "a:b", 0.3).account(),
            lambda: PopMail(f"pop://{host}:{port}", "a:b", 0.3).account(),
            lambda: outside.connect(plain, port, 0.3),
        ):
            with pytest.raises(OutsideError) as caught:
                one()
            assert isinstance(caught.value, Refused | Unavailable) and "answered" not in caught.value.message
        server.settimeout(0.05)
        with pytest.raises(TimeoutError):
            server.accept()


def test_a_name_is_called_at_the_very_address_that_was_looked_at(monkeypatch: pytest.MonkeyPatch) -> None:
    """A name that says another address at every asking reaches no machine inside."""
    asked: list[str] = []
    turn = iter(["93.184.216.34", "127.0.0.1"])

    def names(host: str, port: int, **_: object) -> list[tuple[object, ...]]:
        return [(socket.AF_INET, socket.SOCK_STREAM, 6, "", (next(turn), port))]

    def reached(where: tuple[str, int], *_: object, **__: object) -> socket.socket:
        asked.append(where[0])
        raise ConnectionRefusedError

    monkeypatch.setattr(outside, "_allowed", set())
    monkeypatch.setattr(socket, "getaddrinfo", names)
    monkeypatch.setattr(socket, "create_connection", reached)
    with pytest.raises(OSError):
        outside.connect("rebinds.example", 80, 0.3)
    with pytest.raises(Refused, match="inside"):
        outside.connect("rebinds.example", 80, 0.3)
    assert asked == ["93.184.216.34"]


@contextmanager
def answering(does: Callable[[socket.socket], None]) -> Iterator[str]:
    """Somebody who answers every call so, until it is over."""
    with socket.create_server(("127.0.0.1", 0)) as server:

        def serve() -> None:
            while True:
                try:
                    peer, _ = server.accept()
                except OSError:
                    return
                with peer:
                    try:
                        does(peer)
                    except OSError:
                        continue

        thread = threading.Thread(target=serve, daemon=True)
        thread.start()
        yield f"http://127.0.0.1:{server.getsockname()[1]}"
        server.shutdown(socket.SHUT_RDWR)


def drip(head: bytes, asked: bool = True) -> Callable[[socket.socket], None]:
    def one(peer: socket.socket) -> None:
        if asked:
            peer.recv(65536)
        peer.sendall(head)
        while True:
            time.sleep(0.02)
            peer.sendall(b"x")

    return one


@pytest.mark.parametrize(
    "head", [b"HTTP/1.1 200 OK\r\nX-Slow: ", b"HTTP/1.1 200 OK\r\nContent-Length: 1000000\r\n\r\n"], ids=["head", "body"]
)
def test_a_drip_ends_when_the_call_has_to(head: bytes) -> None:
    with answering(drip(head)) as address:
        for asks in (True, False):
            begun = time.monotonic()
            with pytest.raises(Unavailable if asks else UnknownOutcome, match="in time"):
                call(address).fetch("/") if asks else call(address).send("POST", "/")
            # A call that asks for a file may take 12 times its deadline, any other twice.
            assert time.monotonic() - begun < (12 if asks else 2) * 0.1 + 2


@pytest.mark.parametrize("kind", ["pop", "imap", "smtp"])
def test_a_mail_server_that_drips_ends_too(kind: str) -> None:
    """Each byte comes within the deadline, and the line they belong to never ends."""
    with answering(drip({"pop": b"+OK ", "imap": b"* OK ", "smtp": b"220 "}[kind], asked=False)) as address:
        place = f"{kind}://{address.partition('//')[2]}"
        begun = time.monotonic()
        with pytest.raises(Unavailable):
            if kind == "smtp":
                SmtpMail(place, "", 0.1).account()
            else:
                (PopMail if kind == "pop" else ImapMail)(place, "a:b", 0.1).account()
        assert time.monotonic() - begun < outside.STEP_DEADLINES * 0.1 + 2


@pytest.mark.parametrize("packed", [False, True])
def test_an_answer_is_read_only_so_far(packed: bool, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(http, "FILE_MAX", 1_000_000)
    sent = [0]
    body = gzip.compress(bytes(400_000_000)) if packed else b""

    def much(peer: socket.socket) -> None:
        peer.recv(65536)
        if packed:
            peer.sendall(b"HTTP/1.1 200 OK\r\nContent-Encoding: gzip\r\nContent-Length: %d\r\n\r\n" % len(body) + body)
            return
        peer.sendall(b"HTTP/1.1 200 OK\r\n\r\n")
        while True:
            sent[0] += peer.send(bytes(100_000))

    with answering(much) as address:
        with pytest.raises(Malformed, match="more than 1 MB"):
            call(address, 5).fetch("/")
        with pytest.raises(UnknownOutcome, match="more than 50 MB") if not packed else pytest.raises(UnknownOutcome):
            call(address, 5).send("POST", "/")
    assert sent[0] < 120_000_000
