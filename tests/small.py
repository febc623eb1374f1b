"""A house of a few rows without any outside, for what services decide by themselves. A copy of one file for every test."""

from __future__ import annotations

import shutil
from datetime import UTC, datetime, timedelta
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np
from sqlalchemy import select

from amber_lane.clock import PacedClock
from amber_lane.connectors.protocols import Address, StoreOrder, StoreOrderLine
from amber_lane.data.lanes import Lane
from amber_lane.data.orders import Order
from amber_lane.data.outbox import AuditEntry
from amber_lane.data.prices import Policy, PriceRule
from amber_lane.data.session import Database
from amber_lane.data.setup import Carrier, FeeRow, Link, Mailbox, Origin, Service, Store, Supplier
from amber_lane.data.shelf import Listing, Sku
from amber_lane.data.source import Item
from amber_lane.services.base.context import Context
from amber_lane.services.fulfilment import parcel_tracking
from amber_lane.services.imports.sheet_kinds import kind_of
from amber_lane.services.mapping import lanes
from amber_lane.services.monitoring import sweeps
from amber_lane.services.orders import orders
from amber_lane.sheets.table import read_sheet

START = datetime(2026, 3, 12, 9, 0, tzinfo=UTC)
# A store that was turned on long ago.
ON = {"write_prices": True, "write_stock": True, "buy_orders": True, "mass_agreed": True}
BUYER = Address("Wren Sorrel", "4 Row", "Whitby", "YO21 3PR", "GB", email="wren@post.example")


