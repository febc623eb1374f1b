"""Sizes and colours at once: every combination with its item, price and quantity; dropped, changed and taken back as one."""

from __future__ import annotations

from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st
from sqlalchemy import select

from amber_lane.core.options import Option, bare, combinations, fits, in_order, read_options, same
from amber_lane.data.lanes import Lane
from amber_lane.data.outbox import Outbox
from amber_lane.data.shelf import Listing, Sku, Variant
from amber_lane.data.source import Item
from amber_lane.services.activity import undo
from amber_lane.services.base.errors import Conflict, Invalid
from amber_lane.services.catalogue.search import Finder
from amber_lane.services.listings import preparation, publishing, variant_commands
from amber_lane.services.listings.variant_commands import VariantRequest
from amber_lane.services.listings.variant_matrix import MOST, build
from amber_lane.services.pricing import manual_price

from ...small import Small

SIZES, COLOURS = ("350 ml", "500 ml"), ("navy", "moss")
words = st.text("abcdefgh ", min_size=1, max_size=8).map(str.strip).filter(bool)


@given(st.lists(st.tuples(words, words), min_size=1, max_size=12, unique_by=lambda pair: tuple(map(str.casefold, pair))))
def test_options_read_from_words_can_say_every_one_of_them(pairs: list[tuple[str, str]]) -> None:
    texts = [f"{one}, {other}" for one, other in pairs]
    options = read_options(texts)
    combos = combinations(options)
    assert len(set(combos)) == len(combos) and all(any(same(combo, text) for combo in combos) for text in texts)


def test_what_differs_is_taken_out_of_a_title_and_nothing_else() -> None:
    assert bare("Thermal mug, 350 ml, navy, Skerry mk 2", "350 ml, navy") == "Thermal mug, Skerry mk 2"
    assert bare("Navy blue navyish mug (navy)", "navy") == "blue navyish mug"
    assert not fits(["S"], "USB, slim") and fits(["S", "navy"], "navy / S") and in_order(["XL", "s", "M"]) == ("s", "M", "XL")


@pytest.fixture
def mug(small: Small) -> Small:
    """Items 1 to 3 are a mug in three of four combinations; 4 is something else; the first is in preparation."""
    kinds = ["350 ml, navy", "500 ml, navy", "350 ml, moss"]

    def make(context: Any) -> None:
        for n, kind in enumerate(kinds, 11):
            title = f"Skerry thermal mug {kind}"
            context.session.add(
                Item(
                    id=n,
                    supplier_id=1,
                    origin_id=1,
                    number=f"M-{n}",
                    title=title,
                    options=kind,
                    brand="Skerry",
                    currency="GBP",
                    cost=500 + n,
                )
            )
            context.session.flush()
            context.get(Item, n, "item").stock = 9
        context.session.add(
            Item(
                id=14, supplier_id=1, origin_id=1, number="M-14", title="Skerry mug mat", brand="Skerry", currency="GBP", cost=100, stock=5
            )
        )
        context.session.flush()
        preparation.prepare(context, Finder(), [11], 1)

    small.write(make)
    return small


def the_mug(small: Small) -> Listing:
    row: Listing = small.all(select(Listing).where(Listing.state == "preparing").order_by(Listing.id))[0]
    return row


def put(small: Small, wishes: list[VariantRequest], title: str = "Thermal mug", options: list[Option] | None = None) -> Any:
    row = the_mug(small)

    def do(context: Any) -> Any:
        given = options or [Option("Size", SIZES), Option("Colour", COLOURS)]
        return variant_commands.save_variants(
            context, Finder(), row.id, context.get(Listing, row.id, "listing").version, title, given, wishes
        )[1]

    return small.write(do)


def all_of(**change: VariantRequest) -> list[VariantRequest]:
    rows = {
        f"{size} {colour}": VariantRequest((size, colour), (size, colour) != ("500 ml", "moss")) for size in SIZES for colour in COLOURS
    }
    return [change.get(name.replace(" ", "_"), wish) for name, wish in rows.items()]


