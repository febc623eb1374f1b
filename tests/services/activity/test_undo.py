"""Whatever is said to be undoable goes back to exactly what was there, and what cannot be undone says so."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from datetime import timedelta
from fractions import Fraction
from pathlib import Path
from typing import Any

import pytest
from sqlalchemy import select

from amber_lane.connectors.depot_protocol import CountedLine
from amber_lane.connectors.print_protocol import BlankSize, BlankTerms, ClothColour, PrintArea
from amber_lane.connectors.protocols import OriginTerms, ServiceTerms
from amber_lane.core.claims import ClaimReason
from amber_lane.core.options import Option
from amber_lane.core.plans import Membership
from amber_lane.core.print_choice import Spot
from amber_lane.data.claims import Claim
from amber_lane.data.depot import DepotTerms, HeldGoods, Inbound, InboundLine
from amber_lane.data.lanes import FaultSeen, Lane, LanePart, Rejection
from amber_lane.data.orders import Order, OrderLine, PurchaseLine, PurchaseOrder
from amber_lane.data.outbox import AuditEntry, Outbox, Snooze
from amber_lane.data.prices import Policy, PriceRule, Rate
from amber_lane.data.printing import ArtVersion, Artwork, PrintDesign, PrintPlace
from amber_lane.data.setup import BuyingAccount, Carrier, FeeRow, Mailbox, Origin, Service, Store, Supplier
from amber_lane.data.shelf import Listing, PhraseRule, Sku, Variant
from amber_lane.data.source import Sample
from amber_lane.data.transit import MessageTemplate
from amber_lane.data.watch import ListingDecision
from amber_lane.services.activity import retention, undo
from amber_lane.services.alerts import snoozing
from amber_lane.services.base import regional, undoing
from amber_lane.services.base.context import Context
from amber_lane.services.base.errors import Conflict, NotFound
from amber_lane.services.catalogue.search import Finder
from amber_lane.services.claims import cases
from amber_lane.services.depot import arrivals, goods, loads, terms
from amber_lane.services.fulfilment import buyer_notifications, carrier_names, parcel_tracking
from amber_lane.services.imports import sheet_kinds
from amber_lane.services.listings import allowance, content_rule_changes, on_sale, preparation, publishing, variant_commands
from amber_lane.services.listings.variant_commands import VariantRequest
from amber_lane.services.mapping import audit, auto_matching, bulk_changes, lane_terms, lanes, switch_supplier
from amber_lane.services.mapping.auto_matching import Sure
from amber_lane.services.mapping.lanes import LaneRequest
from amber_lane.services.monitoring import polling_plan
from amber_lane.services.orders import cancellations, order_lines, orders
from amber_lane.services.partners import life_cycle, partner_terms
from amber_lane.services.pricing import drafts, manual_price, rollback, what_if
from amber_lane.services.printing import artwork, designs, houses
from amber_lane.services.printing import files as artwork_files
from amber_lane.services.purchasing import buying_accounts, next_steps, order_settings, purchase_orders
from amber_lane.services.sourcing import samples

from ...drawings import svg
from ...small import BUYER, Small

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


def change(what: Callable[[Context], drafts.Change]) -> Callable[[Context], Any]:
    """Keep a draft as a person does: looked at first."""

    def do(context: Context) -> Any:
        made = what(context)
        return what_if.apply(context, made, what_if.what_if(context, made).counts, None)

    return do


def first(context: Context, table: Any, *wheres: Any) -> Any:
    return context.session.scalars(select(table).where(*wheres).order_by(table.id)).first()


def lane(context: Context, sku: int, use: int = 0) -> Lane:
    return first(context, Lane, Lane.sku_id == sku, Lane.priority == use, Lane.closed_at.is_(None))


def move(context: Context, **what: Any) -> Any:
    one = lane(context, 1)
    return lanes.change_lane(context, one.id, one.version, **what)


DRAWN, OTHER = artwork_files.check(svg()), artwork_files.check(svg("#ff0000"))


def print_something(context: Context) -> None:
    """Two artworks, something that they can be printed on, and a design of the first."""
    size, area = BlankSize("one", 20_000, 20_000), PrintArea("front", "one", 10_000, 10_000)
    terms = BlankTerms("B", "Bag", "bag", (ClothColour("white", "#ffffff"),), (size,), (area,), (), 100, 200, 300, 80)
    houses.take_blanks(context, context.get(Supplier, 1, "supplier"), [terms])
    for name in ("Old moon", "Spare moon"):
        artwork.add(context, name, DRAWN)
    designs.create(context, "", 1, 1)


def hold_something(context: Context) -> None:
    """A depot that works by mail holds two SKUs; one load came short of both, for one of them money is asked back; one is put together."""
    s = context.session
    s.add(Supplier(id=9, code="DEP", name="Shelf House", kind="depot_sheet", country="GB", currency="GBP", watching=False))
    s.flush()
    s.add(Origin(id=9, supplier_id=9, code="shelf", name="Shelf", country="GB", holidays=[]))
    s.flush()
    s.add(Service(origin_id=9, code="van", name="Van", country="GB", first=200, following=40, days_low=1, days_high=2))
    to = {"name": "Goods in", "address_1": "1 Shelf Way", "city": "Whitby", "postcode": "YO21 3PR", "country": "GB"}
    terms.set_terms(context, 9, None, {"pick": 20, "storage": 1000, "address": to})
    for sku in (1, 2):
        goods.say(context, goods.ask(context, goods.HoldWish(sku, 9, (100, 80, 60), 200)), "agreed")
    load = loads.order(context, loads.plan(context, 9, [loads.LoadLine(1, 10, 90), loads.LoadLine(2, 6, 150)], own=True).id)
    arrivals.count_in(context, load, [CountedLine("S-1", 8), CountedLine("S-2", 5)], None, {})
    arrivals.settle(context, arrivals.Settling(2, None, "claim"))
    loads.plan(context, 9, [loads.LoadLine(1, 4)])


def bought(context: Context, number: str) -> OrderLine:
    return first(context, OrderLine, OrderLine.order_id == first(context, Order, Order.number == number).id)


def claim_something(context: Context) -> None:
    """Two orders of before that a supplier has sent, one of them claimed."""
    s = context.session
    for number in ("C-1", "C-2"):
        order = Order(
            store_id=1, number=number, buyer="Old", address={}, country="GB", currency="GBP", ordered_at=context.now, came_at=context.now,
            channel="past",
        )  # fmt: skip
        s.add(order)
        s.flush()
        line = OrderLine(order_id=order.id, line_no=1, sku_code="S-6", sku_id=6, quantity=1, paid=900, state="on_the_road")
        purchase = PurchaseOrder(
            reference=f"ONE-{number}-1", supplier_id=1, order_id=order.id, origin_id=1, service="slow", state="shipped", currency="GBP",
            goods=600, shipping=100, handling=30, made_at=context.now,
        )  # fmt: skip
        s.add_all([line, purchase])
        s.flush()
        s.add(PurchaseLine(purchase_id=purchase.id, order_line_id=line.id, line_no=1, item_id=6, quantity=1, planned_cost=600))
    s.flush()
    cases.open_claim(context, cases.Start(bought(context, "C-1").id, ClaimReason.lost))


def take_sheet(context: Context) -> None:
    kind = sheet_kinds.kind_of("lanes")
    head = ("store", "sku", "supplier", "item", "use")
    rows = [dict(zip(head, row, strict=True)) for row in (("all", "S-1", "SUP", "I-5", "main"), ("all", "s-2", "SUP", "I-1", "spare 1"))]
    kind.take(context, kind.check(context, rows, lambda n: None))


def mail_of(context: Context, number: int | None) -> Any:
    said = {"kind": "late", "store": 1, "language": "de", "subject": "Später", "body": "{name}", "on": True, "delay_minutes": 5}
    return buyer_notifications.keep_template(context, number, None, **said)


def account(context: Context, name: str, number: int | None = None) -> Any:
    """One that buys nothing today."""
    return buying_accounts.save_account(context, 1, number, None, name=name, cap_money=0, cap_orders=None, send="hand", send_minutes=None)


def approve(context: Context) -> None:
    """A price that waits at its ceiling is taken all the same."""
    waiting = [
        one.id
        for one in context.session.scalars(select(ListingDecision).where(ListingDecision.state == "waits", ListingDecision.listing_id == 5))
    ]
    what_if.answer_waiting(context, waiting, approve=True)


def price_sheet(context: Context) -> None:
    kind = sheet_kinds.kind_of("prices")
    rows = [{"store": "ONE", "sku": "S-1", "price": "19.00", "reason": "agreed"}, {"store": "ONE", "sku": "S-2", "ceiling": "30"}]
    kind.take(context, kind.check(context, rows, lambda n: None))


def dates(context: Context) -> None:
    one = lane(context, 1)
    lane_terms.set_terms(context, one.id, one.version, {}, context.now + timedelta(days=1), context.now + timedelta(days=9))


FROM = OriginTerms(
    "main", "Main", "GB", "12:00", 45, [ServiceTerms("slow", "Slow", "GB", 130, 50, 9000, 3, 5, True)], "9 Dock Road", ("2026-12-25",)
)
FEES = [
    {"category": "", "percent": 150_000, "least": 20, "cap": 900, "fixed": 5},
    {"category": "Lamps", "percent": 80_000, "least": 0, "cap": None, "fixed": 0},
]
SIZES = Option("Size", ("S", "M", "L"))
WISHES = [VariantRequest(("S",), True, price=900, most=2), VariantRequest(("M",), True, item=5), VariantRequest(("L",), False)]
ACTS: dict[str, tuple[str, Callable[[Context], Any]]] = {
    "a lane opened before all others": ("lane.open", lambda d: lanes.open_lane(d, 1, [lanes.LaneItem(2, Fraction(1))])),
    "a spare closed": ("lane.close", lambda d: lanes.close_lane(d, lane(d, 1, 1).id, lane(d, 1, 1).version)),
    "a main lane closed": ("lane.close", lambda d: lanes.close_lane(d, lane(d, 1).id, lane(d, 1).version, "they stopped")),
    "a lane's units": ("lane.change", lambda d: move(d, units=Fraction(3))),
    "a lane's place": ("lane.change", lambda d: move(d, use=1)),
    "a lane's service and state": ("lane.change", lambda d: move(d, service="fast", state="shut", reason="no answer")),
    "how long things are kept": ("keeping.set", lambda d: retention.set_keeping(d, retention.Keeping(decisions=200))),
    "rules": (
        "rule.change",
        change(lambda d: drafts.RuleChange([drafts.Draft("house", "", 0, {"rule": "multiple", "rule_value": 2_900_000})])),
    ),
    "fees": ("fees.change", change(lambda d: drafts.FeeChange(1, {"tax_in_price": 200_000, "payment": 20_000, "payment_fixed": 25}, FEES))),
    "terms": (
        "terms.change",
        change(
            lambda d: drafts.SupplierChange(
                1, {"discount": 50_000, "rebate": 10_000, "tax": 200_000}, plans=[Membership("Circle", 90_000, 100, taken=True)]
            )
        ),
    ),
    "limits": ("policy.change", change(lambda d: drafts.PolicyChange("house", "", {"cap": 3, "cushion": 2}))),
    "a first rate": ("rate.change", change(lambda d: drafts.RateChange("EUR", "GBP", 870_000_000))),
    "another rate": ("rate.change", change(lambda d: drafts.RateChange("USD", "GBP", 800_000_000))),
    "what waited, approved": ("response.settle", approve),
    "a price sheet": ("price.sheet", price_sheet),
    "how often to look": (
        "looks.change",
        lambda context: polling_plan.set_looks(
            context, 1, None, {"sweep_minutes": 45, "calls_minute": None, "calls_day": 90, "hour_from": 6, "hour_to": 22}
        ),
    ),
    "a price by hand": ("price.hand", lambda d: manual_price.fix_price(d, 1, first(d, Listing).version, 4321, "a promise")),
    "taken off sale": ("listing.pause", lambda d: on_sale.set_on_sale(d, [1, 2, 3], False)),
    "many orders let go": ("order.allow_many", lambda d: orders.allow_many(d, [first(d, Order, Order.number == "WORTH").id])),
    "a part of an order": (
        "order.part",
        lambda d: order_lines.send_part(
            d, (two := first(d, Order, Order.number == "TWO")).id, [first(d, OrderLine, OrderLine.order_id == two.id).id]
        ),
    ),
    "two orders in one parcel": ("order.pack", lambda d: next_steps.take_way(d, 5, "pack:6")),
    "a wrong number set aside": ("transit.dropped", lambda d: parcel_tracking.drop_wrong(d, "WRONG")),
    "an order let go": ("order.allow", lambda d: orders.allow(d, first(d, Order, Order.number == "LOSS").id)),
    "a line's lane": ("order.lane", lambda d: orders.choose_lane(d, first(d, OrderLine).id, lane(d, 1, 1).id)),
    "where the house is": ("place.set", lambda d: regional.set_place(d, regional.Place("US", "America/Chicago", "mdy", "."))),
    "how we order": ("ordering.change", lambda d: order_settings.save(d, "store", 1, None, {"greeting": "Hello {name}", "phone": "1"})),
    "whom our mails come from": (
        "ordering.change",
        lambda d: order_settings.save(d, "mailbox", 1, None, {"name": "We", "sender": "a@b.example"}),
    ),
    "a mail to buyers": ("template.change", lambda d: mail_of(d, first(d, MessageTemplate).id)),
    "a mail of a store's own": ("template.change", lambda d: mail_of(d, None)),
    "a buyer's wish settled": ("order.settled", lambda d: cancellations.close_wish(d, first(d, Order, Order.number == "LOSS").id)),
    "a waiting by hand": ("order.wait", lambda d: purchase_orders.wait(d, [first(d, Order).id])),
    "a buying account": ("account.keep", lambda d: account(d, "Second card")),
    "limits of an account": ("account.keep", lambda d: account(d, "Card", first(d, BuyingAccount).id)),
    "an account taken away": ("account.remove", lambda d: buying_accounts.remove(d, first(d, BuyingAccount).id, None)),
    "a sending": ("order.send", lambda d: purchase_orders.send(d, [first(d, Order).id])),
    "how a supplier sends": ("origins.change", lambda d: partner_terms.set_origins(d, 1, None, [FROM])),
    "a preparing": ("listing.prepare", lambda d: preparation.prepare(d, Finder(), [1, 2, 3], 2)),
    "a copy": ("listing.copy", lambda d: publishing.copy(d, [1, 2], 2, True)),
    "a publishing": ("listing.publish", lambda d: publishing.publish(d, [first(d, Listing, Listing.state == "preparing").id])),
    "an end": ("listing.end", lambda d: publishing.end_listings(d, [1, 2, first(d, Listing, Listing.state == "preparing").id])),
    "words": ("listing.words", lambda d: publishing.edit(d, 1, None, {"title": "Another thing", "description": "<b>Bright</b>"})),
    "a phrase": ("phrase.add", lambda d: content_rule_changes.add_rule(d, "thing", "lamp", None)),
    "an allowance": ("allowance.apply", lambda d: (setattr(first(d, Store), "allowance_units", 6), allowance.apply(d, 1, 24))),
    "a sample": ("sample.order", lambda d: (samples.set_own_address(d, BUYER), samples.order(d, 1))),
    "sizes": ("family.keep", lambda d: variant_commands.save_variants(d, Finder(), 1, first(d, Listing).version, "Thing", [SIZES], WISHES)),
    "lanes opened together": (
        "lane.many",
        lambda d: bulk_changes.in_one(
            d,
            "lane.many",
            {1, 2},
            lambda n: "two",
            [LaneRequest(1, [lanes.LaneItem(3, Fraction(1))]), LaneRequest(2, [lanes.LaneItem(4, Fraction(1))])],
        ),
    ),
    "spares made main": ("lane.many", lambda d: bulk_changes.change_many(d, [lane(d, 1, 1).id, lane(d, 2).id], "main")),
    "lanes closed together": ("lane.many", lambda d: bulk_changes.change_many(d, [lane(d, 1).id, lane(d, 2).id], "close")),
    "lanes moved": ("lane.move", lambda d: switch_supplier.move(d, 1, {1: 5, 2: 6}, {}, keep_old=False)),
    "lanes of a sheet": ("lane.sheet", take_sheet),
    "sure lanes": ("lane.sure", lambda d: auto_matching.open_sure(d, [Sure(50, [1, 2], [{}, {}])])),
    "items refused": ("lane.refuse", lambda d: bulk_changes.refuse(d, 1, [3, 4])),
    "a fault set aside": ("lane.fault", lambda d: audit.set_aside(d, audit.faults(d)[0].key)),
    "a lane's dates": ("lane.change", lambda d: dates(d)),
    "a partner's name": ("partner.rename", lambda d: life_cycle.rename(d, "supplier", 1, None, "Other House")),
    "a pause": ("partner.pause", lambda d: life_cycle.set_paused(d, "supplier", 1, None, True)),
    "a store disconnected": ("partner.end", lambda d: life_cycle.disconnect(d, "store", 2, None)),
    "a supplier disconnected": ("supplier.end", lambda d: life_cycle.disconnect(d, "supplier", 1, None)),
    "a carrier's name": ("carrier.name", lambda d: carrier_names.choose(d, 1, 1, "hill")),
    "an allowance by hand": ("allowance.set", lambda d: allowance.set_limits(d, 1, None, 900, None, 80_000)),
    "artwork": ("artwork.add", lambda d: artwork.add(d, "New moon", DRAWN)),
    "a version of artwork": ("artwork.version", lambda d: artwork.add_version(d, 1, OTHER, "any")),
    "artwork removed": ("artwork.remove", lambda d: artwork.remove(d, 2, None)),
    "a question to a depot": ("depot.ask", lambda d: goods.ask(d, goods.HoldWish(3, 9, (100, 80, 60), 200))),
    "how goods are held": ("depot.change", lambda d: goods.change(d, 1, None, goods.HeldChange(least=5, service=990_000))),
    "goods held no more": ("depot.end", lambda d: goods.end(d, 1, None)),
    "not now": ("depot.not_now", lambda d: goods.not_now(d, 1, 7)),
    "what a depot asks": ("depot.terms", lambda d: terms.set_terms(d, 9, None, {"pick": 25, "carton_sides": [500, 300, 300]})),
    "what is wished of depots": (
        "depot.wishes",
        lambda d: terms.set_wishes(d, terms.DepotWishes(service=900_000, warn_to=("a@b.example",))),
    ),
    "a load": ("load.plan", lambda d: loads.plan(d, 9, [loads.LoadLine(2, 2)])),
    "a load bought": ("load.order", lambda d: loads.order(d, 2)),
    "a short count claimed": ("load.settle", lambda d: arrivals.settle(d, arrivals.Settling(1, None, "claim"))),
    "money that came back": ("load.money_back", lambda d: arrivals.take_money_back(d, 2, None, 150)),
    "a claim": ("claim.open", lambda d: cases.open_claim(d, cases.Start(bought(d, "C-2").id, ClaimReason.late))),
    "a claim let go": ("claim.drop", lambda d: cases.drop(d, 1, None, "too small")),
    "a design": ("design.make", lambda d: designs.create(d, "Another", 2, 1)),
    "a place of artwork": (
        "design.change",
        lambda d: designs.change(d, 1, None, designs.DesignChange("Other", keep="millimetres", places={"front": Spot(5, 5, 900)})),
    ),
    "a design removed": ("design.remove", lambda d: designs.remove(d, 1, None)),
    "a trouble put off": ("snooze", lambda d: snoozing.snooze(d, "hold:2", timedelta(hours=8))),
}


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
