"""Servers of files looked at, what is whole fetched, what is done moved; and our sheets put there. A call is never inside a transaction."""

from __future__ import annotations

from collections.abc import Callable
from datetime import timedelta
from pathlib import Path

from sqlalchemy.orm import Session

from ..connectors.errors import NotThere
from ..connectors.file_servers.payload import FilePayload, asked
from ..connectors.file_servers.protocol import FileLink, FileVisit
from ..data.files import FileCame, FileRule, FileServer
from ..data.session import Database
from ..services.base.context import Context
from ..services.files import arrivals, sending
from ..services.partners.registry import ConnectorRegistry

ContextOf = Callable[[Session], Context]
WHO = "Files"


class FileReader:
    """folder: where copies are kept."""

    def __init__(self, db: Database, context_of: ContextOf, connectors: ConnectorRegistry, folder: Path) -> None:
        self.db, self.context_of, self.connectors, self.folder = db, context_of, connectors, folder

    def look(self, server: int) -> int:
        """One look at a server, for every rule whose time has come. Returns how many files were fetched. Errors are the connectors'."""
        with self.db.writing() as s:
            context = self.context_of(s)
            context.get(FileServer, server, "server of files").next_read = context.now + timedelta(seconds=20)
            due, link = arrivals.due(context, server), self.connectors.files(context, server)
            moving = [number for number in arrivals.rules_to_move(context, server) if number not in due]
        if not due and not moving:
            return 0
        done = 0
        with link.visit() as there:
            for number in due:
                done += self._rule(there, number)
            for number in (*due, *moving):
                self._move(there, number)
        return done

    def _rule(self, there: FileVisit, number: int) -> int:
        with self.db.reading() as s:
            context = self.context_of(s)
            rule = context.get(FileRule, number, "rule of files")
            places = arrivals.places(context, rule)
            s.expunge(rule)
        found = arrivals.look(there, rule, places)
        with self.db.writing() as s:
            context = self.context_of(s)
            whole = arrivals.seen(context, context.get(FileRule, number, "rule of files"), found)
            wanted = [(row.id, row.path, row.size, arrivals.part_of(row)) for row in whole]
        for came, path, size, part in wanted:
            self._fetch(there, came, path, size, part)
        return len(wanted)

    def _fetch(self, there: FileVisit, number: int, path: str, size: int, name: str) -> None:
        """Fetch one, going on where an earlier look was cut off. name: of what is here of it so far."""
        self.folder.mkdir(parents=True, exist_ok=True)
        part, kept = self.folder / name, self.folder / f"file-{number}.sheet"
        if part.exists() and part.stat().st_size >= size:
            # Cut off between its last byte and the note of it; or it was never of this size.
            part.unlink()
        try:
            there.read(path, part)
        except NotThere:
            # It was taken away between the list and the reading; what is there now is seen by the next look.
            return
        part.touch()
        if size and part.stat().st_size != size:
            # It came torn, or was written on meanwhile: as it is now it is seen, and fetched from its beginning, by the next look.
            part.unlink()
            with self.db.writing() as s:
                arrivals.torn(self.context_of(s), number)
            return
        part.replace(kept)
        with self.db.writing() as s:
            arrivals.fetched(self.context_of(s), number, kept)

    def _move(self, there: FileVisit, number: int) -> None:
        with self.db.reading() as s:
            context = self.context_of(s)
            rule = context.get(FileRule, number, "rule of files")
            wanted, folder, marker = arrivals.to_move(context, rule), rule.done_folder, rule.marker
        for came, path in wanted:
            if there.is_there(path):
                there.move(path, folder)
            if marker and there.is_there(f"{path}{marker}"):
                there.move(f"{path}{marker}", folder)
            with self.db.writing() as s:
                self.context_of(s).get(FileCame, came, "file").moved = True


class FileDesk:
    """Puts our sheets on servers. That the one step that cannot be taken back begins is written down before it, so that after a kill it is
    known whether a file that is not there was taken."""

    def __init__(self, db: Database, context_of: ContextOf) -> None:
        self.db, self.context_of = db, context_of

    def send(self, link: FileLink, said: FilePayload) -> None:
        with self.db.reading() as s:
            data = sending.content(self.context_of(s), said.sheet)

        def begin() -> None:
            with self.db.writing() as s:
                sending.begin(self.context_of(s), said.sheet)

        with link.visit() as there:
            there.place(said.path, data, begin)

    def ask(self, link: FileLink, said: FilePayload) -> bool | None:
        with self.db.reading() as s:
            began = sending.began(self.context_of(s), said.sheet)
        return asked(link, said.path, began)
