"""What routing needs of the open orders, read once: their lanes with money, days, stock and risk, and what may be spent."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from datetime import date, datetime, timedelta
from functools import partial
from typing import Any, TypeVar

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from ...core.cost import Conversion, ParcelTerms, packs_needed, unit_bought
from ...core.currency import show
from ...core.numbers import PPM, half_up
from ...core.price import NONE
from ...core.route import Cap, LaneChoice, Leg, LineToFill, OrderToFill, consider
from ...core.states import LaneState, PurchaseState
from ...data.bulk import by_id, in_chunks
from ...data.lanes import Lane, LanePart, service_of
from ...data.orders import Order, OrderLine, PurchaseLine, PurchaseOrder
from ...data.setup import BuyingAccount, Origin, Supplier
from ...data.shelf import Sku
from ...data.source import Item
from ..base import house_days
from ..base.context import Context
from ..base.regional import place_of
from ..pricing.inputs import Facts, house_ppm
from ..pricing.lane_costing import UNKNOWN_STOCK
from ..pricing.policy import policy_for
from . import order_profit
from .order_profit import LIVE, OPEN

T = TypeVar("T")


def lines_of(context: Context, orders: Iterable[int]) -> dict[int, list[OrderLine]]:
    """Lines by order."""
    found: dict[int, list[OrderLine]] = {number: [] for number in orders}
    for chunk in in_chunks(found):
        for line in context.session.scalars(
            select(OrderLine).where(OrderLine.order_id.in_(chunk)).order_by(OrderLine.order_id, OrderLine.line_no)
        ):
            found[line.order_id].append(line)
    return found


def bought_parts(s: Session, lines: Iterable[int]) -> dict[int, dict[int, int]]:
    """Items and quantities that are bought for order lines and not refused or stopped."""
    found: dict[int, dict[int, int]] = {}
    for chunk in in_chunks(lines):
        rows = select(PurchaseLine.order_line_id, PurchaseLine.item_id, PurchaseLine.quantity)
        for line, item, quantity in s.execute(rows.where(PurchaseLine.order_line_id.in_(chunk), PurchaseLine.live)):
            found.setdefault(line, {})[item] = quantity
    return found


def arrival(now: datetime, cut_off: str, days: int, holidays: Iterable[str] = ()) -> date:
    """The day a parcel arrives when ordered now. After the cut-off the next working day counts as the first; Sundays and the
    origin's holidays (ISO dates) do not count. now: by the clocks of the origin."""
    shut = set(holidays)

    def works(day: date) -> bool:
        return day.weekday() != 6 and day.isoformat() not in shut

    hour, minute = (int(part) for part in cut_off.split(":"))
    day = now.date()
    if (now.hour, now.minute) >= (hour, minute) or not works(day):
        day += timedelta(days=1)
        while not works(day):
            day += timedelta(days=1)
    while days > 0:
        day += timedelta(days=1)
        days -= works(day)
    return day


