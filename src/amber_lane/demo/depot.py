"""What the demo holds at Larkfield Depot: six SKUs for sixty days, with loads that came, one that is on its way and one counted short."""

from __future__ import annotations

import random
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

import httpx
from sqlalchemy import select

from ..api.deps import AppState
from ..core.cartons import sscc
from ..core.cost import tier_cost
from ..core.numbers import half_up
from ..core.states import LOAD, ParcelState
from ..data.base import to_ms
from ..data.bulk import bulk_insert
from ..data.depot import DepotEntry, HeldGoods, Inbound, InboundLine
from ..data.orders import PurchaseLine, PurchaseOrder
from ..data.setup import Supplier
from ..data.source import Item
from ..data.transit import Parcel, ParcelLine
from ..services.base.context import Context
from ..services.books import stock_costs
from ..services.depot import goods, ledger, loads
from ..services.depot.costs import guessed_sides
from ..services.pricing.inputs import NANO
from .partners import OWNER, Land
from .past import Past

NAME = "Larkfield Depot"
# What is left of each today, as days of its pace; the last one sells slowly and fills a shelf.
LEFT_DAYS = (14, 7, 32, 48, 27, 0)
LIES = 120


def hold(house: AppState, world: str, land: Land) -> None:
    """Ask the depot for what sells most, and send from there from now on, and in the past that is written next."""
    with house.db.reading() as s:
        number = s.scalars(select(Supplier.id).where(Supplier.name == NAME)).one()
    house.reader.answers(number)
    with house.db.writing() as s:
        context = Context(s, house.clock, OWNER)
        for sku, weight in _chosen(context, land):
            side = guessed_sides(weight)[0]
            sides = (round(side * 1.5), side, round(side * 0.7))
            carton = 12 if weight > 700 else 24
            goods.ask(context, goods.HoldWish(sku, number, sides, max(weight, 80), carton=carton))
    house.worker.deliver()
    with house.db.reading() as s:
        asked = list(s.scalars(select(HeldGoods.number).order_by(HeldGoods.id)))
    with httpx.Client(base_url=world, timeout=20, trust_env=False) as hand:
        for one in asked:
            hand.post("/world/depot", json={"number": one, "agree": True}).raise_for_status()
    house.reader.answers(number)
    with house.db.writing() as s:
        context = Context(s, house.clock, OWNER)
        for held in s.scalars(select(HeldGoods).order_by(HeldGoods.id)).all():
            _set_cost(context, held)
            goods.open_lane(context, held.id, 0)


