"""What some partners can do and others of their kind cannot."""

from __future__ import annotations

from enum import StrEnum


class Ability(StrEnum):
    """answers: it can be asked what became of a purchase; one_by_one: items are told one a call; recalls: it can be asked to let a
    purchase go; claims: it takes claims by its interface; labels: it makes labels for the way back."""

    answers = "answers"
    one_by_one = "one_by_one"
    recalls = "recalls"
    claims = "claims"
    labels = "labels"
