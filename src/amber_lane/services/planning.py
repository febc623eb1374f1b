"""Planning: what stands in the way of every open order, or by which lanes it is filled."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import date, datetime, timedelta
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from ..core.cost import packs_needed, unit_bought
from ..core.ids import check_country
from ..core.money import show
from ..core.price import NONE
from ..core.route import LaneChoice, Leg, LineToFill, OrderPlan, plan_order
from ..core.states import ORDER_LINE
from ..data.lanes import Lane, LanePart
from ..data.orders import Hold, Order, OrderLine, Plan, PurchaseLine, PurchaseOrder
from ..data.setup import Origin
from ..data.shelf import Sku
from ..data.source import Item
from .book_lanes import UNTOLD
from .desk import Desk, by_id, in_chunks
from .facts import Facts
from .policy import policy_for

OPEN = ("new", "needs_lane", "held", "ready", "refused")
REASONS = {
    "no_lane": "has no lane that is open",
    "not_yet": "has a lane that begins later",
    "part_bought": "is bought in part, and no other lane has that same part: ask that supplier to send it, or to take it back",
    "no_rate": "cannot be counted: the exchange rate to the supplier's money is wanting",
    "refused_before": "was refused by the supplier",
    "not_sent_there": "is not sent to {country}",
    "too_heavy": "is too heavy for the service to {country}",
    "too_late": "would arrive after {promised}",
    "no_stock": "is not in stock at any lane",
    "least_profit": "Profit would be {profit}",
    "look_over": "Worth more than {limit}: have a look",
    "address": "{told}",
}


def lines_of(desk: Desk, orders: Iterable[int]) -> dict[int, list[OrderLine]]:
    """Lines by order."""
    found: dict[int, list[OrderLine]] = {number: [] for number in orders}
    for chunk in in_chunks(found):
        for line in desk.s.scalars(select(OrderLine).where(OrderLine.order_id.in_(chunk)).order_by(OrderLine.order_id, OrderLine.line_no)):
            found[line.order_id].append(line)
    return found


def service_of(lane: Lane, part: LanePart, country: str) -> str:
    """By which service an item of a lane is sent to a country."""
    if part.origin_id in (None, lane.origin_id):
        return str((lane.services or {}).get(country) or lane.service)
    return part.service or lane.service


def bought_parts(s: Session, lines: Iterable[int]) -> dict[int, dict[int, int]]:
    """Items and quantities that are bought for order lines and not refused or stopped."""
    found: dict[int, dict[int, int]] = {}
    for chunk in in_chunks(lines):
        rows = select(PurchaseLine.order_line_id, PurchaseLine.item_id, PurchaseLine.quantity)
        for line, item, quantity in s.execute(rows.where(PurchaseLine.order_line_id.in_(chunk), PurchaseLine.live)):
            found.setdefault(line, {})[item] = quantity
    return found


def replan(desk: Desk) -> None:
    """Look at every open order again, oldest first: what stands in its way, or by which lanes it is filled."""
    desk.s.flush()
    open_ids = list(desk.s.scalars(select(OrderLine.order_id).where(OrderLine.state.in_(OPEN)).distinct()))
    if not open_ids:
        return
    orders = sorted(by_id(desk.s, Order, open_ids).values(), key=lambda one: (one.ordered_at, one.id))
    looks = _Lookup(desk, orders)
    for order in orders:
        looks.plan(order)
    desk.s.flush()


def arrival(now: datetime, cut_off: str, days: int) -> date:
    """The day a parcel arrives when ordered now: after the cut-off the next working day counts as the first."""
    hour, minute = (int(part) for part in cut_off.split(":"))
    day = now.date() + timedelta(days=0 if (now.hour, now.minute) < (hour, minute) else 1)
    while days > 0 or day.weekday() == 6:
        day += timedelta(days=1)
        if day.weekday() != 6:
            days -= 1 if days > 0 else 0
    return day


class _Lookup:
    """Everything that planning needs, read once for all open orders; stock is given out as orders are planned."""

    def __init__(self, desk: Desk, orders: list[Order]) -> None:
        s = self.s = desk.s
        self.desk = desk
        self.lines = {
            number: [line for line in lines if line.state in OPEN] for number, lines in lines_of(desk, [o.id for o in orders]).items()
        }
        self._name_skus()
        skus = {line.sku_id for lines in self.lines.values() for line in lines if line.sku_id}
        self.lanes: dict[int, list[Lane]] = {}
        for chunk in in_chunks(skus):
            for lane in s.scalars(select(Lane).where(Lane.sku_id.in_(chunk), Lane.until.is_(None)).order_by(Lane.use)):
                self.lanes.setdefault(lane.sku_id, []).append(lane)
        ids = [lane.id for lanes in self.lanes.values() for lane in lanes]
        self.parts: dict[int, list[LanePart]] = {}
        for chunk in in_chunks(ids):
            for part in s.scalars(select(LanePart).where(LanePart.lane_id.in_(chunk))):
                self.parts.setdefault(part.lane_id, []).append(part)
        self.items = by_id(s, Item, (part.item_id for parts in self.parts.values() for part in parts))
        self.facts = Facts.read(s)
        self.origins = {row.id: row for row in s.scalars(select(Origin))}
        self.plans = {row.order_id: row for row in s.scalars(select(Plan).where(Plan.order_id.in_([o.id for o in orders])))}
        self.holds = {row.order_id: row for row in s.scalars(select(Hold).where(Hold.ended.is_(None)))}
        self.free = self._free_stock()
        line_ids = [line.id for lines in self.lines.values() for line in lines]
        self.bought = bought_parts(s, line_ids)
        self.refused: set[tuple[int, int]] = set()
        for chunk in in_chunks(line_ids):
            self.refused |= set(
                s.execute(
                    select(PurchaseLine.order_line_id, PurchaseLine.item_id)
                    .join(PurchaseOrder, PurchaseOrder.id == PurchaseLine.purchase_id)
                    .where(PurchaseLine.order_line_id.in_(chunk), PurchaseOrder.state == "refused")
                )
                .tuples()
                .all()
            )
        self.policies: dict[int, dict[str, Any]] = {}

    def _name_skus(self) -> None:
        """Lines whose SKU nobody has heard of get it made, so that it can be mapped; capitals and small letters are the same."""
        bare = [line for lines in self.lines.values() for line in lines if line.sku_id is None]
        if not bare:
            return
        wanted = {line.sku_code.lower() for line in bare}
        found: dict[str, list[Sku]] = {}
        for sku in self.s.scalars(select(Sku).where(func.lower(Sku.code).in_(wanted)).order_by(Sku.id)):
            found.setdefault(sku.code.lower(), []).append(sku)
        for line in bare:
            mine = found.setdefault(line.sku_code.lower(), [])
            exact = [sku for sku in mine if sku.code == line.sku_code]
            if not exact and len(mine) != 1:
                exact = [Sku(code=line.sku_code, title=line.title or line.sku_code)]
                self.s.add(exact[0])
                self.s.flush()
                mine.append(exact[0])
            line.sku_id = (exact or mine)[0].id

    def _free_stock(self) -> dict[int, int]:
        """Supplier units that no purchase under way has taken; the open orders themselves share what is left, oldest first."""
        taken: dict[int, int] = dict(
            self.s.execute(
                select(PurchaseLine.item_id, func.sum(PurchaseLine.quantity))
                .join(PurchaseOrder, PurchaseOrder.id == PurchaseLine.purchase_id)
                .where(PurchaseLine.live, PurchaseOrder.state.in_(("waiting", "sent")))
                .group_by(PurchaseLine.item_id)
            )
            .tuples()
            .all()
        )
        return {
            number: 0 if item.offer == "gone" else (UNTOLD if item.stock < 0 else max(item.stock - taken.get(number, 0), 0))
            for number, item in self.items.items()
        }

    def _choice(self, order: Order, line: OrderLine, lane: Lane, cushion: int) -> LaneChoice:
        """A lane for a line: what of it is bought already costs nothing more and is not bought again."""
        have = self.bought.get(line.id, {})
        legs: dict[int, list[tuple[LanePart, int]]] = {}
        for p in self.parts.get(lane.id, []):
            packs = packs_needed(line.quantity, p.units_num, p.units_den)
            if have.get(p.item_id) != packs:
                legs.setdefault(p.origin_id or lane.origin_id, []).append((p, packs))
        why = self._why_not(line, lane)
        made: list[Leg] = []
        days: list[date] = []
        for origin_id, parts in legs.items():
            origin = self.origins[origin_id]
            supplier = self.facts.suppliers[origin.supplier_id]
            monies = {supplier.currency, *(self.items[p.item_id].currency for p, _ in parts)}
            if any(money != order.currency and (money, order.currency) not in self.facts.rates for money in monies):
                return LaneChoice(lane.id, (), None, why_not="no_rate")
            converts = {money: self.facts.conversion(supplier, order.currency, cushion, of=money) for money in monies}
            out, weight = [], 0
            for p, packs in parts:
                item = self.items[p.item_id]
                unit = unit_bought(item.cost, item.tiers or [], packs, converts[item.currency], supplier.tax)
                out.append((p.item_id, p.units_num, p.units_den, unit, self.free[p.item_id]))
                weight += item.weight_g * packs
            service = self.facts.service_to.get((origin_id, service_of(lane, parts[0][0], order.country), order.country))
            parcel = self.facts.parcel(supplier, origin, service, order.currency, cushion) if service else None
            if service:
                days.append(arrival(self.desk.now, origin.cut_off, service.days_high))
            made.append(Leg(supplier.id, origin_id, tuple(out), parcel, weight))
        # What is left of a kit whose rest is bought: a day for it is known by what was promised then.
        arrives = max(days) if days else self.desk.now.date() if not made else None
        return LaneChoice(lane.id, tuple(made), arrives, why)

    def _why_not(self, line: OrderLine, lane: Lane) -> str | None:
        mine = {p.item_id for p in self.parts.get(lane.id, [])}
        if any((line.id, item) in self.refused for item in mine) and line.chosen_by != "person":
            return "refused_before"
        if lane.state == "shut" or (lane.ends and lane.ends <= self.desk.now):
            return "no_lane"
        if set(self.bought.get(line.id, {})) - mine:
            return "part_bought"
        return None if lane.begun else "not_yet"

    def _lanes_for(self, order: Order, line: OrderLine) -> tuple[list[Lane], list[Lane]]:
        """Lanes of a line's goods in this store, and allowed replacements where the store permits them."""
        lanes = [lane for lane in self.lanes.get(line.sku_id or 0, []) if lane.store_id in (None, order.store_id)]
        if line.chosen_by == "person":
            chosen = [lane for lane in lanes if lane.id == line.lane_id]
            if chosen:
                return chosen, []
        others = [lane for lane in lanes if lane.instead] if self.facts.stores[order.store_id].replacements else []
        return [lane for lane in lanes if not lane.instead], others

    def plan(self, order: Order) -> None:
        lines = self.lines[order.id]
        if not lines:
            return
        policy = self.policies.setdefault(order.store_id, policy_for(self.s, store=self.facts.stores[order.store_id].code))
        cushion = int(policy["currency_cushion"])
        ways = {line.id: self._lanes_for(order, line) for line in lines}

        def asked(stuck: set[int]) -> list[LineToFill]:
            return [
                LineToFill(
                    line.id,
                    line.quantity,
                    line.kept,
                    tuple(
                        self._choice(order, line, lane, cushion)
                        for lane in (ways[line.id][0] + ways[line.id][1] if line.id in stuck else ways[line.id][0])
                    ),
                )
                for line in lines
            ]

        least = NONE if order.lifted else int(policy["least_order_profit"])
        promised = order.promised_by.date() if order.promised_by and not order.lifted else None
        found = plan_order(asked(set()), promised, least)
        # Other goods are sent only where nothing else fills the line, and a person and the store have allowed it.
        stuck = {line.id for line in lines if line.id not in found.chosen and ways[line.id][1]}
        if stuck:
            found = plan_order(asked(stuck), promised, least)
        self._keep_plan(order, found)
        value = sum(line.paid for line in lines)
        reason = found.reason
        if reason is None and not _country_fits(order):
            reason = "address"
        if reason is None and value > policy["look_over"] and not order.lifted:
            reason = "look_over"
        missing = {line.id for line in lines if not any(ways[line.id])}
        self._move(order, lines, found, reason, policy, missing)

    def _keep_plan(self, order: Order, found: OrderPlan) -> None:
        row = self.plans.get(order.id)
        if row is None:
            row = self.plans[order.id] = Plan(order_id=order.id, at=self.desk.now, goods=0, shipping=0, handling=0, profit=0, lanes=[])
            self.s.add(row)
        lanes = [
            {
                "line": c.line,
                "lane": c.lane,
                "goods": c.goods,
                "shipping": c.shipping,
                "handling": c.handling,
                "all_in": c.all_in,
                "arrives": c.arrives.isoformat() if c.arrives else None,
                "reason": c.reason,
                "chosen": found.chosen.get(c.line) == c.lane,
            }
            for c in found.considered
        ]
        row.goods, row.shipping, row.handling, row.profit, row.reason = (
            found.goods,
            found.shipping,
            found.handling,
            found.profit,
            found.reason,
        )
        if row.lanes != lanes:
            row.lanes, row.at = lanes, self.desk.now

    def _move(
        self, order: Order, lines: list[OrderLine], found: OrderPlan, reason: str | None, policy: dict[str, Any], missing: set[int]
    ) -> None:
        for line in lines:
            if line.chosen_by == "plan":
                # A held line too shows by which lane it would go.
                line.lane_id = found.chosen.get(line.id)
            if reason is None:
                line.lane_id = found.chosen[line.id]
                _enter(line, "clear", "")
                have = self.bought.get(line.id, {})
                for part in self.parts[line.lane_id]:
                    if part.item_id not in have:
                        self.free[part.item_id] -= packs_needed(line.quantity, part.units_num, part.units_den)
            elif line.id in missing:
                _enter(line, "lack", "its SKU is unknown" if line.sku_id is None else "it has no lane")
            elif missing:
                _enter(line, "lack" if line.id in missing else "hold", "another line of this order has no lane")
            elif line.state == "refused" and reason == "refused_before":
                continue
            else:
                _enter(line, "hold", reason)
        if reason is None:
            self._end_hold(order, "became ready")
            if order.send_after is None and policy["send"] != "hand":
                wait = 0 if policy["send"] == "once" else int(policy["send_minutes"])
                order.send_after = self.desk.now + timedelta(minutes=wait)
        else:
            order.send_after = None
            if missing:
                self._end_hold(order, "needs a lane")
            else:
                self._hold(order, reason, tell_reason(order, lines, found, reason, policy))

    def _hold(self, order: Order, reason: str, told: str) -> None:
        row = self.holds.get(order.id)
        if row is None:
            row = self.holds[order.id] = Hold(order_id=order.id, limit=reason, told=told, since=self.desk.now)
            self.s.add(row)
        row.limit, row.told = reason, told

    def _end_hold(self, order: Order, way: str) -> None:
        row = self.holds.pop(order.id, None)
        if row:
            row.ended, row.way = self.desk.now, way


