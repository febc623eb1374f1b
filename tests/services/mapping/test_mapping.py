"""Mapping: what is sure opens by itself, what a person says is kept, many at once are one act; and lanes that cannot be right."""

from __future__ import annotations

import re
from datetime import timedelta
from fractions import Fraction
from typing import Any

import pytest
from sqlalchemy import select, update

from amber_lane.connectors.protocols import PurchaseAnswer, Tracking
from amber_lane.core.ids import make_s10
from amber_lane.core.states import LaneCause
from amber_lane.data.lanes import Lane, LanePart
from amber_lane.data.orders import OrderLine, PurchaseLine, PurchaseOrder
from amber_lane.data.setup import Origin, Service, Store, Supplier
from amber_lane.data.shelf import Listing, Sku
from amber_lane.data.source import Item
from amber_lane.data.transit import Parcel
from amber_lane.jobs.background_jobs import LongJobs
from amber_lane.services.activity import undo
from amber_lane.services.alerts import today
from amber_lane.services.base.context import Context
from amber_lane.services.base.errors import Conflict, Invalid
from amber_lane.services.base.job_queue import start
from amber_lane.services.grids import goods_grids
from amber_lane.services.grids.grid import GridQuery
from amber_lane.services.imports.sheet_kinds import kind_of, out_rows
from amber_lane.services.mapping import (
    audit,
    auto_matching,
    bulk_changes,
    item_candidates,
    lane_terms,
    lanes,
    mapping_queue,
    performance,
    switch_supplier,
    variants,
)
from amber_lane.services.orders import orders
from amber_lane.services.orders.routing import replan
from amber_lane.services.pricing.drafts import PolicyChange
from amber_lane.services.purchasing import purchase_orders, supplier_answers

from ...small import Small

CODES = ["5000003000019", "5000003000026", "5000003000033", "5000003000040"]


def second(context: Context, country: str = "GB") -> None:
    """Another supplier, who sends from Far to a country."""
    context.session.add(Supplier(id=2, code="OTH", name="Other House", kind="sheet", country=country, currency="GBP"))
    context.session.flush()
    context.session.add(Origin(id=2, supplier_id=2, code="far", name="Far", country=country, handling=20, holidays=[]))
    context.session.flush()
    context.session.add(Service(origin_id=2, code="post", name="post", country=country, first=90, following=10, days_low=1, days_high=2))
    context.session.add_all(
        Item(id=20 + n, supplier_id=2, origin_id=2, number=f"OT-{n}", title=f"Item {n}", currency="GBP", cost=n * 90, stock=20)
        for n in range(1, 7)
    )
    context.session.flush()


def name(context: Context, kind: Any, row_id: int, title: str, **more: Any) -> None:
    row = context.get(kind, row_id, "row")
    for key, value in {"title": title, **more}.items():
        setattr(row, key, value)
    context.session.flush()


def bare(context: Context, sku: int) -> None:
    for lane, _ in lanes.lanes_of(context, sku):
        lane.closed_at = context.now
    context.session.execute(update(Listing).where(Listing.sku_id == sku).values(lane_id=None))
    context.session.flush()


def opened(small: Small, sku: int) -> list[tuple[int, int]]:
    rows = select(Lane).where(Lane.sku_id == sku, Lane.closed_at.is_(None)).order_by(Lane.priority)
    with small.db.reading() as s:
        return [(row.priority, s.scalars(select(LanePart.item_id).where(LanePart.lane_id == row.id)).first()) for row in s.scalars(rows)]


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


