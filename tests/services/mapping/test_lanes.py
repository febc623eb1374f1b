"""Lanes as a person sets them, and what follows: price, stock, waiting orders."""

from __future__ import annotations

import contextlib
from fractions import Fraction

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from sqlalchemy import select

from amber_lane.data.lanes import Lane, LanePart, Rejection
from amber_lane.data.orders import OrderLine
from amber_lane.data.setup import Origin, Service, Supplier
from amber_lane.data.shelf import Listing, Sku
from amber_lane.data.source import Item
from amber_lane.services.base.context import Context
from amber_lane.services.base.errors import Conflict, Invalid, NotFound
from amber_lane.services.mapping import lanes, similarity
from amber_lane.services.mapping.mapping_queue import to_settle
from amber_lane.services.pricing.drafts import PolicyChange
from amber_lane.services.purchasing import purchase_orders

from ...small import Small


def uses(small: Small, sku: int) -> list[int]:
    return small.all(select(Lane.priority).where(Lane.sku_id == sku, Lane.closed_at.is_(None)).order_by(Lane.priority))


def open_one(small: Small, sku: int, *parts: tuple[int, Fraction | int], use: int = 0, store: int | None = None) -> Lane:
    return small.write(
        lambda context: lanes.open_lane(context, sku, [lanes.LaneItem(item, Fraction(units)) for item, units in parts], use, store)
    )


@settings(max_examples=25, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.lists(st.tuples(st.sampled_from(["open", "close", "move", "reopen"]), st.integers(0, 5), st.integers(0, 6)), max_size=9))
def test_whatever_is_done_lanes_stand_in_one_order_without_gaps_or_twins(small: Small, acts) -> None:
    """The order of use is 0, 1, 2, … after any number of acts, each of which may also be refused."""
    sku = small.write(lambda context: _fresh(context))
    for kind, which, use in acts:
        mine = small.all(select(Lane).where(Lane.sku_id == sku).order_by(Lane.id))
        one = mine[which % len(mine)] if mine else None

        def act(context: Context, kind=kind, which=which, use=use, one=one) -> None:
            if kind == "open":
                lanes.open_lane(context, sku, [lanes.LaneItem(which + 1, Fraction(1))], use)
            elif one is not None and kind == "close":
                lanes.close_lane(context, one.id, one.version)
            elif one is not None and kind == "move":
                lanes.change_lane(context, one.id, one.version, use=use)
            elif one is not None and one.closed_at is not None:
                lanes.reopen_lane(context, one.id, use)

        with contextlib.suppress(Conflict):
            small.write(act)
        assert uses(small, sku) == list(range(len(uses(small, sku))))
        items = small.all(
            select(LanePart.item_id).join(Lane, Lane.id == LanePart.lane_id).where(Lane.sku_id == sku, Lane.closed_at.is_(None))
        )
        assert len(items) == len(set(items))


def _fresh(context: Context) -> int:
    sku = Sku(code=f"F-{context.session.query(Sku).count()}", title="Fresh")
    context.session.add(sku)
    context.session.flush()
    return sku.id


def test_the_spare_takes_over_before_a_pause_and_gives_back(small: Small) -> None:
    open_one(small, 1, (4, 1), use=1)
    small.respond()
    main, spare = small.lane(1, 0), small.lane(1, 1)
    assert small.listing(1).lane_id == main.id and small.listing(1).landed == 100 + 100 + 30
    cheap = small.listing(1).wanted_price
    small.sweep({1: (100, 0)})
    row = small.listing(1)
    assert (row.state, row.lane_id, row.landed) == ("live", spare.id, 400 + 100 + 30) and row.wanted_price > cheap
    small.sweep({1: (100, 20)})
    assert small.listing(1).lane_id == main.id and small.listing(1).wanted_price == cheap
    # With both empty there is nothing to take over.
    small.sweep({1: (100, 0), 4: (400, 0)})
    assert (small.listing(1).state, small.listing(1).paused_by) == ("paused", "stock")


def test_a_kit_is_as_plenty_and_as_dear_as_its_items_together(small: Small) -> None:
    small.write(lambda context: lanes.close_lane(context, lanes.lanes_of(context, 1)[0][0].id, 1))
    open_one(small, 1, (2, 2), (3, Fraction(1, 2)))
    small.respond()
    # 2 x 2.00 + half of 3.00, in one parcel; item 2 is shared with S-2, two to one.
    assert small.listing(1).landed == 400 + 300 + 100 + 30
    assert small.listing(1).wanted_quantity == 6 and 2 * 6 + small.listing(2).wanted_quantity <= 18
    order = small.order("KIT", ("S-1", 3, 3000))
    bought = {}

    def send(context: Context) -> None:
        for one in purchase_orders.send(context, [order.id]):
            bought.update(
                {line.item_id: line.quantity for line in context.session.query(purchase_orders.PurchaseLine).filter_by(purchase_id=one.id)}
            )

    small.write(send)
    assert bought == {2: 6, 3: 2}
    with pytest.raises(Invalid, match="kit's units are changed item by item"):
        small.write(lambda context: lanes.change_lane(context, small.lane(1).id, small.lane(1).version, units=Fraction(9)))


def test_a_lane_of_one_store_goes_before_the_general_one_there_alone(small: Small) -> None:
    def join(context: Context) -> None:
        small.second_store(context.session)
        small.list_sku(context.session, 1, store=2)

    small.write(join)
    open_one(small, 1, (3, 1), store=2)
    small.respond()
    assert small.listing(1, 2).landed == 430 and small.listing(1, 1).landed == 230


