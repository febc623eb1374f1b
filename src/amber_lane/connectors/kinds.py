"""Every kind of partner that can be joined. A new kind is a description or a file, and one line here."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Literal, Protocol, overload

import httpx

from .abilities import Ability
from .craft_pages import CraftPages
from .depot_api import DepotApi
from .described.make import Described, abilities_of, make, of_text, shipped_one
from .errors import Refused
from .file_servers.buckets import Buckets
from .file_servers.ftps import Ftps
from .file_servers.pages import Pages
from .file_servers.protocol import FileLink
from .file_servers.sftp import Sftp
from .file_servers.webdav import WebDav
from .folder_sheet import FolderSheet
from .imap_mail import ImapMail
from .inbox_protocol import InboxLink
from .pop_mail import PopMail
from .print_house import PrintHouse
from .protocols import CarrierLink, MailLink, RatesLink, StoreLink, SupplierLink
from .smtp_mail import SmtpMail
from .webhook_payload import WebhookLink
from .webhook_post import WebhookPost


class Make(Protocol):
    """Makes a connector."""

    def __call__(self, address: str, key: str, deadline: float, transport: httpx.BaseTransport | None = None) -> AnyLink: ...


class MakeOfSheets(Protocol):
    """Makes a connector that must know how sheets are read: what a person said of that, None before anybody did."""

    def __call__(self, address: str, key: str, deadline: float, transport: httpx.BaseTransport | None, how: How | None) -> AnyLink: ...


@dataclass(frozen=True)
class Shipped:
    """Makes a connector by a description that comes with the application."""

    name: str

    def __call__(self, address: str, key: str, deadline: float, transport: httpx.BaseTransport | None = None) -> Described:
        return make(shipped_one(self.name), address, key, deadline, transport)

    @property
    def can(self) -> frozenset[Ability]:
        return abilities_of(shipped_one(self.name))


def _undescribed(address: str, key: str, deadline: float, transport: httpx.BaseTransport | None = None) -> Described:
    raise Refused("choose the description that it is spoken to by")


@dataclass(frozen=True)
class LinkKind:
    """How a kind is called and what its key looks like, for the form that joins it.

    how: makes it with what a person said of its sheets. by_program: only a program on the person's machine can
    reach it. sweep_minutes: how often it is worth looking at. can: what it can do and others of its owner cannot; a shipped description
    says it by itself. holds: it is a depot that holds goods of ours.
    """

    owner: str
    kind: str
    name: str
    key_hint: str
    make: Make | None
    address_hint: str = "https://…"
    how: MakeOfSheets | None = None
    by_program: bool = False
    sweep_minutes: int = 15
    holds: bool = False
    can: frozenset[Ability] = frozenset()


_IN_FULL = frozenset({Ability.recalls, Ability.claims})
# A partner whose interface is described by whoever connects it.
DESCRIBED = "described"
KINDS = (
    LinkKind("store", "own_site", "Own site with an interface", "key:secret", Shipped("own-site")),
    LinkKind("store", "market_api", "Marketplace: passes, batches, an allowance", "name:secret", Shipped("marketplace")),
    LinkKind("store", "program", "Closed store, worked by a program on your machine", "", None, ""),
    LinkKind("store", "sheet", "By sheets: listings and orders in, changes out", "", None, ""),
    LinkKind("store", "craft_pages", "Craft market, by its pages", "name:password", CraftPages, by_program=True),
    LinkKind("supplier", "wholesale_api", "Wholesaler with a live interface", "key", Shipped("wholesaler")),
    LinkKind(
        "supplier",
        "folder",
        "A sheet in a folder, made anew now and then",
        "name:password",
        FolderSheet,
        how=FolderSheet,
        sweep_minutes=60,
    ),
    LinkKind("supplier", "retail_site", "Retail site, asked item by item", "key", Shipped("retail-site"), sweep_minutes=10),
    LinkKind("supplier", "print_api", "Print house that prints what is ordered", "key", PrintHouse, sweep_minutes=30, can=_IN_FULL),
    LinkKind("supplier", "depot_api", "Depot that holds our stock", "key", DepotApi, holds=True, can=frozenset({Ability.recalls})),
    LinkKind("supplier", "depot_sheet", "Depot that works by sheets and mail", "", None, "", holds=True),
    LinkKind("supplier", "sheet", "By hand: a catalogue sheet in, purchase orders out", "", None, ""),
    LinkKind("carrier", "post_api", "Postal carrier", "key", Shipped("postal-carrier")),
    LinkKind("carrier", "by_hand", "Without an interface: numbers come by sheet, mail or hand", "", None, ""),
    LinkKind("rates", "rates_api", "Bank that tells exchange rates of the day", "key", Shipped("bank")),
    LinkKind("store", DESCRIBED, "By a description of its interface", "as its description says", _undescribed),
    LinkKind("supplier", DESCRIBED, "By a description of its interface", "as its description says", _undescribed),
    LinkKind("carrier", DESCRIBED, "By a description of its interface", "as its description says", _undescribed),
    LinkKind("rates", DESCRIBED, "By a description of its interface", "as its description says", _undescribed),
    LinkKind("files", "sftp", "Files over SSH (SFTP)", "name:password, or name: and a private key", Sftp, "sftp://…"),
    LinkKind("files", "ftps", "Files over sealed FTP (FTPS)", "name:password", Ftps, "ftps://…"),
    LinkKind("files", "webdav", "Files over WebDAV", "name:password", WebDav),
    LinkKind("files", "bucket", "Files in a bucket (S3-compatible)", "name:secret, or name:secret:region", Buckets, "https://…/bucket"),
    LinkKind("files", "pages", "Files on a web server, to be fetched only", "name:password; empty where it asks for none", Pages),
    LinkKind("webhook", "post", "An address of your own, told of events by signed POSTs", "a secret of 16 letters or more", WebhookPost),
    LinkKind("mailbox", "smtp", "Mail server that sends our mail", "name:password; empty where it asks for none", SmtpMail, "smtps://…"),
    LinkKind("inbox", "pop", "Mailbox that suppliers answer to, by POP3", "name:password", PopMail, "pops://…"),
    LinkKind("inbox", "imap", "Mailbox that suppliers answer to, by IMAP", "name:password", ImapMail, "imaps://…"),
)


def kind_named(owner: str, kind: str) -> LinkKind:
    """A kind by its name. Refused when there is none."""
    for one in KINDS:
        if (one.owner, one.kind) == (owner, kind):
            return one
    raise Refused(f"there is no kind of {owner} called {kind!r}")


DEPOTS = tuple(one.kind for one in KINDS if one.holds)


def abilities_of_kind(owner: str, kind: str) -> frozenset[Ability]:
    """What a partner of a kind can do; nothing of what only its own description says."""
    one = kind_named(owner, kind)
    return one.can | (one.make.can if isinstance(one.make, Shipped) else frozenset({Ability.answers}))


# Whoever is called, whatever it can do beside what all can.
AnyLink = StoreLink | SupplierLink | CarrierLink | RatesLink | MailLink | InboxLink | WebhookLink | FileLink
How = dict[str, Any]


@overload
def connect(
    owner: Literal["store"],
    kind: str,
    address: str,
    key: str,
    deadline: float,
    transport: httpx.BaseTransport | None = None,
    how: How | None = None,
) -> StoreLink: ...
@overload
def connect(
    owner: Literal["supplier"],
    kind: str,
    address: str,
    key: str,
    deadline: float,
    transport: httpx.BaseTransport | None = None,
    how: How | None = None,
) -> SupplierLink: ...
@overload
def connect(
    owner: Literal["carrier"],
    kind: str,
    address: str,
    key: str,
    deadline: float,
    transport: httpx.BaseTransport | None = None,
    how: How | None = None,
) -> CarrierLink: ...
@overload
def connect(
    owner: Literal["rates"],
    kind: str,
    address: str,
    key: str,
    deadline: float,
    transport: httpx.BaseTransport | None = None,
    how: How | None = None,
) -> RatesLink: ...
@overload
def connect(
    owner: Literal["mailbox"],
    kind: str,
    address: str,
    key: str,
    deadline: float,
    transport: httpx.BaseTransport | None = None,
    how: How | None = None,
) -> MailLink: ...
@overload
def connect(
    owner: Literal["inbox"],
    kind: str,
    address: str,
    key: str,
    deadline: float,
    transport: httpx.BaseTransport | None = None,
    how: How | None = None,
) -> InboxLink: ...
@overload
def connect(
    owner: Literal["webhook"],
    kind: str,
    address: str,
    key: str,
    deadline: float,
    transport: httpx.BaseTransport | None = None,
    how: How | None = None,
) -> WebhookLink: ...
@overload
def connect(
    owner: Literal["files"],
    kind: str,
    address: str,
    key: str,
    deadline: float,
    transport: httpx.BaseTransport | None = None,
    how: How | None = None,
) -> FileLink: ...
@overload
def connect(
    owner: str,
    kind: str,
    address: str,
    key: str,
    deadline: float,
    transport: httpx.BaseTransport | None = None,
    how: How | None = None,
) -> AnyLink: ...
def connect(
    owner: str,
    kind: str,
    address: str,
    key: str,
    deadline: float,
    transport: httpx.BaseTransport | None = None,
    how: How | None = None,
) -> AnyLink:
    """The connector of a kind, as what its owner can do. Refused when the kind is unknown or the address is none."""
    one = kind_named(owner, kind)
    if one.make is None:
        raise Refused("this partner is never called: it works by sheets, or by a program that calls us")
    if owner not in ("mailbox", "inbox", "files") and not address.startswith(("http://", "https://")):
        raise Refused(f"{address!r} is not an address that starts with http:// or https://")
    if kind == DESCRIBED and how:
        return make(of_text(how["description"]), address, key, deadline, transport, how.get("save"))
    return one.how(address, key, deadline, transport, how) if one.how else one.make(address, key, deadline, transport)


__all__ = ["DEPOTS", "KINDS", "CarrierLink", "LinkKind", "MailLink", "StoreLink", "SupplierLink", "connect", "kind_named"]
