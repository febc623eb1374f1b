"""Nothing is done to a store before its person says so: practice, switches one by one, no price without a rule."""

from __future__ import annotations

import json
from fractions import Fraction
from typing import Any

import pytest
from sqlalchemy import delete, select, update

from amber_lane.core.price import Outcome
from amber_lane.data.orders import Hold, PurchaseOrder
from amber_lane.data.outbox import Outbox
from amber_lane.data.prices import PriceRule
from amber_lane.data.setup import Store
from amber_lane.data.shelf import Listing
from amber_lane.data.watch import ListingDecision
from amber_lane.services.alerts import today
from amber_lane.services.base.errors import Conflict
from amber_lane.services.listings import going_live, on_sale
from amber_lane.services.mapping import lanes
from amber_lane.services.orders import orders
from amber_lane.services.pricing import manual_price, what_if
from amber_lane.services.pricing.apply import MASS
from amber_lane.services.purchasing import purchase_orders

from ...small import Small

OFF = {"write_prices": False, "write_stock": False, "buy_orders": False, "mass_agreed": False}


@pytest.fixture
def fresh(small: Small) -> Small:
    """A store that was just joined: in practice, and nothing has gone out."""

    def begin(context: Any) -> None:
        context.session.execute(delete(Outbox))
        context.session.execute(update(Store).values(**OFF))
        context.session.execute(
            update(Listing).values(wanted_price=1000, shown_price=1000, wanted_quantity=5, shown_quantity=5, state="live")
        )

    small.write(begin)
    return small


def sent(small: Small) -> list[dict[str, Any]]:
    return [row.body for row in small.all(select(Outbox).where(Outbox.kind == "listing", Outbox.state == "waiting").order_by(Outbox.id))]


def turn_on(small: Small, what: str, start: bool = True) -> dict[str, int]:
    def do(context: Any) -> dict[str, int]:
        seen = going_live.preview(context, 1, what).counts
        going_live.turn_on(context, 1, None, what, start, seen)
        return seen

    return small.write(do)


def test_in_practice_all_is_decided_and_nothing_goes_out(fresh: Small) -> None:
    fresh.sweep({1: (120, 20), 2: (200, 0), 3: (300, 20)})
    assert {(one.wanted_price, one.wanted_quantity, one.state) for one in fresh.all(select(Listing))} == {(1000, 5, "live")}
    number = fresh.order("A", ("S-1", 1, 1000)).id
    assert not fresh.all(select(Outbox)) and not fresh.all(select(PurchaseOrder))
    assert fresh.listing(1).landed and fresh.listing(1).profit, "what it costs and keeps is known"
    hold = fresh.all(select(Hold))[0]
    assert (hold.limit, hold.order_id) == ("practice", number) and "not bought yet" in hold.message
    for ask in (
        lambda context: manual_price.fix_price(context, 1, fresh.listing(1).version, 990),
        lambda context: on_sale.set_on_sale(context, [1], False),
    ):
        with pytest.raises(Conflict, match="not written yet"):
            fresh.write(ask)
    assert not fresh.all(select(Outbox))


def test_the_look_says_to_the_piece_what_turning_on_then_sends(fresh: Small) -> None:
    with fresh.db.reading() as s:
        seen = going_live.preview(fresh.context(s), 1, "prices")
    assert seen.counts["listings"] == 6 and seen.counts["rise"] + seen.counts["fall"] == len(seen.worst)
    turn_on(fresh, "prices")
    went = {one["sku"]: one for one in sent(fresh)}
    assert {row.code for row in seen.worst} == set(went)
    assert all(round(float(went[row.code]["price"]) * 100) == row.new for row in seen.worst)
    assert all("quantity" not in one and "state" not in one for one in went.values()), "stock is not written yet"


def test_stock_may_start_before_price_and_then_writes_no_price(fresh: Small) -> None:
    turn_on(fresh, "stock")
    fresh.sweep({1: (110, 3), 2: (200, 0)})
    bodies = {one["sku"]: one for one in sent(fresh)}
    assert "price" not in json.dumps(list(bodies.values())) and bodies["S-2"]["state"] == "paused" and bodies["S-1"]["quantity"] == 1
    assert fresh.listing(1).wanted_price == 1000


