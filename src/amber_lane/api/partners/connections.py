"""Partners joined, checked and mended; people; the practice world's hands; words from stores."""

from __future__ import annotations

from dataclasses import replace
from datetime import datetime
from typing import Any

import anyio
import httpx
from fastapi import HTTPException, Request
from pydantic import BaseModel, Field

from ...clock import PacedClock
from ...connectors.errors import Denied, OutsideError
from ...connectors.kinds import DESCRIBED, KINDS
from ...core.events import EventGroup
from ...core.permissions import EVERYTHING
from ...core.permissions import Permission as P
from ...data.setup import UNCALLED, Inbox, Store, Supplier
from ...services.base.context import Context
from ...services.base.errors import Conflict, Invalid
from ...services.base.job_queue import start
from ...services.base.partner_identity import OWNERS, Partner
from ...services.delivery import agent_leases
from ...services.inbound import mailbox
from ...services.monitoring import polling_plan
from ...services.outbox import webhooks
from ...services.outbox.store_switches import PARTS
from ...services.partners import connections, description_trials, descriptions, partner_terms, rosters
from ...services.pricing.drafts import SUPPLIER_TERMS
from ..deps import AppState, ReadContext, SignedIn, TheApp, WriteContext, context_of
from ..guard import GuardedRouter, needs
from ..schemas import Ask, Big, Done, Money, minor, sure

router = GuardedRouter(tags=["setup"], read=(P.SEE_GOODS,), write=(P.SETTINGS,))


class KindOut(BaseModel):
    owner: str
    kind: str
    name: str
    key_hint: str
    address_hint: str
    # Its sheets' columns must be named before it can be read; a person enters how it sends.
    by_sheets: bool


class PartnerOut(BaseModel):
    owner: str
    id: int
    version: int
    name: str
    code: str
    kind: str
    country: str
    currency: str
    also: list[str]
    address: str
    state: str
    message: str
    may: list[str]
    good_at: datetime | None
    rest_until: datetime | None
    switches: dict[str, bool]
    sweep_minutes: int | None
    # What it lets us ask: calls a minute and a day, between which hours of the house's day.
    calls_minute: int | None
    calls_day: int | None
    hour_from: int | None
    hour_to: int | None
    # What a supplier gives, in ppm: discount, rebate, tax; None for others.
    terms: dict[str, int] | None
    # Calls that the partner allows in its stretch of time, and how many were left at its last answer.
    calls_limit: int | None
    calls_left: int | None
    calls_at: datetime | None
    # A supplier by sheets: whether its columns have been named. A store by a program: whether it has a token.
    columns_named: bool | None
    token: bool | None
    allowance_units: int | None
    allowance_listings: int | None
    allowance_value: Money | None
    # The allowance is a person's word, not the store's.
    allowance_by_hand: bool
    # A store: which of prices, stock and orders go out; None for others.
    goes_out: dict[str, bool] | None
    # When a supplier by hand last gave a sheet.
    sheet_at: datetime | None
    # The account number by which it knows us, and since when it is paused or disconnected.
    account: str
    paused_at: datetime | None
    ended_at: datetime | None
    # An address of one's own: what it is told of; None for others.
    events: list[str] | None
    # A partner by a description: which, and what is certified of it; '' for others.
    described: str


@router.get("/setup/kinds")
@needs()
def kinds(number: SignedIn) -> list[KindOut]:
    return [
        KindOut(
            owner=k.owner,
            kind=k.kind,
            name=k.name,
            key_hint=k.key_hint,
            address_hint=k.address_hint,
            by_sheets=k.how is not None or k.kind == "sheet",
        )
        for k in KINDS
        if not k.by_program
    ]


@router.get("/setup/partners")
@needs()
def partners(context: ReadContext) -> list[PartnerOut]:
    """Who is connected, and how it goes. Whoever does not have the settings in hand reads their names, kinds and states alone."""
    found = _partners(context)
    if (context.allowed or EVERYTHING).may(P.SETTINGS):
        return found
    none = ("terms", "calls_limit", "calls_left", "calls_minute", "calls_day", "allowance_value")
    hidden = dict.fromkeys(("address", "account", "message"), "") | dict.fromkeys(none)
    return [one.model_copy(update=hidden) for one in found]


