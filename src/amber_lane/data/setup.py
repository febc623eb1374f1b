"""Stores, suppliers, what they take and where they send, links with their sealed keys, people."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import CheckConstraint, ForeignKey, Index, UniqueConstraint, text
from sqlalchemy.orm import Mapped, mapped_column

from ..core.states import LinkState
from .base import Row, Versioned

PARCEL_NOTE = "Please put no prices or adverts in the parcel."


class Partner(Versioned):
    """Whoever we are connected with. paused_at: nothing is read or written, all is kept; ended_at: disconnected."""

    __abstract__ = True

    paused_at: Mapped[datetime | None]
    ended_at: Mapped[datetime | None]


class Store(Partner):
    __tablename__ = "store"
    code: Mapped[str] = mapped_column(unique=True)
    name: Mapped[str]
    kind: Mapped[str]
    country: Mapped[str]
    currency: Mapped[str]
    tax_in_price: Mapped[int] = mapped_column(default=0)
    payment: Mapped[int] = mapped_column(default=0)
    payment_fixed: Mapped[int] = mapped_column(default=0)
    read_orders: Mapped[bool] = mapped_column(default=True)
    # A store begins in practice: all is read, decided and shown, and nothing is written or bought before a person turns it on.
    write_prices: Mapped[bool] = mapped_column(default=False)
    write_stock: Mapped[bool] = mapped_column(default=False)
    buy_orders: Mapped[bool] = mapped_column(default=False)
    # A person has seen and agreed to a first move of very many of its prices at once.
    mass_agreed: Mapped[bool] = mapped_column(default=False)
    allowance_units: Mapped[int | None]
    allowance_listings: Mapped[int | None]
    # What all that it shows may be worth, in its minor units.
    allowance_value: Mapped[int | None]
    # A person set the allowance, so what the store tells of it does not count.
    allowance_by_hand: Mapped[bool] = mapped_column(default=False)
    # What its titles may be, and the order of attributes that it likes in them.
    title_most: Mapped[int | None]
    banned_words: Mapped[list[Any]] = mapped_column(default=list)
    title_order: Mapped[list[Any]] = mapped_column(default=list)
    # Its buyers are to be told who makes what is made for their order.
    tell_maker: Mapped[bool] = mapped_column(default=False)
    # Whether its buyers may be sent an allowed replacement.
    replacements: Mapped[bool] = mapped_column(default=False)
    # The carriers that it knows, by its own names for them; empty = it has told none.
    carriers: Mapped[list[Any]] = mapped_column(default=list)
    # A word to the receiver of a parcel ({name} is filled in), and the number that carriers may call instead of the buyer's.
    greeting: Mapped[str] = mapped_column(default="")
    phone: Mapped[str] = mapped_column(default="")
    # How far its returns were read.
    returns_cursor: Mapped[str] = mapped_column(default="")
    orders_cursor: Mapped[str | None]
    next_read: Mapped[datetime | None]
    # When its listings are next read, to be compared with what we asked.
    next_check: Mapped[datetime | None]
    # What it paid out is read up to here, and next read then; empty where it tells none.
    settled_cursor: Mapped[str | None]
    next_settled: Mapped[datetime | None]


class FeeRow(Versioned):
    """What a store takes by category; an empty category is for all others."""

    __tablename__ = "fee_row"
    __table_args__ = (UniqueConstraint("store_id", "category"),)
    store_id: Mapped[int] = mapped_column(ForeignKey("store.id"))
    category: Mapped[str] = mapped_column(default="")
    percent: Mapped[int] = mapped_column(default=0)
    least: Mapped[int] = mapped_column(default=0)
    cap: Mapped[int | None]
    fixed: Mapped[int] = mapped_column(default=0)


class Supplier(Partner):
    __tablename__ = "supplier"
    code: Mapped[str] = mapped_column(unique=True)
    name: Mapped[str]
    kind: Mapped[str]
    country: Mapped[str]
    currency: Mapped[str]
    tax: Mapped[int] = mapped_column(default=0)
    discount: Mapped[int] = mapped_column(default=0)
    rebate: Mapped[int] = mapped_column(default=0)
    sweep_minutes: Mapped[int] = mapped_column(default=15)
    watching: Mapped[bool] = mapped_column(default=True)
    next_sweep: Mapped[datetime | None]
    # When its whole catalogue is read anew, for new items and new words.
    next_catalogue: Mapped[datetime | None]
    good_sweep_at: Mapped[datetime | None]
    feed_as_of: Mapped[datetime | None]
    stale: Mapped[bool] = mapped_column(default=False)
    next_ask: Mapped[datetime | None]
    note: Mapped[str] = mapped_column(default="")
    # What the addresses of its items' pages begin with, and how its sheets are read.
    site: Mapped[str] = mapped_column(default="")
    reading: Mapped[dict[str, Any] | None]
    # Its sheets list all that it sells, so what is not in a new one is gone; None = nobody was asked yet.
    sheet_whole: Mapped[bool | None]
    # Where requests to find something are sent; '' = by hand.
    mail: Mapped[str] = mapped_column(default="")
    # Other currencies that some of its items are sold in; its sending and its bills are in its own.
    also: Mapped[list[Any]] = mapped_column(default=list)
    # What it lets us ask: calls a minute and a day, and between which hours of the house's day; None = as it answers.
    calls_minute: Mapped[int | None]
    calls_day: Mapped[int | None]
    hour_from: Mapped[int | None]
    hour_to: Mapped[int | None]
    # Memberships and volume discounts that it offers; see core.plans.
    plans: Mapped[list[Any]] = mapped_column(default=list)
    # What goes with every order; whose phone it is told (buyer, store, none); sheet or ubl, and by which road (hand, mail, folder).
    parcel_note: Mapped[str] = mapped_column(default=PARCEL_NOTE)
    phone_rule: Mapped[str] = mapped_column(default="buyer")
    order_form: Mapped[str] = mapped_column(default="sheet")
    order_road: Mapped[str] = mapped_column(default="hand")
    # Of its orders how many it refuses, and how many come late, in ppm (services.mapping.performance); None = nothing is known.
    refuse_ppm: Mapped[int | None]
    late_ppm: Mapped[int | None]
    # What is lost on claims, in ppm of what its goods cost; None = nothing was claimed yet.
    claim_ppm: Mapped[int | None]


class Origin(Versioned):
    __tablename__ = "origin"
    __table_args__ = (UniqueConstraint("supplier_id", "code"),)
    supplier_id: Mapped[int] = mapped_column(ForeignKey("supplier.id"))
    code: Mapped[str]
    name: Mapped[str]
    country: Mapped[str]
    cut_off: Mapped[str] = mapped_column(default="16:00")
    handling: Mapped[int] = mapped_column(default=0)
    holidays: Mapped[list[Any]] = mapped_column(default=list)
    return_address: Mapped[str] = mapped_column(default="")


class Service(Versioned):
    """A way of sending from an origin to a country; money in the supplier's currency."""

    __tablename__ = "service"
    __table_args__ = (UniqueConstraint("origin_id", "code", "country"),)
    origin_id: Mapped[int] = mapped_column(ForeignKey("origin.id"))
    code: Mapped[str]
    name: Mapped[str]
    country: Mapped[str]
    first: Mapped[int]
    following: Mapped[int]
    free_over: Mapped[int | None]
    weight_bands: Mapped[list[Any]] = mapped_column(default=list)
    days_low: Mapped[int]
    days_high: Mapped[int]
    tracked: Mapped[bool] = mapped_column(default=True)


