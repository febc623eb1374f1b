"""The errors of a use case that a person can be told."""

from __future__ import annotations


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
