"""What is done for the buyer of a claim: each way with its expected cost, and the one that was chosen, done once."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import timedelta

from sqlalchemy import ColumnElement, case, func, select

from ...core import claims
from ...core.books import goes_back
from ...core.claims import KEPT, CaseMoney, ClaimReason, PartRefund, Record, Way, WayCost, usual_part
from ...core.currency import show
from ...core.numbers import PPM, half_up
from ...core.permissions import Scope
from ...core.states import ORDER_LINE, ClaimState, LaneState
from ...data.bulk import by_id
from ...data.claims import Claim
from ...data.lanes import Lane
from ...data.orders import Order, OrderLine
from ...data.returns import GoodsReturn
from ...data.setup import Store, Supplier
from ...data.shelf import Sku
from ...data.source import Item
from ..base import house_days
from ..base.context import Context
from ..base.errors import Conflict, NotFound
from ..fulfilment import delivery_exceptions
from ..mapping import lanes
from ..mapping.landed_cost import Costing
from ..pricing.exchange_rates import HomeWorth
from ..pricing.policy import refund_cost
from . import return_requests
from .cases import WORDS, note

# A buyer who was paid back a part and says nothing for so long is content.
PART_SETTLES = timedelta(days=14)
# What ends the buyer's side of a claim.
ENDS = (Way.refund.value, Way.again.value)


def records(context: Context, supplier: int) -> dict[str, Record]:
    """How a supplier answered claims: by reason, and of all reasons under ''."""
    rows = select(Claim.reason, Claim.came_back, Claim.amount, Claim.state, Claim.wish).where(
        Claim.supplier_id == supplier,
        Claim.asked_at.is_not(None),
        Claim.state.in_((ClaimState.settled, ClaimState.refused, ClaimState.dropped)),
    )
    return claims.records(
        (reason, state == ClaimState.settled, amount if wish == "money" else 0, came)
        for reason, came, amount, state, wish in context.session.execute(rows)
    )


def record_of(context: Context, row: Claim) -> Record:
    """The record that a claim is weighed by: of its reason, or of all where fewer than five of that are known."""
    found = records(context, row.supplier_id)
    mine = found.get(row.reason, Record())
    return mine if mine.paid + mine.refused >= 5 else found.get("", Record())


@dataclass(frozen=True)
class Ways:
    """costs: the cheapest first, in the order's money; may: those that can be done here and now; reason_not: why others cannot."""

    costs: list[WayCost]
    record: Record
    may: frozenset[Way]
    reason_not: dict[Way, str]


def ways(context: Context, row: Claim, costing: Costing | None = None) -> Ways:
    """Each way with its expected cost from now on; what was spent already is in none of them. costing: of many that are asked for."""
    line, order = context.get(OrderLine, row.order_line_id, "order line"), context.get(Order, row.order_id, "order")
    whole = row.units == line.quantity
    worth = HomeWorth(context)
    record = record_of(context, row)
    back = to_pay_back(row, line)
    fees = line.store_fee + line.payment_fee
    money = CaseMoney(
        back,
        goes_back(back, line.total, fees),
        _turned(worth, row.amount or row.paid, row.currency, order.currency),
        _again(context, line, order, row.units, costing),
        _turned(worth, refund_cost(context), worth.home, order.currency),
        (house_days.today(context) - order.promised_by).days if order.promised_by else 0,
        goes_back(back, line.total, line.tax),
        _part(context, row, line, back),
        row.letter_id is not None or return_requests.began_with(context, row.id),
    )
    reason_not: dict[Way, str] = {}
    if not whole:
        reason_not[Way.again] = "only a part of the line is claimed, and a line is sent again whole"
    if line.state not in ORDER_LINE.sources("refund"):
        reason_not |= {Way.refund: "the line is settled already", Way.part: "the line is settled already"}
    elif not back:
        reason_not[Way.refund] = "all of it was paid back already"
    coming = select(GoodsReturn.number).where(GoodsReturn.claim_id == row.id, GoodsReturn.ended_at.is_(None))
    if (number := context.session.scalar(coming)) is not None:
        # They were told to send it: it is paid back whole then, or now.
        reason_not |= dict.fromkeys((Way.part, Way.again), f"the buyer sends it back as {number}")
    if row.buyer == Way.part:
        reason_not[Way.part] = "a part was paid back already: what is left is refunded, or it is sent again"
    if line.state not in ORDER_LINE.sources("again") or order.cancelled_at:
        reason_not.setdefault(Way.again, "the line is settled already")
    if row.wish == "again" and row.state in (ClaimState.asked, ClaimState.question, ClaimState.accepted):
        reason_not.setdefault(Way.again, "the supplier is asked to send it once more")
    costs = claims.ways(money, record, ClaimReason(row.reason))
    return Ways(costs, record, frozenset(one.way for one in costs if one.way not in reason_not), reason_not)


