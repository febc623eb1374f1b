"""The money of an order: expected before it is bought, and after that what was really billed. One sum, wherever it is shown.

Expected profit = what the store leaves us, less goods, shipping, handling and the returns reserve. What refusal or lateness may cost by
their chance is told beside it; lanes are chosen with it, and it ends with buying. Once bought: what the store leaves us, less the bills
(less what is planned where no bill has come yet).
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass
from decimal import ROUND_HALF_UP, Decimal
from functools import cache
from typing import Protocol

from sqlalchemy import Select, select

from ...core.books import goes_back
from ...core.currency import minor_digits
from ...core.states import PURCHASE_LIVE, WAITING_LINES, OrderLineState
from ...data.bulk import by_id, in_chunks
from ...data.orders import FillPlan, Order, OrderLine, PurchaseOrder
from ...data.shelf import Listing
from ...data.statements import among
from ..base.context import Context
from ..pricing.frame import load
from ..pricing.inputs import NANO, Facts

LIVE, OPEN = PURCHASE_LIVE, WAITING_LINES
# Lines whose order waits for a person, so that nobody knows yet whether they earn anything.
WAITING = (OrderLineState.new, OrderLineState.needs_lane, OrderLineState.held, OrderLineState.refused)


@dataclass
class Bought:
    """What of an order is bought, in the order's money, minor units. more: how far bills are above the plan; kept: what the store leaves
    us of the lines that are bought; unbilled: purchases without a bill."""

    goods: int = 0
    shipping: int = 0
    handling: int = 0
    more: int = 0
    kept: int = 0
    purchases: int = 0
    unbilled: int = 0

    @property
    def cost(self) -> int:
        return self.goods + self.shipping + self.handling + self.more


class HasRates(Protocol):
    """Rates by pair in billionths, and the house's currency."""

    @property
    def rates(self) -> Mapping[tuple[str, str], int]: ...
    @property
    def home(self) -> str: ...


def rate_between(facts: HasRates, base: str, quote: str) -> int | None:
    """Units of one currency for one of another in billionths: as told, by the rate back, or by what both are worth at home."""
    if base == quote:
        return NANO
    if (rate := facts.rates.get((base, quote))) is not None:
        return rate
    if back := facts.rates.get((quote, base)):
        return int((Decimal(NANO) * NANO / Decimal(back)).to_integral_value(ROUND_HALF_UP))
    ours, theirs = facts.rates.get((base, facts.home)), facts.rates.get((quote, facts.home))
    if ours and theirs:
        return int((Decimal(ours) * NANO / Decimal(theirs)).to_integral_value(ROUND_HALF_UP))
    return None


def turn(minor: int, nano: int, base: str, quote: str) -> int:
    """An amount in another money, rounded half up once."""
    shift = minor_digits(quote) - minor_digits(base)
    return int((Decimal(minor) * nano).scaleb(shift - 9).to_integral_value(ROUND_HALF_UP))


def net_refund(line: OrderLine) -> int:
    """What the part refunds of a line cost us: what the buyer got, less the tax and fees that go back with it."""
    return line.refunded - sum(goes_back(line.refunded, line.total, one) for one in (line.tax, line.store_fee + line.payment_fee))


@cache
def _live_purchases() -> Select[PurchaseOrder]:
    return select(PurchaseOrder).where(PurchaseOrder.order_id.in_(among("orders")), PurchaseOrder.state.in_(LIVE))


@cache
def _revenues() -> Select[int, int]:
    sold = OrderLine.state.not_in((*OPEN, OrderLineState.cancelled))
    return select(OrderLine.order_id, OrderLine.net_revenue).where(OrderLine.order_id.in_(among("orders")), sold)


@cache
def _with_open_lines() -> Select[int]:
    return select(OrderLine.order_id).where(OrderLine.order_id.in_(among("orders")), OrderLine.state.in_(OPEN))


