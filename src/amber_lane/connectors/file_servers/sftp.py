"""Files over SSH. address: sftp://host:port/folder; key: name:password, or name: and a private key as OpenSSH writes it.

What the server shows of its own key when it is joined is kept before ours (SHA256:…), and it must show the same ever after.
"""

from __future__ import annotations

import base64
import hashlib
import io
import logging
import stat
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from datetime import UTC, datetime
from pathlib import Path
from posixpath import join
from urllib.parse import unquote, urlsplit

import httpx
import paramiko

from .. import outside
from ..errors import Denied, Refused, Unavailable, UnknownOutcome
from ..protocols import Account
from .protocol import FileLink, FileVisit, RemoteFile, Wanted, kept_in_bounds, safe_name, went_on

# What goes wrong is told in our words; the library's own would stand in the log with their traces.
logging.getLogger("paramiko").setLevel(logging.CRITICAL)
_PART = 262_144
_KEYS = (paramiko.Ed25519Key, paramiko.ECDSAKey, paramiko.RSAKey)


class SftpVisit(FileVisit):
    def __init__(self, at: paramiko.SFTPClient, base: str) -> None:
        self.at, self.base = at, base

    def _path(self, path: str) -> str:
        # Without a folder in the address it is where the name is let in.
        return join(self.base, path) if self.base else path or "."

    def entries(self, folder: str, wanted: Wanted, exact: str = "") -> list[RemoteFile]:
        found = []
        try:
            for one in self.at.listdir_iter(self._path(folder)):
                if wanted(one.filename) and safe_name(one.filename) and stat.S_ISREG(one.st_mode or 0):
                    at = datetime.fromtimestamp(one.st_mtime, UTC) if one.st_mtime else None
                    found.append(RemoteFile(join(folder, one.filename), one.st_size or 0, at))
                    kept_in_bounds(found)
        except FileNotFoundError:
            return []
        return found

    def read(self, path: str, into: Path) -> None:
        done = into.stat().st_size if into.exists() else 0
        with self.at.open(self._path(path), "rb") as file:
            file.seek(done)
            while part := file.read(_PART):
                went_on(into, part)

    def upload(self, path: str, data: bytes) -> None:
        self.at.putfo(io.BytesIO(data), self._path(path), len(data), confirm=True)

    def rename(self, path: str, to: str) -> None:
        if self.is_there(to):
            raise Refused(f"{to} is there already")
        try:
            self.at.rename(self._path(path), self._path(to))
        except PermissionError:
            raise
        except (OSError, EOFError, paramiko.SSHException) as error:
            raise UnknownOutcome(f"the connection ended while {to} was named") from error

    def make_folder(self, folder: str) -> None:
        so_far = ""
        for part in folder.split("/"):
            so_far = join(so_far, part)
            try:
                self.at.stat(self._path(so_far))
            except FileNotFoundError:
                self.at.mkdir(self._path(so_far))


class Sftp(FileLink):
    def __init__(self, address: str, key: str, deadline: float, transport: httpx.BaseTransport | None = None) -> None:
        parts = urlsplit(address)
        if parts.scheme != "sftp" or not parts.hostname:
            raise Refused(f"{address!r} is not an address such as sftp://files.example/folder")
        self.host, self.port, self.deadline = parts.hostname, parts.port or 22, deadline
        self.base = unquote(parts.path)
        self.known, _, rest = key.partition(" ") if key.startswith("SHA256:") else ("", "", key)
        self.name, _, self.word = rest.partition(":")
        self.rest = rest

    def account(self) -> Account:
        with self._signed_in() as (there, shown):
            visit = SftpVisit(there, self.base)
            visit.entries("", lambda name: False)
            number = f"{self.name}@{self.host}:{self.port}{self.base}"
            return Account(f"Files at {self.host}", "", "", ["read files", "put files"], number=number, key=f"{shown} {self.rest}")

    @contextmanager
    def visit(self) -> Iterator[FileVisit]:
        with self._signed_in() as (there, _):
            yield SftpVisit(there, self.base)

    @contextmanager
    def _signed_in(self) -> Iterator[tuple[paramiko.SFTPClient, str]]:
        """The connection, and what the server shows of its own key."""
        where = f"{self.host}:{self.port}"
        transport: paramiko.Transport | None = None
        with outside.cut_after(self.deadline * outside.STEP_DEADLINES * 4):
            try:
                transport = paramiko.Transport(outside.connect(self.host, self.port, min(self.deadline, 5.0)))
                transport.banner_timeout = transport.auth_timeout = self.deadline
                transport.start_client(timeout=self.deadline)
                shown = fingerprint(transport.get_remote_server_key())
                if self.known and shown != self.known:
                    raise Denied(
                        f"{where} shows another key of its own than when it was connected ({shown}). "
                        "Ask them whether they changed it; where they did, enter your key anew"
                    )
                self._sign_in(transport)
                there = paramiko.SFTPClient.from_transport(transport)
                if there is None:
                    raise Refused(f"{where} offers no files to this name")
                channel = there.get_channel()
                if channel is not None:
                    channel.settimeout(self.deadline)
                yield there, shown
            except (paramiko.AuthenticationException, PermissionError) as error:
                raise Denied(f"{where} does not let {self.name or 'nobody'} do this; look at the name and the key") from error
            except FileNotFoundError as error:
                raise Refused(f"{where} has no such file or folder") from error
            except (paramiko.SSHException, OSError, EOFError) as error:
                raise Unavailable(f"{where} cannot be reached over SSH") from error
            finally:
                if transport is not None:
                    with suppress(Exception):
                        transport.close()

    def _sign_in(self, transport: paramiko.Transport) -> None:
        if "PRIVATE KEY" in self.word:
            transport.auth_publickey(self.name, private_key(self.word))
        else:
            transport.auth_password(self.name, self.word)


def fingerprint(key: paramiko.PKey) -> str:
    """As people read it: SHA256: and the hash in base64."""
    return "SHA256:" + base64.b64encode(hashlib.sha256(key.asbytes()).digest()).decode().rstrip("=")


def private_key(text: str) -> paramiko.PKey:
    """A private key from its text, also where its line ends were lost on the way through a form. Denied where it is none."""
    begin, _, rest = text.strip().partition("PRIVATE KEY-----")
    body, _, _ = rest.partition("-----END")
    lines = "".join(body.split())
    head = f"{begin}PRIVATE KEY-----"
    whole = "\n".join([head, *(lines[n : n + 70] for n in range(0, len(lines), 70)), head.replace("BEGIN", "END"), ""])
    for kind in _KEYS:
        with suppress(paramiko.SSHException, ValueError, IndexError):
            return kind.from_private_key(io.StringIO(whole))
    raise Denied("this private key cannot be read; give one without a passphrase, of the kinds Ed25519, ECDSA or RSA")
