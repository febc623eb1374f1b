"""Never twice, never lost: the worker is killed at every point around a call, and all faults are turned on.

What counts is the practice world's own record of what really happened.
"""

from __future__ import annotations

import os
import random
import signal
from collections import Counter

import httpx
from sqlalchemy import event, select
from sqlalchemy.orm import Session

from amber_lane.connectors.smtp_mail import SmtpMail
from amber_lane.data.orders import Order, OrderLine, PurchaseLine, PurchaseOrder
from amber_lane.data.outbox import Outbox
from amber_lane.data.shelf import Listing
from amber_lane.data.transit import Parcel
from amber_lane.services import shelf, today
from amber_lane.services.drafts import PolicyChange

from ..business import Business


class Killer:
    """Counts the points at which a process may die - before and after every call and every commit - and dies at one."""

    def __init__(self, at: int) -> None:
        self.at, self.seen = at, 0

    def point(self) -> None:
        self.seen += 1
        if self.seen == self.at:
            os.kill(os.getpid(), signal.SIGKILL)

    def arm(self) -> None:
        send, point = httpx.Client.send, self.point

        def watched(client, *args, **kwargs):
            point()
            try:
                return send(client, *args, **kwargs)
            finally:
                point()

        httpx.Client.send = watched
        event.listen(Session, "before_commit", lambda session: point())
        event.listen(Session, "after_commit", lambda session: point())
        mail = SmtpMail.send
        SmtpMail.send = lambda self, message: (point(), mail(self, message), point())


def work(business: Business) -> None:
    """A round of all that talks to the outside."""
    worker = business.house.worker
    worker.reader.orders(1)
    worker.send_due()
    worker.deliver()
    worker.reader.answers(1)
    worker.deliver()
    worker.reader.parcels(1)


def victim(business: Business, at: int) -> bool:
    """Work in a process that is killed at point `at`. True when it lived to the end."""
    pid = os.fork()
    if pid == 0:
        try:
            own = Business(business.world, business.folder, joined=False)
            Killer(at).arm()
            work(own)
        finally:
            os._exit(0)
    _, status = os.waitpid(pid, 0)
    return not os.WIFSIGNALED(status)


def survive(business: Business) -> None:
    """The next worker: takes over where the dead one stood, and asks before it sends anything again."""
    delivery = business.house.worker.delivery
    delivery.settle = 0.0
    delivery.recover()
    work(business)
    for number in list(delivery.not_before):
        delivery.not_before[number] = 0
    work(business)


def check(business: Business) -> None:
    """The world's record against ours."""
    record = business.world.record()
    mine = {row.reference: row for row in business.all(select(PurchaseOrder))}
    bought = Counter(one["reference"] for one in record["purchases"] if one["reference"] in mine)
    assert bought and max(bought.values()) == 1, bought.most_common(3)
    orders = {row.number for row in business.all(select(Order))}
    passed = Counter((one["number"], one["tracking_number"]) for one in record["fulfilments"] if one["number"] in orders)
    assert not passed or max(passed.values()) == 1, passed.most_common(3)
    keys = {row.key for row in business.all(select(Outbox).where(Outbox.kind == "mail"))}
    mails = {name: n for name, n in record["mails"].items() if name in keys}
    assert not mails or max(mails.values()) == 1, mails
    for one in record["purchases"]:
        if one["reference"] in mine and mine[one["reference"]].billed is not None:
            assert mine[one["reference"]].billed == one["billed"]


def test_killed_at_every_point_everything_happens_once(business):
    with business.house.db.writing() as s:
        PolicyChange("house", "", {"send": "once"}).keep(business.desk(s))
    skus = [business.laned(n)[0] for n in range(4)]
    at, lived = 1, False
    while not lived:
        business.world.post("buy", sku=skus[at % 4], quantity=1)
        if at % 3 == 0:
            # A parcel leaves, so that a number and a mail are under way as well.
            business.on(60 * 24)
        with business.house.db.writing() as s:
            listing = s.scalars(select(Listing).join(shelf.Sku).where(shelf.Sku.code == skus[0])).one()
            shelf.want(business.desk(s), listing, quantity=at % 7 + 1)
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
    with business.house.db.writing() as s:
        PolicyChange("house", "", {"send": "once"}).keep(business.desk(s))
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
    delivery = business.house.worker.delivery
    delivery.settle = 0.0
    business.house.reader.rest = lambda seconds: None
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
        assert line.state in ("on_the_road", "arrived", "refused") or line.why in ("least_profit", "no_stock"), (line.state, line.why)


def test_nothing_known_to_be_empty_stays_on_sale(business):
    """While the store fails, the pause is tried again and again; a minute after it is back the listing is off."""
    sku, item = business.laned()
    business.world.dial("shop", "errors", 1)
    business.world.post("items", number=item.number, stock=0)
    for _ in range(8):
        business.round(1)
    assert business.listing(sku).state == "paused" and business.world.shown(sku)[-1]["state"] == "live"
    with business.house.db.reading() as s:
        assert any(one.kind == "Oversell" for one in today.troubles(business.desk(s)))
    business.world.calm()
    for _ in range(6):
        business.round(1)
    assert business.world.shown(sku)[-1]["state"] == "paused"


def test_a_week_of_orders_with_every_fault_buyers_who_change_their_minds_and_a_worker_that_dies_again_and_again(business):
    """What counts at its end: every line is bought once or rightly not at all, and the money is the same on both sides."""
    world, luck = business.world, random.Random(11)
    with business.house.db.writing() as s:
        PolicyChange("house", "", {"send": "once"}).keep(business.desk(s))
    for service in ("shop", "wholesale", "post"):
        for dial, value in (("errors", 0.1), ("lost_answer", 0.06), ("malformed", 0.06)):
            world.dial(service, dial, value)
    for service in ("shop", "post"):
        world.dial(service, "duplicates", 0.5)
        world.dial(service, "out_of_order", 0.5)
    world.dial("mail", "errors", 0.3)
    business.house.reader.rest = lambda seconds: None
    bought: list[str] = []
    for n in range(14):
        sku, item = business.laned(n % 4)
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
        business.house.worker.once()
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
            assert line.state in ("cancelled", "held", "refused") and not mine, (line.state, line.why)
    for one in purchases.values():
        there = theirs.get(one.reference)
        assert (there is None) == (one.state in ("stopped", "waiting")), (one.reference, one.state, there)
        if there and one.state in ("accepted", "shipped"):
            assert one.billed == there["billed"], "to the penny"
    # Whoever gave a number has passed it on to the store, once, and no number goes about that nobody gave.
    given = {one["tracking_number"] for one in record["purchases"] if one["tracking_number"]}
    passed = [one["tracking_number"] for one in record["fulfilments"] if one["number"] in {row.number for row in orders.values()}]
    assert set(passed) <= given and len(passed) == len(set(passed)) == len({row.number for row in business.all(select(Parcel))})