def test_only_from_the_next_change_on_rests_until_its_cost_moves(fresh: Small) -> None:
    seen = turn_on(fresh, "prices", start=False)
    assert seen["rise"] + seen["fall"] > 1 and not sent(fresh)
    fresh.sweep({1: (100, 19)})
    fresh.sweep({1: (125, 20)})
    assert {one["sku"] for one in sent(fresh)} == {"S-1"}
    raised = fresh.listing(1).wanted_price
    assert raised != 1000 and fresh.listing(1).rest_price is None
    # Back at its first cost it follows like any other: what rested then rests no longer.
    fresh.sweep({1: (100, 20)})
    assert fresh.listing(1).wanted_price not in (1000, raised)
    assert fresh.listing(2).wanted_price == 1000


def test_what_was_seen_must_still_hold(fresh: Small) -> None:
    with fresh.db.reading() as s:
        seen = going_live.preview(fresh.context(s), 1, "prices").counts
    fresh.write(lambda context: context.session.execute(update(Listing).where(Listing.id == 1).values(wanted_price=1, shown_price=1)))
    with pytest.raises(Conflict, match="moved since"):
        fresh.write(lambda context: going_live.turn_on(context, 1, None, "prices", True, {**seen, "fall": 99}))
    assert not fresh.all(select(Store))[0].write_prices


def test_no_rule_no_price(fresh: Small) -> None:
    fresh.write(lambda context: context.session.execute(delete(PriceRule)))
    seen = turn_on(fresh, "prices")
    assert seen["no_rule"] == 6 and seen["rise"] == seen["fall"] == seen["waits"] == 0
    fresh.sweep({1: (120, 20), 2: (240, 20)})
    assert not sent(fresh) and not fresh.all(select(ListingDecision).where(ListingDecision.state == "waits"))
    assert fresh.listing(2).outcome == Outcome.no_rule
    with fresh.db.reading() as s:
        told = [one for one in today.open_alerts(fresh.context(s)) if one.key == "norule"]
        assert len(told) == 1 and told[0].count == 6
        why = what_if.explain_price(fresh.context(s), 2)[2]
    assert why is not None and "No price rule applies" in why.sentence and why.profit == fresh.listing(2).profit


def test_a_first_mass_move_is_asked_for_whatever_the_limits_say(fresh: Small) -> None:
    def many(context: Any) -> None:
        for n in range(100, 101 + MASS):
            fresh.list_sku(context.session, n)
            lanes.open_lane(context, n, [lanes.LaneItem(1, Fraction(1))])
        context.session.execute(update(Store).values(write_prices=True, write_stock=True))
        context.session.execute(delete(Outbox))

    fresh.write(many)
    fresh.write(lambda context: context.reprice(None))
    waits = fresh.all(select(ListingDecision).where(ListingDecision.state == "waits"))
    assert len(waits) > MASS and not [one for one in sent(fresh) if "price" in one and one["price"] != "10.00"]
    fresh.write(lambda context: what_if.answer_waiting(context, [one.id for one in waits], True))
    assert len(sent(fresh)) >= len(waits) and fresh.all(select(Store))[0].mass_agreed


def test_orders_that_were_there_are_bought_only_by_a_word_of_their_own(fresh: Small) -> None:
    old = fresh.order("A", ("S-1", 1, 1000))
    seen = turn_on(fresh, "orders", start=False)
    assert seen["orders"] == 1 and seen["cost"] > 0 and seen["paid"] == 1000
    new = fresh.order("B", ("S-2", 1, 1000))
    held = {row.order_id: row.message for row in fresh.all(select(Hold).where(Hold.ended.is_(None)))}
    assert set(held) == {old.id} and "came before" in held[old.id]
    fresh.write(lambda context: orders.allow(context, old.id))
    made = fresh.write(lambda context: purchase_orders.send(context, [old.id, new.id]))
    assert len(made) == 2
