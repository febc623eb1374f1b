"""What a store, a supplier, a carrier and a mailbox can do for us. Amounts are minor units of their currency.

Every method has a deadline of its own and raises only the errors of `connectors.errors`. One that changes something outside takes our
reference; `find_…` asks by that reference whether it is known there.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from datetime import date, datetime
from decimal import Decimal
from typing import NamedTuple, Protocol

from .refund_line import RefundLine


@dataclass(frozen=True)
class FeeTerms:
    """What a store takes for a category (empty = all others): percent in ppm, amounts in its money."""

    category: str
    percent: int
    least: int = 0
    cap: int | None = None
    fixed: int = 0


@dataclass(frozen=True)
class Account:
    """Who answered, and what our key may do there; and what of the terms the partner tells by itself.

    site: what the addresses of its items' pages begin with; tax: a supplier's, in ppm; carriers: as a store names them;
    number: by which the partner knows us (an account or shop number), the same whatever key or address is used; '' = it has none.
    """

    name: str
    country: str
    currency: str
    may: list[str]
    site: str = ""
    tax: int = 0
    fees: tuple[FeeTerms, ...] = ()
    allowance_units: int | None = None
    allowance_listings: int | None = None
    carriers: tuple[str, ...] = ()
    number: str = ""
    there: tuple[str, ...] = ()  # of a mailbox: what lies there already, the oldest first
    key: str = ""  # what our key is now, where the partner renewed it while it was asked


@dataclass(frozen=True)
class Budget:
    """How many calls a partner allows in its stretch of time, and how many of them were left at its last answer."""

    limit: int
    left: int


@dataclass(frozen=True)
class RateTable:
    """Exchange rates of a day: units of each currency for one and the same amount."""

    as_of: datetime
    rates: dict[str, Decimal]


@dataclass(frozen=True)
class StoreListing:
    sku: str
    title: str
    price: int
    currency: str
    quantity: int
    state: str
    gtin: str = ""
    mpn: str = ""
    brand: str = ""
    category: str = ""
    options: str = ""
    weight_g: int = 0
    description: str = ""


@dataclass(frozen=True)
class ListingWords:
    """All that a listing says. pictures: by the names that the store gave them, the first one first."""

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
    pictures: tuple[str, ...] = ()
    # Listings with the same mark are sizes and colours of one thing; empty = it stands alone.
    family: str = ""


@dataclass(frozen=True)
class ListingChange:
    """What a store shall show; None = that part is left as the store has it. With words, a listing that is not there is made."""

    sku: str
    price: int | None
    currency: str
    quantity: int | None
    state: str | None
    words: ListingWords | None = None

    def shown_by(self, one: StoreListing) -> bool:
        """Whether a store's own listing shows all that was asked."""
        pairs = ((self.price, one.price), (self.quantity, one.quantity), (self.state, one.state))
        return all(asked is None or asked == there for asked, there in pairs)


@dataclass(frozen=True)
class BatchAnswer:
    """done: every change of the batch has its result; results: SKU -> why it failed, empty where it did not.

    later: those SKUs whose change the store would take another time.
    """

    done: bool
    results: dict[str, str] = field(default_factory=dict)
    later: frozenset[str] = frozenset()


@dataclass(frozen=True)
class Address:
    name: str
    address_1: str
    city: str
    postcode: str
    country: str
    address_2: str = ""
    region: str = ""
    phone: str = ""
    email: str = ""


@dataclass(frozen=True)
class StoreOrderLine:
    line_no: int
    sku: str
    quantity: int
    unit_price: int
    title: str = ""
    # Of the whole line, where the store tells it: what the buyer paid for sending, what was taken off, the tax in it and who hands it over.
    shipping_paid: int | None = None
    discount: int | None = None
    tax: int | None = None
    tax_by: str = ""

    @property
    def total(self) -> int:
        """What the buyer paid for the line."""
        return self.unit_price * self.quantity + (self.shipping_paid or 0) - (self.discount or 0)

    @property
    def told(self) -> list[str]:
        """What of its money was told beside the price."""
        return [name for name in ("shipping_paid", "discount", "tax") if getattr(self, name) is not None]


