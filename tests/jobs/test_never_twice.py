"""Never twice, never lost: the worker is killed at every point around a call, and all faults are turned on.

What counts is the practice world's own record of what really happened.
"""

from __future__ import annotations

from sqlalchemy import select

from amber_lane.data.orders import Order, OrderLine
from amber_lane.data.outbox import Outbox
from amber_lane.data.shelf import Listing, Sku
from amber_lane.services.alerts import today
from amber_lane.services.outbox import listing_changes
from amber_lane.services.pricing.drafts import PolicyChange

from ..killing import check, survive, victim


def test_killed_at_every_point_everything_happens_once(business):
    with business.app_state.db.writing() as s:
        PolicyChange("house", "", {"send": "once"}).keep(business.context(s))
    skus = [business.laned(n)[0] for n in range(4)]
    at, lived = 1, False
    while not lived:
        business.world.post("buy", sku=skus[at % 4], quantity=1)
        if at % 3 == 0:
            # A parcel leaves, so that a number and a mail are under way as well.
            business.on(60 * 24)
        with business.app_state.db.writing() as s:
            listing = s.scalars(select(Listing).join(Sku).where(Sku.code == skus[0])).one()
            listing_changes.want(business.context(s), listing, quantity=at % 7 + 1)
        lived = victim(business, at)
        survive(business)
        shown = business.world.shown(skus[0])[-1]
        listing = business.listing(skus[0])
        assert (shown["price"], shown["state"]) == (listing.wanted_price, listing.state)
        at += 1
        assert at < 200
    assert at > 15
    survive(business)
    check(business)
    lines = business.all(select(OrderLine))
    assert len(lines) == at - 1 and {line.state for line in lines} <= {
        "with_supplier",
        "bought",
        "on_the_road",
        "arrived",
        "held",
        "refused",
    }
    assert not business.all(select(Outbox).where(Outbox.state.in_(("waiting", "claimed", "unknown", "dead"))))


def test_with_every_fault_on_nothing_is_lost_or_done_twice(business):
    world = business.world
    with business.app_state.db.writing() as s:
        PolicyChange("house", "", {"send": "once"}).keep(business.context(s))
    for service in ("shop", "wholesale", "post"):
        for dial, value in (("errors", 0.15), ("lost_answer", 0.12), ("malformed", 0.1), ("slow", 0.05)):
            world.dial(service, dial, value)
    for service, dial, value in (
        ("shop", "duplicates", 0.5),
        ("shop", "out_of_order", 0.5),
        ("post", "duplicates", 0.5),
        ("post", "out_of_order", 0.5),
        ("mail", "errors", 0.3),
    ):
        world.dial(service, dial, value)
    delivery = business.app_state.worker.delivery
    delivery.settle = 0.0
    numbers = []
    for n in range(10):
        numbers.append(world.post("buy", sku=business.laned(n % 3)[0], quantity=1)["number"])
        business.round(240)
    world.calm()
    for _ in range(60):
        business.round(60)
        states = {line.state for line in business.all(select(OrderLine))}
        if states <= {"on_the_road", "arrived", "refused", "held"} and not business.all(
            select(Outbox).where(Outbox.state.in_(("waiting", "unknown")))
        ):
            break
    check(business)
    assert {row.number for row in business.all(select(Order))} == set(numbers)
    assert not business.all(select(Outbox).where(Outbox.state.in_(("waiting", "claimed", "unknown"))))
    for line in business.all(select(OrderLine)):
        # While the store did not take our prices it sold at old ones: such an order is rightly held, not bought.
        assert line.state in ("on_the_road", "arrived", "refused") or line.reason in ("least_profit", "no_stock"), (line.state, line.reason)


def test_nothing_known_to_be_empty_stays_on_sale(business):
    """While the store fails, the pause is tried again and again; a minute after it is back the listing is off."""
    sku, item = business.laned()
    business.world.dial("shop", "errors", 1)
    business.world.post("items", number=item.number, stock=0)
    for _ in range(8):
        business.round(1)
    assert business.listing(sku).state == "paused" and business.world.shown(sku)[-1]["state"] == "live"
    with business.app_state.db.reading() as s:
        assert any(one.kind == "Oversell" for one in today.open_alerts(business.context(s)))
    business.world.calm()
    for _ in range(6):
        business.round(1)
    assert business.world.shown(sku)[-1]["state"] == "paused"
