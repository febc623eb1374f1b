"""What the program of a closed store calls: waiting changes in hand, reports back, listings and orders brought in.

It is let in by its token alone, and sees nothing but its own store.
"""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import date, timedelta
from typing import Annotated, Any, Literal

from fastapi import APIRouter, Depends, Header, HTTPException, Request
from pydantic import AwareDatetime, BaseModel, Field

from ...clock import WALL
from ...connectors.protocols import Address, StoreListing, StoreOrder, StoreOrderLine
from ...data.setup import Store, Token
from ...services.base.context import Context
from ...services.base.errors import Invalid
from ...services.delivery import agent_leases
from ...services.listings import drift, store_listings
from ...services.orders import orders
from ...services.people.passwords import FREE
from ..deps import AppState, app_state
from ..schemas import Ask, Big

router = APIRouter(prefix="/program", tags=["program"])


@dataclass
class Seat:
    """A program at work: its context, its token, its store."""

    context: Context
    token: Token
    store: Store


def _word(authorization: str) -> str:
    return authorization.removeprefix("Bearer ").strip()


def holds_token(request: Request) -> bool:
    """Whether a request is of a store's program."""
    app, word = app_state(request), _word(request.headers.get("authorization", ""))
    with app.db.reading() as s, contextlib.suppress(agent_leases.NoSuchToken):
        return bool(word) and agent_leases.enter(Context(s, app.clock, "Program"), word) is not None
    return False


def _refused(request: Request, app: AppState, message: str) -> HTTPException:
    """Count a wrong token by address; many from one place are told so, and written down once. Whoever has a right one never waits."""
    address = request.client.host if request.client else ""
    n = app.tokens.wrong("a program", address)
    if n == FREE:
        with app.db.writing() as s:
            Context(s, app.clock, "Sign-in").log("program.refused", address, f"{n} wrong tokens of programs from {address}", count=0)
    if (wait := app.tokens.wait("a program", address, True)) > 0:
        return HTTPException(429, f"{message}; too many tries from here", {"Retry-After": str(round(wait) + 1)})
    return HTTPException(401, message)


def _seat(request: Request, authorization: Annotated[str, Header()] = "") -> Iterator[Seat]:
    app, word = app_state(request), _word(authorization)
    try:
        # Nobody whose token is not known takes a turn to write.
        with app.db.reading() as s:
            agent_leases.enter(Context(s, app.clock, "Program"), word)
    except agent_leases.NoSuchToken as error:
        raise _refused(request, app, error.message) from error
    with app.db.writing() as s:
        context = Context(s, app.clock, "Program")
        try:
            token, store = agent_leases.enter(context, word)
        except agent_leases.NoSuchToken as error:
            raise HTTPException(401, error.message) from error
        context.actor = f"{store.name}'s program"
        yield Seat(context, token, store)


TheSeat = Annotated[Seat, Depends(_seat, scope="function")]
Run = Annotated[str, Field(min_length=8, max_length=64)]


class HelloOut(BaseModel):
    store: str
    currency: str
    orders_cursor: str
    read_orders: bool
    read_listings: bool
    lease_seconds: int


class LeaseAsk(Ask):
    run: Run
    most: int = Field(agent_leases.MOST, ge=1, le=agent_leases.MOST)


class HandedOut(BaseModel):
    id: int
    key: str
    kind: str
    body: dict[str, Any]
    perhaps_done: bool


class LeaseOut(BaseModel):
    changes: list[HandedOut]
    lease_seconds: int


class ReportIn(Ask):
    id: Big
    key: str = Field(max_length=300)
    outcome: str = Field(pattern="^(done|refused|failed|unknown)$")
    message: str = Field("", max_length=500)
    fault: str = Field("", max_length=20)


class ReportAsk(Ask):
    run: Run
    results: list[ReportIn] = Field(max_length=agent_leases.MOST)


class Counted(BaseModel):
    counted: int


class TroubleAsk(Ask):
    message: str = Field(max_length=500)


class ListingIn(Ask):
    sku: str = Field(min_length=1, max_length=100)
    title: str = Field(max_length=500)
    price: int = Field(ge=1, le=100_000_000)
    currency: str = Field(max_length=3)
    quantity: int = Field(ge=0, le=1_000_000)
    state: str = Field(pattern="^(live|paused|ended)$")
    gtin: str = Field("", max_length=300)
    mpn: str = Field("", max_length=300)
    brand: str = Field("", max_length=300)
    category: str = Field("", max_length=300)
    options: str = Field("", max_length=300)
    weight_g: int = Field(0, ge=0, le=10_000_000)
    description: str = Field("", max_length=20_000)


class ListingsAsk(Ask):
    listings: list[ListingIn] = Field(max_length=2000)
    # Nothing comes after these: all that the store shows has been read.
    last: bool = False


