"""What a store can do where buyers ask for returns in it, and a carrier that makes labels for the way back. Amounts are minor units."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import datetime
from typing import Protocol, runtime_checkable

from .protocols import Address, CarrierLink, StoreLink, Tracking

# What became of a return by its store's word: the buyer waits, we took it, they may keep it, we refused, they sent it, the store paid it
# back by itself since nobody answered.
ASKED, ACCEPTED, KEPT, REFUSED, SENT, PAID_BACK = STATES = ("asked", "accepted", "kept", "refused", "sent", "paid_back")


@dataclass(frozen=True)
class ReturnAsked:
    """A return that a buyer asked for. line, units: of the order; reason: a code of core.claims.ClaimReason; answer_by: what nobody answers
    then the store decides; paid_back: what it gave the buyer by itself."""

    number: str
    order: str
    line: int
    units: int
    reason: str
    words: str
    at: datetime
    answer_by: datetime | None
    state: str
    tracking: Tracking | None = None
    paid_back: int | None = None


@dataclass(frozen=True)
class ReturnPage:
    """Returns that changed after a cursor. unreadable: rows that could not be read, with why."""

    asked: list[ReturnAsked]
    cursor: str
    more: bool
    unreadable: list[str] = field(default_factory=list)


@dataclass(frozen=True)
class ReturnWord:
    """What we say of one. state: accepted (to be sent to an address, under a number of ours), kept or refused, with why."""

    number: str
    state: str
    our_number: str = ""
    address: str = ""
    reason: str = ""


@runtime_checkable
class ReturnsLink(StoreLink, Protocol):
    """A store that tells of returns which buyers ask for in it."""

    def returns(self, cursor: str) -> ReturnPage: ...
    def answer_return(self, word: ReturnWord) -> None:
        """The same answer again changes nothing; Refused where the store has decided already."""


@dataclass(frozen=True)
class LabelAsk:
    """A label for a parcel. reference: ours, by which it is made once; to: an address in one line."""

    reference: str
    sender: Address
    to: str
    weight_g: int


@dataclass(frozen=True)
class Label:
    """pdf: to be printed as it is; cost: what the carrier asks once it is used, minor units of the currency."""

    reference: str
    number: str
    pdf: bytes
    cost: int
    currency: str


@runtime_checkable
class LabelLink(CarrierLink, Protocol):
    """A carrier that makes labels."""

    def make_label(self, ask: LabelAsk) -> Label: ...
    def find_label(self, reference: str) -> Label | None: ...
