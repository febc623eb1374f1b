"""Joining partners: address and key checked, sealed, and looked at again whenever a person asks."""

from __future__ import annotations

import re
import secrets
from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

from sqlalchemy import select, update

from ...connectors.errors import Denied, OutsideError, Refused
from ...connectors.kinds import DESCRIBED, KINDS, connect, kind_named
from ...connectors.protocols import Account, Mail, PartnerLink
from ...core.currency import minor_digits
from ...core.events import EventGroup
from ...core.ids import check_country
from ...core.states import LINK, OutboxState
from ...data.files import FileServer
from ...data.outbox import Outbox
from ...data.setup import Carrier, Inbox, Link, Mailbox, RateSource, Store, Supplier, Webhook
from ..base.context import Context
from ..base.errors import Conflict, Invalid
from ..base.partner_identity import CALLED, OWNERS, Partner, fresh_name, plain_address, refuse_twin
from ..fulfilment import carrier_names
from ..purchasing import order_settings
from . import descriptions
from .partner_terms import take_reported
from .registry import ConnectorRegistry, link_of

Open = Callable[[str, str, str, str], Any]


@dataclass(frozen=True)
class Join:
    """What a person gives to join a partner. country and currency may stay empty: the partner says them."""

    owner: str
    kind: str
    name: str
    address: str
    key: str = ""
    country: str = ""
    currency: str = ""
    # A carrier without an interface: what its numbers look like, and where they can be followed.
    shape: str = ""
    page: str = ""
    # A mail server: the address that our mails come from; one to itself tries it.
    sender: str = ""
    # An address of one's own: what it is told of.
    events: tuple[EventGroup, ...] = ()
    # A partner by a description: which one.
    description: int = 0


def code_of(context: Context, name: str, kind: type[Store] | type[Supplier] | type[Carrier] | type[RateSource]) -> str:
    """A short code of our own from a name, unique among its kind."""
    letters = re.sub(r"[^A-Z0-9]+", " ", name.upper()).split()
    base = ("".join(word[0] for word in letters) if len(letters) > 1 else (letters or ["X"])[0][:3]) or "X"
    taken = set(context.session.scalars(select(kind.code)))
    code, n = base, 2
    while code in taken:
        code, n = f"{base}{n}", n + 1
    return code


def ask_account(connectors: ConnectorRegistry, join: Join, described: str = "", save: Callable[[str], None] = lambda key: None) -> Account:
    """Call the partner once with the given key; Invalid says why it failed and how to mend it.

    described: the text of its description; save: keeps a key that the partner renews meanwhile.
    """
    if not any((kind.owner, kind.kind) == (join.owner, join.kind) and not kind.by_program for kind in KINDS):
        raise Invalid("choose a kind from the list", {"kind": "is not one of the kinds"})
    try:
        address, key = plain_address(join.address), join.key.strip()
        renewed: list[str] = []

        def keep(fresh: str) -> None:
            renewed.append(fresh)
            save(fresh)

        how = {"description": described, "save": keep} if described else None
        account = connect(join.owner, join.kind, address, key, connectors.deadline, connectors.transport, how).account()
        if join.owner == "mailbox" and join.sender:
            name = join.name.strip() or "Amber Lane"
            text = "This mail was sent to try the mail server. That you can read it means that it works.\n"
            mailbox = connect("mailbox", join.kind, address, key, connectors.deadline, connectors.transport)
            mailbox.send(Mail(f"try-{secrets.token_hex(6)}", f"{name} <{join.sender}>", join.sender, "Amber Lane can send mail", text))
        account = replace(account, key=renewed[-1]) if renewed else account
    except Denied as error:
        raise Invalid(f"{error.message}. Copy the key again from the partner's own pages", {"key": error.message}) from error
    except OutsideError as error:
        raise Invalid(error.message, {"address": error.message}) from error
    return account


def _row(context: Context, join: Join, name: str, country: str, currency: str, account: Account) -> Partner:
    """What is kept of a new partner, by its kind; Invalid where what it is said to be is not what it says."""
    if join.owner in ("store", "supplier"):
        try:
            country, _ = check_country(country), minor_digits(currency)
        except ValueError as error:
            raise Invalid(str(error)) from error
        if join.currency and join.currency.upper() != currency:
            raise Invalid(f"{account.name} works in {currency}, not in {join.currency.upper()}", {"currency": f"is {currency} there"})
    if join.owner == "store":
        return Store(
            code=code_of(context, name, Store), name=name, kind=join.kind, country=country, currency=currency, next_read=context.now
        )
    if join.owner == "supplier":
        row = Supplier(
            code=code_of(context, name, Supplier),
            name=name,
            kind=join.kind,
            country=country,
            currency=currency,
            next_sweep=context.now,
            next_ask=context.now,
            sweep_minutes=kind_named("supplier", join.kind).sweep_minutes,
        )
        # A sheet is not read before a person has said what its columns are.
        kind = kind_named("supplier", join.kind)
        # Of a depot there is nothing to watch: what it has is ours.
        row.watching = not kind.how and not kind.holds
        return row
    if join.owner == "carrier":
        return Carrier(code=code_of(context, name, Carrier), name=name, kind=join.kind, store_names={}, next_ask=context.now)
    if join.owner == "rates":
        return RateSource(code=code_of(context, name, RateSource), name=name, kind=join.kind, next_ask=context.now)
    if join.owner == "inbox":
        return Inbox(name=name, kind=join.kind, next_read=context.now)
    if join.owner == "files":
        return FileServer(name=name, kind=join.kind, next_read=context.now)
    if join.owner == "webhook":
        events = sorted({one.value for one in join.events})
        if not events:
            raise Invalid("choose what it is told of", {"events": "is empty"})
        return Webhook(name=name, kind=join.kind, events=events, person_id=context.person, made_at=context.now)
    return Mailbox(sender=join.sender or "orders@amber-lane.invalid", name=name)


