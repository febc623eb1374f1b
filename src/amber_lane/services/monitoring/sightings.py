"""What we hold to be true of a supplier's items, and how a sweep's sightings change it. One sweep is one transaction."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from sqlalchemy import func, select

from ...core.money import Bools, Floats, Ints
from ...core.numbers import PPM
from ...core.watch import CHANGES_MOST, SMALL, Belief, Verdict, usual_moves
from ...data.base import to_ms
from ...data.bulk import bulk_insert, bulk_update, in_chunks
from ...data.source import Item
from ...data.watch import Sighting, Sweep
from ..base.context import Context

_VERDICT = {Verdict.good: "good", Verdict.doubted: "doubted", Verdict.refused: "refused"}


@dataclass
class Known:
    ids: Ints
    belief: Belief
    currency: list[str]
    offer: list[str]
    place: dict[str, int]


def known_of(context: Context, supplier: int) -> Known:
    rows = (
        context.session.connection()
        .execute(
            select(
                Item.id, Item.cost, Item.stock, Item.doubt_cost, Item.doubt_stock, Item.doubt_seen, Item.currency, Item.offer, Item.number
            ).where(Item.supplier_id == supplier)
        )
        .fetchall()
    )
    if not rows:
        empty = np.zeros(0, dtype=np.int64)
        return Known(empty, Belief(empty, empty, empty, empty, empty), [], [], {})
    cols = list(zip(*rows, strict=True))
    numbers = [np.array(column, dtype=np.int64) for column in cols[:6]]
    return Known(numbers[0], Belief(*numbers[1:]), list(cols[6]), list(cols[7]), {number: i for i, number in enumerate(cols[8])})


def match(known: Known, numbers: Sequence[str]) -> tuple[Ints, Ints]:
    """Rows of the sweep that we know, and their places; a number told twice counts once, the last time."""
    last: dict[int, int] = {}
    get = known.place.get
    for row, number in enumerate(numbers):
        place = get(number)
        if place is not None:
            last[place] = row
    places = np.fromiter(last.keys(), np.int64, len(last))
    return np.fromiter(last.values(), np.int64, len(last)), places


def missing_of(known: Known, places: Ints) -> Ints:
    there = np.zeros(len(known.ids), dtype=np.bool_)
    there[places] = True
    gone = np.array([offer == "gone" for offer in known.offer], dtype=np.bool_)
    return np.flatnonzero(~there & ~gone)


def note(context: Context, sweep: Sweep, known: Known, places: Ints, cost: Ints, stock: Ints, verdicts: list[str]) -> None:
    at, m, belief = to_ms(context.now), len(places), known.belief
    bulk_insert(
        context.session,
        Sighting,
        ("sweep_id", "item_id", "at", "old_cost", "cost", "old_stock", "stock", "verdict"),
        list(
            zip(
                [sweep.id] * m,
                known.ids[places].tolist(),
                [at] * m,
                belief.cost[places].tolist(),
                cost.tolist(),
                belief.stock[places].tolist(),
                stock.tolist(),
                verdicts,
                strict=True,
            )
        ),
    )


def believe(  # noqa: PLR0913 - columns of one length
    context: Context, sweep: Sweep, known: Known, places: Ints, cost: Ints, stock: Ints, verdict: Ints, doubt_seen: Ints, missing: Ints
) -> Ints:
    """Write what changed of items and sightings. Returns the ids of items whose belief changed."""
    belief, at = known.belief, to_ms(context.now)
    offer = np.array([known.offer[p] == "good" for p in places.tolist()], dtype=np.bool_)
    stock = np.where(stock == -1, belief.stock[places], stock)
    # The old values seen again settle a doubt, and bring back what was gone.
    back = (verdict == Verdict.same) & ~offer
    good = (verdict == Verdict.good) | back
    fresh_doubt = (belief.doubt_cost[places] != cost) | (belief.doubt_stock[places] != stock)
    doubted = verdict == Verdict.doubted
    refused = verdict == Verdict.refused
    noted = good | ((doubted | refused) & fresh_doubt)
    names = ["good" if v == Verdict.same else _VERDICT[Verdict(v)] for v in verdict[noted].tolist()]
    note(context, sweep, known, places[noted], cost[noted], stock[noted], names)
    ids = known.ids[places]
    bulk_update(
        context.session,
        Item,
        ("cost", "stock", "offer", "seen_at", "changed_at", "doubt_cost", "doubt_stock", "doubt_seen"),
        [
            (c, q, "good", at, at, -1, -1, 0, i)
            for c, q, i in zip(cost[good].tolist(), stock[good].tolist(), ids[good].tolist(), strict=True)
        ],
    )
    # What a person set aside is not put before them again while it stays the same.
    odd = (doubted | refused) & (fresh_doubt | (belief.doubt_seen[places] >= 0)) & (doubted | fresh_doubt)
    bulk_update(
        context.session,
        Item,
        ("offer", "doubt_cost", "doubt_stock", "doubt_seen"),
        [
            ("doubted", c, q, seen, i)
            for c, q, seen, i in zip(cost[odd].tolist(), stock[odd].tolist(), doubt_seen[odd].tolist(), ids[odd].tolist(), strict=True)
        ],
    )
    gone = known.ids[missing]
    if len(missing):
        note(context, sweep, known, missing, belief.cost[missing], np.zeros(len(missing), dtype=np.int64), ["gone"] * len(missing))
        bulk_update(context.session, Item, ("offer", "stock", "changed_at"), [("gone", 0, at, i) for i in gone.tolist()])
    # A sweep is written in portions where it is large.
    sweep.changes += int(good.sum()) + len(missing)
    sweep.doubted += int(doubted.sum())
    sweep.refused += int(refused.sum())
    return np.concatenate([ids[good], gone])


def unmoved(context: Context, known: Known, places: Ints) -> Bools:
    """Which items are still believed to be what they were when they were looked at: nobody has settled or swept them since."""
    belief, found = known.belief, dict[int, tuple[int, ...]]()
    for chunk in in_chunks(known.ids[places].tolist()):
        query = select(Item.id, Item.cost, Item.stock, Item.doubt_cost, Item.doubt_stock, Item.doubt_seen).where(Item.id.in_(chunk))
        found |= {row[0]: tuple(row[1:]) for row in context.session.execute(query)}
    names = ("cost", "stock", "doubt_cost", "doubt_stock", "doubt_seen")
    then = zip(*(getattr(belief, name)[places].tolist() for name in names), strict=True)
    now = (found.get(number) for number in known.ids[places].tolist())
    return np.array([one == other for one, other in zip(now, then, strict=True)], dtype=np.bool_)


def usual_of(context: Context, known: Known, places: Ints, cost: Ints, percent: int, deviations: int) -> tuple[Floats, Floats] | None:
    """Between which changes of cost each sighting would be usual for its item, where that could be narrower than the percent.

    Only items whose cost moved by a middling step are looked up: smaller steps are never doubted, larger ones always.
    """
    was = known.belief.cost[places]
    step = np.abs(cost - was) * PPM
    asked = np.flatnonzero((was > 0) & (cost > 0) & (step > was * int(SMALL * PPM * 0.9)) & (step <= was * percent))
    if not deviations or not len(asked):
        return None
    place = dict(zip(known.ids[places[asked]].tolist(), asked.tolist(), strict=True))
    moves: dict[int, tuple[float, float]] = {}
    for chunk in in_chunks(place):
        newest = func.row_number().over(partition_by=Sighting.item_id, order_by=Sighting.id.desc()).label("n")
        rows = select(Sighting.item_id, Sighting.old_cost, Sighting.cost, newest).where(
            Sighting.item_id.in_(chunk), Sighting.verdict == "good", Sighting.old_cost > 0, Sighting.cost != Sighting.old_cost
        )
        ranked = rows.subquery()
        found = context.session.execute(select(ranked.c.item_id, ranked.c.old_cost, ranked.c.cost).where(ranked.c.n <= CHANGES_MOST)).all()
        if found:
            item, old, new = (np.array(column, dtype=np.int64) for column in zip(*found, strict=True))
            moves |= usual_moves(item, old, new, deviations)
    if not moves:
        return None
    low, high = np.full(len(places), -np.inf), np.full(len(places), np.inf)
    for number, (least, most) in moves.items():
        low[place[number]], high[place[number]] = least, most
    return low, high
