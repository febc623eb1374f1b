"""Loads as the depot takes them in: at the gate, counted, short or damaged, each difference settled once; and what it says is there."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from datetime import datetime, timedelta

from sqlalchemy import func, select

from ...connectors.depot_payloads import CountAgainPayload
from ...connectors.depot_protocol import CountedLine, LoadState, StockMove, StockTold
from ...core.currency import show
from ...core.numbers import half_up
from ...core.states import LOAD, LOAD_COMING, InboundState
from ...data.bulk import by_id
from ...data.depot import HeldGoods, Inbound, InboundLine
from ...data.orders import PurchaseOrder
from ...data.outbox import AuditEntry
from ...data.setup import UNCALLED, Supplier
from ..base import undoing
from ..base.context import Context
from ..base.errors import Conflict, Invalid
from ..outbox import queue
from ..pricing.inputs import NANO
from . import ledger
from .ledger import Movement
from .loads import lines_of

# What its word and ours differ by has to be so at two looks, at least so far apart: something may be on its way between them.
TWICE = timedelta(hours=2)
SETTLED = ("claim", "written_off")


def expected(context: Context, depot: int) -> list[str]:
    """References of loads that a depot may have news of: those that come, and counted ones with something open."""
    open_ = select(InboundLine.inbound_id).where(
        InboundLine.settled == "", InboundLine.counted.is_not(None), InboundLine.units != InboundLine.counted
    )
    rows = select(Inbound.reference).where(Inbound.supplier_id == depot, Inbound.state.in_(LOAD_COMING) | Inbound.id.in_(open_))
    return list(context.session.scalars(rows.order_by(Inbound.id)))


def take_state(context: Context, told: LoadState, pictures: Mapping[str, int] | None = None) -> None:
    """What a depot says of a load. pictures: goods -> our copy of its picture of the damage. The same word twice changes nothing."""
    row = context.session.scalar(select(Inbound).where(Inbound.reference == told.reference))
    if row is None:
        return
    if told.message and row.message != told.message:
        row.message = told.message[:300]
    if told.state == "arrived" and row.state in LOAD.sources("reach"):
        row.state, row.reached_at = LOAD.step(row.state, "reach"), told.at or context.now
        row.version += 1
        depot = context.get(Supplier, row.supplier_id, "depot")
        context.log(
            "load.reached",
            row.reference,
            f"load {row.reference} is at the gate of {depot.name}" + (f": {row.message}" if row.message else ""),
        )
    if told.state == "counted" and row.state in (*LOAD_COMING, InboundState.counted):
        count_in(context, row, told.lines, told.at, pictures or {})


def count_in(context: Context, row: Inbound, counted: Iterable[CountedLine], at: datetime | None, pictures: Mapping[str, int]) -> None:
    """Goods counted in: what is right goes into stock at what it cost, what is not is told. A later count puts the first one right."""
    lines, by_number = lines_of(context, row.id), {one.number: one for one in counted}
    goods = by_id(context.session, HeldGoods, (line.held_id for line in lines))
    first = row.state in LOAD.sources("count")
    if first:
        _billed(row, lines)
        row.state, row.counted_at = LOAD.step(row.state, "count"), at or context.now
        row.reached_at = row.reached_at or row.counted_at
        row.version += 1
    changed = False
    for line in lines:
        held = goods[line.held_id]
        one = by_number.get(held.number, CountedLine(held.number, 0))
        picture = pictures.get(held.number)
        if (line.counted, line.damaged) == (one.units, one.damaged) and (picture is None or picture == line.picture_id):
            continue
        changed = True
        _into_stock(context, row, line, held, one.units)
        line.counted, line.damaged, line.note, line.picture_id = one.units, one.damaged, one.note[:300], picture or line.picture_id
        line.version += 1
    context.session.flush()
    if first or changed:
        _tell(context, row, lines, goods)


def _billed(row: Inbound, lines: list[InboundLine]) -> None:
    """What its supplier really asked is what the goods cost, where it said so; shared out as what was planned was."""
    planned = row.goods + row.freight
    if row.billed is None or row.billed == planned or not planned:
        return
    more = (2 * (row.billed - planned) * row.rate + NANO) // (2 * NANO)
    weights, left = [line.cost for line in lines], more
    for line, weight in zip(lines, weights, strict=True):
        share = half_up(more * weight, sum(weights)) if line is not lines[-1] else left
        line.cost, left = max(line.cost + share, 0), left - share


def _into_stock(context: Context, row: Inbound, line: InboundLine, held: HeldGoods, units: int) -> None:
    """The difference to what was counted before; each unit at its part of what the line cost, more than were sent at nothing."""
    before = line.counted or 0
    more = units - before
    if not more:
        return

    def worth(n: int) -> int:
        return half_up(line.cost * min(n, line.units), line.units)

    once = f"load:{line.id}:{line.version}:{units}"
    why = f"load {row.reference}" + (" counted again" if line.counted is not None else "")
    kind = "counted_in" if more > 0 else "counted"
    if more < 0 and ledger.stock_of(context, [held.id])[held.id].there < -more:
        # Some of what was never there is sold by the ledger already: what is there is nought, the rest is told by the depot's own stock.
        more = -ledger.stock_of(context, [held.id])[held.id].there
    move = Movement(kind, more, worth(units) - worth(before), once, why, row.id, None, line.lot, line.best_before)
    ledger.enter(context, held, [move])


def _tell(context: Context, row: Inbound, lines: list[InboundLine], goods: dict[int, HeldGoods]) -> None:
    depot = context.get(Supplier, row.supplier_id, "depot")
    came, sent = sum(line.counted or 0 for line in lines), sum(line.units for line in lines)
    wrong = [difference(line, goods[line.held_id].number) for line in lines if is_off(line)]
    told = f"{depot.name} counted load {row.reference}: {came} of {sent} units are right" + (f"; {'; '.join(wrong)}" if wrong else "")
    context.log("load.counted", row.reference, told)


def is_off(line: InboundLine) -> bool:
    return line.counted is not None and (line.counted != line.units or line.damaged > 0)


def difference(line: InboundLine, number: str) -> str:
    """What is not right with a line, in words."""
    right, missing = line.counted or 0, line.units - (line.counted or 0) - line.damaged
    parts = [f"{line.damaged} damaged"] if line.damaged else []
    parts += [f"{missing} short"] if missing > 0 else [f"{-missing} over"] if missing < 0 else []
    return f"{number}: {line.units} sent, {right} right" + (f", {' and '.join(parts)}" if parts else "")


def lost_worth(line: InboundLine) -> int:
    """What a line's missing and damaged units cost, minor units of the depot's money."""
    right = min(line.counted or 0, line.units)
    return line.cost - half_up(line.cost * right, line.units)


def line_of(context: Context, number: int) -> InboundLine:
    return context.get(InboundLine, number, "line of a load")


@dataclass(frozen=True)
class Settling:
    """how: claim (asked back from who sent it) or written_off."""

    line: int
    version: int | None
    how: str


def settle(context: Context, wish: Settling) -> InboundLine:
    """A difference claimed or written off, once. Can be undone."""
    line = context.get_version(InboundLine, wish.line, wish.version, "line of a load")
    row = context.get(Inbound, line.inbound_id, "load")
    held = context.get(HeldGoods, line.held_id, "goods of a depot")
    if not is_off(line) or line.settled:
        raise Conflict("this is settled already" if line.settled else "there is nothing to settle here")
    if wish.how not in SETTLED:
        raise Invalid("a difference is claimed or written off", {"how": "is neither"})
    depot = context.get(Supplier, row.supplier_id, "depot")
    lost = lost_worth(line)
    line.settled, line.settled_at, line.claimed = wish.how, context.now, lost if wish.how == "claim" else 0
    what = difference(line, held.number)
    if wish.how == "claim":
        who = context.get(Supplier, row.from_id or row.supplier_id, "supplier")
        _write_claim(context, row, line, who, what)
        told = f"{show(lost, depot.currency)} asked back from {who.name}: {what}"
    else:
        told = f"{show(lost, depot.currency)} written off: {what}"
    context.log("load.settle", row.reference, f"load {row.reference}: {told}", before={"line": line.id}, undo=True)
    context.session.flush()
    return line


def _write_claim(context: Context, row: Inbound, line: InboundLine, who: Supplier, what: str) -> None:
    """A mail to who sent it, where an address is known; else the person writes it, and the sum waits for what comes back."""
    if not who.mail:
        return
    money = context.get(Supplier, row.supplier_id, "depot").currency
    named = f"{row.reference} (your {row.their_number})" if row.their_number else row.reference
    ask = f"Please credit us {show(line.claimed, money)} for it, or send the units again."
    text = f"Our load {named} was counted by the depot.\n\n{what}.\n\n{ask}\n"
    queue.mail(
        context, f"load-claim-{line.id}-{line.version}", f"load:{row.id}", who.mail, f"Load {row.reference}: {what}", text, supplier=who.id
    )


@undoing.undoes("load.settle")
def undo_settle(context: Context, act: AuditEntry) -> None:
    line = context.get(InboundLine, undoing.before(act)["line"], "line of a load")
    key = f"load-claim-{line.id}-{line.version}"
    if line.settled == "claim" and queue.is_there(context, key):
        queue.stop(context, key)
    line.settled, line.settled_at, line.claimed, line.came_back = "", None, 0, None
    line.version += 1


def take_money_back(context: Context, number: int, version: int | None, amount: int) -> InboundLine:
    """What came back for a claim, minor units of the depot's money; said anew, it replaces what was said before."""
    line = context.get_version(InboundLine, number, version, "line of a load")
    if line.settled != "claim":
        raise Conflict("nothing was asked back for this")
    if not 0 <= amount <= max(line.claimed, 0) * 10:
        raise Invalid("that is more than can come back for it", {"amount": f"must be 0 to {line.claimed * 10}"})
    row = context.get(Inbound, line.inbound_id, "load")
    depot = context.get(Supplier, row.supplier_id, "depot")
    before, line.came_back = line.came_back, amount
    told = f"load {row.reference}: {show(amount, depot.currency)} came back of {show(line.claimed, depot.currency)}"
    context.log("load.money_back", row.reference, told, before={"line": line.id, "came_back": before}, undo=True)
    context.session.flush()
    return line


