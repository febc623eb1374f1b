"""Lanes that stop being true: what a supplier says of an item does not fit the SKU any more, so nothing may be bought by it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace

from sqlalchemy import select

from ...core.currency import show
from ...core.likeness import Comparison, Matcher, ThingRow, judge, message
from ...core.states import LaneCause, LaneState
from ...data.bulk import by_id, in_chunks
from ...data.lanes import Lane, LanePart, by_items
from ...data.setup import Supplier
from ...data.shelf import Sku
from ...data.source import Item
from ..base.context import Context
from . import lane_states
from .similarity import row_of_sku

# How a lane says that its item comes in another pack.
# A cost that is so many times what it was when a person last said that the lane is right (or so small a part of it) shuts
# the lane; from the smaller figure on it is put to a person.
COST_WRONG, COST_ODD = 3, 2
# A title that is less like our SKU than this share of what it was, and not like it by itself, has moved away.
FAR, ALIKE, STRANGE = 0.6, 55.0, 0.3


def shut_for_packs(context: Context, supplier: Supplier, packs: Sequence[tuple[int, int, int]]) -> set[int]:
    """Items (number, old pack, new pack) that come in another pack: what one sale needs of them is not true any more.

    Their lanes are shut until a person says how many make one unit sold. Returns the SKUs concerned.
    """
    skus: set[int] = set()
    changed = {number: (old, new) for number, old, new in packs}
    rows = (
        context.session.execute(
            by_items(
                select(Lane, LanePart.item_id, Item.number)
                .join(LanePart, LanePart.lane_id == Lane.id)
                .join(Item, Item.id == LanePart.item_id)
                .where(LanePart.item_id.in_(list(changed)), Lane.closed_at.is_(None), Lane.state != LaneState.shut)
            )
        ).all()
        if changed
        else []
    )
    for lane, item, number in rows:
        old, new = changed[item]
        reason = f"{number} comes in packs of {new} now, not of {old}; say how many make one unit sold"
        lane_states.move(lane, "shut", LaneCause.packs, reason)
        skus.add(lane.sku_id)
    if rows:
        first = f"{rows[0][2]} in packs of {changed[rows[0][1]][1]} now"
        message = f"{len(rows)} lane{'s' if len(rows) != 1 else ''} of {supplier.name} shut: {first}"
        context.log("lane.pack", supplier.name, message, reason="its pack changed", count=len(rows))
    context.session.flush()
    return skus


def look_at_words(context: Context, supplier: Supplier, renamed: Mapping[int, tuple[ThingRow, ThingRow]]) -> set[int]:
    """Items (was, is now) that are called otherwise: lanes that they do not fit any more are shut, with both before and after.

    Returns the SKUs concerned. Spares take over where there are any; orders without one wait for a person.
    """
    if not renamed:
        return set()
    pairs = context.session.execute(
        by_items(
            select(Lane, LanePart.item_id)
            .join(LanePart, LanePart.lane_id == Lane.id)
            .where(LanePart.item_id.in_(list(renamed)), Lane.closed_at.is_(None), Lane.state != LaneState.shut)
        )
    ).all()
    skus = by_id(context.session, Sku, (lane.sku_id for lane, _ in pairs))
    matcher = Matcher([row for both in renamed.values() for row in both], [row_of_sku(sku) for sku in skus.values()])
    numbers = dict(context.session.execute(select(Item.id, Item.number).where(Item.id.in_(list(renamed)))).tuples().all())
    shut: list[str] = []
    touched: set[int] = set()
    for lane, item in pairs:
        ours, was, now = matcher.things([row_of_sku(skus[lane.sku_id]), *renamed[item]])
        before, after = judge(ours, was, matcher.corpus), judge(ours, now, matcher.corpus)
        if not _moved_away(before, after, renamed[item]) and not _other_thing(matcher, skus[lane.sku_id], renamed[item]):
            continue
        differs = message(after.evidence)[1]
        reason = f"{numbers[item]} was {renamed[item][0].title!r} and is {renamed[item][1].title!r} now ({'; '.join(differs[:2])})"
        lane_states.move(lane, "shut", LaneCause.words, reason)
        touched.add(lane.sku_id)
        shut.append(lane.reason)
    n = len(renamed)
    what = f"{supplier.name} calls {n} item{'s' if n != 1 else ''} otherwise now"
    if shut:
        what += f"; {len(shut)} lane{'s' if len(shut) != 1 else ''} shut, the first: {shut[0]}"
    elif pairs:
        what += "; all lanes to them still fit"
    if pairs:
        context.log(
            "lane.words", supplier.name, what, reason="its words moved away from the SKU's" if shut else "", count=max(len(shut), 1)
        )
    context.session.flush()
    return touched


def look_at_costs(context: Context, supplier: Supplier, items: Sequence[int]) -> set[int]:
    """Items whose believed cost changed: lanes whose cost is out of all proportion to what it was are shut, with both.

    Returns the SKUs concerned. A person's word that it is right makes the new cost the usual one.
    """
    then = LanePart.cost_then
    odd = (then > 0) & ((Item.cost > COST_WRONG * then) | (Item.cost * COST_WRONG < then))
    query = (
        select(Lane, Item.number, then, Item.cost, Item.currency)
        .join(LanePart, LanePart.lane_id == Lane.id)
        .join(Item, Item.id == LanePart.item_id)
        .where(Item.supplier_id == supplier.id, Lane.closed_at.is_(None), Lane.state != LaneState.shut, odd)
    )
    rows = [row for chunk in in_chunks(items) for row in context.session.execute(by_items(query.where(Item.id.in_(chunk))))]
    for lane, number, was, now, currency in rows:
        then_now = f"{show(was or 0, currency)} when the lane was opened and {show(now, currency)} now"
        lane_states.move(lane, "shut", LaneCause.cost, f"{number} cost {then_now}; is it the same thing?")
    if rows:
        n = len(rows)
        message = f"{n} lane{'s' if n != 1 else ''} of {supplier.name} shut, the first: {rows[0][0].reason}"
        context.log("lane.cost", supplier.name, message, reason="its cost is out of all proportion", count=n)
    context.session.flush()
    return {row[0].sku_id for row in rows}


def _moved_away(before: Comparison, after: Comparison, rows: tuple[ThingRow, ThingRow]) -> bool:
    if (after.veto and not before.veto) or (after.other_pack and not before.other_pack):
        return True
    other_code = bool(rows[0].gtin and rows[1].gtin and rows[0].gtin != rows[1].gtin)
    return (other_code and not after.same_id) or (after.score < FAR * before.score and after.score < ALIKE)


def _other_thing(matcher: Matcher, sku: Sku, rows: tuple[ThingRow, ThingRow]) -> bool:
    """Whether the new title names another thing. Numbers get reused, so nothing that stayed beside the title helps: no barcode,
    no maker, no option."""
    whole = (row_of_sku(sku), *rows)
    bare = matcher.things([replace(row, brand="", options="") for row in whole])
    makers = {word for thing in matcher.things(whole) for word in thing.brand}
    for thing in bare:
        for word in makers:
            del thing.words[word]
    before, after = (judge(bare[0], theirs, matcher.corpus).likeness for theirs in bare[1:])
    return after < FAR * before and after < STRANGE
