"""Alerts that a person put off: until a time, or until they say something else."""

from __future__ import annotations

from datetime import timedelta

from sqlalchemy import select

from ...data.outbox import AuditEntry, Snooze
from ..base import house_days, undoing
from ..base.context import Context


def asleep(context: Context) -> dict[str, str]:
    """Keys of alerts that are put off, each with what it said where it is put off until it says something else."""
    return {row.alert: row.message for row in context.session.scalars(select(Snooze).where(Snooze.until > context.now))}


def snooze(context: Context, key: str, how_long: timedelta, while_it_says: str = "") -> None:
    """Put an alert off. while_it_says: not for longer than it says this."""
    row = context.session.scalar(select(Snooze).where(Snooze.alert == key)) or Snooze(alert=key, until=context.now, by=context.actor)
    row.until, row.by, row.message = context.now + how_long, context.actor, while_it_says
    context.session.add(row)
    until = (
        "it changes" if while_it_says else f"{house_days.day_text(context, row.until, True)} {house_days.clock_text(context, row.until)}"
    )
    context.log("snooze", key, f"not now: {key} until {until}", after={"trouble": key}, undo=True)


@undoing.undoes("snooze")
def undo_snooze(context: Context, act: AuditEntry) -> None:
    row = context.session.scalar(select(Snooze).where(Snooze.alert == undoing.after(act)["trouble"]))
    if row:
        context.session.delete(row)
