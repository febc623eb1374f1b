"""Whatever suppliers, buyers, carriers and people say in whatever order: nothing breaks, nothing is bought twice or for nobody."""

from __future__ import annotations

import random
from collections import Counter
from collections.abc import Callable
from contextlib import suppress
from dataclasses import replace
from datetime import datetime
from fractions import Fraction
from typing import Any

import pytest
from sqlalchemy import select

from amber_lane.connectors.protocols import CarrierWord, PurchaseAnswer, StoreOrder, StoreOrderLine, Tracking
from amber_lane.core.ids import make_s10
from amber_lane.data.lanes import Lane
from amber_lane.data.orders import Order, OrderLine, PurchaseLine, PurchaseOrder
from amber_lane.data.outbox import AuditEntry, Outbox
from amber_lane.data.setup import Origin, Service, Store, Supplier
from amber_lane.data.source import Item
from amber_lane.data.transit import Parcel, PassedOn
from amber_lane.services.activity import undo
from amber_lane.services.base.context import Context
from amber_lane.services.base.errors import UseCaseError
from amber_lane.services.fulfilment import delivery_exceptions, parcel_tracking
from amber_lane.services.mapping import lanes
from amber_lane.services.orders import cancellations, orders
from amber_lane.services.pricing.drafts import PolicyChange
from amber_lane.services.purchasing import purchase_orders, supplier_answers

from ...small import BUYER, Small

# S-6 is a kit of two suppliers.
GOODS = ("S-1", "S-2", "S-3", "S-6")


def widen(small: Small) -> None:
    def do(context: Context) -> None:
        s = context.session
        s.add(Supplier(id=2, code="TWO", name="Second House", kind="wholesale_api", country="GB", currency="GBP"))
        s.flush()
        s.add(Origin(id=2, supplier_id=2, code="two", name="Two", country="GB", handling=30, holidays=[]))
        s.flush()
        s.add(Service(origin_id=2, code="slow", name="slow", country="GB", first=100, following=40, days_low=2, days_high=3))
        for n in (1, 2, 6):
            s.add(Item(id=20 + n, supplier_id=2, origin_id=2, number=f"T-{n}", title=f"Item {n}", currency="GBP", cost=n * 110, stock=9))
        s.flush()
        for n in (1, 2):
            lanes.open_lane(context, n, [lanes.LaneItem(20 + n, Fraction(1))], use=1)
        alone = s.scalars(select(Lane).where(Lane.sku_id == 6)).one()
        lanes.close_lane(context, alone.id, alone.version, "it is a kit")
        lanes.open_lane(context, 6, [lanes.LaneItem(6, Fraction(1)), lanes.LaneItem(26, Fraction(1))])
        PolicyChange("house", "", {"send": "once"}).keep(context)

    small.write(do)


