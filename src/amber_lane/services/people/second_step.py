"""The second step of signing in: a code that a person's phone shows for half a minute (RFC 6238), or one of ten written down for the day
when the phone is lost."""

from __future__ import annotations

import base64
import hmac
import json
import secrets
from dataclasses import dataclass
from datetime import timedelta

from sqlalchemy import select
from sqlalchemy.orm import Session

from ...core.permissions import MANAGER
from ...data.setup import Person, Setting
from ..base.context import Context
from ..base.credentials import CredentialStore, password_fits
from ..base.errors import Conflict, Invalid
from .sessions import end_all, hash_of, now

# The name under which a phone shows the codes.
ISSUER = "Amber Lane"
SECONDS, RECOVERY_CODES = 30, 10
# How long a person may take from the picture to the first code.
BEGUN_FOR = timedelta(minutes=15)
RULE = "second_step"


@dataclass(frozen=True)
class Begun:
    """What a phone needs. secret: to type in by hand; picture: the same as an SVG to point it at; begun: comes back with the first code."""

    secret: str
    picture: str
    begun: str


def begin(context: Context, credentials: CredentialStore) -> Begun:
    """A fresh secret for the person who asks. Nothing changes before its first code is told."""
    import pyotp
    import segno

    person = _me(context)
    secret = pyotp.random_base32()
    address = pyotp.TOTP(secret).provisioning_uri(name=person.mail, issuer_name=ISSUER)
    picture = segno.make(address, error="m").svg_data_uri(scale=5, border=2)
    return Begun(secret, picture, credentials.seal(json.dumps([person.id, secret, now().timestamp()])))


def turn_on(context: Context, credentials: CredentialStore, begun: str, code: str, password: str, token: str, old: str = "") -> list[str]:
    """From now on a code is asked for, or those of a new phone instead of the old one's. Returns the recovery codes, which are never
    shown again; other sign-ins end. old: a code of the phone until now, where there is one."""
    person = _me(context)
    _own_password(person, password)
    if person.second and not fits(person, credentials, old):
        raise Invalid("that code of the old phone is not good, or was used already", {"old": "is not good"})
    secret = _begun_by(person, credentials, begun)
    step = _step_of(secret, code, after=0)
    if not step:
        raise Invalid("that is not the code that is shown now; is the time of the phone right?", {"code": "does not fit"})
    person.second, person.second_step = credentials.seal(secret), step
    n = end_all(context.session, person.id, but=token)
    message = f"{person.name} signs in with a code from now on" + (f"; {n} other sign-ins ended" if n else "")
    context.log("person.second", person.name, message)
    return _codes(person)


def fits(person: Person, credentials: CredentialStore, code: str) -> bool:
    """Whether a code is good now; it is used up by this. Within a transaction that writes, so that it is good once only."""
    plain = _plain(code)
    if plain.isdecimal() and len(plain) == 6:
        try:
            secret = credentials.open(person.second)
        except Conflict:
            # Sealed under another AMBER_LANE_SECRET: no phone fits any more, recovery codes still do.
            return False
        step = _step_of(secret, plain, after=person.second_step)
        person.second_step = step or person.second_step
        return bool(step)
    mine = [one for one in person.recovery if hmac.compare_digest(one, hash_of(plain))]
    if mine:
        person.recovery = [one for one in person.recovery if one not in mine]
    return bool(mine)


def turn_off(context: Context, credentials: CredentialStore, password: str, code: str) -> None:
    """A person goes back to the password alone, where the house lets them."""
    person = _proven(context, credentials, password, code)
    if person.role == MANAGER and required(context.session):
        raise Conflict("managers here sign in with a code; set up a new phone in place of the old one")
    forget(person)
    context.log("person.second", person.name, f"{person.name} signs in by password alone from now on")


def fresh_codes(context: Context, credentials: CredentialStore, password: str, code: str) -> list[str]:
    """Ten new recovery codes; the old ones are good for nothing any more."""
    person = _proven(context, credentials, password, code)
    context.log("person.second", person.name, f"{person.name} made new recovery codes")
    return _codes(person)


def take_away(context: Context, number: int, version: int) -> str:
    """A manager lets somebody in again who lost phone and codes: the password alone is asked for, until they set it up anew."""
    person = context.get_version(Person, number, version, "person")
    if person.id == context.person:
        raise Conflict("your own is turned off with a code of yours, under A code beside the password")
    if not person.second:
        raise Conflict(f"{person.name} has no code to take away")
    forget(person)
    end_all(context.session, person.id)
    message = f"{person.name} signs in without a code until it is set up anew"
    context.log("person.second", person.name, message, reason="a manager took it away")
    return message


def required(s: Session) -> bool:
    """Whether managers must have one."""
    return bool(s.scalar(select(Setting.value).where(Setting.name == RULE)))


def set_required(context: Context, on: bool) -> str:
    """Managers without a second step see nothing but where it is set up. Conflict for who has none: they would lock themselves out."""
    if on and not _me(context).second:
        raise Conflict("set up your own code first")
    row = context.session.scalar(select(Setting).where(Setting.name == RULE))
    if row is None:
        row = Setting(name=RULE, value={})
        context.session.add(row)
    row.value = {"managers": True} if on else {}
    message = "Managers sign in with a code from now on" if on else "A code is each manager's own choice from now on"
    context.log("person.rule", "house", message)
    return message


def _me(context: Context) -> Person:
    return context.get(Person, context.person or 0, "person")


def _own_password(person: Person, password: str) -> None:
    if not password_fits(person.password, password):
        raise Invalid("that is not your password", {"password": "is not yours"})


def _proven(context: Context, credentials: CredentialStore, password: str, code: str) -> Person:
    person = _me(context)
    if not person.second:
        raise Conflict("you sign in without a code")
    _own_password(person, password)
    if not fits(person, credentials, code):
        raise Invalid("that code is not good, or was used already", {"code": "is not good"})
    return person


def _begun_by(person: Person, credentials: CredentialStore, begun: str) -> str:
    """The secret that a person began with; Invalid when it is another's, or too old."""
    try:
        number, secret, at = json.loads(credentials.open(begun))
    except (Conflict, ValueError):
        number, secret, at = 0, "", 0.0
    if number != person.id or now().timestamp() - at > BEGUN_FOR.total_seconds():
        raise Invalid("this took too long; begin anew with a fresh picture", {"code": "began too long ago"})
    return str(secret)


def _step_of(secret: str, code: str, after: int) -> int:
    """The half minute (counted from 1970) whose code this is, of the one now and its neighbours; 0 = none, or one up to `after`."""
    import pyotp

    here, shown = int(now().timestamp()) // SECONDS, pyotp.HOTP(secret)
    fit = [step for step in (here - 1, here, here + 1) if step > after and hmac.compare_digest(shown.at(step), _plain(code))]
    return fit[0] if fit else 0


def _codes(person: Person) -> list[str]:
    codes = [base64.b32encode(secrets.token_bytes(10)).decode().lower() for _ in range(RECOVERY_CODES)]
    person.recovery = [hash_of(one) for one in codes]
    return ["-".join(one[i : i + 4] for i in range(0, len(one), 4)) for one in codes]


def _plain(code: str) -> str:
    """As it is compared: without what people and phones put between its letters."""
    return "".join(letter for letter in code.lower() if letter.isascii() and letter.isalnum())


def forget(person: Person) -> None:
    """No second step any more."""
    person.second, person.second_step, person.recovery = "", 0, []
