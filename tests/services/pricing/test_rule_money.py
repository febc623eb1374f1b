"""Amounts in price rules are in the rule's own money: a store in another one has them at the day's rate, and never one to one."""

from __future__ import annotations

import importlib
from fractions import Fraction
from typing import Any

import pytest
from sqlalchemy import delete, select, text, update

from amber_lane.core.currency import minor_digits
from amber_lane.core.price import NONE, Outcome
from amber_lane.data.lanes import Lane
from amber_lane.data.prices import PriceRule, Rate
from amber_lane.data.setup import Origin, Service, Store, Supplier
from amber_lane.data.source import Item
from amber_lane.services.activity import undo
from amber_lane.services.alerts import today
from amber_lane.services.base.context import Context
from amber_lane.services.base.errors import Invalid
from amber_lane.services.mapping import lanes
from amber_lane.services.pricing import rule_steps, what_if
from amber_lane.services.pricing.decide import decide
from amber_lane.services.pricing.drafts import Draft, RuleChange
from amber_lane.services.pricing.frame import load
from amber_lane.services.pricing.inputs import Facts

from ...small import Small

# What a pound is worth, in 1e-9 of it.
RATES = {"JPY": 190 * 10**9, "KWD": 390_000_000, "EUR": 1_170_000_000}


