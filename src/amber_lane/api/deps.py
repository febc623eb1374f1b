"""What routers are handed: a reading or a writing desk for the person who is signed in, and the house."""

from __future__ import annotations

from collections.abc import AsyncIterator, Iterator
from dataclasses import dataclass, field
from typing import Annotated

import anyio
import anyio.to_thread
from anyio.lowlevel import RunVar
from fastapi import Depends, HTTPException, Request
from sqlalchemy.exc import SQLAlchemyError
from sqlalchemy.orm import Session

from ..clock import Clock
from ..data.session import Database
from ..data.setup import Person
from ..jobs.reads import Reader
from ..jobs.worker import Worker
from ..services.desk import Desk
from ..services.facts import Facts
from ..services.finder import Finder
from ..services.prices import Catalogue
from ..services.setup import Doors
from ..settings import Settings


@dataclass
class House:
    """The one of each thing that the application stands on."""

    settings: Settings
    db: Database
    clock: Clock
    doors: Doors
    worker: Worker
    catalogue: Catalogue = field(default_factory=Catalogue)

    def warm(self) -> None:
        """Read what searching and pricing keep in memory, beside whatever else begins."""
        try:
            with self.db.reading() as s:
                desk = Desk(s, self.clock, "")
                self.finder.warm(desk)
                self.catalogue.read(desk, Facts.read(s))
        except SQLAlchemyError:
            # The house is being closed; whoever looks first reads it then.
            return

    @property
    def finder(self) -> Finder:
        return self.worker.finder

    @property
    def reader(self) -> Reader:
        return self.worker.reader


def house(request: Request) -> House:
    found: House = request.app.state.house
    return found


def signed_in(request: Request) -> int:
    """The number of the person who is signed in; 401 otherwise. A change needs our own header too, so that no other page can make it."""
    number = request.session.get("person")
    if not isinstance(number, int):
        raise HTTPException(401, "sign in first")
    if request.method not in ("GET", "HEAD") and request.headers.get("x-amber-lane") != "1":
        raise HTTPException(403, "this call did not come from Amber Lane's own pages")
    return number


def managers_only(request: Request) -> None:
    """403 for agents and assistants, who see their purchase orders and nothing else."""
    if request.session.get("person") is not None and request.session.get("role", "manager") != "manager":
        raise HTTPException(403, "this is the manager's; your purchase orders are on your own page")


def who(request: Request, number: Annotated[int, Depends(signed_in)]) -> str:
    name = request.session.get("name")
    return str(name or f"person {number}")


def desk_of(request: Request, s: Session) -> Desk:
    """The desk of the person who is signed in, for one transaction."""
    number = signed_in(request)
    return Desk(s, house(request).clock, who(request, number), number)


def _reading(request: Request) -> Iterator[Desk]:
    base = house(request)
    with base.db.reading() as s:
        yield desk_of(request, s)


async def _turn(request: Request) -> AsyncIterator[None]:
    """The turn to write, waited for apart from the few threads that do the work, so that whoever has it can always go on."""
    signed_in(request)
    turns = house(request).db.turns
    await anyio.to_thread.run_sync(turns.take, limiter=_waiting())
    try:
        yield
    finally:
        turns.give()


def _writing(request: Request, _: Annotated[None, Depends(_turn, scope="function")]) -> Iterator[Desk]:
    base = house(request)
    with base.db.writing(taken=True) as s:
        yield desk_of(request, s)


_limiter: RunVar[anyio.CapacityLimiter] = RunVar("waiting to write")


def _waiting() -> anyio.CapacityLimiter:
    """Threads that only wait, of this event loop."""
    try:
        return _limiter.get()
    except LookupError:
        _limiter.set(anyio.CapacityLimiter(200))
        return _limiter.get()


async def _heavy() -> AsyncIterator[None]:
    """A view that works through very much waits here, apart from the threads, so that a few of them leave room for all others."""
    try:
        free = _heavy_ones.get()
    except LookupError:
        free = anyio.Semaphore(HEAVY)
        _heavy_ones.set(free)
    async with free:
        yield


HEAVY = 2
_heavy_ones: RunVar[anyio.Semaphore] = RunVar("heavy views")
Heavy = Depends(_heavy, scope="function")

# scope="function": the transaction is committed before the answer goes out, so a yes is always true.
ReadDesk = Annotated[Desk, Depends(_reading, scope="function")]
WriteDesk = Annotated[Desk, Depends(_writing, scope="function")]
TheHouse = Annotated[House, Depends(house)]
SignedIn = Annotated[int, Depends(signed_in)]


def person_of(desk: Desk, number: int) -> Person:
    return desk.get(Person, number, "person")


__all__ = ["House", "ReadDesk", "SignedIn", "TheHouse", "WriteDesk", "house", "managers_only", "person_of"]
