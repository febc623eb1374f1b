"""Lanes opened by themselves: all SKUs without one against all items, and only what is sure (section 6)."""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass, field
from fractions import Fraction
from typing import Any

from sqlalchemy import func, select

from ...core.likeness import OPEN, Likely, Pattern, ThingRow, learn, match, message
from ...core.states import LaneState, ListingState
from ...core.writing import grouped
from ...data.bulk import by_id, in_chunks
from ...data.lanes import Lane, LanePart, Rejection
from ...data.setup import Setting, Supplier
from ...data.shelf import Listing, Sku
from ...data.source import Item
from ...data.tallies import tally
from ..base.context import Context
from ..pricing.policy import policy_for
from .bulk_changes import in_one
from .landed_cost import Costing
from .lanes import LaneItem, LaneRequest
from .mapping_queue import without_lane
from .similarity import LOOKED_AT, near_items

LEARNT, LOOKED = "number_patterns", "matched"
# So many other SKUs are enough to learn from how rare words are; above so many items only those near a SKU are compared with it.
LEARNT_FROM, MANY_ITEMS = 5000, 20_000


@dataclass(frozen=True)
class Sure:
    """A SKU with its sure items, the one that lands cheapest first, each with its likeness and what agrees."""

    sku: int
    items: list[int]
    proof: list[dict[str, Any]]
    # Supplier units for one unit sold of each item; one each where nothing is said.
    units: list[Fraction] = field(default_factory=list)


def proof_of(score: float, agrees: Sequence[str], differs: Sequence[str], alone: bool = False, by: str = "") -> dict[str, Any]:
    """What a lane keeps of why it was opened."""
    return {"score": max(0, min(100, round(score))), "agrees": list(agrees)[:6], "differs": list(differs)[:6], "alone": alone, "by": by}


