"""What a sold unit costs, in every part of it, down to the price that follows."""

from __future__ import annotations

from fractions import Fraction

import pytest
from sqlalchemy import select

from amber_lane.connectors.protocols import OriginTerms, ServiceTerms
from amber_lane.data.orders import FillPlan, Hold
from amber_lane.data.outbox import AuditEntry
from amber_lane.data.prices import Rate
from amber_lane.data.setup import Service, Supplier
from amber_lane.data.source import Item
from amber_lane.services.activity import undo
from amber_lane.services.alerts import today
from amber_lane.services.base.errors import Invalid
from amber_lane.services.mapping import lanes
from amber_lane.services.partners import partner_terms
from amber_lane.services.pricing import what_if
from amber_lane.services.pricing.drafts import PolicyChange, RateChange, SupplierChange

from ...small import START, Small


def change(small, table, number, **values):
    def do(context):
        row = context.get(table, number, "row")
        for name, value in values.items():
            setattr(row, name, value)

    small.write(do)
    small.respond()


def landed(small, number, store=1):
    return small.listing(number, store).landed


def steps(small, number):
    with small.db.reading() as s:
        _, _, found = what_if.explain_price(small.context(s), small.listing(number).id)
    return {step.name: step.amount for step in found.steps}, found


def test_a_unit_is_goods_with_tax_shipping_and_packing(small):
    assert landed(small, 3) == 300 + 100 + 30
    change(small, Supplier, 1, tax=200_000)
    assert landed(small, 3) == 360 + 130
    change(small, Supplier, 1, discount=100_000)
    # Discount first, then tax; neither touches shipping.
    assert landed(small, 3) == 324 + 130


def test_what_one_sale_makes_us_buy_several_of_costs_what_so_many_cost(small):
    small.write(lambda context: lanes.change_lane(context, small.lane(2).id, small.lane(2).version, units=Fraction(10)))
    assert landed(small, 2) == 2000 + 130
    small.sweep({}, {2: ((50, 150), (10, 180))})
    assert small.all(select(Item.tiers).where(Item.id == 2)) == [[[10, 180], [50, 150]]] and landed(small, 2) == 1800 + 130
    # A tier of next to nothing is not believed; the plain cost, which is dearer, stands.
    small.sweep({}, {2: ((10, 1),)})
    assert small.all(select(Item.tiers).where(Item.id == 2)) == [None] and landed(small, 2) == 2000 + 130


def test_a_tier_counts_for_orders_and_bills_are_planned_with_it(small):
    small.sweep({}, {1: ((10, 60),)})
    few, many = small.order("A", ("S-1", 9, 900)), small.order("B", ("S-1", 10, 900))
    goods = {plan.order_id: plan.goods for plan in small.all(select(FillPlan))}
    assert (goods[few.id], goods[many.id]) == (900, 600)


def test_shipping_goes_by_weight_and_too_heavy_is_said(small):
    bands = [[1000, 100, 40], [3000, 220, 90]]
    change(small, Service, 1, weight_bands=bands)
    change(small, Item, 4, weight_g=900)
    assert landed(small, 4) == 400 + 100 + 30
    change(small, Item, 4, weight_g=1001)
    assert landed(small, 4) == 400 + 220 + 30
    one = small.order("A", ("S-4", 2, 3000))
    plan = next(row for row in small.all(select(FillPlan)) if row.order_id == one.id)
    assert (plan.shipping, plan.reason) == (220 + 90, None)
    heavy = small.order("B", ("S-4", 3, 3000))
    hold = next(row for row in small.all(select(Hold)) if row.order_id == heavy.id)
    assert hold.limit == "too_heavy" and "too heavy for the service" in hold.message
    # A single one that no band takes cannot be sold there at all, and is not priced as if it went for nothing.
    change(small, Item, 4, weight_g=3001)
    row = small.listing(4)
    assert (row.state, row.wanted_quantity, row.landed) == ("paused", 0, 400 + 220 + 30)


def test_a_lane_that_does_not_go_to_the_country_shows_nothing_and_says_so(small):
    def join(context):
        small.second_store(context.session, country="IE")
        small.list_sku(context.session, 1, store=2)

    small.write(join)
    small.respond()
    there = small.listing(1, store=2)
    assert (there.state, there.wanted_quantity) == ("paused", 0) and there.landed == 100 + 250 + 30
    with small.db.reading() as s:
        told = [one.message for one in today.open_alerts(small.context(s)) if one.kind == "Not sent there"]
    assert told == ["Supply House does not send 1 listing to IE by the lane's service"]
    change(small, Supplier, 1, kind="sheet")
    small.write(lambda context: partner_terms.send_to(context, "IE"))
    assert landed(small, 1, 2) == 380
    small.respond()
    assert landed(small, 1, 2) == 230


@pytest.mark.parametrize(("cushion", "expected"), [(None, 117 + 0), (0, 115), (100_000, 127)])
def test_another_currency_is_converted_once_with_the_limits_cushion(small, cushion, expected):
    def join(context):
        small.second_store(context.session, currency="EUR")
        small.list_sku(context.session, 1, store=2, currency="EUR")
        context.session.add(Rate(base="GBP", quote="EUR", day=START, nano=1_150_000_000))
        if cushion is not None:
            PolicyChange("store", "TWO", {"currency_cushion": cushion}).keep(context)

    small.write(join)
    small.respond()
    goods, ship, packing = expected, expected, {117: 35, 115: 35, 127: 38}[expected]
    assert landed(small, 1, 2) == goods + ship + packing
    assert landed(small, 1) == 230


