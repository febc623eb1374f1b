"""What moves by itself on every page: counts on the road, the pulse at the bottom, the clock."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator
from dataclasses import dataclass
from datetime import datetime
from typing import Any

import anyio
from fastapi import Request
from pydantic import BaseModel

from ..clock import PacedClock
from ..core.permissions import Permission
from ..data import revisions
from ..data.setup import Person
from ..services.activity import undo
from ..services.alerts import today
from ..services.base import portions
from ..services.base.context import Context
from ..services.outbox import queue
from ..services.partners import rosters
from ..services.people import roles, sessions
from .deps import AppState, seated
from .hidden import without_money
from .schemas import HouseManner, manner_of


class NextSweep(BaseModel):
    supplier: str
    at: datetime


class Running(BaseModel):
    id: int
    title: str
    done: int
    total: int


class LastAct(BaseModel):
    id: int
    at: datetime
    message: str


class Pulse(BaseModel):
    """tables: how often each was changed, so that a page asks again for what was made of one that was."""

    now: datetime
    speed: float
    practice: bool
    counts: dict[str, int]
    next_sweep: NextSweep | None
    jobs: list[Running]
    to_send: int
    last: LastAct | None
    tables: dict[str, int]
    house: HouseManner


@dataclass(frozen=True)
class Own:
    """Of the pulse what is a person's own: what their Z would undo now, what waits for them, and whether they see money."""

    last: LastAct | None
    counts: dict[str, int]
    money: bool

    def laid(self, over: Pulse) -> Pulse:
        mine = over.model_copy(update={"last": self.last, "counts": self.counts})
        return mine if self.money else Pulse.model_validate(without_money(mine.model_dump()))


def own_of(app: AppState, person: int) -> Own:
    """What is a person's own, read now."""
    with app.db.reading() as s:
        row = s.get(Person, person)
        context = Context(s, app.clock, "", person, allowed=roles.allowed(s, row) if row else None)
        act = undo.last_undoable(context)
        last = LastAct(id=act.id, at=act.at, message=act.message) if act else None
        money = context.allowed is not None and context.allowed.may(Permission.SEE_MONEY)
        return Own(last, today.counts(context), money)


def pulse_of(app: AppState) -> Pulse:
    """The pulse of the whole house, read now."""
    with app.db.reading() as s:
        context = Context(s, app.clock, "pulse")
        supplier, jobs = rosters.next_swept(context), portions.under_way(context)
        return Pulse(
            now=context.now,
            speed=app.clock.speed if isinstance(app.clock, PacedClock) else 1.0,
            practice=bool(app.settings.world),
            counts=today.counts(context),
            next_sweep=NextSweep(supplier=supplier.name, at=supplier.next_sweep) if supplier and supplier.next_sweep else None,
            jobs=[Running(id=job.id, title=job.title, done=job.done, total=job.total) for job in jobs],
            to_send=context.kept("to send", queue.waiting),
            last=None,
            tables=revisions.of(s),
            house=manner_of(s),
        )


def mine_of(app: AppState, person: int) -> Pulse:
    """The pulse as one person sees it."""
    return own_of(app, person).laid(pulse_of(app))


class Live:
    """One look a second for all open pages together."""

    def __init__(self, app: AppState) -> None:
        self.app = app
        self.latest: Pulse | None = None
        # Goes up with each change that is told.
        self.told = 0
        self.changed = asyncio.Condition()
        self.listeners = 0
        self.task: asyncio.Task[None] | None = None

    async def run(self) -> None:
        last: Any = None
        while True:
            await asyncio.sleep(1.0)
            if not self.listeners:
                continue
            try:
                pulse = await anyio.to_thread.run_sync(pulse_of, self.app)
            except Exception:  # noqa: BLE001, S112 - a look that failed is simply made again
                continue
            mark = (pulse.tables, pulse.speed, pulse.to_send, [job.done for job in pulse.jobs], pulse.now.minute, pulse.counts)
            if mark != last:
                last = mark
                async with self.changed:
                    self.latest, self.told = pulse, self.told + 1
                    self.changed.notify_all()

    def _still(self, request: Request) -> bool:
        """Whether whoever listens is still signed in: that may have been ended elsewhere."""
        here = seated(request)
        with self.app.db.reading() as s:
            return here is not None and sessions.find(s, here.token) is not None

    async def listen(self, request: Request, person: int) -> AsyncIterator[dict[str, str]]:
        self.listeners += 1
        try:
            had = self.told
            first = await anyio.to_thread.run_sync(mine_of, self.app, person)
            yield {"event": "pulse", "data": first.model_dump_json()}
            while not await request.is_disconnected():
                async with self.changed:
                    # What was told while the last was being read is not missed.
                    await self.changed.wait_for(lambda: self.told != had)  # noqa: B023 - looked at here and now
                    had, pulse = self.told, self.latest
                if not await anyio.to_thread.run_sync(self._still, request):
                    return
                if pulse is not None:
                    # All pages share one look; what waits for a person and what Z would undo is their own.
                    own = await anyio.to_thread.run_sync(own_of, self.app, person)
                    yield {"event": "pulse", "data": own.laid(pulse).model_dump_json()}
        finally:
            self.listeners -= 1
