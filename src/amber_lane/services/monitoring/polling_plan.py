"""The calls plan: how often to look at each item of a supplier that tells one item a call."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import timedelta
from typing import Any

import numpy as np
from sqlalchemy import BigInteger, case, func, select, type_coerce

from ...connectors.abilities import Ability
from ...core import calls
from ...core.money import Floats, Ints
from ...core.numbers import PPM
from ...core.states import LaneState, ListingState, SweepState
from ...data.base import to_ms
from ...data.bulk import bulk_update
from ...data.lanes import Lane, LanePart
from ...data.outbox import AuditEntry
from ...data.setup import Link, Supplier
from ...data.shelf import Listing, Sku
from ...data.source import Item
from ...data.statements import find_link
from ...data.watch import Sighting, Sweep
from ..base import house_days, undoing
from ..base.abilities import able
from ..base.context import Context
from ..base.errors import Invalid
from ..pricing import exchange_rates
from ..pricing.policy import policy_for, refund_cost

# Most items of one sweep where each is a call of its own.
ITEMS_MOST = 400
DAYS = 60
# What was never sold is taken to sell once in 100 days; what no lane uses is looked at once a week.
SLOWEST, UNUSED_DAYS = PPM // 100, 7.0
DAY_S = 86_400
# A spare is bought from only now and then, so being wrong about it costs so much of what it would as a main lane.
SPARE = 0.1


def hours_open(supplier: Supplier) -> float:
    """Hours a day in which it may be asked."""
    if supplier.hour_from is None or supplier.hour_to is None or supplier.hour_from == supplier.hour_to:
        return 24.0
    return float((supplier.hour_to - supplier.hour_from) % 24)


def may_ask(context: Context, supplier: Supplier) -> bool:
    """Whether its hours let us ask now."""
    if supplier.hour_from is None or supplier.hour_to is None or supplier.hour_from == supplier.hour_to:
        return True
    return (house_days.local(context, context.now).hour - supplier.hour_from) % 24 < (supplier.hour_to - supplier.hour_from) % 24


def asked_today(context: Context, supplier: int) -> int:
    """Calls of its sweeps since midnight."""
    start = house_days.begin(context, house_days.today(context))
    return int(context.session.scalar(select(func.sum(Sweep.calls)).where(Sweep.supplier_id == supplier, Sweep.started >= start)) or 0)


def calls_left(context: Context, supplier: Supplier) -> int | None:
    """What of its day's calls is left to sweeps; None = it has no such limit."""
    return None if supplier.calls_day is None else max(supplier.calls_day - asked_today(context, supplier.id), 0)


