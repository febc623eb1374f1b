"""A person's consent at a partner, asked for from the workbench of its description and brought back by their browser."""

from __future__ import annotations

import json
import secrets
from dataclasses import dataclass
from datetime import timedelta

from ...connectors.described import consent
from ...connectors.described.schema import Description as Meant
from ...connectors.errors import OutsideError
from ...data.descriptions import Description
from ..base.context import Context
from ..base.credentials import CredentialStore
from ..base.errors import Conflict, Invalid
from .description_trials import trial_of
from .registry import ConnectorRegistry

# For so long a consent that was begun can be brought back.
GOOD_FOR = timedelta(minutes=15)


@dataclass(frozen=True)
class Began:
    """A sign-in that was begun. verifier: what only we know of it."""

    number: int
    description: Meant
    address: str
    key: str
    verifier: str


def begin(context: Context, connectors: ConnectorRegistry, number: int, back: str) -> str:
    """Where the person goes to give their consent. Invalid says what is to be said first."""
    trial = trial_of(context, connectors, number)
    verifier = secrets.token_urlsafe(48)
    until = (context.now + GOOD_FOR).timestamp()
    state = connectors.credentials.seal(json.dumps([number, context.person, until, verifier]))
    try:
        return consent.ask_for(trial.description, trial.address, trial.key, back, state, verifier)
    except OutsideError as error:
        raise Invalid(error.message) from error


def came_back(context: Context, connectors: ConnectorRegistry, state: str) -> Began:
    """What was begun, by its own word. Conflict where it is not this person's, or too old."""
    try:
        number, person, until, verifier = json.loads(connectors.credentials.open(state))
    except (Conflict, ValueError, TypeError):
        raise Conflict("this sign-in was not begun here; begin it once more") from None
    if person != context.person or context.now.timestamp() > until:
        raise Conflict("this sign-in is over; begin it once more")
    trial = trial_of(context, connectors, number)
    return Began(number, trial.description, trial.address, trial.key, str(verifier))


def exchanged(connectors: ConnectorRegistry, began: Began, code: str, back: str) -> str:
    """The key that the consent is worth; called outside a transaction. Errors are the connectors'."""
    return consent.key_for(
        began.description, began.address, began.key, code, began.verifier, back, connectors.deadline, connectors.transport
    )


def keep(context: Context, credentials: CredentialStore, number: int, key: str) -> str:
    row = context.get(Description, number, "description")
    row.sealed_key = credentials.seal(key)
    message = f"{row.name}: signed in at the partner"
    context.log("description.sign_in", str(number), message)
    return message
