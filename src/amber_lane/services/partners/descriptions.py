"""Descriptions of partners' interfaces: drafted, kept, switched on for a partner, and put back."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any

import yaml
from sqlalchemy import func, select

from ...connectors.described.expressions import BadDocument
from ...connectors.described.load import BadDescription, Fault, checksum, load, parse, shipped
from ...connectors.described.make import abilities_of
from ...connectors.described.openapi import draft
from ...connectors.described.schema import Description as Described
from ...connectors.described.schema import Owner
from ...connectors.kinds import DESCRIBED
from ...data.descriptions import Description, DescriptionVersion
from ...data.outbox import AuditEntry
from ...data.setup import Link
from ..base import undoing
from ..base.context import Context
from ..base.credentials import CredentialStore
from ..base.errors import Conflict, Invalid
from ..base.partner_identity import OWNERS, plain_address
from .registry import link_of

NAME_MOST = 80
# An OpenAPI document says far more than is needed of it.
OPENAPI_MOST = 4_000_000


@dataclass(frozen=True)
class Difference:
    """One place of a description that reads differently; '' = it is not there."""

    place: str
    before: str
    after: str


@dataclass(frozen=True)
class Use:
    """A partner that is spoken to by a description. version: the number of the version."""

    owner: str
    id: int
    name: str
    version: int
    version_id: int


def text_of(data: object) -> str:
    """A description's data as its text."""
    return yaml.safe_dump(data, sort_keys=False, allow_unicode=True, width=140)


def checked(text: str) -> tuple[Any, list[Fault]]:
    """What a text holds as plain data (None where it cannot be read), and what is wrong in it."""
    try:
        data = parse(text)
    except BadDescription as error:
        return None, error.faults
    try:
        load(text)
    except BadDescription as error:
        return data, error.faults
    return data, []


def usable(text: str) -> Described:
    """A description that can be used. Invalid names what is wrong."""
    try:
        return load(text)
    except BadDescription as error:
        raise Invalid(f"the description cannot be used yet: {error}", {one.place or "text": one.message for one in error.faults}) from error


def all_of(context: Context) -> Sequence[Description]:
    return context.session.scalars(select(Description).order_by(Description.name, Description.id)).all()


def versions_of(context: Context, number: int) -> Sequence[DescriptionVersion]:
    """The newest first."""
    mine = select(DescriptionVersion).where(DescriptionVersion.description_id == number)
    return context.session.scalars(mine.order_by(DescriptionVersion.number.desc())).all()


def uses(context: Context, number: int) -> list[Use]:
    """Partners that are spoken to by a description, whatever its version."""
    rows = context.session.execute(
        select(Link, DescriptionVersion)
        .join(DescriptionVersion, DescriptionVersion.id == Link.description_version_id)
        .where(DescriptionVersion.description_id == number)
        .order_by(Link.id)
    ).tuples()
    out = []
    for link, version in rows:
        row = context.get(OWNERS[link.owner], link.owner_id, link.owner)
        out.append(Use(link.owner, link.owner_id, row.name, version.number, version.id))
    return out


def _named(context: Context, name: str, besides: int | None = None) -> str:
    name = " ".join(name.split())
    if not 1 <= len(name) <= NAME_MOST:
        raise Invalid(f"give it a name of up to {NAME_MOST} letters", {"name": f"must have 1 to {NAME_MOST} letters"})
    for row in all_of(context):
        if row.id != besides and row.name.casefold() == name.casefold():
            raise Conflict(f"there is a description called {row.name} already; give this one another name")
    return name


