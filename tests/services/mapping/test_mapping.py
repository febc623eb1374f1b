"""Mapping: what is sure opens by itself, what a person says is kept, many at once are one act; and lanes that cannot be right."""

from __future__ import annotations

from fractions import Fraction

import pytest
from sqlalchemy import select

from amber_lane.core.states import LaneCause
from amber_lane.data.lanes import Lane, LanePart
from amber_lane.data.orders import OrderLine
from amber_lane.data.shelf import Sku
from amber_lane.data.source import Item
from amber_lane.jobs.background_jobs import LongJobs
from amber_lane.services.activity import undo
from amber_lane.services.alerts import today
from amber_lane.services.base.context import Context
from amber_lane.services.base.errors import Conflict
from amber_lane.services.base.job_queue import start
from amber_lane.services.grids import goods_grids
from amber_lane.services.grids.grid import GridQuery
from amber_lane.services.mapping import (
    audit,
    auto_matching,
    bulk_changes,
    item_candidates,
    lanes,
    mapping_queue,
    switch_supplier,
    variants,
)
from amber_lane.services.pricing.drafts import PolicyChange

from ...small import Small
from .two_suppliers import bare, name, opened, second

CODES = ["5000003000019", "5000003000026", "5000003000033", "5000003000040"]


@pytest.fixture
def strap(small: Small) -> Small:
    """SKUs 1 to 3 are a strap in three lengths without a lane, which both suppliers have; 4 is refused below."""

    def make(context: Context) -> None:
        second(context)
        for n, length in ((1, 30), (2, 50), (3, 80)):
            bare(context, n)
            name(context, Sku, n, f"Mossgate heater strap {length} cm", gtin=CODES[n - 1])
            name(context, Item, n, f"Heater strap Mossgate {length}cm", gtin=CODES[n - 1])
            name(context, Item, 20 + n, f"Mossgate strap, heater, {length * 10} mm", gtin=CODES[n - 1])

    small.write(make)
    return small


def test_the_sure_are_opened_by_a_job_with_spares_and_proof_and_a_refused_pair_never(strap: Small) -> None:
    order = strap.order("W", ("S-1", 1, 3000))
    strap.write(lambda context: bulk_changes.refuse(context, 2, [2, 22]))
    strap.write(lambda context: start(context, "match", "match-all", "Matching", {}))
    LongJobs(strap.db, strap.clock, None).run_due()  # type: ignore[arg-type]
    # The cheaper one at the door is the main lane, the other its spare; the refused SKU still waits for a person.
    assert opened(strap, 1) == [(0, 21), (1, 1)] and opened(strap, 3) == [(0, 23), (1, 3)] and opened(strap, 2) == []
    lane = strap.lane(1)
    with strap.db.reading() as s:
        by = {
            who: {row.sku for row in goods_grids.page(strap.context(s), "lanes", GridQuery(filters={"by": who}))[0]}
            for who in ("itself", "person")
        }
    assert {"S-1", "S-3"} <= by["itself"] and not by["itself"] & by["person"]
    assert lane.match_evidence["alone"] and lane.match_evidence["score"] > 90 and f"barcode {CODES[0]}" in lane.match_evidence["agrees"]
    assert [row.state for row in strap.all(select(OrderLine).where(OrderLine.order_id == order.id))] == ["ready"]
    act = strap.act("lane.sure")
    assert act.undo == "open" and act.count == 2 and strap.listing(1).lane_id == lane.id
    # Taken back, or closed by a person, none is opened by itself again; what was another item's may be.
    strap.write(lambda context: undo.undo(context, act.id))
    strap.write(lambda context: lanes.open_lane(context, 3, [lanes.LaneItem(3, Fraction(1))]))
    strap.write(lambda context: lanes.close_lane(context, strap.lane(3).id, strap.lane(3).version))
    with strap.db.reading() as s:
        assert not [one.items for one in auto_matching.find_sure(strap.context(s)) if one.sku in (1, 3)]
    strap.write(lambda context: PolicyChange("house", "", {"open_sure": False}).keep(context))
    with strap.db.reading() as s:
        assert not auto_matching.alone(strap.context(s))