class BuyingAccount(Versioned):
    """An account of ours at a supplier: what may be bought by it in a day, and whether its orders go by themselves."""

    __tablename__ = "buying_account"
    supplier_id: Mapped[int] = mapped_column(ForeignKey("supplier.id"))
    name: Mapped[str]
    cap_money: Mapped[int | None]
    cap_orders: Mapped[int | None]
    # hand, once or after so many minutes; None = as the policy says.
    send: Mapped[str | None]
    send_minutes: Mapped[int | None]


class Link(Versioned):
    """How a partner is reached. The key is sealed; health is what the last call said."""

    __tablename__ = "link"
    __table_args__ = (
        UniqueConstraint("owner", "owner_id"),
        CheckConstraint("owner in ('store','supplier','carrier','mailbox','rates','inbox','webhook','files')", name="owner"),
    )
    owner: Mapped[str]
    owner_id: Mapped[int]
    address: Mapped[str]
    # The number by which the partner knows us, where it tells one: the same account is never connected twice.
    account: Mapped[str] = mapped_column(default="")
    sealed_key: Mapped[str] = mapped_column(default="")
    state: Mapped[LinkState] = mapped_column(default="new")
    message: Mapped[str] = mapped_column(default="")
    may: Mapped[list[Any]] = mapped_column(default=list)
    good_at: Mapped[datetime | None]
    failures: Mapped[int] = mapped_column(default=0)
    circuit_open_until: Mapped[datetime | None]
    # How many calls the partner allows, and how many were left at its last answer.
    calls_limit: Mapped[int | None]
    calls_left: Mapped[int | None]
    calls_at: Mapped[datetime | None]
    # Of a partner by a description: which version it is spoken to by now, and what that lets it do (connectors.abilities).
    description_version_id: Mapped[int | None] = mapped_column(ForeignKey("description_version.id"))
    can: Mapped[list[Any]] = mapped_column(default=list)