def start(context: Context, owner: str, name: str, text: str = "") -> Description:
    """Begin a description: an empty one, or one that somebody shared. Invalid where the text is none of this kind of partner."""
    name = _named(context, name)
    if text:
        data, _ = checked(text)
        if not isinstance(data, dict):
            raise Invalid("this is not a description; it is a text in YAML or JSON that names operations", {"text": "cannot be read"})
        if data.get("owner") not in {one.value for one in Owner}:
            raise Invalid("the description does not say what kind of partner it is of (owner)", {"text": "has no owner"})
        owner = str(data["owner"])
    elif owner not in {one.value for one in Owner}:
        raise Invalid("choose what kind of partner it is", {"owner": "is not one of the kinds"})
    else:
        text = text_of({"version": 1, "name": name, "owner": owner, "operations": {}})
    row = Description(
        owner=owner, name=name, text=text, made_at=context.now, changed_at=context.now, person_id=context.person, certificate=None
    )
    context.session.add(row)
    context.session.flush()
    context.log("description.start", str(row.id), f"{name}: a description was begun")
    return row


def from_openapi(context: Context, owner: str, name: str, text: str) -> Description:
    """Begin with what an OpenAPI 3 document proposes. Invalid where it is none."""
    try:
        made = draft(parse(text, OPENAPI_MOST), Owner(owner), " ".join(name.split())[:NAME_MOST] or "x")
    except (BadDescription, BadDocument) as error:
        raise Invalid(f"the document cannot be read: {error}", {"text": str(error)}) from error
    except ValueError as error:
        raise Invalid("choose what kind of partner it is", {"owner": "is not one of the kinds"}) from error
    return start(context, owner, name, text_of(made))


def copy_shipped(context: Context, which: str, name: str) -> Description:
    """Begin with one that comes with the application."""
    known = shipped()
    if which not in known:
        raise Invalid(f"there is no description called {which}; there are {', '.join(known)}")
    return start(context, "", name, known[which])


def save(context: Context, number: int, version: int | None, text: str) -> Description:
    """Keep the text as it stands, finished or not. Partners that are spoken to by it go on with the version that was switched on."""
    row = context.get_version(Description, number, version, "description")
    data, _ = checked(text)
    if isinstance(data, dict) and data.get("owner") not in (None, row.owner):
        raise Invalid(f"this one is of a {row.owner}; begin another for a {data['owner']}", {"owner": "cannot be changed"})
    row.text, row.changed_at = text, context.now
    return row


def rename(context: Context, number: int, version: int | None, name: str) -> Description:
    row = context.get_version(Description, number, version, "description")
    row.name = _named(context, name, number)
    return row


def set_trial(context: Context, credentials: CredentialStore, number: int, address: str, key: str) -> Description:
    """What it is tried with; an empty key keeps the one from before."""
    row = context.get(Description, number, "description")
    row.address = plain_address(address) if address.strip() else ""
    if key.strip():
        row.sealed_key = credentials.seal(key.strip())
    return row


def key_to_join(context: Context, credentials: CredentialStore, number: int) -> str:
    """The key that a description is tried with, for a partner that is connected by it. Invalid where none is kept."""
    row = context.get(Description, number, "description")
    if not row.sealed_key:
        raise Invalid("give its key; none is kept with the description", {"key": "is empty"})
    return credentials.open(row.sealed_key)


def needs_key(text: str) -> bool:
    return load(text).sign_in.kind != "none"


def hand_over_key(context: Context, number: int) -> None:
    """A partner was connected with the key of the description: a token that the partner renews is the partner's from now on."""
    row = context.get(Description, number, "description")
    if load(row.text).sign_in.kind == "oauth_code":
        row.sealed_key = ""


def remove(context: Context, number: int) -> str:
    """Remove one that nobody is spoken to by. Cannot be undone; export it first."""
    row = context.get(Description, number, "description")
    if used := uses(context, number):
        raise Conflict(f"{used[0].name} is spoken to by it; disconnect it first")
    for version in versions_of(context, number):
        context.session.delete(version)
    context.session.flush()
    context.session.delete(row)
    context.log("description.remove", str(number), f"{row.name}: the description was removed")
    return row.name


def keep(context: Context, number: int) -> DescriptionVersion:
    """The description as it stands now, as a version that never changes again; the newest one, where that says the same."""
    row = context.get(Description, number, "description")
    usable(row.text)
    mark = checksum(row.text)
    last = next(iter(versions_of(context, number)), None)
    certificate = row.certificate if row.certificate and row.certificate.get("checksum") == mark else None
    if last is not None and last.checksum == mark:
        last.certificate = certificate or last.certificate
        return last
    made = DescriptionVersion(
        description_id=number,
        number=(last.number if last else 0) + 1,
        text=row.text,
        checksum=mark,
        certificate=certificate,
        at=context.now,
        person_id=context.person,
    )
    context.session.add(made)
    context.session.flush()
    return made


