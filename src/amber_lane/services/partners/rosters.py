"""Everybody we work with, as small lists."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import timedelta
from typing import Any

from sqlalchemy import func, select

from ...data.setup import Carrier, Inbox, Link, Mailbox, Origin, Store, Supplier, Token
from ...data.tallies import tally
from ..base.context import Context
from ..base.partner_identity import OWNERS


def stores(context: Context, by_name: bool = False) -> Sequence[Store]:
    return context.session.scalars(select(Store).order_by(Store.name if by_name else Store.id)).all()


def suppliers(context: Context, by_name: bool = False) -> Sequence[Supplier]:
    return context.session.scalars(select(Supplier).order_by(Supplier.name if by_name else Supplier.id)).all()


def carriers(context: Context) -> Sequence[Carrier]:
    return context.session.scalars(select(Carrier).order_by(Carrier.name)).all()


def mailboxes(context: Context) -> Sequence[Mailbox]:
    return context.session.scalars(select(Mailbox).order_by(Mailbox.id)).all()


def inboxes(context: Context) -> Sequence[Inbox]:
    return context.session.scalars(select(Inbox).order_by(Inbox.id)).all()


def of_kind(context: Context, owner: str) -> Sequence[Any]:
    """Partners of one kind, by its name in OWNERS, in the order in which they were connected."""
    table = OWNERS[owner]
    return context.session.scalars(select(table).order_by(table.id)).all()


def links(context: Context) -> dict[tuple[str, int], Link]:
    """Every link by whose it is."""
    return {(row.owner, row.owner_id): row for row in context.session.scalars(select(Link))}


def with_token(context: Context) -> set[int]:
    """Stores whose program has a token."""
    return set(context.session.scalars(select(Token.store_id)))


def store_names(context: Context) -> dict[int, str]:
    return dict(context.session.execute(select(Store.id, Store.name)).tuples().all())


def supplier_names(context: Context) -> dict[int, str]:
    return dict(context.session.execute(select(Supplier.id, Supplier.name)).tuples().all())


def origin_names(context: Context) -> dict[int, str]:
    return dict(context.session.execute(select(Origin.id, Origin.name)).tuples().all())


def target_names(context: Context) -> dict[str, str]:
    """Names by the targets of the outbox, such as store:3."""
    return {f"{owner}:{row.id}": row.name for owner in OWNERS for row in of_kind(context, owner)}


def sent_from(context: Context) -> list[str]:
    """Countries that goods are sent from."""
    return list(context.session.scalars(select(Origin.country).distinct().order_by(Origin.country)))


def counted(context: Context) -> tuple[int, int]:
    """How many stores and suppliers there are."""
    one, other = (context.session.scalar(select(func.count()).select_from(table)) or 0 for table in (Store, Supplier))
    return one, other


def next_swept(context: Context) -> Supplier | None:
    """The supplier whose sweep comes next."""
    going = (Supplier.next_sweep.is_not(None), Supplier.watching, Supplier.paused_at.is_(None), Supplier.ended_at.is_(None))
    return context.session.scalar(select(Supplier).where(*going).order_by(Supplier.next_sweep).limit(1))


def scopes(context: Context) -> dict[str, list[tuple[str, str, str]]]:
    """What rules and limits can be said for: (code, name, currency of a store) by scope."""
    s = context.session
    return {
        "supplier": [(*row, "") for row in s.execute(select(Supplier.code, Supplier.name).order_by(Supplier.name)).tuples()],
        "category": [(name, name, "") for name in sorted(one for (one,) in tally(s, "sku categories") if one)],
        "store": list(s.execute(select(Store.code, Store.name, Store.currency).order_by(Store.name)).tuples()),
    }


def read_stores_now(context: Context) -> int:
    """All stores that can be asked are read at the next round; returns how many."""
    rows = context.session.scalars(select(Store).where(Store.kind.not_in(("sheet", "program")))).all()
    for store in rows:
        store.next_check = context.now
    return len(rows)


def ask_carriers_now(context: Context) -> None:
    for carrier in carriers(context):
        carrier.next_ask = context.now - timedelta(seconds=1)
