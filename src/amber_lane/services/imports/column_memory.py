"""How sheets are read, remembered: which of a sheet's columns are ours, by the make of the sheet."""

from __future__ import annotations

from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from ...data.setup import Setting
from ...sheets.mapping import Columns, ColumnSeen, Read, look, mark_of, read
from ...sheets.opened import open_sheet
from ..base.context import Context
from ..base.import_frame import SheetKind
from ..base.regional import place_of

# Of so many makes of one kind of sheet the columns are remembered.
MOST = 60


def _kept(s: Session, name: str) -> dict[str, Any]:
    row = s.scalar(select(Setting).where(Setting.name == f"columns-{name}"))
    return dict(row.value) if row else {}


def see(s: Session, kind: SheetKind, data: bytes, chosen: Columns | None = None) -> ColumnSeen:
    """How a sheet of a kind seems to be made, with what was said of one like it before. Nothing is kept."""
    return look(data, kind.required, kind.optional, place_of(s).manner, chosen, _kept(s, kind.name))


def read_as(s: Session, kind: SheetKind, data: bytes, how: Columns | None = None) -> Read:
    """A sheet of a kind by its columns: as a person said, as was said of one like it before, else as they are called."""
    if how is None and (kept := _kept(s, kind.name)):
        how = Columns.of(kept.get(mark_of(open_sheet(data).names)))
    return read(data, kind.required, kind.optional, place_of(s).manner, how)


def remember(context: Context, kind: SheetKind, mark: str, how: Columns) -> None:
    """Remember a person's choice for sheets of that make."""
    row = context.session.scalar(select(Setting).where(Setting.name == f"columns-{kind.name}"))
    if row is None:
        row = Setting(name=f"columns-{kind.name}", value={})
        context.session.add(row)
    others = {key: value for key, value in row.value.items() if key != mark}
    row.value = {**dict(list(others.items())[-MOST + 1 :]), mark: how.kept()}
    context.session.flush()