def test_another_pack_opens_alone_only_where_allowed_and_then_in_its_units(small: Small) -> None:
    def make(context: Context) -> None:
        context.session.add(Sku(id=90, code="HOOK", title="Brass awning hook"))
        context.session.add(
            Item(
                id=90,
                supplier_id=1,
                origin_id=1,
                number="H5",
                title="Brass awning hook pack of 5",
                pack_size=5,
                currency="GBP",
                cost=500,
                stock=40,
            )
        )
        context.session.flush()
        small.list_sku(context.session, 90)

    small.write(make)
    assert not small.write(lambda context: auto_matching.find_sure(context, skus=[90]))
    small.write(lambda context: PolicyChange("house", "", {"open_packs": True}).keep(context))
    small.write(lambda context: auto_matching.open_sure(context, auto_matching.find_sure(context, skus=[90])))
    (part,) = small.all(select(LanePart).where(LanePart.item_id == 90))
    assert (part.units_num, part.units_den) == (1, 5)


def test_faults_finds_what_was_opened_wrongly_and_units_that_read_otherwise(small: Small) -> None:
    def make(context: Context) -> None:
        for n, ours, theirs in ((80, "Dew heater strap mk 4", "Dew heater strap mk 4 controller"), (81, "Tide clock x2", "Tide clock")):
            context.session.add(Sku(id=n, code=f"W-{n}", title=ours))
            context.session.add(Item(id=n, supplier_id=1, origin_id=1, number=f"W{n}", title=theirs, currency="GBP", cost=500, stock=9))
            context.session.flush()
            small.list_sku(context.session, n)
        auto_matching.open_sure(context, [auto_matching.Sure(n, [n], [auto_matching.proof_of(99, [], [], alone=True)]) for n in (80, 81)])

    small.write(make)
    with small.db.reading() as s:
        found = {one.code: one for one in audit.faults(small.context(s)) if one.code in ("W-80", "W-81")}
    assert found["W-80"].kind == "wrong" and "controller" in found["W-80"].reason and found["W-80"].act == "close"
    assert found["W-81"].kind == "units" and found["W-81"].step == "Set it to 2"
    for one in found.values():
        small.write(lambda context: audit.mend(context, one.key))
    with small.db.reading() as s:
        assert not [one for one in audit.faults(small.context(s)) if one.code in ("W-80", "W-81")]


def test_what_waits_stands_in_order_and_says_why(strap: Small) -> None:
    strap.write(lambda context: (bare(context, 3), bulk_changes.refuse(context, 3, [3])))
    strap.order("A", ("S-2", 1, 900))
    strap.order("B", ("S-1", 2, 9000))
    strap.order("C", ("s-NEW", 1, 500))
    strap.write(lambda context: lanes.change_lane(context, strap.lane(5).id, strap.lane(5).version, state="shut", reason="another pack"))
    strap.sweep({6: (600, 20)})
    strap.write(lambda context: name(context, Item, 6, "Item 6", offer="gone"))
    with strap.db.reading() as s:
        rows = mapping_queue.to_settle(strap.context(s))
        # Orders first, the dearest of them first; a SKU that nobody knew is made, so that it can be mapped.
        assert [row.sku.code for row in rows] == ["S-1", "S-2", "s-NEW", "S-6", "S-5", "S-3"]
        told = {row.sku.code: (row.kind, row.message) for row in rows}
    assert told["s-NEW"] == ("no lane", "not on sale, but ordered") and told["S-5"] == ("lane shut", "another pack")
    assert told["S-6"] == ("item gone", "I-6 is gone") and told["S-3"][1] == "none fitted so far"
    with strap.db.reading() as s:
        kinds = {one.kind for one in today.open_alerts(strap.context(s))}
    assert {"Item gone", "Lane shut"} <= kinds


def test_a_family_is_settled_over_all_of_it_and_each_item_goes_to_one_size(strap: Small) -> None:
    with strap.db.reading() as s:
        found = variants.family_of(strap.context(s), 2)
    assert [one.code for one in found.skus] == ["S-1", "S-2", "S-3"] and [one.code for one in found.suppliers] == ["OTH", "SUP"]
    assert {(sku, supplier): cell.item.id for (sku, supplier), cell in found.cells.items()} == {
        (n, 1 + other): n + 20 * other for n in (1, 2, 3) for other in (0, 1)
    }
    assert {cell.decision for cell in found.cells.values()} == {"open"} and found.cells[1, 2].landed == 90 + 90 + 20


def strap_lane(context: Context) -> Lane:
    lane = lanes.lanes_of(context, 1)[0][0]
    lane.state = "shut"
    return lane


