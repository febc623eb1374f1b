"""What needs a person, dearest first, each with its best next step; and what was done alone."""

from __future__ import annotations

from bisect import bisect
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

from sqlalchemy import BigInteger, case, func, or_, select, type_coerce

from ...data.base import from_ms, to_ms
from ...data.bulk import by_id
from ...data.lanes import Lane
from ...data.orders import Order, OrderLine, Plan, PurchaseOrder
from ...data.outbox import AuditEntry, Snooze
from ...data.setup import Store, Supplier
from ...data.tallies import tally
from ..base import house_days
from ..base.context import Context
from ..base.errors import Conflict, NotFound
from ..fulfilment import carrier_names
from ..inbound import mailbox
from ..listings import drift
from ..monitoring import silent_feeds, sweeps
from ..orders import cancellations, order_profit, orders
from ..pricing import exchange_rates, what_if
from ..purchasing import overdue
from . import goods_alerts, price_alerts, sending_alerts, trade_alerts
from .alert import Alert, Source
from .grouping import PREFIX, by_cause

# Days of every zone begin at a quarter of an hour.
QUARTER_MS = 900_000
# With so many listings the counts on the road may be some seconds old.
LARGE = 20_000
PEOPLE_FREE = ("Watch", "Orders", "Delivery", "Transit")


SOURCES: dict[str, Source] = {**goods_alerts.SOURCES, **price_alerts.SOURCES, **trade_alerts.SOURCES, **sending_alerts.SOURCES}


def singles(context: Context, key: str = "") -> list[Alert]:
    """Every open trouble that is not put off, each for itself. key: only those of its kind, so that no others are looked for."""
    asleep, kind = _asleep(context), key.partition(":")[0]
    return [
        one
        for kinds, source in SOURCES.items()
        if not key or kind in kinds.split()
        for one in context.kept(f"today {kinds}", _found_by(source))
        if _awake(one, asleep)
    ]


def _found_by(source: Source) -> Callable[[Context], list[Alert]]:
    return lambda context: list(source(context))


def _awake(one: Alert, asleep: dict[str, str]) -> bool:
    return one.key not in asleep or bool(asleep[one.key] and asleep[one.key] != one.message)


def open_alerts(context: Context) -> list[Alert]:
    """All open troubles that are not put off, one row for each cause, dearest first; a loss per day counts as three days of it."""
    return context.kept("today", _open_alerts)


def _open_alerts(context: Context) -> list[Alert]:
    asleep = _asleep(context)
    found = [one for one in by_cause(singles(context)) if _awake(one, asleep)]
    return sorted(found, key=lambda one: (-(one.at_risk * (3 if one.per_day else 1)), one.since))


def _asleep(context: Context) -> dict[str, str]:
    return {row.alert: row.message for row in context.session.scalars(select(Snooze).where(Snooze.until > context.now))}


def counts(context: Context) -> dict[str, int]:
    """How much waits for a person at each station of the road; in a large house some seconds old while very much is written."""
    out: dict[str, int] = {}
    large = sum(tally(context.session, "listings").values()) > LARGE
    for one in context.kept("today", _open_alerts, lags=large):
        out[one.station] = out.get(one.station, 0) + one.count
        out["today"] = out.get("today", 0) + 1
    return out


def do_step(context: Context, key: str, other: bool = False, choice: str = "", keys: Sequence[str] = ()) -> str:
    """Do the best next step of a trouble, or the other way on; of a group, `key#number` does it for that member alone.

    choice: what was chosen, where the step asks for one. keys: these members of a cause alone, else all of them.
    Returns what was done; Conflict when it is not open any more.
    """
    if key.startswith(PREFIX):
        return _for_many(context, key, other, set(keys))
    key, _, member = key.partition("#")
    alert = next((one for one in singles(context, key) if one.key == key), None)
    if alert is None and key.startswith("oversell:") and (number := key.partition(":")[2]).isdecimal():
        # One of a store's many, which stand as one row.
        alert = next(iter(goods_alerts.oversell(context, only=[int(number)])), None)
    if alert is None:
        raise Conflict("this is settled already")
    return _do(context, alert, other, choice, int(member) if member.isdecimal() else None)


