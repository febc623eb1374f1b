"""Signing in, and the first start."""

from __future__ import annotations

import time
from typing import Annotated

from fastapi import APIRouter, HTTPException, Request
from pydantic import BaseModel, StringConstraints
from sqlalchemy import func, select

from .. import __version__
from ..data.setup import Person, Store, Supplier
from ..services import setup
from ..services.desk import Desk
from ..services.secrets import password_fits
from ..services.transit import make_templates
from .deps import SignedIn, TheHouse, person_of
from .shapes import Ask, Done

router = APIRouter(prefix="/session", tags=["session"])
Mail = Annotated[str, StringConstraints(max_length=200, to_lower=True)]
_tries: dict[str, list[float]] = {}


class SignIn(Ask):
    mail: Mail
    password: Annotated[str, StringConstraints(max_length=500)]


class FirstPerson(SignIn):
    name: Annotated[str, StringConstraints(max_length=80)]


class DemoAccount(BaseModel):
    mail: str
    password: str


class Here(BaseModel):
    """Who is signed in and what this house still lacks. demo: the ready account of the demo, if this is one."""

    name: str | None
    mail: str | None
    role: str | None
    first_start: bool
    stores: int
    suppliers: int
    practice: bool
    version: str
    demo: DemoAccount | None


@router.get("")
def here(request: Request, base: TheHouse) -> Here:
    with base.db.reading() as s:
        person = s.get(Person, request.session.get("person") or 0)
        people = s.scalar(select(func.count()).select_from(Person)) or 0
        demo = s.scalar(select(Person).where(Person.mail == DEMO.mail)) if base.settings.world else None
        return Here(
            name=person.name if person else None,
            mail=person.mail if person else None,
            role=person.role if person else None,
            first_start=people == 0,
            stores=s.scalar(select(func.count()).select_from(Store)) or 0,
            suppliers=s.scalar(select(func.count()).select_from(Supplier)) or 0,
            practice=bool(base.settings.world),
            version=__version__,
            demo=DEMO if demo else None,
        )


DEMO = DemoAccount(mail="manager@dusk-and-dial.example", password="practice-road")


@router.post("")
def sign_in(request: Request, ask: SignIn, base: TheHouse) -> Here:
    _own_page(request)
    now = time.monotonic()
    tries = _tries[ask.mail] = [at for at in _tries.get(ask.mail, []) if at > now - 60]
    if len(tries) >= 8:
        raise HTTPException(429, "too many tries; wait a minute")
    with base.db.reading() as s:
        person = s.scalar(select(Person).where(Person.mail == ask.mail))
        # The work is the same whether the person exists or not, so the time tells nothing.
        fits = password_fits(person.password if person else _NOBODY, ask.password)
        if not person or not fits:
            tries.append(now)
            raise HTTPException(401, "that mail address and password do not belong together")
        _enter(request, person)
    return here(request, base)


_NOBODY = "$argon2id$v=19$m=65536,t=3,p=4$c29tZXNhbHRzb21lc2FsdA$GpZ3sK/oH9p7VIiV56G/64Zo/8GaUw434IimaPqxwCo"


def _own_page(request: Request) -> None:
    if request.headers.get("x-amber-lane") != "1":
        raise HTTPException(403, "this call did not come from Amber Lane's own pages")


def _enter(request: Request, person: Person) -> None:
    request.session.clear()
    request.session.update({"person": person.id, "name": person.name, "role": person.role})


@router.post("/first")
def first_start(request: Request, ask: FirstPerson, base: TheHouse) -> Here:
    """Make the first account of a house that has none."""
    _own_page(request)
    with base.db.writing() as s:
        if s.scalar(select(func.count()).select_from(Person)):
            raise HTTPException(409, "this house has people already; sign in")
        desk = Desk(s, base.clock, ask.name)
        person = setup.make_person(desk, ask.name, ask.mail, ask.password)
        make_templates(desk)
    _enter(request, person)
    return here(request, base)


@router.delete("")
def sign_out(request: Request, number: SignedIn, base: TheHouse) -> Done:
    with base.db.reading() as s:
        name = person_of(Desk(s, base.clock, ""), number).name
    request.session.clear()
    return Done(told=f"{name} signed out")
