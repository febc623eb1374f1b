"""How an order's plan is told: one sentence of reason, and the fall of its money step by step."""

from __future__ import annotations

from collections.abc import Sequence

from ...core.currency import show
from ...core.states import OrderLineState
from ...data.bulk import by_id
from ...data.lanes import Lane
from ...data.orders import FillPlan, Hold, Order, OrderLine
from ...data.setup import Supplier
from ..base.context import Context
from .order_profit import OPEN, net_refund

Step = tuple[str, int, str]


def steps(lines: Sequence[OrderLine], plan: FillPlan | None) -> list[Step]:
    """(name, minor units, step or total): from what the buyer paid to the profit. Empty while no lane fills the whole order."""
    if plan is None or plan.known_profit is None:
        return []
    live = [line for line in lines if line.state != OrderLineState.cancelled]

    def of(name: str) -> int:
        return sum(getattr(line, name) for line in live)

    falls = [
        ("The buyer paid" if of("paid") == of("total") else "The goods' prices", of("paid"), "total"),
        ("Sending, paid by the buyer", of("shipping_paid"), "step"),
        ("Discount", -of("discount"), "step"),
        ("Tax in it", -of("tax"), "step"),
        ("Store fee", -of("store_fee"), "step"),
        ("Payment fee", -of("payment_fee"), "step"),
        ("Paid back to the buyer, less its tax and fees", -sum(net_refund(line) for line in live), "step"),
        ("Goods", -plan.goods, "step"),
        ("Shipping", -plan.shipping, "step"),
        ("Handling", -plan.handling, "step"),
        ("Billed above the plan" if plan.billed_more > 0 else "Billed below the plan", -plan.billed_more, "step"),
        ("Settled above the plan" if plan.settled > 0 else "Settled below the plan", plan.settled, "step"),
        ("Returns reserve", -plan.reserve, "step"),
    ]
    open_still = any(line.state in OPEN for line in lines)
    name = "Expected profit" if open_still else "Profit"
    return [*(one for one in falls if one[1] or one[2] == "total"), (name, plan.known_profit, "total")]


def sentence(context: Context, order: Order, lines: Sequence[OrderLine], plan: FillPlan | None, hold: Hold | None) -> str:
    """Why it goes as it goes, with its numbers. '' once it is bought."""
    if plan is None or not any(line.state in (OrderLineState.ready, OrderLineState.held) for line in lines):
        return ""
    chosen = [one for one in plan.lanes if one["chosen"]]
    lanes = by_id(context.session, Lane, {one["lane"] for one in [*chosen, *plan.next_best.values()]})
    suppliers = by_id(context.session, Supplier, {lane.supplier_id for lane in lanes.values()})

    def name(lane: int) -> str:
        return suppliers[lanes[lane].supplier_id].name

    by = " and ".join(sorted({name(one["lane"]) for one in chosen}))
    if plan.reason is not None:
        if not by or len({one["line"] for one in chosen}) < len(lines):
            return ""
        earns = show(plan.profit + plan.risk, order.currency)
        risk = f", before {show(plan.risk, order.currency)} of risk" if plan.risk else ""
        return f"Held. Its best way, {by}, would earn {earns} after fees, goods, sending and returns{risk}."
    parts = "one parcel" if plan.parcels == 1 else f"{plan.parcels} parcels"
    message = f"{'Would go' if hold else 'Goes'} by {by} in {parts}, the most profit over all waiting orders together."
    others = sorted(plan.next_best.values(), key=lambda one: int(one["costs_more"]))
    if any(line.chosen_by == "person" for line in lines):
        message = f"{'Would go' if hold else 'Goes'} by {by} in {parts}; you chose a lane, and the plan goes around it."
    if not others:
        return f"{message} Nothing else could fill it now."
    # A line's next best may mean that others of the order move with it, so the money is that of the whole order.
    more = others[0]
    return f"{message} The next best, {name(more['lane'])}, would cost {show(int(more['costs_more']), order.currency)} more."
