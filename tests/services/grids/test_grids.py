"""Long lists: what is asked for is what is shown, however the database finds it."""

from __future__ import annotations

from fractions import Fraction

import pytest
from sqlalchemy import select

from amber_lane.data.lanes import Lane
from amber_lane.data.setup import Supplier
from amber_lane.data.shelf import Listing
from amber_lane.services.base.context import Context
from amber_lane.services.base.errors import Invalid
from amber_lane.services.fulfilment import parcel_tracking
from amber_lane.services.grids import goods_grids
from amber_lane.services.grids.goods_grids import LISTS, GridQuery
from amber_lane.services.mapping import lanes
from amber_lane.services.monitoring import sweeps
from amber_lane.services.pricing import what_if
from amber_lane.services.purchasing import purchase_orders, supplier_answers

from ...small import Small


@pytest.fixture
def full(small: Small) -> Small:
    """A house that has something in every list."""
    small.respond()
    small.sweep({1: (120, 20), 2: (900, 0), 3: (300, 5)})
    small.order("A-1", ("S-1", 1, 2000), ("S-3", 2, 2500))
    small.order("A-2", ("S-9", 1, 2000))
    sent = small.order("B_3", ("S-4", 1, 3000))

    def go_on(context: Context) -> None:
        made = purchase_orders.send(context, [sent.id])
        tracking = supplier_answers.PurchaseAnswer(made[0].reference, "N-1", "shipped", "", None, None)
        supplier_answers.take_answer(context, tracking)

        parcel_tracking.enter_tracking(context, made[0].reference, "RR473124829GB", "Hill Post")

    small.write(go_on)
    return small


def rows(small: Small, name: str, wish: GridQuery) -> tuple[list[dict[str, object]], int]:
    with small.db.reading() as s:
        found, total = goods_grids.page(small.context(s), name, wish)
        return [dict(row._mapping) for row in found], total


def value(row: dict[str, object], name: str) -> tuple[bool, object]:
    return (row[name] is not None, row[name])


@pytest.mark.parametrize("name", LISTS)
def test_every_column_sorts_every_page_fits_and_nothing_is_twice(full: Small, name: str) -> None:
    plain, total = rows(full, name, GridQuery())
    assert len(plain) == total > 0
    for column in LISTS[name].columns:
        if plain and isinstance(plain[0][column], dict):
            continue
        for down in (False, True):
            got, count = rows(full, name, GridQuery(sort=column, down=down))
            assert count == total and sorted(map(repr, got)) == sorted(map(repr, plain)), (column, "the same rows in another order")
            values = [value(row, column) for row in got if not isinstance(row[column], dict)]
            assert values == sorted(values, reverse=down), column
            pages = [rows(full, name, GridQuery(sort=column, down=down, offset=at, limit=2))[0] for at in range(0, total, 2)]
            assert [row for page in pages for row in page] == got, (column, "pages are the whole, cut")
    assert rows(full, name, GridQuery(offset=10**6))[0] == []


@pytest.mark.parametrize("name", LISTS)
def test_filters_keep_what_they_say_and_the_narrow_way_finds_the_same(full: Small, name: str, monkeypatch: pytest.MonkeyPatch) -> None:
    listed = LISTS[name]
    shown = {column.key if hasattr(column, "key") else "": key for key, column in listed.columns.items()}
    plain, _ = rows(full, name, GridQuery())
    wishes = []
    for key, column in listed.filters.items():
        mine = next((label for label, one in listed.columns.items() if one is column), None)
        for one in {row[mine] for row in plain if mine and row[mine] is not None}:
            wishes.append((GridQuery(filters={key: str(one)}, sort="id"), sum(row[mine] == one for row in plain)))
    for wish, expected in wishes:
        assert rows(full, name, wish)[1] == expected, (wish, shown)
    words = [
        GridQuery(words="S-1"),
        GridQuery(words="thing 3", sort="id", down=True),
        GridQuery(words="%"),
        GridQuery(words="_"),
        GridQuery(words="\\"),
        GridQuery(words="no such word"),
    ]
    narrow = [rows(full, name, wish) for wish in (*words, *(wish for wish, _ in wishes))]
    monkeypatch.setitem(LISTS, name, goods_grids.GridSpec(**{**listed.__dict__, "slim": ()}))
    assert narrow == [rows(full, name, wish) for wish in (*words, *(wish for wish, _ in wishes))]
    # Words that mean something to the database mean nothing here.
    if name in ("listings", "lanes", "responses"):
        assert rows(full, name, GridQuery(words="_"))[1] == 0