def test_offers_are_drawn_in_their_titles_with_units_and_what_is_kept(strap: Small) -> None:
    strap.write(lambda context: (name(context, Item, 1, "Heater strap Mossgate 30cm", gtin="", pack_size=5), context.session.flush()))
    with strap.db.reading() as s:
        sku = s.get(Sku, 1)
        rows = {one.like.item.id: one for one in item_candidates.offers(strap.context(s), sku).rows}
    whole, fifth = rows[21], rows[1]
    said = {whole.like.item.title[mark.start : mark.end]: mark.kind for mark in whole.theirs}
    assert said["strap"] == "same" and whole.cost.landed == 200 and whole.profit == 395 - 40 - 200
    assert fifth.units == Fraction(1, 5) and fifth.stock == 100 and fifth.cost.landed == 100 + 100 + 30 and fifth.like.decision != "open"
    # A lane that is there keeps a person's units, whatever the packs say; another pack now asks them anew.
    strap.write(lambda context: lanes.open_lane(context, 1, [lanes.LaneItem(1, Fraction(2))]))
    for why, units in ((LaneCause.none, 2), (LaneCause.packs, Fraction(1, 5))):
        strap.write(lambda context, why=why: setattr(strap_lane(context), "cause", why))
        with strap.db.reading() as s:
            row = next(one for one in item_candidates.offers(strap.context(s), s.get(Sku, 1)).rows if one.like.item.id == 1)
        assert row.lane and row.units == units
    longer = rows[22]
    assert "differs" in {mark.kind for mark in longer.theirs} and "30 cm / 500 mm" in longer.like.differs


def test_numbers_that_follow_from_ours_are_learnt_from_lanes_and_count(small: Small) -> None:
    def make(context: Context) -> None:
        for n in range(1, 7):
            name(context, Sku, n, f"Thing {n}", code=f"DD-{n}00{n}")
            name(context, Item, n, f"Item {n}", number=f"NT-{n}00{n}")
        context.session.add(
            Item(id=9, supplier_id=1, origin_id=1, number="NT-9009", title="Lantern, folding", currency="GBP", cost=300, stock=5)
        )
        context.session.add(
            Item(id=10, supplier_id=1, origin_id=1, number="NT-1111", title="Lantern, folding", currency="GBP", cost=300, stock=5)
        )
        context.session.flush()
        small.list_sku(context.session, 9)
        name(context, Sku, 9, "Folding lantern", code="DD-9009")
        found = auto_matching.learn_patterns(context)
        assert [(one.cut, one.put, one.seen) for one in found] == [(("DD", ""), ("NT", ""), 6)]
        auto_matching.keep_patterns(context, found)

    small.write(make)
    with small.db.reading() as s:
        context = small.context(s)
        best = item_candidates.offers(context, s.get(Sku, 9)).rows[0].like
        assert best.item.id == 9 and best.decision == "open" and "number NT… from DD…, as in 6 lanes" in best.agrees
        assert [one.items for one in auto_matching.find_sure(context)] == [[9]]


def test_a_suppliers_lanes_move_to_another_by_likeness_and_back(strap: Small) -> None:
    for n in (1, 2, 3):
        strap.write(lambda context, n=n: lanes.open_lane(context, n, [lanes.LaneItem(n, Fraction(1))]))
    strap.write(lambda context: lanes.open_lane(context, 3, [lanes.LaneItem(23, Fraction(1))], use=1))
    with strap.db.reading() as s:
        rows = {one.sku.id: one for one in switch_supplier.preview(strap.context(s), 1, 2)}
    assert [rows[n].item.id for n in (1, 2, 3)] == [21, 22, 23] and rows[3].has and rows[5].decision != "open"
    assert (rows[2].now.landed, rows[2].then.landed) == (200 + 100 + 30, 180 + 90 + 20)
    assert strap.write(lambda context: switch_supplier.move(context, 1, {1: 21, 3: 23}, {}, keep_old=True)) == 2
    assert opened(strap, 1) == [(0, 21), (1, 1)] and opened(strap, 3) == [(0, 23), (1, 3)] and opened(strap, 2) == [(0, 2)]
    assert strap.listing(1).landed == 200
    with pytest.raises(Conflict, match="nothing is chosen"):
        strap.write(lambda context: switch_supplier.move(context, 1, {}, {}, keep_old=True))
    with pytest.raises(Conflict, match="changed since"):
        strap.write(
            lambda context: (
                bulk_changes.change_many(context, [strap.lane(1).id], "shut"),
                bulk_changes.put_back(context, strap.act("lane.move")),
            )
        )
    strap.write(lambda context: bulk_changes.put_back(context, strap.act("lane.move")))
    assert opened(strap, 1) == [(0, 1)] and opened(strap, 3) == [(0, 3), (1, 23)]
