"""What the servers of files that speak HTTP have in common."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import ClassVar
from urllib.parse import quote, urlsplit

import httpx

from .. import tls
from ..errors import Refused
from ..http import Caller
from ..protocols import Account
from .protocol import FileLink, FileVisit, went_on


class HttpVisit(FileVisit):
    def __init__(self, call: Caller) -> None:
        self.call = call
        # The path of the address itself, by which servers name what lies there.
        self.base = urlsplit(str(call.client.base_url)).path.rstrip("/")

    def read(self, path: str, into: Path) -> None:
        self.call.download(at(path), into, went_on)


class HttpFiles(FileLink):
    """address: https://host/folder."""

    visits: ClassVar[type[HttpVisit]]
    may: ClassVar[tuple[str, ...]] = ("read files", "put files")

    def __init__(self, address: str, key: str, deadline: float, transport: httpx.BaseTransport | None = None) -> None:
        parts = urlsplit(address)
        if parts.scheme not in ("http", "https") or not parts.hostname:
            raise Refused(f"{address!r} is not an address such as https://files.example/folder")
        self.host, self.path = parts.hostname, parts.path.rstrip("/")
        # As it lies there: what is packed for the way has another size, and no part of it can be asked for.
        self.call = Caller(f"{self.host}", address, {"Accept-Encoding": "identity"}, deadline, transport)
        self.sign_in(key)

    def sign_in(self, key: str) -> None:
        """key: name:password, or empty. Where nothing is sealed, a password goes to this very machine alone."""
        self.name, _, word = key.partition(":")
        if key and self.call.client.base_url.scheme != "https" and not tls.on_this_machine(self.host):
            raise Refused("the address is not sealed, so the password is not sent there; use https://")
        if key:
            self.call.client.auth = httpx.BasicAuth(self.name, word)

    def account(self) -> Account:
        with self.visit() as there:
            there.entries("", lambda name: False)
        return Account(f"Files at {self.host}", "", "", list(self.may), number=f"{self.name}@{self.host}{self.path}")

    @contextmanager
    def visit(self) -> Iterator[FileVisit]:
        yield self.visits(self.call)


def at(path: str) -> str:
    """A path of ours as a part of an address."""
    return "/" + quote(path, safe="/-._~")
