"""What needs a person, dearest first, each with its best next step; and what was done alone."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from datetime import date, datetime, timedelta
from typing import Any

from sqlalchemy import case, func, select

from ...core.permissions import Permission as P
from ...core.states import LaneState, OrderLineState
from ...core.writing import grouped
from ...data.bulk import by_id
from ...data.lanes import Lane
from ...data.orders import FillPlan, Order, OrderLine
from ...data.outbox import AuditEntry
from ...data.setup import Store, Supplier
from ...data.tallies import tally
from ..base import house_days
from ..base.context import Context
from ..base.errors import Conflict, MayNot
from ..books import grouping, profit
from ..orders import order_profit, orders
from ..people import handing_out
from ..pricing import exchange_rates
from . import (
    approval_alerts,
    books_alerts,
    claim_alerts,
    depot_alerts,
    file_alerts,
    goods_alerts,
    price_alerts,
    print_alerts,
    sending_alerts,
    trade_alerts,
)
from .alert import ACTS, Alert, AlertKey, Doing, Source
from .grouping import CAUSE, by_cause
from .snoozing import asleep, snooze

# Days of every zone begin at a quarter of an hour.
QUARTER_MS = 900_000
# With so many listings the counts on the road may be some seconds old.
LARGE = 20_000
PEOPLE_FREE = ("Watch", "Orders", "Delivery", "Transit")


SOURCES: dict[str, Source] = {
    **goods_alerts.SOURCES,
    **price_alerts.SOURCES,
    **trade_alerts.SOURCES,
    **sending_alerts.SOURCES,
    **books_alerts.SOURCES,
    **print_alerts.SOURCES,
    **depot_alerts.SOURCES,
    **claim_alerts.SOURCES,
    **file_alerts.SOURCES,
}


def singles(context: Context, kind: str = "") -> list[Alert]:
    """Every open trouble that is not put off, each for itself. kind: only those, so that no others are looked for."""
    away = asleep(context)
    return [
        one
        for kinds, source in SOURCES.items()
        if not kind or kind in kinds.split()
        for one in context.kept(f"today {kinds}", _found_by(source))
        if _awake(one, away)
    ]


def _found_by(source: Source) -> Callable[[Context], list[Alert]]:
    return lambda context: list(source(context))


def _awake(one: Alert, away: dict[str, str]) -> bool:
    return one.key not in away or bool(away[one.key] and away[one.key] != one.message)


def open_alerts(context: Context) -> list[Alert]:
    """All open troubles that are not put off, one row for each cause, dearest first; a loss per day counts as three days of it."""
    return context.kept("today", _open_alerts)


def _open_alerts(context: Context) -> list[Alert]:
    away = asleep(context)
    found = [one for one in by_cause(singles(context)) if _awake(one, away)]
    return sorted(found, key=lambda one: (-(one.at_risk * (3 if one.per_day else 1)), one.since))


def counts(context: Context) -> dict[str, int]:
    """How much waits for a person at each station of the road; in a large house some seconds old while very much is written."""
    out: dict[str, int] = {}
    large = sum(tally(context.session, "listings").values()) > LARGE
    waits = context.kept("today", _open_alerts, lags=large)
    for one in (*approval_alerts.waiting(context), *(one for one in waits if is_theirs(context, one.station))):
        out[one.station] = out.get(one.station, 0) + one.count
        out["today"] = out.get("today", 0) + 1
    return out


# What one must see of a station for its alerts, and may do for their steps. A person who is limited to some goods sees none of these.
SEES: dict[str, frozenset[P]] = {
    "source": frozenset({P.SEE_GOODS, P.SEE_MONEY}),
    "shelf": frozenset({P.SEE_GOODS, P.SEE_MONEY}),
    "lanes": frozenset({P.SEE_GOODS}),
    "price": frozenset({P.SEE_GOODS, P.SEE_MONEY}),
    "watch": frozenset({P.SEE_GOODS, P.SEE_MONEY}),
    "orders": frozenset({P.SEE_ORDERS, P.SEE_MONEY}),
    "transit": frozenset({P.SEE_ORDERS, P.SEE_MONEY}),
    "depot": frozenset({P.SEE_GOODS, P.SEE_MONEY}),
    "books": frozenset({P.SEE_BOOKS}),
}
DOES = {
    "source": P.LIST, "shelf": P.LIST, "lanes": P.MAP, "price": P.PRICE, "watch": P.PRICE,
    "orders": P.ORDER, "transit": P.CLAIM, "depot": P.ORDER, "books": P.KEEP_BOOKS,
}  # fmt: skip


def sees(context: Context, station: str) -> bool:
    """Whether whoever acts sees what is open at a station."""
    allowed = context.allowed
    return allowed is None or (not allowed.scope.limited and allowed.may(*SEES.get(station, {P.SETTINGS})))


def is_theirs(context: Context, station: str) -> bool:
    """Whether what is open at a station needs whoever acts: they see it, and may do what it takes."""
    return sees(context, station) and (context.allowed is None or context.allowed.may(DOES.get(station, P.SETTINGS)))


def open_for(context: Context) -> list[Alert]:
    """What is open and whoever acts can do something about; what waits for their word stands first."""
    mine = [one for one in open_alerts(context) if is_theirs(context, one.station)]
    if has := handing_out.given(context):
        # Their own first, then what is nobody's; what others have in hand comes last.
        rank = {True: 0, None: 1, False: 2}
        mine.sort(key=lambda one: rank[has[one.key].mine if one.key in has else None])
    return [*approval_alerts.waiting(context), *mine]


def takes(station: str) -> frozenset[P]:
    """What somebody must see and may do to whom a row of a station is given."""
    return SEES.get(station, frozenset()) | {DOES.get(station, P.SETTINGS)}


def give(context: Context, key: str, person: int | None) -> str:
    """Give an open row to somebody who may do what it takes."""
    row = next((one for one in open_alerts(context) if one.key == key), None)
    if row is None:
        raise Conflict("this is done already")
    _may_step(context, row.station)
    return handing_out.give(context, key, person, takes(row.station))


def _may_step(context: Context, station: str) -> None:
    allowed = context.allowed
    if allowed is not None and not is_theirs(context, station):
        raise MayNot(f"this needs somebody who may {DOES.get(station, P.SETTINGS)}; your role is {allowed.role.name}")


def do_step(context: Context, key: str, other: bool = False, choice: str = "", keys: Sequence[str] = ()) -> str:
    """Do the best next step of an alert, or the other way on; by the key of one of its members, for that one alone.

    choice: what was chosen, where the step asks for one. keys: these members of a cause alone, else all of them.
    Returns what was done; Conflict when it is not open any more.
    """
    asked = AlertKey.read(key)
    if asked.kind == CAUSE:
        return _for_many(context, asked, other, [AlertKey.read(one) for one in keys])
    only = None
    alert = next((one for one in singles(context, asked.kind) if one.key == key), None)
    for one in singles(context, asked.kind) if alert is None else ():
        if member := next((member for member in one.members if member.key == key and member.number is not None), None):
            alert, only = one, member.number
    if alert is None and asked.kind == "oversell":
        # One of a store's many, which stand as one row.
        alert = next(iter(goods_alerts.oversell(context, only=_numbers([asked]))), None)
    if alert is None:
        raise Conflict("this is done already")
    _may_step(context, alert.station)
    return _do(Doing(context, alert, other, choice, only))


def _numbers(keys: Iterable[AlertKey]) -> list[int]:
    return [int(one.about[0]) for one in keys if one.about and str(one.about[0]).isdecimal()]


def _for_many(context: Context, key: AlertKey, other: bool, keys: Sequence[AlertKey]) -> str:
    """A step for the members of a cause that are still open: all of them, or those asked for."""
    kind, *rest = key.about
    if kind == "oversell":
        _may_step(context, "watch")
        n = goods_alerts.send_pauses_again(context, int(rest[0]), _numbers(keys))
        return f"{grouped(n)} pause{'s are' if n > 1 else ' is'} sent again"
    row = next((one for one in open_alerts(context) if one.key == key), None)
    if row is None:
        raise Conflict("this is done already")
    _may_step(context, row.station)
    step = row.other if other else row.step
    if step is None or not step.act:
        raise Conflict("this step is yours to take in its own view")
    wanted = {one.key for one in row.members if not keys or one.key in keys}
    found = [one for one in singles(context, AlertKey.read(next(iter(wanted), key)).kind) if one.key in wanted]
    if not found:
        raise Conflict("none of these is open any more")
    if found[0].key.kind == "hold":
        n, left = orders.allow_many(context, [one.key.about[0] for one in found])
        return f"{n} held orders may go" + (f", {left} stay: their limit is not one to lift" if left else "")
    done = 0
    for one in found:
        try:
            _do(Doing(context, one, other))
            done += 1
        except Conflict:
            continue
    if not done:
        raise Conflict("none of these is open any more")
    return f"{step.label}: {done} done" + (f", {len(found) - done} were done already" if done < len(found) else "")


def _do(do: Doing) -> str:
    """Every kind of alert has entered what its step does (alert.acts)."""
    step = do.alert.other if do.other else do.alert.step
    if step is None or not step.act:
        raise Conflict("this step is yours to take in its own view")
    told = ACTS[do.alert.key.kind](do)
    return told if isinstance(told, str) else f"{step.label}: {do.alert.message}"


def put_off(context: Context, key: str, hours: int, until_change: bool = False) -> None:
    """Put an alert off until a time, or until it says something else: one more parcel, another sum, a new reason."""
    away = next((one for one in open_alerts(context) if one.key == key), None)
    if away is not None:
        _may_step(context, away.station)
    elif context.allowed is not None and not context.allowed.may(P.SETTINGS):
        raise MayNot("only what you see can be put off")
    if not until_change:
        return snooze(context, key, timedelta(hours=hours))
    open_now = next((one for one in (*open_alerts(context), *singles(context)) if one.key == key), None)
    if open_now is None:
        raise Conflict("this is done already")
    return snooze(context, key, timedelta(days=365), open_now.message)


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
        AuditEntry.kind.not_in(("purchase.refused", "letter.came", "letter.buyer")),
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
            Supplier.id,
            Supplier.name,
            Store.id,
            Store.name,
            func.count(),
            func.sum(case((Lane.state.in_((LaneState.slow, LaneState.shut)), 1), else_=0)),
        )
        .select_from(OrderLine)
        .join(Order, Order.id == OrderLine.order_id)
        .join(Store, Store.id == Order.store_id)
        .join(Lane, Lane.id == OrderLine.lane_id)
        .join(Supplier, Supplier.id == Lane.supplier_id)
        .where(
            OrderLine.state.in_(
                (OrderLineState.ready, OrderLineState.bought, OrderLineState.with_supplier, OrderLineState.on_the_road, OrderLineState.held)
            )
        )
        .group_by(Supplier.id, Store.id)
    ).all()
    return [
        {"supplier": s, "supplier_name": sn, "store": t, "store_name": tn, "lines": n, "slow": int(slow or 0)}
        for s, sn, t, tn, n, slow in rows
    ]


@dataclass(frozen=True)
class DayProfit:
    """sales and profit by the journal; expected: what orders that are ready now are to leave, of today alone. House minor units."""

    day: date
    sales: int
    profit: int
    expected: int


def profit_by_day(context: Context, days: int = 14) -> tuple[list[DayProfit], list[str]]:
    """Sales and profit of the last days as the journal has them, and which currencies have no rate and are left out.

    What is held, lacks a lane or was refused is expected to leave nothing until that is settled.
    """
    return context.kept(f"today days {days}", lambda context: _profit_by_day(context, days))


def _profit_by_day(context: Context, days: int) -> tuple[list[DayProfit], list[str]]:
    last = house_days.today(context)
    worth = exchange_rates.HomeWorth(context)
    mine = OrderLine.order_id == Order.id
    waits = select(OrderLine.id).where(mine, OrderLine.state.in_(order_profit.WAITING)).exists()
    ready = (
        select(Order.currency, func.sum(FillPlan.known_profit))
        .join(FillPlan, FillPlan.order_id == Order.id)
        .where(select(OrderLine.id).where(mine, OrderLine.state == OrderLineState.ready).exists(), ~waits)
        .group_by(Order.currency)
    )
    expected = sum(worth.of(int(amount or 0), currency) for currency, amount in context.session.execute(ready))
    out = [
        DayProfit(day, sales, left, expected if day == last else 0)
        for day, sales, left in profit.days_of(context, grouping.Period(last - timedelta(days=days - 1), last))
    ]
    return out, sorted({*worth.left_out, *profit.left_out(context)})