def test_a_rebate_stands_apart_until_the_limits_count_it(small):
    small.write(lambda context: what_if.apply(context, SupplierChange(1, {"discount": 0, "rebate": 50_000, "tax": 0}), {}, None))
    parts, found = steps(small, 6)
    assert landed(small, 6) == 730 and "Expected rebate" not in parts and "£0.30 is expected" in found.apart
    before = small.listing(6).wanted_price
    with small.db.reading() as s:
        seen = what_if.what_if(small.context(s), PolicyChange("house", "", {"rebate_counts": True})).counts
    small.write(lambda context: what_if.apply(context, PolicyChange("house", "", {"rebate_counts": True}), seen, None))
    parts, found = steps(small, 6)
    assert landed(small, 6) == 700 and parts["Expected rebate"] == 30 and not found.apart
    assert small.listing(6).wanted_price <= before
    assert parts["Sells at"] + sum(v for k, v in parts.items() if k not in ("Sells at", "Profit")) == parts["Profit"]


def test_showing_all_of_a_shared_item_is_priced_as_the_risk_that_it_is(small):
    def share(context):
        small.list_sku(context.session, 7)
        lanes.open_lane(context, 7, [lanes.LaneItem(1, Fraction(1))])
        context.get(Item, 1, "item").stock = 6
        context.get(Supplier, 1, "supplier").sweep_minutes = 24 * 60
        context.session.flush()

    small.write(share)
    small.respond()
    assert small.listing(1).wanted_quantity + small.listing(7).wanted_quantity <= 6 and landed(small, 1) == 230
    small.write(lambda context: PolicyChange("house", "", {"share": False, "refund_cost": 500}).keep(context))
    small.respond()
    assert small.listing(1).wanted_quantity == small.listing(7).wanted_quantity == 4
    # Two half sales a day, a look a day: 1 - 2/e = 26.4 % of two sales before the next look, times 5.00.
    assert landed(small, 1) == landed(small, 7) == 230 + 132
    assert steps(small, 1)[0]["Risk of selling one twice"] == -132
    change(small, Item, 1, stock=200)
    assert landed(small, 1) == 230, "with enough for all there is no risk"


def test_without_a_rate_a_listing_is_left_alone_and_the_others_go_on(small):
    def join(context):
        small.second_store(context.session, currency="EUR")
        small.list_sku(context.session, 1, store=2, currency="EUR", price=4321)
        context.session.get(Item, 1).cost = 200

    small.write(join)
    small.respond()
    assert (small.listing(1, 2).wanted_price, small.listing(1, 2).landed) == (4321, 0) and landed(small, 1) == 330
    # Its stock is followed all the same: what is gone is not sold on, and nothing is said of its cost.
    change(small, Item, 1, stock=0)
    row = small.listing(1, 2)
    assert (row.state, row.wanted_quantity, row.wanted_price, row.landed) == ("paused", 0, 4321, 0)
    with small.db.reading() as s:
        assert what_if.explain_price(small.context(s), row.id)[2] is None
    change(small, Item, 1, stock=20)
    for _ in range(3):
        small.sweep({})
    assert (small.listing(1, 2).state, small.listing(1, 2).wanted_price) == ("live", 4321)
    with small.db.reading() as s:
        told = [one for one in today.open_alerts(small.context(s)) if one.kind == "No rate"]
        seen = what_if.what_if(small.context(s), RateChange("GBP", "EUR", 1_100_000_000)).counts
    assert len(told) == 1 and "from GBP to EUR: 1 listing keeps its price" in told[0].message and seen["rise"] + seen["fall"] == 1
    small.write(lambda context: what_if.apply(context, RateChange("GBP", "EUR", 1_100_000_000), seen, None))
    assert landed(small, 1, 2) == 224 + 112 + 34
    small.write(lambda context: undo.undo(context, small.act("rate.change").id))
    assert not small.all(select(Rate))
    with pytest.raises(Invalid, match="unknown currency"):
        small.write(lambda context: RateChange("GBP", "ABC", 1).keep(context))


def test_what_sending_costs_is_followed_and_a_jump_waits_until_it_is_told_again(small: Small) -> None:
    def told(first: int) -> None:
        ways = [ServiceTerms(code, code, "GB", cost, 40, None, 2, 3, True) for code, cost in (("slow", first), ("fast", 250))]
        here = OriginTerms("main", "Main", "GB", "16:00", 30, ways)
        small.write(lambda context: partner_terms.follow_origins(context, context.get(Supplier, 1, "supplier"), [here]))

    def slow() -> int:
        return small.all(select(Service.first).where(Service.code == "slow"))[0]

    small.respond()
    start = small.listing(1).wanted_price
    told(160)
    assert slow() == 160 and small.listing(1).wanted_price > start
    told(160)
    assert len(small.all(select(AuditEntry).where(AuditEntry.kind == "origins.told"))) == 1
    for broken in (0, 900):
        told(broken)
        assert slow() == 160 and "not believed yet" in small.act("origins.doubted").message
    told(900)
    assert slow() == 900
    told(0)
    told(160)
    told(0)
    assert slow() == 900, "only what is told twice running is believed"
