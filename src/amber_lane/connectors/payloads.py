"""What a row of the outbox holds, a model for each kind, with how that kind is sent and how the outside is asked for it.

Whatever stands in the outbox is written and read through these models alone. They need nothing of the house, so that the program of
a closed store carries changes out by the same lines.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, ClassVar, TypeVar

from pydantic import BaseModel, ConfigDict, ValidationError

from ..core.currency import parse_money, show
from .claim_protocol import ClaimAnswer
from .depot_protocol import HoldAnswer, LoadState
from .errors import NotThere
from .protocols import (
    Address,
    ListingChange,
    ListingWords,
    Mail,
    MailLink,
    PrintSide,
    Purchase,
    PurchaseAnswer,
    PurchaseItem,
    StoreLink,
    SupplierLink,
    Tracking,
)
from .refund_line import RefundLine
from .return_protocol import Label

# What the outside said: the answer of a supplier or depot, or whether it has the change; None where there is nothing to know.
Answer = PurchaseAnswer | HoldAnswer | LoadState | ClaimAnswer | Label | bool | None
P = TypeVar("P", bound="type[Payload]")
STATES = {"live": "on sale", "paused": "off sale", "ended": "ended"}


class Payload(BaseModel):
    """A change for the outside. What an older version wrote beside these fields is passed over."""

    model_config = ConfigDict(frozen=True, extra="ignore")
    kind: ClassVar[str] = ""

    @property
    def about(self) -> str:
        """What it is about, as a person calls it: a SKU, a purchase order, an order, or whom a mail goes to."""
        raise NotImplementedError

    @property
    def summary(self) -> str:
        """What it asks of the outside, in a few words."""
        raise NotImplementedError

    def stored(self) -> dict[str, Any]:
        """As it stands in the outbox: what is not said is not there."""
        return self.model_dump(mode="json", exclude_none=True)


KINDS: dict[str, type[Payload]] = {}


def payload_kind(name: str) -> Callable[[P], P]:
    def register(model: P) -> P:
        model.kind = name
        KINDS[name] = model
        return model

    return register


class StorePayload(Payload):
    """A change for a store."""

    def send(self, link: StoreLink, key: str) -> Answer:
        raise NotImplementedError

    def ask(self, link: StoreLink, key: str) -> Answer:
        """Something true when the store has it already. Here: nobody need know, since doing it twice does no harm."""
        return None


class SupplierPayload(Payload):
    """A change for a supplier."""

    def send(self, link: SupplierLink, key: str) -> Answer:
        raise NotImplementedError

    def ask(self, link: SupplierLink, key: str) -> Answer:
        raise NotImplementedError


class Words(BaseModel):
    """What a listing says. pictures: numbers of our own copies, or the names that the store gave them."""

    model_config = ConfigDict(frozen=True, extra="ignore")
    title: str
    description: str = ""
    category: str = ""
    gtin: str = ""
    mpn: str = ""
    brand: str = ""
    options: str = ""
    tags: str = ""
    weight_g: int = 0
    compare_at: int | None = None
    pictures: tuple[int | str, ...] = ()
    family: str = ""


@payload_kind("listing")
class ListingPayload(StorePayload):
    """What a store shall show of a listing. price: in major units; a part that is None is left as the store has it."""

    listing: int
    sku: str
    currency: str
    price: str | None = None
    quantity: int | None = None
    state: str | None = None
    words: Words | None = None

    @property
    def about(self) -> str:
        return self.sku

    @property
    def summary(self) -> str:
        parts = [] if self.minor is None else [show(self.minor, self.currency)]
        if self.state is not None:
            parts += [f"shows {self.quantity}", STATES.get(self.state, "")]
        return ", ".join(parts) or "its words"

    @property
    def changes_something(self) -> bool:
        return any(part is not None for part in (self.price, self.quantity, self.state, self.words))

    @property
    def minor(self) -> int | None:
        """The price in minor units of its currency."""
        return None if self.price is None else parse_money(self.price, self.currency)

    def change(self) -> ListingChange:
        words = None
        if self.words is not None:
            named = tuple(str(one) for one in self.words.pictures)
            words = ListingWords(**{**self.words.model_dump(), "pictures": named})
        return ListingChange(self.sku, self.minor, self.currency, self.quantity, self.state, words)

    def send(self, link: StoreLink, key: str) -> Answer:
        link.change_listing(self.change(), key)
        return None

    def ask(self, link: StoreLink, key: str) -> Answer:
        return link.find_change(self.change(), key)


@payload_kind("fulfilment")
class FulfilmentPayload(StorePayload):
    """A tracking number for a store's order. parcel, order_id: ours."""

    order: str
    tracking_number: str
    carrier: str
    reference: str
    parcel: int
    order_id: int

    @property
    def about(self) -> str:
        return self.order

    @property
    def summary(self) -> str:
        return f"sent with {self.carrier}, {self.tracking_number}"

    def send(self, link: StoreLink, key: str) -> Answer:
        link.fulfil(self.order, Tracking(self.tracking_number, self.carrier), key)
        return None

    def ask(self, link: StoreLink, key: str) -> Answer:
        return link.find_fulfilment(self.order, key)


