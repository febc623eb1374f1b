"""One's own sign-ins, password and second step; and the way back in for who forgot the password."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from datetime import datetime
from typing import Annotated

from fastapi import APIRouter, BackgroundTasks, HTTPException, Request
from pydantic import BaseModel, StringConstraints

from ...services.base.context import Context
from ...services.base.errors import Invalid
from ...services.people import password_reset, second_step, sessions
from ..deps import AppState, ReadContext, SignedIn, TheApp, WriteContext, app_state, seated
from ..schemas import Ask, Big, Done
from .sign_in import Code, Mail, Password, address_of, own_page

router = APIRouter(prefix="/session", tags=["session"])


class SignInOut(BaseModel):
    """One of one's own sign-ins. this: the one that asks."""

    id: int
    at: datetime
    seen_at: datetime
    address: str
    program: str
    this: bool


@router.get("/mine")
def sign_ins(request: Request, number: SignedIn, app: TheApp) -> list[SignInOut]:
    """Where one is signed in."""
    who = seated(request)
    with app.db.reading() as s:
        columns = ("id", "at", "seen_at", "address", "program")
        rows = sessions.mine(s, number)
        return [SignInOut(**{name: getattr(one, name) for name in columns}, this=who is not None and one.id == who.number) for one in rows]


@router.delete("/mine/{one}")
def end_sign_in(context: WriteContext, one: Big) -> Done:
    sessions.end_one(context, one)
    return Done(message="That sign-in is ended")


class PasswordAsk(Ask):
    was: Password
    fresh: Password


@contextmanager
def _counted(request: Request) -> Iterator[str]:
    """Whoever sits at somebody else's open page tries passwords and codes no faster than at the door. The secret of the sign-in."""
    who, app = seated(request), app_state(request)
    mine, address = (f"person {who.person}" if who else ""), address_of(request)
    if (wait := app.tries.wait(mine, address, True)) > 0:
        raise HTTPException(429, f"too many tries; wait {round(wait)} seconds", {"Retry-After": str(round(wait) + 1)})
    try:
        yield who.token if who else ""
    except Invalid:
        app.tries.wrong(mine, address)
        raise
    app.tries.right(mine, address)


@router.post("/password")
def change_password(request: Request, context: WriteContext, ask: PasswordAsk) -> Done:
    """One's own password; all other sign-ins of one's own end."""
    with _counted(request) as token:
        sessions.change_password(context, token, ask.was, ask.fresh)
    return Done(message="Your password is changed; your other sign-ins are ended")


class ForgottenAsk(Ask):
    mail: Mail


@router.post("/forgotten")
def forgot_password(request: Request, ask: ForgottenAsk, app: TheApp, after: BackgroundTasks) -> Done:
    """Have a link mailed under which a new password is said. The answer is the same, and as fast, whether anybody signs in so or not."""
    own_page(request)
    address = address_of(request)
    if (wait := app.links.wait(ask.mail, address, False)) > 0:
        raise HTTPException(429, f"asked for too often; wait {max(round(wait / 60), 1)} minutes", {"Retry-After": str(round(wait) + 1)})
    app.links.wrong(ask.mail, address)
    after.add_task(_mail_link, app, ask.mail, address)
    return Done(message="If somebody signs in with that address, a mail with a link is on its way; it is good for an hour")


def _mail_link(app: AppState, mail: str, address: str) -> None:
    with app.db.reading() as s:
        known = password_reset.signs_in(s, mail)
    if known:
        with app.db.writing() as s:
            password_reset.ask(Context(s, app.clock, "Sign-in"), mail, f"{app.settings.address}/", address)


class NewPasswordAsk(Ask):
    link: Annotated[str, StringConstraints(max_length=100)]
    password: Password


