"""A week of orders with every fault on, buyers who change their minds, and a worker that dies again and again."""

from __future__ import annotations

import random
from collections import Counter

from sqlalchemy import select

from amber_lane.data.orders import Order, OrderLine, PurchaseLine, PurchaseOrder
from amber_lane.data.outbox import Outbox
from amber_lane.data.source import Item
from amber_lane.data.transit import Parcel
from amber_lane.services.pricing.drafts import PolicyChange

from ..business import Business
from ..killing import check, survive, victim, work


def test_a_week_of_orders_with_every_fault_buyers_who_change_their_minds_and_a_worker_that_dies_again_and_again(business):
    """What counts at its end: every line is bought once or rightly not at all, and the money is the same on both sides."""
    world, luck = business.world, random.Random(11)
    with business.app_state.db.writing() as s:
        PolicyChange("house", "", {"send": "once"}).keep(business.context(s))
    for service in ("shop", "wholesale", "post"):
        for dial, value in (("errors", 0.1), ("lost_answer", 0.06), ("malformed", 0.06)):
            world.dial(service, dial, value)
    for service in ("shop", "post"):
        world.dial(service, "duplicates", 0.5)
        world.dial(service, "out_of_order", 0.5)
    world.dial("mail", "errors", 0.3)
    bought: list[str] = []
    for n in range(11):
        sku, item = on_sale(business, n % 4)
        bought += [world.post("buy", sku=sku, quantity=1 + (n + k) % 2)["number"] for k in range(2)]
        work(business)
        if n % 4 == 1:
            # Somebody else was quicker: what was just bought of it is refused.
            world.post("items", number=item.number, stock=0)
        if n % 3 == 2:
            world.client.post("/world/regret", json={"number": luck.choice(bought[-4:]), "cancel": True})
            work(business)
        if n % 5 == 3:
            world.client.post("/world/regret", json={"number": bought[-1], "buyer": {"address_1": f"{n} Other Row"}})
        business.on(60 * 12)
        victim(business, luck.randint(1, 14))
        survive(business)
        business.app_state.worker.once()
    world.calm()
    for _ in range(80):
        business.round(60)
        busy = business.all(select(Outbox.id).where(Outbox.state.in_(("waiting", "claimed", "unknown"))))
        states = {line.state for line in business.all(select(OrderLine))}
        if not busy and not states & {"new", "ready", "bought"}:
            break
    check(business)
    kinds = Counter(row.state for row in business.all(select(PurchaseOrder)))
    assert kinds["shipped"] and kinds["refused"] and kinds["withdrawn"], kinds
    _adds_up(business, bought)


def on_sale(business: Business, place: int) -> tuple[str, Item]:
    """A SKU that can be bought now. A feed that fell silent by its faults pauses all that hangs on it, until it was read again."""
    for _ in range(40):
        try:
            return business.laned(place)
        except IndexError:
            business.round(15)
    return business.laned(place)


def _adds_up(business: Business, numbers: list[str]) -> None:
    record = business.world.record()
    theirs = {one["reference"]: one for one in record["purchases"]}
    orders = {row.id: row for row in business.all(select(Order))}
    assert {row.number for row in orders.values()} == set(numbers)
    parts = business.all(select(PurchaseLine))
    purchases = {row.id: row for row in business.all(select(PurchaseOrder))}
    live = Counter(row.order_line_id for row in parts if row.live)
    assert not live or max(live.values()) == 1
    for line in business.all(select(OrderLine)):
        mine = [purchases[row.purchase_id] for row in parts if row.order_line_id == line.id and row.live]
        if line.state in ("with_supplier", "on_the_road", "arrived"):
            (one,) = mine
            assert theirs[one.reference]["state"] in ("accepted", "shipped"), (one.reference, theirs[one.reference]["state"])
        else:
            # Cancelled, held or refused everywhere: nothing of it may be on its way.
            assert line.state in ("cancelled", "held", "refused") and not mine, (line.state, line.reason)
    for one in purchases.values():
        there = theirs.get(one.reference)
        assert (there is None) == (one.state in ("stopped", "waiting")), (one.reference, one.state, there)
        if there and one.state in ("accepted", "shipped"):
            assert one.billed == there["billed"], "to the penny"
    # Whoever gave a number has passed it on to the store, once, and no number goes about that nobody gave.
    given = {one["tracking_number"] for one in record["purchases"] if one["tracking_number"]}
    passed = [one["tracking_number"] for one in record["fulfilments"] if one["number"] in {row.number for row in orders.values()}]
    assert set(passed) <= given and len(passed) == len(set(passed)) == len({row.number for row in business.all(select(Parcel))})
