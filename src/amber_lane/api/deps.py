"""What routers are handed: a context for the person who is signed in, to read or to write, and what the application stands on."""

from __future__ import annotations

import contextlib
from collections.abc import AsyncIterator, Iterator
from dataclasses import dataclass, field
from typing import Annotated, Any

import anyio
import anyio.to_thread
from anyio.lowlevel import RunVar
from fastapi import Depends, HTTPException, Request
from fastapi.dependencies.utils import get_flat_params
from fastapi.params import Query
from sqlalchemy.exc import OperationalError, SQLAlchemyError
from sqlalchemy.orm import Session

from ..clock import Clock
from ..core.permissions import MANAGER, Allowed
from ..data import revisions
from ..data.session import Database
from ..data.setup import Person, SignIn
from ..data.turns import TooLong
from ..jobs.polling import Reader
from ..jobs.worker import Worker
from ..services.base.context import Context
from ..services.base.errors import Invalid
from ..services.books import columns
from ..services.catalogue.search import Finder
from ..services.partners.registry import ConnectorRegistry
from ..services.people import approvals, program_keys, roles, second_step, sessions
from ..services.people.passwords import Throttle
from ..services.pricing.inputs import Facts
from ..services.pricing.what_if import Catalogue
from ..settings import Settings
from .presence import Presence


@dataclass
class AppState:
    """The one of each thing that the application stands on."""

    settings: Settings
    db: Database
    clock: Clock
    connectors: ConnectorRegistry
    worker: Worker
    catalogue: Catalogue = field(default_factory=Catalogue)
    # What was tried at its doors: passwords and codes, links for new passwords, tokens of programs.
    tries: Throttle = field(default_factory=Throttle)
    links: Throttle = field(default_factory=Throttle)
    tokens: Throttle = field(default_factory=Throttle)
    # Who looks at what now.
    presence: Presence = field(default_factory=Presence)

    def warm(self) -> None:
        """Read what searching and pricing keep in memory, beside whatever else begins."""
        try:
            with self.db.reading() as s:
                context = Context(s, self.clock, "")
                self.finder.warm(context)
                self.catalogue.read(context, Facts.read(s))
                columns.read(s)
        except SQLAlchemyError:
            # The house is being closed; whoever looks first reads it then.
            return

    @property
    def finder(self) -> Finder:
        return self.worker.finder

    @property
    def reader(self) -> Reader:
        return self.worker.reader


def app_state(request: Request) -> AppState:
    found: AppState = request.app.state.app_state
    return found


# Set on a call that is made again by whoever approves it: the number of what was asked for. Nobody can send it from outside.
APPROVES = "amber_lane.approves"


@dataclass(frozen=True)
class Seated:
    """Who asks. token: the secret of their signing in; number: of that signing in; lacks: the house asks for a second step they lack."""

    token: str
    number: int
    person: int
    name: str
    role: str
    lacks: bool
    allowed: Allowed
    # A program of theirs, by its key, and not they themselves.
    program: bool = False


def cookie_of(app: AppState) -> str:
    """The name of the cookie; behind TLS at the root of a host it can be no other host's (RFC 6265bis)."""
    return "__Host-amber_lane" if app.settings.sealed and not app.settings.root else "amber_lane"


def seat(s: Session, token: str, row: SignIn, person: Person) -> Seated:
    lacks = person.role == MANAGER and not person.second and second_step.required(s)
    return Seated(token, row.id, person.id, person.name, person.role, lacks, roles.allowed(s, person))


def seated(request: Request) -> Seated | None:
    """Who is signed in, looked up once a request; what they may do is what the person may do now."""
    if not hasattr(request.state, "seated"):
        app, request.state.seated = app_state(request), None
        if (secret := request.headers.get("authorization", "").removeprefix("Bearer ").strip()).startswith(program_keys.PREFIX):
            of_program = request.state.seated = _program(request, app, secret[:100])
            return of_program
        token = request.cookies.get(cookie_of(app), "")[:100]
        with app.db.reading() as s:
            found = sessions.find(s, token)
            due = found is not None and sessions.is_due(found[0])
            if found is not None:
                request.state.seated = seat(s, token, *found)
        if due and request.state.seated:
            # Where that cannot be written down now, the next look will.
            with contextlib.suppress(OperationalError, TooLong), app.db.writing() as s:
                sessions.note(s, request.state.seated.number)
    found_: Seated | None = request.state.seated
    return found_


