"""Dusk & Dial from nothing: partners joined, goods brought in, lanes opened, and a first day and a half of trade."""

from __future__ import annotations

import csv
import io
from collections.abc import Callable
from datetime import datetime, timedelta
from fractions import Fraction
from typing import Any

import httpx
from sqlalchemy import func, select

from ..api.deps import AppState
from ..clock import PacedClock, ask_world
from ..connectors.protocols import Address
from ..core.claims import ClaimReason
from ..core.currency import plain
from ..core.states import SWEEP, ListingState, OrderLineState
from ..data.base import to_ms
from ..data.bulk import bulk_insert
from ..data.lanes import Lane, LanePart
from ..data.orders import Order, OrderLine
from ..data.setup import Store, Supplier
from ..data.shelf import Listing, Sku
from ..data.source import Item
from ..data.watch import Sighting, Sweep
from ..jobs.portions import Portions
from ..services.base.context import Context
from ..services.catalogue.search import Search
from ..services.claims import cases, return_requests, returns
from ..services.imports import sheet_kinds
from ..services.listings import preparation
from ..services.mapping import audit, lanes
from ..services.pricing.drafts import PolicyChange
from ..services.sourcing import samples, saved_searches
from ..sheets.table import read_sheet
from . import depot, printed
from .partners import OWNER, Land, bring_in_goods, join_all
from .past import write_past
from .past_books import TAKES_MORE


def is_seeded(house: AppState) -> bool:
    with house.db.reading() as s:
        return bool(s.scalar(select(func.count()).select_from(Store)))


def seed(house: AppState, world: str, land: Land, tell: Callable[[str], Any] = print, rounds: int = 10) -> None:
    """Fill an empty house. rounds: hours lived through before the doors open."""
    follow(house, world)
    tell("joining stores, suppliers, carrier and mailbox")
    join_all(house, world, land)
    tell("bringing in the catalogues and the listings")
    bring_in_goods(house, world)
    _open_lanes(house)
    _import_history(house, world)
    depot.hold(house, world, land)
    with house.db.writing() as s:
        context = Context(s, house.clock, OWNER)
        write_past(context, land, depot.write_stock)
        _open_alerts(context, land)
    depot.send_more(house, world)
    tell(f"living through the first {rounds} hours")
    with httpx.Client(base_url=world, timeout=60, trust_env=False) as hand:
        for name, value in {f"fair_fee_{TAKES_MORE[0]}": TAKES_MORE[1], "shop_sending": 295, "shop_discount": 10, "past_known": 1}.items():
            hand.post("/world/facts", json={"name": name, "value": value}).raise_for_status()
        for n in range(rounds):
            answer = hand.post("/world/clock", json={"jump_minutes": 60}).raise_for_status().json()
            if isinstance(house.clock, PacedClock):
                house.clock.set(datetime.fromisoformat(answer["now"]), answer["speed"])
            house.worker.once()
            if n == rounds - 1:
                hand.post("/world/facts", json={"name": "retail_calls", "value": 60})
            if n == rounds - 6:
                _sell_unmapped(house, hand, land)
            if n == rounds - 3:
                _change_goods(house, hand)
            if n == rounds - 2:
                _move_prices(house, hand)
    _differ(house, world)
    _prepare_some(house, land)
    _claim_some(house)
    _complain(house, world)
    _ask_back(house, world)
    tell("drawing what is printed for each order")
    printed.prepare(house)
    with house.db.writing() as s:
        # From now on orders wait a while for a person, then go by themselves.
        PolicyChange("house", "", {"send": "after", "send_minutes": 180}).keep(Context(s, house.clock, OWNER))


USES = ("main", "spare 1", "spare 2")


def follow(house: AppState, world: str) -> None:
    if isinstance(house.clock, PacedClock):
        house.clock.set(*ask_world(world, 10))


def _open_lanes(house: AppState) -> None:
    """Lanes by the same sheet that a person would bring in: every SKU whose barcode an item has; a second supplier is a spare."""
    kind = sheet_kinds.KINDS["lanes"]
    with house.db.reading() as s:
        found = s.execute(
            select(Store.name, Sku.code, Supplier.name, Item.number)
            .join(Listing, Listing.sku_id == Sku.id)
            .join(Store, Store.id == Listing.store_id)
            .join(Item, (Item.gtin == Sku.gtin) & (Item.gtin != ""))
            .join(Supplier, Supplier.id == Item.supplier_id)
            .where(Supplier.name.in_(("Northlight Trade", "Quayside Bulk", "Sable Retail")))
            .order_by(Sku.code, Supplier.id, Item.number, Store.id)
        ).all()
        pairs: dict[tuple[str, str], tuple[str, ...]] = {}
        used: dict[str, list[str]] = {}
        for store, sku, supplier, item in found:
            mine = used.setdefault(sku, [])
            if supplier not in mine and (mine or supplier == "Northlight Trade") and len(mine) < len(USES):
                pairs[sku, supplier] = (store, sku, supplier, item, USES[len(mine)])
                mine.append(supplier)
        out = io.StringIO()
        writer = csv.writer(out)
        writer.writerow([*kind.required, "use"])
        writer.writerows(pairs.values())
        sheet = read_sheet(out.getvalue().encode(), kind.required, kind.optional)
        checked = kind.check(Context(s, house.clock, OWNER), list(sheet.rows), lambda n: None)
    with house.db.writing() as s:
        kind.take(Context(s, house.clock, OWNER), checked)
    # Prices of so many follow in portions; the past is told of listings that have theirs.
    Portions(house.db, house.clock).run_due()