def join_partner(context: Context, connectors: ConnectorRegistry, join: Join, account: Account) -> Partner:
    """Enter a partner whose account has just answered."""
    address = plain_address(join.address)
    refuse_twin(context, join.owner, join.kind, address, account.number)
    name = fresh_name(context, join.owner, join.name.strip() or account.name)
    country, currency = (account.country or join.country).upper(), (account.currency or join.currency).upper()
    row = _row(context, join, name, country, currency, account)
    context.session.add(row)
    context.session.flush()
    take_reported(context, row, account)
    link = Link(
        owner=join.owner,
        owner_id=row.id,
        address=address,
        account=account.number,
        sealed_key=connectors.credentials.seal(account.key or join.key.strip()),
        state=LINK.target("work"),
        message="",
        may=list(account.may),
        good_at=context.now,
    )
    if join.kind == DESCRIBED:
        descriptions.speak_by(link, descriptions.version_to_join(context, join.description, join.owner))
    context.session.add(link)
    context.log(f"{join.owner}.join", name, f"{name} joined as a {CALLED.get(join.owner, join.owner)}")
    context.session.flush()
    return row


def join_by_hand(context: Context, join: Join) -> Carrier:
    """Enter a carrier that has no interface: its parcels move by sheets, mails, a person's word, and by their age."""
    name = fresh_name(context, "carrier", join.name)
    row = Carrier(code=code_of(context, name, Carrier), name=name, kind=join.kind, store_names={})
    row.shape, row.page = order_settings.check_carrier_shape(join.shape or "*"), order_settings.check_page(join.page)
    context.session.add(row)
    context.session.flush()
    carrier_names.match(context)
    context.log("carrier.join", name, f"{name} joined as a carrier without an interface")
    return row


def join_uncalled(context: Context, join: Join) -> Store | Supplier:
    """Enter a store or supplier that is never called: sheets go in and out by a person's hand, or a program calls us."""
    try:
        country, currency = check_country(join.country), join.currency.strip().upper()
        minor_digits(currency)
    except ValueError as error:
        raise Invalid(str(error)) from error
    table: type[Store] | type[Supplier] = Store if join.owner == "store" else Supplier
    name = fresh_name(context, join.owner, join.name)
    row = table(code=code_of(context, name, table), name=name, kind=join.kind, country=country, currency=currency)
    if isinstance(row, Store):
        row.read_orders = join.kind == "program"
    else:
        row.watching = False
    context.session.add(row)
    context.session.flush()
    take_reported(context, row, Account(row.name, country, currency, []))
    if join.kind == "program":
        may = ["read listings", "write listings", "make listings", "read orders", "write fulfilments"]
        message = "its program has not called yet; start it with the token"
        context.session.add(
            Link(owner="store", owner_id=row.id, address=f"program of {row.code}", state=LINK.first, message=message, may=may)
        )
    how = "is worked by a program" if join.kind == "program" else "works by sheets"
    context.log(f"{join.owner}.join", row.name, f"{row.name} joined as a {join.owner} that {how}")
    context.session.flush()
    return row


def note_health(context: Context, owner: str, owner_id: int, error: OutsideError | None) -> None:
    """Remember what the last call to a partner said."""
    link = link_of(context, owner, owner_id)
    if error is None:
        link.state, link.message, link.good_at = LINK.step(link.state, "work"), "", context.now
    else:
        link.state, link.message = LINK.step(link.state, "break" if isinstance(error, Refused) else "fail"), error.message


def note_budget(context: Context, owner: str, owner_id: int, link: PartnerLink) -> None:
    """Remember how many calls a partner allows, and how many were left when it last said so."""
    budget = link.budget()
    if budget is not None:
        row = link_of(context, owner, owner_id)
        row.calls_limit, row.calls_left, row.calls_at = budget.limit, budget.left, context.now


def renew_key(context: Context, connectors: ConnectorRegistry, owner: str, owner_id: int, address: str, key: str, account: Account) -> Link:
    """Enter a new address or key for a link after `account` has answered with them; an empty key keeps the old one.

    Conflict when they lead to another account than before: what is known of the one would be taken for the other's.
    """
    link, row = link_of(context, owner, owner_id), context.get(OWNERS[owner], owner_id, owner)
    link.address = plain_address(address) if address.strip() else link.address
    if account.number and link.account and account.number != link.account:
        raise Conflict(f"this key opens another account ({account.number}, not {link.account}); connect that one as a partner of its own")
    refuse_twin(context, owner, getattr(row, "kind", "smtp"), link.address, account.number, besides=owner_id)
    link.account = account.number or link.account
    if account.key or key.strip():
        link.sealed_key = connectors.credentials.seal(account.key or key.strip())
    link.state, link.message, link.good_at = LINK.step(link.state, "work"), "", context.now
    link.circuit_open_until, link.failures = None, 0
    link.version += 1
    # What waited for the link goes on at once.
    waits = (Outbox.target == f"{owner}:{owner_id}", Outbox.state.in_((OutboxState.waiting, OutboxState.unknown)), Outbox.tries > 0)
    context.session.execute(update(Outbox).where(*waits).values(after=context.now))
    context.log("link.renew", owner, f"{row.name}: its link was tried and works")
    return link