def _program(request: Request, app: AppState, secret: str) -> Seated | None:
    """Whose program calls by a key. Wrong ones are counted by address, as all that is tried at a door."""
    address = request.client.host if request.client else ""
    with app.db.reading() as s:
        found = program_keys.find(s, secret)
        if found is not None:
            row, person = found
            name, due = f"{person.name} by {row.name}", program_keys.is_due(row)
            here = Seated("", row.id, person.id, name, person.role, False, program_keys.allowed(s, row, person), program=True)
    if found is None:
        app.tokens.wrong("a key", address)
        if (wait := app.tokens.wait("a key", address, True)) > 0:
            raise HTTPException(429, "too many wrong keys from here", {"Retry-After": str(round(wait) + 1)})
        return None
    if due:
        with contextlib.suppress(OperationalError, TooLong), app.db.writing() as s:
            program_keys.note(s, here.number)
    return here


def _beside_tables(request: Request) -> AppState:
    """For an answer that is made of more than tables: of files, of what is held in memory, of who is here."""
    request.state.made_of_more = True
    return app_state(request)


def signed_in(request: Request) -> int:
    """The number of the person who is signed in; 401 otherwise. A change needs our own header too, so that no other page can make it."""
    here = seated(request)
    if here is None:
        raise HTTPException(401, "sign in first")
    if here.program:
        if "x-needs" not in (request.scope["route"].openapi_extra or {}):
            raise HTTPException(403, "a program does not sign in, and changes nobody's password")
        # No page of others can send its key, so it needs no header of ours.
        return here.person
    if request.method not in ("GET", "HEAD") and request.headers.get("x-amber-lane") != "1":
        raise HTTPException(403, "this call did not come from Amber Lane's own pages")
    return here.person


async def known_questions(request: Request) -> None:
    """422 for a question that a call does not know: whoever mistypes one would take the answer for what they asked."""
    if not request.query_params or "/hooks/" in request.url.path:
        # Some stores add questions of their own to an address that they were given.
        return
    call = request.scope["endpoint"]
    if call not in _questions:
        params = get_flat_params(request.scope["route"].dependant)
        _questions[call] = frozenset(one.alias for one in params if isinstance(one.field_info, Query))
    if unknown := sorted(set(request.query_params) - _questions[call]):
        raise Invalid(f"there is no {', '.join(unknown)[:100]} here", {name[:100]: "is not known here" for name in unknown[:10]})


# What each call can be asked.
_questions: dict[Any, frozenset[str]] = {}


def who(request: Request, number: Annotated[int, Depends(signed_in)]) -> str:
    here = seated(request)
    return here.name if here else f"person {number}"


def context_of(request: Request, s: Session) -> Context:
    """The context of the person who is signed in, for one transaction. What they approve for somebody else is decided in it."""
    number = signed_in(request)
    here = seated(request)
    context = Context(s, app_state(request).clock, who(request, number), number, allowed=here.allowed if here else None)
    if (asked := request.scope.get(APPROVES)) is not None:
        context.actor = approvals.approve(context, asked)
    return context


def _reading(request: Request) -> Iterator[Context]:
    app = app_state(request)
    with app.db.reading() as s, revisions.recording(s.connection()) as read:
        yield context_of(request, s)
        # What they may do was looked up before, and decides what of the answer they see.
        request.state.made_of = revisions.made_of(s, read | {"person", "role"})


async def _turn(request: Request) -> AsyncIterator[None]:
    """The turn to write, waited for apart from the few threads that do the work, so that whoever has it can always go on."""
    await anyio.to_thread.run_sync(signed_in, request)
    turns = app_state(request).db.turns
    await anyio.to_thread.run_sync(turns.take, limiter=_waiting())
    try:
        yield
    finally:
        turns.give()


def _writing(request: Request, _: Annotated[None, Depends(_turn, scope="function")]) -> Iterator[Context]:
    app = app_state(request)
    with app.db.writing(taken=True) as s:
        yield context_of(request, s)


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
ReadContext = Annotated[Context, Depends(_reading, scope="function")]
WriteContext = Annotated[Context, Depends(_writing, scope="function")]
TheApp = Annotated[AppState, Depends(_beside_tables)]
SignedIn = Annotated[int, Depends(signed_in)]


def person_of(context: Context, number: int) -> Person:
    return context.get(Person, number, "person")


__all__ = ["AppState", "ReadContext", "SignedIn", "TheApp", "WriteContext", "app_state", "person_of"]