def _import_history(house: AppState, world: str) -> None:
    """The suppliers' last 60 days as sightings, so that it can be seen how steady an item is."""
    codes = {"wholesale": "Northlight Trade", "folder": "Quayside Bulk", "retail": "Sable Retail"}
    codes |= {"tarn": "Tarn Print House", "copper": "Copperbeck Press"}
    with house.db.writing() as s:
        suppliers = dict(s.execute(select(Supplier.name, Supplier.id)).tuples().all())
        known = {(supplier, number): item for supplier, number, item in s.execute(select(Item.supplier_id, Item.number, Item.id))}
        now, start = to_ms(house.clock.now()), house.clock.now() - timedelta(days=60)
        sweeps = {}
        for code, name in codes.items():
            message = "the supplier's past, brought in once"
            sweeps[code] = Sweep(
                supplier_id=suppliers[name], started=start, ended=start, state=SWEEP.target("take"), asked_by="history", message=message
            )
        s.add_all(sweeps.values())
        s.flush()
        last: dict[int, tuple[int, int]] = {}
        rows: list[tuple[Any, ...]] = []
        after: int | None = 0
        while after is not None:
            page = httpx.get(f"{world}/world/record/items", params={"after": after}, timeout=60, trust_env=False).json()
            for one in page["history"]:
                cost, stock, code = one["cost"], one["stock"], one["supplier"]
                item = known.get((suppliers[codes[code]], one["number"]))
                if item is not None and one["at"] < now:
                    old = last.get(item, (cost, stock))
                    rows.append((sweeps[code].id, item, one["at"], old[0], cost, old[1], stock, "good"))
                    last[item] = (cost, stock)
            after = page["next"]
        bulk_insert(s, Sighting, ("sweep_id", "item_id", "at", "old_cost", "cost", "old_stock", "stock", "verdict"), rows)