def _for_many(context: Context, key: str, other: bool, keys: set[str]) -> str:
    """A step for the members of a cause that are still open: all of them, or those asked for."""
    if key.startswith(f"{PREFIX}oversell:"):
        picked = [int(one.partition(":")[2]) for one in keys]
        n = goods_alerts.send_pauses_again(context, int(key.rpartition(":")[2]), picked)
        return f"{n:,} pause{'s are' if n > 1 else ' is'} sent again"
    row = next((one for one in open_alerts(context) if one.key == key), None)
    if row is None:
        raise Conflict("this is settled already")
    step = row.other if other else row.step
    if step is None or not step.act:
        raise Conflict("this step is yours to take in its own view")
    wanted = {one.key for one in row.members if not keys or one.key in keys}
    found = [one for one in singles(context, next(iter(wanted), key)) if one.key in wanted]
    if not found:
        raise Conflict("none of these is open any more")
    if found[0].key.startswith("hold:"):
        n, left = orders.allow_many(context, [int(one.key.partition(":")[2]) for one in found])
        return f"{n} held orders may go" + (f", {left} stay: their limit is not one to lift" if left else "")
    done = 0
    for one in found:
        try:
            _do(context, one, other, "", None)
            done += 1
        except Conflict:
            continue
    if not done:
        raise Conflict("none of these is open any more")
    return f"{step.label}: {done} done" + (f", {len(found) - done} had been settled" if done < len(found) else "")


def _do(context: Context, alert: Alert, other: bool, choice: str, only: int | None) -> str:
    key = alert.key
    step = alert.other if other else alert.step
    if step is None or not step.act:
        raise Conflict("this step is yours to take in its own view")
    kind, _, rest = key.partition(":")
    if kind == "held":
        sweeps.settle_held(context, int(rest), believe=other)
    elif kind == "doubt":
        sweeps.settle_doubt(context, int(rest), believe=other)
    elif kind == "waits":
        set_by, _, outcome = rest.partition(":")
        what_if.settle(context, what_if.waiting(context, int(set_by), int(outcome)), approve=False)
    elif kind == "crowd":
        what_if.settle(context, what_if.crowd(context), approve=True)
    elif kind == "drift":
        drift.settle(context, [one.drift.id for one in drift.differing(context, int(rest))], ours=not other)
    elif kind == "oddrate":
        source, _, name = rest.partition(":")
        exchange_rates.settle(context, int(source), name, believe=other)
    elif kind == "plan":
        snooze(context, key, 24 * 365 * 5)
        return f"{alert.message}: not for us"
    elif kind == "dead":
        (sending_alerts.arrived if other else sending_alerts.retry)(context, key, only)
    elif kind == "job":
        sending_alerts.seen(context, int(rest))
    elif kind == "delayed":
        target, _, fault = rest.rpartition(":")
        sending_alerts.try_now(context, target, fault)
    elif kind == "carrier":
        store, _, carrier = rest.partition(":")
        return carrier_names.choose(context, int(store), int(carrier), choice or alert.choices[0][0])
    elif kind == "oversell":
        goods_alerts.send_pauses_again(context, 0, [int(rest)])
    elif kind == "stale":
        supplier = context.get(Supplier, int(rest), "supplier")
        if other:
            silent_feeds.accept(context, supplier)
        supplier.next_sweep = context.now
    elif kind == "parcels":
        trade_alerts.help_parcels(context, rest)
    elif kind == "bill":
        (cancellations.ask_dearer_back if other else cancellations.take_bill)(context, int(rest))
    elif kind in overdue.KINDS:
        overdue.ask(context, kind, int(rest))
    elif kind == "letter":
        mailbox.settle(context, int(rest))
    elif kind == "wants":
        cancellations.settle(context, int(rest))
    elif kind == "hold":
        orders.allow(context, int(rest), alert.message)
    else:
        raise NotFound(f"there is no step for {key}")
    return f"{step.label}: {alert.message}"


def snooze(context: Context, key: str, hours: int, until_change: bool = False) -> None:
    """Put a trouble off until a time, or until it says something else: one more parcel, another sum, a new reason."""
    row = context.session.scalar(select(Snooze).where(Snooze.alert == key)) or Snooze(alert=key, until=context.now, by=context.actor)
    row.until, row.by, row.message = context.now + timedelta(hours=hours), context.actor, ""
    message = f"not now: {key} until {row.until:%a %H:%M}"
    if until_change:
        open_now = next((one for one in (*open_alerts(context), *singles(context)) if one.key == key), None)
        if open_now is None:
            raise Conflict("this is settled already")
        row.until, row.message = context.now + timedelta(days=365), open_now.message
        message = f"not now: {key} until it changes"
    context.session.add(row)
    context.log("snooze", key, message, after={"trouble": key}, undo=True)


@dataclass(frozen=True)
class Alone:
    """Acts of one kind that nobody did: the newest, how often since when, and how many things by all of them."""

    act: AuditEntry
    times: int
    count: int
    since: datetime