@payload_kind("refund")
class RefundPayload(StorePayload):
    """Lines of a store's order to be paid back, each with how many of it; a bare line number is all of it.

    amounts: of each line, minor units of the currency; none = what they were sold for. The store knows a refund by its reference, so the
    same one again does no harm.
    """

    order: str
    lines: tuple[int | tuple[int, int], ...]
    amounts: tuple[int, ...] = ()
    currency: str = ""
    reference: str

    @property
    def about(self) -> str:
        return self.order

    @property
    def summary(self) -> str:
        money = f" with {show(sum(self.amounts), self.currency)}" if self.amounts else ""
        return f"refund {len(self.lines)} line{'' if len(self.lines) == 1 else 's'}{money}"

    @property
    def units(self) -> list[RefundLine]:
        lines = [(one, 0) if isinstance(one, int) else one for one in self.lines]
        return [RefundLine(*one, self.amounts[n] if self.amounts else None) for n, one in enumerate(lines)]

    def send(self, link: StoreLink, key: str) -> Answer:
        link.refund(self.order, self.units, self.currency, self.reference)
        return None


@payload_kind("cancel")
class CancelPayload(StorePayload):
    """A store's order cancelled and paid back. Cancelling twice does no harm: the store says that it is done."""

    order: str

    @property
    def about(self) -> str:
        return self.order

    @property
    def summary(self) -> str:
        return "cancel and refund"

    def send(self, link: StoreLink, key: str) -> Answer:
        link.cancel(self.order)
        return None


class BoughtPrint(BaseModel):
    """What is printed on one side; see `PrintSide`."""

    model_config = ConfigDict(frozen=True, extra="ignore")
    side: str
    x: int
    y: int
    w: int
    h: int
    file: str
    preview: str


class BoughtLine(BaseModel):
    model_config = ConfigDict(frozen=True, extra="ignore")
    line_no: int
    item: str
    quantity: int
    prints: tuple[BoughtPrint, ...] | None = None


class BoughtAddress(BaseModel):
    """Where a supplier sends to, as it is written for this supplier."""

    model_config = ConfigDict(frozen=True, extra="ignore")
    name: str
    address_1: str
    city: str
    postcode: str
    country: str
    address_2: str = ""
    region: str = ""
    phone: str = ""
    email: str | None = None


@payload_kind("purchase")
class PurchasePayload(SupplierPayload):
    """A purchase order, as the supplier gets it."""

    reference: str
    origin: str
    service: str
    address: BoughtAddress
    lines: tuple[BoughtLine, ...]
    note: str = ""
    greeting: str = ""

    @property
    def about(self) -> str:
        return self.reference

    @property
    def summary(self) -> str:
        return ", ".join(f"{line.quantity} x {line.item}" for line in self.lines[:4])

    def purchase(self) -> Purchase:
        lines = [
            PurchaseItem(line.line_no, line.item, line.quantity, tuple(PrintSide(**one.model_dump()) for one in line.prints or ()))
            for line in self.lines
        ]
        return Purchase(
            self.reference,
            self.origin,
            self.service,
            Address(**self.address.model_dump(exclude_none=True)),
            lines,
            self.note,
            self.greeting,
        )

    @property
    def files(self) -> list[str]:
        """Checksums of the files that have to be there before it is sent."""
        sides = [one for line in self.lines for one in line.prints or ()]
        return list(dict.fromkeys(sha for one in sides for sha in (one.file, one.preview)))

    def send(self, link: SupplierLink, key: str) -> Answer:
        return link.buy(self.purchase())

    def ask(self, link: SupplierLink, key: str) -> Answer:
        found = link.find_purchases([key])
        return found[0] if found else None


@payload_kind("sample")
class SamplePayload(PurchasePayload):
    """A sample is bought like anything else; only what it is for differs."""


@payload_kind("recall")
class RecallPayload(SupplierPayload):
    """Asks that a purchase is not sent. order: of the store that it is for, as the store numbers it."""

    reference: str
    order: str = ""

    @property
    def about(self) -> str:
        return self.order or self.reference

    @property
    def summary(self) -> str:
        return "please do not send it"

    def send(self, link: SupplierLink, key: str) -> Answer:
        try:
            return link.recall(self.reference)
        except NotThere:
            # It never got there, so there is nothing to let go.
            return PurchaseAnswer(self.reference, "", "withdrawn", "it was never there", None, None)

    def ask(self, link: SupplierLink, key: str) -> Answer:
        found = next(iter(link.find_purchases([self.reference])), None)
        return found if found and found.state == "withdrawn" else None


@payload_kind("mail")
class MailPayload(Payload):
    """A mail. key: what its answer has to carry; message: the one it is kept as; files: (name, kind, text)."""

    reference: str
    sender: str
    to: str
    subject: str
    body: str
    key: str = ""
    message: int | None = None
    files: tuple[tuple[str, str, str], ...] = ()

    @property
    def about(self) -> str:
        return self.to

    @property
    def summary(self) -> str:
        return self.subject

    def send(self, link: MailLink, key: str) -> Answer:
        link.send(Mail(self.reference, self.sender, self.to, self.subject, self.body, self.files, self.key))
        return None

    def ask(self, link: MailLink, key: str) -> Answer:
        return link.find_mail(key)


def read(kind: str, body: dict[str, Any]) -> Payload | None:
    """What stands in the outbox, as the model of its kind; None where it cannot be read."""
    try:
        return KINDS[kind].model_validate(body)
    except (KeyError, ValidationError):
        return None
