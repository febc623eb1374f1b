"""A house of n SKUs from a seed: two lanes and three items a SKU, five suppliers, sixty days of sightings, orders and decisions,
an outbox that nobody has emptied, and a few of every thing that needs a person."""

from __future__ import annotations

import json
from datetime import UTC, datetime
from pathlib import Path

import numpy as np
from sqlalchemy import text
from sqlalchemy.orm import Session

from amber_lane.clock import SystemClock
from amber_lane.core.money import Ints
from amber_lane.data.base import to_ms
from amber_lane.data.lanes import Lane, LanePart
from amber_lane.data.outbox import AuditEntry
from amber_lane.data.prices import Policy, PriceRule, Rate
from amber_lane.data.session import Database
from amber_lane.data.setup import Carrier, FeeRow, Origin, Service, Store, Supplier
from amber_lane.data.shelf import Listing, Sku
from amber_lane.data.source import Item
from amber_lane.data.watch import ListingDecision, Sighting, Sweep
from amber_lane.services.base.context import Context
from amber_lane.services.pricing import sales_velocity

from . import trade
from .rows import DAY, DAYS, SUPPLIERS, times, write

COLOURS = [
    "amber",
    "blue",
    "brick",
    "cream",
    "dune",
    "ebony",
    "fern",
    "grey",
    "honey",
    "ivory",
    "jade",
    "khaki",
    "lilac",
    "moss",
    "navy",
    "olive",
]
STUFFS = ["canvas", "cotton", "cork", "felt", "glass", "iron", "linen", "oak", "paper", "steel", "stone", "tin", "wool", "wicker"]
THINGS = [
    "apron",
    "basket",
    "bench",
    "bowl",
    "box",
    "brush",
    "candle",
    "chair",
    "clock",
    "coaster",
    "cup",
    "cushion",
    "desk",
    "dish",
    "frame",
    "globe",
    "hook",
    "jar",
    "jug",
    "kettle",
    "ladle",
    "lamp",
    "mat",
    "mirror",
    "mug",
    "napkin",
    "pan",
    "pillow",
    "plate",
    "pot",
    "rack",
    "rug",
    "shelf",
    "spoon",
    "stool",
    "tray",
    "vase",
    "wreath",
]


def make(folder: Path, n: int, seed: int = 18) -> Database:
    """The house, in a file `house.db` of the folder; a second call with the same n and seed makes the same rows, but for the time."""
    db = Database(f"sqlite:///{folder / 'house.db'}")
    db.migrate()
    luck = np.random.default_rng(seed)
    now = to_ms(datetime.now(UTC))
    with db.writing() as s:
        s.execute(text("pragma defer_foreign_keys = on"))
        _partners(s, now)
        cost = _goods(s, n, luck, now)
        _lanes(s, n, now, cost)
        _listings(s, n, luck, now, cost)
        _past_of_watch(s, n, luck, now, cost)
        trade.orders(s, n, luck, now, cost)
        trade.outbox(s, n, luck, now)
        # As the hourly look would find it.
        for sold, sku in sales_velocity.moved(Context(s, SystemClock(), "Watch")):
            s.execute(text("update sku set pace = :pace where id = :id"), {"pace": sold, "id": sku})
        s.connection().exec_driver_sql(
            "insert into item_fts(rowid, title, brand, options, category, number, gtin, mpn)"
            " select id, title, brand, options, category, number, gtin, mpn from item"
        )
    return db


def _partners(s: Session, now: int) -> None:
    write(
        s,
        Store,
        2,
        code=["EAST", "WEST"],
        name=["East shop", "West shop"],
        kind="sheet",
        country=["GB", "DE"],
        currency=["GBP", "EUR"],
        payment=19000,
        payment_fixed=20,
        write_prices=1,
        write_stock=1,
        buy_orders=1,
        mass_agreed=1,
    )
    write(s, FeeRow, 2, store_id=[1, 2], percent=110000)
    write(
        s,
        Supplier,
        SUPPLIERS,
        code=[f"S{i}" for i in range(1, SUPPLIERS + 1)],
        name=[f"Supplier {word}" for word in ("Alder", "Birch", "Cedar", "Damson", "Elm")],
        kind="sheet",
        country=["GB", "GB", "GB", "DE", "DE"],
        currency=["GBP", "GBP", "GBP", "EUR", "EUR"],
        good_sweep_at=now,
        feed_as_of=now,
        sheet_whole=0,
    )
    write(s, Origin, SUPPLIERS, supplier_id=range(1, 6), code="main", name="Warehouse", country=["GB", "GB", "GB", "DE", "DE"], handling=30)
    write(
        s,
        Service,
        2 * SUPPLIERS,
        origin_id=times(range(1, 6), 2),
        code="std",
        name="Tracked",
        country=["GB", "DE"] * 5,
        first=[160, 420] * 5,
        following=50,
        days_low=2,
        days_high=4,
    )
    write(s, PriceRule, 1, scope="house", rule="margin", rule_value=250_000, min_profit=150, endings="95")
    write(s, Policy, 1, scope="house", fields=json.dumps({"hold_median": 900_000, "wait_over": 0}))
    days = [now - now % DAY - i * DAY for i in range(DAYS)]
    write(
        s,
        Rate,
        DAYS * 2,
        base=["EUR", "GBP"] * DAYS,
        quote=["GBP", "EUR"] * DAYS,
        day=times(days, 2),
        nano=[850_000_000, 1_176_000_000] * DAYS,
        source="hand",
    )
    write(s, Carrier, 1, code="POST", name="Parcel road", kind="by_hand", shape="*")