def _chosen(context: Context, land: Land) -> Iterator[tuple[int, int]]:
    """Five that will sell most in the past, and one that hardly sells: SKU and grams."""
    past = Past(context, land, random.Random("past-7"))
    ranked = sorted(zip(past.weights, past.sold, strict=True), key=lambda one: -one[0])
    fits: dict[int, Any] = {}
    for _, row in ranked:
        sku, _, _, item, _, _ = row
        if item.pack_size == 1 and 60 <= item.weight_g <= 2500 and item.stock > 150 and item.tiers and sku.category != "lights":
            fits.setdefault(sku.id, item)
    best = list(fits.items())
    for number, item in [*best[:5], best[len(best) // 2]]:
        yield number, item.weight_g


def _set_cost(context: Context, held: HeldGoods) -> None:
    """What a unit has cost in all loads so far: the goods a little below one by one, freight and taking in with them."""
    source = context.get(Item, held.source_id or 0, "item")
    item = context.get(Item, held.item_id or 0, "item")
    bought = tier_cost(source.cost, source.tiers or [], 48)
    item.cost, item.stock = max(bought + half_up(source.weight_g, 50), 1), 400


@dataclass
class _Move:
    at: datetime
    kind: str
    units: int
    worth: int
    once: str
    reason: str
    inbound: int | None = None
    purchase: int | None = None


def write_stock(context: Context) -> None:
    """Loads and the ledger of the past, to what past orders were sent from the depot; the sums of both agree."""
    s, now = context.session, context.now
    depot = s.scalars(select(Supplier).where(Supplier.name == NAME)).one()
    source = s.scalars(select(Supplier).where(Supplier.name == "Northlight Trade")).one()
    held = list(s.scalars(select(HeldGoods).order_by(HeldGoods.id)))
    sent = {one.id: list(_sent(context, one)) for one in held}
    begun = now - timedelta(days=58)
    starts = [now - timedelta(days=57), now - timedelta(days=31), now - timedelta(days=8, hours=5)]
    made = [_load(context, depot, source, at, n) for n, at in enumerate(starts)]
    rows: list[tuple[Any, ...]] = []
    lines: dict[int, list[tuple[HeldGoods, int]]] = {one.id: [] for one in made}
    moves: dict[int, list[_Move]] = {}
    for n, one in enumerate(held):
        out = sum(-move.units for move in sent[one.id])
        pace = max(out / 56, 0.05)
        left = LIES if n == len(held) - 1 else max(round(pace * LEFT_DAYS[n]), 3)
        total = out + left
        late = sum(-move.units for move in sent[one.id] if move.at > starts[2])
        # The last load fills the shelf to what is there today; the first two carry what was sold until it came.
        third = min(max(left + late - 4, 0), total - 1) if n == 2 else 0
        second = (total - third) * 45 // 100
        mine = [total - third - second, second, third]
        cost = s.get_one(Item, one.item_id or 0).cost
        moves[one.id] = [*sent[one.id]]
        for load, units, at in zip(made, mine, starts, strict=True):
            if units <= 0:
                continue
            short = 2 if load is made[2] else 0
            lines[load.id].append((one, units + short))
            why = f"load {load.reference}"
            moves[one.id].append(_Move(at, "counted_in", units, units * cost, "", why, load.id))
        rows += _entries(one, moves[one.id], cost, begun)
    columns = (
        "held_id",
        "nth",
        "at",
        "kind",
        "units",
        "there",
        "worth",
        "value",
        "paid",
        "once",
        "inbound_id",
        "purchase_id",
        "lot",
        "who",
        "reason",
    )
    bulk_insert(s, DepotEntry, columns, rows)
    for load in made:
        _fill(context, load, lines[load.id], short=load is made[2])
    s.flush()
    ledger.refresh(context, held)
    stock_costs.store(context)


def _sent(context: Context, held: HeldGoods) -> Iterator[_Move]:
    """What past orders were sent, and what came back."""
    rows = (
        select(PurchaseLine, PurchaseOrder, Parcel.ended_at, Parcel.state)
        .join(PurchaseOrder, PurchaseOrder.id == PurchaseLine.purchase_id)
        .join(ParcelLine, ParcelLine.purchase_id == PurchaseOrder.id)
        .join(Parcel, Parcel.id == ParcelLine.parcel_id)
        .where(PurchaseLine.item_id == held.item_id)
        .order_by(PurchaseOrder.made_at, PurchaseLine.id)
    )
    for line, purchase, ended, state in context.session.execute(rows):
        at = purchase.made_at + timedelta(hours=6)
        yield _Move(at, "sent", -line.quantity, -line.planned_cost, f"sent:{line.id}", f"sent for {purchase.reference}", None, purchase.id)
        if state == ParcelState.returned and ended is not None:
            back = f"{purchase.reference} came back, as new"
            yield _Move(
                ended + timedelta(days=2), "returned", line.quantity, line.planned_cost, f"returned:{line.id}", back, None, purchase.id
            )


def _entries(held: HeldGoods, moves: list[_Move], cost: int, begun: datetime) -> Iterator[tuple[Any, ...]]:
    """A ledger's rows in their order; where more would have gone than was there, the first load has brought that much more."""
    ordered = sorted(moves, key=lambda one: (one.at, one.units < 0))
    low = there = 0
    for one in ordered:
        there += one.units
        low = min(low, there)
    if low < 0:
        first = next(one for one in ordered if one.kind == "counted_in")
        first.units, first.worth, first.at = first.units - low, first.worth - low * cost, begun
        last = next((one for one in reversed(ordered) if one.kind == "counted_in" and one is not first and one.units > -low), None)
        if last is not None:
            last.units, last.worth = last.units + low, last.worth + low * cost
        ordered.sort(key=lambda one: (one.at, one.units < 0))
    there = value = 0
    for nth, one in enumerate(ordered, 1):
        there, value = there + one.units, value + one.worth
        yield (
            held.id, nth, to_ms(one.at), one.kind, one.units, there, one.worth, value, 0, one.once, one.inbound, one.purchase, "", "Depot",
            one.reason,
        )  # fmt: skip


def _load(context: Context, depot: Supplier, source: Supplier, counted: datetime, n: int) -> Inbound:
    days = (11, 8, 10)[n]
    row = Inbound(
        supplier_id=depot.id,
        from_id=source.id,
        service="cartons",
        reference=f"{depot.code}-{n + 1:04d}-{('7a3e', 'c119', '52f0')[n]}",
        state=LOAD.target("count"),
        made_at=counted - timedelta(days=days, hours=2),
        ordered_at=counted - timedelta(days=days),
        left_at=counted - timedelta(days=days - 2),
        reached_at=counted - timedelta(days=2),
        counted_at=counted,
        due=(counted + timedelta(days=1)).date(),
        cartons=[],
        currency=source.currency,
        rate=NANO,
        their_number=f"NLT-9{n:05d}",
    )
    context.session.add(row)
    context.session.flush()
    return row


def _fill(context: Context, load: Inbound, lines: list[tuple[HeldGoods, int]], short: bool) -> None:
    """What was in a load, as it was counted: of the short one two are missing, one of them damaged."""
    numbers = (sscc("0400000", load.id * 20 + n) for n in range(200))
    s, entries = context.session, {}
    for entry in s.scalars(select(DepotEntry).where(DepotEntry.inbound_id == load.id)):
        entries[entry.held_id] = entry
    for nth, (one, units) in enumerate(lines, 1):
        right = entries[one.id].units
        units = right + 2 if short else right
        cost = entries[one.id].worth * units // right
        load.goods += cost
        weight = one.weight_g * units
        load.cartons = [*load.cartons, {"sscc": next(numbers), "weight_g": weight, "holds": [[one.id, units]]}]
        s.add(
            InboundLine(
                inbound_id=load.id, held_id=one.id, line_no=nth, packs=units, units=units, cost=cost, counted=right,
                damaged=1 if short else 0, note="a corner is crushed" if short else "",
            )
        )  # fmt: skip
    load.freight = load.goods // 25
    load.billed, load.goods = load.goods, load.goods - load.freight


def send_more(house: AppState, world: str) -> None:
    """The world's depot has on its shelf what the ledger says; and one load is ordered, as stock ahead proposes."""
    with house.db.writing() as s:
        context = Context(s, house.clock, OWNER)
        held = list(s.scalars(select(HeldGoods).order_by(HeldGoods.id)))
        stock = {one.number: s.get_one(Item, one.item_id or 0).stock for one in held}
        second = held[0]
        loads.order_all(context, [(second.id, 2 * second.carton)])
    with httpx.Client(base_url=world, timeout=20, trust_env=False) as hand:
        for number, units in stock.items():
            hand.post("/world/depot", json={"number": number, "shelf": units}).raise_for_status()
