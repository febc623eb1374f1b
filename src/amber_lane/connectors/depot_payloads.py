"""What a depot is sent: questions whether it holds goods, answers to its own, notices of loads; and the purchase of a load."""

from __future__ import annotations

from datetime import date

from pydantic import BaseModel, ConfigDict

from .depot_protocol import CartonNotice, DepotLink, HoldAsk, LoadNotice
from .errors import Refused
from .payloads import Answer, PurchasePayload, SupplierPayload, payload_kind
from .protocols import SupplierLink


def depot_link(link: object) -> DepotLink:
    """A partner as a depot; Refused where it is none."""
    if not isinstance(link, DepotLink):
        raise Refused("this supplier holds no goods for others")
    return link


@payload_kind("load")
class LoadPayload(PurchasePayload):
    """The goods of a load are bought like anything else; they go to a depot."""


@payload_kind("hold")
class HoldPayload(SupplierPayload):
    """Asks a depot to hold goods. It knows them by our number, so the same again does no harm.

    pictures: numbers of our own copies, or the names that the depot gave them.
    """

    number: str
    title: str
    goods: str
    weight_g: int
    sides: tuple[int, int, int]
    value: int
    currency: str
    pictures: tuple[int | str, ...] = ()

    @property
    def about(self) -> str:
        return self.number

    @property
    def summary(self) -> str:
        return f"will you hold {self.title}?"

    def send(self, link: SupplierLink, key: str) -> Answer:
        named = tuple(one for one in self.pictures if isinstance(one, str))
        ask = HoldAsk(self.number, self.title, self.goods, self.weight_g, self.sides, self.value, self.currency, named)
        return depot_link(link).ask_to_hold(ask)

    def ask(self, link: SupplierLink, key: str) -> Answer:
        return next(iter(depot_link(link).holdings([self.number])), None)


@payload_kind("hold_answer")
class HoldAnswerPayload(SupplierPayload):
    """Answers what a depot wants to know of goods; the same words twice do no harm."""

    number: str
    text: str

    @property
    def about(self) -> str:
        return self.number

    @property
    def summary(self) -> str:
        return self.text[:80]

    def send(self, link: SupplierLink, key: str) -> Answer:
        return depot_link(link).answer_question(self.number, self.text)

    def ask(self, link: SupplierLink, key: str) -> Answer:
        return None


class NoticeLine(BaseModel):
    model_config = ConfigDict(frozen=True, extra="ignore")
    goods: str
    units: int
    lot: str = ""
    best_before: date | None = None


class NoticeCarton(BaseModel):
    model_config = ConfigDict(frozen=True, extra="ignore")
    sscc: str
    weight_g: int
    lines: tuple[NoticeLine, ...]


@payload_kind("load_notice")
class NoticePayload(SupplierPayload):
    """Tells a depot of a load; without cartons, that it will not come after all. It knows loads by our reference."""

    reference: str
    sender: str
    cartons: tuple[NoticeCarton, ...]

    @property
    def about(self) -> str:
        return self.reference

    @property
    def summary(self) -> str:
        n = len(self.cartons)
        return f"{n} carton{'' if n == 1 else 's'} will come" if n else "it will not come"

    def send(self, link: SupplierLink, key: str) -> Answer:
        cartons = tuple(
            CartonNotice(one.sscc, one.weight_g, tuple((line.goods, line.units, line.lot, line.best_before) for line in one.lines))
            for one in self.cartons
        )
        return depot_link(link).announce(LoadNotice(self.reference, self.sender, cartons))

    def ask(self, link: SupplierLink, key: str) -> Answer:
        return None


@payload_kind("count_again")
class CountAgainPayload(SupplierPayload):
    """Asks a depot to count a load once more; asked twice, it counts once."""

    reference: str

    @property
    def about(self) -> str:
        return self.reference

    @property
    def summary(self) -> str:
        return "please count it again"

    def send(self, link: SupplierLink, key: str) -> Answer:
        return depot_link(link).count_again(self.reference)

    def ask(self, link: SupplierLink, key: str) -> Answer:
        return None
