"""The ledger of our stock in depots: written once for each thing that happened, never changed; what it comes to is what may be sold."""

from __future__ import annotations

from collections.abc import Collection, Iterable
from dataclasses import dataclass
from datetime import date

from sqlalchemy import func, select

from ...connectors.kinds import DEPOTS
from ...core.numbers import half_up
from ...core.states import HeldState, PurchaseState
from ...data.bulk import by_id, in_chunks
from ...data.depot import DepotEntry, HeldGoods
from ...data.orders import PurchaseLine, PurchaseOrder
from ...data.setup import Supplier
from ...data.source import Item
from ..base.context import Context
from ..base.errors import Conflict, Invalid

# Purchases whose goods stand on the shelf still, and belong to a buyer.
PROMISED = (PurchaseState.waiting, PurchaseState.sent, PurchaseState.accepted)


@dataclass(frozen=True)
class Movement:
    """What happens to goods. units: signed; worth: signed, minor units of the depot's money, None = at the mean of what is
    there; once: what it belongs to, by which it is never written twice."""

    kind: str
    units: int
    worth: int | None = None
    once: str = ""
    reason: str = ""
    inbound: int | None = None
    purchase: int | None = None
    lot: str = ""
    best_before: date | None = None
    # What somebody pays for what is gone.
    paid: int = 0


@dataclass(frozen=True)
class Stock:
    """there: on the shelf; value: what it cost, minor units of the depot's money; promised: of that, units of purchases under way."""

    there: int = 0
    value: int = 0
    promised: int = 0

    @property
    def free(self) -> int:
        return max(self.there - self.promised, 0)

    @property
    def mean(self) -> int:
        """What one cost in the mean; 0 where nothing is there."""
        return half_up(self.value, self.there) if self.there else 0


def stock_of(context: Context, goods: Collection[int]) -> dict[int, Stock]:
    """What is there of some goods, by their number."""
    last: dict[int, tuple[int, int]] = {}
    for chunk in in_chunks(goods):
        newest = select(DepotEntry.held_id, func.max(DepotEntry.nth).label("nth")).where(DepotEntry.held_id.in_(chunk))
        top = newest.group_by(DepotEntry.held_id).subquery()
        rows = select(DepotEntry.held_id, DepotEntry.there, DepotEntry.value)
        on = (DepotEntry.held_id == top.c.held_id) & (DepotEntry.nth == top.c.nth)
        last |= {held: (there, value) for held, there, value in context.session.execute(rows.join(top, on))}
    promised = promised_of(context, goods)
    return {one: Stock(*last.get(one, (0, 0)), promised.get(one, 0)) for one in goods}


def promised_of(context: Context, goods: Collection[int], states: Collection[str] = PROMISED) -> dict[int, int]:
    """Units of purchases under way in some states, by the number of the goods."""
    out: dict[int, int] = {}
    for chunk in in_chunks(goods):
        rows = (
            select(HeldGoods.id, func.sum(PurchaseLine.quantity))
            .join(PurchaseLine, PurchaseLine.item_id == HeldGoods.item_id)
            .join(PurchaseOrder, PurchaseOrder.id == PurchaseLine.purchase_id)
            .where(HeldGoods.id.in_(chunk), PurchaseLine.live, PurchaseOrder.state.in_(states))
            .group_by(HeldGoods.id)
        )
        out |= {held: int(units) for held, units in context.session.execute(rows)}
    return out


def enter(context: Context, held: HeldGoods, moves: Iterable[Movement]) -> int:
    """Write movements of goods; what was written already is passed over. Returns how many were new. Conflict where more would go than is
    there: that is never believed, since the ledger would be wrong from then on."""
    s = context.session
    last = s.scalars(select(DepotEntry).where(DepotEntry.held_id == held.id).order_by(DepotEntry.nth.desc()).limit(1)).first()
    nth, there, value = (last.nth, last.there, last.value) if last else (0, 0, 0)
    fresh = 0
    for move in moves:
        if not move.units or (move.once and s.scalar(select(DepotEntry.id).where(DepotEntry.once == move.once)) is not None):
            continue
        if there + move.units < 0:
            raise Conflict(f"{held.number}: {-move.units} would go, and only {there} are there by our ledger; count what is there first")
        worth = _worth(move, there, value)
        nth, there, value, fresh = nth + 1, there + move.units, value + worth, fresh + 1
        s.add(
            DepotEntry(
                held_id=held.id,
                nth=nth,
                at=context.now,
                kind=move.kind,
                units=move.units,
                there=there,
                worth=worth,
                value=value,
                paid=move.paid,
                once=move.once,
                inbound_id=move.inbound,
                purchase_id=move.purchase,
                lot=move.lot,
                best_before=move.best_before,
                who=context.actor,
                reason=move.reason[:300],
            )
        )
        s.flush()
    if fresh:
        refresh(context, [held])
    return fresh


def _worth(move: Movement, there: int, value: int) -> int:
    """What a movement is worth: what is gone, at the mean cost of what was there, so that the last unit takes the last of it along."""
    if move.units < 0:
        if not there + move.units:
            return -value
        return max(move.worth, -value) if move.worth is not None else -half_up(value * -move.units, there)
    if move.worth is not None:
        return move.worth
    return half_up(value * move.units, there) if there else 0


