"""A description tried beside its partner's live answers: questions asked, writes shown, and the certificate of what holds."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from contextlib import suppress
from dataclasses import asdict, dataclass
from typing import Any

from pydantic import ValidationError
from sqlalchemy import select

from ...connectors.described.certify import Allowed, Outcome, certify
from ...connectors.described.expressions import BadDocument
from ...connectors.described.fields import OPERATIONS
from ...connectors.described.load import checksum
from ...connectors.described.make import Described, make
from ...connectors.described.propose import propose
from ...connectors.described.schema import Description as Meant
from ...connectors.described.sign_in import Save
from ...connectors.described.trial import ShownCall, Tried, show_call, try_read
from ...connectors.errors import OutsideError, Refused
from ...connectors.http import Caller
from ...data.descriptions import Description
from ...data.setup import Store
from ..base.context import Context
from ..base.errors import Invalid
from ..base.partner_identity import plain_address
from ..base.regional import place_of
from .descriptions import Use, all_of, checked, uses, versions_of
from .registry import ConnectorRegistry

# What a wrong key is tried as: as many parts as any has.
DOCUMENT_MOST = 4_000_000
_STRANGER = "nobody:nothing:nowhere"


@dataclass(frozen=True)
class Trial:
    """What a description is tried with, out of any transaction."""

    description: Meant
    address: str
    key: str
    text: str
    save: Save | None = None


def trial_of(context: Context, connectors: ConnectorRegistry, number: int) -> Trial:
    """Also of a description that is not finished, as long as it has the form of one. Invalid where there is no address yet."""
    row = context.get(Description, number, "description")
    described = _formed(row.text)
    address = row.address or described.practice or described.address
    if not address:
        raise Invalid("say at which address it is tried", {"address": "is empty"})
    return Trial(described, address, connectors.credentials.open(row.sealed_key), row.text, connectors.saver("description", number))


def _formed(text: str) -> Meant:
    data, faults = checked(text)
    try:
        return Meant.model_validate(data)
    except ValidationError as error:
        first = faults[0] if faults else None
        raise Invalid(f"it cannot be tried yet: {first.place}: {first.message}" if first else "it cannot be tried yet") from error


def opened(trial: Trial, connectors: ConnectorRegistry, key: str | None = None) -> Described:
    save = trial.save if key is None else None
    return make(trial.description, trial.address, trial.key if key is None else key, connectors.deadline, connectors.transport, save)


def document_at(connectors: ConnectorRegistry, address: str) -> str:
    """A partner's OpenAPI document from its address; called outside a transaction. Invalid where it cannot be had."""
    where = plain_address(address)
    if not where.startswith(("http://", "https://")) or "/" not in where[8:]:
        raise Invalid("an address of a document begins with https://", {"openapi_address": "is none"})
    try:
        host, path = where[: where.find("/", 8)], where[where.find("/", 8) :]
        return Caller("the document's server", host, {}, connectors.deadline, connectors.transport).fetch(path).text[:DOCUMENT_MOST]
    except OutsideError as error:
        raise Invalid(error.message, {"openapi_address": error.message}) from error


def ask(trial: Trial, connectors: ConnectorRegistry, name: str, given: Mapping[str, Any]) -> Tried:
    """One question, with what is read of its answer. Invalid where it is none, or would change something there."""
    if name not in trial.description.operations or name not in OPERATIONS[trial.description.owner]:
        raise Invalid("the description has no such operation yet", {"operation": "is not described"})
    if OPERATIONS[trial.description.owner][name].writes:
        raise Invalid("this changes something there; it is tried with the certificate, on one chosen thing", {"operation": "writes"})
    partner = opened(trial, connectors)
    if not partner.call.currency and name != "account" and "account" in trial.description.operations:
        # Amounts are read in the partner's money, which its account may tell.
        with suppress(OutsideError):
            partner.account()
    return try_read(partner.call, name, given)


