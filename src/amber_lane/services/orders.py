"""Orders: taken in once each, planned, held by a limit, sent on, or cancelled."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import asdict
from datetime import UTC, date, datetime, time, timedelta
from typing import Any

import numpy as np
from sqlalchemy import func, select

from ..connectors.protocols import StoreOrder
from ..core import price
from ..core.cost import Parcel as ParcelCost
from ..core.cost import convert_one, packs_needed
from ..core.ids import check_country
from ..core.money import PPM, half_up, show
from ..core.price import NONE
from ..core.route import LaneChoice, LineToFill, OrderPlan, plan_order
from ..core.states import ORDER_LINE
from ..data.lanes import Lane, LanePart
from ..data.orders import Hold, Order, OrderLine, Plan, PurchaseLine, PurchaseOrder
from ..data.setup import Origin, Service, Store, Supplier
from ..data.shelf import Listing, Sku
from ..data.source import Item
from . import outbox
from .book import UNTOLD, conversion, fee_of, fee_rows
from .desk import Conflict, Desk, Invalid, by_id, in_chunks
from .policy import policy_for
from .respond import respond

OPEN = ("new", "needs_lane", "held", "ready", "refused")
REASONS = {
    "no_lane": "has no lane that is open",
    "refused_before": "was refused by the supplier",
    "not_sent_there": "is not sent to {country}",
    "too_late": "would arrive after {promised}",
    "no_stock": "is not in stock at any lane",
    "least_profit": "Profit would be {profit}",
    "look_over": "Worth more than {limit}: have a look",
    "address": "{told}",
}


def take_in(desk: Desk, store: Store, given: StoreOrder, came_by: str = "link") -> Order | None:
    """Take an order in. One that is there already changes nothing (None), but a cancelled one is stopped."""
    known = desk.s.scalar(select(Order).where(Order.store_id == store.id, Order.number == given.number))
    if known is not None:
        if given.cancelled:
            _stop_cancelled(desk, known)
        return None
    order = Order(
        store_id=store.id, number=given.number, buyer=given.buyer.name, mail=given.buyer.email, phone=given.buyer.phone,
        address=asdict(given.buyer), country=given.buyer.country.strip().upper(), currency=given.currency,
        ordered_at=min(given.ordered_at, desk.now), came_at=desk.now, came_by=came_by, note=given.note,
        promised_by=datetime.combine(given.promised_by, time(), UTC) if given.promised_by else None)
    desk.s.add(order)
    desk.s.flush()
    skus = {row.code: row for row in desk.s.scalars(select(Sku).where(Sku.code.in_([line.sku for line in given.lines])))}
    fees = fee_rows(desk.s, [store.id])
    for place, one in enumerate(given.lines):
        sku = skus.get(one.sku)
        line = OrderLine(order_id=order.id, line_no=one.line_no, sku_code=one.sku, sku_id=sku.id if sku else None,
                         title=one.title or (sku.title if sku else ""), quantity=one.quantity, paid=one.unit_price * one.quantity,
                         state="cancelled" if given.cancelled else "new")
        keep_line(store, fee_of(fees, store.id, sku.category if sku else ""), line, first=place == 0)
        desk.s.add(line)
        if sku:
            _sold(desk, store.id, sku.id, one.quantity)
    desk.s.flush()
    return order


def keep_line(store: Store, fee: Any, line: OrderLine, first: bool) -> None:
    """What the store leaves us of a line: section 2 per unit sold, the payment's fixed part once an order."""
    def column(value: int) -> Any:
        return np.array([value], dtype=np.int64)

    q = line.quantity
    # Per line, least and cap and the fixed fee count for each unit; so they are taken times the quantity.
    terms = price.Terms(
        column(0), column(0), column(fee.percent if fee else 0), column(fee.least * q if fee else 0),
        column(NONE if fee is None or fee.cap is None else fee.cap * q), column(fee.fixed * q if fee else 0),
        column(store.payment), column(store.payment_fixed if first else 0), column(store.tax_in_price))
    kept = price.keep(column(line.paid), terms)
    line.tax, line.store_fee, line.payment_fee, line.kept = (int(c[0]) for c in (kept.tax, kept.fee, kept.payment, kept.profit))


