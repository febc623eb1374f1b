"""A store's switches turned on one by one, each after a look at what would go out at once: prices, stock, orders."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field, replace

import numpy as np
from sqlalchemy import func, select, update

from ...connectors.payloads import ListingPayload
from ...core import price as pricing
from ...core.money import Bools, Ints
from ...core.numbers import PPM
from ...core.price import NONE, Outcome
from ...core.states import OUTBOX, OutboxState
from ...core.stock import shown
from ...data.bulk import bulk_update, in_chunks
from ...data.orders import FillPlan, Hold, Order, OrderLine
from ...data.outbox import Outbox
from ...data.setup import Store
from ...data.shelf import Listing
from ..base.context import Context
from ..base.errors import Conflict, Invalid
from ..outbox.store_switches import PARTS, let_out, writes
from ..pricing.apply import with_sharers
from ..pricing.decide import Decided, decide
from ..pricing.frame import Book, load
from .store_listings import follow_shown

WORST = 10
BIG = PPM // 10
ON = {"prices": "prices are written", "stock": "stock is written", "orders": "orders are bought"}


@dataclass(frozen=True)
class GoingLiveRow:
    """One of the worst: what would go out for a listing or an order. Money in minor units; None = not known."""

    id: int
    code: str
    title: str
    old: int
    new: int
    profit: int | None
    message: str = ""


@dataclass(frozen=True)
class GoingLive:
    """What would go out at once: counts by name, and the worst first."""

    store: Store
    what: str
    counts: dict[str, int]
    worst: list[GoingLiveRow] = field(default_factory=list)


def preview(context: Context, number: int, what: str) -> GoingLive:
    """What turning a switch on would do now. Nothing is written."""
    store = _store(context, number, what)
    if what == "orders":
        return _orders(context, store)
    book, decided, mine = _as_if(context, store, what)
    return _prices(context, store, book, decided, mine) if what == "prices" else _stock(context, store, book, decided, mine)


def turn_on(context: Context, number: int, version: int | None, what: str, start: bool, seen: dict[str, int]) -> str:
    """Turn a switch on. start: what was looked at goes out now; else it rests as the store has it, until something changes.

    seen: the counts that the person saw; Conflict when they hold no longer. Undone by turning it off; what went out stays.
    """
    store = context.get_version(Store, number, version, "store")
    now = preview(context, number, what)
    if any(seen.get(name) != count for name, count in now.counts.items()):
        raise Conflict("things have moved since you looked; look at the new figures before you turn it on")
    if what != "orders" and start is False:
        _let_rest(context, store, what)
    if what == "orders" and not start:
        _leave_old_orders(context, store)
    setattr(store, PARTS[what], True)
    if what == "prices":
        store.mass_agreed = store.mass_agreed or start
    how = "what was looked at goes out now" if start else "only from the next change on"
    message = f"{store.name}: {ON[what]}; {how}"
    act = context.log("store.on", store.name, message, after={"store": number, "what": what, "start": start})
    context.session.flush()
    if what == "orders":
        context.reroute()
    elif start:
        skus = set(context.session.scalars(select(Listing.sku_id).where(Listing.store_id == number)))
        only = set(context.session.scalars(select(Listing.id).where(Listing.store_id == number)))
        context.reprice(skus, act=act.id, only=only, seen=True)
    return message


def turn_off(context: Context, number: int, version: int | None, what: str) -> str:
    """Turn a switch off at once. What had not gone out yet is taken back, and the store keeps what it shows."""
    store = context.get_version(Store, number, version, "store")
    _known(what)
    if not getattr(store, PARTS[what]):
        raise Conflict(f"{store.name}: that is off already")
    setattr(store, PARTS[what], False)
    message = f"{store.name}: {ON[what].replace('are ', 'are not ').replace('is ', 'is not ')} any more"
    context.log("store.off", store.name, message, after={"store": number, "what": what})
    context.session.flush()
    if what == "orders":
        context.reroute()
    else:
        _take_back(context, store)
        follow_shown(context, store)
    return message


def all_on(context: Context, store: Store) -> None:
    """All of a store's switches at once, for a house that was looked over as a whole (the demo)."""
    store.write_prices = store.write_stock = store.buy_orders = store.mass_agreed = True
    context.session.flush()


