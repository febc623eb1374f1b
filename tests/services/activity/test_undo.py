"""Whatever is said to be undoable goes back to exactly what was there, and what cannot be undone says so."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import timedelta
from fractions import Fraction
from pathlib import Path
from typing import Any

import pytest
from sqlalchemy import select

from amber_lane.data.claims import Claim
from amber_lane.data.depot import DepotTerms, HeldGoods, Inbound, InboundLine
from amber_lane.data.lanes import FaultSeen, Lane, LanePart, Rejection
from amber_lane.data.orders import Order, OrderLine, PurchaseOrder
from amber_lane.data.outbox import AuditEntry, Outbox, Snooze
from amber_lane.data.prices import Policy, PriceRule, Rate
from amber_lane.data.printing import ArtVersion, Artwork, PrintDesign, PrintPlace
from amber_lane.data.setup import BuyingAccount, Carrier, FeeRow, Mailbox, Origin, Service, Store, Supplier
from amber_lane.data.shelf import Listing, PhraseRule, Sku, Variant
from amber_lane.data.source import Sample
from amber_lane.data.transit import MessageTemplate
from amber_lane.services.activity import retention, undo
from amber_lane.services.base import regional, undoing
from amber_lane.services.base.context import Context
from amber_lane.services.base.errors import Conflict, NotFound
from amber_lane.services.depot import terms
from amber_lane.services.listings import publishing
from amber_lane.services.mapping import lanes
from amber_lane.services.orders import cancellations, orders
from amber_lane.services.pricing import drafts, manual_price, rollback

from ...small import Small
from .acts import (
    ACTS,
    FEES,
    change,
    claim_something,
    first,
    hold_something,
    move,
    print_something,
)

# What a person can see of a house; versions, times and the log itself go on.
SEEN = {
    Lane: ("id", "sku_id", "priority", "service", "state", "closed_at", "starts", "ends", "begun", "reason"),
    Rejection: ("sku_id", "item_id"),
    FaultSeen: ("key",),
    LanePart: ("lane_id", "item_id", "units_num", "units_den"),
    Listing: ("id", "state", "wanted_price", "wanted_quantity", "hand_price", "landed", "paused_by", "title", "description", "most"),
    OrderLine: ("id", "state", "lane_id", "chosen_by"),
    Order: ("id", "allowed", "manual_release", "wants", "part_lines", "packed_with"),
    PurchaseOrder: ("reference", "message"),
    Store: ("id", "greeting", "tax_in_price", "payment", "payment_fixed", "ended_at", "allowance_value", "allowance_by_hand"),
    Carrier: ("id", "store_names"),
    FeeRow: ("store_id", "category", "percent", "least", "cap", "fixed"),
    Supplier: ("id", "name", "paused_at", "ended_at", "discount", "rebate", "tax", "plans", "sweep_minutes", "calls_day"),
    Rate: ("base", "quote", "nano"),
    PriceRule: ("scope", "scope_key", "band_from", "rule", "rule_value", "endings", "min_profit"),
    Policy: ("scope", "scope_key", "fields"),
    Snooze: ("alert",),
    Origin: ("code", "name", "cut_off", "handling", "holidays", "return_address"),
    Service: ("code", "country", "first", "following", "free_over", "days_low", "days_high"),
    PhraseRule: ("find", "put", "store_id"),
    Variant: ("family", "sku_id", "options"),
    Sku: ("code", "options", "weight_g"),
    Sample: ("item_id", "state"),
    MessageTemplate: ("kind", "store_id", "language", "subject", "on", "delay_minutes"),
    BuyingAccount: ("supplier_id", "name", "cap_money", "cap_orders", "send"),
    Mailbox: ("name", "sender"),
    Artwork: ("id", "name", "removed_at"),
    ArtVersion: ("id", "artwork_id", "ground", "replaced_at"),
    PrintDesign: ("id", "name", "size", "keep", "left_out", "spares", "removed_at"),
    PrintPlace: ("design_id", "side", "x", "y", "w"),
    HeldGoods: ("id", "sku_id", "state", "sides", "least", "service", "seasons", "quiet_until"),
    DepotTerms: ("supplier_id", "storage", "pick", "carton_sides"),
    Inbound: ("id", "state"),
    Claim: ("id", "state", "closed_at"),
    InboundLine: ("id", "settled", "claimed", "came_back"),
}


def seen(small: Small) -> dict[str, list[Any]]:
    with small.db.reading() as s:
        found = {
            table.__name__: sorted(repr(tuple(getattr(row, name) for name in names)) for row in s.scalars(select(table)))
            for table, names in SEEN.items()
        }
        shut = {row.id for row in s.scalars(select(Lane).where(Lane.closed_at.is_not(None)))}
        newest = {(row.base, row.quote): row.nano for row in s.scalars(select(Rate).order_by(Rate.day))}
    # Closed lanes and old rates are history; a policy that says nothing is no policy.
    for table in ("Lane", "LanePart"):
        found[table] = [row for row in found[table] if int(row[1:].split(",")[0]) not in shut]
    found["PurchaseOrder"] = [row for row in found["PurchaseOrder"] if "taken back" not in row]
    found["Rate"] = [repr(newest)]
    with small.db.reading() as s:
        found["Place"] = [repr(regional.place_of(s)), repr(retention.settings(small.context(s))), repr(terms.wishes_of(small.context(s)))]
    # Removed artwork and replaced versions are history.
    for table in ("Artwork", "ArtVersion", "PrintDesign"):
        found[table] = [row for row in found[table] if row.endswith("None)")]
    there = {row[1:].split(",")[0] for row in found["Artwork"]}
    found["ArtVersion"] = [row for row in found["ArtVersion"] if row.split(", ")[1] in there]
    found["PrintPlace"] = [
        row for row in found["PrintPlace"] if any(one.startswith(row.split(",")[0] + ",") for one in found["PrintDesign"])
    ]
    found["Policy"] = [row for row in found["Policy"] if not row.endswith("{})")]
    return found


@pytest.fixture(scope="module")
def busy_file(house_file: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The house below, made once; the tests copy its file."""
    folder = tmp_path_factory.mktemp("busy")
    small = Small(folder, house_file)
    fill(small)
    with small.db.engine.connect() as connection:
        connection.exec_driver_sql("pragma wal_checkpoint(truncate)")
    small.db.close()
    return folder / "small.db"