def shown(trial: Trial, name: str, given: Mapping[str, Any]) -> ShownCall:
    """A write as the call that it would be; nothing is sent."""
    try:
        return show_call(trial.description, trial.address, name, given)
    except Refused as error:
        raise Invalid(error.message) from error


def looked_through(trial: Trial, connectors: ConnectorRegistry, allowed: Allowed) -> dict[str, Any]:
    """The certificate: what holds, what does not, what was not tried; with the checksum of what it is of."""
    checks = certify(opened(trial, connectors), opened(trial, connectors, _STRANGER), allowed)
    return {"checksum": checksum(trial.text), "address": trial.address, "checks": [asdict(one) for one in checks]}


def summary(checks: list[dict[str, Any]]) -> str:
    """A certificate in a sentence."""
    count = {one: sum(check["outcome"] == one.value for check in checks) for one in Outcome}
    parts = [f"{count[Outcome.holds]} of {len(checks)} hold"]
    parts += [f"{count[Outcome.fails]} do not"] if count[Outcome.fails] else []
    parts += [f"{count[Outcome.told]} to know of"] if count[Outcome.told] else []
    parts += [f"{count[Outcome.untried]} not tried"] if count[Outcome.untried] else []
    return ", ".join(parts)


def keep_certificate(context: Context, number: int, certificate: dict[str, Any]) -> str:
    """Write a certificate down; it is worth nothing once the description reads otherwise, which its checksum shows."""
    row = context.get(Description, number, "description")
    row.certificate = {**certificate, "at": context.now.isoformat()}
    message = f"{row.name}: {summary(certificate['checks'])}"
    context.log("description.certify", str(number), message)
    return message


def proposed(context: Context, number: int, name: str, example: str) -> dict[str, Any]:
    """What an operation may read of an example of its answer, as a part of a description."""
    row = context.get(Description, number, "description")
    described = _formed(row.text)
    if name not in OPERATIONS[row.owner]:
        raise Invalid(f"a {row.owner} has no such operation", {"operation": "is none"})
    try:
        found = propose(described, name, example)
    except BadDocument as error:
        raise Invalid(f"the example cannot be read: {error}", {"example": str(error)}) from error
    part: dict[str, Any] = {"read": found.read.value, "rows": found.rows, "fields": found.fields}
    if found.whole:
        part["whole"] = found.whole
    if found.paging:
        part["paging"] = found.paging
    if found.delimiter != ",":
        part["delimiter"] = found.delimiter
    return {"operation": part, "namespaces": found.namespaces}


def certificate_text(row: Description) -> str:
    """A certificate to be read and kept. Invalid where there is none."""
    kept = row.certificate
    if not kept:
        raise Invalid(f"{row.name} was not tried yet")
    said = {"holds": "holds", "fails": "DOES NOT HOLD", "told": "to know of", "untried": "not tried"}
    lines = []
    for one in kept["checks"]:
        lines.append(f"{said[one['outcome']]:14} {one['about']}")
        lines += [f"{'':15}{one['message']}"] if one["message"] else []
    head = [row.name, f"tried at {kept['address']} on {kept['at'][:16].replace('T', ' ')} UTC", f"description {kept['checksum'][:16]}"]
    return "\n".join([*head, "", summary(kept["checks"]), "", *lines, ""])


def practice_address(context: Context) -> dict[str, Any] | None:
    """Whom a trial purchase goes to: somebody made up, in the house's own country, or in its first store's."""
    country = place_of(context.session).country or context.session.scalar(select(Store.country).order_by(Store.id).limit(1))
    if not country:
        return None
    return {"name": "Trial Buyer", "address_1": "1 Trial Street", "city": "Trial", "postcode": "00000", "country": country}


def in_words(context: Context) -> Iterator[tuple[str, Use]]:
    """Of every partner by a description: which one and version, and what is certified of it."""
    for row in all_of(context):
        versions = {one.id: one for one in versions_of(context, row.id)}
        for use in uses(context, row.id):
            kept = versions[use.version_id].certificate
            yield f"{row.name}, version {use.version}: {summary(kept['checks']) if kept else 'not certified'}", use
