"""Planning: all open orders together, by which lanes each is filled, or what stands in its way."""

from __future__ import annotations

import json
from datetime import timedelta
from typing import Any

from sqlalchemy import func, select

from ...core.route import OrderPlan
from ...core.routing import Routed, route
from ...core.states import ORDER_LINE, OrderLineState
from ...data.base import to_ms
from ...data.bulk import bulk_insert, by_id, in_chunks, quiet
from ...data.orders import FillPlan, Hold, Order, OrderLine
from ...data.setup import Setting
from ...data.source import Item
from ..base.consequences import rerouting
from ..base.context import Context
from . import order_profit
from .duplicates import twins_of
from .holds import after_routing, before_routing, practice, tell, usual_quantities
from .order_profit import OPEN
from .routing_inputs import Lookup, arrival, bought_parts, lines_of, room_message

# Seconds that routing may take within one act; what is found by then is used, and its gap told.
SECONDS = 20.0
# More open orders than these are planned by the worker, not within every act that changes something.
AT_ONCE = 1000
DUE = "plan_due"
SUMS = ("goods", "shipping", "handling", "risk", "reserve", "billed_more", "profit", "parcels", "reason")


@rerouting
def replan(context: Context, here: bool = False) -> None:
    """Look at all open orders again together: what stands in the way of each, or by which lanes it is filled.

    Where very many are open, it is only noted that they shall be, and the worker does so within a moment; here: in any case now.
    """
    context.session.flush()
    open_ids = list(context.session.scalars(select(OrderLine.order_id).where(OrderLine.state.in_(OPEN)).distinct()))
    due = context.session.scalar(select(Setting).where(Setting.name == DUE))
    if not here and len(open_ids) > AT_ONCE:
        if due is None:
            context.session.add(Setting(name=DUE, value={"orders": len(open_ids)}))
            context.session.flush()
        return
    if due is not None:
        context.session.delete(due)
    if not open_ids:
        return
    with quiet(len(open_ids) > AT_ONCE):
        _plan(context, open_ids)


def is_due(context: Context) -> bool:
    """Whether open orders wait to be planned anew."""
    return context.session.scalar(select(Setting.id).where(Setting.name == DUE)) is not None


def open_orders(context: Context) -> int:
    return int(context.session.scalar(select(func.count(OrderLine.order_id.distinct())).where(OrderLine.state.in_(OPEN))) or 0)


def _plan(context: Context, open_ids: list[int]) -> None:
    # Of two that are worth the same, the older one is filled.
    orders = sorted(by_id(context.session, Order, open_ids).values(), key=lambda one: (one.ordered_at, one.id))
    _Planner(context, orders).run()
    context.session.flush()