def differences(before: str, after: str) -> list[Difference]:
    """What reads differently in two texts of a description."""
    old, new = (dict(_flat(load(text).model_dump(mode="json", by_alias=True, exclude_defaults=True), "")) for text in (before, after))
    return [Difference(place, old.get(place, ""), new.get(place, "")) for place in sorted({*old, *new}) if old.get(place) != new.get(place)]


def ready(context: Context, number: int) -> Description:
    """A description that can be used as it stands. Invalid names what is wrong."""
    row = context.get(Description, number, "description")
    usable(row.text)
    return row


def tells_terms(text: str) -> bool:
    """Whether a supplier's description says how its warehouses and ways of sending are asked for."""
    return "origins" in load(text).operations


def since(context: Context, number: int, version: int) -> list[Difference]:
    """What reads differently now from a version that was kept, by its number."""
    row = ready(context, number)
    kept = next((one for one in versions_of(context, number) if one.number == version), None)
    if kept is None:
        raise Invalid(f"there is no version {version}")
    return differences(kept.text, row.text)


def _flat(value: object, place: str) -> Iterator[tuple[str, str]]:
    if isinstance(value, dict):
        for key, one in value.items():
            yield from _flat(one, f"{place}.{key}" if place else str(key))
    elif isinstance(value, list) and any(isinstance(one, dict) for one in value):
        for n, one in enumerate(value):
            yield from _flat(one, f"{place}.{n}")
    else:
        yield place, ", ".join(map(str, value)) if isinstance(value, list) else str(value)


def speak_by(link: Link, version: DescriptionVersion) -> None:
    """From now on a link's partner is spoken to by a version."""
    link.description_version_id = version.id
    link.can = sorted(one.value for one in abilities_of(load(version.text)))


def text_by(context: Context, link: Link) -> str:
    """What a link's partner is spoken to by; '' where it has no description."""
    number = link.description_version_id
    return "" if number is None else context.get(DescriptionVersion, number, "version of a description").text


def switch(context: Context, number: int, owner: str, partner: int) -> str:
    """Speak to a partner by the description as it stands now. Can be undone."""
    description = context.get(Description, number, "description")
    link, row = link_of(context, owner, partner), context.get(OWNERS[owner], partner, owner)
    if getattr(row, "kind", "") != DESCRIBED or description.owner != owner:
        raise Conflict(f"{row.name} is not spoken to by a description of a {description.owner}")
    version = keep(context, number)
    before = link.description_version_id
    if before == version.id:
        raise Conflict(f"{row.name} is spoken to by version {version.number} already")
    speak_by(link, version)
    message = f"{row.name} is spoken to by version {version.number} of {description.name}"
    about = {"owner": owner, "id": partner, "version": before}
    context.log("description.switch", f"{owner}:{partner}", message, before=about, undo=True)
    return message


@undoing.undoes("description.switch", whole=True)
def _switch_back(context: Context, act: AuditEntry) -> None:
    was = undoing.before(act)
    version = context.get(DescriptionVersion, was["version"], "version of the description")
    speak_by(link_of(context, was["owner"], was["id"]), version)


def version_to_join(context: Context, number: int, owner: str) -> DescriptionVersion:
    """The version by which a new partner is spoken to. Invalid where there is none that can be used."""
    row = context.get(Description, number, "description")
    if row.owner != owner:
        raise Invalid(f"{row.name} describes a {row.owner}", {"description": f"is of a {row.owner}"})
    return keep(context, number)


def count_versions(context: Context) -> dict[int, int]:
    """How many versions each description has."""
    rows = select(DescriptionVersion.description_id, func.count()).group_by(DescriptionVersion.description_id)
    return dict(context.session.execute(rows).tuples().all())
