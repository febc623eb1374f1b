"""Servers on which partners leave sheets for us and take ours: what each of them can do, whatever it speaks."""

from __future__ import annotations

import os
from abc import ABC, abstractmethod
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from posixpath import basename, dirname, join, splitext
from typing import ClassVar

from ...core.writing import grouped
from ..errors import Malformed
from ..protocols import Account, Budget

# What a sheet may weigh at most, and how many files may lie in a folder.
BYTES_MOST = 100_000_000
FILES_MOST = 20_000
# How a file is called until it is there as a whole.
TEMPORARY = ".part"
Wanted = Callable[[str], bool]


@dataclass(frozen=True)
class RemoteFile:
    """A file as it lies there. path: from the folder of the address; changed: when, where the server tells; tag: its
    own mark of this content, where it has one."""

    path: str
    size: int
    changed: datetime | None = None
    tag: str = ""

    @property
    def name(self) -> str:
        return basename(self.path)

    @property
    def mark(self) -> str:
        """What is another once the file is another."""
        return f"{self.size}:{self.changed.isoformat() if self.changed else ''}:{self.tag}"[:200]


class FileVisit(ABC):
    """One look at a server, over one connection. Errors are the connectors'.

    renames: a file gets its name in one step of its own, so that one that was named and is gone was taken; by_name: a file whose name is
    known is asked for alone, since many such servers show no list.
    """

    renames: ClassVar[bool] = True
    by_name: ClassVar[bool] = False

    @abstractmethod
    def entries(self, folder: str, wanted: Wanted, exact: str = "") -> list[RemoteFile]:
        """Files (no folders) whose name is wanted; none where there is no such folder. exact: only this name can be wanted."""

    @abstractmethod
    def read(self, path: str, into: Path) -> None:
        """Fetch a file; it goes on where `into` ends."""

    @abstractmethod
    def upload(self, path: str, data: bytes) -> None:
        """Put a file there as a whole, over whatever has that name. May be done again."""

    @abstractmethod
    def rename(self, path: str, to: str) -> None:
        """In one step; Refused where that name is taken. UnknownOutcome where nobody knows whether it was done."""

    @abstractmethod
    def make_folder(self, folder: str) -> None:
        """Make it with all above it; nothing where it is there."""

    def place(self, path: str, data: bytes, begin: Callable[[], None]) -> None:
        """Put a file there, which shows under its name only when it is whole. begin: called before the one step that cannot be taken
        back; until then nothing was done."""
        if dirname(path):
            self.make_folder(dirname(path))
        part = f"{path}{TEMPORARY}"
        self.upload(part, data)
        begin()
        self.rename(part, path)

    def is_there(self, path: str) -> bool:
        return any(one.path == path for one in self.entries(dirname(path), lambda name: name == basename(path), basename(path)))

    def move(self, path: str, folder: str) -> str:
        """Move a file into another folder, under another name where that one is taken. Returns its new path."""
        self.make_folder(folder)
        stem, end = splitext(basename(path))
        taken = {one.name for one in self.entries(folder, lambda name: name.startswith(stem))}
        to, n = f"{stem}{end}", 1
        while to in taken:
            to, n = f"{stem}-{n}{end}", n + 1
        self.rename(path, join(folder, to))
        return join(folder, to)


class FileLink(ABC):
    """A server that is joined. writes: we may put files there and move them."""

    writes: ClassVar[bool] = True

    @abstractmethod
    @contextmanager
    def visit(self) -> Iterator[FileVisit]:
        """A look at it. Denied where the name or key is wrong."""
        yield from ()

    def budget(self) -> Budget | None:
        return None

    @abstractmethod
    def account(self) -> Account:
        """Whether it lets us in."""


def went_on(into: Path, part: bytes) -> int:
    """What came of a file is kept at once, so that the next look goes on there. Returns how much there is."""
    with into.open("ab") as file:
        file.write(part)
    size = os.path.getsize(into)
    if size > BYTES_MOST:
        into.unlink()
        raise Malformed(f"the file has more than {BYTES_MOST // 1_000_000} MB; ask for it in parts")
    return size


def kept_in_bounds(found: list[RemoteFile]) -> list[RemoteFile]:
    if len(found) > FILES_MOST:
        raise Malformed(f"more than {grouped(FILES_MOST)} files lie in the folder; have the old ones moved away")
    return found


def safe_name(name: str) -> bool:
    """Whether a name that a server tells can be one of a file there: no way into another folder, nothing that no name holds."""
    return bool(name) and name not in (".", "..") and not any(sign in name for sign in "/\\\0\r\n") and len(name) <= 255