def best_ways(context: Context, rows: Iterable[Claim]) -> dict[int, WayCost]:
    """Of claims whose buyer still waits, the cheapest way that can be done here and now, by their number."""
    costing, out = Costing(context), dict[int, WayCost]()
    for row in rows:
        if not row.buyer:
            found = ways(context, row, costing)
            if best := next((one for one in found.costs if one.way in found.may), None):
                out[row.id] = best
    return out


def to_pay_back(row: Claim, line: OrderLine) -> int:
    """What a refund of what is claimed gives the buyer back: its share of the line, as far as they have not had it."""
    return min(half_up(line.total * row.units, line.quantity), line.left)


def _part(context: Context, row: Claim, line: OrderLine, back: int) -> PartRefund | None:
    """The usual part refund, by how often one was the end of it before; None where the buyer has nothing to keep."""
    amount = usual_part(back)
    if ClaimReason(row.reason) not in KEPT or amount <= 0:
        return None
    long_ago = context.now - PART_SETTLES
    settled = (Claim.buyer == Way.part.value) & (Claim.buyer_at < long_ago)
    rows = select(func.sum(case((settled, 1), else_=0)), func.sum(case((Claim.buyer.in_(ENDS), 1), else_=0)))
    counted = context.session.execute(rows.where(Claim.part_at.is_not(None), Claim.id != row.id)).one()
    fees = line.tax + line.store_fee + line.payment_fee
    return PartRefund(amount, goes_back(amount, line.total, fees), int(counted[0] or 0), int(counted[1] or 0))


def _turned(worth: HomeWorth, minor: int, base: str, quote: str) -> int:
    """An amount in another money, for comparing alone; where no rate is known, as it is."""
    if base == quote:
        return minor
    one, other = worth.ppm(base), worth.ppm(quote)
    return half_up(minor * one, other) if one and other else minor


def _again(context: Context, line: OrderLine, order: Order, units: int, shared: Costing | None) -> int | None:
    """Landed cost of so many by the best lane now, with what its refusals and lateness cost by their chance."""
    store = context.get(Store, order.store_id, "store")
    costing, best = shared or Costing(context), None
    for lane, parts in lanes.lanes_of(context, line.sku_id or 0):
        if lane.state == LaneState.shut or lane.is_substitute:
            continue
        items = by_id(context.session, Item, (part.item_id for part in parts))
        if any(item.offer == "gone" or item.stock == 0 for item in items.values()):
            continue
        found = costing.landed(costing.of_lane(lane, parts, items, order.country), store)
        if not found.reason:
            cost = found.landed * units + _risk(context, lane)
            best = cost if best is None else min(best, cost)
    return best


def _risk(context: Context, lane: Lane) -> int:
    supplier = context.get(Supplier, lane.supplier_id, "supplier")
    refuse = lane.refuse_ppm if lane.refuse_ppm is not None else supplier.refuse_ppm or 0
    return half_up(refuse * refund_cost(context), PPM)