def test_the_matrix_finds_options_items_prices_and_what_nobody_has(mug: Small) -> None:
    with mug.db.reading() as s:
        made = build(mug.context(s), Finder(), the_mug(mug).id)
    assert [(one.name, one.values) for one in made.options] == [("Size", SIZES), ("Colour", COLOURS)]
    assert [(row.values, row.item.number if row.item else "") for row in made.rows] == [
        (("350 ml", "navy"), "M-11"),
        (("350 ml", "moss"), "M-13"),
        (("500 ml", "navy"), "M-12"),
        (("500 ml", "moss"), ""),
    ]
    assert made.title == "Skerry thermal mug" and {one.id for one in made.items} == {11, 12, 13}
    assert all(row.worth.known and row.worth.price > row.worth.landed for row in made.rows if row.worth)


def test_combinations_are_made_with_lane_price_and_words_and_undone_as_one(mug: Small) -> None:
    at = (SIZES[1], "navy")
    done = put(mug, all_of(**{"500_ml_navy": VariantRequest(at, True, price=2999, most=3)}))
    assert (done.made, done.dropped, done.failed) == (2, 0, {})
    rows = mug.all(
        select(Listing, Sku, Variant).join(Sku, Sku.id == Listing.sku_id).join(Variant, Variant.sku_id == Sku.id).order_by(Sku.id)
    )
    with mug.db.reading() as s:
        rows = s.execute(select(Listing, Sku, Variant).join(Sku, Sku.id == Listing.sku_id).join(Variant, Variant.sku_id == Sku.id)).all()
        assert {tuple(one.options.values()) for _, _, one in rows} == {("350 ml", "navy"), ("350 ml", "moss"), at}
        assert len({one.family for _, _, one in rows}) == 1 and {row.state for row, _, _ in rows} == {"preparing"}
        row = next(row for row, sku, _ in rows if sku.options == "500 ml, navy")
        assert (row.title, row.wanted_price, row.hand_price, row.most) == ("Thermal mug, 500 ml, navy", 2999, 2999, 3)
        assert s.scalar(select(Lane.id).where(Lane.sku_id == row.sku_id, Lane.closed_at.is_(None)))
    mug.write(lambda context: publishing.publish(context, [row.id for row, _, _ in rows]))
    bodies = [one.body["words"] for one in mug.all(select(Outbox).where(Outbox.state == "waiting")) if "words" in one.body]
    assert len(bodies) == 3 and len({one["family"] for one in bodies}) == 1
    mug.write(lambda context: undo.undo(context, mug.act("listing.publish").id))
    mug.write(lambda context: undo.undo(context, mug.act("family.keep").id))
    assert not mug.all(select(Variant)) and len(mug.all(select(Listing).where(Listing.state == "preparing"))) == 1


def test_a_dropped_combination_leaves_the_store_and_comes_back_with_undo(mug: Small) -> None:
    put(mug, all_of())
    ids = [row.id for row in mug.all(select(Listing).where(Listing.state == "preparing"))]
    mug.write(lambda context: publishing.publish(context, ids[1:]))
    done = put(mug, all_of(**{"350_ml_moss": VariantRequest((SIZES[0], "moss"), False)}))
    moss = mug.all(select(Sku).where(Sku.options == "350 ml, moss"))[0]
    assert done.dropped == 1 and mug.listing(moss.id).state == "ended" and len(mug.all(select(Variant))) == 2
    assert mug.all(select(Outbox).where(Outbox.state == "waiting").order_by(Outbox.id.desc()))[0].body["state"] == "ended"
    mug.write(lambda context: undo.undo(context, mug.act("family.keep").id))
    assert mug.listing(moss.id).state == "live" and len(mug.all(select(Variant))) == 3


