"""One word means one sum: an order's profit is the same wherever it stands, expected before buying, by its bills afterwards."""

from __future__ import annotations

from typing import Any

import pytest
from sqlalchemy import select

from amber_lane.connectors.protocols import PurchaseAnswer
from amber_lane.data.orders import FillPlan, Hold, Order, OrderLine, PurchaseOrder
from amber_lane.data.prices import PriceRule, Rate
from amber_lane.data.setup import Supplier
from amber_lane.data.shelf import Sku
from amber_lane.data.source import Item
from amber_lane.services.alerts import today
from amber_lane.services.base.context import Context
from amber_lane.services.books import entries
from amber_lane.services.catalogue import item_detail
from amber_lane.services.catalogue.search import Finder
from amber_lane.services.grids import goods_grids
from amber_lane.services.mapping import item_candidates
from amber_lane.services.monitoring import sweeps
from amber_lane.services.orders import explanations, orders, routing
from amber_lane.services.purchasing import purchase_orders, supplier_answers

from ...small import Small


def answer(small: Small, state: str, billed: int | None = None, told: str = "", nth: int = 1, currency: str = "") -> None:
    def take(context: Context) -> None:
        one = context.session.scalars(select(PurchaseOrder).order_by(PurchaseOrder.id)).all()[nth - 1]
        supplier_answers.take_answer(context, PurchaseAnswer(one.reference, "N-1", state, told, billed, None, currency=currency))

    small.write(take)


def everywhere(small: Small) -> set[int]:
    """The profit of the one order as each view has it, minor units."""
    with small.db.reading() as s:
        context = small.context(s)
        order = s.scalars(select(Order)).one()
        plan = s.scalars(select(FillPlan)).one()
        lines = routing.lines_of(context, [order.id])[order.id]
        (row,), _ = goods_grids.page(context, "orders", goods_grids.GridQuery())
        steps = explanations.steps(lines, plan)
        day = today.profit_by_day(context)[0][-1]
        assert sum(amount for _, amount, kind in steps[:-1]) == steps[-1][1], "the fall adds up to its end"
        journal = sum(one.actual for one in entries.planned_beside_actual(context, order.id))
        assert day.profit == journal, "what was earned is what the journal says"
        return {row.profit, steps[-1][1], day.profit + day.expected, plan.known_profit}


@pytest.fixture
def one(small: Small) -> Small:
    """A rule that keeps a share for returns, a chance of refusal, and one order of one unit at the listing's price."""

    def make(context: Context) -> None:
        context.session.scalars(select(PriceRule)).one().reserve = 20_000
        supplier = context.session.get(Supplier, 1)
        supplier.refuse_ppm, supplier.late_ppm = 50_000, 30_000

    small.write(make)
    small.respond()
    return small


def test_before_buying_an_order_leaves_what_its_listing_its_item_and_the_catalogue_say(one: Small) -> None:
    listing = one.listing(1)
    one.order("A", ("S-1", 1, listing.wanted_price))
    with one.db.reading() as s:
        context = one.context(s)
        source = item_detail.explain(context, Finder(), s.get(Item, 1), 1).profit
        (offer,) = [row for row in item_candidates.offers(context, s.get(Sku, 1), "Item 1").rows if row.like.item.id == 1]
        (shown,), _ = goods_grids.page(context, "listings", goods_grids.GridQuery(words="S-1"))
        plan = s.scalars(select(FillPlan)).one()
        assert plan.risk > 0 and plan.reserve > 0
    assert everywhere(one) == {listing.profit} == {source} == {offer.profit} == {shown.profit}


def test_once_bought_the_figures_are_those_of_the_bill_and_no_risk_is_left(one: Small) -> None:
    one.order("A", ("S-1", 2, 2000))
    (expected,) = everywhere(one)
    plan = one.all(select(FillPlan))[0]
    one.write(lambda context: purchase_orders.send(context, [1]))
    (planned,) = everywhere(one)
    assert planned == expected + plan.reserve, "what was kept for returns is not lost; nor is what a refusal might have cost"
    purchase = one.all(select(PurchaseOrder))[0]
    due = purchase.goods + purchase.shipping + purchase.handling
    answer(one, "accepted", due + 2615)
    assert everywhere(one) == {planned - 2615}
    plan = one.all(select(FillPlan))[0]
    assert (plan.risk, plan.reserve, plan.billed_more) == (0, 0, 2615)
    steps = {name: amount for name, amount, _ in explanations.steps(one.all(select(OrderLine)), plan)}
    assert steps["Billed above the plan"] == -2615 and "Risk" not in steps and steps["Profit"] == planned - 2615


