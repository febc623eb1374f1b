"""Returns as the own shop and the marketplace tell them, each in its own words."""

from __future__ import annotations

from pydantic import BaseModel, Field

from ..core.claims import ClaimReason
from .protocols import Tracking
from .return_protocol import ACCEPTED, ASKED, KEPT, PAID_BACK, REFUSED, SENT, STATES, ReturnAsked, ReturnWord
from .wire import UNITS_MOST, Short, Time, Wire, clip, minor

WORDS_MOST = 2000


class ShopReturns(Wire):
    """The own shop's."""

    returns: list[dict[str, object]]
    cursor: int
    more: bool


class _ShopReturn(Wire):
    number: Short
    order: Short
    line: int = Field(ge=0, le=UNITS_MOST)
    quantity: int = Field(gt=0, le=UNITS_MOST)
    reason: Short
    words: str = ""
    asked_at: Time
    answer_by: Time | None = None
    state: Short
    tracking_number: Short = ""
    carrier: Short = ""
    paid_back: Short | None = None
    currency: Short = ""


def shop_return(row: dict[str, object]) -> ReturnAsked:
    """One of the own shop's; ValueError where it cannot be."""
    one = _ShopReturn.model_validate(row)
    if one.state not in STATES:
        raise ValueError(f"the return is in a state that we do not know: {one.state!r}")
    paid = None if one.paid_back is None else minor(one.paid_back, one.currency)
    sent = Tracking(one.tracking_number, one.carrier) if one.tracking_number else None
    return ReturnAsked(
        one.number, one.order, one.line, one.quantity, ClaimReason(one.reason).value, clip(one.words, WORDS_MOST), one.asked_at,
        one.answer_by, one.state, sent, paid,
    )  # fmt: skip


def shop_answer(word: ReturnWord) -> dict[str, str]:
    return {"state": word.state, "return_number": word.our_number, "address": word.address, "reason": word.reason}


class FairReturns(Wire):
    """The marketplace's."""

    asked: list[dict[str, object]]
    since: int
    more: bool


class _FairReturn(Wire):
    class Parcel(BaseModel):
        number: Short
        carrier: Short = ""

    ticket: Short
    order: Short
    line: int = Field(ge=0, le=UNITS_MOST)
    pieces: int = Field(gt=0, le=UNITS_MOST)
    why: Short
    text: str = ""
    at: Time
    until: Time | None = None
    status: Short
    parcel: Parcel | None = None
    given_back: Short | None = None


_WHY = {
    "broken": ClaimReason.damaged,
    "faulty": ClaimReason.defective,
    "wrong one": ClaimReason.wrong_item,
    "parts missing": ClaimReason.missing,
    "not as shown": ClaimReason.not_as_described,
    "too late": ClaimReason.late,
    "not wanted": ClaimReason.changed_mind,
}
_STATUS = {"waits": ASKED, "send it": ACCEPTED, "keep it": KEPT, "no": REFUSED, "sent": SENT, "decided": PAID_BACK}
_SAYS = {state: status for status, state in _STATUS.items()}


def fair_return(row: dict[str, object], money: str) -> ReturnAsked:
    """One of the marketplace's; ValueError where it cannot be."""
    one = _FairReturn.model_validate(row)
    if one.status not in _STATUS or one.why not in _WHY:
        raise ValueError(f"the return says something that we do not know: {one.status!r}, {one.why!r}")
    paid = None if one.given_back is None else minor(one.given_back, money)
    sent = Tracking(one.parcel.number, one.parcel.carrier) if one.parcel and one.parcel.number else None
    return ReturnAsked(
        one.ticket, one.order, one.line, one.pieces, _WHY[one.why].value, clip(one.text, WORDS_MOST), one.at, one.until,
        _STATUS[one.status], sent, paid,
    )  # fmt: skip


def fair_answer(word: ReturnWord) -> dict[str, str]:
    return {"say": _SAYS[word.state], "our_number": word.our_number, "to": word.address, "because": word.reason}