def _partners(context: Context) -> list[PartnerOut]:
    links, tokens, out = rosters.links(context), rosters.with_token(context), []
    described = {(use.owner, use.id): words for words, use in description_trials.in_words(context)}
    for owner in OWNERS:
        for row in rosters.of_kind(context, owner):
            link = links.get((owner, row.id))
            switches = {name: getattr(row, name) for name in ("read_orders", "watching", "replacements") if hasattr(row, name)}
            out.append(
                PartnerOut(
                    owner=owner,
                    id=row.id,
                    version=row.version,
                    name=row.name,
                    code=getattr(row, "code", ""),
                    kind=getattr(row, "kind", "smtp"),
                    country=getattr(row, "country", ""),
                    currency=getattr(row, "currency", ""),
                    also=list(getattr(row, "also", None) or []),
                    address=link.address if link else "",
                    state=link.state if link else "by sheets",
                    message=link.message if link else "",
                    may=link.may if link else [],
                    good_at=link.good_at if link else None,
                    rest_until=link.circuit_open_until if link else None,
                    switches=switches,
                    sweep_minutes=getattr(row, "sweep_minutes", None),
                    **{name: getattr(row, name, None) for name in polling_plan.LOOKS},
                    calls_limit=link.calls_limit if link else None,
                    calls_left=link.calls_left if link else None,
                    calls_at=link.calls_at if link else None,
                    columns_named=bool(row.reading) if getattr(row, "kind", "") in ("folder", "sheet") and owner == "supplier" else None,
                    token=row.id in tokens if getattr(row, "kind", "") == "program" else None,
                    allowance_units=getattr(row, "allowance_units", None),
                    allowance_listings=getattr(row, "allowance_listings", None),
                    allowance_value=sure(row.allowance_value, row.currency) if getattr(row, "allowance_value", None) is not None else None,
                    allowance_by_hand=getattr(row, "allowance_by_hand", False),
                    goes_out={part: getattr(row, name) for part, name in PARTS.items()} if owner == "store" else None,
                    sheet_at=row.good_sweep_at if owner == "supplier" and row.kind == "sheet" else None,
                    account=link.account if link else "",
                    paused_at=row.paused_at,
                    ended_at=row.ended_at,
                    events=row.events if owner == "webhook" else None,
                    described=described.get((owner, row.id), ""),
                    terms={name: getattr(row, name) for name in SUPPLIER_TERMS} if owner == "supplier" else None,
                )
            )
    return out


class JoinAsk(Ask):
    owner: str = Field(pattern="^(store|supplier|carrier|mailbox|rates|inbox|webhook|files)$")
    kind: str = Field(max_length=40)
    name: str = Field("", max_length=80)
    address: str = Field("", max_length=500)
    key: str = Field("", max_length=8000)
    country: str = Field("", max_length=2)
    currency: str = Field("", max_length=3)
    ship_first: Money | None = None
    ship_next: Money | None = None
    days: int = Field(3, ge=1, le=90)
    # A carrier without an interface.
    shape: str = Field("", max_length=40)
    page: str = Field("", max_length=500)
    # A mail server: the address that our mails come from.
    sender: str = Field("", max_length=200)
    # An address of one's own: what it is told of.
    events: list[EventGroup] = Field(default_factory=list, max_length=20)
    # A partner by a description: which one.
    description: int = Field(0, ge=0)


class Joined(Done):
    """id: the partner's number here. token: for the program of a closed store, shown this one time."""

    id: int
    name: str
    token: str | None = None


