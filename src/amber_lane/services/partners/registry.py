"""Connectors of joined partners, opened once and kept as what their kind can do."""

from __future__ import annotations

import threading
from collections.abc import Callable
from datetime import datetime
from functools import partial
from typing import Any, Generic, TypeVar

import httpx

from ...connectors.file_servers.protocol import FileLink
from ...connectors.folder_sheet import FolderSheet
from ...connectors.inbox_protocol import InboxLink
from ...connectors.kinds import How, connect
from ...connectors.protocols import CarrierLink, MailLink, RatesLink, StoreLink, SupplierLink
from ...connectors.webhook_payload import WebhookLink
from ...data.descriptions import Description, DescriptionVersion
from ...data.setup import Link, Supplier
from ...data.statements import find_link
from ..base.context import Context
from ..base.credentials import CredentialStore
from ..base.errors import NotFound
from ..base.partner_identity import OWNERS

L = TypeVar("L")
# Of a kind, an address, a key, and what a person said of its sheets.
Connect = Callable[[str, str, str, How | None], L]


class _Opened(Generic[L]):
    """Connectors of one sort of partner, each kept open as long as its address and key stay the same."""

    def __init__(self, owner: str, credentials: CredentialStore, make: Connect[L]) -> None:
        self.owner, self.credentials, self.make = owner, credentials, make
        # Keeps a key that the partner renewed: owner, number, key.
        self.keep: Callable[[str, int, str], None] | None = None
        self.known: dict[int, tuple[str, str, L]] = {}
        # Keys that a connector renewed by itself; it goes on with them, and is not opened anew for their being kept.
        self.renewed: dict[int, str] = {}
        # Two that ask at once get the same one: of two, each would renew the key that the other goes on with.
        self.opening = threading.Lock()

    def of(self, context: Context, number: int) -> L:
        with self.opening:
            return self._of(context, number)

    def _of(self, context: Context, number: int) -> L:
        link = link_of(context, self.owner, number)
        row = context.get(OWNERS[self.owner], number, self.owner)
        how = _how_of(context, row, link)
        mark = f"{link.address}|{link.description_version_id}|{how if isinstance(row, Supplier) else None}"
        known = self.known.get(number)
        if known is None or known[0] != mark or (known[1] != link.sealed_key and not self._renewed(number, link.sealed_key)):
            if how and "description" in how and self.keep is not None:
                how["save"] = partial(self._save, number)
            made = self.make(getattr(row, "kind", "smtp"), link.address, self.credentials.open(link.sealed_key), how)
        else:
            made = known[2]
        self.known[number] = (mark, link.sealed_key, made)
        return made

    def _renewed(self, number: int, sealed: str) -> bool:
        return number in self.renewed and self.credentials.open(sealed) == self.renewed[number]

    def _save(self, number: int, key: str) -> None:
        self.renewed[number] = key
        if self.keep is not None:
            self.keep(self.owner, number, key)


class ConnectorRegistry:
    """Opens connectors: with the store of their credentials, and a deadline for every call. NotFound for a partner without a link."""

    def __init__(self, credentials: CredentialStore, deadline: float, transport: httpx.BaseTransport | None = None) -> None:
        self.credentials, self.deadline, self.transport = credentials, deadline, transport
        self._stores = _Opened[StoreLink](
            "store", credentials, lambda kind, at, key, how: connect("store", kind, at, key, self.deadline, self.transport, how)
        )
        self._suppliers = _Opened[SupplierLink](
            "supplier", credentials, lambda kind, at, key, how: connect("supplier", kind, at, key, self.deadline, self.transport, how)
        )
        self._carriers = _Opened[CarrierLink](
            "carrier", credentials, lambda kind, at, key, how: connect("carrier", kind, at, key, self.deadline, self.transport, how)
        )
        self._rates = _Opened[RatesLink](
            "rates", credentials, lambda kind, at, key, how: connect("rates", kind, at, key, self.deadline, self.transport, how)
        )
        self._mailboxes = _Opened[MailLink](
            "mailbox", credentials, lambda kind, at, key, how: connect("mailbox", kind, at, key, self.deadline, self.transport, how)
        )
        self._webhooks = _Opened[WebhookLink](
            "webhook", credentials, lambda kind, at, key, how: connect("webhook", kind, at, key, self.deadline, self.transport, how)
        )
        self._inboxes = _Opened[InboxLink](
            "inbox", credentials, lambda kind, at, key, how: connect("inbox", kind, at, key, self.deadline, self.transport, how)
        )
        self._files = _Opened[FileLink](
            "files", credentials, lambda kind, at, key, how: connect("files", kind, at, key, self.deadline, self.transport, how)
        )

    def files(self, context: Context, number: int) -> FileLink:
        return self._files.of(context, number)

    def store(self, context: Context, number: int) -> StoreLink:
        return self._stores.of(context, number)

    def supplier(self, context: Context, number: int) -> SupplierLink:
        return self._suppliers.of(context, number)

    def carrier(self, context: Context, number: int) -> CarrierLink:
        return self._carriers.of(context, number)

    def rates(self, context: Context, number: int) -> RatesLink:
        return self._rates.of(context, number)

    def mailbox(self, context: Context, number: int) -> MailLink:
        return self._mailboxes.of(context, number)

    def inbox(self, context: Context, number: int) -> InboxLink:
        return self._inboxes.of(context, number)

    def webhook(self, context: Context, number: int) -> WebhookLink:
        return self._webhooks.of(context, number)

    def sheet(self, context: Context, supplier: int) -> Callable[[], tuple[bytes, datetime]]:
        """What fetches the newest sheet of a supplier's folder, as it is, and when it was made; to be called outside a transaction."""
        link = link_of(context, "supplier", supplier)
        return FolderSheet(link.address, self.credentials.open(link.sealed_key), self.deadline, self.transport).sheet

    @property
    def _all(self) -> tuple[_Opened[Any], ...]:
        return (self._stores, self._suppliers, self._carriers, self._rates, self._mailboxes, self._inboxes, self._webhooks, self._files)

    def keep_keys(self, keep: Callable[[str, int, str], None]) -> None:
        """What keeps a key that a partner renewed by itself: owner, number, the key."""
        for opened in self._all:
            opened.keep = keep

    def saver(self, owner: str, number: int) -> Callable[[str], None] | None:
        """What keeps a key of somebody that a partner renews by itself; None where nobody does."""
        keep = self._stores.keep
        return partial(keep, owner, number) if keep else None

    def forget(self) -> None:
        """Open every connector anew when it is next asked for."""
        for opened in self._all:
            opened.known.clear()


def _how_of(context: Context, row: object, link: Link) -> How | None:
    """What a connector must know of a partner beside address and key: its description; of a supplier how its sheets are read, and its
    money."""
    if link.description_version_id is not None:
        return {"description": context.get(DescriptionVersion, link.description_version_id, "version of a description").text}
    if isinstance(row, Supplier) and row.reading:
        return {"reading": row.reading, "currency": row.currency}
    return None


def keep_key(context: Context, credentials: CredentialStore, owner: str, number: int, key: str) -> None:
    """A partner renewed the key that it gave us; the one from before may count no longer. owner: also a description, that is tried."""
    kept = context.get(Description, number, "description") if owner == "description" else link_of(context, owner, number)
    kept.sealed_key = credentials.seal(key)


def link_of(context: Context, owner: str, owner_id: int) -> Link:
    link = find_link(context.session, owner, owner_id)
    if link is None:
        raise NotFound(f"this {owner} has no link")
    return link