class Lookup:
    """Everything that routing needs for some open orders; stock is given out as orders are planned."""

    def __init__(self, context: Context, orders: list[Order]) -> None:
        s = self.s = context.session
        self.context, self.today = context, house_days.today(context)
        going = {order.id: set(order.part_lines or ()) for order in orders}
        self.lines = {
            number: [line for line in lines if line.state in OPEN and (not going[number] or line.id in going[number])]
            for number, lines in lines_of(context, [o.id for o in orders]).items()
        }
        self._name_skus()
        skus = {line.sku_id for lines in self.lines.values() for line in lines if line.sku_id}
        self.lanes: dict[int, list[Lane]] = {}
        for chunk in in_chunks(skus):
            for lane in s.scalars(select(Lane).where(Lane.sku_id.in_(chunk), Lane.closed_at.is_(None)).order_by(Lane.priority)):
                self.lanes.setdefault(lane.sku_id, []).append(lane)
        self.parts: dict[int, list[LanePart]] = {}
        for chunk in in_chunks([lane.id for lanes in self.lanes.values() for lane in lanes]):
            for part in s.scalars(select(LanePart).where(LanePart.lane_id.in_(chunk))):
                self.parts.setdefault(part.lane_id, []).append(part)
        self.items = by_id(s, Item, (part.item_id for parts in self.parts.values() for part in parts))
        self.facts = Facts.read(s)
        self.accounts = list(s.scalars(select(BuyingAccount).order_by(BuyingAccount.id)))
        self.free = self._free_stock()
        line_ids = [line.id for lines in self.lines.values() for line in lines]
        self.bought = bought_parts(s, line_ids)
        self.spent = order_profit.bought(context, self.lines, self.facts)
        self.refused = self._refused(line_ids)
        self.policies: dict[tuple[str, str], dict[str, Any]] = {}
        self.terms: dict[tuple[Any, ...], Any] = {}

    def policy(self, scope: str, code: str) -> dict[str, Any]:
        if (scope, code) not in self.policies:
            self.policies[scope, code] = policy_for(self.s, **{scope: code})
        return self.policies[scope, code]

    def _refused(self, lines: Iterable[int]) -> set[tuple[int, int]]:
        """(line, item) that a supplier refused to send."""
        found: set[tuple[int, int]] = set()
        for chunk in in_chunks(lines):
            rows = select(PurchaseLine.order_line_id, PurchaseLine.item_id).join(
                PurchaseOrder, PurchaseOrder.id == PurchaseLine.purchase_id
            )
            found |= set(
                self.s.execute(
                    rows.where(PurchaseLine.order_line_id.in_(chunk), (PurchaseOrder.state == PurchaseState.refused) | PurchaseLine.refused)
                )
                .tuples()
                .all()
            )
        return found

    def _name_skus(self) -> None:
        """Lines whose SKU nobody has heard of get it made, so that it can be mapped; capitals and small letters are the same."""
        bare = [line for lines in self.lines.values() for line in lines if line.sku_id is None]
        if not bare:
            return
        wanted = {line.sku_code.lower() for line in bare}
        found: dict[str, list[Sku]] = {}
        for chunk in in_chunks(wanted):
            for sku in self.s.scalars(select(Sku).where(func.lower(Sku.code).in_(chunk)).order_by(Sku.id)):
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
        """Supplier units that no purchase under way has taken."""
        taken: dict[int, int] = dict(
            self.s.execute(
                select(PurchaseLine.item_id, func.sum(PurchaseLine.quantity))
                .join(PurchaseOrder, PurchaseOrder.id == PurchaseLine.purchase_id)
                .where(PurchaseLine.live, PurchaseOrder.state.in_((PurchaseState.waiting, PurchaseState.sent)))
                .group_by(PurchaseLine.item_id)
            )
            .tuples()
            .all()
        )
        return {
            number: 0 if item.offer == "gone" else (UNKNOWN_STOCK if item.stock < 0 else max(item.stock - taken.get(number, 0), 0))
            for number, item in self.items.items()
        }

    def take(self, line: OrderLine) -> None:
        """A line is filled by its lane: what it needs is not free for others."""
        have = self.bought.get(line.id, {})
        for part in self.parts[line.lane_id or 0]:
            if part.item_id not in have:
                self.free[part.item_id] -= packs_needed(line.quantity, part.units_num, part.units_den)

    def caps(self) -> dict[int, Cap]:
        """What may still be bought today at each supplier whose accounts have limits, in the house's money."""
        caps: dict[int, Cap] = {}
        for number in {one.supplier_id for one in self.accounts}:
            rooms = [room_of(self.context, one) for one in self.accounts if one.supplier_id == number]
            money = None if any(room[0] is None for room in rooms) else sum(room[0] or 0 for room in rooms)
            orders = None if any(room[1] is None for room in rooms) else sum(room[1] or 0 for room in rooms)
            if money is not None:
                money = self.home(money, self.facts.suppliers[number].currency)
            caps[number] = Cap(money, orders)
        return caps

    def home(self, minor: int, currency: str) -> int:
        return half_up(minor * self.rate(currency), PPM)

    def rate(self, currency: str) -> int:
        """ppm of a currency's minor unit in the house's. Where nobody knows it, it weighs as the house's: orders are compared by it, and
        nothing is added up."""
        return self._once(("rate", currency), lambda: house_ppm(self.facts.rates, currency, self.facts.home) or PPM)

    def fill(self, order: Order, replacements: bool = False) -> OrderToFill:
        """An order as routing takes it. Other goods are offered only for lines that nothing else could fill, or where asked for."""
        policy = self.policy("store", self.facts.stores[order.store_id].code)
        promised = order.promised_by if order.promised_by and "too_late" not in order.allowed else None
        least = NONE if "least_profit" in order.allowed else int(policy["least_order_profit"])
        lines = []
        for line in self.lines[order.id]:
            mine, others = self._lanes_for(order, line)
            net = line.net_revenue - line.reserve
            asked = LineToFill(line.id, line.quantity, net, tuple(self._choice(order, line, lane, policy) for lane in mine))
            if others and (replacements or all(consider(asked, lane, promised).reason for lane in asked.lanes)):
                more = tuple(self._choice(order, line, lane, policy) for lane in others)
                asked = LineToFill(line.id, line.quantity, net, asked.lanes + more)
            lines.append(asked)
        return OrderToFill(order.id, tuple(lines), promised, least, self.rate(order.currency), "least_profit" in order.allowed)

    def _lanes_for(self, order: Order, line: OrderLine) -> tuple[list[Lane], list[Lane]]:
        """Lanes of a line's goods in this store, and allowed replacements where the store permits them."""
        lanes = [lane for lane in self.lanes.get(line.sku_id or 0, []) if lane.store_id in (None, order.store_id)]
        if line.chosen_by == "person":
            chosen = [lane for lane in lanes if lane.id == line.lane_id]
            if chosen:
                return chosen, []
        others = [lane for lane in lanes if lane.is_substitute] if self.facts.stores[order.store_id].replacements else []
        return [lane for lane in lanes if not lane.is_substitute], others

    def has_lanes(self, order: Order, line: OrderLine) -> bool:
        return any(self._lanes_for(order, line))

    def has_replacements(self, order: Order) -> bool:
        return any(self._lanes_for(order, line)[1] for line in self.lines[order.id])

    def _once(self, key: tuple[Any, ...], make: Callable[[], T]) -> T:
        """Terms are the same for thousands of lines, so each is worked out once."""
        if key not in self.terms:
            self.terms[key] = make()
        found: T = self.terms[key]
        return found

    def _convert(self, supplier: Supplier, currency: str, cushion: int, of: str) -> Conversion:
        make = partial(self.facts.conversion, supplier, currency, cushion, of=of)
        return self._once(("convert", supplier.id, currency, cushion, of), make)

    def _sending(self, origin: Origin, code: str, order: Order, cushion: int) -> tuple[ParcelTerms, date] | None:
        """What a parcel costs, and when it arrives if it is ordered now; None where the service does not go there."""

        def make() -> tuple[ParcelTerms, date] | None:
            service = self.facts.service_to.get((origin.id, code, order.country))
            if service is None:
                return None
            parcel = self.facts.parcel(self.facts.suppliers[origin.supplier_id], origin, service, order.currency, cushion)
            return parcel, arrival(self._there(origin), origin.cut_off, service.days_high, origin.holidays or ())

        return self._once(("sending", origin.id, code, order.country, order.currency, cushion), make)

    def _there(self, origin: Origin) -> datetime:
        return self._once(
            ("there", origin.country), lambda: self.context.now.astimezone(house_days.zone_in(origin.country, place_of(self.s)))
        )

    def _choice(self, order: Order, line: OrderLine, lane: Lane, policy: dict[str, Any]) -> LaneChoice:
        """A lane for a line: what of it is bought already costs nothing more and is not bought again."""
        cushion = int(policy["currency_cushion"])
        have = self.bought.get(line.id, {})
        legs: dict[int, list[tuple[LanePart, int]]] = {}
        for p in self.parts.get(lane.id, []):
            packs = packs_needed(line.quantity, p.units_num, p.units_den)
            if have.get(p.item_id) != packs:
                legs.setdefault(p.origin_id or lane.origin_id, []).append((p, packs))
        reason = self._reason_not(line, lane)
        made: list[Leg] = []
        arrivals: list[date] = []
        goods = 0
        for origin_id, parts in legs.items():
            origin = self.facts.origins[origin_id]
            supplier = self.facts.suppliers[origin.supplier_id]
            monies = {supplier.currency, *(self.items[p.item_id].currency for p, _ in parts)}
            if any(money != order.currency and (money, order.currency) not in self.facts.rates for money in monies):
                return LaneChoice(lane.id, (), None, reason_not="no_rate")
            converts = {money: self._convert(supplier, order.currency, cushion, money) for money in monies}
            out, weight = [], 0
            for p, packs in parts:
                item = self.items[p.item_id]
                unit = unit_bought(item.cost, item.tiers or [], packs, converts[item.currency], supplier.tax)
                out.append((p.item_id, p.units_num, p.units_den, unit, self.free[p.item_id]))
                goods += unit * packs
                weight += item.weight_g * packs
            sending = self._sending(origin, service_of(lane, parts[0][0], order.country), order, cushion)
            if sending:
                arrivals.append(sending[1])
            made.append(Leg(supplier.id, origin_id, tuple(out), sending[0] if sending else None, weight))
        if arrivals and lane.sure_days:
            # Nine in ten came within so many days; what a supplier says of itself counts only where it is no better than that.
            arrivals.append(self.today + timedelta(days=lane.sure_days))
        # What is left of a kit whose rest is bought: a day for it is known by what was promised then.
        arrives = max(arrivals) if arrivals else self.today if not made else None
        return LaneChoice(lane.id, tuple(made), arrives, reason, self._risk(lane, policy, order.currency, goods) if made else 0)

    def _risk(self, lane: Lane, policy: dict[str, Any], currency: str, goods: int) -> int:
        """What refusal, lateness and claims may cost by their chance, in the order's money. goods: what they cost in it."""
        supplier = self.facts.suppliers[lane.supplier_id]
        refuse = lane.refuse_ppm if lane.refuse_ppm is not None else supplier.refuse_ppm or 0
        late = lane.late_ppm if lane.late_ppm is not None else supplier.late_ppm or 0
        lost = lane.claim_ppm if lane.claim_ppm is not None else supplier.claim_ppm or 0
        by_chance = half_up(refuse * int(policy["refund_cost"]) + late * int(policy["late_cost"]), PPM)
        return half_up(by_chance * PPM, self.rate(currency)) + half_up(lost * goods, PPM)

    def _at_rest(self, supplier: int) -> bool:
        row = self.facts.suppliers[supplier]
        return row.paused_at is not None or row.ended_at is not None

    def _reason_not(self, line: OrderLine, lane: Lane) -> str | None:
        mine = {p.item_id for p in self.parts.get(lane.id, [])}
        if any(self._at_rest(self.items[item].supplier_id) for item in mine):
            return "supplier_paused"
        if any((line.id, item) in self.refused for item in mine) and line.chosen_by != "person":
            return "refused_before"
        if lane.state == LaneState.shut or (lane.ends and lane.ends <= self.context.now):
            return "no_lane"
        if set(self.bought.get(line.id, {})) - mine:
            return "part_bought"
        return None if lane.begun else "not_yet"


