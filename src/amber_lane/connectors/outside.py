"""The way out to partners: which addresses may be called at all, and until when a call goes on.

A partner's address is typed in by a person and may name any machine, also one that only this house can reach. So it is resolved here at
every connection, what is inside is refused, and the connection goes to the very address that was looked at.
"""

from __future__ import annotations

import os
import socket
import ssl
import threading
import time
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager, suppress
from contextvars import ContextVar
from ipaddress import IPv4Address, IPv4Network, IPv6Address, IPv6Network, ip_address, ip_network
from typing import Any

import httpcore
import httpx

from .errors import Refused, Unavailable

# What names ranges inside that may be called all the same.
INSIDE = "AMBER_LANE_INSIDE"
_NAT64 = ip_network("64:ff9b::/96")
_allowed: set[IPv4Network | IPv6Network] = set()
# So many deadlines a step of mail may take altogether: to sign in, to name all mails, to hand over one of 25 MB.
STEP_DEADLINES = 12
# What is talked over now by a library that knows no end of a whole call.
_cut: ContextVar[Cut | None] = ContextVar("cut", default=None)
_until: ContextVar[float | None] = ContextVar("until", default=None)


def allow(ranges: Iterable[str]) -> None:
    """Ranges that may be called though they are inside. ValueError where one is none."""
    _allowed.update(ip_network(one.strip()) for one in ranges if one.strip())


@contextmanager
def within(seconds: float) -> Iterator[None]:
    """Whatever is called in here is over after so many seconds, however slowly its bytes come."""
    token = _until.set(time.monotonic() + seconds)
    try:
        yield
    finally:
        _until.reset(token)


def _left(most: float | None) -> float | None:
    until = _until.get()
    if until is None:
        return most
    left = until - time.monotonic()
    return left if most is None else min(most, left)


class Cut:
    """Connections that are broken off together. Each is held by a copy, since sealing takes the first one over."""

    def __init__(self) -> None:
        self.held: list[socket.socket] = []
        self.over = False

    def add(self, one: socket.socket) -> None:
        self.held.append(socket.socket(fileno=os.dup(one.fileno())))
        if self.over:
            self.end()

    def end(self) -> None:
        self.over = True
        for one in self.held:
            with suppress(OSError):
                one.shutdown(socket.SHUT_RDWR)


@contextmanager
def cut_after(seconds: float) -> Iterator[Cut]:
    """What a library of its own talks over in here is broken off after so many seconds, however slowly its bytes come. Connections that are
    made in here are known; one from before is added."""
    cut = Cut()
    token, timer = _cut.set(cut), threading.Timer(seconds, cut.end)
    timer.daemon = True
    timer.start()
    try:
        yield cut
    finally:
        timer.cancel()
        _cut.reset(token)
        for one in cut.held:
            one.close()


def may_be_called(address: str) -> bool:
    """Whether an address (of IP) is out in the world, or in a range that was allowed."""
    found = ip_address(address.partition("%")[0])
    if any(found.version == one.version and found in one for one in _allowed):
        return True
    if isinstance(found, IPv6Address):
        # The old kind of address, carried in a new one.
        carried: Any = found.ipv4_mapped or found.sixtofour or (found.teredo[1] if found.teredo else None)
        if carried is None and found in _NAT64:
            carried = IPv4Address(int(found) & 0xFFFFFFFF)
        if carried is not None:
            return may_be_called(str(carried))
    return found.is_global and not found.is_multicast


def addresses(host: str, port: int, seconds: float | None = None) -> list[str]:
    """Where a host stands, without what is inside. Refused where nothing else is left, Unavailable where nobody knows it in time."""
    all_of = _looked_up(host, port, seconds)
    if not all_of:
        raise Unavailable(f"nobody knows where {host} is; is the address right?")
    if good := [one for one in all_of if may_be_called(one)]:
        return good
    raise Refused(f"{host} is a machine inside, and such are not called; where it is a partner's, name its range in {INSIDE}")


def _looked_up(host: str, port: int, seconds: float | None) -> list[str]:
    """All addresses of a name; none where nobody knows it in time."""
    try:
        return [str(ip_address(host))]
    except ValueError:
        found: list[str] = []

    def look() -> None:
        with suppress(OSError, UnicodeError):
            found.extend(str(one[4][0]) for one in socket.getaddrinfo(host, port, type=socket.SOCK_STREAM))

    # Beside, since the machine's own way has no deadline.
    beside = threading.Thread(target=look, daemon=True)
    beside.start()
    beside.join(_left(seconds))
    return list(dict.fromkeys(found))


def connect(host: str, port: int, seconds: float) -> socket.socket:
    """A connection to a host by its looked-at address; OSError where it cannot be made."""
    failed: OSError | None = None
    for one in addresses(host, port, seconds):
        try:
            made = socket.create_connection((one, port), _left(seconds))
        except OSError as error:
            failed = error
            continue
        if cut := _cut.get():
            cut.add(made)
        return made
    raise failed or OSError(f"{host} cannot be reached")


class _Stream(httpcore.NetworkStream):
    """A connection whose every step ends when the whole call has to."""

    def __init__(self, inner: httpcore.NetworkStream) -> None:
        self.inner = inner

    def _time(self, most: float | None, over: type[Exception]) -> float | None:
        left = _left(most)
        if left is not None and left <= 0:
            raise over("the call took too long altogether")
        return left

    def read(self, max_bytes: int, timeout: float | None = None) -> bytes:
        return self.inner.read(max_bytes, self._time(timeout, httpcore.ReadTimeout))

    def write(self, buffer: bytes, timeout: float | None = None) -> None:
        self.inner.write(buffer, self._time(timeout, httpcore.WriteTimeout))

    def close(self) -> None:
        self.inner.close()

    def start_tls(self, ssl_context: ssl.SSLContext, server_hostname: str | None = None, timeout: float | None = None) -> _Stream:
        return _Stream(self.inner.start_tls(ssl_context, server_hostname, self._time(timeout, httpcore.ConnectTimeout)))

    def get_extra_info(self, info: str) -> object:
        return self.inner.get_extra_info(info)


class _Backend(httpcore.NetworkBackend):
    """Connects only to addresses that may be called."""

    def __init__(self) -> None:
        self.inner = httpcore.SyncBackend()

    def connect_tcp(
        self,
        host: str,
        port: int,
        timeout: float | None = None,
        local_address: str | None = None,
        socket_options: Any = None,  # noqa: ANN401 - as the library has it
    ) -> _Stream:
        failed: Exception | None = None
        for one in addresses(host, port, timeout):
            try:
                return _Stream(self.inner.connect_tcp(one, port, _left(timeout), local_address, socket_options))
            except (httpcore.ConnectError, httpcore.ConnectTimeout) as error:
                failed = error
        raise failed or httpcore.ConnectError(f"{host} cannot be reached")

    def connect_unix_socket(self, path: str, timeout: float | None = None, socket_options: object = None) -> _Stream:
        raise httpcore.ConnectError("partners are called over the network only")

    def sleep(self, seconds: float) -> None:
        self.inner.sleep(seconds)


class Transport(httpx.HTTPTransport):
    """The usual way out, over connections that keep to these rules."""

    def __init__(self, verify: Callable[[], ssl.SSLContext]) -> None:
        trust = verify()
        super().__init__(verify=trust, trust_env=False)
        # The library takes no backend of ours where it makes this itself.
        self._pool = httpcore.ConnectionPool(ssl_context=trust, network_backend=_Backend(), max_connections=20, keepalive_expiry=5.0)
