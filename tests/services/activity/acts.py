"""Every act that offers undo, done in a house that has something of everything."""

from __future__ import annotations

from collections.abc import Callable
from datetime import timedelta
from fractions import Fraction
from typing import Any

from sqlalchemy import select

from amber_lane.connectors.depot_protocol import CountedLine
from amber_lane.connectors.print_protocol import BlankSize, BlankTerms, ClothColour, PrintArea
from amber_lane.connectors.protocols import OriginTerms, ServiceTerms
from amber_lane.core.claims import ClaimReason
from amber_lane.core.options import Option
from amber_lane.core.plans import Membership
from amber_lane.core.print_choice import Spot
from amber_lane.data.lanes import Lane
from amber_lane.data.orders import Order, OrderLine, PurchaseLine, PurchaseOrder
from amber_lane.data.setup import BuyingAccount, Origin, Service, Store, Supplier
from amber_lane.data.shelf import Listing
from amber_lane.data.transit import MessageTemplate
from amber_lane.data.watch import ListingDecision
from amber_lane.services.activity import retention
from amber_lane.services.alerts import snoozing
from amber_lane.services.base import regional
from amber_lane.services.base.context import Context
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
from amber_lane.services.pricing import drafts, manual_price, what_if
from amber_lane.services.printing import artwork, designs, houses
from amber_lane.services.printing import files as artwork_files
from amber_lane.services.purchasing import buying_accounts, next_steps, order_settings, purchase_orders
from amber_lane.services.sourcing import samples

from ...drawings import svg
from ...small import BUYER

DRAWN, OTHER = artwork_files.check(svg()), artwork_files.check(svg("#ff0000"))


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