def room_message(context: Context, accounts: Iterable[BuyingAccount], supplier: Supplier) -> str:
    """What is left today of a supplier's limits, and when they begin anew."""
    parts = []
    for one in accounts:
        if one.supplier_id != supplier.id:
            continue
        money, orders = room_of(context, one)
        left = []
        if money is not None and one.cap_money is not None:
            left.append(f"{show(money, supplier.currency)} left of {show(one.cap_money, supplier.currency)}")
        if orders is not None and one.cap_orders is not None:
            left.append(f"{orders} of {one.cap_orders} orders left")
        if left:
            parts.append(f"{' and '.join(left)} today at {one.name}, {supplier.name}")
    return "; ".join(parts) or supplier.name


def room_of(context: Context, account: BuyingAccount) -> tuple[int | None, int | None]:
    """What may still be bought by an account today: money in its supplier's minor units, and purchase orders; None = any."""
    if account.cap_money is None and account.cap_orders is None:
        return None, None
    begun = house_days.begin(context, house_days.today(context))
    spent, count = context.session.execute(
        select(func.coalesce(func.sum(PurchaseOrder.goods + PurchaseOrder.shipping + PurchaseOrder.handling), 0), func.count()).where(
            PurchaseOrder.account_id == account.id, PurchaseOrder.made_at >= begun, PurchaseOrder.state.in_(LIVE)
        )
    ).one()
    money = None if account.cap_money is None else max(account.cap_money - int(spent), 0)
    return money, None if account.cap_orders is None else max(account.cap_orders - int(count), 0)
