"""Addresses of one's own are told of what happens: through the outbox, in the transaction in which it does."""

from __future__ import annotations

import secrets
from typing import Any

from sqlalchemy import select

from ...connectors.webhook_payload import EventPayload
from ...core.events import EventGroup, group_of
from ...data.outbox import AuditEntry
from ...data.setup import Webhook
from ..base import context as base
from ..base.context import Context
from ..base.errors import Conflict, Invalid
from . import queue

HERE = "webhooks"


def _listening(context: Context) -> dict[str, list[int]]:
    """Who is told of which groups, as it was when the transaction asked first."""
    found: dict[str, list[int]] | None = context.session.info.get(HERE)
    if found is None:
        found = {}
        rows = select(Webhook.id, Webhook.events).where(Webhook.ended_at.is_(None))
        for number, events in context.session.execute(rows):
            for event in events:
                found.setdefault(event, []).append(number)
        context.session.info[HERE] = found
    return found


def listens(context: Context, group: EventGroup) -> bool:
    """Whether anybody is told of a group."""
    return group.value in _listening(context)


def tell(context: Context, kind: str, on: str, message: str, data: dict[str, Any] | None = None, count: int = 1) -> None:
    """Something happened. data: what else is known of it, as JSON."""
    group = group_of(kind)
    known = f"{kind}-{secrets.token_hex(8)}"
    for hook in _listening(context).get(group.value, ()) if group else ():
        event = EventPayload(
            id=known, event=kind, at=context.now.isoformat(), who=context.actor, on=on, message=message, count=count, data=data
        )
        queue.put(context, f"webhook:{hook}", f"event:{on}"[:120], f"event-{hook}-{known}", event)


@base.logged
def follow(context: Context, act: AuditEntry) -> None:
    """Every act of a group is told as the log has it."""
    tell(context, act.kind, act.on, act.message, count=act.count)


def choose(context: Context, number: int, version: int | None, events: list[EventGroup]) -> Webhook:
    """What an address is told of from now on."""
    row = context.get_version(Webhook, number, version, "address that is told of events")
    if row.ended_at is not None:
        raise Conflict(f"{row.name} is disconnected")
    if not events:
        raise Invalid("choose what it is told of", {"events": "is empty"})
    row.events = sorted({one.value for one in events})
    context.session.info.pop(HERE, None)
    context.log("webhook.events", row.name, f"{row.name} is told of {', '.join(row.events).replace('_', ' ')}")
    return row
