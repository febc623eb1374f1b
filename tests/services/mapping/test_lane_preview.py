"""What a lane would do is told by a look that writes nothing, and is what it then does."""

from __future__ import annotations

from collections.abc import Callable
from datetime import timedelta
from fractions import Fraction

import numpy as np
import pytest
from sqlalchemy import event, select

from amber_lane.core.price import NONE
from amber_lane.data.setup import Origin, Service, Supplier
from amber_lane.data.source import Item
from amber_lane.services.base.context import Context
from amber_lane.services.base.errors import Conflict, Invalid
from amber_lane.services.mapping import lane_preview, lanes
from amber_lane.services.pricing.apply import with_sharers
from amber_lane.services.pricing.decide import decide
from amber_lane.services.pricing.frame import load

from ...small import START, Small

Wish = Callable[[Small], lanes.LaneRequest]


def parts(*given: tuple[int, str]) -> list[lanes.LaneItem]:
    return [lanes.LaneItem(item, Fraction(units)) for item, units in given]


WISHES: dict[str, lanes.LaneRequest] = {
    "another item in front": lanes.LaneRequest(3, parts((1, "2"))),
    "a spare, which a listing with stock does not use": lanes.LaneRequest(3, parts((1, "1")), priority=1),
    "a part of a pack": lanes.LaneRequest(6, parts((5, "1/3"))),
    "a kit": lanes.LaneRequest(2, parts((4, "1"), (5, "3"))),
    "a kit from two places": lanes.LaneRequest(2, parts((4, "1"), (7, "2"))),
    "items whose stock others show": lanes.LaneRequest(5, parts((1, "1"))),
    "a service that costs more": lanes.LaneRequest(3, parts((1, "1")), service="fast"),
    "of one store alone": lanes.LaneRequest(3, parts((1, "1")), store=1),
    "from next week on": lanes.LaneRequest(3, parts((1, "1")), starts=START + timedelta(days=7)),
    "other goods, which no price is made by": lanes.LaneRequest(3, parts((1, "1")), is_substitute=True),
    "goods that nobody has": lanes.LaneRequest(3, parts((8, "1"))),
    "goods in another money without a rate": lanes.LaneRequest(3, parts((9, "1"))),
    "of a SKU whose lane was closed": lanes.LaneRequest(4, parts((1, "1"))),
}


@pytest.fixture
def house(small: Small) -> Small:
    def more(context: Context) -> None:
        s = context.session
        s.add(Supplier(id=2, code="FAR", name="Far House", kind="wholesale_api", country="GB", currency="GBP"))
        s.flush()
        s.add(Origin(id=2, supplier_id=2, code="far", name="Far", country="GB", handling=75, holidays=[]))
        s.flush()
        s.add(Service(origin_id=2, code="cart", name="cart", country="GB", first=300, following=90, days_low=5, days_high=9))
        for number, money, stock in ((7, "GBP", 9), (8, "GBP", 0), (9, "JPY", 9)):
            item = Item(id=number, supplier_id=2, origin_id=2, number=f"I-{number}", title=f"Item {number}", currency=money)
            item.cost, item.stock = number * 100, stock
            s.add(item)

    small.write(more)
    small.respond()
    lane = small.lane(4)
    small.write(lambda context: lanes.close_lane(context, lane.id, lane.version))
    for number, line in enumerate((("S-3", 3, 900), ("S-4", 2, 900), ("S-1", 4, 900))):
        small.order(f"O-{number}", line)
    return small


def stands(context: Context, sku: int) -> tuple[object, ...]:
    """A SKU's figures by its lanes as they are."""
    book = load(context, with_sharers(context, {sku}))
    shown, at = decide(book, counted=False), int(np.flatnonzero(book.sku == sku)[0])
    if not book.counted[at]:
        return None, None, None, int(shown.quantity[at])
    money = (book.landed[at], shown.priced.price[at], shown.priced.kept.profit[at])
    return *(None if int(one) == NONE else int(one) for one in money), int(shown.quantity[at])


@pytest.mark.parametrize("name", WISHES)
def test_what_a_lane_would_do_is_what_it_does(house: Small, name: str) -> None:
    wish = WISHES[name]
    written: list[str] = []

    def note(*given: object) -> None:
        if str(given[2]).lstrip().upper().startswith(("INSERT", "UPDATE", "DELETE", "BEGIN IMMEDIATE")):
            written.append(str(given[2]))

    event.listen(house.db.engine, "before_cursor_execute", note)
    with house.db.reading() as s:
        seen = lane_preview.preview(house.context(s), wish)
    event.remove(house.db.engine, "before_cursor_execute", note)
    assert not written, "a look takes no turn to write"
    with house.db.reading() as s:
        # In a transaction that is thrown away.
        context = house.context(s)
        lanes.open_requested(context, wish, by_itself=False)
        really = stands(context, wish.sku)
    assert (*seen.money.values(), seen.shows) == really
    assert seen.outcome != "no listing" and seen.orders == (1 if wish.sku == 4 else 0)


def test_what_may_not_be_opened_is_refused_as_opening_it_is(house: Small) -> None:
    for wish, error in (
        (lanes.LaneRequest(3, parts((3, "1"))), Conflict),
        (lanes.LaneRequest(3, parts((1, "1"), (1, "2"))), Invalid),
        (lanes.LaneRequest(3, parts((1, "1")), ends=START - timedelta(days=1)), Invalid),
        (lanes.LaneRequest(3, []), Invalid),
    ):
        told = []
        for look in (lane_preview.preview, lanes.open_requested):
            with house.db.reading() as s, pytest.raises(error) as found:
                look(house.context(s), wish)
            told.append(str(found.value))
        assert told[0] == told[1]


def test_a_look_waits_for_nobody_who_writes(house: Small) -> None:
    with house.db.writing() as s:
        s.scalars(select(Item).limit(1)).one().stock = 3
        with house.db.reading() as other:
            assert lane_preview.preview(house.context(other), WISHES["a kit"]).money["landed"]