def find_sure(context: Context, progress: Callable[[int], None] = lambda n: None, skus: Collection[int] | None = None) -> list[Sure]:
    """Sure items for SKUs without a lane (or for those named). Reads only; takes seconds with large catalogues."""
    wanted = without_lane(context) if skus is None else list(skus)
    if not wanted:
        return []
    ours = rows_of_skus(context, wanted)
    items = rows_of_items(context, near=_near(context, wanted))
    # Words are learnt from what the house knows, so that a few leftovers are not judged by themselves alone.
    others = sorted(set(context.session.scalars(select(Sku.id))) - set(wanted))
    known = rows_of_skus(context, others[:: -(-len(others) // LEARNT_FROM)] if others else ())
    # What a person closed, or took back, is not opened again by itself; it is still offered.
    closed = select(Lane.sku_id, LanePart.item_id).join(LanePart, LanePart.lane_id == Lane.id).where(Lane.closed_at.is_not(None))
    pairs = select(Rejection.sku_id, Rejection.item_id).union(closed)
    refused = {(str(sku), str(item)) for sku, item in context.session.execute(pairs).tuples()}
    packs = bool(policy_for(context.session)["open_packs"])
    found = match(ours, items, refused, progress, patterns=patterns(context), known=known, other_packs=packs)
    sure = {int(row.key): [one for one in near if one.decision == OPEN] for row, near in zip(ours, found, strict=True)}
    return _cheapest_first(context, {sku: near for sku, near in sure.items() if near}, items)


def _near(context: Context, wanted: Sequence[int]) -> set[int] | None:
    """Where few SKUs stand against very many items: those items that have one of their numbers, or share their rarest words; None = all."""
    there = sum(n for n in tally(context.session, "items").values())
    if there < MANY_ITEMS or len(wanted) * LOOKED_AT > there:
        return None
    known = patterns(context)
    return {item for sku in by_id(context.session, Sku, wanted).values() for item in near_items(context, sku, known)}


def _cheapest_first(context: Context, sure: dict[int, list[Likely]], items: Sequence[ThingRow]) -> list[Sure]:
    costing = Costing(context)
    ids = {int(items[one.theirs].key) for near in sure.values() for one in near}
    rows = {item.id: item for chunk in in_chunks(ids) for item in context.session.scalars(select(Item).where(Item.id.in_(chunk)))}
    stores = store_of(context, sure)
    anywhere = next(iter(costing.facts.stores.values()), None)
    out = []
    for sku, near in sure.items():
        store = costing.facts.stores.get(stores.get(sku, 0), anywhere)
        if store is None:
            continue
        ranked: list[tuple[bool, int, int, dict[str, Any], Fraction]] = []
        for one in near:
            item = rows[int(items[one.theirs].key)]
            cost = costing.landed(costing.of_item(item, one.units, store.country, costing.usual(sku)), store)
            if not cost.reason:
                # What is in stock goes before what is not, however cheap.
                ranked.append(
                    (
                        item.offer == "gone" or item.stock == 0,
                        cost.landed,
                        item.id,
                        proof_of(one.score, *message(one.evidence), True),
                        one.units,
                    )
                )
        ranked.sort(key=lambda one: one[:3])
        if ranked:
            out.append(Sure(sku, [one[2] for one in ranked], [one[3] for one in ranked], [one[4] for one in ranked]))
    return out


def open_sure(context: Context, sure: Sequence[Sure], reason: str = "") -> int:
    """Open lanes for SKUs that still have none: the cheapest as the main one, the rest as spares. One act. Returns how many SKUs."""
    bare = set(without_lane(context, [one.sku for one in sure]))
    mine = [one for one in sure if one.sku in bare]
    wishes = [
        LaneRequest(one.sku, [LaneItem(item, each)], use, match_evidence=proof)
        for one in mine
        for use, (item, proof, each) in enumerate(zip(one.items, one.proof, one.units or [Fraction(1)] * len(one.items), strict=True))
    ]
    if not wishes:
        return 0

    def tell(n: int) -> str:
        return f"{grouped(n)} SKU{'s' if n != 1 else ''} mapped by {'themselves' if n != 1 else 'itself'}: numbers and words agree"

    in_one(context, "lane.sure", {one.sku for one in mine}, tell, wishes, reason=reason)
    return len(mine)


def alone(context: Context) -> bool:
    """Whether the house wants sure lanes opened without asking."""
    return bool(policy_for(context.session)["open_sure"])


def is_due(context: Context) -> bool:
    """Whether items or SKUs have come since the last look."""
    row = context.session.scalar(select(Setting).where(Setting.name == LOOKED))
    return row is None or row.value.get("mark") != _mark(context)


def due(context: Context) -> bool:
    """The same, and remembers that they were seen."""
    if not is_due(context):
        return False
    row = context.session.scalar(select(Setting).where(Setting.name == LOOKED))
    if row is None:
        row = Setting(name=LOOKED, value={})
        context.session.add(row)
    row.value = {"mark": _mark(context)}
    return True


def _mark(context: Context) -> list[int]:
    return [int(context.session.scalar(select(func.max(table.id))) or 0) for table in (Sku, Item)]


def learn_patterns(context: Context) -> list[Pattern]:
    """Learn anew how suppliers' numbers follow from our SKUs, from the lanes that people opened."""
    rows = context.session.execute(
        select(Sku.code, Item.supplier_id, Item.number)
        .join(Lane, Lane.sku_id == Sku.id)
        .join(LanePart, LanePart.lane_id == Lane.id)
        .join(Item, Item.id == LanePart.item_id)
        .where(Lane.closed_at.is_(None), Lane.is_substitute.is_(False), Lane.state != LaneState.shut)
    ).all()
    numbers: dict[str, list[str]] = {}
    for supplier, number in context.session.execute(select(Item.supplier_id, Item.number)):
        numbers.setdefault(str(supplier), []).append(number)
    return learn([(code, str(supplier), number) for code, supplier, number in rows], numbers)


def keep_patterns(context: Context, found: Sequence[Pattern]) -> None:
    """What was learnt, for all looks until it is learnt anew."""
    row = context.session.scalar(select(Setting).where(Setting.name == LEARNT))
    value = {"patterns": [[one.supplier, list(one.cut), list(one.put), one.seen, one.of] for one in found]}
    if row is None:
        context.session.add(Setting(name=LEARNT, value=value))
    elif row.value != value:
        row.value = value


def patterns(context: Context) -> list[Pattern]:
    """What was learnt last."""
    row = context.session.scalar(select(Setting).where(Setting.name == LEARNT))
    reported_rows = row.value.get("patterns", []) if row else []
    return [Pattern(supplier, (cut[0], cut[1]), (put[0], put[1]), seen, of) for supplier, cut, put, seen, of in reported_rows]


def rows_of_skus(context: Context, skus: Collection[int]) -> list[ThingRow]:
    """SKUs as they are compared, with the price of one of their listings."""
    prices: dict[int, tuple[int, str]] = {}
    rows: list[Any] = []
    for chunk in in_chunks(skus):
        reported_prices = select(Listing.sku_id, Listing.wanted_price, Listing.currency).where(Listing.sku_id.in_(chunk))
        prices |= {sku: (price, currency) for sku, price, currency in context.session.execute(reported_prices)}
        named = select(Sku.id, Sku.code, Sku.title, Sku.brand, Sku.gtin, Sku.mpn, Sku.options).where(Sku.id.in_(chunk))
        rows += context.session.execute(named.order_by(Sku.id)).all()
    return [
        ThingRow(str(r.id), r.title, r.brand, r.gtin, r.mpn, 1, *prices.get(r.id, (0, "")), options=r.options, number=r.code) for r in rows
    ]


def rows_of_items(context: Context, supplier: int | None = None, near: Collection[int] | None = None) -> list[ThingRow]:
    """Items that are still sold, as they are compared; near: of these alone."""
    query = select(
        Item.id,
        Item.title,
        Item.brand,
        Item.gtin,
        Item.mpn,
        Item.pack_size,
        Item.cost,
        Item.currency,
        Item.supplier_id,
        Item.options,
        Item.number,
    ).where(Item.offer != "gone", Item.origin_id.is_not(None))
    query = query.where(Item.supplier_id.in_(select(Supplier.id).where(Supplier.ended_at.is_(None))))
    if supplier is not None:
        query = query.where(Item.supplier_id == supplier)
    queries = [query.order_by(Item.id)] if near is None else [query.where(Item.id.in_(chunk)) for chunk in in_chunks(sorted(near))]
    return [
        ThingRow(str(i), title, brand, gtin, mpn, pack, float(cost), currency, str(by), options, number)
        for one in queries
        for i, title, brand, gtin, mpn, pack, cost, currency, by, options, number in context.session.execute(one)
    ]


def store_of(context: Context, skus: Collection[int]) -> dict[int, int]:
    out: dict[int, int] = {}
    for chunk in in_chunks(skus):
        rows = select(Listing.sku_id, func.min(Listing.store_id)).where(Listing.sku_id.in_(chunk), Listing.state != ListingState.ended)
        out |= dict(context.session.execute(rows.group_by(Listing.sku_id)).tuples().all())
    return out