@pytest.fixture
def busy(busy_file: Path, tmp_path: Path) -> Iterator[Small]:
    made = Small(tmp_path, busy_file)
    made.later(minutes=1)
    yield made
    made.db.close()


def fill(small: Small) -> None:
    """A SKU with a spare, an order that is ready and one that is held, a rate, and stock in a depot."""

    def make(context: Context) -> None:
        lanes.open_lane(context, 1, [lanes.LaneItem(5, Fraction(1))], use=1)
        context.session.add(Rate(base="USD", quote="GBP", day=context.now - timedelta(days=1), nano=790_000_000))
        lanes.open_lane(context, 6, [lanes.LaneItem(4, Fraction(2))], use=1)
        drafts.PolicyChange("house", "", {"send": "hand", "hold_twice": True}).keep(context)
        small.list_sku(context.session, 50)
        small.second_store(context.session)
        publishing.copy(context, [4], 2, False)
        context.session.add(BuyingAccount(supplier_id=1, name="Card", cap_money=50_000))
        # One is so dear that it would lose money at its ceiling.
        context.session.get(Listing, 5).ceiling = 690
        print_something(context)
        hold_something(context)

    small.write(make)
    small.respond()
    small.order("FINE", ("S-1", 1, 2000))
    small.order("LOSS", ("S-2", 1, 10))
    small.order("WORTH", ("S-3", 1, 90_000))
    small.order("TWO", ("S-4", 1, 2000), ("S-404", 1, 900))
    for number in ("T-1", "T-2"):
        small.order(number, ("S-6", 1, 3000))
    given = {
        "supplier_id": 1,
        "order_id": 4,
        "origin_id": 1,
        "service": "slow",
        "currency": "GBP",
        "goods": 0,
        "shipping": 0,
        "handling": 0,
    }
    wrong = PurchaseOrder(reference="WRONG", state="accepted", made_at=small.clock.now(), message="no such number", **given)
    small.write(lambda context: context.session.add(wrong))
    small.write(claim_something)
    told = "the buyer cancelled, but it is on the road"
    small.write(lambda context: cancellations.wants(context, first(context, Order, Order.number == "LOSS"), "return", told))


@pytest.mark.parametrize("name", ACTS)
def test_every_act_that_offers_undo_can_be_taken_back_whole(busy: Small, name: str) -> None:
    kind, do = ACTS[name]
    before = seen(busy)
    busy.write(do)
    assert seen(busy) != before
    act = busy.act(kind)
    assert act.undo == "open"
    busy.later(minutes=1)
    busy.write(lambda context: undo.undo(context, act.id))
    after = seen(busy)
    assert {table: (before[table], after[table]) for table in before if before[table] != after[table]} == {}
    with pytest.raises(Conflict, match="undone already"):
        busy.write(lambda context: undo.undo(context, act.id))


def test_every_kind_that_can_be_undone_is_tried_here() -> None:
    elsewhere = {
        "watch.respond",
        "listing.resume",
        "batch.collect",
        "batch.paid",
        "purchase.bill",
        "letter.read",
        "letter.buyer_read",
        "listing.sheet",
    }
    elsewhere |= {"description.switch"}
    elsewhere |= {"sheet.purchases", "sheet.changes", "sheet.tracking"}
    elsewhere |= {"overhead.save", "month.close", "settlement.accept", "statement.accept", "weekly.save"}
    assert {kind for kind, _ in ACTS.values()} | elsewhere == set(undoing.known())