def _sold(desk: Desk, store: int, sku: int, quantity: int) -> None:
    """The store counted this sale off what it shows, so what we believe it shows goes down too."""
    listing = desk.s.scalar(select(Listing).where(Listing.store_id == store, Listing.sku_id == sku))
    if listing:
        listing.shown_quantity = max(listing.shown_quantity - quantity, 0)
        listing.wanted_quantity = max(listing.wanted_quantity - quantity, 0)


def _stop_cancelled(desk: Desk, order: Order) -> None:
    lines = lines_of(desk, [order.id])[order.id]
    stopped = [line for line in lines if line.state in ORDER_LINE.sources("cancel")]
    for line in stopped:
        step_line(line, "cancel", "the buyer cancelled at the store")
    if stopped:
        end_hold(desk, order.id, "cancelled by the buyer")
        desk.log("order.cancelled", order.number, f"order {order.number} was cancelled at the store")


def lines_of(desk: Desk, orders: Iterable[int]) -> dict[int, list[OrderLine]]:
    """Lines by order."""
    found: dict[int, list[OrderLine]] = {number: [] for number in orders}
    for chunk in in_chunks(found):
        for line in desk.s.scalars(select(OrderLine).where(OrderLine.order_id.in_(chunk)).order_by(OrderLine.order_id, OrderLine.line_no)):
            found[line.order_id].append(line)
    return found


