"""Lanes by sheet: what would map wrongly is handed back, and out and in again changes nothing."""

from __future__ import annotations

import re

import pytest
from sqlalchemy import select

from amber_lane.data.lanes import Lane
from amber_lane.data.shelf import Listing, Sku
from amber_lane.data.source import Item
from amber_lane.services.base.context import Context
from amber_lane.services.imports.sheet_kinds import kind_of, out_rows

from ...small import Small
from .two_suppliers import name, opened, second

SHEET = "store,sku,supplier,item,units_per_sale,use\n"


@pytest.mark.parametrize(
    ("row", "said"),
    [
        ("First shop,S-1,SUP,5.01E+12,1,main", "powers of ten"),
        ("First shop,1.2e+5,SUP,I-1,1,main", "powers of ten"),
        ("First shop,S-1,SUP,77,1,main", "'0077': are its zeros lost"),
        ("First shop,S-1,SUP,i-2,1,main", "but 'I-2'"),
        ("First shop,S-1,SUP,I-2,0,main", "must lie between|not a number"),
        ("First shop,S-1,SUP,I-2,10000,main", "must lie between"),
        ("First shop,S-1,SUP,I-2,1,spare 3", "needs spare 1 before it"),
        ("First shop,dd-a,SUP,I-2,1,main", "but for capitals"),
        ("First shop,S-1,SUP,I-2,1,first", "not main, spare 1"),
        ("First shop,Привет,SUP,I-2,1,main", "there is no SKU"),
    ],
)  # fmt: skip
def test_a_row_that_would_map_wrongly_is_handed_back_with_a_clear_word(small: Small, row: str, said: str) -> None:
    def make(context: Context) -> None:
        name(context, Item, 6, "Item 6", number="0077")
        context.session.add_all([Sku(code="DD-a", title="x"), Sku(code="DD-A", title="y")])

    small.write(make)
    before = len(small.all(select(Lane)))
    checked = small.sheet("lanes", SHEET + row + "\n")
    assert checked.counts["bad"] == 1 and re.search(said, checked.bad[0][1]), checked.bad
    assert len(small.all(select(Lane))) == before


def test_a_sheet_maps_kits_stores_and_replacements_and_taken_out_and_in_again_changes_nothing(small: Small) -> None:
    small.write(
        lambda context: (
            second(context),
            small.second_store(context.session),
            small.list_sku(context.session, 1, store=2),
            name(context, Item, 6, "Item 6", number="0077"),
        )
    )
    rows = [
        "all,S-1,SUP,I-1,1,main",
        "Second shop alone,s-1,OTH,OT-1,1,main",
        "all,S-2,SUP,I-2,1,main",
        "all,S-2,OTH,OT-2,1/5,main",
        "all,S-3,SUP,I-4,1,main",
        "all,S-3,SUP,I-3,2,spare",
        "all,S-4,SUP,I-5,1,replacement",
        "Second shop,S-5,SUP,I-5,1,main",
        "First shop,S-5,SUP,I-5,1,main",
        "First shop,S-6,SUP,0077,1,main",
        "Second shop,S-6,OTH,OT-6,1,main",
    ]
    checked = small.sheet("lanes", SHEET + "\n".join(rows) + "\n")
    assert checked.counts == {"new": 4, "changed": 3, "same": 4, "bad": 0}
    assert small.listing(1, 2).landed == 90 + 90 + 20 and small.listing(1).landed == 230
    assert small.listing(2).landed == 200 + 130 + 180 + 110
    assert opened(small, 3) == [(0, 4), (1, 3)] and small.lane(4, 1).is_substitute
    with small.db.reading() as s:
        kind = kind_of("lanes")
        head = [*kind.required, *kind.optional]
        again = [dict(zip(head, map(str, row), strict=True)) for row in out_rows(small.context(s), "lanes")]
        counts = kind.check(small.context(s), again, lambda n: None).counts
    assert counts == {"new": 0, "changed": 0, "same": len(again), "bad": 0} and len(again) == 11
    assert {row["store"] for row in again} == {"all", "Second shop alone"}
    # A spare that becomes the main lane is not there twice.
    small.sheet("lanes", SHEET + "all,S-3,SUP,I-3,2,main\n")
    assert opened(small, 3) == [(0, 3)]
    assert small.act("lane.sheet").undo == "open" and small.all(select(Listing.lane_id).where(Listing.sku_id == 3)) == [small.lane(3).id]