def test_what_is_refused_after_a_bill_counts_as_planned_again_and_a_refund_after_sending_is_lost(one: Small) -> None:
    one.order("A", ("S-1", 1, 2000))
    (expected,) = everywhere(one)
    one.write(lambda context: purchase_orders.send(context, [1]))
    answer(one, "accepted", 400)
    answer(one, "refused", told="none left")
    with one.db.reading() as s:
        risk = next(row for row in today.open_alerts(one.context(s)) if row.kind in ("Refused", "Held"))
    assert one.all(select(FillPlan.billed_more)) == [0]
    # At risk is the profit that waits, never all that the buyer paid.
    listing = one.listing(1)
    assert 0 < risk.at_risk == listing.profit < 2000 and expected > 0


def test_what_waits_for_a_person_is_in_no_profit_of_the_day_and_other_money_is_turned(one: Small) -> None:
    one.order("A", ("S-1", 1, 2000))
    one.order("B", ("S-404", 1, 9000))
    one.order("C", ("S-5", 1, 10))
    with one.db.reading() as s:
        day = today.profit_by_day(one.context(s))[0][-1]
        plans = {plan.order_id: plan for plan in s.scalars(select(FillPlan))}
        sums, _ = purchase_orders.money_of(one.context(s), [1])
    assert day.expected == plans[1].known_profit == sums["profit"] and (day.sales, day.profit) == (0, 0)
    expected = day.expected

    def euros(context: Context) -> None:
        context.session.add(Rate(base="EUR", quote="GBP", day=context.now, nano=800_000_000))
        context.session.add(Rate(base="GBP", quote="EUR", day=context.now, nano=1_250_000_000))
        context.session.flush()
        context.session.get(Order, 1).currency = "EUR"

    one.write(euros)
    with one.db.reading() as s:
        day = today.profit_by_day(one.context(s))[0][-1]
    assert day.expected == round(expected * 0.8)


def test_a_bill_in_another_money_is_turned_at_the_rate_of_buying(one: Small) -> None:
    def euros(context: Context) -> None:
        context.session.add_all(
            [Rate(base=a, quote=b, day=context.now, nano=n) for a, b, n in (("EUR", "GBP", 800_000_000), ("GBP", "EUR", 1_250_000_000))]
        )
        context.session.get(Supplier, 1).currency = "EUR"

    one.write(euros)
    one.order("A", ("S-1", 1, 2000))
    one.write(lambda context: purchase_orders.send(context, [1]))
    (planned,) = everywhere(one)
    purchase = one.all(select(PurchaseOrder))[0]
    one.write(lambda context: context.session.add(Rate(base="EUR", quote="GBP", day=context.now.replace(year=2027), nano=900_000_000)))
    answer(one, "accepted", purchase.goods + purchase.shipping + purchase.handling + 1000, currency="EUR")
    assert everywhere(one) == {planned - 800}


@pytest.mark.parametrize("believe", [True, False, None])
def test_a_cost_in_doubt_holds_the_order_until_it_is_settled_or_a_person_says_go(one: Small, believe: bool | None) -> None:
    one.order("A", ("S-1", 1, 2000))
    one.sweep({1: (300, 20)})
    one.write(routing.replan)
    hold: Any = one.all(select(Hold).where(Hold.ended.is_(None)))[0]
    assert hold.limit == "doubt" and "£3.00 was seen, £1.00 is believed" in hold.message
    assert one.write(lambda context: purchase_orders.send(context, [1])) == []
    if believe is None:
        one.write(lambda context: orders.allow(context, 1, "we know them"))
    else:
        one.write(lambda context: sweeps.settle_doubt(context, 1, believe))
    assert one.all(select(OrderLine.state)) == ["ready"]
    assert one.all(select(FillPlan.goods)) == [300 if believe else 100]