def after_sales(desk: Desk, orders: Iterable[Order]) -> None:
    """What new orders mean: their lines are planned, and the listings of what was sold are looked at again."""
    numbers = [order.id for order in orders]
    if numbers:
        skus = {line.sku_id for lines in lines_of(desk, numbers).values() for line in lines if line.sku_id}
        desk.s.flush()
        replan(desk)
        respond(desk, skus)


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
        self.lines = {number: [line for line in lines if line.state in OPEN] for number, lines in lines_of(desk, [o.id for o in orders]).items()}
        unknown = {line.sku_code for lines in self.lines.values() for line in lines if line.sku_id is None}
        found = {row.code: row.id for row in s.scalars(select(Sku).where(Sku.code.in_(unknown)))} if unknown else {}
        for lines in self.lines.values():
            for line in lines:
                line.sku_id = line.sku_id or found.get(line.sku_code)
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
        self.suppliers = {row.id: row for row in s.scalars(select(Supplier))}
        self.origins = {row.id: row for row in s.scalars(select(Origin))}
        self.services = {(row.origin_id, row.code, row.country): row for row in s.scalars(select(Service))}
        self.stores = {row.id: row for row in s.scalars(select(Store))}
        self.plans = {row.order_id: row for row in s.scalars(select(Plan).where(Plan.order_id.in_([o.id for o in orders])))}
        self.holds = {row.order_id: row for row in s.scalars(select(Hold).where(Hold.ended.is_(None)))}
        self.free = self._free_stock()
        line_ids = [line.id for lines in self.lines.values() for line in lines]
        self.refused: set[tuple[int, int]] = set()
        for chunk in in_chunks(line_ids):
            self.refused |= set(s.execute(select(PurchaseLine.order_line_id, PurchaseLine.item_id).join(
                PurchaseOrder, PurchaseOrder.id == PurchaseLine.purchase_id).where(
                PurchaseLine.order_line_id.in_(chunk), PurchaseOrder.state == "refused")).tuples().all())
        self.policies: dict[int, dict[str, Any]] = {}

    def _free_stock(self) -> dict[int, int]:
        """Supplier units that no purchase under way has taken; the open orders themselves share what is left, oldest first."""
        taken: dict[int, int] = dict(self.s.execute(
            select(PurchaseLine.item_id, func.sum(PurchaseLine.quantity)).join(PurchaseOrder, PurchaseOrder.id == PurchaseLine.purchase_id)
            .where(PurchaseLine.live, PurchaseOrder.state.in_(("waiting", "sent"))).group_by(PurchaseLine.item_id)).tuples().all())
        return {number: 0 if item.offer == "gone" else (UNTOLD if item.stock < 0 else max(item.stock - taken.get(number, 0), 0))
                for number, item in self.items.items()}

    def _choice(self, order: Order, line: OrderLine, lane: Lane) -> LaneChoice:
        supplier, origin = self.suppliers[lane.supplier_id], self.origins[lane.origin_id]
        convert = conversion(self.s, supplier, order.currency)
        tax = supplier.tax
        parts = tuple((p.item_id, p.units_num, p.units_den,
                       _with_tax(convert_one(self.items[p.item_id].cost, convert), tax), self.free[p.item_id])
                      for p in self.parts.get(lane.id, []))
        service = self.services.get((lane.origin_id, lane.service, order.country))
        parcel = None
        if service:
            plain = conversion(self.s, supplier, order.currency)
            free = None if service.free_over is None else convert_one(service.free_over, plain)
            parcel = ParcelCost(convert_one(origin.handling, plain), convert_one(service.first, plain), convert_one(service.following, plain), free)
        why = "no_lane" if lane.state == "shut" else None
        if any((line.id, p.item_id) in self.refused for p in self.parts.get(lane.id, [])) and line.chosen_by != "person":
            why = "refused_before"
        return LaneChoice(lane.id, lane.supplier_id, lane.origin_id, parts, parcel,
                          arrival(self.desk.now, origin.cut_off, service.days_high) if service else None, why)

    def plan(self, order: Order) -> None:
        lines = self.lines[order.id]
        if not lines:
            return
        policy = self.policies.setdefault(order.store_id, policy_for(self.s, store=self.stores[order.store_id].code))
        asked = []
        for line in lines:
            lanes = [lane for lane in self.lanes.get(line.sku_id or 0, []) if lane.store_id in (None, order.store_id)]
            if line.chosen_by == "person":
                lanes = [lane for lane in lanes if lane.id == line.lane_id] or lanes
            asked.append(LineToFill(line.id, line.quantity, line.kept, tuple(self._choice(order, line, lane) for lane in lanes)))
        least = NONE if order.lifted else int(policy["least_order_profit"])
        promised = order.promised_by.date() if order.promised_by and not order.lifted else None
        found = plan_order(asked, promised, least)
        self._keep_plan(order, found)
        value = sum(line.paid for line in lines)
        reason = found.reason
        if reason is None and not _country_fits(order):
            reason = "address"
        if reason is None and value > policy["look_over"] and not order.lifted:
            reason = "look_over"
        self._move(order, lines, found, reason, policy)

    def _keep_plan(self, order: Order, found: OrderPlan) -> None:
        row = self.plans.get(order.id)
        if row is None:
            row = self.plans[order.id] = Plan(order_id=order.id, at=self.desk.now, goods=0, shipping=0, handling=0, profit=0, lanes=[])
            self.s.add(row)
        lanes = [{"line": c.line, "lane": c.lane, "goods": c.goods, "shipping": c.shipping, "handling": c.handling, "all_in": c.all_in,
                  "arrives": c.arrives.isoformat() if c.arrives else None, "reason": c.reason, "chosen": found.chosen.get(c.line) == c.lane}
                 for c in found.considered]
        row.goods, row.shipping, row.handling, row.profit, row.reason = found.goods, found.shipping, found.handling, found.profit, found.reason
        if row.lanes != lanes:
            row.lanes, row.at = lanes, self.desk.now

    def _move(self, order: Order, lines: list[OrderLine], found: OrderPlan, reason: str | None, policy: dict[str, Any]) -> None:
        missing = {line.id for line in lines if not self.lanes.get(line.sku_id or 0)}
        for line in lines:
            if reason is None:
                line.lane_id = found.chosen[line.id]
                _enter(line, "clear", "")
                for part in self.parts[line.lane_id]:
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