@router.post("/setup/partners", status_code=201)
def join(app: TheApp, number: SignedIn, request: Request, ask: JoinAsk) -> Joined:
    """Join a partner: its account is asked before anything is kept."""
    given = connections.Join(
        ask.owner,
        ask.kind,
        ask.name,
        ask.address,
        ask.key,
        ask.country,
        ask.currency,
        ask.shape,
        ask.page,
        ask.sender,
        tuple(ask.events),
        ask.description,
    )
    uncalled, token = ask.kind in UNCALLED, None
    described, lent = "", ask.kind == DESCRIBED and not ask.key.strip()
    if ask.kind == DESCRIBED:
        with app.db.reading() as s:
            context = context_of(request, s)
            described = descriptions.ready(context, ask.description).text
            if lent and descriptions.needs_key(described):
                given = replace(given, key=descriptions.key_to_join(context, app.connectors.credentials, ask.description))
    saver = app.connectors.saver("description", ask.description) if lent else None
    account = None if uncalled else connections.ask_account(app.connectors, given, described, saver or (lambda key: None))
    with app.db.writing() as s:
        context = context_of(request, s)
        if account is None:
            row: Partner = _join_uncalled(context, ask, given)
        else:
            row = connections.join_partner(context, app.connectors, given, account)
            if isinstance(row, Inbox):
                # What lies there now was there before us; all that comes from now on is read.
                mailbox.leave_old(context, row, account.there)
            if isinstance(row, Store | Supplier):
                what = "listings" if isinstance(row, Store) else "items"
                if isinstance(row, Store) or row.watching:
                    title = f"Bringing in {row.name}'s {what}"
                    start(context, "join", f"join-{ask.owner}-{row.id}", title, {"owner": ask.owner, "id": row.id})
        if lent:
            descriptions.hand_over_key(context, ask.description)
        if ask.kind == "program":
            token = agent_leases.make_token(context, row.id)
        without_terms = ask.kind == "folder" or uncalled or (described and not descriptions.tells_terms(described))
        if isinstance(row, Supplier) and without_terms:
            first, following = minor(ask.ship_first, "ship_first") or 0, minor(ask.ship_next, "ship_next") or 0
            partner_terms.write_one_origin(context, row, first, following, ask.days)
        joined = Joined(message=f"{row.name} is connected", id=row.id, name=row.name, token=token)
    if ask.owner == "store" and account is not None:
        _ask_for_words(app, joined.id)
    return joined


def _join_uncalled(context: Context, ask: JoinAsk, given: connections.Join) -> Partner:
    if ask.owner == "carrier" and ask.kind == "by_hand":
        return connections.join_by_hand(context, given)
    if ask.owner not in ("store", "supplier") or ask.kind == "by_hand" or (ask.kind == "program" and ask.owner != "store"):
        raise Invalid("only a store or a supplier can be joined that way")
    if not ask.name:
        raise Invalid("give it a name", {"name": "is empty"})
    return connections.join_uncalled(context, given)


@router.post("/setup/stores/{number}/token", status_code=201)
def new_token(context: WriteContext, number: Big) -> Joined:
    """A new token for a closed store's program; the old one ends at once. Cannot be undone."""
    name = context.get(Store, number, "store").name
    return Joined(message="A new token; the old one has ended", id=number, name=name, token=agent_leases.make_token(context, number))


def _ask_for_words(app: AppState, store: int) -> None:
    """Ask the store to tell of new orders; where it cannot, they are read by the clock all the same."""
    address = f"{app.settings.address}/api/v1/hooks/stores/{store}"
    try:
        with app.db.reading() as s:
            link = app.connectors.store(Context(s, app.clock, ""), store)
        link.tell_of_orders(address, app.connectors.credentials.for_use(f"hook-{store}"))
    except OutsideError:
        return


@router.post("/hooks/stores/{store}")
@needs(limited=True)
async def word(request: Request, store: Big, app: TheApp) -> dict[str, int]:
    """A store's word of a new order. Its signature is its key; the body is checked like any other."""

    body = await request.body()
    if len(body) > 1_000_000:
        raise Invalid("the word is too long")
    headers = {name.lower(): value for name, value in request.headers.items()}
    try:
        return {"new": await anyio.to_thread.run_sync(app.reader.word, store, headers, body)}
    except Denied as error:
        raise HTTPException(401, error.message) from error


class LooksAsk(Ask):
    """How often a supplier is looked at, and what it lets us ask; None = no limit. Hours are of the house's day."""

    version: int
    sweep_minutes: int = Field(ge=1, le=60 * 24 * 7)
    calls_minute: int | None = Field(None, ge=1, le=100_000)
    calls_day: int | None = Field(None, ge=1, le=10_000_000)
    hour_from: int | None = Field(None, ge=0, le=23)
    hour_to: int | None = Field(None, ge=0, le=23)


@router.post("/setup/suppliers/{number}/looks")
def set_looks(context: WriteContext, number: Big, ask: LooksAsk) -> Done:
    """How often and when a supplier may be looked at; the calls plan follows at once."""
    message = polling_plan.set_looks(context, number, ask.version, ask.model_dump(exclude={"version"}))
    return Done(message=message)


class EventsAsk(Ask):
    version: int
    events: list[EventGroup] = Field(max_length=20)


