"""What our stock in depots costs beside the goods that are sold: storage by the day, what broke or got lost, what is short of loads."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from datetime import date, timedelta

from sqlalchemy import Text, select

from ...core.books import Kind
from ...core.cartons import litres
from ...data.depot import DepotEntry, DepotTerms, HeldGoods, Inbound, InboundLine
from ...data.orders import PurchaseLine
from ...data.setup import Supplier
from ..base import house_days
from ..base.context import Context
from ..depot import arrivals
from . import apart
from .apart import Apart
from .posting import Ledgers

SOURCE, STORED = "depot", "storage"
# What is gone and was not sold, and what turned up: each changes profit by what it is worth.
_LOST = ("damaged", "lost", "written_off", "found", "counted", "sent_back", "returned")
_SAID = {
    "damaged": "damaged",
    "lost": "lost",
    "written_off": "written off",
    "found": "found",
    "counted": "counted",
    "sent_back": "sent back",
    # The sale that it was sent for keeps its cost.
    "returned": "came back into stock",
}


def follow(context: Context, moves: Collection[int], load_lines: Collection[int]) -> None:
    """Bring the journal up to what these movements and lines of loads say now."""
    out = Ledgers(context)
    wanted = {**_entries(context, moves), **_loads(context, load_lines)}
    about = [
        f"{kind}:{n}" for kinds, numbers in ((("entry", "sent"), moves), (("load", "back"), load_lines)) for kind in kinds for n in numbers
    ]
    apart.bring(out, SOURCE, apart.told(context, SOURCE, out.rates.home, about), wanted)
    out.write()


def store(context: Context) -> None:
    """Bring the journal up to what storage came to until yesterday; closed months stay as they are."""
    out = Ledgers(context)
    had = apart.told(context, STORED, out.rates.home)
    apart.bring(out, STORED, had, _storage(context, had), closed_stay=True)
    out.write()


def _entries(context: Context, moves: Collection[int]) -> dict[str, Apart]:
    """Movements that no sale pays for; and of those sent, what the order's own goods do not say."""
    rows = (
        select(DepotEntry, HeldGoods, Supplier)
        .join(HeldGoods, HeldGoods.id == DepotEntry.held_id)
        .join(Supplier, Supplier.id == HeldGoods.supplier_id)
        .where(DepotEntry.id.in_(moves))
    )
    out: dict[str, Apart] = {}
    for entry, held, depot in context.session.execute(rows.where(DepotEntry.kind.in_(_LOST), DepotEntry.worth + DepotEntry.paid != 0)):
        # What a load brought fewer of after all is told with the load.
        if entry.inbound_id is None:
            note = f"{abs(entry.units)} {held.number} {_SAID[entry.kind]} at {depot.name}"
            out[f"entry:{entry.id}"] = _one(context, entry.worth + entry.paid, house_days.day_of(context, entry.at), note, held, depot)
    sent = rows.add_columns(PurchaseLine.planned_cost).join(PurchaseLine, DepotEntry.once == "sent:" + PurchaseLine.id.cast(Text))
    for entry, held, depot, planned in context.session.execute(sent.where(DepotEntry.worth != -PurchaseLine.planned_cost)):
        note = f"{held.number}: rounding of the mean cost at {depot.name}"
        out[f"sent:{entry.id}"] = _one(context, entry.worth + planned, house_days.day_of(context, entry.at), note, held, depot)
    return out


def _one(context: Context, amount: int, day: date, note: str, held: HeldGoods, depot: Supplier) -> Apart:
    return Apart(Kind.overhead, day, amount, depot.currency, note, None, depot.id, held.item_id, held.sku_id)


def _loads(context: Context, lines: Collection[int]) -> dict[str, Apart]:
    """What loads brought short or damaged, less what came back for it."""
    rows = (
        select(InboundLine, Inbound, HeldGoods, Supplier)
        .join(Inbound, Inbound.id == InboundLine.inbound_id)
        .join(HeldGoods, HeldGoods.id == InboundLine.held_id)
        .join(Supplier, Supplier.id == Inbound.supplier_id)
        .where(InboundLine.counted.is_not(None), InboundLine.id.in_(lines))
    )
    out = {}
    for line, load, held, depot in context.session.execute(rows):
        lost, day = arrivals.lost_worth(line), house_days.day_of(context, load.counted_at or context.now)
        if lost:
            note = f"load {load.reference}, {arrivals.difference(line, held.number)}"
            out[f"load:{line.id}"] = _one(context, -lost, day, note, held, depot)
        if line.came_back:
            back = house_days.day_of(context, line.settled_at or context.now)
            out[f"back:{line.id}"] = _one(context, line.came_back, back, f"load {load.reference}: came back", held, depot)
    return out


def _storage(context: Context, had: Mapping[str, apart.Told]) -> dict[str, Apart]:
    """By depot and day, until yesterday: litres that were there at the day's end, by what the depot asks for one of them. Days that the
    journal has already stay as they were: the terms of those days are not known any more."""
    s, today = context.session, house_days.today(context)
    out: dict[str, Apart] = {}
    for terms, depot in s.execute(select(DepotTerms, Supplier).join(Supplier, Supplier.id == DepotTerms.supplier_id)).tuples().all():
        goods = {one.id: one for one in s.scalars(select(HeldGoods).where(HeldGoods.supplier_id == depot.id))}
        rows = select(DepotEntry.held_id, DepotEntry.at, DepotEntry.units).where(DepotEntry.held_id.in_(list(goods)))
        moved: dict[date, float] = {}
        for held, at, units in s.execute(rows):
            one = goods[held]
            day = house_days.day_of(context, at)
            moved[day] = moved.get(day, 0.0) + units * litres((one.sides[0], one.sides[1], one.sides[2]))
        if not moved:
            continue
        day, filled = min(moved), 0.0
        while day < today:
            filled += moved.get(day, 0.0)
            amount = round(filled * terms.storage / 1_000_000)
            name = f"{depot.id}:{day.isoformat()}"
            out[name] = Apart(Kind.overhead, day, -amount, depot.currency, f"storage at {depot.name}", None, depot.id)
            day += timedelta(days=1)
    for name, told in had.items():
        if name in out:
            out[name] = Apart(Kind.overhead, told.day, told.amount, told.currency, out[name].note, None, out[name].supplier)
    return out
