"""Servers on which sheets lie, what is read from them and put there for whom, and every file that came."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import ForeignKey, Index, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column

from ..core.states import FileState
from .base import Row, Versioned
from .setup import Partner


class FileServer(Partner):
    """A server of files; how it is reached stands in its link."""

    __tablename__ = "file_server"
    name: Mapped[str]
    kind: Mapped[str]
    next_read: Mapped[datetime | None]


class FileRule(Versioned):
    """Which sheets come from a server or go there for one store or supplier.

    server_id: None = they come by mail; is_out: ours go there; pattern: core.file_names; newest: of several that are new only the newest
    counts; done_folder: where one goes that was taken ('' = it stays and is remembered); marker: a file of its name with this behind it
    says that it is whole ('' = once its size stands still); each: one purchase order in each sheet of ours; leave_old: what lies there at
    the first look was there before us, and is left.
    """

    __tablename__ = "file_rule"
    __table_args__ = (Index("ix_file_rule_owner", "owner", "owner_id"),)
    server_id: Mapped[int | None] = mapped_column(ForeignKey("file_server.id"))
    owner: Mapped[str]
    owner_id: Mapped[int]
    what: Mapped[str]
    is_out: Mapped[bool]
    pattern: Mapped[str]
    newest: Mapped[bool] = mapped_column(default=True)
    done_folder: Mapped[str] = mapped_column(default="")
    marker: Mapped[str] = mapped_column(default="")
    each: Mapped[bool] = mapped_column(default=False)
    minutes: Mapped[int] = mapped_column(default=15)
    is_on: Mapped[bool] = mapped_column(default=True)
    leave_old: Mapped[bool] = mapped_column(default=False)
    next_at: Mapped[datetime | None]


class FileCame(Row):
    """A file that was seen, each content of it once. mark: by which another content is known; changed_at: as its server says.

    kept: its copy's name in the folder of sheets, '' = there is none (any more); needs: a person must look at it, until read_at;
    moved: it was put into the folder for what is done.
    """

    __tablename__ = "file_came"
    __table_args__ = (UniqueConstraint("rule_id", "path", "mark"), Index("ix_file_came_state", "state"))
    rule_id: Mapped[int] = mapped_column(ForeignKey("file_rule.id"))
    path: Mapped[str]
    mark: Mapped[str]
    size: Mapped[int]
    changed_at: Mapped[datetime | None]
    seen_at: Mapped[datetime]
    state: Mapped[FileState]
    message: Mapped[str] = mapped_column(default="")
    kept: Mapped[str] = mapped_column(default="")
    bad: Mapped[int] = mapped_column(default=0)
    needs: Mapped[bool] = mapped_column(default=False)
    taken_at: Mapped[datetime | None]
    moved: Mapped[bool] = mapped_column(default=False)