class Carrier(Partner):
    __tablename__ = "carrier"
    code: Mapped[str] = mapped_column(unique=True)
    name: Mapped[str]
    kind: Mapped[str]
    store_names: Mapped[dict[str, Any]] = mapped_column(default=dict)
    # Names that it had before; suppliers go on using them.
    also_called: Mapped[list[Any]] = mapped_column(default=list)
    # What its numbers look like, A for a letter and 9 for a digit; '' = as posts number them (UPU S10), with a check digit.
    # '*' = any letters and digits, where nobody knows.
    shape: Mapped[str] = mapped_column(default="")
    # Where a parcel can be followed by anybody; {number} stands for its number. '' = nowhere.
    page: Mapped[str] = mapped_column(default="")
    next_ask: Mapped[datetime | None]


class Webhook(Partner):
    """An address of the house's own that is told of chosen events. events: their names (core.events); person_id: who set it up."""

    __tablename__ = "webhook"
    name: Mapped[str]
    kind: Mapped[str]
    events: Mapped[list[Any]]
    person_id: Mapped[int | None] = mapped_column(ForeignKey("person.id"))
    made_at: Mapped[datetime]


class RateSource(Partner):
    """Where exchange rates are read once a day. doubted: pair -> a rate too odd to be used until it is told again."""

    __tablename__ = "rate_source"
    code: Mapped[str] = mapped_column(unique=True)
    name: Mapped[str]
    kind: Mapped[str]
    next_ask: Mapped[datetime | None]
    doubted: Mapped[dict[str, Any]] = mapped_column(default=dict)


class Mailbox(Partner):
    __tablename__ = "mailbox"
    sender: Mapped[str]
    name: Mapped[str]


class Inbox(Partner):
    """A mailbox where suppliers' answers come in; nothing is ever deleted there."""

    __tablename__ = "inbox"
    name: Mapped[str]
    kind: Mapped[str]
    next_read: Mapped[datetime | None]
    # What lay there when it was joined has been left; all that comes from then on is read.
    begun: Mapped[bool] = mapped_column(default=False)
    # The receiving server whose word on who wrote a mail counts (RFC 8601), as it calls itself there; '' = none.
    trusts: Mapped[str] = mapped_column(default="")


class MailKey(Row):
    """What a mail of ours to a supplier carries and nobody can guess, so that an answer with it is theirs."""

    __tablename__ = "mail_key"
    key: Mapped[str] = mapped_column(unique=True)
    supplier_id: Mapped[int] = mapped_column(ForeignKey("supplier.id"))
    at: Mapped[datetime]


