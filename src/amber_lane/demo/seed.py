"""Dusk & Dial from nothing: partners joined, goods brought in, lanes opened, and a first day and a half of trade."""

from __future__ import annotations

import csv
import io
from collections.abc import Callable
from datetime import datetime, timedelta
from typing import Any

import httpx
from sqlalchemy import func, select

from ..api.deps import House
from ..api.session import DEMO
from ..clock import PacedClock
from ..data.base import to_ms
from ..data.lanes import Lane, LanePart
from ..data.prices import PriceRule
from ..data.setup import FeeRow, Store, Supplier
from ..data.shelf import Listing, Sku
from ..data.source import Item
from ..data.watch import Sighting, Sweep
from ..services import setup, sheets_in, transit
from ..services.desk import Desk, bulk_insert
from ..services.drafts import PolicyChange
from ..sheets.table import read_sheet
from .past import write_past

OWNER = "Mara Whitlock"
PARTNERS = (
    ("store", "own_site", "Dusk & Dial shop", "/shop/api", "dusk-dial:practice-shop"),
    ("supplier", "wholesale_api", "Northlight Trade", "/wholesale/api", "practice-northlight"),
    ("carrier", "post_api", "Swiftwing Post", "/post/api", "practice-swiftwing"),
)
RULES = (
    {
        "band_from": 0,
        "rule": "multiple",
        "rule_value": 3_000_000,
        "min_profit": 150,
        "endings": "49|99",
        "step": 120_000,
        "reserve": 10_000,
    },
    {"band_from": 500, "rule": "margin", "rule_value": 280_000, "min_profit": 250, "endings": "95", "step": 80_000, "reserve": 20_000},
    {"band_from": 2000, "rule": "margin", "rule_value": 220_000, "min_profit": 500, "endings": "95", "step": 80_000, "reserve": 20_000},
    {"band_from": 6000, "rule": "ret", "rule_value": 240_000, "min_profit": 1200, "endings": "00", "step": 80_000, "reserve": 15_000},
)


def is_seeded(house: House) -> bool:
    with house.db.reading() as s:
        return bool(s.scalar(select(func.count()).select_from(Store)))


def seed(house: House, world: str, tell: Callable[[str], Any] = print, rounds: int = 10) -> None:
    """Fill an empty house. rounds: hours lived through before the doors open."""
    follow(house, world)
    tell("joining store, supplier, carrier and mailbox")
    _join(house, world)
    tell("bringing in the catalogue and the listings")
    house.reader.catalogue(1)
    house.reader.listings(1)
    _open_lanes(house)
    _import_history(house, world)
    with house.db.writing() as s:
        desk = Desk(s, house.clock, OWNER)
        write_past(desk)
        _troubles(desk)
    tell(f"living through the first {rounds} hours")
    with httpx.Client(base_url=world, timeout=60, trust_env=False) as hand:
        for n in range(rounds):
            answer = hand.post("/world/clock", json={"jump_minutes": 60}).raise_for_status().json()
            if isinstance(house.clock, PacedClock):
                house.clock.set(datetime.fromisoformat(answer["now"]), answer["speed"])
            house.worker.once()
            if n == rounds - 6:
                _sell_unmapped(house, hand)
            if n == rounds - 2:
                _move_prices(house, hand)
    with house.db.writing() as s:
        # From now on orders wait a while for a person, then go by themselves.
        PolicyChange("house", "", {"send": "after", "send_minutes": 180}).keep(Desk(s, house.clock, OWNER))


def follow(house: House, world: str) -> None:
    answer = httpx.get(f"{world}/world/clock", timeout=10, trust_env=False).json()
    if isinstance(house.clock, PacedClock):
        house.clock.set(datetime.fromisoformat(answer["now"]), answer["speed"])


def _join(house: House, world: str) -> None:
    port = int(world.rsplit(":", 1)[1])
    with house.db.writing() as s:
        desk = Desk(s, house.clock, OWNER)
        setup.make_person(desk, OWNER, DEMO.mail, DEMO.password)
        transit.make_templates(desk)
        for owner, kind, name, path, key in (*PARTNERS, ("mailbox", "smtp", "Dusk & Dial", "", "")):
            address = f"{world}{path}" if owner != "mailbox" else f"smtp://127.0.0.1:{port + 1}|{world}/mail/api"
            given = setup.Join(owner, kind, name, address, key)
            setup.join_partner(desk, house.doors, given, setup.ask_account(house.doors, given))
        store = s.scalars(select(Store)).one()
        store.payment, store.payment_fixed, store.tax_in_price = 19_000, 20, 0
        s.scalars(select(FeeRow)).one().percent = 20_000
        s.scalars(select(Supplier)).one().rebate = 20_000
        s.add_all(
            PriceRule(scope="house", scope_key="", **{**rule, "rule": "return" if rule["rule"] == "ret" else rule["rule"]})
            for rule in RULES
        )
        PolicyChange("house", "", {"send": "once"}).keep(desk)
        link = house.doors.of(desk, "store", store.id)
        link.tell_of_orders(
            f"http://{house.settings.host}:{house.settings.port}/api/v1/hooks/stores/{store.id}",
            house.doors.safe.for_use(f"hook-{store.id}"),
        )


