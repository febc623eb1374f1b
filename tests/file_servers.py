"""Debian's own servers of files, each in a folder of its own: openssh, vsftpd with TLS, lighttpd with WebDAV and as plain pages."""

from __future__ import annotations

import base64
import os
import shutil
import socket
import subprocess
import tempfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field
from pathlib import Path

from . import certificates
from .business import WorldProcess

# Each process of the tests has one of its own.
USER, WORD = f"amberlane{os.getpid()}", "Right-word-7"
READY_WITHIN = 15


@dataclass
class Served:
    """root: the folder that is served, as it is on this machine; address, key: how it is joined."""

    kind: str
    address: str
    key: str
    root: Path
    port: int
    others: dict[str, str] = field(default_factory=dict)

    def put(self, path: str, text: str | bytes) -> Path:
        where = self.root / path
        where.parent.mkdir(parents=True, exist_ok=True)
        where.write_bytes(text if isinstance(text, bytes) else text.encode())
        hand_over(self.root)
        return where

    def names(self, folder: str = "") -> list[str]:
        return sorted(one.name for one in (self.root / folder).glob("*") if one.is_file())

    def content(self, path: str) -> bytes:
        return (self.root / path).read_bytes()

    def remove(self, path: str) -> None:
        (self.root / path).unlink()

    def clear(self) -> None:
        shutil.rmtree(self.root)
        self.root.mkdir()
        hand_over(self.root)


class Wharf(Served):
    """The practice world's own server, which speaks two protocols for the same files; looked at past its faults."""

    def __init__(self, kind: str, world: WorldProcess) -> None:
        path, key = {"webdav": ("/wharf", "duskdial:practice-wharf"), "bucket": ("/wharf-bucket", "duskdial:practice-bucket")}[kind]
        super().__init__(kind, f"{world.address}{path}", key, Path(), world.port)
        self.world = world

    def _all(self) -> dict[str, str]:
        found: dict[str, str] = self.world.client.get("/world/wharf").json()
        return found

    def put(self, path: str, text: str | bytes) -> Path:
        data = text if isinstance(text, bytes) else text.encode()
        self.world.post("wharf", name=path, data=base64.b64encode(data).decode())
        return Path(path)

    def names(self, folder: str = "") -> list[str]:
        under = f"{folder}/" if folder else ""
        names = (path.removeprefix(under) for path in self._all() if path.startswith(under))
        return sorted(name for name in names if "/" not in name)

    def content(self, path: str) -> bytes:
        return base64.b64decode(self._all()[path])

    def remove(self, path: str) -> None:
        self.world.post("wharf", name=path)

    def clear(self) -> None:
        for path in self._all():
            self.remove(path)


def free_port() -> int:
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        found: int = free.getsockname()[1]
        return found


def hand_over(root: Path) -> None:
    """Whatever is there is the test user's, who is let in."""
    for one in (root, *root.rglob("*")):
        shutil.chown(one, USER, USER)


@contextmanager
def user() -> Iterator[None]:
    """A user of this machine, as these servers let in no others."""
    subprocess.run(["useradd", "--no-create-home", "--home-dir", "/tmp", "--shell", "/bin/sh", USER], check=False, capture_output=True)
    subprocess.run(["chpasswd"], input=f"{USER}:{WORD}\n".encode(), check=True)
    try:
        yield
    finally:
        subprocess.run(["userdel", "--force", USER], check=False, capture_output=True)


@contextmanager
def _running(command: list[str], port: int, home: Path) -> Iterator[None]:
    with (home / "log").open("wb") as log:
        process = subprocess.Popen(command, stdout=log, stderr=log, stdin=subprocess.DEVNULL)
    try:
        _reach(port, lambda: (process.poll(), (home / "log").read_text()))
        yield
    finally:
        process.terminate()
        process.wait(10)


def _reach(port: int, state: Callable[[], object]) -> None:
    """Until it listens: the kernel says so, by letting a connection in."""
    probe = socket.socket()
    for _ in range(READY_WITHIN * 20):
        with suppress(OSError):
            probe = socket.create_connection(("127.0.0.1", port), READY_WITHIN)
            probe.close()
            return
        # A wait without a sleep: nothing is ever sent to this one.
        quiet, other = socket.socketpair()
        with quiet, other, suppress(TimeoutError):
            quiet.settimeout(0.05)
            quiet.recv(1)
    raise AssertionError(state())


@contextmanager
def _home() -> Iterator[tuple[Path, Path]]:
    home = Path(tempfile.mkdtemp(prefix="files-served-"))
    home.chmod(0o755)
    root = home / "root"
    root.mkdir()
    hand_over(root)
    try:
        yield home, root
    finally:
        shutil.rmtree(home, ignore_errors=True)


