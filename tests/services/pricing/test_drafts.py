"""A change is seen before it is made, does exactly what was seen, and is refused when it makes no sense."""

from __future__ import annotations

from typing import Any

import pytest
from sqlalchemy import select

from amber_lane.data.outbox import Outbox
from amber_lane.data.prices import PriceRule
from amber_lane.data.shelf import Listing
from amber_lane.data.source import Item
from amber_lane.data.watch import ListingDecision
from amber_lane.services.base.context import Context
from amber_lane.services.base.errors import Conflict, Invalid
from amber_lane.services.pricing import drafts, manual_price, what_if
from amber_lane.services.pricing.drafts import Draft, FeeChange, PolicyChange, RateChange, RuleChange, SupplierChange

from ...small import Small

NO_FEES = {"tax_in_price": 0, "payment": 0, "payment_fixed": 0}


def rule(scope: str = "house", key: str = "", band: int = 0, **fields: Any) -> Draft:
    return Draft(scope, key, band, fields)


def shown(small: Small) -> dict[int, tuple[int, int, str]]:
    return {row.sku_id: (row.wanted_price, row.wanted_quantity, row.state) for row in small.all(select(Listing))}


@pytest.mark.parametrize(
    "change",
    [
        RuleChange([rule(rule="multiple", rule_value=3_000_000, endings="99")]),
        RuleChange([rule(rule="add", rule_value=700), rule("sku", "S-2", rule="add", rule_value=1), rule(band=400, min_profit=900)]),
        RuleChange([rule(rule="margin", rule_value=300_000, ceiling=1_000), rule("store", "ONE", step=50_000)]),
        FeeChange(
            1,
            {"tax_in_price": 200_000, "payment": 29_000, "payment_fixed": 30},
            [{"category": "", "percent": 120_000, "least": 50, "cap": None, "fixed": 0}],
        ),
        SupplierChange(1, {"discount": 500_000, "rebate": 0, "tax": 0}),
        PolicyChange("house", "", {"cushion": 20}),
        PolicyChange("sku", "S-3", {"follow_price": False}),
        RateChange("EUR", "GBP", 1_000_000_000),
    ],
    ids=lambda change: type(change).__name__,
)
def test_what_was_seen_is_what_is_done(small: Small, change: drafts.Change) -> None:
    small.respond()
    before = shown(small)
    with small.db.reading() as s:
        seen = what_if.what_if(small.context(s), change)
        view = {int(n): (int(p), int(q)) for n, p, q in zip(seen.book.ids, seen.decided.price, seen.decided.quantity, strict=True)}
    assert shown(small) == before, "a draft writes nothing"
    out = len(small.all(select(Outbox)))
    small.write(lambda context: what_if.apply(context, change, seen.counts, None))
    after = shown(small)
    moved = [(before[n][0], after[n][0]) for n in before]
    assert sum(now > was for was, now in moved) == seen.counts["rise"] and sum(now < was for was, now in moved) == seen.counts["fall"]
    assert sum(row[2] == "paused" for row in after.values()) == seen.counts["pause"]
    assert all(after[n][:2] == view[n] for n in after)
    told = small.all(select(Outbox).order_by(Outbox.id))[out:]
    assert {row.body["listing"] for row in told} == {n for n in before if before[n] != after[n]}
    # Looked at again, there is nothing left to do.
    with small.db.reading() as s:
        again = what_if.what_if(small.context(s), None).counts
    assert not any(again[name] for name in what_if.SEEN)


def test_only_those_picked_move_and_the_rest_waits_for_its_next_sweep(small: Small) -> None:
    small.respond()
    change = RuleChange([rule(rule="add", rule_value=2_000)])
    with small.db.reading() as s:
        seen = what_if.what_if(small.context(s), change).counts
    before = shown(small)
    picked = small.listing(2).id
    small.write(lambda context: what_if.apply(context, change, seen, {picked}))
    assert [n for n in before if shown(small)[n] != before[n]] == [2]


def test_nothing_unseen_is_done(small: Small) -> None:
    small.respond()
    change = RuleChange([rule(rule="multiple", rule_value=4_000_000)])
    with small.db.reading() as s:
        seen = what_if.what_if(small.context(s), change).counts

    def run_out(context: Context) -> None:
        context.get(Item, 1, "item").stock = 0

    small.write(run_out)
    before, rules = shown(small), small.all(select(PriceRule.rule))
    with pytest.raises(Conflict, match="costs have moved"):
        small.write(lambda context: what_if.apply(context, change, seen, None))
    assert shown(small) == before and small.all(select(PriceRule.rule)) == rules


