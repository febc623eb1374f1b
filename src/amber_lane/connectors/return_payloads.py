"""Answers to returns, and labels for them, as they stand in the outbox."""

from __future__ import annotations

from .errors import Refused
from .payloads import Answer, BoughtAddress, Payload, StorePayload, payload_kind
from .protocols import Address, CarrierLink, StoreLink
from .return_protocol import LabelAsk, LabelLink, ReturnsLink, ReturnWord

_SAID = {"accepted": "may come back", "kept": "is theirs to keep", "refused": "is refused"}


@payload_kind("return_answer")
class ReturnAnswerPayload(StorePayload):
    """What a store tells a buyer who asked for a return. number: of the store; the same again does no harm."""

    number: str
    order: str
    state: str
    our_number: str = ""
    address: str = ""
    reason: str = ""

    @property
    def about(self) -> str:
        return self.order

    @property
    def summary(self) -> str:
        return f"return {self.number} {_SAID.get(self.state, self.state)}"

    def send(self, link: StoreLink, key: str) -> Answer:
        if not isinstance(link, ReturnsLink):
            raise Refused("this store takes no answers to returns by its interface")
        link.answer_return(ReturnWord(self.number, self.state, self.our_number, self.address, self.reason))
        return None


class CarrierPayload(Payload):
    """A change for a carrier."""

    def send(self, link: CarrierLink, key: str) -> Answer:
        raise NotImplementedError

    def ask(self, link: CarrierLink, key: str) -> Answer:
        raise NotImplementedError


@payload_kind("label")
class LabelPayload(CarrierPayload):
    """Has a carrier make a label for the way back, once by our number of the return."""

    reference: str
    sender: BoughtAddress
    to: str
    weight_g: int

    @property
    def about(self) -> str:
        return self.reference

    @property
    def summary(self) -> str:
        return f"a label to {self.to}"

    def send(self, link: CarrierLink, key: str) -> Answer:
        sender = Address(**self.sender.model_dump(exclude_none=True))
        return label_link(link).make_label(LabelAsk(self.reference, sender, self.to, self.weight_g))

    def ask(self, link: CarrierLink, key: str) -> Answer:
        return label_link(link).find_label(self.reference)


def label_link(link: CarrierLink) -> LabelLink:
    """A carrier as one that makes labels; Refused where it does not."""
    if not isinstance(link, LabelLink):
        raise Refused("this carrier makes no labels by its interface")
    return link