@undoing.undoes("load.money_back")
def undo_money_back(context: Context, act: AuditEntry) -> None:
    before = undoing.before(act)
    line = context.get(InboundLine, before["line"], "line of a load")
    line.came_back = before["came_back"]
    line.version += 1


def ask_again(context: Context, number: int, version: int | None) -> Inbound:
    """Ask the depot to count a load once more."""
    row = context.get_version(Inbound, number, version, "load")
    depot = context.get(Supplier, row.supplier_id, "depot")
    if row.state != InboundState.counted:
        raise Conflict(f"load {row.reference} is not counted yet")
    if depot.kind in UNCALLED:
        raise Conflict(f"{depot.name} has no interface: write to them, and enter what they count")
    queue.put(
        context,
        f"supplier:{depot.id}",
        f"load:{row.id}",
        f"count-{row.reference}-{row.version}",
        CountAgainPayload(reference=row.reference),
    )
    context.log("load.count_again", row.reference, f"{depot.name} asked to count load {row.reference} again")
    return row


def open_differences(context: Context) -> list[tuple[InboundLine, Inbound, HeldGoods]]:
    """Lines that were counted otherwise than sent and wait to be settled, the dearest first."""
    off = (InboundLine.counted != InboundLine.units) | (InboundLine.damaged > 0)
    rows = (
        select(InboundLine, Inbound, HeldGoods)
        .join(Inbound, Inbound.id == InboundLine.inbound_id)
        .join(HeldGoods, HeldGoods.id == InboundLine.held_id)
        .where(InboundLine.counted.is_not(None), InboundLine.settled == "", off)
    )
    return sorted(context.session.execute(rows).tuples().all(), key=lambda one: -lost_worth(one[0]))