def a_sweep(supplier: Supplier, link: Link | None) -> int:
    """Calls of one sweep: half of what it allows at a time, so that buying and looking up never wait for it."""
    most = [ITEMS_MOST]
    if link is not None and link.calls_limit:
        most.append(max(link.calls_limit // 2, 1))
    if supplier.calls_minute:
        most.append(max(supplier.calls_minute * supplier.sweep_minutes // 2, 1))
    if supplier.calls_day:
        # A day's calls are spread over its sweeps, not used up in its first hours.
        most.append(max(-(-supplier.calls_day * supplier.sweep_minutes // round(hours_open(supplier) * 60)), 1))
    return min(most)


def a_day(supplier: Supplier, link: Link | None) -> float:
    """Calls a day that sweeps may take."""
    by_sweeps = a_sweep(supplier, link) * hours_open(supplier) * 60 / supplier.sweep_minutes
    return min(by_sweeps, float(supplier.calls_day)) if supplier.calls_day is not None else by_sweeps


@dataclass(frozen=True)
class CallsPlan:
    """Looks a day per item beside what they rest on. Columns of one length; money in minor units of the house's currency a day.

    loss, turns: what stale knowledge costs a day by this plan, and where every used item had its turn.
    """

    items: Ints
    used: Ints
    rate: Floats
    weight: Floats
    looks: Floats
    calls: float
    loss: float
    turns: float


def make(context: Context, supplier: Supplier) -> CallsPlan:
    """Work out the plan of a supplier from its sightings, our pace and what being wrong costs."""
    link = find_link(context.session, "supplier", supplier.id)
    budget = a_day(supplier, link)
    rows = context.session.execute(
        select(Item.id, Item.cost).where(Item.supplier_id == supplier.id, Item.offer != "gone").order_by(Item.id)
    ).all()
    items = np.array([row[0] for row in rows], dtype=np.int64)
    weight, used = _weights(context, supplier, items)
    rate = _rates(context, supplier, items)
    gap = max(int(policy_for(context.session, supplier=supplier.code)["look_gap_hours"]), 1)
    least = np.where(used == 1, 24.0 / gap, 1.0 / UNUSED_DAYS)
    looks = calls.plan(rate, weight, budget, least)
    n = max(int((used == 1).sum()), 1)
    # The other way: the same calls, after the unused ones had theirs, to all used ones alike.
    in_turn = np.where(used == 1, max(budget - float(least[used == 0].sum()), 0.0) / n, least)
    return CallsPlan(
        items, used, rate, weight, looks, budget, calls.stale_loss(rate, weight, looks), calls.stale_loss(rate, weight, in_turn)
    )


def _weights(context: Context, supplier: Supplier, items: Ints) -> tuple[Floats, Ints]:
    """What a day of being wrong about each item costs: pace x (stock gone: refund and lost profit; dearer: the usual rise)."""
    worth = exchange_rates.factor(context, Listing.currency)
    sold = (
        select(Listing.sku_id, func.max(Listing.profit * worth).label("profit"), func.max(Listing.landed * worth).label("landed"))
        .where(Listing.state == ListingState.live)
        .group_by(Listing.sku_id)
        .subquery()
    )
    rows = context.session.execute(
        select(
            LanePart.item_id,
            func.sum(Sku.pace * case((Lane.priority == 0, 1.0), else_=SPARE)),
            func.max(sold.c.profit),
            func.max(sold.c.landed),
        )
        .join(Lane, Lane.id == LanePart.lane_id)
        .join(Sku, Sku.id == Lane.sku_id)
        .join(sold, sold.c.sku_id == Sku.id)
        .where(Lane.supplier_id == supplier.id, Lane.closed_at.is_(None), Lane.state != LaneState.shut)
        .group_by(LanePart.item_id)
    ).all()
    ran_out, rose = _what_changes(context, supplier)
    place = {number: at for at, number in enumerate(items.tolist())}
    weight, used = np.zeros(len(items)), np.zeros(len(items), dtype=np.int64)
    refund = refund_cost(context)
    for item, pace, profit, landed in rows:
        if (at := place.get(item)) is not None:
            wrong = ran_out * (refund + max(int(profit or 0), 0)) + rose * int(landed or 0)
            weight[at], used[at] = max(int(pace or 0), SLOWEST) / PPM * wrong, 1
    return weight, used


def _what_changes(context: Context, supplier: Supplier) -> tuple[float, float]:
    """Of a supplier's changes: the share that ran out, and the mean rise of cost (as a share of cost, falls counted as 0)."""
    start = context.now - timedelta(days=DAYS)
    n, out, rise = context.session.execute(
        select(
            func.count(),
            func.sum(case(((Sighting.stock == 0) & (Sighting.old_stock != 0), 1), else_=0)),
            func.sum(case((Sighting.cost > Sighting.old_cost, (Sighting.cost - Sighting.old_cost) * 1.0 / Sighting.old_cost), else_=0.0)),
        )
        .join(Item, Item.id == Sighting.item_id)
        .where(Item.supplier_id == supplier.id, Sighting.verdict == "good", Sighting.old_cost > 0, Sighting.at >= start)
    ).one()
    # As if ten changes of the usual kind had been seen beside: one in ten runs out, one in five is dearer by a twentieth.
    return (int(out or 0) + 1.0) / (n + 10), (float(rise or 0) + 0.1) / (n + 10)


def _rates(context: Context, supplier: Supplier, items: Ints) -> Floats:
    """Changes a day of each item, from its sightings and how often it was looked at."""
    start = context.now - timedelta(days=DAYS)
    found: dict[int, int] = dict(
        context.session.execute(
            select(Sighting.item_id, func.count())
            .join(Item, Item.id == Sighting.item_id)
            .where(Item.supplier_id == supplier.id, Sighting.verdict.in_(("good", "gone")), Sighting.at >= start)
            .group_by(Sighting.item_id)
        )
        .tuples()
        .all()
    )
    first = context.session.scalar(
        select(func.min(Sighting.at)).join(Item, Item.id == Sighting.item_id).where(Item.supplier_id == supplier.id)
    )
    days = max((context.now - max(first, start)).total_seconds() / DAY_S, 0.5) if first else 0.5
    looked = int(
        context.session.scalar(
            select(func.sum(Sweep.items)).where(Sweep.supplier_id == supplier.id, Sweep.started >= start, Sweep.state == SweepState.good)
        )
        or 0
    )
    # What was brought in as a supplier's past holds every change, as if it had been looked at each hour.
    ours = context.session.scalar(select(func.min(Sweep.started)).where(Sweep.supplier_id == supplier.id, Sweep.asked_by != "history"))
    past = max(((ours or context.now) - max(first, start)).total_seconds() / 3600, 0.0) if first else 0.0
    changes = np.array([found.get(number, 0) for number in items.tolist()], dtype=np.float64)
    # How often each was looked at is known for the supplier as a whole; an item's changes are the least of its looks.
    looks = np.maximum(looked / max(len(items), 1) + past, changes)
    return calls.change_rates(changes, looks, np.full(len(items), days))


def refresh(context: Context) -> int:
    """Plan anew and keep it. Returns how many items are looked at otherwise now."""
    return save_intervals(context, moves(context))


def moves(context: Context) -> list[tuple[int, int]]:
    """Items of suppliers that tell one a call which are to be looked at otherwise: (seconds between two looks, id)."""
    out: list[tuple[int, int]] = []
    for supplier in context.session.scalars(select(Supplier).where(Supplier.watching)).all():
        if not able(context, supplier, Ability.one_by_one):
            continue
        plan = make(context, supplier)
        every = np.where(plan.looks > 0, np.minimum(DAY_S / np.maximum(plan.looks, 1e-6), 90 * DAY_S), 90 * DAY_S).astype(np.int64)
        was = dict(context.session.execute(select(Item.id, Item.look_every).where(Item.supplier_id == supplier.id)).tuples().all())
        out += [
            (now, number)
            for number, now in zip(plan.items.tolist(), every.tolist(), strict=True)
            if was.get(number) is None or abs(now - (was[number] or 0)) * 20 > now
        ]
    return out


def save_intervals(context: Context, rows: list[tuple[int, int]]) -> int:
    bulk_update(context.session, Item, ("look_every",), rows)
    return len(rows)


def due(context: Context, supplier: Supplier, most: int) -> list[str]:
    """Numbers of the items to look at now: those of lanes that were never seen, then those longest over their time."""
    waited = to_ms(context.now) - func.coalesce(type_coerce(Item.looked_at, BigInteger), 0)
    used = select(LanePart.item_id).join(Lane, Lane.id == LanePart.lane_id).where(Lane.closed_at.is_(None), Lane.supplier_id == supplier.id)
    over: Any = waited * 1.0 / func.coalesce(Item.look_every, int(UNUSED_DAYS * DAY_S))
    query = select(Item.number).where(Item.supplier_id == supplier.id, Item.offer != "gone")
    # Before the first plan those that lanes use have their turn; with a plan it is all in how far apart looks are to be.
    return list(context.session.scalars(query.order_by(Item.look_every.is_(None) & Item.id.not_in(used), over.desc(), Item.id).limit(most)))


LOOKS = ("calls_minute", "calls_day", "hour_from", "hour_to")


def set_looks(context: Context, number: int, version: int | None, values: Mapping[str, int | None]) -> str:
    """How often a supplier is looked at and what it lets us ask, as a person says it; the calls plan follows at once.

    values: sweep_minutes and LOOKS. Returns what was done. Can be undone.
    """
    row = context.get_version(Supplier, number, version, "supplier")
    if (values["hour_from"] is None) != (values["hour_to"] is None):
        raise Invalid("give both hours, or none", {"hour_from": "needs the other hour"})
    if values["hour_from"] is not None and values["hour_from"] == values["hour_to"]:
        raise Invalid("the two hours are the same; leave both empty for all hours", {"hour_to": "is the same hour"})
    before = {name: getattr(row, name) for name in ("sweep_minutes", *LOOKS)}
    for name in before:
        setattr(row, name, values[name])
    if row.next_sweep is not None:
        row.next_sweep = min(row.next_sweep, context.now + timedelta(minutes=row.sweep_minutes))
    context.session.flush()
    refresh(context)
    message = f"{row.name}: looked at every {row.sweep_minutes} minutes"
    message += f", at most {row.calls_day} call{'s' if row.calls_day != 1 else ''} a day" if row.calls_day else ""
    message += f", from {row.hour_from:02d}:00 to {row.hour_to:02d}:00" if row.hour_from is not None and row.hour_to is not None else ""
    context.log("looks.change", row.name, message, before={"supplier": number, "values": before}, undo=True)
    return message


def restore(context: Context, before: dict[str, Any]) -> None:
    """Undo a change of how often a supplier is looked at."""
    set_looks(context, before["supplier"], None, before["values"])


@undoing.undoes("looks.change", whole=True)
def undo_looks_change(context: Context, act: AuditEntry) -> None:
    restore(context, undoing.before(act))