def test_an_order_that_waited_goes_on_once_its_lane_is_open_and_stops_when_it_is_closed(small: Small) -> None:
    small.write(lambda context: lanes.close_lane(context, lanes.lanes_of(context, 6)[0][0].id, 1))
    order = small.order("W", ("S-6", 1, 3000), ("S-1", 1, 900))

    def states() -> dict[str, str]:
        return {row.sku_code: row.state for row in small.all(select(OrderLine).where(OrderLine.order_id == order.id))}

    assert states() == {"S-6": "needs_lane", "S-1": "held"}
    with small.db.reading() as s:
        assert lanes.effect_of_opening(small.context(s), s.get(Sku, 6)) == {"lines": 1, "orders": 1}
        assert [(one.sku.code, one.kind, one.orders) for one in to_settle(small.context(s))] == [("S-6", "no lane", 1)]
    opened = open_one(small, 6, (6, 1))
    assert states() == {"S-6": "ready", "S-1": "ready"}
    small.write(lambda context: lanes.change_lane(context, opened.id, opened.version, state="shut", reason="they do not answer"))
    assert states() == {"S-6": "held", "S-1": "held"}


def test_what_cannot_be_a_lane_is_told_and_changes_nothing(small: Small) -> None:
    def other(context: Context) -> None:
        context.session.add(Supplier(id=2, code="OTH", name="Other House", kind="sheet", country="GB", currency="GBP"))
        context.session.flush()
        context.session.add(Origin(id=2, supplier_id=2, code="far", name="Far", country="FR", handling=0, holidays=[]))
        context.session.flush()
        context.session.add(Service(origin_id=2, code="post", name="post", country="FR", first=1, following=1, days_low=1, days_high=2))
        context.session.add_all(
            [
                Item(id=90, supplier_id=2, origin_id=2, number="X", title="X", currency="GBP", cost=1, stock=1),
                Item(id=91, supplier_id=2, origin_id=None, number="Y", title="Y", currency="GBP", cost=1, stock=1),
            ]
        )

    small.write(other)
    before = len(small.all(select(Lane)))
    for parts, kind, said in (
        ([], Invalid, "at least one item"),
        ([(1, 1)], Conflict, "has a lane to this item already"),
        ([(2, 1), (2, 1)], Invalid, "twice"),
        ([(2, 1), (90, 1)], Invalid, "nothing is sent from Far to GB"),
        ([(2, 1001)], Invalid, "at most 1000"),
        ([(90, 1)], Invalid, "nothing is sent from Far to GB"),
        ([(91, 1)], Invalid, "does not say where"),
        ([(10**6, 1)], NotFound, "no item"),
    ):
        with pytest.raises(kind, match=said):
            open_one(small, 1, *parts)
    with pytest.raises(NotFound, match="no SKU"):
        open_one(small, 10**6, (1, 1))
    with pytest.raises(Invalid, match="no service"):
        small.write(lambda context: lanes.change_lane(context, small.lane(1).id, small.lane(1).version, service="rocket"))
    assert len(small.all(select(Lane))) == before


def test_items_are_found_by_barcode_number_and_words_the_surest_first(small: Small) -> None:
    def name(context: Context) -> None:
        sku = context.session.get(Sku, 1)
        sku.title, sku.gtin, sku.mpn, sku.brand = "Clip-on lamp 5 W red", "5012345678900", "CL-5", "Hearthlow"
        for number, title, gtin, pack in (
            (2, "Lamp, clip, red, 5W", "5012345678900", 1),
            (3, "Clip-on lamp 5 W red", "", 6),
            (4, "Rug", "", 1),
        ):
            item = context.session.get(Item, number)
            item.title, item.gtin, item.pack_size = title, gtin, pack

    small.write(name)
    with small.db.reading() as s:
        found = similarity.candidates(small.context(s), s.get(Sku, 1))
        assert [one.item.id for one in found] == [2, 3] and found[0].agrees[0] == "barcode 5012345678900"
        assert found[0].score > 90 > 60 > found[1].score and found[1].differs == ["pack single / pack of 6", "only ours: hearthlow"]
        assert [item.id for item in similarity.search_items(small.context(s), "lamp RED 100%_")] == []
        assert {item.id for item in similarity.search_items(small.context(s), "lamp RED")} == {2, 3}
        assert [one.item.id for one in similarity.candidates(small.context(s), s.get(Sku, 1), "I-4")] == [4]
        s.add(Rejection(sku_id=1, item_id=2, at=small.clock.now(), by="Tester"))
        s.flush()
        assert [one.item.id for one in similarity.candidates(small.context(s), s.get(Sku, 1))] == [3]


def test_listings_that_share_an_item_never_promise_more_than_there_is(small: Small) -> None:
    small.write(lambda context: small.list_sku(context.session, 8))
    small.write(lambda context: lanes.open_lane(context, 8, [lanes.LaneItem(1, Fraction(2))]))
    small.write(lambda context: PolicyChange("house", "", {"cushion": 0, "cap": 8}).keep(context))
    for stock in (20, 9, 3, 2, 1):
        small.sweep({1: (100, stock)})
        one, two = small.listing(1), small.listing(8)
        shown = [row.wanted_quantity if row.state == "live" else 0 for row in (one, two)]
        assert shown[0] + 2 * shown[1] <= stock, (stock, shown)
    assert {row.state for row in small.all(select(Listing).where(Listing.sku_id.in_((1, 8))))} == {"live", "paused"}
