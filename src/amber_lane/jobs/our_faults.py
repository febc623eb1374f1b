"""What breaks on our side of a call: it holds up its own row alone, and is put before a person after so many tries."""

from __future__ import annotations

from typing import TypeGuard

from sqlalchemy.exc import OperationalError

from ..connectors.errors import OutsideError, UnknownOutcome
from ..data.turns import TooLong

# A change that breaks something here at each of so many tries is given up. One that the outside does not take for the
# moment is tried for as long as it takes.
TRIES_MAX = 12
SENDING = "something broke here while it was sent; the server's log says what"
TAKING_IN = "its answer could not be taken in here; the server's log says why"


class OurFault(UnknownOutcome):
    """Something broke on our side of a call: the partner is not to blame, and nobody knows how far it got."""


def is_theirs(error: OutsideError | None) -> TypeGuard[OutsideError]:
    """Whether a partner is in trouble: what broke here says nothing about it, and its other rows go on."""
    return error is not None and not isinstance(error, OurFault)


def is_ours(error: BaseException) -> bool:
    """Whether something broke with the rows in hand: not the partner, not a process that ends, not a database that others hold."""
    return isinstance(error, Exception) and not isinstance(error, (OutsideError, OperationalError, TooLong))


def given_up(message: str, tries: int) -> str:
    """What is said of a change that broke something here at its last try; "" where it has tries left."""
    return f"{message} (tried {tries} times)" if tries >= TRIES_MAX else ""
