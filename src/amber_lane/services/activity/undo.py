"""Taking an act back, in portions where it was one of very many. How each kind goes stands beside what does it (base.undoing)."""

from __future__ import annotations

from typing import Any

from sqlalchemy import func, select, update

from ...core.machine import NotAllowed
from ...core.permissions import Permission
from ...data.outbox import AuditEntry, AuditEntryPart
from ..base import portions, undoing
from ..base.context import Context
from ..base.errors import Conflict, MayNot


def may_take_back(context: Context, number: int) -> None:
    """Everybody takes back what they did themselves; what others did, somebody who has the settings in hand. MayNot otherwise."""
    act = context.get(AuditEntry, number, "act")
    if context.allowed is not None and act.person_id != context.person and not context.allowed.may(Permission.SETTINGS):
        raise MayNot("somebody else did this; a manager takes it back")


def undo(context: Context, number: int) -> AuditEntry:
    """Take an act back; one of very many portions in portions too. Conflict says why it cannot be, and then nothing was changed."""
    act = context.get(AuditEntry, number, "act")
    if act.undo != "open":
        raise Conflict("it has been undone already" if act.undo == "done" else "this cannot be undone")
    later = (
        select(AuditEntry.message)
        .where(AuditEntry.kind == act.kind, AuditEntry.on == act.on, AuditEntry.id > act.id, AuditEntry.undo == "open")
        .order_by(AuditEntry.id)
    )
    if undoing.known()[act.kind].whole and (message := context.session.scalar(later.limit(1))):
        raise Conflict(f"a newer change stands on top of it ({message}); undo that one first")
    for job in portions.of_act(context, act.id):
        portions.leave(context, job)
    # The newest portion first; the act itself holds the oldest.
    parts = [
        *context.session.scalars(
            select(AuditEntryPart.id).where(AuditEntryPart.audit_entry_id == act.id).order_by(AuditEntryPart.id.desc())
        ),
        0,
    ]
    if act.count <= portions.AT_ONCE or len(parts) == 1:
        for part in parts:
            _take_back(context, act, part)
    else:
        portions.enter(context, "undo", f"Taking back: {act.message}", {"undoes": act.id}, parts, len(parts), stops=False)
    act.undo = "done"
    context.log("undo", act.on, f"undone: {act.message}")
    return act


def _take_back(context: Context, act: AuditEntry, part: int) -> None:
    """One portion of an act; 0 = what the act itself holds."""
    newest = context.session.scalar(select(func.max(AuditEntry.id)))
    mine = act
    if part:
        one = context.get(AuditEntryPart, part, "part of an act")
        mine = AuditEntry(id=act.id, at=act.at, kind=act.kind, on=act.on, message=act.message, before=one.before, after=one.after)
    try:
        undoing.known()[act.kind].take_back(context, mine)
    except NotAllowed as error:
        raise Conflict(f"it cannot be undone any more: {error}") from error
    # What the taking back wrote down is not itself a thing to take back: the next undo goes one further into the past.
    context.session.execute(update(AuditEntry).where(AuditEntry.id > newest).values(undo=""))


@portions.work("undo")
def _undo_portion(context: Context, body: dict[str, Any], part: int) -> int:
    _take_back(context, context.get(AuditEntry, body["undoes"], "act"), part)
    return 1


@portions.finish("undo")
def _undone(context: Context, body: dict[str, Any], done: int, failed: int) -> str:
    act = context.get(AuditEntry, body["undoes"], "act")
    if not failed:
        return f"taken back: {act.message}"
    message = f"{failed} of {done + failed} portions of it could not be taken back, since they were changed meanwhile"
    context.log("undo.partly", act.on, f"{act.message}: {message}")
    return message


def last_undoable(context: Context) -> AuditEntry | None:
    """The newest act of this person that can still be taken back. What the program or others did is undone where it stands."""
    mine = AuditEntry.person_id == context.person if context.person is not None else AuditEntry.who == context.actor
    return context.session.scalar(select(AuditEntry).where(mine, AuditEntry.undo == "open").order_by(AuditEntry.id.desc()).limit(1))
