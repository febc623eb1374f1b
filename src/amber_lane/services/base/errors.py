"""The errors of a use case that a person can be told."""

from __future__ import annotations

from ...core.permissions import Limit


class UseCaseError(Exception):
    """A use case that cannot go on; `told` says what happened and what to do."""

    def __init__(self, message: str) -> None:
        super().__init__(message)
        self.message = message


class NotFound(UseCaseError):
    pass


class Invalid(UseCaseError):
    """What was given cannot be used. fields: name -> what is wrong with it."""

    def __init__(self, message: str, fields: dict[str, str] | None = None) -> None:
        super().__init__(message)
        self.fields = fields or {}


class Conflict(UseCaseError):
    """The thing is not in a state for this, or somebody else changed it meanwhile."""


class MayNot(UseCaseError):
    """Whoever asks may not do this, or not to this thing."""


class DearerNow(UseCaseError):
    """What somebody approved comes to more by now; nothing was done. No Conflict, so that no other of many goes on without it."""


class AboveLimit(UseCaseError):
    """More than whoever asks may spend or refund in a day; nothing was done, and somebody who may is asked.

    amount: in the house's minor units, None where a rate lacks; what: the act in words; parts: (id, name, amount) of what may be approved
    alone, by ids in the field parts_in of the call.
    """

    def __init__(self, limit: Limit, amount: int | None, what: str, reason: str, parts: list[tuple[int, str, int]], parts_in: str) -> None:
        super().__init__(f"{what}: {reason}")
        self.limit, self.amount, self.what, self.reason, self.parts, self.parts_in = limit, amount, what, reason, parts, parts_in