def test_words_are_found_as_they_are_written(full: Small) -> None:
    assert [row["number"] for row in rows(full, "orders", GridQuery(words="b_3"))[0]] == ["B_3"]
    assert rows(full, "orders", GridQuery(words="a-1 wren"))[1] == 1 and rows(full, "orders", GridQuery(words="a-1 nobody"))[1] == 0
    assert {row["sku"] for row in rows(full, "listings", GridQuery(words="THING", filters={"state": "live,paused"}))[0]} == {
        f"S-{n}" for n in range(1, 7)
    }


@pytest.mark.parametrize(
    ("wish", "said"),
    [
        (GridQuery(sort="mood"), "cannot be sorted"),
        (GridQuery(filters={"mood": "x"}), "cannot be filtered"),
        (GridQuery(filters={"sweep": "x"}), "is not a value"),
    ],
)
def test_what_a_list_does_not_have_is_told(full: Small, wish: GridQuery, said: str) -> None:
    with pytest.raises(Invalid, match=said):
        rows(full, "responses", wish)


def test_orders_stand_where_their_furthest_line_stands(full: Small) -> None:
    with full.db.reading() as s:
        counts = goods_grids.states_of_orders(full.context(s))
    assert counts == {"needs_lane": 1, "ready": 1, "on_the_road": 1}
    for state, n in counts.items():
        assert rows(full, "orders", GridQuery(filters={"rank": goods_grids.ORDER_STATES[state]}))[1] == n


def test_the_figures_of_a_row_add_up_and_are_explained_the_same_way(full: Small) -> None:
    """Landed and profit in the list are those of the waterfall behind it."""
    for row in rows(full, "listings", GridQuery())[0]:
        with full.db.reading() as s:
            _, _, why = what_if.explain_price(full.context(s), int(str(row["id"])))
        assert why is not None
        steps = {step.name: step.amount for step in why.steps}
        costs = sum(steps.get(name, 0) for name in ("Goods", "Shipping", "Packing and handling"))
        assert (steps["Sells at"], steps["Profit"]) == (row["price"], row["profit"]), row
        assert -costs == row["landed"] or row["landed"] == full.all(select(Listing.landed).where(Listing.id == row["id"]))[0]


def test_a_listing_stands_beside_the_lane_that_fills_it(full: Small) -> None:
    """Where the main lane is shut and a spare sells it, its row is not that of a lane that nothing can be bought by."""

    def spare(context: Context) -> None:
        lanes.open_lane(context, 3, [lanes.LaneItem(5, Fraction(1))], use=1)
        main = context.get(Lane, full.lane(3).id, "lane")
        main.state, main.reason = "shut", "it comes in other packs"

    full.write(spare)
    full.respond()
    (row,) = [one for one in rows(full, "listings", GridQuery())[0] if one["sku"] == "S-3"]
    assert (row["state"], row["lane_state"]) == ("live", full.lane(3, 1).state) and row["lane_state"] != "shut"


def test_a_supplier_that_is_gone_quiet_shows_in_no_count_as_stock(full: Small) -> None:
    """A feed that is too old is not believed: nothing is promised from it."""
    full.later(hours=30)

    def grow_old(context: Context) -> None:
        sweeps.step_on(context)
        sweeps.grow_old(context, context.get(Supplier, 1, "supplier"))

    full.write(grow_old)
    assert {row.state for row in full.all(select(Listing))} == {"paused"}