def test_a_kit_of_two_suppliers_is_priced_bought_and_bought_only_once_though_one_refuses(small: Small) -> None:
    small.write(
        lambda context: (
            second(context),
            bare(context, 1),
            lanes.open_lane(context, 1, [lanes.LaneItem(2, Fraction(1)), lanes.LaneItem(21, Fraction(2))]),
        )
    )
    small.respond()
    # 2.00 with its parcel, and two of 0.90 with theirs.
    assert small.listing(1).landed == 200 + 100 + 30 + 180 + 90 + 20
    order = small.order("KIT", ("S-1", 1, 3000))
    small.write(lambda context: purchase_orders.send(context, [order.id]))
    bought = {row.supplier_id: row for row in small.all(select(PurchaseOrder))}
    assert {number: (row.goods, row.shipping) for number, row in bought.items()} == {1: (200, 100), 2: (180, 90)}
    state = lambda: small.all(select(OrderLine.state).where(OrderLine.order_id == order.id))  # noqa: E731

    def answer(supplier: int, what: str, tracking: Tracking | None = None, reference: str = "") -> None:
        small.write(
            lambda context: supplier_answers.take_answer(
                context, PurchaseAnswer(reference or bought[supplier].reference, "X", what, "no more", None, tracking)
            )
        )

    answer(1, "accepted")
    assert state() == ["bought"]
    answer(2, "refused")
    # One half is bought: nothing else has it in that shape, so the order waits, and cannot be cancelled as if nothing were on its way.
    assert state() == ["refused"]
    with pytest.raises(Conflict, match="bought already"):
        small.write(lambda context: orders.cancel(context, order.id))
    small.write(lambda context: lanes.open_lane(context, 1, [lanes.LaneItem(2, Fraction(1)), lanes.LaneItem(3, Fraction(1))], use=1))
    assert state() == ["ready"]
    small.write(lambda context: purchase_orders.send(context, [order.id]))
    live = small.all(select(PurchaseLine).where(PurchaseLine.live).order_by(PurchaseLine.id))
    assert [(row.item_id, row.quantity) for row in live] == [(2, 1), (3, 1)]
    third = small.all(select(PurchaseOrder).order_by(PurchaseOrder.id.desc()))[0]
    answer(1, "shipped", Tracking(make_s10("HP", 11, "GB"), "Hill Post"))
    assert state() == ["bought"]
    answer(1, "shipped", Tracking(make_s10("HP", 12, "GB"), "Hill Post"), third.reference)
    assert state() == ["on_the_road"]


def test_each_country_has_its_service_and_dates_open_and_end_a_lane(small: Small) -> None:
    def make(context: Context) -> None:
        small.second_store(context.session, "FR")
        context.session.add(Service(origin_id=1, code="far", name="far", country="FR", first=700, following=9, days_low=4, days_high=6))
        context.session.flush()
        small.list_sku(context.session, 1, store=2)
        bare(context, 1)
        lanes.open_lane(context, 1, [lanes.LaneItem(1, Fraction(1))])

    small.write(make)
    assert small.lane(1).services == {"FR": "far"} and (small.listing(1).landed, small.listing(1, 2).landed) == (230, 830)
    abroad = small.order("F", ("S-1", 1, 3000), country="FR", promised_days=20)
    small.write(lambda context: purchase_orders.send(context, [abroad.id]))
    assert [row.service for row in small.all(select(PurchaseOrder))] == ["far"]
    begin, end = small.clock.now() + timedelta(days=2), small.clock.now() + timedelta(days=4)
    small.write(lambda context: lane_terms.set_terms(context, small.lane(1).id, small.lane(1).version, {"GB": "fast"}, begin, end))
    assert small.listing(1).state == "paused"
    waits = small.order("W", ("S-1", 1, 3000))
    assert small.all(select(OrderLine.reason).where(OrderLine.order_id == waits.id)) == ["not_yet"]
    small.later(days=2, minutes=1)
    assert small.write(lane_terms.follow_dates) == 1 and small.write(lane_terms.follow_dates) == 0
    assert small.listing(1).landed == 100 + 250 + 30 and small.all(select(OrderLine.state).where(OrderLine.order_id == waits.id)) == [
        "ready"
    ]
    small.later(days=2)
    assert small.write(lane_terms.follow_dates) == 1 and opened(small, 1) == []
    with pytest.raises(Invalid, match="end after it begins"):
        small.write(lambda context: lane_terms.set_terms(context, small.lane(2).id, small.lane(2).version, None, end, begin))


