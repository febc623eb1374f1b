"""One partner is connected once: known again by its account, or by its address where it tells none; names are given once."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any
from urllib.parse import urlsplit

from sqlalchemy import select

from ...connectors.addresses import canonical
from ...connectors.kinds import DESCRIBED
from ...data.files import FileServer
from ...data.setup import Carrier, Inbox, Link, Mailbox, RateSource, Store, Supplier, Webhook
from .context import Context
from .errors import Conflict, Invalid

Partner = Store | Supplier | Carrier | Mailbox | RateSource | Inbox | Webhook | FileServer
OWNERS: dict[str, Any] = {"store": Store, "supplier": Supplier, "carrier": Carrier, "mailbox": Mailbox, "rates": RateSource, "inbox": Inbox}
OWNERS |= {"webhook": Webhook, "files": FileServer}
# How partners are called in what a person reads.
CALLED = {
    "rates": "source of exchange rates",
    "inbox": "mailbox to read",
    "webhook": "address that is told of events",
    "files": "server of files",
}
NAME_MOST = 80


def plain_address(address: str) -> str:
    """An address in its one spelling; Invalid says what is wrong with it. A mail server's may have a second one after a `|`."""
    try:
        return "|".join(canonical(part) for part in address.split("|"))
    except ValueError as error:
        raise Invalid(f"the address: {error}", {"address": str(error)}) from error


def _same(address: str, other: str) -> bool:
    try:
        return plain_address(address) == plain_address(other)
    except Invalid:
        return address == other


def _host(address: str) -> str:
    return urlsplit(address.partition("|")[0]).netloc.lower()


def others(context: Context, owner: str, kind: str, besides: int | None) -> Iterator[tuple[Link, Any]]:
    table = OWNERS[owner]
    for link, row in context.session.execute(select(Link, table).join(table, table.id == Link.owner_id).where(Link.owner == owner)).all():
        if row.id != besides and (getattr(row, "kind", kind) == kind or DESCRIBED in (kind, getattr(row, "kind", ""))):
            yield link, row


def refuse_twin(context: Context, owner: str, kind: str, address: str, account: str, besides: int | None = None) -> None:
    """Conflict where this account is connected already, whatever its address or key; an address alone decides only where one of the two
    tells no account. A partner that was disconnected counts: connected anew, its orders would be read as new ones."""
    for link, row in others(context, owner, kind, besides):
        alike = getattr(row, "kind", kind) == kind or _host(address) == _host(link.address)
        if (account == link.account and alike) if account and link.account else _same(address, link.address):
            if row.ended_at is not None:
                raise Conflict(f"this is {row.name}, which was disconnected; connect it again there, so that nothing of it is taken twice")
            raise Conflict(f"already connected as {row.name}" + (f" (account {account})" if account else ""))


def fresh_name(context: Context, owner: str, name: str, besides: int | None = None) -> str:
    """A partner's name as it is kept; Invalid or Conflict where it cannot be used. Capitals and spaces make no other name."""
    name = " ".join(name.split())
    if not 1 <= len(name) <= NAME_MOST:
        raise Invalid(f"give it a name of up to {NAME_MOST} letters", {"name": f"must have 1 to {NAME_MOST} letters"})
    table = OWNERS[owner]
    for number, other in context.session.execute(select(table.id, table.name)):
        if number != besides and other.casefold() == name.casefold():
            raise Conflict(f"there is a {CALLED.get(owner, owner)} called {other} already; give this one another name")
    return name