@router.post("/setup/webhooks/{number}/events")
def choose_events(context: WriteContext, number: Big, ask: EventsAsk) -> Done:
    """What an address of one's own is told of from now on."""
    row = webhooks.choose(context, number, ask.version, ask.events)
    return Done(message=f"{row.name} is told of that from now on")


class SwitchAsk(Ask):
    version: int
    read_orders: bool | None = None
    watching: bool | None = None
    replacements: bool | None = None
    sweep_minutes: int | None = Field(None, ge=1, le=60 * 24 * 7)


@router.patch("/setup/partners/{owner}/{number}")
def switch(context: WriteContext, owner: str, number: Big, ask: SwitchAsk) -> Done:
    if owner not in ("store", "supplier"):
        raise Invalid("only stores and suppliers have switches")
    row = context.get_version(OWNERS[owner], number, ask.version, owner)
    changes = []
    for name, value in ask.model_dump(exclude={"version"}, exclude_none=True).items():
        if not hasattr(row, name):
            raise Invalid(f"a {owner} has no switch {name}")
        setattr(row, name, value)
        changes.append(f"{name.replace('_', ' ')} {'on' if value is True else 'off' if value is False else value}")
    context.log("partner.switch", row.name, f"{row.name}: {', '.join(changes)}")
    if ask.watching and getattr(row, "kind", "") == "folder" and not row.reading:
        raise Conflict("name the columns of its sheet first")
    if ask.replacements is not None:
        context.session.flush()
        context.reroute()
    return Done(message="Changed")


def _world(app: AppState) -> str:
    if not app.settings.world:
        raise Conflict("there is no practice world here")
    return app.settings.world


def _call(app: AppState, method: str, path: str, body: object = None) -> Any:  # noqa: ANN401 - whatever JSON the practice world answers
    try:
        response = httpx.request(method, f"{_world(app)}{path}", json=body, timeout=30, trust_env=False)
    except httpx.HTTPError as error:
        raise OutsideError("the practice world does not answer; start it with make demo") from error
    if response.is_error:
        raise Invalid(str(response.json().get("detail", "the practice world says no")))
    return response.json()


class ClockAsk(Ask):
    speed: float | None = Field(None, ge=0, le=3600)
    jump_minutes: float | None = Field(None, gt=0, le=60 * 24 * 14)
    next_event: bool = False


class ClockOut(BaseModel):
    now: datetime
    speed: float


@router.get("/world/clock")
@needs(P.SETTINGS)
def clock(app: TheApp, number: SignedIn) -> ClockOut:
    return ClockOut(**_call(app, "GET", "/world/clock"))


@router.post("/world/clock")
def set_clock(app: TheApp, number: SignedIn, ask: ClockAsk) -> ClockOut:
    out = ClockOut(**_call(app, "POST", "/world/clock", ask.model_dump(exclude_none=True)))
    if isinstance(app.clock, PacedClock):
        app.clock.set(out.now, out.speed)
    return out


class DialOut(BaseModel):
    name: str
    message: str
    unit: str
    value: float


class ServiceDials(BaseModel):
    service: str
    name: str
    dials: list[DialOut]


class DialAsk(Ask):
    service: str = Field(max_length=40)
    name: str = Field(max_length=40)
    value: float = Field(ge=0, le=1000)


@router.get("/world/dials")
@needs(P.SETTINGS)
def dials(app: TheApp, number: SignedIn) -> list[ServiceDials]:
    return [ServiceDials(**one) for one in _call(app, "GET", "/world/dials")["services"]]


@router.post("/world/dials")
def turn(app: TheApp, number: SignedIn, ask: DialAsk) -> list[ServiceDials]:
    return [ServiceDials(**one) for one in _call(app, "POST", "/world/dials", ask.model_dump())["services"]]


class MailSeen(BaseModel):
    id: int
    at: datetime
    reference: str
    to: str
    subject: str
    body: str


@router.get("/world/mail")
@needs(P.SETTINGS)
def mail(app: TheApp, number: SignedIn) -> list[MailSeen]:
    return [MailSeen(**one) for one in _call(app, "GET", "/mail/api/messages")["messages"]]


@router.post("/world/buy")
def buy(app: TheApp, number: SignedIn) -> Done:
    return Done(message=f"Somebody bought: order {_call(app, 'POST', '/world/buy', {})['number']}")
