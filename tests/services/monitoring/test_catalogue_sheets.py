"""Catalogue sheets taken in by hand: new items enter, known ones follow as by a sweep, nothing wrong is believed."""

from __future__ import annotations

from typing import Any

import pytest
from sqlalchemy import select, update

from amber_lane.data.setup import Supplier
from amber_lane.data.source import Item
from amber_lane.services.base.errors import Conflict, Invalid
from amber_lane.services.monitoring import catalogue_sheets
from amber_lane.sheets.mapped import Reading, look
from amber_lane.sheets.opened import NotASheet

from ...small import Small

HEAD = "Code,Name,Price,Available,Pack"


def sheet(*rows: str) -> bytes:
    return "\n".join([HEAD, *rows]).encode()


@pytest.fixture
def hand(small: Small) -> Small:
    """The supplier tells nothing by itself; its columns are named."""

    def make(context: Any) -> None:
        context.session.execute(update(Supplier).values(kind="sheet"))
        catalogue_sheets.keep_reading(context, 1, look(sheet("A,B,1.00,1,1")).reading, whole=False)

    small.write(make)
    small.respond()
    return small


def take(small: Small, *rows: str) -> dict[str, Any]:
    steps: list[tuple[int, int]] = []
    small.later(minutes=5)
    out = catalogue_sheets.take_sheet(1, sheet(*rows), small.db, lambda s: small.context(s), lambda done, of: steps.append((done, of)))
    assert steps == sorted(steps) and steps[-1][0] == steps[-1][1]
    return out


def cost(small: Small, number: str) -> tuple[int, int, str]:
    row = small.all(select(Item).where(Item.number == number))[0]
    return row.cost, row.stock, row.offer


def test_new_items_enter_and_known_ones_follow_with_their_doubts(hand: Small) -> None:
    told = take(hand, "M-1,Wool hat,3.40,7,1", "M-1,Wool hat,3.50,8,1", "I-1,Item 1,1.10,9,1", "I-2,Item 2,0.01,9,1", "M-2,Scarf,free,1,1")
    assert (told["fresh"], told["known"], told["bad_count"]) == (1, 2, 2) and "free" in told["bad"][0]
    assert cost(hand, "M-1") == (350, 8, "good") and cost(hand, "I-1") == (110, 9, "good")
    assert cost(hand, "I-2")[::2] == (200, "doubted"), "a price of 0.01 is not believed"
    assert cost(hand, "I-3") == (300, 20, "good"), "what a sheet does not name is not gone"
    assert hand.listing(1).landed == 110 + 100 + 30
    again = take(hand, "M-1,Wool hat,3.50,8,1")
    assert (again["fresh"], again["known"]) == (0, 1)


def test_another_pack_stops_the_lane_before_anything_is_sold_by_it(hand: Small) -> None:
    take(hand, "I-4,Item 4,4.00,20,10")
    assert hand.lane(4).state == "shut" and "packs of 10" in hand.lane(4).reason


def test_a_sheet_without_a_column_leaves_what_it_told_before(hand: Small) -> None:
    take(hand, "M-1,Wool hat,3.40,7,6")

    def poorer(context: Any) -> None:
        catalogue_sheets.keep_reading(context, 1, look(b"Code,Name,Price,Available\nA,B,1.00,1").reading, whole=False)

    hand.write(poorer)
    hand.later(minutes=5)
    data = b"Code,Name,Price,Available\nM-1,Warm wool hat,3.50,9\nI-1,Item 1,1.10,9"
    catalogue_sheets.take_sheet(1, data, hand.db, lambda s: hand.context(s), lambda done, of: None)
    (item,) = hand.all(select(Item).where(Item.number == "M-1"))
    assert (item.title, item.cost, item.pack_size) == ("Warm wool hat", 350, 6) and hand.lane(1).state != "shut"


def test_what_cannot_be_read_changes_nothing(hand: Small) -> None:
    before = {row.number: (row.cost, row.stock) for row in hand.all(select(Item))}
    for rows in (["x,y,z"], ["I-1,Item 1,1.00,no,1"]):
        with pytest.raises(NotASheet):
            take(hand, *rows)
    with pytest.raises(NotASheet, match="is gone"):
        catalogue_sheets.take_sheet(1, b"Code,Name,Cost\nI-1,x,1\n", hand.db, lambda s: hand.context(s), lambda a, b: None)
    assert {row.number: (row.cost, row.stock) for row in hand.all(select(Item))} == before


@pytest.mark.parametrize(
    ("columns", "told"),
    [
        ({"item": "a", "title": "b", "cost": "c"}, "stock"),
        ({"item": "a", "title": "a", "cost": "c", "stock": "d"}, "two things"),
        ({"item": "a", "title": "b", "cost": "c", "stock": "d", "colour": "e"}, "no field"),
    ],
)
def test_columns_are_named_sensibly_or_it_is_said(hand: Small, columns: dict[str, str], told: str) -> None:
    with pytest.raises(Invalid, match=told):
        hand.write(lambda context: catalogue_sheets.keep_reading(context, 1, Reading(columns, "utf-8", ",", "."), whole=False))


def test_only_suppliers_without_an_interface_take_sheets(small: Small) -> None:
    with pytest.raises(Conflict, match="interface"):
        small.write(lambda context: catalogue_sheets.keep_reading(context, 1, look(sheet("A,B,1.00,1,1")).reading, whole=False))