class Small:
    """One store, one supplier with one origin and two services, items that cost 1.00, 2.00, … with 20 of each."""

    def __init__(self, folder: Path, template: Path) -> None:
        self.folder = folder
        shutil.copy(template, folder / "small.db")
        self.db = Database(f"sqlite:///{folder / 'small.db'}")
        self.clock = PacedClock(START, 0)

    def fill(self, items: int = 6) -> None:
        """Rows for a house of its own; the tests copy the file."""
        with self.db.writing() as s:
            parcel_tracking.make_templates(self.context(s))
            s.add(Store(id=1, code="ONE", name="First shop", kind="own_site", country="GB", currency="GBP", **ON))
            s.add(Supplier(id=1, code="SUP", name="Supply House", kind="wholesale_api", country="GB", currency="GBP"))
            s.flush()
            s.add_all(
                [
                    FeeRow(store_id=1, percent=100_000),
                    Origin(id=1, supplier_id=1, code="main", name="Main", country="GB", handling=30, holidays=[]),
                    Carrier(id=1, code="POST", name="Hill Post", kind="post_api", store_names={}),
                    Mailbox(id=1, sender="shop@amber-lane.invalid", name="Mail"),
                    PriceRule(scope="house", scope_key="", rule="margin", rule_value=300_000, endings="95"),
                    # All orders of a test are of one buyer.
                    Policy(scope="house", scope_key="", fields={"hold_twice": False}),
                ]
            )
            s.flush()
            for owner in ("store", "supplier", "carrier", "mailbox"):
                s.add(Link(owner=owner, owner_id=1, address="http://127.0.0.1:9", sealed_key="", may=[], state="good"))
            for code, first in (("slow", 100), ("fast", 250)):
                s.add(Service(origin_id=1, code=code, name=code, country="GB", first=first, following=40, days_low=2, days_high=3))
            for n in range(1, items + 1):
                s.add(Item(id=n, supplier_id=1, origin_id=1, number=f"I-{n}", title=f"Item {n}", currency="GBP", cost=n * 100, stock=20))
            s.flush()
            for n in range(1, items + 1):
                self.list_sku(s, n)
            for n in range(1, items + 1):
                lanes.open_lane(self.context(s), n, [lanes.LaneItem(n, Fraction(1))])

    def list_sku(self, s: Any, number: int, store: int = 1, price: int = 1000, currency: str = "GBP") -> Listing:
        """A SKU S-n on sale in a store."""
        if s.get(Sku, number) is None:
            s.add(Sku(id=number, code=f"S-{number}", title=f"Thing {number}", pace=500_000))
            s.flush()
        row = Listing(store_id=store, sku_id=number, title=f"Thing {number}", state="live", currency=currency)
        row.wanted_price = row.shown_price = price
        row.wanted_quantity = row.shown_quantity = 5
        row.shown_state = "live"
        s.add(row)
        s.flush()
        return row

    def second_store(self, s: Any, country: str = "GB", currency: str = "GBP") -> Store:
        """Another store that lists nothing yet."""
        store = Store(id=2, code="TWO", name="Second shop", kind="own_site", country=country, currency=currency, **ON)
        s.add(store)
        s.flush()
        s.add(FeeRow(store_id=2, percent=100_000))
        s.flush()
        return store

    def context(self, s: Any, who: str = "Tester") -> Context:
        return Context(s, self.clock, who)

    def later(self, **span: float) -> None:
        self.clock.set(self.clock.now() + timedelta(**span), 0)

    def write(self, do: Any) -> Any:
        """Do something in one transaction."""
        with self.db.writing() as s:
            return do(self.context(s))

    def listing(self, number: int, store: int = 1) -> Listing:
        with self.db.reading() as s:
            return s.scalars(select(Listing).where(Listing.sku_id == number, Listing.store_id == store)).one()

    def all(self, query: Any) -> list[Any]:
        with self.db.reading() as s:
            return list(s.scalars(query))

    def lane(self, number: int, use: int = 0) -> Lane:
        with self.db.reading() as s:
            return s.scalars(select(Lane).where(Lane.sku_id == number, Lane.priority == use, Lane.closed_at.is_(None))).one()

    def act(self, kind: str) -> AuditEntry:
        with self.db.reading() as s:
            return s.scalars(select(AuditEntry).where(AuditEntry.kind == kind).order_by(AuditEntry.id.desc()).limit(1)).one()

    def respond(self) -> dict[str, int]:
        """Look at all listings; how many decisions of each kind came of it."""
        counts: dict[str, int] = {}
        self.write(lambda context: context.reprice(None, then=counts.update))
        return counts

    def sweep(self, changes: dict[int, tuple[int, int]], tiers: dict[int, tuple[tuple[int, int], ...]] | None = None) -> dict[str, int]:
        """A whole sweep of the supplier in which some items have another cost and stock."""
        self.later(minutes=15)
        with self.db.writing() as s:
            items = s.scalars(select(Item).where(Item.supplier_id == 1).order_by(Item.id)).all()
            told = sweeps.SweepData(
                [item.number for item in items],
                np.array([changes.get(item.id, (item.cost, item.stock))[0] for item in items], dtype=np.int64),
                ["GBP"] * len(items),
                np.array([changes.get(item.id, (item.cost, item.stock))[1] for item in items], dtype=np.int64),
                self.clock.now(),
                tiers=None if tiers is None else [tiers.get(item.id, ()) for item in items],
            )
            context = self.context(s, "Watch")
            return sweeps.take_sweep(context, sweeps.begin(context, s.get(Supplier, 1)), told)

    def order(
        self,
        number: str,
        *lines: tuple[str, int, int],
        country: str = "GB",
        promised_days: int | None = 9,
        buyer: Address = BUYER,
        store: int = 1,
    ) -> Order:
        """An order of (SKU code, quantity, unit price in pence)."""
        buyer = Address(**{**buyer.__dict__, "country": country, "postcode": {"FR": "75011"}.get(country, buyer.postcode)})
        with self.db.reading() as s:
            money = s.scalars(select(Store.currency).where(Store.id == store)).one()
        given = StoreOrder(
            number,
            self.clock.now(),
            money,
            buyer,
            [StoreOrderLine(n, sku, quantity, price, sku) for n, (sku, quantity, price) in enumerate(lines, 1)],
            None if promised_days is None else (self.clock.now() + timedelta(days=promised_days)).date(),
        )
        with self.db.writing() as s:
            context = self.context(s)
            row = orders.take_in(context, s.get(Store, store), given)
            assert row is not None
            orders.after_sales(context, [row])
            return row

    def sheet(self, name: str, text: str) -> Any:
        """Bring a sheet in; what was checked, with its bad rows."""
        kind = kind_of(name)
        rows = list(read_sheet(text.encode(), kind.required, kind.optional).rows)
        with self.db.writing() as s:
            context = self.context(s)
            checked = kind.check(context, rows, lambda n: None)
            kind.take(context, checked)
        return checked
