"""Signing in, and the first start."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, HTTPException, Request, Response
from pydantic import BaseModel, StringConstraints
from sqlalchemy.orm import Session

from ... import __version__
from ...core.permissions import Permission
from ...data.setup import Person
from ...services.base.context import Context
from ...services.base.credentials import password_fits
from ...services.base.regional import set_usual_place
from ...services.fulfilment.parcel_tracking import make_templates
from ...services.partners import rosters
from ...services.people import second_step, sessions, users
from ..deps import AppState, SignedIn, TheApp, cookie_of, seat, seated
from ..errors import problem
from ..schemas import Ask, Done, HouseManner, manner_of

router = APIRouter(prefix="/session", tags=["session"])
Mail = Annotated[str, StringConstraints(max_length=200, to_lower=True)]


Password = Annotated[str, StringConstraints(max_length=500)]
Code = Annotated[str, StringConstraints(max_length=40)]


class SignIn(Ask):
    """code: of the second step, where the person has one."""

    mail: Mail
    password: Password
    code: Code = ""


class FirstPerson(Ask):
    mail: Mail
    password: Password
    name: Annotated[str, StringConstraints(max_length=80)]
    country: Annotated[str, StringConstraints(max_length=2)]
    zone: Annotated[str, StringConstraints(max_length=60)]
    # What sums over stores are in; empty: the country's.
    currency: Annotated[str, StringConstraints(max_length=3, to_upper=True)] = ""


class DemoAccount(BaseModel):
    mail: str
    password: str


class Here(BaseModel):
    """Who is signed in and what this house still lacks. demo: the ready account of the demo, if this is one.

    second: whether the person signs in with a second step; must: whether the house asks for one that they lack, and nothing else opens.
    """

    name: str | None
    mail: str | None
    role: str | None
    # What they may do (see x-needs in this document), and whether they have a page of their own and nothing else.
    permissions: list[Permission]
    own_page: bool
    limited: bool
    second: bool
    must: bool
    first_start: bool
    stores: int
    suppliers: int
    practice: bool
    version: str
    house: HouseManner | None
    demo: DemoAccount | None


@router.get("")
def here(request: Request, app: TheApp) -> Here:
    who = seated(request)
    with app.db.reading() as s:
        person = s.get(Person, who.person) if who else None
        context = Context(s, app.clock, "Sign-in")
        demo = users.with_mail(context, DEMO.mail) if app.settings.world else None
        stores, suppliers = rosters.counted(context)
        return Here(
            name=person.name if person else None,
            mail=person.mail if person else None,
            role=person.role if person else None,
            permissions=sorted(who.allowed.role.permissions) if who else [],
            own_page=bool(who and who.allowed.role.own_page),
            limited=bool(who and who.allowed.scope.limited),
            second=bool(person and person.second),
            must=bool(who and who.lacks),
            first_start=not users.any_there(context),
            stores=stores,
            suppliers=suppliers,
            practice=bool(app.settings.world),
            version=__version__,
            house=manner_of(s) if person else None,
            demo=DEMO if demo else None,
        )


DEMO = DemoAccount(mail="manager@dusk-and-dial.example", password="practice-road")


@router.post("", response_model=Here)
def sign_in(request: Request, response: Response, ask: SignIn, app: TheApp) -> Here | Response:
    """Sign in. 401 with `needs: code` where the password is right and a code of the second step is missing or wrong."""
    own_page(request)
    address = address_of(request)
    with app.db.reading() as s:
        person = users.with_mail(Context(s, app.clock, "Sign-in"), ask.mail)
        known = person is not None and sessions.came_from(s, person.id, address)
    if (wait := app.tries.wait(ask.mail, address, known)) > 0:
        message = f"too many tries; wait {round(wait)} seconds" if wait < 90 else f"too many tries; wait {round(wait / 60)} minutes"
        raise HTTPException(429, message, {"Retry-After": str(round(wait) + 1)})
    # The work is the same whether the person exists or not, so the time tells nothing.
    fits = password_fits(person.password if person and users.has_password(person) else _NOBODY, ask.password)
    if not person or not fits:
        if person:
            _refuse(app, person.name, "password", ask.mail, address)
        else:
            app.tries.wrong(ask.mail, address)
        raise HTTPException(401, "that mail address and password do not belong together")
    if person.second and not ask.code.strip():
        return problem(401, "now the code that your phone shows", needs="code")
    with app.db.writing() as s:
        # Taken within this transaction: a code is good once, also for two who tell it at the same moment.
        entered = not person.second or second_step.fits(
            Context(s, app.clock, "Sign-in").get(Person, person.id, "person"), app.connectors.credentials, ask.code
        )
        if entered:
            _enter(request, response, s, app, person.id)
    if not entered:
        _refuse(app, person.name, "code", ask.mail, address)
        return problem(401, "that code is not good, or was used already; wait for the next one", needs="code")
    app.tries.right(ask.mail, address)
    return here(request, app)


def _refuse(app: AppState, name: str, what: str, mail: str, address: str) -> None:
    """Count a wrong try, and write it down."""
    app.tries.wrong(mail, address)
    with app.db.writing() as s:
        Context(s, app.clock, "Sign-in").log("person.refused", name, f"a wrong {what} for {name}, from {address}", count=0)


_NOBODY = "$argon2id$v=19$m=65536,t=3,p=4$c29tZXNhbHRzb21lc2FsdA$GpZ3sK/oH9p7VIiV56G/64Zo/8GaUw434IimaPqxwCo"


def own_page(request: Request) -> None:
    if request.headers.get("x-amber-lane") != "1":
        raise HTTPException(403, "this call did not come from Amber Lane's own pages")


def address_of(request: Request) -> str:
    return request.client.host if request.client else ""


def _enter(request: Request, response: Response, s: Session, app: AppState, number: int) -> None:
    """Sign a person in, and end what this browser was signed in with."""
    if was := seated(request):
        sessions.end(s, was.token)
    context = Context(s, app.clock, "Sign-in")
    person = context.get(Person, number, "person")
    address = address_of(request)
    token = sessions.begin(s, person, address, request.headers.get("user-agent", ""))
    context.log("person.in", person.name, f"{person.name} signed in from {address}", count=0)
    life, settings = int(sessions.LONGEST.total_seconds()), app.settings
    path = settings.root or "/"
    response.set_cookie(cookie_of(app), token, life, path=path, secure=settings.sealed, httponly=True, samesite="strict")
    found = sessions.find(s, token)
    assert found is not None
    request.state.seated = seat(s, token, *found)


@router.post("/first")
def first_start(request: Request, response: Response, ask: FirstPerson, app: TheApp) -> Here:
    """Make the first account of a house that has none."""
    own_page(request)
    with app.db.writing() as s:
        context = Context(s, app.clock, ask.name)
        if users.any_there(context):
            raise HTTPException(409, "somebody is here already; sign in")
        person = users.make_person(context, ask.name, ask.mail, ask.password)
        set_usual_place(context, ask.country, ask.zone, ask.currency)
        make_templates(context)
        _enter(request, response, s, app, person.id)
    return here(request, app)


@router.delete("")
def sign_out(request: Request, response: Response, number: SignedIn, app: TheApp) -> Done:
    who = seated(request)
    assert who is not None
    with app.db.writing() as s:
        sessions.end(s, who.token)
        Context(s, app.clock, "Sign-in").log("person.out", who.name, f"{who.name} signed out", count=0)
    response.delete_cookie(cookie_of(app), path=app.settings.root or "/", secure=app.settings.sealed, httponly=True, samesite="strict")
    return Done(message=f"{who.name} signed out")
