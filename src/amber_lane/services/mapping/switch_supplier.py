"""A supplier's lanes moved to another supplier: the likest item for each SKU, looked at first, taken as one act."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import select

from ...core.likeness import NONE as NOT_LIKE
from ...core.likeness import OPEN, match, message
from ...core.writing import grouped
from ...data.bulk import by_id, in_chunks
from ...data.lanes import Lane, LanePart, Rejection
from ...data.setup import Supplier
from ...data.shelf import Sku
from ...data.source import Item
from ..base import portions
from ..base.context import Context
from ..base.errors import Conflict, Invalid, NotFound
from .auto_matching import patterns, rows_of_items, rows_of_skus, store_of
from .bulk_changes import in_one, put_in_order
from .landed_cost import Costing, UnitLanded, parts_of
from .lanes import LaneItem, LaneRequest
from .similarity import units_between

MOST = 2000


@dataclass(frozen=True)
class LaneSwitch:
    """One lane and where it would go. item None: the other supplier has nothing like it. has: the SKU has that lane already (its id)."""

    lane: Lane
    sku: Sku
    old: Item
    item: Item | None
    score: int
    decision: str
    agrees: list[str]
    differs: list[str]
    now: UnitLanded
    then: UnitLanded
    currency: str
    has: int | None


def preview(context: Context, source: int, target: int, lanes: Collection[int] = ()) -> list[LaneSwitch]:
    """What moving main lanes (all of them, or those named) from one supplier to another would mean, the sure ones first."""
    if source == target:
        raise Invalid("the lanes are with this supplier already; choose another", {"target": "is the same supplier"})
    context.get(Supplier, target, "supplier")
    query = select(Lane).where(Lane.supplier_id == source, Lane.closed_at.is_(None), Lane.priority == 0, Lane.is_substitute.is_(False))
    mine = list(context.session.scalars(query.where(Lane.id.in_(list(lanes))) if lanes else query))
    parts, items = parts_of(context, mine)
    single = [lane for lane in mine if len(parts[lane.id]) == 1]
    if len(single) > MOST:
        raise Invalid(f"these are {grouped(len(single))} lanes; choose at most {grouped(MOST)} of them")
    skus = by_id(context.session, Sku, (lane.sku_id for lane in single))
    theirs = rows_of_items(context, target)
    refused = {(str(s), str(i)) for s, i in context.session.execute(select(Rejection.sku_id, Rejection.item_id))}
    rows = rows_of_skus(context, skus)
    near = dict(zip((int(row.key) for row in rows), match(rows, theirs, refused, shown=1, patterns=patterns(context)), strict=True))
    found = by_id(context.session, Item, (int(theirs[one.theirs].key) for few in near.values() for one in few))
    has = _has(context, skus, found)
    costing, stores = Costing(context), store_of(context, skus)
    out: list[LaneSwitch] = []
    for lane in single:
        store = costing.facts.stores.get(stores.get(lane.sku_id, 0)) or next(iter(costing.facts.stores.values()))
        old = items[parts[lane.id][0].item_id]
        now = costing.landed(costing.of_lane(lane, parts[lane.id], items, store.country), store)
        best = next(iter(near.get(lane.sku_id, [])), None)
        sku = skus[lane.sku_id]
        if best is None or best.decision == NOT_LIKE:
            out.append(
                LaneSwitch(lane, sku, old, None, 0, NOT_LIKE, [], [], now, UnitLanded(reason="nothing like it"), store.currency, None)
            )
            continue
        item = found[int(theirs[best.theirs].key)]
        then = costing.landed(costing.of_item(item, best.units, store.country, costing.usual(lane.sku_id)), store)
        score = max(0, min(100, round(best.score)))
        in_words = message(best.evidence)
        out.append(LaneSwitch(lane, sku, old, item, score, best.decision, *in_words, now, then, store.currency, has.get((sku.id, item.id))))
    return sorted(out, key=lambda one: (one.decision != OPEN, -one.score, one.sku.code))


def _has(context: Context, skus: Collection[int], items: Collection[int]) -> dict[tuple[int, int], int]:
    out: dict[tuple[int, int], int] = {}
    for chunk in in_chunks(skus):
        rows = (
            select(Lane.sku_id, LanePart.item_id, Lane.id)
            .join(LanePart, LanePart.lane_id == Lane.id)
            .where(Lane.sku_id.in_(chunk), Lane.closed_at.is_(None), LanePart.item_id.in_(list(items)))
        )
        out |= {(sku, item): lane for sku, item, lane in context.session.execute(rows)}
    return out


def move(context: Context, source: int, picks: Mapping[int, int], proofs: Mapping[int, dict[str, Any]], keep_old: bool) -> int:
    """Make the picked items (SKU -> item) the main lanes of their SKUs; the old ones stay as spares, or are closed. Very many in
    portions that follow. Returns how many."""
    if not picks:
        raise Conflict("nothing is chosen")
    body = {"source": source, "keep_old": keep_old}
    rows = [(sku, item, proofs.get(sku)) for sku, item in picks.items()]
    if len(rows) <= portions.AT_ONCE:
        return _move(context, body, rows)
    parts = [rows[start : start + portions.PORTION] for start in range(0, len(rows), portions.PORTION)]
    portions.enter(context, "lanes.move", f"Moving {grouped(len(rows))} lanes", body, parts, len(rows))
    return len(rows)


@portions.work("lanes.move")
def _move(context: Context, body: dict[str, Any], part: Sequence[tuple[int, int, dict[str, Any] | None]]) -> int:
    source, keep_old = body["source"], body["keep_old"]
    picks = {sku: item for sku, item, _ in part}
    proofs = {sku: proof for sku, _, proof in part}
    items = by_id(context.session, Item, picks.values())
    if len({item.supplier_id for item in items.values()}) > 1:
        raise Invalid("all items must be of one supplier")
    context.get(Supplier, source, "supplier")
    for number in picks.values():
        if number not in items:
            raise NotFound(f"there is no item {number}")
    names = by_id(context.session, Supplier, {source, *(item.supplier_id for item in items.values())})
    has = _has(context, picks, set(picks.values()))
    fresh = [(sku, item) for sku, item in picks.items() if (sku, item) not in has]
    skus = by_id(context.session, Sku, (sku for sku, _ in fresh))
    units = units_between([(skus[sku], items[item]) for sku, item in fresh])
    wishes = [
        LaneRequest(sku, [LaneItem(item, each)], match_evidence=proofs.get(sku)) for (sku, item), each in zip(fresh, units, strict=True)
    ]
    spares = {lane for (sku, item), lane in has.items() if picks.get(sku) == item}
    olds = list(
        context.session.scalars(select(Lane).where(Lane.sku_id.in_(list(picks)), Lane.supplier_id == source, Lane.closed_at.is_(None)))
    )

    def change() -> None:
        if not keep_old:
            for lane in olds:
                lane.closed_at = context.now
                lane.version += 1
        put_in_order(context, set(picks), spares)

    n = len(picks)
    target = next(names[item.supplier_id].name for item in items.values())

    def tell(n: int) -> str:
        return f"{grouped(n)} lane{'s' if n != 1 else ''} moved from {names[source].name} to {target}"

    in_one(context, "lane.move", set(picks), tell, wishes, change, "the old ones stay as spares" if keep_old else "the old ones are closed")
    return n