class _Planner:
    def __init__(self, context: Context, orders: list[Order]) -> None:
        self.context, self.orders = context, orders
        self.look = Lookup(context, orders)
        self.plans: dict[int, FillPlan] = {}
        for chunk in in_chunks([o.id for o in orders]):
            self.plans |= {row.order_id: row for row in context.session.scalars(select(FillPlan).where(FillPlan.order_id.in_(chunk)))}
        # What is new is written at once at the end: there may be thousands.
        self.fresh: list[tuple[Any, ...]] = []
        self.new_holds: list[Hold] = []
        # Orders that may be repetitions, with the one that they repeat.
        self.twins: dict[int, int] = {}
        self.holds = {row.order_id: row for row in context.session.scalars(select(Hold).where(Hold.ended.is_(None)))}
        self.usual = usual_quantities(context, [line for lines in self.look.lines.values() for line in lines])

    def run(self) -> None:
        look = self.look
        orders = [order for order in self.orders if look.lines[order.id]]
        missing = {order.id: {line.id for line in look.lines[order.id] if not look.has_lanes(order, line)} for order in orders}
        limits = {order.id: before_routing(order, look.lines[order.id], self._policy(order), self.usual) for order in orders}
        by_number = {order.id: order for order in orders}
        for number, (twin, said) in twins_of(self.context, orders).items():
            if limits[number] is None and self._policy(by_number[number])["hold_twice"]:
                limits[number], self.twins[number] = ("twice", said), twin
        # They take nothing from those that go, and what else stands in their way is told first.
        trying = {order.id: held for order in orders if (held := practice(order, look.facts.stores[order.store_id]))}
        together = [order for order in orders if not missing[order.id] and limits[order.id] is None and order.id not in trying]
        # What a person lets go beyond a spending limit goes first, and leaves the others the same limit.
        over = [order for order in together if "spend_limit" in order.allowed]
        for some, capped in ((over, False), ([order for order in together if order not in over], True)):
            if not some:
                continue
            routed = self._route(some, capped)
            for order in some:
                found = routed.plans[order.id]
                limit = after_routing(order, found, self._policy(order), self._items(found)) or self._limit(order, found)
                self._move(order, found, limit, set())
        # What waits for a person takes nothing from the others; its plan is made out of what they leave.
        for order in orders:
            if missing[order.id] or limits[order.id] is not None or order.id in trying:
                found = route([look.fill(order)]).plans[order.id]
                limit = limits[order.id] or self._limit(order, found)
                if limit is None and order.id in trying:
                    limit = after_routing(order, found, self._policy(order), self._items(found)) or trying[order.id]
                self._move(order, found, limit or ("no_lane", ""), missing[order.id])

        bulk_insert(self.context.session, FillPlan, ("order_id", "at", "lanes", "next_best", *SUMS), self.fresh)
        since = to_ms(self.context.now)
        holds = [(row.order_id, row.limit, row.message, row.other_id, since, "") for row in self.new_holds]
        bulk_insert(self.context.session, Hold, ("order_id", "limit", "message", "other_id", "since", "way"), holds)

    def _items(self, found: OrderPlan) -> list[Item]:
        """Items of the lanes by which an order would go."""
        look = self.look
        return [look.items[part.item_id] for lane in found.chosen.values() for part in look.parts.get(lane, [])]

    def _policy(self, order: Order) -> dict[str, Any]:
        return self.look.policy("store", self.look.facts.stores[order.store_id].code)

    def _route(self, orders: list[Order], capped: bool = True) -> Routed:
        look, caps = self.look, self.look.caps() if capped else {}
        cancel_cost = int(look.policy("store", "")["refund_cost"])
        asked = {order.id: look.fill(order) for order in orders}
        routed = route(list(asked.values()), caps, cancel_cost, SECONDS)
        short = [order for order in orders if routed.plans[order.id].reason == "no_stock" and look.has_replacements(order)]
        if short:
            asked |= {order.id: look.fill(order, replacements=True) for order in short}
            routed = route(list(asked.values()), caps, cancel_cost, SECONDS)
        return routed

    def _limit(self, order: Order, found: OrderPlan) -> tuple[str, str] | None:
        if found.reason is None:
            return None
        look = self.look
        limited = {one.supplier_id for one in look.accounts}
        names = {
            lane.id: room_message(self.context, look.accounts, look.facts.suppliers[lane.supplier_id])
            for line in look.lines[order.id]
            for lane in look.lanes.get(line.sku_id or 0, [])
            if lane.supplier_id in limited
        }
        return found.reason, tell(
            self.context, order, look.lines[order.id], found, found.reason, names, int(self._policy(order)["least_order_profit"])
        )

    def _keep_plan(self, order: Order, found: OrderPlan) -> None:
        lanes = [
            {
                "line": c.line,
                "lane": c.lane,
                "goods": c.goods,
                "shipping": c.shipping,
                "handling": c.handling,
                "risk": c.risk,
                "all_in": c.all_in,
                "arrives": c.arrives.isoformat() if c.arrives else None,
                "reason": c.reason,
                "chosen": found.chosen.get(c.line) == c.lane,
            }
            for c in found.considered
        ]
        others = {str(line): {"lane": one.lane, "costs_more": one.costs_more} for line, one in found.next_best.items()}
        had = self.look.spent.get(order.id, order_profit.Bought())
        sums = (
            found.goods + had.goods,
            found.shipping + had.shipping,
            found.handling + had.handling,
            found.risk,
            sum(line.reserve for line in self.look.lines[order.id]),
            had.more,
            found.profit + had.kept - had.cost,
            found.parcels + had.purchases,
            found.reason,
        )
        row = self.plans.get(order.id)
        if row is None:
            self.fresh.append((order.id, to_ms(self.context.now), json.dumps(lanes), json.dumps(others), *sums))
            return
        for name, value in zip(SUMS, sums, strict=True):
            setattr(row, name, value)
        if row.lanes != lanes or row.next_best != others:
            row.lanes, row.next_best, row.at = lanes, others, self.context.now

    def _move(self, order: Order, found: OrderPlan, limit: tuple[str, str] | None, missing: set[int]) -> None:
        self._keep_plan(order, found)
        lines = self.look.lines[order.id]
        for line in lines:
            if line.chosen_by == "plan":
                # A held line too shows by which lane it would go.
                line.lane_id = found.chosen.get(line.id)
            if limit is None:
                line.lane_id = found.chosen[line.id]
                enter(line, "clear", "")
                self.look.take(line)
            elif line.id in missing:
                enter(line, "lack", "its SKU is unknown" if line.sku_id is None else "it has no lane")
            elif missing:
                enter(line, "hold", "another line of this order has no lane")
            elif line.state == OrderLineState.refused and limit[0] == "refused_before":
                continue
            else:
                enter(line, "hold", limit[0])
        if limit is None:
            self._end_hold(order, "became ready")
            self._set_time(order, found)
            return
        order.send_after = None
        if missing:
            self._end_hold(order, "needs a lane")
        else:
            self._hold(order, *limit)

    def _set_time(self, order: Order, found: OrderPlan) -> None:
        """When a ready order goes by itself: as the strictest of its store, its suppliers and their accounts says."""
        minutes = None if order.manual_release else self._minutes(order, found)
        if minutes is None:
            order.send_after = None
        elif order.send_after is None:
            order.send_after = self.context.now + timedelta(minutes=minutes)

    def _minutes(self, order: Order, found: OrderPlan) -> int | None:
        look = self.look
        lanes = {lane.id: lane for line in look.lines[order.id] for lane in look.lanes.get(line.sku_id or 0, [])}
        suppliers = {
            look.items[part.item_id].supplier_id
            for number in found.chosen.values()
            if number in lanes
            for part in look.parts.get(number, [])
        }
        said = [(self._policy(order)["send"], self._policy(order)["send_minutes"])]
        for number in suppliers:
            policy = look.policy("supplier", look.facts.suppliers[number].code)
            said.append((policy["send"], policy["send_minutes"]) if self._set_for(number) else said[0])
            said += [(one.send, one.send_minutes or 0) for one in look.accounts if one.supplier_id == number and one.send]
        if any(send == "hand" for send, _ in said):
            return None
        return max(0 if send == "once" else int(minutes) for send, minutes in said)

    def _set_for(self, supplier: int) -> bool:
        """Whether somebody set for this very supplier how its orders go."""
        code = self.look.facts.suppliers[supplier].code
        return any(one.scope == "supplier" and one.scope_key == code and "send" in one.fields for one in self.look.facts.policies)

    def _hold(self, order: Order, reason: str, message: str) -> None:
        row = self.holds.get(order.id)
        if row is None:
            row = self.holds[order.id] = Hold(order_id=order.id, limit=reason, message=message, since=self.context.now)
            self.new_holds.append(row)
        row.limit, row.message, row.other_id = reason, message, self.twins.get(order.id)

    def _end_hold(self, order: Order, way: str) -> None:
        row = self.holds.pop(order.id, None)
        if row:
            row.ended, row.way = self.context.now, way


def enter(line: OrderLine, move: str, reason: str) -> None:
    """A line comes into a state by its rule, or stays where it is, with why."""
    target = ORDER_LINE.step(line.state, move) if line.state in ORDER_LINE.sources(move) else line.state
    if (line.state, line.reason) != (target, reason):
        line.state, line.reason = target, reason
        line.version += 1


def step_line(line: OrderLine, move: str, reason: str = "") -> None:
    """Move a line by its rule; NotAllowed when there is none."""
    line.state, line.reason = ORDER_LINE.step(line.state, move), reason
    line.version += 1


def plan_of(context: Context, order: int) -> FillPlan | None:
    """How an order is filled, as it was last planned."""
    return context.session.scalar(select(FillPlan).where(FillPlan.order_id == order))


def hold_of(context: Context, order: int) -> Hold | None:
    """What an order waits for, if it does."""
    return context.session.scalar(select(Hold).where(Hold.order_id == order, Hold.ended.is_(None)))


__all__ = ["OPEN", "arrival", "bought_parts", "is_due", "lines_of", "open_orders", "replan", "step_line"]