def test_what_cannot_be_is_told_and_the_rest_is_done(mug: Small) -> None:
    lost = (SIZES[1], "navy")
    done = put(mug, all_of(**{"500_ml_moss": VariantRequest((SIZES[1], "moss"), True), "500_ml_navy": VariantRequest(lost, True, price=1)}))
    assert done.made == 1 and set(done.failed) == {"500 ml, moss", "500 ml, navy"}
    assert "no item" in done.failed["500 ml, moss"] and "loses" in done.failed["500 ml, navy"]
    twice = {"350_ml_moss": VariantRequest((SIZES[0], "moss"), True, item=11)}
    for bad, error in (
        (lambda: put(mug, all_of(**twice)), Invalid),
        (lambda: put(mug, all_of()[:1] * 2), Conflict),
        (lambda: put(mug, [VariantRequest(one.values, False) for one in all_of()]), Invalid),
        (lambda: put(mug, [], options=[Option("Size", tuple(f"{n}" for n in range(MOST + 1)))]), Invalid),
        (lambda: put(mug, [], options=[Option("Size", ("S", "s"))]), Invalid),
    ):
        with pytest.raises(error):
            bad()
    assert len(mug.all(select(Variant))) == 2


def test_weight_goes_to_every_store_that_shows_the_sku(small: Small) -> None:
    def do(context: Any) -> None:
        small.second_store(context.session)
        small.list_sku(context.session, 1, store=2)
        publishing.edit(context, small.listing(1).id, None, {"weight_g": 420})

    small.write(do)
    told = [one.body for one in small.all(select(Outbox).where(Outbox.kind == "listing", Outbox.state == "waiting"))]
    assert [one["words"]["weight_g"] for one in told if "words" in one] == [420, 420]
    small.write(lambda context: undo.undo(context, small.act("listing.words").id))
    assert small.all(select(Sku).where(Sku.id == 1))[0].weight_g == 0


def test_a_price_fixed_in_preparation_never_reaches_the_store_and_is_guarded(mug: Small) -> None:
    row = the_mug(mug)
    with pytest.raises(Invalid, match="loses"):
        mug.write(lambda context: manual_price.fix_price(context, row.id, row.version, 100))
    mug.write(lambda context: manual_price.fix_price(context, row.id, row.version, 5000))
    mug.write(lambda context: undo.undo(context, mug.act("price.hand").id))
    assert the_mug(mug).wanted_price == row.wanted_price
    assert not mug.all(select(Outbox).where(Outbox.subject == f"listing:{row.id}"))


def test_what_stands_already_is_never_written_over_and_all_of_it_is_taken_back(mug: Small) -> None:
    """An item that fills another listing keeps that one's words; a new common title and a dropped size brought back are undone too."""
    mug.write(lambda context: publishing.edit(context, the_mug(mug).id, None, {"description": "The mug's own"}))
    lost = (SIZES[1], "moss")
    put(mug, all_of(**{"500_ml_moss": VariantRequest(lost, True, item=4)}))
    thing = mug.listing(4)
    assert (thing.title, thing.description, thing.state) == ("Thing 4", "", "live")
    put(mug, all_of(**{"350_ml_moss": VariantRequest((SIZES[0], "moss"), False)}))
    before = {row.id: (row.title, row.state) for row in mug.all(select(Listing))}
    put(mug, all_of(), title="Another mug")
    after = {row.id: (row.title, row.state) for row in mug.all(select(Listing))}
    assert sum("Another mug" in title for title, _ in after.values()) >= 2 and after != before
    mug.write(lambda context: undo.undo(context, mug.act("family.keep").id))
    states = {row.id: (row.title, row.state) for row in mug.all(select(Listing))}
    assert {number: state for number, (_, state) in states.items()} == {number: state for number, (_, state) in before.items()}
    assert all(states[number][0] == title for number, (title, state) in before.items() if state != "ended")


def test_a_sku_of_another_family_is_not_taken_from_it(mug: Small) -> None:
    put(mug, all_of())
    other = mug.listing(5)
    mug.write(lambda context: context.session.add(Variant(family="OTHER", sku_id=other.sku_id, options={"Size": "S"})))
    done = put(mug, all_of(**{"500_ml_moss": VariantRequest((SIZES[1], "moss"), True, item=5)}))
    assert "another thing" in done.failed["500 ml, moss"]
    assert mug.all(select(Variant.family).where(Variant.sku_id == other.sku_id)) == ["OTHER"]
