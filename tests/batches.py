"""Batches of waiting orders made from a seed, for the tests and the benchmarks of routing."""

from __future__ import annotations

import random
from collections.abc import Mapping, Sequence
from datetime import date, timedelta

from amber_lane.core.cost import ParcelTerms
from amber_lane.core.route import Cap, LaneChoice, Leg, LineToFill, OrderToFill, way_of

TODAY = date(2026, 3, 12)
SUPPLIERS = 6


def batch(n: int, seed: int, scarce: bool, skus: int | None = None, most_lines: int = 4) -> tuple[list[OrderToFill], dict[int, Cap]]:
    """n orders over some SKUs with one to four lanes each. scarce: little stock of most things, and caps on what may be spent."""
    luck = random.Random(seed)
    count = skus or max(n // 3, 3)
    origins = {(s, o): _terms(luck) for s in range(SUPPLIERS) for o in range(2)}
    goods = [_lanes(luck, origins, sku, scarce) for sku in range(count)]
    orders = []
    for number in range(n):
        days = luck.choice((5, 8, 10, 14))
        lines = []
        for line in range(luck.choice((1,) * 5 + (2,) * 3 + (3, most_lines))):
            base, lanes = goods[min(int(luck.expovariate(6 / count)), count - 1)]
            quantity = luck.choice((1, 1, 1, 1, 2, 2, 3))
            lines.append(LineToFill(number * 100 + line, quantity, int(base * quantity * luck.uniform(1.0, 1.7)) + 300, tuple(lanes)))
        least, rate = luck.choice((-100, 0, 150)), luck.choice((1_000_000,) * 4 + (860_000,))
        orders.append(OrderToFill(number, tuple(lines), TODAY + timedelta(days=days), least, rate))
    caps = {}
    if scarce:
        caps = {0: Cap(money=n * 350), 1: Cap(money=n * 200, orders=max(n // 5, 1)), 2: Cap(orders=max(n // 12, 1))}
    return orders, caps


def _terms(luck: random.Random) -> tuple[ParcelTerms, int]:
    bands = ((2000, 280, 90), (20000, 520, 150)) if luck.random() < 0.3 else ()
    over = luck.choice((None, 2500, 4000))
    return ParcelTerms(luck.choice((0, 30, 60)), luck.randrange(200, 560), luck.randrange(60, 220), over, bands), luck.randrange(2, 10)


def _lanes(
    luck: random.Random, origins: Mapping[tuple[int, int], tuple[ParcelTerms, int]], sku: int, scarce: bool
) -> tuple[int, list[LaneChoice]]:
    base = int(luck.lognormvariate(7.3, 0.8))
    lanes = []
    for supplier in luck.sample(range(SUPPLIERS), luck.randrange(1, 5)):
        place = (supplier, luck.randrange(2))
        parcel, days = origins[place]
        num, den = luck.choice(((1, 1), (1, 1), (1, 1), (1, 5), (2, 1)))
        stock = luck.choice((0, 1, 2, 3, 5, 8)) if scarce or luck.random() < 0.1 else luck.randrange(20, 400)
        part = (sku * SUPPLIERS + supplier, num, den, max(int(base * den / num * luck.uniform(0.5, 0.9)), 1), stock)
        leg = Leg(supplier, place[1], (part,), parcel, luck.randrange(100, 1500))
        lanes.append(LaneChoice(sku * 10 + supplier, (leg,), TODAY + timedelta(days=days), risk=luck.randrange(0, 90)))
    return base, lanes


def worth(orders: Sequence[OrderToFill], chosen: Sequence[tuple[int, ...] | None], cancel_cost: int) -> int:
    """What a choice earns, by the core's own sums."""
    return sum(
        order.home(way_of(order, picked).profit) + cancel_cost for order, picked in zip(orders, chosen, strict=True) if picked is not None
    )