def _open_lanes(house: House) -> None:
    """Lanes by the same sheet that a person would bring in: every SKU whose barcode an item has."""
    kind = sheets_in.KINDS["lanes"]
    with house.db.reading() as s:
        pairs = s.execute(
            select(Store.name, Sku.code, Supplier.name, Item.number)
            .join(Listing, Listing.sku_id == Sku.id)
            .join(Store, Store.id == Listing.store_id)
            .join(Item, (Item.gtin == Sku.gtin) & (Item.gtin != ""))
            .join(Supplier, Supplier.id == Item.supplier_id)
            .order_by(Sku.code)
        ).all()
        out = io.StringIO()
        writer = csv.writer(out)
        writer.writerow(kind.required)
        writer.writerows(pairs)
        sheet = read_sheet(out.getvalue().encode(), kind.required, kind.optional)
        checked = kind.check(Desk(s, house.clock, OWNER), list(sheet.rows), lambda n: None)
    with house.db.writing() as s:
        kind.take(Desk(s, house.clock, OWNER), checked)


def _import_history(house: House, world: str) -> None:
    """The supplier's last 60 days as sightings, for the items that lanes use."""
    with house.db.writing() as s:
        used = dict(
            s.execute(select(Item.number, Item.id).join(LanePart, LanePart.item_id == Item.id).join(Lane, Lane.id == LanePart.lane_id))
            .tuples()
            .all()
        )
        now = to_ms(house.clock.now())
        sweep = Sweep(
            supplier_id=1,
            started=house.clock.now() - timedelta(days=60),
            ended=house.clock.now() - timedelta(days=60),
            state="good",
            asked_by="history",
            told="the supplier's past, brought in once",
        )
        s.add(sweep)
        s.flush()
        last: dict[str, tuple[int, int]] = {}
        rows: list[tuple[Any, ...]] = []
        after: int | None = 0
        while after is not None:
            page = httpx.get(f"{world}/world/record/items", params={"after": after}, timeout=60, trust_env=False).json()
            for one in page["history"]:
                number, cost, stock = one["number"], one["cost"], one["stock"]
                if number in used and one["at"] < now:
                    old = last.get(number, (cost, stock))
                    rows.append((sweep.id, used[number], one["at"], old[0], cost, old[1], stock, "good"))
                    last[number] = (cost, stock)
            after = page["next"]
        bulk_insert(s, Sighting, ("sweep_id", "item_id", "at", "old_cost", "cost", "old_stock", "stock", "verdict"), rows)


def _troubles(desk: Desk) -> None:
    """A few listings near their limits, as in any grown shop."""
    listings = list(desk.s.scalars(select(Listing).where(Listing.landed > 700).order_by(Listing.id).limit(120)))
    for listing in listings[5:100:12]:
        listing.ceiling = max(((listing.landed or 700) * 112 // 100) // 100 * 100 - 1, 100)


def _move_prices(house: House, hand: httpx.Client) -> None:
    """Two costs move too far to be believed at once, one thing gets dear enough to lose money, and somebody orders it."""
    with house.db.reading() as s:
        rows = s.execute(
            select(Item.number, Item.cost, Sku.code)
            .join(LanePart, LanePart.item_id == Item.id)
            .join(Lane, Lane.id == LanePart.lane_id)
            .join(Sku, Sku.id == Lane.sku_id)
            .join(Listing, Listing.sku_id == Sku.id)
            .where(Listing.state == "live", Item.stock > 40, Listing.ceiling.is_(None), Listing.net > 0)
            .order_by(Listing.profit * 100 / Listing.net, Sku.code)
            .limit(60)
        ).all()
    for _, _, code in rows[2:4]:
        hand.post("/world/buy", json={"sku": code, "quantity": 1})
    for number, cost, _ in rows[2:4]:
        hand.post("/world/items", json={"number": number, "cost": cost * 139 // 100})
    hand.post("/world/items", json={"number": rows[30][0], "cost": 1})
    hand.post("/world/items", json={"number": rows[40][0], "cost": rows[40][1] * 19 // 10})


def _sell_unmapped(house: House, hand: httpx.Client) -> None:
    """Somebody buys things that no lane fills yet, and one order comes from too far away."""
    with house.db.reading() as s:
        laned = select(Lane.sku_id)
        bare = list(s.scalars(select(Sku.code).where(Sku.id.not_in(laned)).order_by(Sku.code).limit(2)))
        known = s.scalar(
            select(Sku.code).join(Listing, Listing.sku_id == Sku.id).where(Sku.id.in_(laned), Listing.state == "live").limit(1)
        )
    for code in (*bare, *bare[:1]):
        hand.post("/world/buy", json={"sku": code, "quantity": 1})
    hand.post("/world/buy", json={"sku": known, "quantity": 1, "country": "NO"})
