"""What can go wrong outside, in our words. A connector maps its partner's errors to these once, at the edge."""

from __future__ import annotations


class OutsideError(Exception):
    """Any failure of a call to a partner; `told` is a sentence for a person."""

    def __init__(self, message: str) -> None:
        super().__init__(message)
        self.message = message


class Unavailable(OutsideError):
    """The call surely did not arrive, or only asked; it may be made again."""


class UnknownOutcome(OutsideError):
    """The call may or may not have done its work; ask by our reference before anything else."""


class CannotAsk(OutsideError):
    """It may have arrived, and nobody there can be asked; a person says what is to be done."""


class RateLimited(OutsideError):
    """Too many calls; nothing was done. `wait` in seconds."""

    def __init__(self, message: str, wait: float) -> None:
        super().__init__(message)
        self.wait = wait


class Postponed(OutsideError):
    """The partner understood and said not now; nothing was done, and the same may be taken later."""


class Refused(OutsideError):
    """The partner understood and said no; trying the same again is useless."""


class CarrierUnknown(Refused):
    """The store has no carrier by the name that we gave; by another name it would take the same number."""


class NotThere(Refused):
    """The partner does not have what was asked for."""


class Denied(Refused):
    """The key is wrong or may not do this."""


class Malformed(OutsideError):
    """The answer to a question cannot be read. Nothing was changed by it."""


# Why a change was not taken at its last try. Passing: it is tried again with growing waits, for as long as it takes; the others are
# final, and shown until a person settles them. `ours` is final after a number of tries: something breaks here each time.
PASSING = ("later", "busy", "away", "unknown", "denied")
# `unsure` may have arrived, and nobody can be asked: a person says whether it did.
FINAL = ("refused", "carrier", "ours", "unsure")


def fault_of(error: OutsideError) -> str:
    """The code of a failure, one of PASSING or FINAL."""
    kinds: tuple[tuple[type[OutsideError], str], ...] = (
        (CarrierUnknown, "carrier"),
        (Denied, "denied"),
        (Refused, "refused"),
        (Postponed, "later"),
        (RateLimited, "busy"),
        (CannotAsk, "unsure"),
        (UnknownOutcome, "unknown"),
    )
    return next((code for kind, code in kinds if isinstance(error, kind)), "away")