@pytest.mark.parametrize(
    ("change", "field"),
    [
        (RuleChange([rule(rule="margin", rule_value=1_000_000)]), "rule_value"),
        (RuleChange([rule(rule="margin")]), "rule_value"),
        (RuleChange([rule(rule="guess", rule_value=1)]), "rule"),
        (RuleChange([rule(endings="100")]), "endings"),
        (RuleChange([rule(ceiling=-1)]), "ceiling"),
        (RuleChange([rule("store", "", rule="add", rule_value=1)]), "scope_key"),
        (FeeChange(1, {**NO_FEES, "payment": -1}, []), "payment"),
        (FeeChange(1, NO_FEES, [{"category": "A", "percent": 1_000_000, "least": 0, "cap": None, "fixed": 0}]), "fee of A"),
        (FeeChange(1, NO_FEES, [{"category": "", "percent": 0, "least": 9, "cap": 5, "fixed": 0}]), "fee of all others"),
        (FeeChange(1, NO_FEES, [{"category": "", "percent": 0, "least": 0, "cap": None, "fixed": 0}] * 2), "category"),
        (SupplierChange(1, {"discount": 1_000_000, "rebate": 0, "tax": 0}), "discount"),
        (PolicyChange("house", "", {"mood": 1}), "mood"),
        (PolicyChange("house", "", {"at_none": "vanish"}), "at_none"),
        (PolicyChange("house", "", {"cap": "many"}), "cap"),
        (RateChange("GBP", "EUR", 0), "rate"),
        (RateChange("GBP", "EUR", 10**13), "rate"),
    ],
)
def test_what_makes_no_sense_is_told_field_by_field_and_kept_by_nobody(small: Small, change: drafts.Change, field: str) -> None:
    before = shown(small)
    for do in (lambda context: what_if.what_if(context, change), change.keep):
        with pytest.raises(Invalid) as told:
            small.write(do)
        assert field in told.value.fields and told.value.message
    assert shown(small) == before and small.all(select(PriceRule.rule)) == ["margin"]


def test_a_price_by_hand_stands_against_sweeps_and_rules_but_not_against_a_loss(small: Small) -> None:
    small.respond()

    def fix(price: int | None) -> None:
        small.write(lambda context: manual_price.fix_price(context, small.listing(1).id, small.listing(1).version, price, "reason"))

    fix(400)
    small.sweep({1: (120, 20)})
    assert small.listing(1).wanted_price == 400
    with pytest.raises(Invalid, match="every sale loses"):
        fix(200)
    # The supplier's price climbs over it: it is not sold at a loss, and somebody is told.
    small.sweep({1: (160, 20)})
    for _ in range(3):
        small.sweep({1: (290, 20)})
    row = small.listing(1)
    assert (row.state, row.paused_by, row.wanted_price) == ("paused", "hold", 400)
    assert "waits" in small.all(select(ListingDecision.state).where(ListingDecision.listing_id == row.id))
    small.write(lambda context: manual_price.fix_price(context, row.id, row.version, None))
    assert small.listing(1).wanted_price > 400 and small.listing(1).state == "live"
    for price in (0, -5, 10**9):
        with pytest.raises(Invalid, match="between"):
            fix(price)


def test_what_waits_is_settled_by_a_person_either_way(small: Small) -> None:
    small.respond()
    small.later(hours=25)
    small.respond()
    small.write(lambda context: RuleChange([rule(rule="margin", rule_value=300_000, min_margin=300_000, step=50_000)]).keep(context))
    small.sweep({1: (135, 20), 2: (270, 20)})
    waiting = small.all(select(ListingDecision).where(ListingDecision.state == "waits").order_by(ListingDecision.id))
    stood = small.listing(2).wanted_price
    assert len(waiting) == 2 and (small.listing(1).wanted_price, stood) == (395, 595), "the old price stands"
    small.write(lambda context: what_if.answer_waiting(context, [waiting[0].id], approve=True))
    small.write(lambda context: what_if.answer_waiting(context, [waiting[1].id], approve=False))
    # Approved: the best price within the step, 3.95 + 5 % ending in 95 is still 3.95 for the first.
    assert small.listing(2).wanted_price == stood and not small.all(select(ListingDecision).where(ListingDecision.state == "waits"))

    def again(context: Context) -> None:
        what_if.answer_waiting(context, [one.id for one in waiting], approve=True)

    with pytest.raises(Conflict, match="nothing of this waits"):
        small.write(again)