def _with_tax(cost: int, tax: int) -> int:
    """What one supplier unit costs with the supplier's tax."""
    return half_up(cost * (PPM + tax), PPM)


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
    names = stuck[0].title or stuck[0].sku_code
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


def end_hold(desk: Desk, order: int, way: str) -> None:
    row = desk.s.scalar(select(Hold).where(Hold.order_id == order, Hold.ended.is_(None)))
    if row:
        row.ended, row.way = desk.now, way


def allow(desk: Desk, number: int, why: str = "") -> Order:
    """A person's word that an order may go although it broke a limit that is theirs to set (profit, value, promise)."""
    order = desk.get(Order, number, "order")
    hold = desk.s.scalar(select(Hold).where(Hold.order_id == number, Hold.ended.is_(None)))
    if not hold or hold.limit not in ("least_profit", "look_over", "too_late"):
        raise Conflict("this order is not held by a limit that can be lifted; look at it again")
    order.lifted = True
    order.version += 1
    desk.log("order.allow", order.number, f"order {order.number} may go although: {hold.told}", why=why, after={"order": number}, undo=True)
    replan(desk)
    return order


def choose_lane(desk: Desk, line_id: int, lane_id: int | None) -> OrderLine:
    """A person's choice of lane for one line; the plan goes around it. None gives the choice back to the plan."""
    line = desk.get(OrderLine, line_id, "order line")
    if line.state not in OPEN:
        raise Conflict("this line is bought already, so its lane cannot change")
    if lane_id is not None:
        lane = desk.get(Lane, lane_id, "lane")
        if lane.sku_id != line.sku_id or lane.until is not None:
            raise Invalid("this lane does not fill that SKU")
    before = {"line": line_id, "lane": line.lane_id if line.chosen_by == "person" else None}
    line.lane_id, line.chosen_by = lane_id, "person" if lane_id else "plan"
    line.version += 1
    desk.log("order.lane", line.sku_code, f"{line.sku_code}: lane of an order line chosen by hand", before=before, undo=True)
    replan(desk)
    return line


def mend_address(desk: Desk, number: int, version: int, address: dict[str, str]) -> Order:
    """Mend a buyer's address; the one the buyer gave is kept beside it."""
    order = desk.get_version(Order, number, version, "order")
    try:
        country = check_country(address.get("country", ""))
    except ValueError as error:
        raise Invalid(str(error), {"country": str(error)}) from error
    lacking = {name: "is empty" for name in ("name", "address_1", "city", "postcode") if not address.get(name, "").strip()}
    if lacking:
        raise Invalid("the address lacks " + ", ".join(lacking), lacking)
    order.mended = {**order.address, **address, "country": country}
    order.country = country
    desk.log("order.address", order.number, f"address of order {order.number} mended", before=order.address, after=order.mended)
    replan(desk)
    return order


def cancel(desk: Desk, number: int, why: str = "") -> Order:
    """Cancel an order that is not bought, and tell the store to refund it. Cannot be undone: the buyer is told."""
    order = desk.get(Order, number, "order")
    lines = lines_of(desk, [number])[number]
    if any(line.state not in ORDER_LINE.sources("cancel") and line.state != "cancelled" for line in lines):
        raise Conflict("a part of this order is bought already; ask the supplier first")
    if all(line.state == "cancelled" for line in lines):
        raise Conflict("this order is cancelled already")
    for line in lines:
        if line.state != "cancelled":
            step_line(line, "cancel", why)
    end_hold(desk, number, "cancelled")
    if order.came_by == "link":
        outbox.put(desk, f"store:{order.store_id}", f"order:{number}", "cancel", f"cancel-{order.store_id}-{order.number}", {"order": order.number})
    desk.log("order.cancel", order.number, f"order {order.number} cancelled and refunded", why=why)
    after_sales(desk, [order])
    return order