def _titles(n: int) -> list[str]:
    return [
        f"{COLOURS[i % 16].title()} {STUFFS[i // 16 % 14]} {THINGS[i // 7 % 38]} {i // 3 % 97 + 4} cm, {'set of 2' if i % 5 == 0 else f'no. {i}'}"
        for i in range(1, n + 1)
    ]


def _gtin(i: int) -> str:
    return f"{5_000_000_000_000 + i}"


def _goods(s: Session, n: int, luck: np.random.Generator, now: int) -> Ints:
    titles = _titles(n)
    write(
        s,
        Sku,
        n,
        code=lambda i: f"SKU-{i:06d}",
        title=titles,
        gtin=lambda i: _gtin(i) if i % 3 else "",
        brand=lambda i: f"House {i % 60}",
        category=lambda i: f"Home > {THINGS[i // 7 % 38]}",
        weight_g=lambda i: 80 + i % 1400,
        pace=0,
    )
    base = luck.integers(150, 6000, n)
    # Three a SKU, of three suppliers: its main, its spare, and one that nobody has chosen.
    cost = (np.repeat(base, 3) * np.tile([100, 107, 112], n) // 100).astype(np.int64)
    sku = np.repeat(np.arange(1, n + 1), 3)
    supplier = (sku + np.tile([0, 1, 2], n)) % SUPPLIERS + 1
    stock = luck.integers(6, 400, 3 * n)
    stock[luck.random(3 * n) < 0.03] = 0
    seen = now - luck.integers(0, 20 * 3600, 3 * n) * 1000
    offer = np.where(luck.random(3 * n) < 0.0005, "doubted", "good")
    write(
        s,
        Item,
        3 * n,
        supplier_id=supplier,
        origin_id=supplier,
        number=[f"{'ABC'[k]}-{i:06d}" for i, k in zip(sku.tolist(), [0, 1, 2] * n, strict=True)],
        title=times(titles, 3),
        gtin=[_gtin(i) if i % 3 else "" for i in sku.tolist()],
        brand=[f"House {i % 60}" for i in sku.tolist()],
        category=[f"Home > {THINGS[i // 7 % 38]}" for i in sku.tolist()],
        weight_g=(80 + sku % 1400),
        currency=np.where(supplier > 3, "EUR", "GBP"),
        cost=cost,
        stock=stock,
        offer=offer,
        seen_at=seen,
        changed_at=seen,
        doubt_cost=np.where(offer == "doubted", cost * 4, -1),
    )
    return np.asarray(cost, dtype=np.int64)


def _lanes(s: Session, n: int, now: int, cost: Ints) -> None:
    """A main lane and a spare for all SKUs but one in five hundred."""
    skus = [i for i in range(1, n + 1) if i % 500]
    m = len(skus)
    use, sku = [0, 1] * m, times(skus, 2)
    supplier = [(i + u) % SUPPLIERS + 1 for i, u in zip(sku, use, strict=True)]
    write(
        s,
        Lane,
        2 * m,
        sku_id=sku,
        sku_code=[f"SKU-{i:06d}" for i in sku],
        supplier_id=supplier,
        origin_id=supplier,
        service="std",
        priority=use,
        state=["slow" if i % 97 == 0 else "open" for i in sku],
        opened_at=now - 90 * DAY,
        opened_by="bench",
        item_id=(item := [3 * (i - 1) + u + 1 for i, u in zip(sku, use, strict=True)]),
        landed=[None if u else int(cost[i - 1]) + 190 for i, u in zip(item, use, strict=True)],
        profit=[None if u else int(cost[i - 1]) // 3 for i, u in zip(item, use, strict=True)],
    )
    write(s, LanePart, 2 * m, lane_id=range(1, 2 * m + 1), item_id=item)


def _listings(s: Session, n: int, luck: np.random.Generator, now: int, cost: Ints) -> None:
    """All SKUs in the first store, one in five in the second."""
    second = np.arange(5, n + 1, 5)
    sku = np.concatenate([np.arange(1, n + 1), second])
    m, off = len(sku), luck.random(len(sku)) < 0.03
    landed = cost[3 * (sku - 1)] + 190
    price = (landed * 165 // 100) // 100 * 100 + 95
    lane_of = np.cumsum(np.arange(1, n + 1) % 500 != 0) * 2 - 1
    bare = sku % 500 == 0
    write(
        s,
        Listing,
        m,
        store_id=np.where(np.arange(m) < n, 1, 2),
        sku_id=sku,
        title=_titles(n) + [f"Ding {i}" for i in second.tolist()],
        state=np.where(off, "paused", "live"),
        paused_by=np.where(off, "stock", ""),
        currency=np.where(np.arange(m) < n, "GBP", "EUR"),
        wanted_price=price,
        wanted_quantity=np.where(off, 0, 8),
        shown_price=price,
        shown_quantity=8,
        shown_state="live",
        shown_at=now - DAY,
        lane_id=[None if no else int(lane) for no, lane in zip(bare.tolist(), lane_of[sku - 1].tolist(), strict=True)],
        landed=[None if no else int(one) for no, one in zip(bare.tolist(), landed.tolist(), strict=True)],
        profit=[None if no else int(one) for no, one in zip(bare.tolist(), (price * 87 // 100 - landed).tolist(), strict=True)],
        net=[None if no else int(one) for no, one in zip(bare.tolist(), (price * 87 // 100).tolist(), strict=True)],
        set_by=0,
    )


def _past_of_watch(s: Session, n: int, luck: np.random.Generator, now: int, cost: Ints) -> None:
    """Sixty days: a sweep an hour of each supplier; one item in two hundred moves each day, and two decisions follow a SKU."""
    sweeps = DAYS * 24 * SUPPLIERS
    began = [now - DAYS * DAY + i * (DAYS * DAY // sweeps) for i in range(sweeps)]
    write(s, Sweep, sweeps, supplier_id=lambda i: i % SUPPLIERS + 1, started=began, ended=began, state="good", items=n)
    m = 3 * n * DAYS // 200
    item = luck.integers(1, 3 * n + 1, m)
    place = np.sort(luck.integers(0, sweeps, m))
    old = cost[item - 1]
    write(
        s,
        Sighting,
        m,
        sweep_id=place + 1,
        item_id=item,
        at=np.array(began)[place],
        old_cost=old,
        cost=old * luck.integers(90, 111, m) // 100,
        old_stock=luck.integers(0, 300, m),
        stock=luck.integers(0, 300, m),
        verdict="good",
    )
    acts = 2000 + n // 5
    write(
        s,
        AuditEntry,
        acts,
        at=[now - DAYS * DAY + i * (DAYS * DAY // acts) for i in range(acts)],
        who=lambda i: "Watch" if i % 4 else "Ann",
        person_id=lambda i: None if i % 4 else 1,
        kind=lambda i: "watch.respond" if i % 4 else "price.hand",
        on=lambda i: f"SKU-{i % n + 1:06d}",
        message=lambda i: f"a sweep of Supplier {i % 5}: {i % 30} prices moved",
        undo="",
        count=3,
    )
    m = 2 * n
    listing = luck.integers(1, n + 1, m)
    place = np.sort(luck.integers(0, sweeps, m))
    kinds = np.array(["reprice", "quantity", "pause", "resume", "keep"])[luck.integers(0, 5, m)]
    waits = np.zeros(m, dtype=bool)
    waits[m - max(n // 400, 1) :] = True
    terms = json.dumps(
        dict.fromkeys(
            ["landed", "reserve", "fee", "fee_least", "fee_fixed", "payment", "tax", "rule_value", "min_profit", "goods", "ship"], 100
        )
    )
    write(
        s,
        ListingDecision,
        m,
        sweep_id=place + 1,
        listing_id=listing,
        item_id=3 * (listing - 1) + 1,
        at=np.array(began)[place],
        kind=np.where(waits, "hold", kinds),
        state=np.where(waits, "waits", "sent"),
        old_price=cost[3 * (listing - 1)] * 2,
        new_price=cost[3 * (listing - 1)] * 2 + 10,
        old_quantity=8,
        new_quantity=7,
        old_state="live",
        new_state="live",
        set_by=np.where(waits, 2, 0),
        outcome=np.where(waits, 1, 0),
        terms=terms,
    )