@pytest.fixture
def abroad(small: Small, request: pytest.FixtureRequest) -> Small:
    """A second store in another money, with a supplier that works in it, so that no cost needs a rate. SKU 1 is sold in both."""
    money = request.param
    unit = 10 ** minor_digits(money)

    def make(context: Context) -> None:
        s = context.session
        small.second_store(s, "JP", money)
        s.add(Supplier(id=2, code="FAR", name="Far House", kind="wholesale_api", country="JP", currency=money))
        s.flush()
        s.add(Origin(id=2, supplier_id=2, code="far", name="Far", country="JP", handling=0, holidays=[]))
        s.flush()
        s.add(Service(origin_id=2, code="cart", name="cart", country="JP", first=0, following=0, days_low=1, days_high=2))
        s.add(Item(id=9, supplier_id=2, origin_id=2, number="F-9", title="Far", currency=money, cost=1000 * unit // 10, stock=50))
        small.list_sku(s, 1, store=2, price=2000 * unit // 10, currency=money)
        s.execute(update(Lane).where(Lane.sku_id == 1).values(store_id=1))
        s.flush()
        lanes.open_lane(context, 1, [lanes.LaneItem(9, Fraction(1))], store_id=2)
        s.add(Rate(base="GBP", quote=money, day=context.now, nano=RATES[money]))

    small.write(make)
    return small


def keep(small: Small, *rules: Draft) -> None:
    small.write(lambda context: RuleChange(rules).keep(context))


def figures(small: Small) -> dict[str, Any]:
    """Per store: the limits that its price is made by, whether it is known, its price and why."""
    with small.db.reading() as s:
        book = load(small.context(s), [1])
        shown = decide(book, counted=False)
        return {
            code: {
                "min_profit": int(book.limits.min_profit[row]),
                "ceiling": int(book.limits.ceiling[row]),
                "value": int(book.limits.rule_value[row]),
                "known": bool(book.counted[row]),
                "price": int(shown.priced.price[row]),
                "outcome": Outcome(int(shown.priced.outcome[row])).name,
            }
            for row, code in enumerate(["ONE", "TWO"])
        }


@pytest.mark.parametrize(
    ("abroad", "min_profit", "ceiling", "added"),
    [("JPY", 475, 95_000, 570), ("KWD", 975, 195_000, 1170), ("EUR", 293, 58_500, 351)],
    indirect=["abroad"],
)
def test_pounds_of_the_general_rule_are_turned_to_each_stores_minor_unit(abroad: Small, min_profit: int, ceiling: int, added: int) -> None:
    keep(abroad, Draft("house", "", 0, {"rule": "add", "rule_value": 300, "min_profit": 250, "ceiling": 50_000}))
    assert abroad.all(select(PriceRule.currency)) == ["GBP"], "what all but one share is not what they share: the house's"
    found = figures(abroad)
    assert [found["ONE"][name] for name in ("min_profit", "ceiling", "value")] == [250, 50_000, 300]
    assert [found["TWO"][name] for name in ("min_profit", "ceiling", "value")] == [min_profit, ceiling, added]
    # A share of the price stays the same share in any money.
    keep(abroad, Draft("house", "", 0, {"rule": "margin", "rule_value": 300_000}))
    assert {one["value"] for one in figures(abroad).values()} == {300_000}


@pytest.mark.parametrize("abroad", ["JPY"], indirect=True)
def test_a_stores_own_rule_is_in_its_money_and_bands_are_cut_where_they_are_worth_as_much(abroad: Small) -> None:
    keep(
        abroad,
        Draft("house", "", 0, {"rule": "margin", "rule_value": 200_000, "min_profit": 100}),
        Draft("house", "", 60, {"min_profit": 200}),
        Draft("store", "TWO", 0, {"ceiling": 5000}),
    )
    stored = {(one.scope, one.band_from): one.currency for one in abroad.all(select(PriceRule))}
    assert stored == {("house", 0): "GBP", ("house", 60): "GBP", ("store", 0): "JPY"}
    # 100 yen of cost are 53 pence: under the band of 60, which begins at 114 yen.
    assert (figures(abroad)["TWO"]["min_profit"], figures(abroad)["TWO"]["ceiling"]) == (190, 5000)
    abroad.write(lambda context: setattr(context.get(Item, 9, "item"), "cost", 114))
    assert figures(abroad)["TWO"]["min_profit"] == 380
    with abroad.db.reading() as s:
        names = load(abroad.context(s), [1]).rules.names
    assert "general rule from £0.60" in names


@pytest.mark.parametrize("abroad", ["JPY"], indirect=True)
def test_without_a_rate_a_price_is_kept_and_the_rate_is_asked_for(abroad: Small) -> None:
    keep(abroad, Draft("house", "", 0, {"rule": "margin", "rule_value": 300_000}))
    abroad.write(lambda context: context.session.execute(delete(Rate)) and None)
    assert figures(abroad)["TWO"]["known"], "a rule without amounts needs no rate"
    keep(abroad, Draft("house", "", 0, {"rule": "margin", "rule_value": 300_000, "min_profit": 250}))
    found = figures(abroad)
    assert found["ONE"]["known"] and found["ONE"]["min_profit"] == 250
    assert not found["TWO"]["known"] and found["TWO"]["min_profit"] == NONE, "nothing is taken one to one"
    before = abroad.listing(1, store=2).wanted_price
    abroad.respond()
    assert abroad.listing(1, store=2).wanted_price == before
    with abroad.db.reading() as s:
        told = {one.key: one for one in today.open_alerts(abroad.context(s)) if one.kind == "No rate"}
    assert "rulerate:GBP-JPY" in told and "1 listing keeps its price" in told["rulerate:GBP-JPY"].message
    abroad.write(lambda context: context.session.add(Rate(base="JPY", quote="GBP", day=context.now, nano=5_263_158)))
    assert figures(abroad)["TWO"]["known"] and figures(abroad)["TWO"]["min_profit"] == 475, "the rate back does as well"
    with abroad.db.reading() as s:
        assert "rulerate:GBP-JPY" not in {one.key for one in today.open_alerts(abroad.context(s))}


@pytest.mark.parametrize("abroad", ["JPY"], indirect=True)
def test_a_rule_keeps_its_money_whatever_the_house_turns_to_and_an_undo_brings_it_back(abroad: Small) -> None:
    keep(abroad, Draft("house", "", 0, {"rule": "margin", "rule_value": 300_000, "min_profit": 475}, "JPY"))
    assert figures(abroad)["ONE"]["min_profit"] == 250 and figures(abroad)["TWO"]["min_profit"] == 475
    act = abroad.act("rule.change")
    keep(abroad, Draft("house", "", 0, {"rule": "margin", "rule_value": 300_000, "min_profit": 300}))
    assert figures(abroad)["ONE"]["min_profit"] == 300
    abroad.write(lambda context: undo.undo(context, abroad.act("rule.change").id))
    assert abroad.all(select(PriceRule.currency)) == ["JPY"] and figures(abroad)["ONE"]["min_profit"] == 250 and act
    with pytest.raises(Invalid, match="currency must be"):
        keep(abroad, Draft("house", "", 0, {"rule": "margin", "rule_value": 300_000}, "XXX"))


@pytest.mark.parametrize("abroad", ["JPY"], indirect=True)
def test_a_fall_at_a_bands_edge_is_told_in_each_stores_money_and_carried_in_the_rules(abroad: Small) -> None:
    keep(
        abroad,
        Draft("house", "", 0, {"rule": "margin", "rule_value": 500_000}),
        Draft("house", "", 1000, {"rule": "margin", "rule_value": 100_000}),
    )
    with abroad.db.reading() as s:
        facts = Facts.read(s)
    found = {facts.stores[one.store].code: one for one in rule_steps.dips(facts)}
    assert {(one.band_from, one.money) for one in found.values()} == {(1000, "GBP")}
    assert found["ONE"].edge == 1000 and found["TWO"].edge == 1900
    assert found["ONE"].least == found["ONE"].below
    assert found["TWO"].least == -(-found["TWO"].below * 10 // 19), "in pence, and no less than the price just under the edge"
    # Carried over, the dearer item is not cheaper any more, in either store.
    least = max(one.least for one in found.values())
    keep(
        abroad,
        Draft("house", "", 0, {"rule": "margin", "rule_value": 500_000}),
        Draft("house", "", 1000, {"rule": "margin", "rule_value": 100_000, "least_price": least}),
    )
    with abroad.db.reading() as s:
        assert not rule_steps.dips(Facts.read(s))
        assert what_if.what_if(abroad.context(s), RuleChange([])).counts["dips"] == 0


def test_rules_of_before_are_in_the_money_that_they_were_meant_in(small: Small) -> None:
    made = importlib.import_module("amber_lane.data.migrations.versions.0028_rule_currency")

    def before(context: Context) -> None:
        s = context.session
        s.add(Store(id=2, code="TWO", name="Second", kind="own_site", country="JP", currency="JPY"))
        s.add(PriceRule(scope="store", scope_key="TWO", ceiling=5000))
        s.flush()
        s.execute(text("update price_rule set currency = ''"))
        s.execute(text(made._FILL))

    small.write(before)
    assert {one.scope: one.currency for one in small.all(select(PriceRule))} == {"house": "GBP", "store": "JPY"}