@dataclass(frozen=True)
class StoreOrder:
    number: str
    ordered_at: datetime
    currency: str
    buyer: Address
    lines: list[StoreOrderLine]
    promised_by: date | None = None
    cancelled: bool = False
    # The store has it as sent already; it was filled before we came, so it is never bought here.
    sent: bool = False
    note: str = ""


@dataclass(frozen=True)
class Word:
    """A store's signed word of a new order: when it was signed, its signature, by which it is known again, and how long it counts."""

    at: datetime
    signature: str
    order: StoreOrder
    seconds: int = 300


@dataclass(frozen=True)
class OrderPage:
    orders: list[StoreOrder]
    cursor: str
    more: bool
    unreadable: list[str] = field(default_factory=list)


@dataclass(frozen=True)
class Tracking:
    """at: when it left, where that is told."""

    number: str
    carrier: str
    at: datetime | None = None


@dataclass(frozen=True)
class ListingPage:
    """Some of a store's listings. unreadable: rows that could not be read, with why."""

    listings: list[StoreListing]
    unreadable: list[str] = field(default_factory=list)


@dataclass(frozen=True)
class SettlementLine:
    """One row of what a store paid out. kind: as in the settlements sheet; line: its number there, always the same; amount: minor units."""

    settlement: str
    line: str
    order_no: str
    kind: str
    amount: int
    at: datetime


@dataclass(frozen=True)
class SettlementPage:
    """Settlements after a cursor. unreadable: rows that could not be read, with why."""

    lines: list[SettlementLine]
    cursor: str
    more: bool
    unreadable: list[str] = field(default_factory=list)


class PartnerLink(Protocol):
    """What everybody who is called can do."""

    def account(self) -> Account: ...
    def budget(self) -> Budget | None:
        """What its last answer said of how often it may be called; None where it says nothing."""


class StoreLink(PartnerLink, Protocol):
    batch_most: int  # listing changes that go in one call, with `send_batch` and `find_batch`; 0 = each by itself
    tells_settlements: bool  # what it paid out; then `settlements` is used, once a day

    def listings(self) -> Iterator[ListingPage]: ...
    def orders(self, cursor: str) -> OrderPage: ...
    def settlements(self, cursor: str) -> SettlementPage: ...
    def change_listing(self, change: ListingChange, key: str) -> None: ...
    def find_change(self, change: ListingChange, key: str) -> bool: ...
    def send_batch(self, changes: list[ListingChange], key: str) -> None: ...
    def find_batch(self, key: str) -> BatchAnswer | None: ...
    def keep_picture(self, data: bytes, kind: str) -> str: ...
    def fulfil(self, order: str, tracking: Tracking, reference: str) -> None: ...
    def find_fulfilment(self, order: str, reference: str) -> bool: ...
    def cancel(self, order: str) -> None: ...
    def refund(self, order: str, lines: list[RefundLine], currency: str, reference: str) -> None:
        """Give the buyer money of lines back, all of it or so much; the same reference again changes nothing."""

    def tell_of_orders(self, address: str, secret: str) -> None: ...
    def read_word(self, headers: dict[str, str], body: bytes, secret: str) -> Word: ...


class CatalogueItem(NamedTuple):
    """One item as a supplier tells it. A tuple, since catalogues have a hundred thousand of them.

    silent: fields that its source says nothing of, so that what is known of them stays.
    """

    number: str
    title: str
    cost: int
    currency: str
    stock: int
    origin: str
    gtin: str = ""
    mpn: str = ""
    brand: str = ""
    category: str = ""
    options: str = ""
    pack_size: int = 1
    weight_g: int = 0
    tiers: tuple[tuple[int, int], ...] = ()
    least_price: int | None = None
    lead_days: int = 0
    link: str = ""
    silent: tuple[str, ...] = ()


@dataclass(frozen=True)
class ItemSeen:
    """One row of a sweep exactly as it was told; judged by the core, so cost, stock and tiers may be nonsense.

    tiers: (from quantity, cost of one), empty where the cost is the same for any quantity. pack: 0 = not told.
    """

    number: str
    cost: int
    currency: str
    stock: int
    tiers: tuple[tuple[int, int], ...] = ()
    pack: int = 0