def test_a_replacement_is_used_where_the_store_permits_it_and_nothing_else_is_left(small: Small) -> None:
    small.write(lambda context: lanes.open_requested(context, lanes.LaneRequest(1, [lanes.LaneItem(4, Fraction(1))], is_substitute=True)))
    small.sweep({1: (100, 1)})
    order = small.order("R", ("S-1", 2, 3000))
    why = lambda: small.all(select(OrderLine.reason).where(OrderLine.order_id == order.id))  # noqa: E731
    assert why() == ["no_stock"] and small.listing(1).wanted_quantity == 0

    def permit(context: Context) -> None:
        context.get(Store, 1, "store").replacements = True
        replan(context)

    small.write(permit)
    line = small.all(select(OrderLine).where(OrderLine.order_id == order.id))[0]
    assert (line.state, line.lane_id) == ("ready", small.lane(1, 1).id) and small.lane(1, 1).is_substitute
    small.sweep({1: (100, 9)})
    small.write(replan)
    assert small.all(select(OrderLine).where(OrderLine.order_id == order.id))[0].lane_id == small.lane(1).id


FAULTS = {
    "units": (
        lambda s, context: (name(context, Sku, 1, "Lamp"), name(context, Sku, 2, "Lamp, pack of 3"), bare(context, 2), lanes.open_lane(context, 2, [lanes.LaneItem(1, Fraction(3))]),
                         lanes.change_lane(context, lanes.lanes_of(context, 1)[0][0].id, None, units=Fraction(2))),
        1, "Set it to",
    ),
    "kit": (
        lambda s, context: (bare(context, 1), lanes.open_lane(context, 1, [lanes.LaneItem(2, Fraction(1)), lanes.LaneItem(3, Fraction(1))]), name(context, Item, 3, "Item 3", offer="gone")),
        1, "Look",
    ),
    "circle": (
        lambda s, context: [lanes.open_requested(context, lanes.LaneRequest(a, [lanes.LaneItem(b, Fraction(1))], is_substitute=True)) for a, b in ((1, 2), (2, 3), (3, 1))],
        1, "Remove",
    ),
    "unsent": (lambda s, context: setattr(context.get(Store, 1, "store"), "country", "FR"), 6, "Close"),
    "cost": (lambda s, context: name(context, Item, 1, "Item 1", cost=250), 1, "It is the same"),
}  # fmt: skip


@pytest.mark.parametrize("kind", FAULTS)
def test_lanes_that_cannot_be_right_are_found_and_mended_by_one_step(small: Small, kind: str) -> None:
    make, count, step = FAULTS[kind]
    small.write(lambda context: (make(small, context), context.session.flush()))
    found = small.write(audit.refresh)
    assert [one.kind for one in found] == [kind] * count and found[0].step.startswith(step)
    with small.db.reading() as s:
        assert "Lane fault" in {one.kind for one in today.open_alerts(small.context(s))}
    if found[0].act:
        small.write(lambda context: audit.mend(context, found[0].key))
        assert len(small.write(audit.faults)) == count - 1
    else:
        with pytest.raises(Conflict, match="look at the SKU"):
            small.write(lambda context: audit.mend(context, found[0].key))
        small.write(lambda context: audit.set_aside(context, found[0].key))
        assert small.write(audit.faults) == []


