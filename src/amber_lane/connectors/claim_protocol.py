"""What a supplier can do that takes claims by its interface. Amounts are minor units of its currency."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Protocol, runtime_checkable

from .protocols import SupplierLink, Tracking

CLAIM_STATES = ("received", "question", "accepted", "refused", "paid")


@dataclass(frozen=True)
class ClaimAsk:
    """What is asked of a purchase's line. wish: money or again; pictures: by the names that the supplier gave them."""

    reference: str
    purchase: str
    line_no: int
    units: int
    reason: str
    wish: str
    amount: int
    currency: str
    words: str = ""
    pictures: tuple[str, ...] = ()


@dataclass(frozen=True)
class ClaimAnswer:
    """state: received (it looks at it), question (it wants to see more), accepted, refused, paid; '' = it cannot be
    read, and message says why. amount: what it pays; tracking: of a
    parcel that it sends instead."""

    reference: str
    state: str
    their_number: str = ""
    message: str = ""
    amount: int | None = None
    currency: str = ""
    tracking: Tracking | None = None


@runtime_checkable
class ClaimLink(SupplierLink, Protocol):
    """A supplier that takes claims: it knows them by our reference, so the same again only adds what is new in it."""

    def keep_evidence(self, data: bytes, kind: str) -> str:
        """Hand over a picture; its name there is made of the picture itself."""
        ...

    def claim(self, ask: ClaimAsk) -> ClaimAnswer: ...
    def find_claims(self, references: list[str]) -> list[ClaimAnswer]: ...