def _differ(house: AppState, world: str) -> None:
    """Somebody typed a price into the shop's own pages, and took a thing off sale at the fair."""
    with house.db.reading() as s:
        live = (
            select(Sku.code).join(Listing, Listing.sku_id == Sku.id).where(Listing.state == ListingState.live, Listing.lane_id.is_not(None))
        )
        mine, fair = (
            s.scalars(live.where(Listing.store_id == store).order_by(Sku.pace.desc(), Sku.code).limit(9)).all() for store in (1, 2)
        )
        price = s.scalar(select(Listing.wanted_price).join(Sku, Sku.id == Listing.sku_id).where(Sku.code == mine[4], Listing.store_id == 1))
    with httpx.Client(base_url=world, timeout=20, trust_env=False) as hand:
        hand.post("/world/listings", json={"sku": mine[4], "price": (price or 1000) * 88 // 100})
        hand.post("/world/listings", json={"sku": fair[6], "store": "fair", "state": "paused"})
    house.worker.deliver()
    for store in (1, 2):
        house.reader.check(store)


def _prepare_some(house: AppState, land: Land) -> None:
    """Goods on their way to the shelf, one search that keeps looking, and where samples go."""
    with house.db.writing() as s:
        context = Context(s, house.clock, OWNER)
        for store, words, most in ((3, "wool", 9), (2, "red lamp", 6)):
            found = house.finder.find(context, Search(store, words, ours="no", sort="profit", limit=most))
            preparation.prepare(context, house.finder, found.ids, store)
        lamps = Search(1, "headlamp", days=8, keeps_least=land.amount(200), stock_least=20)
        saved_searches.save(context, "Headlamps within 8 days", lamps, 12, 3, "report")
        street, city, region, postcode = land.own
        samples.set_own_address(context, Address(OWNER, street, city, postcode, land.country, region=region))


def _claim_some(house: AppState) -> None:
    """One parcel that went astray is claimed from its supplier, one case waits to be asked."""
    with house.db.writing() as s:
        context = Context(s, house.clock, OWNER)
        back = select(OrderLine.id).join(Order, Order.id == OrderLine.order_id).where(OrderLine.state == OrderLineState.on_the_road)
        lines = list(s.scalars(back.where(Order.channel == "past").order_by(OrderLine.id.desc()).limit(2)))
        reasons = (ClaimReason.lost, ClaimReason.damaged)
        made = [cases.open_claim(context, cases.Start(line, reason)) for line, reason in zip(lines, reasons, strict=False)]
        if made:
            cases.ask(context, made[0].id, None)


def _complain(house: AppState, world: str) -> None:
    """Two buyers of orders that have arrived write; from now on some do by themselves."""
    with house.db.reading() as s:
        arrived = (
            select(Order).join(OrderLine, OrderLine.order_id == Order.id).where(OrderLine.state == OrderLineState.arrived, Order.mail != "")
        )
        told = list(s.scalars(arrived.order_by(Order.id.desc()).limit(12)).unique())
        buyers = [(one.number, one.buyer, one.mail) for one in told]
    with httpx.Client(base_url=world, timeout=60, trust_env=False) as hand:
        hand.post("/world/facts", json={"name": "complains", "value": 0.03}).raise_for_status()
        for (number, name, sender), reason in zip(buyers[3::5], ("damaged", "missing"), strict=False):
            ask = {"number": number, "reason": reason, "name": name, "sender": sender}
            hand.post("/world/complain", json=ask).raise_for_status()


def _ask_back(house: AppState, world: str) -> None:
    """Two buyers of orders that have arrived ask for a return in the shop; from now on some do by themselves."""
    with house.db.reading() as s:
        rows = (
            select(Order, OrderLine)
            .join(OrderLine, OrderLine.order_id == Order.id)
            .join(Store, Store.id == Order.store_id)
            .where(OrderLine.state == OrderLineState.arrived, Store.kind == "own_site", Order.mail != "")
            .order_by(Order.id.desc())
            .limit(14)
        )
        found = s.execute(rows).tuples().all()[4::6]
        asks = [
            {
                "number": order.number,
                "reason": reason,
                "line": line.line_no,
                "past": {
                    "store": "shop",
                    "at": order.ordered_at.isoformat(),
                    "buyer": {"name": order.buyer, "email": order.mail, "country": order.country},
                    "lines": [
                        {
                            "line_no": line.line_no,
                            "sku": line.sku_code,
                            "title": line.title,
                            "quantity": line.quantity,
                            "unit_price": plain(line.paid // line.quantity, order.currency),
                        }
                    ],
                },
            }
            for (order, line), reason in zip(found, ("changed_mind", "not_as_described"), strict=False)
        ]
    with httpx.Client(base_url=world, timeout=60, trust_env=False) as hand:
        hand.post("/world/facts", json={"name": "asks_back", "value": 0.02}).raise_for_status()
        for ask in asks:
            hand.post("/world/return", json=ask).raise_for_status()
    with house.db.reading() as s:
        shop = s.scalar(select(Store.id).where(Store.kind == "own_site"))
    if shop is not None:
        house.reader.orders(shop)
    # One of them comes back already.
    with house.db.writing() as s:
        context = Context(s, house.clock, OWNER)
        if asked := [row for row, *_ in return_requests.waiting(context)]:
            claim = return_requests.open_case(context, asked[0].id)
            place, makers = returns.places(context, claim)[0], returns.labelled_by(context)
            if place.address:
                start = returns.Start(place.supplier, place.address, carrier=makers[0].id if makers else None)
                returns.open_return(context, claim.id, None, start)


def _open_alerts(context: Context, land: Land) -> None:
    """A few listings near their limits, as in any grown shop."""
    listings = list(context.session.scalars(select(Listing).where(Listing.landed > land.amount(700)).order_by(Listing.id).limit(120)))
    for listing in listings[5:100:12]:
        listing.ceiling = max(((listing.landed or 700) * 112 // 100) // 100 * 100 - 1, 100)


def _move_prices(house: AppState, hand: httpx.Client) -> None:
    """Two costs move too far to be believed at once, one thing gets dear enough to lose money, and somebody orders it."""
    with house.db.reading() as s:
        rows = s.execute(
            select(Item.number, Item.cost, Sku.code)
            .join(LanePart, LanePart.item_id == Item.id)
            .join(Lane, Lane.id == LanePart.lane_id)
            .join(Sku, Sku.id == Lane.sku_id)
            .join(Listing, Listing.sku_id == Sku.id)
            .where(Listing.state == ListingState.live, Listing.store_id == 1, Lane.priority == 0, Item.stock > 40)
            .where(Listing.ceiling.is_(None), Listing.net > 0)
            .order_by(Listing.profit * 100 / Listing.net, Sku.code)
            .limit(60)
        ).all()
    for _, _, code in rows[2:4]:
        hand.post("/world/buy", json={"sku": code, "quantity": 1, "store": "shop"})
    for number, cost, _ in rows[2:4]:
        hand.post("/world/items", json={"number": number, "cost": cost * 139 // 100})
    hand.post("/world/items", json={"number": rows[30][0], "cost": 1})
    hand.post("/world/items", json={"number": rows[40][0], "cost": rows[40][1] * 19 // 10})


def _change_goods(house: AppState, hand: httpx.Client) -> None:
    """Three lanes stop being true: an item comes in another pack, one is another thing now, one is sold no more."""
    spare = select(Lane.sku_id).where(Lane.priority == 1, Lane.closed_at.is_(None))
    with house.db.reading() as s:
        rows = s.execute(
            select(Item.number, Item.title, Lane.sku_id, Item.id, Item.supplier_id)
            .join(LanePart, LanePart.item_id == Item.id)
            .join(Lane, Lane.id == LanePart.lane_id)
            .join(Supplier, Supplier.id == Item.supplier_id)
            .join(Sku, Sku.id == Lane.sku_id)
            .join(Listing, Listing.sku_id == Sku.id)
            .where(Supplier.name == "Northlight Trade", Lane.priority == 0, Lane.sku_id.not_in(spare))
            .where(Listing.state == ListingState.live, Item.pack_size == 1)
            .order_by(Sku.pace.desc(), Sku.id)
            .limit(120)
        ).all()
    # A SKU in two stores comes twice.
    rows = list({row[2]: row for row in rows}.values())
    pack, other, gone = rows[20], rows[23], rows[26]
    hand.post("/world/items", json={"number": pack[0], "pack_size": 6})
    hand.post("/world/items", json={"number": other[0], "title": "Trail chair, folding, forest green, 3 legs"})
    hand.post("/world/items", json={"number": gone[0], "gone": True})
    house.reader.catalogue(other[4])
    with house.db.writing() as s:
        context = Context(s, house.clock, OWNER)
        # A hand that slipped, and two replacements that point at each other.
        lanes.open_lane(context, rows[30][2], [lanes.LaneItem(rows[31][3], Fraction(3))], use=1)
        for one, there in ((rows[33], rows[34]), (rows[34], rows[33])):
            lanes.open_requested(context, lanes.LaneRequest(one[2], [lanes.LaneItem(there[3], Fraction(1))], is_substitute=True))
        audit.refresh(context)


def _sell_unmapped(house: AppState, hand: httpx.Client, land: Land) -> None:
    """Somebody buys things that no lane fills yet, and one order comes from too far away."""
    with house.db.reading() as s:
        laned = select(Lane.sku_id)
        here = select(Listing.sku_id).where(Listing.store_id == 1)
        bare = list(s.scalars(select(Sku.code).where(Sku.id.not_in(laned), Sku.id.in_(here)).order_by(Sku.code).limit(2)))
        known = s.scalar(
            select(Sku.code)
            .join(Listing, Listing.sku_id == Sku.id)
            .where(Sku.id.in_(laned), Listing.state == ListingState.live, Listing.store_id == 1)
            .limit(1)
        )
    for code in (*bare, *bare[:1]):
        hand.post("/world/buy", json={"sku": code, "quantity": 1, "store": "shop"})
    hand.post("/world/buy", json={"sku": known, "quantity": 1, "country": "NO", "store": "shop"})
    near = land.near[0]
    # An address that no label takes, and somebody who buys for a whole club.
    odd = {
        "name": "Bríd Ní Fhearghail ☾",
        "address_1": "Coastguard Cottages, at the end of the harbour road",
        "city": "Galway" if near == "IE" else land.far[near][0],
        "postcode": "h91e2k3" if near == "IE" else land.far[near][2].lower(),
    }
    hand.post("/world/buy", json={"sku": known, "quantity": 1, "country": near, "store": "shop", "buyer": odd})
    with house.db.reading() as s:
        many = s.scalar(
            select(Sku.code)
            .join(Listing, Listing.sku_id == Sku.id)
            .where(
                Sku.id.in_(laned),
                Listing.state == ListingState.live,
                Listing.store_id == 1,
                Listing.shown_quantity == 8,
                Listing.profit > land.amount(300),
            )
            .order_by(Listing.shown_price)
            .limit(1)
        )
    hand.post("/world/buy", json={"sku": many, "quantity": 8, "store": "shop"})
    # Somebody who pressed the button a second time.
    city, region, postcode = land.hasty
    hasty = {"name": "Ottilie Marsh", "address_1": "12 Kiln Lane", "city": city, "region": region, "postcode": postcode}
    for _ in range(2):
        hand.post("/world/buy", json={"sku": known, "quantity": 1, "country": land.country, "store": "shop", "buyer": hasty})