def do(context: Context, number: int, version: int | None, way: Way, amount: int | None = None) -> Claim:
    """Do it for the buyer, once. amount: of a part refund, minor units of the order's money, None = the usual one. Refunds and new
    purchases cannot be undone here."""
    row = context.get_version(Claim, number, version, "claim")
    if row.buyer in ENDS:
        raise Conflict("this is done for the buyer already: " + ("refunded" if row.buyer == Way.refund else "sent again"))
    line = context.get(OrderLine, row.order_line_id, "order line")
    paid_back = 0
    if way in (Way.refund, Way.again, Way.part):
        found = ways(context, row)
        if reason := found.reason_not.get(way):
            raise Conflict(reason)
        if way not in found.may:
            raise Conflict("that is no way of this claim")
        paid_back = _done(context, row, line, way, amount)
    row.buyer, row.buyer_at = way.value, context.now
    if paid_back:
        row.buyer_amount = (row.buyer_amount or 0) + paid_back
    order = context.get(Order, row.order_id, "order")
    paid, by_hand = show(paid_back, order.currency), "" if order.channel == "link" else ": pay it back in the store yourself"
    told = {
        Way.refund: f"the buyer is refunded {paid}{by_hand}",
        Way.part: f"the buyer gets {paid} back and keeps it{by_hand}",
        Way.again: "it is sent again to the buyer",
        Way.ask: "the buyer waits",
        Way.let_go: "nothing is done",
    }
    note(context, row, "buyer", told[way])
    context.log("claim.buyer", row.reference, f"claim {row.reference}: {told[way]}")
    return_requests.answer_by_way(context, row)
    context.session.flush()
    return row


def _done(context: Context, row: Claim, line: OrderLine, way: Way, amount: int | None) -> int:
    """What the buyer is paid back by that."""
    why = f"claim {row.reference}: {WORDS[ClaimReason(row.reason)]}"
    back = to_pay_back(row, line)
    if way is Way.again:
        delivery_exceptions.send_again(context, [line], f"{why}; sent again")
        return 0
    if way is Way.part:
        given = usual_part(back) if amount is None else amount
        delivery_exceptions.refund_part(context, line, given, f"{row.reference}-part")
        row.part_at = context.now
        return given
    if back == line.left:
        delivery_exceptions.refund_lines(context, [line], row.reference, f"{why}; refunded")
    else:
        delivery_exceptions.refund_part(context, line, back, row.reference)
    return back


def listed(context: Context, view: str, most: int = 300) -> list[Claim]:
    """Claims of a view: open (whoever it waits for), done, or all; those that wait longest first."""
    query = select(Claim)
    if view == "open":
        query = query.where(Claim.closed_at.is_(None)).order_by(Claim.due.is_(None), Claim.due, Claim.id)
    elif view == "done":
        query = query.where(Claim.closed_at.is_not(None)).order_by(Claim.closed_at.desc())
    else:
        query = query.order_by(Claim.id.desc())
    return list(context.session.scalars(query.where(*of_scope(context.scope)).limit(most)))


def of_scope(scope: Scope) -> list[ColumnElement[bool]]:
    """Claims of somebody's suppliers and stores."""
    out: list[ColumnElement[bool]] = []
    if scope.suppliers:
        out.append(Claim.supplier_id.in_(scope.suppliers))
    if scope.stores:
        out.append(Claim.order_id.in_(select(Order.id).where(Order.store_id.in_(scope.stores))))
    if scope.categories:
        skus = select(Sku.id).where(Sku.category.in_(scope.categories))
        out.append(Claim.order_line_id.in_(select(OrderLine.id).where(OrderLine.sku_id.in_(skus))))
    return out


def own(context: Context, number: int) -> Claim:
    """A claim of whoever acts; NotFound where they do not work for it, as if it were not there."""
    row = context.get(Claim, number, "claim")
    if context.scope.limited and not context.session.scalar(select(Claim.id).where(Claim.id == number, *of_scope(context.scope))):
        raise NotFound(f"there is no claim {number} among those that you work for")
    return row
