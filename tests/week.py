"""A week in the practice world at speed, with faults on: what was shown, what was true, and what stale prices cost."""

from __future__ import annotations

import random
from bisect import bisect_right
from dataclasses import dataclass, field
from datetime import UTC, datetime
from typing import Any

from sqlalchemy import select

from amber_lane.data.base import to_ms
from amber_lane.data.lanes import Lane, LanePart
from amber_lane.data.shelf import Listing, Sku
from amber_lane.data.source import Item
from amber_lane.data.watch import Sighting
from amber_lane.services.outbox import queue
from amber_lane.services.pricing.policy import POLICY_DEFAULTS

from .business import Business

# Dial -> how far it is turned, in turn; the rest of the time the world is calm.
FAULTS = (
    ("wholesale", "penny", 0.12),
    ("wholesale", "zero_stock", 1),
    ("wholesale", "frozen", 1),
    ("wholesale", "errors", 0.4),
    ("wholesale", "malformed", 0.4),
    ("shop", "lost_answer", 0.15),
    ("shop", "errors", 0.3),
)
PACE = 0.5


@dataclass
class Line:
    """One listing: what stands behind it, what was shown and what was true, as steps over time (ms)."""

    sku: str
    number: str
    fee: float
    sending: int
    shown: list[tuple[int, int, int, bool]] = field(default_factory=list)
    true: list[tuple[int, int, int]] = field(default_factory=list)


@dataclass
class Week:
    lines: list[Line]
    begun: int
    ended: int
    # Times at which the house saw the end of an item, by number of the item.
    ends: dict[str, list[int]] = field(default_factory=dict)
    # Costs that were doubted, refused or held with their sweep, and costs that were believed, by number of the item.
    doubted: dict[str, set[int]] = field(default_factory=dict)
    believed: dict[str, set[int]] = field(default_factory=dict)

    def lost(self, watched: bool) -> int:
        """Money that stale prices and stock cost at half a sale a day for each listing: by what was shown, or by what
        stood there at the start all the time."""
        total = 0.0
        for line in self.lines:
            steps = line.shown if watched else line.shown[:1]
            times = sorted({self.begun, *(t for t, *_ in steps), *(t for t, *_ in line.true)})
            for at, until in zip(times, [*times[1:], self.ended], strict=True):
                if at < self.begun or until <= at:
                    continue
                price, quantity, live = _at(steps, at)
                cost, stock = _at(line.true, at)
                if not live or quantity < 1:
                    continue
                kept = price - round(price * line.fee) - cost - line.sending
                each = POLICY_DEFAULTS["refund_cost"] if stock < 1 else max(-kept, 0)
                total += each * PACE * (until - at) / 86_400_000
        return round(total)


def _at(steps: list[Any], at: int) -> Any:
    place = max(bisect_right([one[0] for one in steps], at) - 1, 0)
    return steps[place][1:]


def live(business: Business, days: float = 7, minutes: int = 30, seed: int = 5) -> Week:
    """Let the days pass: costs and stocks move, some run out and some flicker, and one fault after another is turned on."""
    world, luck = business.world, random.Random(seed)
    with business.app_state.db.reading() as s:
        rows = s.execute(
            select(Sku.code, Item.number, Item.cost, Item.stock)
            .join(Lane, Lane.sku_id == Sku.id)
            .join(LanePart, LanePart.lane_id == Lane.id)
            .join(Item, Item.id == LanePart.item_id)
            .join(Listing, Listing.sku_id == Sku.id)
            .where(Lane.closed_at.is_(None), Listing.state == "live")
            .order_by(Sku.code)
        ).all()
        landed = dict(s.execute(select(Sku.code, Listing.landed).join(Sku, Sku.id == Listing.sku_id)).tuples().all())
    now = {number: [cost, stock] for _, number, cost, stock in rows}
    base = {number: cost for number, (cost, _) in now.items()}
    lines = [Line(code, number, 0.0, int(landed[code]) - cost) for code, number, cost, _ in rows]
    begun = to_ms(business.app_state.clock.now())
    week = Week(lines, begun, begun)
    for line in lines:
        line.true.append((begun, *now[line.number]))
    fault: tuple[str, str, float] | None = None
    for lap in range(int(days * 1440 / minutes)):
        if lap % 12 == 0 and fault:
            world.dial(fault[0], fault[1], 0)
            fault = None
        elif lap % 12 == 6:
            fault = FAULTS[lap // 12 % len(FAULTS)]
            world.dial(*fault)
        for number in luck.sample(sorted(now), 2):
            cost, stock = now[number]
            turn = luck.random()
            if turn < 0.45:
                cost = max(cost * luck.choice((92, 95, 97, 104, 108, 112)) // 100, base[number] * 6 // 10)
            elif turn < 0.7:
                stock = 0 if stock else luck.choice((1, 2, 4, 60))
            else:
                stock = luck.choice((5, 30, 90))
            now[number] = [cost, stock]
            world.post("items", number=number, cost=cost, stock=stock)
            for line in lines:
                if line.number == number:
                    line.true.append((to_ms(business.app_state.clock.now()), cost, stock))
        business.on(minutes)
        business.app_state.worker.once()
        # What a failing store did not take is tried again within the next minutes, as it is by the worker's beat.
        for _ in range(12):
            business.settle()
            with business.app_state.db.reading() as s:
                if not queue.waiting(business.context(s)):
                    break
            business.on(0.5)
    world.calm()
    for _ in range(4):
        business.round(minutes)
        business.settle()
    week.ended = to_ms(business.app_state.clock.now())
    for line in lines:
        for one in world.shown(line.sku):
            line.shown.append((one["at"], one["price"], one["quantity"], one["state"] == "live"))
        line.shown.sort(key=lambda step: step[0])
        before = [step for step in line.shown if step[0] <= begun]
        line.shown = [*before[-1:], *(step for step in line.shown if step[0] > begun)]
    with business.app_state.db.reading() as s:
        for number, cost, stock, verdict, at in s.execute(
            select(Item.number, Sighting.cost, Sighting.stock, Sighting.verdict, Sighting.at)
            .join(Item, Item.id == Sighting.item_id)
            .where(Sighting.at >= datetime.fromtimestamp(begun / 1000, UTC))
            .order_by(Sighting.id)
        ):
            kind = week.believed if verdict in ("good", "gone") else week.doubted
            kind.setdefault(number, set()).add(cost)
            if verdict in ("good", "gone") and stock == 0:
                week.ends.setdefault(number, []).append(to_ms(at))
    return week