def done_alone(context: Context, most: int = 8) -> list[Alone]:
    """What was done without a person in the last day, grouped by kind; the kind that was done last stands first."""
    return context.kept(f"today alone {most}", lambda context: _done_alone(context, most))


def _done_alone(context: Context, most: int) -> list[Alone]:
    recent = (
        AuditEntry.who.in_(PEOPLE_FREE),
        AuditEntry.kind.not_in(("purchase.refused", "letter.came")),
        AuditEntry.at > context.now - timedelta(days=1),
    )
    grouped = (
        select(func.max(AuditEntry.id), func.count(), func.sum(AuditEntry.count), func.min(AuditEntry.at))
        .where(*recent)
        .group_by(AuditEntry.kind)
    )
    rows = context.session.execute(grouped.order_by(func.max(AuditEntry.id).desc()).limit(most)).all()
    newest = by_id(context.session, AuditEntry, (number for number, *_ in rows))
    return [Alone(newest[number], int(times), int(count or 0), since) for number, times, count, since in rows]


def flow(context: Context) -> list[dict[str, Any]]:
    """Open order lines from suppliers to stores, and in what state their lanes are."""
    return context.kept("today flow", _flow)


def _flow(context: Context) -> list[dict[str, Any]]:
    rows = context.session.execute(
        select(
            Supplier.id, Supplier.name, Store.id, Store.name, func.count(), func.sum(case((Lane.state.in_(("slow", "shut")), 1), else_=0))
        )
        .select_from(OrderLine)
        .join(Order, Order.id == OrderLine.order_id)
        .join(Store, Store.id == Order.store_id)
        .join(Lane, Lane.id == OrderLine.lane_id)
        .join(Supplier, Supplier.id == Lane.supplier_id)
        .where(OrderLine.state.in_(("ready", "bought", "with_supplier", "on_the_road", "held")))
        .group_by(Supplier.id, Store.id)
    ).all()
    return [
        {"supplier": s, "supplier_name": sn, "store": t, "store_name": tn, "lines": n, "slow": int(slow or 0)}
        for s, sn, t, tn, n, slow in rows
    ]


def profit_by_day(context: Context, days: int = 14) -> tuple[list[dict[str, Any]], list[str]]:
    """Profit and sales by the day of ordering, in the house's money, and which currencies have no rate to it and are left out.

    Of orders that are bought, what they leave by their bills; of those that are ready, what is expected. What is held, lacks a lane or was
    refused earns nothing until that is settled.
    """
    return context.kept(f"today days {days}", lambda context: _profit_by_day(context, days))


def _profit_by_day(context: Context, days: int) -> tuple[list[dict[str, Any]], list[str]]:
    last = house_days.today(context)
    dates = [last - timedelta(days=back) for back in reversed(range(days))]
    begins = [to_ms(house_days.begin(context, day)) for day in dates]
    at = (type_coerce(Order.ordered_at, BigInteger) // QUARTER_MS).label("quarter")
    mine = OrderLine.order_id == Order.id
    waits = select(OrderLine.id).where(mine, OrderLine.state.in_(order_profit.WAITING)).exists()
    # What was refunded after it had left was paid all the same.
    counts = or_(
        select(OrderLine.id).where(mine, OrderLine.state != "cancelled").exists(),
        select(PurchaseOrder.id).where(PurchaseOrder.order_id == Order.id, PurchaseOrder.state.in_(order_profit.LIVE)).exists(),
    )
    paid = select(func.sum(OrderLine.paid)).where(mine, OrderLine.state != "cancelled").correlate(Order).scalar_subquery()
    rows = (
        select(at, Order.currency, func.sum(Plan.known_profit), func.sum(paid))
        .join(Plan, Plan.order_id == Order.id)
        .where(Order.ordered_at >= from_ms(begins[0]), ~waits, counts)
        .group_by(at, Order.currency)
    )
    worth = exchange_rates.Worth(context)
    sums: dict[int, list[int]] = {}
    for quarter, currency, profit, sales in context.session.execute(rows):
        mine_of_day = sums.setdefault(bisect(begins, int(quarter) * QUARTER_MS) - 1, [0, 0])
        mine_of_day[0] += worth.of(int(profit or 0), currency)
        mine_of_day[1] += worth.of(int(sales or 0), currency)
    out = []
    for n, day in enumerate(dates):
        profit, sales = sums.get(n, [0, 0])
        out.append({"day": day.isoformat(), "profit": profit, "sales": sales})
    return out, sorted(worth.left_out)