def refresh(context: Context, goods: Iterable[HeldGoods]) -> None:
    """The items that lanes lead to show what is free and what it cost; listings and open orders follow."""
    rows = [one for one in goods if one.item_id is not None]
    stock = stock_of(context, [one.id for one in rows])
    # What waits or was sent and has no answer yet is kept back where orders are planned, as with every supplier.
    accepted = promised_of(context, [one.id for one in rows], ("accepted",))
    items = by_id(context.session, Item, (one.item_id or 0 for one in rows))
    moved: set[int] = set()
    for one in rows:
        item, mine = items[one.item_id or 0], stock[one.id]
        free = max(mine.there - accepted.get(one.id, 0), 0) if one.state in (HeldState.agreed, HeldState.ended) else 0
        cost = mine.mean or item.cost
        if (item.stock, item.cost) != (free, cost):
            item.stock, item.cost, item.changed_at, item.seen_at = free, cost, context.now, context.now
            item.offer = "good"
            moved.add(one.sku_id)
    context.session.flush()
    if moved:
        context.reprice(moved, alone=True)
        context.reroute()


def follow_purchase(context: Context, purchase: PurchaseOrder) -> None:
    """A purchase from a depot went on: what has left its shelf is written, and what is free follows."""
    supplier = context.get(Supplier, purchase.supplier_id, "supplier")
    if supplier.kind not in DEPOTS:
        return
    lines = context.session.scalars(
        select(PurchaseLine).where(PurchaseLine.purchase_id == purchase.id, PurchaseLine.live).order_by(PurchaseLine.id)
    ).all()
    goods = {one.item_id: one for one in _by_items(context, [line.item_id for line in lines])}
    if purchase.state == PurchaseState.shipped:
        for line in lines:
            if held := goods.get(line.item_id):
                why = f"sent for {purchase.reference}"
                _go(context, held, Movement("sent", -line.quantity, -line.planned_cost, f"sent:{line.id}", why, purchase=purchase.id))
    refresh(context, goods.values())


def _go(context: Context, held: HeldGoods, move: Movement) -> None:
    """The depot has sent it, whatever our ledger thought was there: what it had more than that was there all along, and is found."""
    there = stock_of(context, [held.id])[held.id].there
    found = -move.units - there
    already = context.session.scalar(select(DepotEntry.id).where(DepotEntry.once == move.once)) is not None
    if found > 0 and not already:
        enter(context, held, [Movement("found", found, 0, f"found:{move.once}", "the depot sent more than our ledger had")])
    enter(context, held, [move])


def _by_items(context: Context, items: Collection[int]) -> list[HeldGoods]:
    out: list[HeldGoods] = []
    for chunk in in_chunks(items):
        out += context.session.scalars(select(HeldGoods).where(HeldGoods.item_id.in_(chunk)))
    return out


def came_back(context: Context, purchase: PurchaseOrder, held: HeldGoods, units: int, state: str) -> None:
    """Units of a depot's parcel came back to it: into stock again at what they cost, or written off where they cannot be sold. Never more
    than were sent."""
    sent = (DepotEntry.purchase_id == purchase.id, DepotEntry.held_id == held.id, DepotEntry.kind == "sent")
    why = f"{purchase.reference} came back, {state}"
    for row in context.session.scalars(select(DepotEntry).where(*sent).order_by(DepotEntry.id)).all():
        n = min(units, -row.units)
        back = Movement("returned", n, half_up(-row.worth * n, -row.units), f"returned:{row.id}", why)
        if enter(context, held, [back]) and state != "as new":
            enter(context, held, [Movement("written_off", -n, None, f"returned-off:{row.id}", why)])
        units -= n


def write_off(context: Context, number: int, version: int | None, units: int, reason: str) -> HeldGoods:
    """Stock that will not be sold any more, by a person's word. Cannot be undone; a count can put it right."""
    held = context.get_version(HeldGoods, number, version, "goods of a depot")
    there = stock_of(context, [number])[number]
    if not 0 < units <= there.free:
        raise Invalid(f"{there.free} are free to be written off", {"units": f"must be 1 to {there.free}"})
    enter(context, held, [Movement("written_off", -units, reason=reason or "written off")])
    context.log("depot.write_off", held.number, f"{units} of {held.number} written off at the depot", reason=reason)
    return held


def send_back(context: Context, number: int, version: int | None, units: int, paid: int) -> HeldGoods:
    """Stock that went back to its supplier, with what it pays for it in all, minor units of the depot's money. Cannot be undone."""
    held = context.get_version(HeldGoods, number, version, "goods of a depot")
    there = stock_of(context, [number])[number]
    if not 0 < units <= there.free:
        raise Invalid(f"{there.free} are free to be sent back", {"units": f"must be 1 to {there.free}"})
    if not 0 <= paid <= max(there.value * 3, 1):
        raise Invalid("that is far more than it cost", {"paid": "is far more than it cost"})
    enter(context, held, [Movement("sent_back", -units, reason="sent back to its supplier", paid=paid)])
    context.log("depot.send_back", held.number, f"{units} of {held.number} went back to its supplier")
    return held


def take_count(context: Context, number: int, version: int | None, units: int, reason: str) -> HeldGoods:
    """What is really there, by a count: the ledger gets the difference."""
    held = context.get_version(HeldGoods, number, version, "goods of a depot")
    there = stock_of(context, [number])[number].there
    if not 0 <= units <= 10**7:
        raise Invalid("a count is a number from 0", {"units": "must be 0 or more"})
    if units == there:
        raise Conflict(f"our ledger has {there} already")
    why = reason or "counted"
    enter(context, held, [Movement("counted", units - there, 0 if units > there and not there else None, reason=why)])
    held.differs_since = None
    more = units - there
    context.log(
        "depot.count",
        held.number,
        f"{held.number}: {units} are there, {abs(more)} {'more' if more > 0 else 'fewer'} than the ledger had",
        reason=why,
    )
    return held


def history(context: Context, number: int, most: int = 200) -> list[DepotEntry]:
    """Movements of goods, the newest first."""
    rows = select(DepotEntry).where(DepotEntry.held_id == number).order_by(DepotEntry.nth.desc()).limit(most)
    return list(context.session.scalars(rows))