class Letter(Row):
    """A mail that came, each once. told: what was done with it; needs: a person must read it, until read_at.

    held: its files were not taken, since nothing proves who wrote it; a person may have them taken.
    order_id: of an order that a buyer writes about; is_buyers: from the address that they ordered with; pictures: numbers of those in it.
    """

    __tablename__ = "letter"
    __table_args__ = (
        UniqueConstraint("inbox_id", "uid"),
        Index("ix_letter_needs", "needs", sqlite_where=text("needs"), postgresql_where=text("needs")),
    )
    inbox_id: Mapped[int] = mapped_column(ForeignKey("inbox.id"))
    uid: Mapped[str]
    at: Mapped[datetime]
    sender: Mapped[str]
    subject: Mapped[str]
    body: Mapped[str]
    supplier_id: Mapped[int | None] = mapped_column(ForeignKey("supplier.id"))
    message: Mapped[str]
    needs: Mapped[bool]
    read_at: Mapped[datetime | None]
    held: Mapped[bool] = mapped_column(default=False)
    order_id: Mapped[int | None] = mapped_column(ForeignKey("order.id"))
    is_buyers: Mapped[bool] = mapped_column(default=False)
    pictures: Mapped[list[Any]] = mapped_column(default=list)


class Person(Versioned):
    """Who may sign in, until gone_at.

    second: the sealed secret of the codes that their phone shows, '' = they sign in by password alone; second_step: the half minute whose
    code was taken last, since each is good once; recovery: hashes of the codes that are left for when the phone is lost.
    """

    __tablename__ = "person"
    name: Mapped[str]
    mail: Mapped[str] = mapped_column(unique=True)
    password: Mapped[str]
    role: Mapped[str] = mapped_column(default="manager")
    scope: Mapped[dict[str, Any]] = mapped_column(default=dict)
    seen_at: Mapped[datetime | None]
    gone_at: Mapped[datetime | None]
    second: Mapped[str] = mapped_column(default="")
    second_step: Mapped[int] = mapped_column(default=0)
    recovery: Mapped[list[Any]] = mapped_column(default=list)


class PasswordLink(Row):
    """A link under which somebody says a new password, once: who forgot theirs, or (invites) who is invited and has none yet.

    hash: of the secret in it. Times are real.
    """

    __tablename__ = "password_link"
    __table_args__ = (Index("ix_password_link_person_id", "person_id", "id"),)
    hash: Mapped[str] = mapped_column(unique=True)
    person_id: Mapped[int] = mapped_column(ForeignKey("person.id"))
    at: Mapped[datetime]
    used_at: Mapped[datetime | None]
    invites: Mapped[bool] = mapped_column(default=False)


class SignIn(Row):
    """One signing in, on one browser, until it is ended or has been left alone for too long. hash: of the secret in its cookie.

    Times are real ones, whatever the clock of the practice world says.
    """

    __tablename__ = "sign_in"
    __table_args__ = (Index("ix_sign_in_person_id", "person_id", "id"),)
    hash: Mapped[str] = mapped_column(unique=True)
    person_id: Mapped[int] = mapped_column(ForeignKey("person.id"))
    at: Mapped[datetime]
    seen_at: Mapped[datetime]
    address: Mapped[str]
    program: Mapped[str]
    ended_at: Mapped[datetime | None]


class Token(Versioned):
    """A token of a program that works for a store without an open interface; only its hash is kept."""

    __tablename__ = "token"
    store_id: Mapped[int] = mapped_column(ForeignKey("store.id"))
    name: Mapped[str]
    hash: Mapped[str] = mapped_column(unique=True)
    used_at: Mapped[datetime | None]
    # The run of the program that may work for the store now, and until when it keeps others out.
    holder: Mapped[str] = mapped_column(default="")
    held_until: Mapped[datetime | None]
    # A person wants the store's listings read again; the program does it with its next round.
    read_anew: Mapped[bool] = mapped_column(default=False)


class Setting(Row):
    """Small facts of the house, by name."""

    __tablename__ = "setting"
    name: Mapped[str] = mapped_column(unique=True)
    value: Mapped[dict[str, Any]] = mapped_column(default=dict)


# Kinds that are never called: they work by sheets, or a program of theirs calls us.
UNCALLED = ("sheet", "program", "by_hand", "depot_sheet")
# Of these, suppliers and depots whose purchase orders go out as sheets or mails.
BY_SHEETS = ("sheet", "depot_sheet")