def test_a_cost_out_of_all_proportion_stops_the_lane_until_a_person_says_it_is_right(small: Small) -> None:
    small.write(lambda context: lanes.open_lane(context, 1, [lanes.LaneItem(4, Fraction(1))], use=1))
    for _ in range(3):
        small.sweep({1: (390, 20)})
    lane = small.lane(1)
    assert lane.state == "shut" and "£1.00" in lane.reason and "£3.90" in lane.reason
    assert small.listing(1).lane_id == small.lane(1, 1).id
    small.write(lambda context: lane_terms.confirm_lane(context, lane.id, lane.version))
    assert small.lane(1).state == "open" and small.listing(1).lane_id == lane.id
    small.sweep({1: (400, 20)})
    assert small.lane(1).state == "open"
    # What is right may come in other units now: a fifth of what became a pack of five.
    small.write(lambda context: lane_terms.confirm_lane(context, lane.id, small.lane(1).version, Fraction(1, 5)))
    assert small.listing(1).landed == 400 + 130


def test_trust_comes_from_what_happened_and_makes_lanes_slow_or_shut(small: Small) -> None:
    numbers = iter(range(100, 400))

    def happened(sku: str, times: int, days: int, refused: bool = False) -> None:
        for _ in range(times):
            order = small.order(f"P{next(numbers)}", (sku, 1, 3000), promised_days=4)
            small.write(lambda context, order=order: purchase_orders.send(context, [order.id]))
            row = small.all(select(PurchaseOrder).order_by(PurchaseOrder.id.desc()))[0]
            if refused:
                small.write(
                    lambda context, row=row: supplier_answers.take_answer(
                        context, PurchaseAnswer(row.reference, "X", "refused", "no more", None, None)
                    )
                )
                continue
            number = make_s10("HP", next(numbers), "GB")
            small.write(
                lambda context, row=row, number=number: supplier_answers.take_answer(
                    context, PurchaseAnswer(row.reference, "X", "shipped", "", None, Tracking(number, "Hill Post"))
                )
            )

            def arrive(context: Context, number: str = number, days: int = days) -> None:
                parcel = context.session.scalars(select(Parcel).where(Parcel.number == number)).one()
                parcel.state, parcel.ended_at = "delivered", context.now + timedelta(days=days)

            small.write(arrive)

    happened("S-1", 12, 2)
    happened("S-2", 12, 9)
    happened("S-3", 14, 0, refused=True)
    with small.db.reading() as s:
        found = performance.trusts(small.context(s), [small.lane(n).id for n in (1, 2, 3, 4)])
    good, late, never, fresh = found.values()
    assert (good.on_time.good, good.on_time.count, good.days.count) == (12, 12, 12) and good.on_time.low > 0.6
    assert (late.on_time.good, late.on_time.count) == (0, 12) and late.on_time.high < 0.45 and late.days.sure == 9
    assert (never.accepted.good, never.accepted.count) == (0, 14) and never.accepted.high < 0.4
    # A lane that has done nothing yet is taken to be like its supplier, and far less surely.
    assert fresh.on_time.count == 0 and fresh.on_time.low < late.on_time.high < fresh.on_time.high
    small.write(lambda context: PolicyChange("house", "", {"shut_below": 450_000}).keep(context))
    for n in (1, 2, 3):
        small.write(lambda context, n=n: setattr(context.get(Lane, small.lane(n).id, "lane"), "state", "open"))
    assert small.write(performance.follow_trust) == 2
    assert [small.lane(n).state for n in (1, 2, 3)] == ["open", "slow", "shut"]
    assert small.lane(2).reason == "by what happened: 0 of 12 parcels by the promise"
    # What a person confirms is left as they said.
    small.write(lambda context: lane_terms.confirm_lane(context, small.lane(2).id, small.lane(2).version))
    assert small.write(performance.follow_trust) == 0
    # And so is what they set with a reason in words of their own; undone, the lane is judged again.
    small.write(lambda context: lanes.change_lane(context, small.lane(3).id, small.lane(3).version, state="open", reason="they promised"))
    assert small.lane(3).cause == LaneCause.person and small.write(performance.follow_trust) == 0
    small.write(lambda context: undo.undo(context, small.act("lane.change").id))
    assert (small.lane(3).state, small.lane(3).cause, small.lane(3).reason[:17]) == ("shut", LaneCause.record, "by what happened:")


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