class Life:
    """Things that may happen, each by its name; luck chooses."""

    def __init__(self, small: Small, luck: random.Random) -> None:
        self.small, self.luck, self.n, self.serial = small, luck, 0, 100
        # When the store first told that an order was cancelled.
        self.cancelled: dict[str, datetime] = {}

    def happen(self) -> None:
        doing = [self.order, self.order, self.again, self.cancel, self.send, self.answer, self.answer, self.answer, self.answer]
        doing += [
            self.recalled,
            self.number,
            self.carrier,
            self.carrier,
            self.settle,
            self.undo,
            self.dear,
            self.help,
            self.wait,
            self.sent,
        ]
        what: Callable[[Context], Any] = self.luck.choice(doing)
        with suppress(UseCaseError):
            self.small.write(what)
        self.small.later(hours=self.luck.choice((0, 1, 30)))

    def _given(self, number: str, **more: Any) -> StoreOrder:
        lines = [StoreOrderLine(k, self.luck.choice(GOODS), self.luck.randint(1, 3), 2500, "") for k in range(1, self.luck.randint(2, 4))]
        return StoreOrder(number, self.small.clock.now(), "GBP", more.pop("buyer", BUYER), lines, None, **more)

    def _page(self, context: Context, given: StoreOrder) -> None:
        orders.take_page(context, context.get(Store, 1, "store"), [given], "x")

    def order(self, context: Context) -> None:
        self.n += 1
        self._page(context, self._given(f"N{self.n}"))

    def _some(self, context: Context, query: Any) -> Any:
        rows = context.session.scalars(query).all()
        return self.luck.choice(rows) if rows else None

    def again(self, context: Context) -> None:
        if one := self._some(context, select(Order)):
            self._page(context, self._given(one.number, buyer=replace(BUYER, address_1=f"{self.luck.randint(1, 9)} Row")))

    def cancel(self, context: Context) -> None:
        if one := self._some(context, select(Order)):
            self._page(context, self._given(one.number, cancelled=True))
            self.cancelled.setdefault(one.number, context.now)

    def send(self, context: Context) -> None:
        purchase_orders.send(context, purchase_orders.due_orders(context))

    def answer(self, context: Context) -> None:
        if one := self._some(context, select(PurchaseOrder)):
            state = self.luck.choice(("received", "accepted", "accepted", "refused", "shipped"))
            lacking = ((self.luck.randint(1, 3), "gone"),) if self.luck.random() < 0.3 else ()
            billed = self.luck.choice((None, one.goods + one.shipping + one.handling, 9000))
            told = PurchaseAnswer(one.reference, "T-1", state, "sold out", billed, None, lacking)
            if state == "shipped" or self.luck.random() < 0.1:
                told = replace(told, state="shipped", tracking=self._tracking())
            supplier_answers.take_answer(context, told, corrects=self.luck.random() < 0.5)

    def _tracking(self) -> Tracking:
        self.serial += self.luck.choice((0, 1, 1, 1))
        return Tracking(make_s10("SW", self.serial, "GB"), "Hill Post")

    def recalled(self, context: Context) -> None:
        row = self._some(context, select(Outbox).where(Outbox.kind == "recall"))
        if row is not None and self.luck.random() < 0.5:
            cancellations.not_let_go(context, row.body["reference"], "it has left")
        elif row is not None:
            cancellations.take_recall(context, PurchaseAnswer(row.body["reference"], "", "withdrawn", "", None, None))

    def number(self, context: Context) -> None:
        if one := self._some(context, select(PurchaseOrder)):
            tracking = self._tracking()
            parcel_tracking.enter_tracking(context, one.reference, tracking.number, tracking.carrier)

    def carrier(self, context: Context) -> None:
        if one := self._some(context, select(Parcel)):
            kind = self.luck.choice(("label", "collected", "moving", "delivered", "returned"))
            parcel_tracking.take_words(
                context, 1, {one.number: [CarrierWord(context.now, kind, kind, self.luck.choice(("", "Hull HU3 1AB")))]}
            )

    def settle(self, context: Context) -> None:
        if one := self._some(context, select(Order).where(Order.wants != "")):
            cancellations.close_wish(context, one.id)

    def undo(self, context: Context) -> None:
        if act := self._some(context, select(AuditEntry).where(AuditEntry.undo == "open", AuditEntry.kind.like("order.%"))):
            undo.undo(context, act.id)

    def dear(self, context: Context) -> None:
        for one, _ in cancellations.dearer(context)[:1]:
            self.luck.choice((cancellations.take_bill, cancellations.ask_dearer_back))(context, one.id)

    def help(self, context: Context) -> None:
        for one in delivery_exceptions.troubled(context)[:1]:
            step = self.luck.choice(delivery_exceptions.steps(context, one.parcel.id) or [None])
            if step is not None:
                delivery_exceptions.take_step(context, one.parcel.id, step.key)

    def wait(self, context: Context) -> None:
        if one := self._some(context, select(Order)):
            self.luck.choice(
                (
                    lambda: purchase_orders.wait(context, [one.id]),
                    lambda: orders.cancel(context, one.id),
                    lambda: orders.allow(context, one.id),
                )
            )()

    def sent(self, context: Context) -> None:
        """The worker had a change in hand: it has gone out."""
        if row := self._some(context, select(Outbox).where(Outbox.state == "waiting", Outbox.kind == "purchase")):
            row.state = self.luck.choice(("done", "done", "dead"))
            row.tries = 1


def holds_true(small: Small, life: Life) -> None:
    parts = small.all(select(PurchaseLine))
    lines = {line.id: line for line in small.all(select(OrderLine))}
    known = {row.id: row for row in small.all(select(PurchaseOrder))}
    live = Counter((row.order_line_id, row.item_id) for row in parts if row.live)
    assert not live or max(live.values()) == 1, "one item bought twice for a line"
    for row in parts:
        state = known[row.purchase_id].state
        assert not (row.live and state in ("refused", "stopped", "withdrawn")), (row.id, state)
    for line in lines.values():
        mine = [known[row.purchase_id] for row in parts if row.order_line_id == line.id and row.live]
        if line.state in ("bought", "with_supplier", "on_the_road", "arrived"):
            assert mine, (line.id, line.state)
        if line.state == "on_the_road":
            assert {one.state for one in mine} == {"shipped"}
    numbers = {row.id: row.number for row in small.all(select(Order))}
    for one in known.values():
        asked = life.cancelled.get(numbers[one.order_id])
        if asked is not None:
            assert one.made_at <= asked, f"{one.reference} was bought for nobody"
    passed = Counter((row.parcel_id, row.order_id) for row in small.all(select(PassedOn)))
    assert not passed or max(passed.values()) == 1


@pytest.mark.parametrize("seed", range(6))
def test_whatever_is_said_in_whatever_order_nothing_breaks_and_nothing_is_bought_twice(small: Small, seed: int) -> None:
    widen(small)
    life = Life(small, random.Random(f"life-{seed}"))
    for _ in range(80):
        life.happen()
    holds_true(small, life)
