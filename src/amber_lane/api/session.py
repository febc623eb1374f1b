"""Signing in, and the first start."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated

from fastapi import APIRouter, HTTPException, Request, Response
from pydantic import BaseModel, StringConstraints
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from .. import __version__
from ..data.setup import Person, Store, Supplier
from ..services import setup, signing_in
from ..services.desk import Desk
from ..services.passwords import Throttle
from ..services.secrets import password_fits
from ..services.transit import make_templates
from .deps import House, Seated, SignedIn, TheHouse, WriteDesk, cookie_of, seated
from .shapes import Ask, Big, Done

router = APIRouter(prefix="/session", tags=["session"])
Mail = Annotated[str, StringConstraints(max_length=200, to_lower=True)]


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
    who = seated(request)
    with base.db.reading() as s:
        person = s.get(Person, who.person) if who else None
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
def sign_in(request: Request, response: Response, ask: SignIn, base: TheHouse) -> Here:
    _own_page(request)
    address = _address(request)
    with base.db.reading() as s:
        person = s.scalar(select(Person).where(Person.mail == ask.mail, Person.gone_at.is_(None)))
        known = person is not None and signing_in.came_from(s, person.id, address)
    if (wait := _throttle.wait(ask.mail, address, known)) > 0:
        told = f"too many tries; wait {round(wait)} seconds" if wait < 90 else f"too many tries; wait {round(wait / 60)} minutes"
        raise HTTPException(429, told, {"Retry-After": str(round(wait) + 1)})
    # The work is the same whether the person exists or not, so the time tells nothing.
    fits = password_fits(person.password if person else _NOBODY, ask.password)
    if not person or not fits:
        _throttle.wrong(ask.mail, address)
        if person:
            with base.db.writing() as s:
                told = f"a wrong password for {person.name}, from {address}"
                Desk(s, base.clock, "Doors").log("person.refused", person.name, told, count=0)
        raise HTTPException(401, "that mail address and password do not belong together")
    _throttle.right(ask.mail, address)
    with base.db.writing() as s:
        _enter(request, response, s, base, person.id)
    return here(request, base)


_throttle = Throttle()


_NOBODY = "$argon2id$v=19$m=65536,t=3,p=4$c29tZXNhbHRzb21lc2FsdA$GpZ3sK/oH9p7VIiV56G/64Zo/8GaUw434IimaPqxwCo"


def _own_page(request: Request) -> None:
    if request.headers.get("x-amber-lane") != "1":
        raise HTTPException(403, "this call did not come from Amber Lane's own pages")


def _address(request: Request) -> str:
    return request.client.host if request.client else ""


def _enter(request: Request, response: Response, s: Session, base: House, number: int) -> None:
    """Sign a person in, and end what this browser was signed in with."""
    if was := seated(request):
        signing_in.end(s, was.token)
    desk = Desk(s, base.clock, "Doors")
    person = desk.get(Person, number, "person")
    address = _address(request)
    token = signing_in.begin(s, person, address, request.headers.get("user-agent", ""))
    desk.log("person.in", person.name, f"{person.name} signed in from {address}", count=0)
    life, settings = int(signing_in.LONGEST.total_seconds()), base.settings
    path = settings.root or "/"
    response.set_cookie(cookie_of(base), token, life, path=path, secure=settings.sealed, httponly=True, samesite="strict")
    found = signing_in.find(s, token)
    assert found is not None
    request.state.seated = Seated(token, found[0].id, person.id, person.name, person.role)


@router.post("/first")
def first_start(request: Request, response: Response, ask: FirstPerson, base: TheHouse) -> Here:
    """Make the first account of a house that has none."""
    _own_page(request)
    with base.db.writing() as s:
        if s.scalar(select(func.count()).select_from(Person)):
            raise HTTPException(409, "this house has people already; sign in")
        desk = Desk(s, base.clock, ask.name)
        person = setup.make_person(desk, ask.name, ask.mail, ask.password)
        make_templates(desk)
        _enter(request, response, s, base, person.id)
    return here(request, base)


@router.delete("")
def sign_out(request: Request, response: Response, number: SignedIn, base: TheHouse) -> Done:
    who = seated(request)
    assert who is not None
    with base.db.writing() as s:
        signing_in.end(s, who.token)
        Desk(s, base.clock, "Doors").log("person.out", who.name, f"{who.name} signed out", count=0)
    response.delete_cookie(cookie_of(base), path=base.settings.root or "/", secure=base.settings.sealed, httponly=True, samesite="strict")
    return Done(told=f"{who.name} signed out")


class SignInOut(BaseModel):
    """One of one's own sign-ins. this: the one that asks."""

    id: int
    at: datetime
    seen_at: datetime
    address: str
    program: str
    this: bool


@router.get("/mine")
def sign_ins(request: Request, number: SignedIn, base: TheHouse) -> list[SignInOut]:
    """Where one is signed in."""
    who = seated(request)
    with base.db.reading() as s:
        columns = ("id", "at", "seen_at", "address", "program")
        rows = signing_in.mine(s, number)
        return [SignInOut(**{name: getattr(one, name) for name in columns}, this=who is not None and one.id == who.number) for one in rows]


@router.delete("/mine/{one}")
def end_sign_in(desk: WriteDesk, one: Big) -> Done:
    signing_in.end_one(desk, one)
    return Done(told="That sign-in is ended")


class PasswordAsk(Ask):
    was: Annotated[str, StringConstraints(max_length=500)]
    fresh: Annotated[str, StringConstraints(max_length=500)]


@router.post("/password")
def change_password(request: Request, desk: WriteDesk, ask: PasswordAsk) -> Done:
    """One's own password; all other sign-ins of one's own end."""
    who = seated(request)
    signing_in.change_password(desk, who.token if who else "", ask.was, ask.fresh)
    return Done(told="Your password is changed; your other sign-ins are ended")
