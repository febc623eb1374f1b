"""A store's allowance: what it shows now against what would earn most within its limit of units and listings."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from sqlalchemy import func, select, update

from ...core import allowance as core
from ...core import price as pricing
from ...core.currency import show
from ...core.money import Ints
from ...core.numbers import PPM, half_up
from ...core.states import ListingState
from ...core.writing import grouped
from ...data.bulk import by_id
from ...data.outbox import AuditEntry
from ...data.setup import Store
from ...data.shelf import Listing, Sku
from ..base import undoing
from ..base.context import Context
from ..base.errors import Conflict, Invalid
from ..pricing import rollback
from ..pricing.decide import BY_HAND
from ..pricing.frame import Book, load

# What sold nothing in four weeks is taken to sell once in a hundred days, millionths a day: it is not worth nothing.
LEAST_PACE = 10_000


@dataclass(frozen=True)
class AllowanceRow:
    """One listing: shown now and planned, units; profit of one sale; what the plan's units earn until the next refresh."""

    listing: int
    sku: str
    now: int
    planned: int
    pace: float
    profit: int
    worth: int


@dataclass(frozen=True)
class Planned:
    """hours: until the next refresh. worth_now, worth: expected profit in that time. gap: what could be better at most."""

    store: int
    hours: int
    listings_now: int
    units_now: int
    listings: int
    units: int
    worth_now: int
    worth: int
    gap: int
    # What all that is shown is worth at its prices, now and planned.
    value_now: int
    value: int
    rows: list[AllowanceRow]


def plan(context: Context, store_id: int, hours: int = 24) -> Planned:
    """What to show in a store for the most expected profit. Invalid where the store has no limit."""
    store = context.get(Store, store_id, "store")
    if not limited(store):
        raise Invalid(f"{store.name} sets no limit; there is nothing to plan")
    book, rows, kept = _book(context, store_id)
    # What cannot be planned, since nobody knows what a sale of it keeps, stays as it is and uses its part of the limit.
    fixed = book.wanted_quantity[kept][book.state[kept] == 0]
    units_most = None if store.allowance_units is None else max(store.allowance_units - int(fixed.sum()), 0)
    listings_most = None if store.allowance_listings is None else max(store.allowance_listings - len(fixed), 0)
    pace = np.maximum(book.pace[rows], LEAST_PACE) / 1_000_000 * hours / 24
    profit = pricing.proceeds(book.wanted_price, book.terms).profit[rows]
    # Without the allowance's own limit, which is what is being planned.
    room = np.maximum(np.minimum(book.available - book.policy["cushion"], book.policy["cap"]), 0)[rows]
    price = book.wanted_price[rows]
    kept_value = int((fixed * book.wanted_price[kept][book.state[kept] == 0]).sum())
    value_most = None if store.allowance_value is None else max(store.allowance_value - kept_value, 0)
    made = core.plan(pace, profit, room, units_most, listings_most, price, value_most)
    now = np.where(book.state[rows] == 0, np.minimum(book.wanted_quantity[rows], core.MOST_OF_ONE), 0)
    gain = core.gains(pace, profit, np.maximum(room, now))
    each = (gain * (np.arange(gain.shape[1])[None, :] < made.units[:, None])).sum(axis=1)
    moved = np.argsort(-np.abs(made.units - now), kind="stable")
    out = [
        AllowanceRow(
            int(book.ids[rows[i]]),
            book.sku_code[rows[i]],
            int(now[i]),
            int(made.units[i]),
            float(book.pace[rows[i]] / 1_000_000),
            int(profit[i]),
            round(float(each[i])),
        )
        for i in moved.tolist()
    ]
    return Planned(
        store_id,
        hours,
        int((now > 0).sum()) + len(fixed),
        int(now.sum() + fixed.sum()),
        int((made.units > 0).sum()) + len(fixed),
        int(made.units.sum() + fixed.sum()),
        round(core.worth_of(now, gain)),
        round(made.worth),
        round(made.gap),
        kept_value + int((now * price).sum()),
        kept_value + int((made.units * price).sum()),
        out,
    )


def limited(store: Store) -> bool:
    """Whether anybody said what a store lets us show."""
    return any(one is not None for one in (store.allowance_units, store.allowance_listings, store.allowance_value))


def set_limits(context: Context, store_id: int, version: int | None, units: int | None, listings: int | None, value: int | None) -> str:
    """What a store lets us show, by a person's word. Conflict where the store tells it itself. Can be undone."""
    store = context.get_version(Store, store_id, version, "store")
    if limited(store) and not store.allowance_by_hand:
        raise Conflict(f"{store.name} tells its allowance itself")
    before = [store.allowance_units, store.allowance_listings, store.allowance_value]
    _set_limits(store, [units, listings, value])
    parts = [f"{grouped(n)} {what}" for n, what in ((units, "units"), (listings, "listings")) if n is not None]
    parts += [show(value, store.currency)] if value is not None else []
    sentence = f"{store.name} shows up to {', '.join(parts)}" if parts else f"{store.name} sets no limit"
    context.log("allowance.set", store.name, sentence, before={"store": store_id, "limits": before}, undo=True)
    context.session.flush()
    return sentence