@contextmanager
def sftp() -> Iterator[Served]:
    with _home() as (home, root):
        port = free_port()
        for name in ("host", "other", "mine"):
            subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(home / name)], check=True)
        (home / "allowed").write_text((home / "mine.pub").read_text())
        (home / "conf").write_text(
            f"Port {port}\nListenAddress 127.0.0.1\nHostKey {home}/host\nPidFile none\nUsePAM no\nPasswordAuthentication yes\n"
            f"AuthorizedKeysFile {home}/allowed\nStrictModes no\nSubsystem sftp internal-sftp\nForceCommand internal-sftp\nMaxStartups 100\n"
        )
        Path("/run/sshd").mkdir(exist_ok=True)
        with _running(["/usr/sbin/sshd", "-D", "-e", "-f", str(home / "conf")], port, home):
            own = {"private": f"{USER}:{(home / 'mine').read_text()}", "stranger": f"{USER}:{(home / 'other').read_text()}"}
            yield Served("sftp", f"sftp://127.0.0.1:{port}{root}", f"{USER}:{WORD}", root, port, own)


@contextmanager
def ftps() -> Iterator[Served]:
    with _home() as (home, root):
        cert, key = certificates.make(home)
        port, low = free_port(), 41000 + os.getpid() % 2000 * 10
        (home / "empty").mkdir()
        (home / "conf").write_text(
            f"listen=YES\nlisten_address=127.0.0.1\nlisten_port={port}\nbackground=NO\nlocal_enable=YES\nwrite_enable=YES\n"
            f"anonymous_enable=NO\nlocal_root={root}\nssl_enable=YES\nrsa_cert_file={cert}\nrsa_private_key_file={key}\n"
            "force_local_data_ssl=YES\nforce_local_logins_ssl=YES\nssl_ciphers=HIGH\nrequire_ssl_reuse=YES\npam_service_name=other\n"
            f"secure_chroot_dir={home}/empty\npasv_min_port={low}\npasv_max_port={low + 9}\nseccomp_sandbox=NO\nlocal_umask=022\n"
            "chroot_local_user=YES\nallow_writeable_chroot=YES\nisolate_network=NO\n"
        )
        with _running(["/usr/sbin/vsftpd", str(home / "conf")], port, home):
            yield Served("ftps", f"ftps://127.0.0.1:{port}", f"{USER}:{WORD}", root, port, {"ca": str(cert)})


@contextmanager
def webdav() -> Iterator[Served]:
    with _home() as (home, root):
        port = free_port()
        (home / "users").write_text(f"{USER}:{WORD}\n")
        (home / "conf").write_text(
            f'server.modules = ("mod_auth", "mod_authn_file", "mod_webdav")\nserver.bind = "127.0.0.1"\nserver.port = {port}\nserver.stat-cache-engine = "disable"\n'
            f'server.document-root = "{root}"\nserver.username = "{USER}"\nserver.groupname = "{USER}"\n'
            f'server.upload-dirs = ("{home}/uploads")\n'
            'webdav.activate = "enable"\nwebdav.is-readonly = "disable"\n'
            f'auth.backend = "plain"\nauth.backend.plain.userfile = "{home}/users"\n'
            'auth.require = ("/" => ("method" => "basic", "realm" => "files", "require" => "valid-user"))\n'
        )
        (home / "uploads").mkdir()
        shutil.chown(home / "uploads", USER, USER)
        with _running(["/usr/sbin/lighttpd", "-D", "-f", str(home / "conf")], port, home):
            yield Served("webdav", f"http://127.0.0.1:{port}", f"{USER}:{WORD}", root, port)


@contextmanager
def pages() -> Iterator[Served]:
    with _home() as (home, root):
        port = free_port()
        (home / "conf").write_text(
            f'server.modules = ("mod_dirlisting")\nserver.bind = "127.0.0.1"\nserver.port = {port}\nserver.stat-cache-engine = "disable"\nserver.document-root = "{root}"\n'
            f'server.username = "{USER}"\nserver.groupname = "{USER}"\ndir-listing.activate = "enable"\n'
            'mimetype.assign = ("" => "application/octet-stream")\n'
        )
        with _running(["/usr/sbin/lighttpd", "-D", "-f", str(home / "conf")], port, home):
            yield Served("pages", f"http://127.0.0.1:{port}", "", root, port)


SERVERS = {"sftp": sftp, "ftps": ftps, "webdav": webdav, "pages": pages}
