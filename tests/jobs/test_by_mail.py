"""A supplier who works by mail: orders out and answers in, with a mail house that fails and a worker that dies again and again."""

from __future__ import annotations

import random
from collections import Counter

import pytest
from sqlalchemy import select

from amber_lane.data.lanes import Lane
from amber_lane.data.orders import Order, OrderLine, PurchaseOrder
from amber_lane.data.setup import Carrier, Letter, Link, Origin, Service, Store, Supplier
from amber_lane.data.source import Item
from amber_lane.services.mapping import lanes
from amber_lane.services.orders import orders
from amber_lane.services.partners import connections
from amber_lane.services.pricing.drafts import PolicyChange
from amber_lane.services.purchasing import order_settings

from ..business import Business
from ..killing import check, survive, victim, work


def join(business: Business, form: str) -> list[str]:
    """An office that takes orders by mail has the best lanes of four SKUs. Returns the SKUs."""
    address = f"pop://127.0.0.1:{business.world.mail_port + 1}"
    skus = [business.laned(n)[0] for n in range(4)]
    with business.app_state.db.writing() as s:
        context = business.context(s)
        given = connections.Join("inbox", "pop", "Answers", address, "duskdial:practice-letters")
        connections.join_partner(
            context, business.app_state.connectors, given, connections.ask_account(business.app_state.connectors, given)
        )
        s.add(Supplier(id=7, code="OFF", name="The office", kind="sheet", country="PT", currency="GBP"))
        s.flush()
        s.add(Origin(id=70, supplier_id=7, code="porto", name="Porto", country="PT", holidays=[]))
        s.flush()
        s.add(Service(origin_id=70, code="air", name="air", country="GB", first=10, following=0, days_low=1, days_high=1))
        road = {"parcel_note": "", "phone_rule": "none", "order_form": form, "order_road": "mail", "mail": "orders@meridian-buying.example"}
        order_settings.save(context, "supplier", 7, None, road)
        for n, code in enumerate(skus):
            s.add(Item(id=9000 + n, supplier_id=7, origin_id=70, number=f"MB-{n}", title="Lantern", currency="GBP", cost=10, stock=90))
            s.flush()
            sku = s.scalars(select(Lane.sku_id).where(Lane.sku_code == code)).first()
            assert sku is not None
            lanes.open_lane(context, sku, [lanes.LaneItem(9000 + n, lanes.Fraction(1))], use=1)
        PolicyChange("house", "", {"send": "once"}).keep(context)
    return skus


@pytest.mark.parametrize("form", ["sheet", "ubl"])
def test_orders_go_by_mail_once_and_their_answers_come_back_whatever_fails(business: Business, form: str) -> None:
    world, luck = business.world, random.Random(f"mail-{form}")
    skus = join(business, form)
    world.post("facts", name="office_refuses", value=0.25)
    world.dial("mail", "errors", 0.25)
    world.dial("mail", "malformed", 0.25)
    numbers = []
    for n in range(5):
        numbers += [world.post("buy", sku=skus[(n + k) % 4], quantity=1 + k, country="GB")["number"] for k in range(2)]
        victim(business, luck.randint(1, 12))
        survive(business)
        business.on(60 * 5)
    world.calm()
    for _ in range(12):
        business.on(60 * 6)
        work(business)
        business.app_state.worker.plan()
        if not set(business.all(select(OrderLine.state))) & {"new", "ready", "bought", "refused", "with_supplier"}:
            break
    check(business)
    theirs = {one["reference"]: one for one in world.record()["purchases"]}
    ours = business.all(select(PurchaseOrder))
    office = Counter(one.state for one in ours if one.supplier_id == 7)
    assert office["shipped"] and office["refused"] and set(office) == {"shipped", "refused"}, office
    assert all(theirs[one.reference]["state"] == one.state for one in ours)
    assert {row.number for row in business.all(select(Order))} == set(numbers)
    assert set(business.all(select(OrderLine.state))) <= {"on_the_road", "arrived"}, "what the office refused came from elsewhere"
    passed = {one["tracking_number"] for one in world.record()["fulfilments"] if one["number"] in numbers}
    assert {one["tracking_number"] for one in theirs.values() if one["reference"] in {row.reference for row in ours}} - {None} == passed
    # The world's mailbox is that of other tests too.
    mine = [row for row in business.all(select(Letter)) if any(one.reference in row.message + row.subject for one in ours)]
    assert mine and not [row.message for row in mine if row.needs and "wrong check digit" not in row.message], "a slip of the pen is told"


def test_what_breaks_our_reading_of_one_partner_is_seen_and_holds_up_nobody(business: Business, monkeypatch: pytest.MonkeyPatch) -> None:
    number = business.world.post("buy", sku=business.laned(0)[0], quantity=1, country="GB")["number"]
    reader, take_page = business.app_state.reader, orders.take_page
    monkeypatch.setattr(orders, "take_page", lambda *given: 1 / 0)
    with pytest.raises(ZeroDivisionError):
        reader.orders(1)
    (link,) = [one for one in business.all(select(Link)) if (one.owner, one.owner_id) == ("store", 1)]
    assert link.state == "failing" and "could not be taken in" in link.message
    with business.app_state.db.writing() as s:
        s.get(Store, 1).next_read = None
    business.app_state.worker.read()
    assert business.all(select(Carrier.next_ask))[0] is not None, "the carrier was asked all the same"
    assert not business.all(select(Order)) and business.all(select(Store.next_read))[0] is not None
    monkeypatch.setattr(orders, "take_page", take_page)
    reader.orders(1)
    assert business.all(select(Order.number)) == [number], "and nothing was lost"
