"""What holds an order beside routing: its address, its value, an unusual quantity, a dear split; and every reason in plain words."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from sqlalchemy import func, select

from ...core.address import certain_faults, faults, in_latin
from ...core.currency import show
from ...core.route import OrderPlan
from ...core.states import OrderLineState
from ...data.bulk import in_chunks
from ...data.orders import Order, OrderLine
from ...data.setup import Store
from ...data.source import Item
from ..base import house_days
from ..base.context import Context

# Limits that are a person's to set, so that their word lets an order past.
LIFTED = ("least_profit", "look_over", "too_late", "unusual", "splits", "address", "doubt", "twice", "spend_limit", "practice")
PARTS = {
    "name": "the name",
    "address_1": "the street",
    "address_2": "the second line",
    "city": "the city",
    "region": "the region",
    "postcode": "the postcode",
    "country": "the country",
}
# Fewer pieces than this are never looked at, whatever is usual.
FEW = 4

REASONS = {
    "no_lane": "has no lane that is open",
    "not_yet": "has a lane that begins later",
    "part_bought": "is bought in part, and no other lane has that same part: ask that supplier to send it, or to take it back",
    "no_rate": "cannot be counted: the exchange rate to the supplier's money is wanting",
    "supplier_paused": "has only lanes of a supplier that is paused or disconnected",
    "refused_before": "was refused by the supplier",
    "not_sent_there": "is not sent to {country}",
    "too_heavy": "is too heavy for the service to {country}",
    "too_late": "would arrive after {promised}",
    "no_stock": "is not in stock at any lane",
}


def before_routing(order: Order, lines: Iterable[OrderLine], policy: dict[str, Any], usual: dict[str, int]) -> tuple[str, str] | None:
    """(limit, told) of what holds an order whichever way it goes. usual: what is a usual quantity, by SKU."""
    if order.wants or order.cancelled_at:
        # What is left of it would go as the buyer does not want it any more.
        return "buyer", f"Settle with the buyer first: {order.wants_message}" if order.wants else "The buyer cancelled it"
    # What is only likely to be wrong stands where a person let it.
    look = certain_faults if "address" in order.allowed else faults
    where = {**(order.address_override or order.address), "country": order.country}
    wrong = look(in_latin(where) if policy["letters"] == "latin" else where, policy["letters"] == "all")
    if wrong:
        message = "; ".join(f"{PARTS[name]} {fault}" for name, fault in wrong.items())
        return "address", message[0].upper() + message[1:]
    many = [line for line in lines if line.quantity >= FEW and line.quantity > policy["unusual_times"] * usual.get(line.sku_code, 1)]
    if many and policy["unusual_times"] and "unusual" not in order.allowed:
        line = many[0]
        return "unusual", f"{line.quantity} of {line.title or line.sku_code} at once; usual is {usual.get(line.sku_code, 1)}"
    value = sum(line.total for line in lines)
    if value > policy["look_over"] and "look_over" not in order.allowed:
        return "look_over", f"Worth {show(value, order.currency)}, more than your {show(policy['look_over'], order.currency)}"
    return None


def practice(order: Order, store: Store) -> tuple[str, str] | None:
    """(limit, told) of an order that could go, but whose store's orders are not bought yet, or were not when it came."""
    if "practice" in order.allowed:
        return None
    if not store.buy_orders:
        return "practice", f"Orders of {store.name} are not bought yet; that is turned on under Set-up, Stores and suppliers"
    if order.before_start:
        return "practice", f"It came before orders of {store.name} were bought here; let it go if it was not bought elsewhere"
    return None


def after_routing(order: Order, found: OrderPlan, policy: dict[str, Any], items: Iterable[Item] = ()) -> tuple[str, str] | None:
    """(limit, told) of a plan that could go, but that a person looks at first. items: those of the lanes by which it would go."""
    if found.reason is None and "doubt" not in order.allowed:
        doubted = [one for one in items if one.offer == "doubted" and one.doubt_cost != one.cost]
        if doubted:
            one = doubted[0]
            seen, believed = show(one.doubt_cost, one.currency), show(one.cost, one.currency)
            return "doubt", f"The cost of {one.number} is in doubt: {seen} was seen, {believed} is believed"
    sending = found.shipping + found.handling
    if found.reason is None and "splits" not in order.allowed and found.parcels > 1 and sending > policy["split_over"]:
        limit = show(policy["split_over"], order.currency)
        return "splits", f"Goes in {found.parcels} parcels that cost {show(sending, order.currency)} to send; your limit is {limit}"
    return None


def usual_quantities(context: Context, lines: Iterable[OrderLine]) -> dict[str, int]:
    """Nine in ten past lines of a SKU asked for no more than this; of one with fewer than five of them, of all SKUs together."""
    asked = {line.sku_code for line in lines if line.quantity >= FEW}
    if not asked:
        return {}
    open_ids = {line.id for line in lines}
    house = _ninth(context.session.execute(select(OrderLine.quantity, func.count()).group_by(OrderLine.quantity)).tuples().all())
    counts: dict[str, dict[int, int]] = {}
    for chunk in in_chunks(asked):
        rows = select(OrderLine.sku_code, OrderLine.quantity, OrderLine.id).where(OrderLine.sku_code.in_(chunk))
        for code, quantity, number in context.session.execute(rows.where(OrderLine.state != OrderLineState.cancelled)):
            if number not in open_ids:
                mine = counts.setdefault(code, {})
                mine[quantity] = mine.get(quantity, 0) + 1
    return {code: _ninth(counts[code].items()) if sum(counts.get(code, {}).values()) >= 5 else house for code in asked}


def _ninth(counted: Iterable[tuple[int, int]]) -> int:
    rows = sorted(counted)
    total = seen = 0
    total = sum(n for _, n in rows)
    for quantity, n in rows:
        seen += n
        if seen >= 0.9 * total:
            return quantity
    return 1


def tell(
    context: Context, order: Order, lines: list[OrderLine], found: OrderPlan, reason: str, names: dict[int, str], least: int = 0
) -> str:
    """Why routing holds an order, as a person would say it. names: what is left of the limits of lanes' suppliers; least: profit asked."""
    stuck = [line for line in lines if line.id not in found.chosen] or lines
    it = "It" if len(lines) == 1 else stuck[0].title or stuck[0].sku_code
    if reason == "least_profit":
        risk = f", less {show(found.risk, order.currency)} of risk" if found.risk else ""
        return f"Profit would be {show(found.profit + found.risk, order.currency)}{risk}; your least is {show(least, order.currency)}"
    if reason == "spend_limit":
        whose = sorted({names[lane] for lane in found.chosen.values() if lane in names})
        rest = "what is left goes to orders that earn more" if found.outbid else "this order alone is more"
        left = "; ".join(whose) or "The supplier's limit of today is reached"
        return f"{left}: {rest}. It goes at 00:00"
    if reason == "no_stock" and found.outbid:
        return f"{it} is scarce: what there is goes to orders that earn more with it"
    if reason == "no_stock" and len(found.chosen) == len(lines):
        return f"{it} is not in stock for all the lines of this order"
    promised = house_days.day_text(context, order.promised_by, True) if order.promised_by else "the promise"
    return f"{it} {REASONS[reason].format(country=order.country, promised=promised)}"