def _country_fits(order: Order) -> bool:
    try:
        check_country(order.country)
    except ValueError:
        return False
    address = order.mended or order.address
    return bool(address.get("address_1") and address.get("city") and address.get("postcode"))


def tell_reason(order: Order, lines: list[OrderLine], found: OrderPlan, reason: str, policy: dict[str, Any]) -> str:
    """Why an order is held, as a person would say it."""
    stuck = [line for line in lines if line.id not in found.chosen] or lines
    names = "It" if len(lines) == 1 else stuck[0].title or stuck[0].sku_code
    if reason == "least_profit":
        return f"Profit would be {show(found.profit, order.currency)}"
    if reason == "look_over":
        return f"Worth more than {show(policy['look_over'], order.currency)}, so have a look"
    if reason == "address":
        return f"The address cannot be sent to: country {order.country!r}, or a part is missing"
    promised = f"{order.promised_by:%a %-d %b}" if order.promised_by else "the promise"
    return f"{names} {REASONS[reason].format(country=order.country, promised=promised)}"


def _enter(line: OrderLine, move: str, why: str) -> None:
    target = ORDER_LINE.step(line.state, move) if line.state in ORDER_LINE.sources(move) else line.state
    if (line.state, line.why) != (target, why):
        line.state, line.why = target, why
        line.version += 1


def step_line(line: OrderLine, move: str, why: str = "") -> None:
    """Move a line by its rule; NotAllowed when there is none."""
    line.state, line.why = ORDER_LINE.step(line.state, move), why
    line.version += 1
