"""Reading the outside: sweeps, orders, answers to purchases, carriers' words. A call is never inside a transaction."""

from __future__ import annotations

import time
from collections.abc import Callable
from datetime import datetime, timedelta
from typing import Any, TypeVar

import numpy as np
from sqlalchemy import select

from ..clock import Clock
from ..connectors.errors import Malformed, OutsideError, RateLimited, Unavailable
from ..connectors.protocols import StoreOrder, SweepPage
from ..data.session import Database
from ..data.setup import Carrier, Store, Supplier
from ..data.watch import Sweep
from ..services import orders, purchases, setup, shelf, source, transit, watch
from ..services.desk import Desk
from ..services.setup import Doors

T = TypeVar("T")
TRIES = 4


class Reader:
    """Brings in what partners say. Each thing read is one transaction of its own."""

    def __init__(self, db: Database, clock: Clock, doors: Doors, rest: Callable[[float], Any] = time.sleep) -> None:
        self.db, self.clock, self.doors, self.rest = db, clock, doors, rest

    def desk(self, s: Any, who: str) -> Desk:
        return Desk(s, self.clock, who)

    def _link(self, owner: str, number: int) -> Any:
        with self.db.reading() as s:
            return self.doors.of(self.desk(s, "Watch"), owner, number)

    def _health(self, owner: str, number: int, error: OutsideError | None) -> None:
        with self.db.writing() as s:
            setup.note_health(self.desk(s, "Watch"), owner, number, error)

    def _again(self, ask: Callable[[], T]) -> tuple[T, int]:
        """Ask, and ask again after short waits. Returns the answer and how many tries were in vain."""
        for n in range(TRIES):
            try:
                return ask(), n
            except RateLimited as error:
                last: OutsideError = error
                self.rest(min(error.wait, 5.0))
            except (Unavailable, Malformed) as error:
                last = error
                self.rest(0.2 * 2**n)
        raise last

    def sweep(self, supplier_id: int, asked_by: str = "schedule") -> dict[str, int]:
        """One look at all of a supplier's prices and stock, through to responses and outbox."""
        with self.db.writing() as s:
            desk = self.desk(s, "Watch")
            sweep = watch.begin(desk, desk.get(Supplier, supplier_id, "supplier"), asked_by).id
        pages: list[SweepPage] = []
        calls = retries = 0
        try:
            link = self._link("supplier", supplier_id)
            while not pages or len(pages) < pages[0].pages:
                page, vain = self._again(lambda: link.sweep_page(len(pages) + 1))
                pages.append(page)
                calls, retries = calls + 1 + vain, retries + vain
        except OutsideError as error:
            with self.db.writing() as s:
                desk = self.desk(s, "Watch")
                row = desk.get(Sweep, sweep, "sweep")
                row.calls, row.retries = calls + TRIES, retries + TRIES - 1
                watch.fail(desk, row, error.told)
                setup.note_health(desk, "supplier", supplier_id, error)
            return {}
        seen = [one for page in pages for one in page.seen]
        told = watch.Told(
            [one.number for one in seen],
            np.array([one.cost for one in seen], dtype=np.int64),
            [one.currency for one in seen],
            np.array([one.stock for one in seen], dtype=np.int64),
            max(page.as_of for page in pages),
            not any(page.bad for page in pages),
            [one.tiers for one in seen],
        )
        with self.db.writing() as s:
            desk = self.desk(s, "Watch")
            row = desk.get(Sweep, sweep, "sweep")
            row.calls, row.retries = calls, retries
            counts = watch.take(desk, row, told)
            bad = [text for page in pages for text in page.bad]
            if bad:
                row.refused += len(bad)
                row.told = f"{len(bad)} rows could not be read, the first: {bad[0]}"
            setup.note_health(desk, "supplier", supplier_id, None)
        return counts

    def orders(self, store_id: int) -> int:
        """New orders of a store by its cursor. Each page is taken in and its cursor kept in one transaction."""
        fresh = 0
        try:
            link = self._link("store", store_id)
            more = True
            while more:
                with self.db.reading() as s:
                    cursor = self.desk(s, "Orders").get(Store, store_id, "store").orders_cursor or ""
                page, _ = self._again(lambda: link.orders(cursor))  # noqa: B023
                if page.orders or page.cursor != cursor:
                    fresh += self._take_orders(store_id, page.orders, page.cursor, page.unreadable)
                more = page.more
            self._health("store", store_id, None)
        except OutsideError as error:
            self._health("store", store_id, error)
        with self.db.writing() as s:
            store = self.desk(s, "Orders").get(Store, store_id, "store")
            store.next_read = self.clock.now() + timedelta(minutes=2)
        return fresh

    def _take_orders(self, store_id: int, told: list[StoreOrder], cursor: str | None, unreadable: list[str]) -> int:
        with self.db.writing() as s:
            desk = self.desk(s, "Orders")
            store = desk.get(Store, store_id, "store")
            fresh = orders.take_page(desk, store, told, cursor)
            for text in unreadable:
                desk.log("order.unreadable", store.name, f"{store.name}: {text}", why="look at it in the store; nothing else was held up")
            if fresh:
                setup.note_health(desk, "store", store_id, None)
            return len(fresh)

    def word(self, store_id: int, headers: dict[str, str], body: bytes) -> int:
        """A store's signed word of a new order; the same order read later changes nothing."""
        secret = self.doors.safe.for_use(f"hook-{store_id}")
        order = self._link("store", store_id).read_word(headers, body, secret)
        return self._take_orders(store_id, [order], None, [])

    def answers(self, supplier_id: int) -> None:
        """What became of the purchases that a supplier has."""
        with self.db.reading() as s:
            references = purchases.under_way(self.desk(s, "Orders"), supplier_id)
        try:
            link = self._link("supplier", supplier_id)
            for start in range(0, len(references), 50):
                part = references[start : start + 50]
                found, _ = self._again(lambda: link.find_purchases(part))  # noqa: B023
                with self.db.writing() as s:
                    desk = self.desk(s, "Orders")
                    for answer in found:
                        purchases.take_answer(desk, answer)
            self._health("supplier", supplier_id, None)
        except OutsideError as error:
            self._health("supplier", supplier_id, error)
        with self.db.writing() as s:
            self.desk(s, "Orders").get(Supplier, supplier_id, "supplier").next_ask = self.clock.now() + timedelta(minutes=5)

    def parcels(self, carrier_id: int) -> None:
        """What a carrier says of the parcels on the road."""
        with self.db.reading() as s:
            numbers = transit.on_the_road(self.desk(s, "Transit"), carrier_id)
        try:
            link = self._link("carrier", carrier_id)
            for start in range(0, len(numbers), 50):
                part = numbers[start : start + 50]
                words, _ = self._again(lambda: link.track(part))  # noqa: B023
                with self.db.writing() as s:
                    transit.take_words(self.desk(s, "Transit"), carrier_id, words)
            self._health("carrier", carrier_id, None)
        except OutsideError as error:
            self._health("carrier", carrier_id, error)
        with self.db.writing() as s:
            self.desk(s, "Transit").get(Carrier, carrier_id, "carrier").next_ask = self.clock.now() + timedelta(minutes=30)

    def catalogue(self, supplier_id: int) -> int:
        """A supplier's origins, services and whole catalogue."""
        link = self._link("supplier", supplier_id)
        told, _ = self._again(link.origins)
        with self.db.writing() as s:
            desk = self.desk(s, "Watch")
            setup.write_origins(desk, desk.get(Supplier, supplier_id, "supplier"), told)
        fresh = 0
        for page in link.catalogue():
            with self.db.writing() as s:
                desk = self.desk(s, "Watch")
                new, refused = source.bring_in(desk, desk.get(Supplier, supplier_id, "supplier"), page)
                fresh += new
                refused += link.unreadable
                link.unreadable.clear()
                if refused:
                    desk.log("item.refused", "catalogue", f"{len(refused)} items not taken, the first: {refused[0]}")
        return fresh

    def listings(self, store_id: int) -> int:
        """A store's listings as it shows them."""
        link = self._link("store", store_id)
        fresh = 0
        for page in link.listings():
            with self.db.writing() as s:
                desk = self.desk(s, "Watch")
                fresh += shelf.bring_in(desk, desk.get(Store, store_id, "store"), page)
                if link.unreadable:
                    desk.log("listing.refused", "listings", f"{len(link.unreadable)} listings not read, the first: {link.unreadable[0]}")
                    link.unreadable.clear()
        return fresh

    def due(self, kind: Any, column: Any, at: datetime) -> list[int]:
        """Numbers of partners whose time has come; those that were never looked at come first."""
        with self.db.reading() as s:
            return list(s.scalars(select(kind.id).where((column.is_(None)) | (column <= at)).order_by(kind.id)))
