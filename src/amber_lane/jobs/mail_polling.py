"""Mailboxes read: every mail once, in a transaction of its own. A call is never inside a transaction."""

from __future__ import annotations

from datetime import timedelta
from pathlib import Path

from ..connectors.errors import Unavailable
from ..connectors.inbox_protocol import InboxVisit
from ..data.setup import Inbox, Letter
from ..services.inbound import mailbox
from .polling import Reader


class LetterReader:
    """folder: where copies of sheets are kept that came by mail."""

    def __init__(self, reader: Reader, folder: Path) -> None:
        self.reader, self.folder = reader, folder

    def read(self, inbox_id: int) -> int:
        """Mail that has come since the last look, each in a transaction of its own. Returns how many there were."""
        fresh: list[str] = []
        try:
            with self.reader.visit("inbox", inbox_id):
                link = self.reader.opened(self.reader.connectors.inbox, inbox_id)
                with link.visit() as there:
                    fresh = self._read_new(there, inbox_id)
        finally:
            with self.reader.db.writing() as s:
                self.reader.context(s, "Orders").get(Inbox, inbox_id, "mailbox").next_read = self.reader.clock.now() + timedelta(minutes=2)
        return len(fresh)

    def held(self, number: int) -> mailbox.OpenedMail:
        """A mail whose files were not taken, had once more from its mailbox, where it lies still. OutsideError where it cannot be had."""
        with self.reader.db.reading() as s:
            row = self.reader.context(s, "Orders").get(Letter, number, "mail")
        link = self.reader.opened(self.reader.connectors.inbox, row.inbox_id)
        with link.visit() as there:
            return mailbox.opened(there.letter(row.uid))

    def _read_new(self, visit: InboxVisit, inbox_id: int) -> list[str]:
        """What is new in a mailbox, in one visit. Raises the last fault once all others are read."""
        there, _ = self.reader.again(visit.uids)
        with self.reader.db.writing() as s:
            context = self.reader.context(s, "Orders")
            mailbox.leave_old(context, context.get(Inbox, inbox_id, "mailbox"), there)
            fresh = mailbox.unread(context, inbox_id, there)
        bad: Exception | None = None
        for uid in fresh:
            try:
                letter, _ = self.reader.again(lambda: visit.letter(uid))  # noqa: B023
                came = mailbox.opened(letter)
                with self.reader.db.writing() as s:
                    mailbox.receive(self.reader.context(s, "Orders"), inbox_id, came, self.folder)
            except Unavailable:
                raise
            except Exception as error:  # noqa: BLE001
                # One that came torn, or breaks something here, keeps none of the others waiting; it is looked at again.
                bad = error
        if bad is not None:
            raise bad
        return fresh
