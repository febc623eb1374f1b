"""A sheet of ours that is put on a server of files, as it stands in the outbox."""

from __future__ import annotations

from ..errors import CannotAsk
from ..payloads import Payload, payload_kind
from .protocol import TEMPORARY, FileLink


@payload_kind("file")
class FilePayload(Payload):
    """sheet: its number here, where its rows are; path: where it goes; partner: whom it is for."""

    sheet: int
    path: str
    partner: str
    count: int

    @property
    def about(self) -> str:
        return self.partner

    @property
    def summary(self) -> str:
        return f"{self.path} ({self.count} {'row' if self.count == 1 else 'rows'})"


def asked(link: FileLink, path: str, began: bool) -> bool | None:
    """Whether a sheet lies there, by what can be known: None = surely not, True = surely, also where it was taken already.

    began: its last step was begun. CannotAsk where a file that is not there may have been taken.
    """
    if not began:
        return None
    with link.visit() as there:
        if there.is_there(path):
            return True
        if there.is_there(f"{path}{TEMPORARY}"):
            return None
        if there.renames:
            # It had its temporary name, and nothing but the last step takes that away.
            return True
    raise CannotAsk(f"{path} is not there: either it never arrived, or it was taken already; ask them before it is sent again")