def _set_limits(store: Store, limits: list[int | None]) -> None:
    store.allowance_units, store.allowance_listings, store.allowance_value = limits
    store.allowance_by_hand = limited(store)


def restore_limits(context: Context, before: dict[str, Any]) -> None:
    """Undo a word on what a store lets us show."""
    store = context.get_version(Store, before["store"], None, "store")
    _set_limits(store, before["limits"])


@dataclass(frozen=True)
class Over:
    """A store that is asked to show more than it takes. what: units, listings or value; loss: a day's profit of the excess."""

    store: Store
    what: str
    asked: int
    most: int
    loss: int


def over(context: Context) -> list[Over]:
    """Stores that are asked for more than they allow, by what we want of them now, sent or not."""
    found = []
    for store in context.session.scalars(select(Store).where(Store.ended_at.is_(None)).order_by(Store.id)):
        if not limited(store):
            continue
        shown = (Listing.store_id == store.id, Listing.state == ListingState.live, Listing.wanted_quantity > 0)
        units = func.sum(Listing.wanted_quantity)
        row = context.session.execute(
            select(units, func.count(), func.sum(Listing.wanted_quantity * Listing.wanted_price)).where(*shown)
        ).one()
        limits = (("units", store.allowance_units), ("listings", store.allowance_listings), ("value", store.allowance_value))
        for (what, most), asked in zip(limits, row, strict=True):
            if most is None or int(asked or 0) <= most:
                continue
            earns = (
                select((Sku.pace * Listing.profit).label("a_day"))
                .select_from(Listing)
                .join(Sku, Sku.id == Listing.sku_id)
                .where(*shown, Listing.profit > 0)
            )
            excess = int(asked) - most
            n = excess if what == "listings" else max(int(row[1]) * excess // int(asked), 1)
            least = earns.order_by("a_day").limit(n).subquery()
            lost = half_up(int(context.session.scalar(select(func.sum(least.c.a_day))) or 0), PPM)
            found.append(Over(store, what, int(asked), most, lost))
            break
    return found


def _book(context: Context, store_id: int) -> tuple[Book, Ints, Ints]:
    """The store's listings as if nobody limited them; places of those to plan, and of those that stay as they are."""
    book = load(context, within_allowance=False)
    here = (book.store == store_id) & (book.paused_by != BY_HAND)
    return book, np.flatnonzero(here & book.counted), np.flatnonzero(here & ~book.counted)


def apply(context: Context, store_id: int, hours: int) -> int:
    """Show what the plan says, no more. Can be undone. Returns how many listings changed."""
    planned = plan(context, store_id, hours)
    rows = by_id(context.session, Listing, (row.listing for row in planned.rows))
    # What the plan leaves out shows nothing; it comes back when the plan changes.
    wanted = {row.listing: row.planned for row in planned.rows}
    changed = {i: row for i, row in rows.items() if row.most != wanted[i]}
    if not changed:
        raise Conflict("the store shows this already; nothing was changed")
    before = {str(i): row.most for i, row in changed.items()}
    for i, row in changed.items():
        row.most = wanted[i]
        row.version += 1
    context.session.flush()
    store = context.get(Store, store_id, "store")
    act = context.log(
        "allowance.apply",
        store.name,
        f"{store.name}: {planned.listings} listings show {planned.units} units, as the allowance earns most",
        before={"store": store_id, "most": before},
        undo=True,
        count=len(changed),
    )
    context.reprice({row.sku_id for row in changed.values()}, act=act.id, only=set(changed))
    return len(changed)


def restore(context: Context, before: dict[str, Any]) -> None:
    """Undo a plan: each listing may show again what it could before."""
    most = {int(number): value for number, value in before["most"].items()}
    rows = by_id(context.session, Listing, most)
    for number, row in rows.items():
        context.session.execute(update(Listing).where(Listing.id == number).values(most=most[number], version=row.version + 1))
    context.session.expire_all()
    context.reprice({row.sku_id for row in rows.values()}, only=set(rows))


@undoing.undoes("allowance.apply", whole=True)
def undo_allowance_apply(context: Context, act: AuditEntry) -> None:
    # What it took off sale comes back at once, not when it was seen steady for a while.
    rollback.as_before(context, act.id)
    restore(context, undoing.before(act))


@undoing.undoes("allowance.set", whole=True)
def undo_allowance_set(context: Context, act: AuditEntry) -> None:
    restore_limits(context, undoing.before(act))
