"""Responses by what caused them: '214 repriced by one rise', '30 wait since too many moved at once'."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Any

from sqlalchemy import case, func, select

from ...data.outbox import AuditEntry
from ...data.setup import Supplier
from ...data.shelf import Listing, Sku
from ...data.source import Item
from ...data.watch import ListingDecision, Sweep
from ..base.context import Context
from ..base.errors import Conflict
from ..pricing import exchange_rates, what_if
from ..pricing.decide import CROWD
from . import sweeps

# How many of the newest responses are put into groups.
LOOKED_AT = 20_000


@dataclass(frozen=True)
class DecisionGroup:
    """Responses of one kind and state with one cause. sweep or act names it; item: the one item behind all of them, if it is one.

    up, down: prices that rose and fell; a_day: what it moves a day at the present pace, minor units of the house's money.
    """

    sweep: int | None
    act: int | None
    kind: str
    state: str
    at: datetime
    count: int
    up: int
    down: int
    a_day: int
    cause: str
    item: str
    outcome: int


def groups(context: Context, most: int = 60) -> list[DecisionGroup]:
    """The newest groups, of the last 20,000 responses."""
    newest = int(context.session.scalar(select(func.max(ListingDecision.id))) or 0)
    # In the house's money; what has no rate to it counts as nothing.
    rise = (ListingDecision.new_price - ListingDecision.old_price) * Sku.pace * exchange_rates.factor(context, Listing.currency)
    crowd = case((ListingDecision.outcome == CROWD, CROWD), else_=0)
    rows = context.session.execute(
        select(
            ListingDecision.sweep_id,
            ListingDecision.audit_entry_id,
            ListingDecision.kind,
            ListingDecision.state,
            func.max(ListingDecision.at),
            func.count(),
            func.sum(case((ListingDecision.new_price > ListingDecision.old_price, 1), else_=0)),
            func.sum(case((ListingDecision.new_price < ListingDecision.old_price, 1), else_=0)),
            func.sum(rise),
            func.count(ListingDecision.item_id.distinct()),
            func.max(ListingDecision.item_id),
            crowd,
        )
        .join(Listing, Listing.id == ListingDecision.listing_id)
        .join(Sku, Sku.id == Listing.sku_id)
        .where(ListingDecision.id > newest - LOOKED_AT)
        .group_by(ListingDecision.sweep_id, ListingDecision.audit_entry_id, ListingDecision.kind, ListingDecision.state, crowd)
        .order_by(func.max(ListingDecision.id).desc())
        .limit(most)
    ).all()
    sweeps = {row[0] for row in rows if row[0]}
    acts = {row[1] for row in rows if row[1]}
    named: dict[int, str] = dict(
        context.session.execute(
            select(Sweep.id, Supplier.name).join(Supplier, Supplier.id == Sweep.supplier_id).where(Sweep.id.in_(sweeps))
        )
        .tuples()
        .all()
    )
    messages: dict[int, str] = dict(
        context.session.execute(select(AuditEntry.id, AuditEntry.message).where(AuditEntry.id.in_(acts))).tuples().all()
    )
    items: dict[int, str] = dict(
        context.session.execute(select(Item.id, Item.title).where(Item.id.in_({row[10] for row in rows if row[9] == 1}))).tuples().all()
    )
    return [
        DecisionGroup(
            sweep,
            act,
            kind,
            state,
            at,
            n,
            int(up or 0),
            int(down or 0),
            int(moved or 0) // 1_000_000,
            f"a sweep of {named[sweep]}" if sweep in named else messages.get(act, "sales and purchases here"),
            items.get(item, "") if kinds == 1 else "",
            outcome,
        )
        for sweep, act, kind, state, at, n, up, down, moved, kinds, item, outcome in rows
    ]


def members(context: Context, sweep: int | None, act: int | None, kind: str, state: str, many: bool = False) -> list[int]:
    """The responses of a group as they stand now."""
    query: Any = select(ListingDecision.id).where(ListingDecision.kind == kind, ListingDecision.state == state)
    if state == "waits":
        query = query.where(ListingDecision.outcome == CROWD) if many else query.where(ListingDecision.outcome != CROWD)
    query = query.where(ListingDecision.sweep_id == sweep) if sweep else query.where(ListingDecision.sweep_id.is_(None))
    query = query.where(ListingDecision.audit_entry_id == act) if act else query.where(ListingDecision.audit_entry_id.is_(None))
    newest = int(context.session.scalar(select(func.max(ListingDecision.id))) or 0)
    return list(context.session.scalars(query.where(ListingDecision.id > newest - LOOKED_AT)))


def answer_group(context: Context, sweep: int | None, act: int | None, kind: str, approve: bool, many: bool = False) -> int:
    """A person's word on all of a group that waits. many: those that are only too many at once, else those at a limit;
    letting the ones move never takes the others past their limit."""
    waiting = members(context, sweep, act, kind, "waits", many)
    if not waiting:
        raise Conflict("nothing of this waits any more")
    return what_if.answer_waiting(context, waiting, approve)


def undo(context: Context, sweep: int | None, act: int | None, kind: str) -> int:
    """Take back all of a group that was sent; listings with newer changes stay as they are."""
    if not sweep and not act:
        raise Conflict("these have no common cause; take them back one by one")
    sent = members(context, sweep, act, kind, "sent")
    if not sent:
        raise Conflict("nothing of this can be taken back any more")
    return sweeps.take_back(context, responses=sent)