@dataclass(frozen=True)
class SweepPage:
    """One page of `pages`, as far as is known yet. as_of: None = now. bad: rows that could not be read at all, with why;
    notices: what was noticed about a sheet's make, and read all the same; cursor: what the next page is asked for with."""

    as_of: datetime | None
    seen: list[ItemSeen]
    pages: int
    bad: list[str] = field(default_factory=list)
    notices: list[str] = field(default_factory=list)
    cursor: str = ""


@dataclass(frozen=True)
class CataloguePage:
    """Some of a supplier's items. unreadable: rows that could not be read, with why."""

    items: list[CatalogueItem]
    unreadable: list[str] = field(default_factory=list)


@dataclass(frozen=True)
class ServiceTerms:
    code: str
    name: str
    country: str
    first: int
    following: int
    free_over: int | None
    days_low: int
    days_high: int
    tracked: bool
    # (up to grams, first, each next), in order; empty where weight does not matter.
    bands: tuple[tuple[int, int, int], ...] = ()


@dataclass(frozen=True)
class OriginTerms:
    code: str
    name: str
    country: str
    cut_off: str
    handling: int
    services: list[ServiceTerms]
    return_address: str = ""
    holidays: tuple[str, ...] = ()


@dataclass(frozen=True)
class PrintSide:
    """What is printed on one side: hundredths of a millimetre from its area's top left corner; file and preview by their SHA-256."""

    side: str
    x: int
    y: int
    w: int
    h: int
    file: str
    preview: str


@dataclass(frozen=True)
class PurchaseItem:
    line_no: int
    item: str
    quantity: int
    prints: tuple[PrintSide, ...] = ()


@dataclass(frozen=True)
class Purchase:
    reference: str
    origin: str
    service: str
    address: Address
    lines: list[PurchaseItem]
    note: str = ""
    # A word to the receiver, laid into the parcel.
    greeting: str = ""


@dataclass(frozen=True)
class PurchaseAnswer:
    """state: received, accepted, refused, shipped, withdrawn."""

    reference: str
    their_number: str
    state: str
    message: str
    billed: int | None
    tracking: Tracking | None
    # Lines of ours that it will not send although it sends the rest: (line number, why).
    lacking: tuple[tuple[int, str], ...] = ()
    # What the bill is in, where it says so.
    currency: str = ""


class SupplierLink(PartnerLink, Protocol):
    one_by_one: bool
    """Items are told one a call: `item` is asked for each, there is no catalogue and no sweep by pages."""

    def origins(self) -> list[OriginTerms]: ...
    def catalogue(self) -> Iterator[CataloguePage]: ...
    def sweep_page(self, page: int, cursor: str = "") -> SweepPage: ...
    def item(self, number: str) -> CatalogueItem | None: ...
    def buy(self, purchase: Purchase) -> PurchaseAnswer: ...
    def find_purchases(self, references: list[str]) -> list[PurchaseAnswer]: ...
    def recall(self, reference: str) -> PurchaseAnswer:
        """Ask that a purchase is not sent; its state is `withdrawn` where that was granted. Refused where it has left."""


@dataclass(frozen=True)
class CarrierWord:
    """kind: label, collected, moving, delivered, returned."""

    at: datetime
    kind: str
    message: str
    place: str


class CarrierLink(PartnerLink, Protocol):
    def track(self, numbers: list[str]) -> dict[str, list[CarrierWord]]: ...


@dataclass(frozen=True)
class Mail:
    reference: str
    sender: str
    to: str
    subject: str
    body: str
    # (name, kind such as text/csv, text)
    files: tuple[tuple[str, str, str], ...] = ()
    # What an answer has to carry to be believed; '' where none is wanted.
    key: str = ""


class MailLink(PartnerLink, Protocol):
    def send(self, mail: Mail) -> None: ...
    def find_mail(self, reference: str) -> bool: ...


class RatesLink(PartnerLink, Protocol):
    def table(self) -> RateTable:
        """The rates of the day."""
        ...