def test_undo_goes_on_into_the_past_and_never_undoes_an_undo(busy: Small) -> None:
    start = seen(busy)
    busy.write(lambda context: move(context, units=Fraction(2)))
    busy.write(lambda context: move(context, use=1))
    busy.write(ACTS["a price by hand"][1])
    for _ in range(3):
        busy.write(lambda context: undo.undo(context, undo.last_undoable(context).id))
    assert seen(busy) == start
    assert busy.all(select(AuditEntry.undo).where(AuditEntry.kind == "undo")) == [""] * 3


def test_a_sweep_is_undone_as_a_whole_and_the_store_is_told_the_old_values(busy: Small) -> None:
    before = {row.id: (row.wanted_price, row.wanted_quantity, row.state) for row in busy.all(select(Listing))}
    busy.sweep({1: (115, 20), 2: (230, 0)})
    assert busy.listing(2).state == "paused" and busy.listing(1).wanted_price > before[1][0]
    busy.write(lambda context: undo.undo(context, busy.act("watch.respond").id))
    assert {row.id: (row.wanted_price, row.wanted_quantity, row.state) for row in busy.all(select(Listing))} == before
    waiting = busy.all(select(Outbox).where(Outbox.kind == "listing", Outbox.state == "waiting"))
    assert all(row.body["quantity"] == before[row.body["listing"]][1] for row in waiting) and len({r.subject for r in waiting}) == len(
        waiting
    )
    with pytest.raises(Conflict):
        busy.write(lambda context: rollback.undo_responses(context, sweep=1, responses=[]))


def test_what_has_gone_out_or_never_could_be_undone_says_so(busy: Small) -> None:
    busy.write(ACTS["a sending"][1])
    act = busy.act("order.send")
    reference = act.after["references"][0]

    def gone(context: Context) -> None:
        row = context.session.scalars(select(Outbox).where(Outbox.key == reference)).one()
        row.state, row.tries = "claimed", 1

    busy.write(gone)
    with pytest.raises(Conflict, match="gone out already"):
        busy.write(lambda context: undo.undo(context, act.id))
    assert busy.all(select(PurchaseOrder.state).where(PurchaseOrder.reference == reference)) == ["waiting"]
    busy.write(lambda context: orders.cancel(context, first(context, Order, Order.number == "LOSS").id, "sorry"))
    with pytest.raises(Conflict, match="cannot be undone"):
        busy.write(lambda context: undo.undo(context, busy.act("order.cancel").id))
    with pytest.raises(NotFound):
        busy.write(lambda context: undo.undo(context, 10**9))


def test_a_change_made_on_what_somebody_else_changed_is_refused(busy: Small) -> None:
    one = busy.lane(1)
    busy.write(lambda context: lanes.change_lane(context, one.id, one.version, units=Fraction(2)))
    for do in (
        lambda context: lanes.change_lane(context, one.id, one.version, units=Fraction(5)),
        lambda context: lanes.close_lane(context, one.id, one.version),
        lambda context: manual_price.fix_price(context, 1, 10**6, 999),
        lambda context: drafts.FeeChange(1, {"tax_in_price": 0, "payment": 0, "payment_fixed": 0}, [], version=99).keep(context),
        lambda context: drafts.SupplierChange(1, {"discount": 0, "rebate": 0, "tax": 0}, version=99).keep(context),
    ):
        before = seen(busy)
        with pytest.raises(Conflict, match="somebody changed this"):
            busy.write(do)
        assert seen(busy) == before


@pytest.mark.parametrize("name", ["limits", "fees", "terms", "rules", "another rate", "a lane's units", "a price by hand"])
def test_an_older_change_cannot_take_a_newer_one_of_the_same_thing_with_it(busy: Small, name: str) -> None:
    kind, do = ACTS[name]
    busy.write(do)
    first_act, between = busy.act(kind), seen(busy)
    busy.later(minutes=1)
    second = {
        "policy.change": change(lambda d: drafts.PolicyChange("house", "", {"cap": 5})),
        "fees.change": change(lambda d: drafts.FeeChange(1, {"tax_in_price": 0, "payment": 0, "payment_fixed": 9}, FEES)),
        "terms.change": change(lambda d: drafts.SupplierChange(1, {"discount": 0, "rebate": 0, "tax": 50_000})),
        "rule.change": change(lambda d: drafts.RuleChange([drafts.Draft("house", "", 0, {"rule": "add", "rule_value": 900})])),
        "rate.change": change(lambda d: drafts.RateChange("USD", "GBP", 810_000_000)),
        "lane.change": lambda d: move(d, units=Fraction(4)),
        "price.hand": lambda d: manual_price.fix_price(d, 1, first(d, Listing).version, 4999, "another promise"),
    }[kind]
    busy.write(second)
    after = seen(busy)
    with pytest.raises(Conflict, match="undo that one first"):
        busy.write(lambda context: undo.undo(context, first_act.id))
    assert seen(busy) == after
    busy.write(lambda context: undo.undo(context, busy.act(kind).id))
    assert seen(busy) == between
    busy.write(lambda context: undo.undo(context, first_act.id))