def _known(what: str) -> None:
    if what not in PARTS:
        raise Invalid(f"choose one of {', '.join(PARTS)}")


def _store(context: Context, number: int, what: str) -> Store:
    _known(what)
    store = context.get(Store, number, "store")
    if getattr(store, PARTS[what]):
        raise Conflict(f"{store.name}: that is on already")
    return store


def _as_if(context: Context, store: Store, what: str) -> tuple[Book, Decided, Bools]:
    """A store's listings decided as if the switch were on; mine: which rows are the store's."""
    skus = set(context.session.scalars(select(Listing.sku_id).where(Listing.store_id == store.id)))
    book = load(context, with_sharers(context, skus))
    mine = np.asarray(book.store == store.id, dtype=np.bool_)
    none = np.full(len(book.ids), NONE, dtype=np.int64)
    if what == "prices":
        book = replace(book, prices_on=book.prices_on | mine, rest_price=none)
    else:
        book = replace(book, stock_on=book.stock_on | mine, rest_stock=none)
    return book, decide(book, counted=False), mine


def _prices(context: Context, store: Store, book: Book, decided: Decided, mine: Bools) -> GoingLive:
    old, new = book.wanted_price, decided.price
    moves = mine & (old != new)
    before, after = pricing.proceeds(old, book.terms).profit, pricing.proceeds(new, book.terms).profit
    base = np.maximum(old, 1)
    counted = mine & book.counted
    counts = {
        "listings": int(mine.sum()),
        "rise": int((moves & (new > old)).sum()),
        "fall": int((moves & (new < old)).sum()),
        "over_tenth": int((moves & (np.abs(new - old) * PPM > base * BIG)).sum()),
        "below_cost": int((moves & book.counted & (after < 0)).sum()),
        "below_cost_now": int((counted & (before < 0)).sum()),
        "waits": int((mine & decided.waits).sum()),
        "no_rule": int((mine & (decided.priced.outcome == Outcome.no_rule)).sum()),
        "no_cost": int((mine & ~book.counted).sum()),
    }
    # Worst: what would lose money first, then the steepest falls, then the steepest rises.
    rows = np.flatnonzero(moves)
    order = np.lexsort((-(np.abs(new - old) * PPM // base)[rows], (new > old)[rows], (after >= 0)[rows]))
    return GoingLive(store, "prices", counts, _message(context, book, rows[order[:WORST]], old, new, after))


def _stock(context: Context, store: Store, book: Book, decided: Decided, mine: Bools) -> GoingLive:
    old, new = book.wanted_quantity, decided.quantity
    live = mine & (book.state == 0)
    room = np.where(book.lane > 0, book.available, 0)
    known = mine & ((book.lane > 0) | book.closed)
    counts = {
        "listings": int(mine.sum()),
        "quantity": int((mine & (old != new)).sum()),
        "pause": int((live & (decided.state != 0)).sum()),
        "resume": int((mine & (book.state != 0) & (decided.state == 0)).sum()),
        "over_stock_now": int((live & known & (old > room)).sum()),
        "no_lane": int((mine & ~known).sum()),
    }
    rows = np.flatnonzero(mine & ((old != new) | (decided.state != book.state)))
    order = np.lexsort((-book.pace[rows], -(np.where(live, old, 0) - room)[rows]))
    profit = pricing.proceeds(book.wanted_price, book.terms).profit
    notes = {int(row): "comes off sale" for row in rows if live[row] and decided.state[row] != 0}
    return GoingLive(store, "stock", counts, _message(context, book, rows[order[:WORST]], old, new, profit, notes))


def _message(
    context: Context, book: Book, rows: Ints, old: Ints, new: Ints, profit: Ints, said: dict[int, str] | None = None
) -> list[GoingLiveRow]:
    titles = dict(context.session.execute(select(Listing.id, Listing.title).where(Listing.id.in_(book.ids[rows].tolist()))).tuples().all())
    return [
        GoingLiveRow(
            int(book.ids[row]),
            book.sku_code[row],
            titles[int(book.ids[row])],
            int(old[row]),
            int(new[row]),
            int(profit[row]) if book.counted[row] else None,
            (said or {}).get(row, ""),
        )
        for row in rows.tolist()
    ]


def _practice_orders(store: int) -> tuple[object, ...]:
    return (Order.store_id == store, Hold.ended.is_(None), Hold.limit == "practice")


def _orders(context: Context, store: Store) -> GoingLive:
    rows = context.session.execute(
        select(Order, FillPlan)
        .join(Hold, Hold.order_id == Order.id)
        .join(FillPlan, FillPlan.order_id == Order.id)
        .where(*_practice_orders(store.id))  # type: ignore[arg-type]
        .order_by(FillPlan.profit, Order.id)
    ).all()
    held = int(
        context.session.scalar(
            select(func.count(Order.id))
            .join(Hold, Hold.order_id == Order.id)
            .where(Order.store_id == store.id, Hold.ended.is_(None), Hold.limit != "practice")
        )
        or 0
    )
    cost = {order.id: (plan.goods or 0) + (plan.shipping or 0) + (plan.handling or 0) for order, plan in rows}
    counts = {
        "orders": len(rows),
        "cost": sum(cost.values()),
        "paid": sum(_paid(context, [order.id for order, _ in rows]).values()),
        "loses": sum(1 for _, plan in rows if (plan.profit or 0) < 0),
        "held": held,
    }
    paid = _paid(context, [order.id for order, _ in rows[:WORST]])
    worst = [
        GoingLiveRow(order.id, order.number, _first_title(context, order.id), paid.get(order.id, 0), cost[order.id], plan.profit)
        for order, plan in rows[:WORST]
    ]
    return GoingLive(store, "orders", counts, worst)


def _paid(context: Context, orders: Iterable[int]) -> dict[int, int]:
    out: dict[int, int] = {}
    for chunk in in_chunks(orders):
        query = select(OrderLine.order_id, func.sum(OrderLine.total)).where(OrderLine.order_id.in_(chunk)).group_by(OrderLine.order_id)
        out |= {order: int(paid or 0) for order, paid in context.session.execute(query).tuples()}
    return out


def _first_title(context: Context, order: int) -> str:
    query = select(OrderLine.title, OrderLine.sku_code).where(OrderLine.order_id == order).order_by(OrderLine.line_no)
    row = context.session.execute(query.limit(1)).first()
    return (row[0] or row[1]) if row else ""


def _let_rest(context: Context, store: Store, what: str) -> None:
    """Each listing keeps what its store shows for as long as the same is asked for it."""
    book, decided, mine = _as_if(context, store, what)
    if what == "prices":
        asked = decided.priced.price
        rows = np.flatnonzero(mine & book.counted & (asked != NONE) & (asked != book.wanted_price))
    else:
        asked = shown(book.available, book.policy["cap"], book.policy["cushion"])
        rows = np.flatnonzero(mine & ((decided.quantity != book.wanted_quantity) | (decided.state != book.state)))
    name = "rest_price" if what == "prices" else "rest_stock"
    bulk_update(context.session, Listing, (name,), list(zip(asked[rows].tolist(), book.ids[rows].tolist(), strict=True)))
    context.session.expire_all()


def _leave_old_orders(context: Context, store: Store) -> None:
    """Orders that are there already were seen to elsewhere, or will be one by one: each waits for its own word."""
    waiting = select(Order.id).join(Hold, Hold.order_id == Order.id).where(*_practice_orders(store.id))  # type: ignore[arg-type]
    context.session.execute(update(Order).where(Order.id.in_(waiting)).values(before_start=True))
    context.session.expire_all()


def _take_back(context: Context, store: Store) -> None:
    """What waits for a store loses the parts that may not go out any more."""
    mine = (
        Outbox.target == f"store:{store.id}",
        Outbox.kind == "listing",
        Outbox.state.in_((OutboxState.waiting, OutboxState.claimed, OutboxState.unknown)),
    )
    for row in context.session.scalars(select(Outbox).where(*mine)):
        left = let_out(store, ListingPayload.model_validate(row.body))
        row.body = left.stored()
        if row.state == OutboxState.waiting and (not writes(store) or not left.changes_something):
            row.state, row.answer = OUTBOX.step(row.state, "stop"), "taken back: writing was turned off"
    context.session.flush()


__all__ = ["GoingLive", "GoingLiveRow", "all_on", "preview", "turn_off", "turn_on"]