def accuracy(context: Context, depot: int) -> tuple[int, int]:
    """Of how many lines of loads a depot said what it counted, and how many of them were not what was sent."""
    counted = (
        select(func.count(), func.sum((InboundLine.counted != InboundLine.units) | (InboundLine.damaged > 0)))
        .select_from(InboundLine)
        .join(Inbound, Inbound.id == InboundLine.inbound_id)
        .where(Inbound.supplier_id == depot, InboundLine.counted.is_not(None))
    )
    lines, off = context.session.execute(counted).one()
    return int(lines), int(off or 0)


def take_moves(context: Context, depot: int, moves: Iterable[StockMove]) -> None:
    """The depot's own book: what broke, went missing, turned up or came back there. Counts and sendings are known by other ways."""
    for move in moves:
        held = context.session.scalar(select(HeldGoods).where(HeldGoods.supplier_id == depot, HeldGoods.number == move.goods))
        if held is None or move.kind in ("counted_in", "sent"):
            continue
        if move.kind == "returned":
            purchase = context.session.scalar(
                select(PurchaseOrder).where(PurchaseOrder.reference == move.reference, PurchaseOrder.supplier_id == depot)
            )
            if purchase is not None:
                ledger.came_back(context, purchase, held, move.units, move.note or "as new")
                continue
        units, there = move.units, ledger.stock_of(context, [held.id])[held.id].there
        why = f"{move.note or move.kind}, as the depot says"
        ledger.enter(context, held, [Movement(move.kind, max(units, -there), None, f"move:{depot}:{move.number}", why)])


def take_stock(context: Context, depot: int, told: StockTold) -> None:
    """What a depot says is there, held against the ledger; what is packed and not told as sent yet may explain a difference."""
    rows = list(context.session.scalars(select(HeldGoods).where(HeldGoods.supplier_id == depot, HeldGoods.item_id.is_not(None))))
    stock = ledger.stock_of(context, [one.id for one in rows])
    for one in rows:
        units = told.units.get(one.number, 0)
        one.told, one.told_at = units, told.as_of
        mine = stock[one.id]
        # What is promised may have left already, and its word is still on its way to us.
        if mine.there - mine.promised <= units <= mine.there:
            one.differs_since = None
        elif one.differs_since is None:
            one.differs_since = told.as_of
    context.session.flush()


def differing(context: Context) -> list[HeldGoods]:
    """Goods of which the depot said something else than the ledger, at two looks."""
    rows = select(HeldGoods).where(HeldGoods.differs_since.is_not(None)).order_by(HeldGoods.id)
    return [one for one in context.session.scalars(rows) if one.told_at and one.differs_since and one.told_at - one.differs_since >= TWICE]
