"""Files over FTP, sealed by TLS (RFC 4217): without it nothing is sent. address: ftps://host/folder, sealed from the start where its port
is 990; key: name:password."""

from __future__ import annotations

import ftplib
import io
import re
import socket
import ssl
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from datetime import UTC, datetime
from pathlib import Path
from posixpath import join
from typing import Any
from urllib.parse import unquote, urlsplit

import httpx

from .. import outside, tls
from ..errors import Denied, Refused, Unavailable, UnknownOutcome
from ..protocols import Account
from .protocol import FileLink, FileVisit, RemoteFile, Wanted, kept_in_bounds, safe_name, went_on

SEALED_PORT = 990


class _Sealed(ftplib.FTP_TLS):
    """Goes out as all else does, and seals files with the session of the commands, as most servers ask for."""

    def connect(self, host: str = "", port: int = 0, timeout: float = -999, source_address: Any = None) -> str:  # noqa: ANN401 - as it is
        self.host, self.port, self.timeout = host, port, timeout
        self.sock = outside.connect(host, port, timeout)
        self.af = self.sock.family
        if port == SEALED_PORT:
            self.sock = self.context.wrap_socket(self.sock, server_hostname=host)
        self.file = self.sock.makefile("r", encoding=self.encoding)
        self.welcome = self.getresp()
        return self.welcome

    def ntransfercmd(self, cmd: str, rest: int | str | None = None) -> tuple[socket.socket, int | None]:
        made, size = ftplib.FTP.ntransfercmd(self, cmd, rest)  # noqa: S321 - sealed below, as the sealed one does
        session = self.sock.session if isinstance(self.sock, ssl.SSLSocket) else None
        return self.context.wrap_socket(made, server_hostname=self.host, session=session), size


class FtpsVisit(FileVisit):
    def __init__(self, at: _Sealed, base: str) -> None:
        self.at, self.base = at, base

    def _path(self, path: str) -> str:
        return join(self.base, path)

    def entries(self, folder: str, wanted: Wanted, exact: str = "") -> list[RemoteFile]:
        found = []
        for name in self._names(folder):
            if not wanted(name) or not safe_name(name):
                continue
            path = join(folder, name)
            # What has no size is a folder.
            with suppress(ftplib.error_perm):
                found.append(RemoteFile(path, self.at.size(self._path(path)) or 0, self._changed(path)))
                kept_in_bounds(found)
        return found

    def _names(self, folder: str) -> list[str]:
        try:
            names = self.at.nlst(self._path(folder) or ".")
        except ftplib.error_perm as error:
            # An empty folder is no fault, nor is one that is not there.
            if str(error).startswith("550"):
                return []
            raise
        return [name.rpartition("/")[2] for name in names]

    def _changed(self, path: str) -> datetime | None:
        with suppress(ftplib.error_perm):
            said = re.fullmatch(r"213 (\d{14})(?:\.\d+)?", self.at.voidcmd(f"MDTM {self._path(path)}").strip())
            if said:
                return datetime.strptime(said[1], "%Y%m%d%H%M%S").replace(tzinfo=UTC)
        return None

    def read(self, path: str, into: Path) -> None:
        done = into.stat().st_size if into.exists() else 0
        self.at.retrbinary(f"RETR {self._path(path)}", lambda part: went_on(into, part) and None, rest=done or None)

    def upload(self, path: str, data: bytes) -> None:
        self.at.storbinary(f"STOR {self._path(path)}", io.BytesIO(data))
        if self.at.size(self._path(path)) != len(data):
            raise Unavailable(f"{path} did not arrive as a whole")

    def rename(self, path: str, to: str) -> None:
        if self.is_there(to):
            raise Refused(f"{to} is there already")
        try:
            self.at.rename(self._path(path), self._path(to))
        except ftplib.error_perm:
            raise
        except (OSError, EOFError, ftplib.Error) as error:
            raise UnknownOutcome(f"the connection ended while {to} was named") from error

    def make_folder(self, folder: str) -> None:
        so_far = ""
        for part in folder.split("/"):
            so_far = join(so_far, part)
            # That it is there already is told by the same number as any other fault, which what follows would show.
            with suppress(ftplib.error_perm):
                self.at.mkd(self._path(so_far))


class Ftps(FileLink):
    def __init__(self, address: str, key: str, deadline: float, transport: httpx.BaseTransport | None = None) -> None:
        parts = urlsplit(address)
        if parts.scheme != "ftps" or not parts.hostname:
            raise Refused(f"{address!r} is not an address such as ftps://files.example/folder")
        self.host, self.port, self.deadline = parts.hostname, parts.port or 21, deadline
        self.base = unquote(parts.path)
        self.name, _, self.word = key.partition(":")

    def account(self) -> Account:
        with self._signed_in() as there:
            there.cwd(self.base or ".")
            number = f"{self.name}@{self.host}:{self.port}{self.base}"
            return Account(f"Files at {self.host}", "", "", ["read files", "put files"], number=number)

    @contextmanager
    def visit(self) -> Iterator[FileVisit]:
        with self._signed_in() as there:
            yield FtpsVisit(there, self.base)

    @contextmanager
    def _signed_in(self) -> Iterator[_Sealed]:
        where = f"{self.host}:{self.port}"
        with outside.cut_after(self.deadline * outside.STEP_DEADLINES * 4):
            there = _Sealed(context=tls.context(), timeout=self.deadline)
            try:
                there.connect(self.host, self.port, self.deadline)
                self._sign_in(there)
                yield there
            except ssl.SSLCertVerificationError as error:
                raise tls.unverified(self.host, error) from error
            except ftplib.error_perm as error:
                raise Refused(f"{where} says: {str(error)[:200]}") from error
            except (OSError, EOFError, ftplib.Error) as error:
                raise Unavailable(f"{where} cannot be reached over sealed FTP") from error
            finally:
                with suppress(Exception):
                    there.close()

    def _sign_in(self, there: _Sealed) -> None:
        try:
            if self.port != SEALED_PORT:
                there.auth()
        except ftplib.error_perm as error:
            raise Refused("the server offers no sealed connection, so the password is not sent there") from error
        try:
            there.login(self.name, self.word)
        except ftplib.error_perm as error:
            raise Denied(f"{self.host} does not know that name or password") from error
        there.prot_p()
        there.voidcmd("TYPE I")