@router.post("/new-password")
def say_new_password(request: Request, ask: NewPasswordAsk, app: TheApp) -> Done:
    """A new password by a mailed link. Signing in with it comes after, with the second step where there is one."""
    own_page(request)
    address = address_of(request)
    if (wait := app.links.wait("a link", address, False)) > 0:
        raise HTTPException(429, f"too many tries; wait {max(round(wait / 60), 1)} minutes", {"Retry-After": str(round(wait) + 1)})
    with app.db.reading() as s:
        good = password_reset.is_good(s, ask.link)
    if not good:
        app.links.wrong("a link", address)
        raise Invalid(password_reset.NO_MORE)
    with app.db.writing() as s:
        mail = password_reset.say_anew(Context(s, app.clock, "Sign-in"), ask.link, ask.password)
    return Done(message=f"Sign in as {mail} with the new password")


class InvitedOut(BaseModel):
    """Who is invited, as what, by the link that they opened."""

    name: str
    mail: str
    role: str


class LinkAsk(Ask):
    link: Annotated[str, StringConstraints(max_length=100)]


def _by_link(request: Request, app: AppState, link: str) -> InvitedOut:
    """Whose invitation it is; as slow for who tries links as everywhere."""
    own_page(request)
    address = address_of(request)
    if (wait := app.links.wait("a link", address, False)) > 0:
        raise HTTPException(429, f"too many tries; wait {max(round(wait / 60), 1)} minutes", {"Retry-After": str(round(wait) + 1)})
    with app.db.reading() as s:
        person = password_reset.invited(s, link)
        if person is not None:
            return InvitedOut(name=person.name, mail=person.mail, role=person.role)
    app.links.wrong("a link", address)
    raise Invalid("this link is good no more; ask whoever invited you for a new one")


@router.post("/invitation")
def invitation(request: Request, ask: LinkAsk, app: TheApp) -> InvitedOut:
    """Whose invitation a link is."""
    return _by_link(request, app, ask.link)


class AcceptAsk(LinkAsk):
    name: Annotated[str, StringConstraints(min_length=1, max_length=80)]
    password: Password


@router.post("/invitation/accept")
def accept(request: Request, ask: AcceptAsk, app: TheApp) -> Done:
    """Say one's name and password by an invitation. Signing in with them comes after."""
    _by_link(request, app, ask.link)
    with app.db.writing() as s:
        person = password_reset.accept(Context(s, app.clock, "Sign-in"), ask.link, ask.name, ask.password)
        mail = person.mail
    return Done(message=f"Sign in as {mail} with your password")


class Proof(Ask):
    """Who asks once more: the password, and a code that is good now."""

    password: Password
    code: Code


class Begun(BaseModel):
    """What a phone needs; see services.people.second_step."""

    secret: str
    picture: str
    begun: str


class FirstCode(Proof):
    """old: a code of the phone until now, where there is one."""

    old: Code = ""
    begun: Annotated[str, StringConstraints(max_length=2000)]


class Codes(Done):
    """Recovery codes, shown this once."""

    codes: list[str]


@router.post("/second/begin")
def begin_second_step(context: ReadContext, app: TheApp) -> Begun:
    return Begun.model_validate(second_step.begin(context, app.connectors.credentials), from_attributes=True)


@router.post("/second")
def turn_on_second_step(request: Request, context: WriteContext, ask: FirstCode, app: TheApp) -> Codes:
    with _counted(request) as token:
        codes = second_step.turn_on(context, app.connectors.credentials, ask.begun, ask.code, ask.password, token, ask.old)
    return Codes(message="From now on you sign in with a code too", codes=codes)


@router.post("/second/off")
def turn_off_second_step(request: Request, context: WriteContext, ask: Proof, app: TheApp) -> Done:
    with _counted(request):
        second_step.turn_off(context, app.connectors.credentials, ask.password, ask.code)
    return Done(message="You sign in by password alone from now on")


@router.post("/second/codes")
def new_recovery_codes(request: Request, context: WriteContext, ask: Proof, app: TheApp) -> Codes:
    with _counted(request):
        codes = second_step.fresh_codes(context, app.connectors.credentials, ask.password, ask.code)
    return Codes(message="These are good from now on; the old ones are not", codes=codes)