class AddressIn(Ask):
    name: str = Field(max_length=300)
    address_1: str = Field(max_length=300)
    city: str = Field(max_length=300)
    postcode: str = Field(max_length=300)
    country: str = Field(max_length=300)
    address_2: str = Field("", max_length=300)
    region: str = Field("", max_length=300)
    phone: str = Field("", max_length=300)
    email: str = Field("", max_length=300)


class LineIn(Ask):
    line_no: int = Field(ge=1, le=10_000)
    sku: str = Field(min_length=1, max_length=300)
    quantity: int = Field(ge=1, le=1_000_000)
    unit_price: int = Field(ge=0, le=100_000_000)
    title: str = Field("", max_length=500)
    # Of the whole line, where the store tells it.
    shipping_paid: int | None = Field(None, ge=0, le=100_000_000)
    discount: int | None = Field(None, ge=0, le=100_000_000)
    tax: int | None = Field(None, ge=0, le=100_000_000)
    tax_by: Literal["", "store"] = ""


class OrderIn(Ask):
    number: str = Field(min_length=1, max_length=300)
    ordered_at: AwareDatetime
    currency: str = Field(max_length=3)
    buyer: AddressIn
    lines: list[LineIn] = Field(min_length=1, max_length=500)
    promised_by: date | None = None
    cancelled: bool = False
    sent: bool = False
    note: str = Field("", max_length=2000)


class OrdersAsk(Ask):
    """cursor None: it stays where it is. unreadable: orders that cannot be handed in, each with why."""

    cursor: str | None = Field(None, max_length=300)
    orders: list[OrderIn] = Field(default_factory=list, max_length=500)
    unreadable: list[Annotated[str, Field(max_length=500)]] = Field(default_factory=list, max_length=500)


@router.get("/hello")
def hello(seat: TheSeat) -> HelloOut:
    store = seat.store
    return HelloOut(
        store=store.name,
        currency=store.currency,
        orders_cursor=store.orders_cursor or "",
        read_orders=store.read_orders and store.paused_at is None,
        read_listings=seat.token.read_anew and store.paused_at is None,
        lease_seconds=int(agent_leases.LEASE.total_seconds()),
    )


class IntroduceAsk(Ask):
    """The account of the store that the program works, and the carriers that the store knows, by its own names."""

    account: str = Field("", max_length=300)
    carriers: list[Annotated[str, Field(max_length=300)]] = Field(default_factory=list, max_length=500)


@router.post("/store")
def introduce(seat: TheSeat, ask: IntroduceAsk) -> Counted:
    """Who the store is. 409 where another of our stores is that account already."""
    agent_leases.introduce(seat.context, seat.store, ask.account.strip(), ask.carriers)
    return Counted(counted=len(ask.carriers))


@router.post("/lease")
def lease(seat: TheSeat, ask: LeaseAsk) -> LeaseOut:
    """Take the next changes in hand. 409 while another run of the program holds the store."""
    handed = agent_leases.lease(seat.context, seat.token, seat.store, ask.run, WALL.now(), ask.most)
    return LeaseOut(
        changes=[HandedOut.model_validate(one, from_attributes=True) for one in handed],
        lease_seconds=int(agent_leases.LEASE.total_seconds()),
    )


@router.post("/report")
def report(seat: TheSeat, ask: ReportAsk) -> Counted:
    """What became of changes in hand. The same report again changes nothing."""
    reports = [agent_leases.Report(one.id, one.key, one.outcome, one.message, one.fault) for one in ask.results]
    return Counted(counted=agent_leases.report(seat.context, seat.token, seat.store, ask.run, WALL.now(), reports))


@router.post("/trouble")
def trouble(seat: TheSeat, ask: TroubleAsk) -> Counted:
    """The program cannot work its store, and says why."""
    agent_leases.trouble(seat.context, seat.store, ask.message)
    return Counted(counted=1)


@router.post("/listings")
def listings(seat: TheSeat, ask: ListingsAsk) -> Counted:
    """Listings as the store shows them."""
    if ask.last:
        seat.token.read_anew = False
    rows = [StoreListing(**one.model_dump()) for one in ask.listings]
    # What it saw is compared with what we asked, but for what changed while it was reading.
    drift.compare(seat.context, seat.store, rows, seat.context.now - timedelta(minutes=10))
    return Counted(counted=store_listings.bring_in(seat.context, seat.store, rows))


@router.post("/orders")
def take_orders(seat: TheSeat, ask: OrdersAsk) -> Counted:
    """Orders after our cursor; each is taken in once, however often it comes."""
    if not seat.store.read_orders or seat.store.paused_at is not None:
        raise Invalid(f"reading orders is switched off for {seat.store.name}")
    given = [
        StoreOrder(
            one.number,
            one.ordered_at,
            one.currency,
            Address(**one.buyer.model_dump()),
            [StoreOrderLine(**line.model_dump()) for line in one.lines],
            one.promised_by,
            one.cancelled,
            one.sent,
            one.note,
        )
        for one in ask.orders
    ]
    fresh = orders.take_page(seat.context, seat.store, given, ask.cursor, ask.unreadable)
    return Counted(counted=len(fresh))