@cache
def plans_of() -> Select[FillPlan]:
    """The plans of `orders`."""
    return select(FillPlan).where(FillPlan.order_id.in_(among("orders")))


def bought(context: Context, orders: Iterable[int], facts: Facts | None = None) -> dict[int, Bought]:
    """What is bought of some orders; those of which nothing is are left out."""
    out: dict[int, Bought] = {}
    rows = by_id(context.session, Order, orders)
    for chunk in in_chunks(rows):
        for one in context.session.scalars(_live_purchases(), {"orders": chunk}).all():
            order = rows[one.order_id]
            nano = one.rate
            if nano is None:
                facts = facts or Facts.read(context.session)
                nano = rate_between(facts, one.currency, order.currency) or NANO
            goods, shipping, handling = (turn(n, nano, one.currency, order.currency) for n in (one.goods, one.shipping, one.handling))
            mine = out.setdefault(order.id, Bought())
            mine.goods, mine.shipping, mine.handling = mine.goods + goods, mine.shipping + shipping, mine.handling + handling
            mine.purchases += 1
            if one.billed is None:
                mine.unbilled += 1
            else:
                mine.more += turn(one.billed, nano, one.currency, order.currency) - goods - shipping - handling
    for chunk in in_chunks(out):
        for number, value in context.session.execute(_revenues(), {"orders": chunk}):
            out[number].kept += value
    return out


def refresh(context: Context, orders: Collection[int]) -> None:
    """Orders of which nothing is open any more: their figures are those of what was bought. The others are counted by the plan."""
    context.session.flush()
    numbers = set(orders)
    numbers -= set(context.session.scalars(_with_open_lines(), {"orders": list(numbers)}))
    found = bought(context, numbers)
    for chunk in in_chunks(numbers):
        for plan in context.session.scalars(plans_of(), {"orders": chunk}):
            mine = found.get(plan.order_id)
            if mine is not None or plan.profit or plan.goods:
                set_profit(plan, mine or Bought())
    context.session.flush()


def set_profit(plan: FillPlan, mine: Bought) -> None:
    """An order's figures are those of what was bought of it."""
    plan.goods, plan.shipping, plan.handling, plan.billed_more = mine.goods, mine.shipping, mine.handling, mine.more
    plan.risk, plan.reserve, plan.reason = 0, 0, None
    plan.profit = mine.kept - mine.cost + plan.settled


def likely(context: Context, orders: Iterable[int]) -> dict[int, int]:
    """What orders would earn if they could go, in their own money: as planned; where nothing fills them, as their listings earned last;
    where that is not known either, a third of what the store leaves us."""
    out: dict[int, int] = {}
    for chunk in in_chunks(set(orders)):
        out |= {
            n: profit
            for n, profit in context.session.execute(select(FillPlan.order_id, FillPlan.known_profit).where(FillPlan.order_id.in_(chunk)))
            if profit is not None
        }
        unknown = [number for number in chunk if number not in out]
        lines = (
            select(OrderLine.order_id, OrderLine.quantity, OrderLine.net_revenue, Listing.profit)
            .join(Order, Order.id == OrderLine.order_id)
            .outerjoin(Listing, (Listing.sku_id == OrderLine.sku_id) & (Listing.store_id == Order.store_id))
            .where(OrderLine.order_id.in_(unknown), OrderLine.state != OrderLineState.cancelled)
        )
        for number, quantity, kept, profit in context.session.execute(lines):
            out[number] = out.get(number, 0) + (kept // 3 if profit is None else profit * quantity)
    return out


def reserves(context: Context, skus: Collection[int]) -> dict[tuple[int, int], int]:
    """What is kept for returns of a sale, in ppm of what the buyer pays, by (store, SKU)."""
    if not skus:
        return {}
    book = load(context, skus)
    return {
        (store, sku): ppm
        for store, sku, ppm in zip(book.store.tolist(), book.sku.tolist(), book.terms.reserve.tolist(), strict=True)
        if ppm
    }
