"""Reading the outside: sweeps, orders, answers to purchases, carriers' words. A call is never inside a transaction."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Collection, Iterator, Sequence
from contextlib import contextmanager
from datetime import datetime, timedelta
from functools import cache
from typing import Any, TypeVar

import numpy as np
from sqlalchemy import Select, bindparam, select
from sqlalchemy.orm import Session

from ..clock import Clock
from ..connectors.abilities import Ability
from ..connectors.claim_protocol import ClaimLink
from ..connectors.depot_protocol import DepotLink
from ..connectors.errors import Denied, Malformed, OutsideError, RateLimited, Unavailable
from ..connectors.print_protocol import PrintLink
from ..connectors.protocols import CatalogueItem, ItemSeen, PurchaseAnswer, StoreOrder, SupplierLink, SweepPage, Word
from ..connectors.return_protocol import ReturnsLink
from ..data.orders import Order
from ..data.outbox import AuditEntry
from ..data.session import Database
from ..data.setup import UNCALLED, Carrier, RateSource, Store, Supplier
from ..data.watch import Sweep
from ..services.base.abilities import able
from ..services.base.context import Context
from ..services.books import settlements
from ..services.catalogue import ingest
from ..services.claims import returns
from ..services.depot import loads
from ..services.fulfilment import parcel_tracking
from ..services.listings import drift, store_listings
from ..services.monitoring import large_sweeps, polling_plan, sweeps
from ..services.orders import orders
from ..services.partners import connections, partner_terms, registry
from ..services.partners.registry import ConnectorRegistry
from ..services.pricing import exchange_rates
from ..services.printing import houses
from ..services.purchasing import purchase_orders, supplier_answers
from ..services.sourcing import samples
from .claim_polling import read_claims
from .depot_polling import DepotReader
from .proof_polling import read_proofs
from .return_polling import read_returns

T = TypeVar("T")
L = TypeVar("L")
TRIES = 4
# Answers on purchases that are written in one transaction: each may plan its order anew.
TAKEN = 12
# A sweep that was broken off goes on with the page it was at, if it is tried again within so many minutes.
GO_ON = timedelta(minutes=20)


class Reader:
    """Brings in what partners say. Each thing read is one transaction of its own."""

    def __init__(self, db: Database, clock: Clock, connectors: ConnectorRegistry, rest: Callable[[float], Any] = time.sleep) -> None:
        self.db, self.clock, self.connectors, self.rest = db, clock, connectors, rest
        self._half: dict[int, tuple[datetime, list[SweepPage]]] = {}
        self.heard: dict[tuple[int, str], datetime] = {}
        self.hearing = threading.Lock()
        self.depots = DepotReader(db, clock, self.again)

    def context(self, s: Session, who: str) -> Context:
        return Context(s, self.clock, who)

    def opened(self, open_: Callable[[Context, int], L], number: int) -> L:
        """A partner's connector, by the registry's method for its sort."""
        with self.db.reading() as s:
            return open_(self.context(s, "Watch"), number)

    def _health(self, owner: str, number: int, error: OutsideError | None) -> None:
        with self.db.writing() as s:
            connections.note_health(self.context(s, "Watch"), owner, number, error)

    @contextmanager
    def visit(self, owner: str, number: int) -> Iterator[None]:
        """A look at a partner: what came of it is its health. A fault of ours in taking in what it told is seen there too."""
        try:
            yield
            self._health(owner, number, None)
        except OutsideError as error:
            self._health(owner, number, error)
        except Exception:
            self._health(owner, number, Malformed("what it told could not be taken in here; the server's log says why"))
            raise

    def again(self, ask: Callable[[], T]) -> tuple[T, int]:
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

    def recover(self) -> int:
        """Sweeps that the last worker had in hand. Called once, before any begins."""
        with self.db.writing() as s:
            return sweeps.recover(self.context(s, "Watch"))

    def sweep(self, supplier_id: int, asked_by: str = "schedule") -> dict[str, int]:
        """One look at all of a supplier's prices and stock, through to responses and outbox."""
        with self.db.writing() as s:
            context = self.context(s, "Watch")
            sweep = sweeps.begin(context, context.get(Supplier, supplier_id, "supplier"), asked_by).id
        pages = self._broken_off(supplier_id)
        # Between two tries items may have moved from page to page: what is not seen then is not taken for gone.
        whole = not pages
        gone: list[str] = []
        asked = retries = 0
        try:
            link = self.opened(self.connectors.supplier, supplier_id)
            if link.one_by_one:
                page, gone, asked = self._item_by_item(supplier_id, link)
                pages.append(page)
            while not pages or len(pages) < pages[-1].pages:
                page, vain = self.again(lambda: link.sweep_page(len(pages) + 1, pages[-1].cursor if pages else ""))
                pages.append(page)
                asked, retries = asked + 1 + vain, retries + vain
        except OutsideError as error:
            if pages and not isinstance(error, Malformed):
                self._half[supplier_id] = (self.clock.now(), pages)
            with self.db.writing() as s:
                context = self.context(s, "Watch")
                row = context.get(Sweep, sweep, "sweep")
                row.calls, row.retries = asked + TRIES, retries + TRIES - 1
                sweeps.fail(context, row, error.message)
                connections.note_health(context, "supplier", supplier_id, error)
            return {}
        seen = [one for page in pages for one in page.seen]
        data = sweeps.SweepData(
            [one.number for one in seen],
            np.array([one.cost for one in seen], dtype=np.int64),
            [one.currency for one in seen],
            np.array([one.stock for one in seen], dtype=np.int64),
            max(page.as_of or self.clock.now() for page in pages),
            whole and not link.one_by_one and not any(page.bad for page in pages),
            None if link.one_by_one else [one.tiers for one in seen],
            [one.pack for one in seen],
            gone,
        )
        # Counted first: asked is asked, also where the answer comes too late to be taken.
        with self.db.writing() as s:
            row = self.context(s, "Watch").get(Sweep, sweep, "sweep")
            row.calls, row.retries = asked, retries
        counts = large_sweeps.carry_out(self.db.reading, self.db.writing, lambda s: self.context(s, "Watch"), sweep, data)
        with self.db.writing() as s:
            context = self.context(s, "Watch")
            row = context.get(Sweep, sweep, "sweep")
            if link.one_by_one:
                ingest.note_looked(context, supplier_id, [*data.numbers, *gone])
            bad = [text for page in pages for text in page.bad]
            if bad:
                row.refused += len(bad)
                row.message = f"{len(bad)} rows could not be read, the first: {bad[0]}"
            connections.note_health(context, "supplier", supplier_id, None)
            connections.note_budget(context, "supplier", supplier_id, link)
            self._notice(context, supplier_id, [text for page in pages for text in page.notices])
        return counts

    def _broken_off(self, supplier_id: int) -> list[SweepPage]:
        """The pages of a sweep that was broken off a moment ago; an old one begins again."""
        at, pages = self._half.pop(supplier_id, (None, []))
        return pages if at is not None and self.clock.now() - at < GO_ON else []

    def _notice(self, context: Context, supplier_id: int, noticed: Sequence[str]) -> None:
        """What was noticed about a sheet's make is told once, and again only when it is something else."""
        notices = "; ".join(noticed)
        row = registry.link_of(context, "supplier", supplier_id)
        if notices:
            message = f"read all the same: {notices}"[:300]
            if not context.session.scalar(
                select(AuditEntry.id).where(
                    AuditEntry.kind == "sheet.noticed", AuditEntry.on == str(supplier_id), AuditEntry.message == message
                )
            ):
                context.log("sheet.noticed", str(supplier_id), message)
            row.message = message

    def _item_by_item(self, supplier_id: int, link: SupplierLink) -> tuple[SweepPage, list[str], int]:
        """A sweep of a supplier that tells one item a call: those that are longest over their time in its calls plan, as far
        as its calls go. What is left comes next time."""
        with self.db.reading() as s:
            context = self.context(s, "Watch")
            supplier = context.get(Supplier, supplier_id, "supplier")
            row = registry.link_of(context, "supplier", supplier_id)
            left = polling_plan.calls_left(context, supplier)
            most = polling_plan.a_sweep(supplier, row)
            numbers = polling_plan.due(context, supplier, most if left is None else min(most, left))
        seen, gone, bad, asked = [], [], [], 0
        for number in numbers:
            asked += 1
            try:
                one = link.item(number)
            except RateLimited:
                break
            except Malformed as error:
                bad.append(f"{number}: {error.message}")
                continue
            if one is None:
                gone.append(number)
            else:
                seen.append(ItemSeen(one.number, one.cost, one.currency, one.stock, one.tiers, one.pack_size))
        if numbers and not seen and not gone:
            raise RateLimited("it took no calls for this sweep", 10.0) if not bad else Malformed(bad[0])
        return SweepPage(self.clock.now(), seen, 1, bad), gone, asked

    def orders(self, store_id: int) -> int:
        """New orders of a store by its cursor. Each page is taken in and its cursor kept in one transaction."""
        fresh = 0
        try:
            with self.visit("store", store_id):
                link = self.opened(self.connectors.store, store_id)
                more = True
                while more:
                    with self.db.reading() as s:
                        cursor = self.context(s, "Orders").get(Store, store_id, "store").orders_cursor or ""
                    page, _ = self.again(lambda: link.orders(cursor))  # noqa: B023
                    if page.orders or page.cursor != cursor:
                        fresh += self._take_orders(store_id, page.orders, page.cursor, page.unreadable)
                    more = page.more
                if isinstance(link, ReturnsLink):
                    read_returns(self.db, lambda s: self.context(s, "Returns"), self.again, link, store_id)
        finally:
            with self.db.writing() as s:
                store = self.context(s, "Orders").get(Store, store_id, "store")
                store.next_read = self.clock.now() + timedelta(minutes=2)
        return fresh

    def settlements(self, store_id: int) -> int:
        """What a store paid out since the last look, every six hours; each page and its cursor in one transaction. A page that could not
        be read whole is asked for again the next time, and keeps none of the later ones waiting. Returns how many rows."""
        fresh = 0
        try:
            link = self.opened(self.connectors.store, store_id)
            if not link.tells_settlements:
                return 0
            with self.db.reading() as s:
                cursor = self.context(s, "Books").get(Store, store_id, "store").settled_cursor or ""
            more = whole = True
            while more:
                page, _ = self.again(lambda: link.settlements(cursor))  # noqa: B023
                with self.db.writing() as s:
                    context = self.context(s, "Books")
                    store = context.get(Store, store_id, "store")
                    fresh += settlements.take_page(context, store, page, whole)
                whole = whole and not page.unreadable
                more, cursor = page.more and page.cursor != cursor, page.cursor
        except OutsideError as error:
            self._health("store", store_id, error)
        finally:
            with self.db.writing() as s:
                self.context(s, "Books").get(Store, store_id, "store").next_settled = self.clock.now() + timedelta(hours=6)
        return fresh

    def _take_orders(self, store_id: int, incoming: list[StoreOrder], cursor: str | None, unreadable: list[str]) -> int:
        with self.db.writing() as s:
            context = self.context(s, "Orders")
            store = context.get(Store, store_id, "store")
            fresh = orders.take_page(context, store, incoming, cursor, unreadable)
            if fresh:
                connections.note_health(context, "store", store_id, None)
            return len(fresh)

    def word(self, store_id: int, headers: dict[str, str], body: bytes) -> int:
        """A store's signed word of a new order; the same order read later changes nothing."""
        with self.db.reading() as s:
            store = self.context(s, "Orders").get(Store, store_id, "store")
            if store.paused_at or store.ended_at or not store.read_orders:
                # What is told now is read by the clock once the store is back at work.
                return 0
        secret = self.connectors.credentials.for_use(f"hook-{store_id}")
        word = self.opened(self.connectors.store, store_id).read_word(headers, body, secret)
        self._hear(store_id, word)
        with self.db.reading() as s:
            if s.scalar(select(Order.id).where(Order.store_id == store_id, Order.number == word.order.number)) is not None:
                # What became of an order is read from the store itself: words may come late, or in another order than they were said.
                return 0
        return self._take_orders(store_id, [word.order], None, [])

    def _hear(self, store_id: int, word: Word) -> None:
        """A word counts for a few minutes, and once. Denied where it is old, or was heard before."""
        now = self.clock.now()
        # Where time runs fast, a moment of ours is many minutes of the store's.
        window = timedelta(seconds=max(word.seconds, 20 * getattr(self.clock, "speed", 1.0)))
        if abs(now - word.at) > window:
            raise Denied("the word of a new order was signed too long ago, or with a wrong clock")
        with self.hearing:
            self.heard = {one: at for one, at in self.heard.items() if at > now - 2 * window}
            if (store_id, word.signature) in self.heard:
                raise Denied("this word of a new order was heard before")
            self.heard[store_id, word.signature] = now

    def answers(self, supplier_id: int) -> None:
        """What became of the purchases that a supplier has."""
        with self.db.reading() as s:
            context = self.context(s, "Orders")
            asked = samples.under_way(context, supplier_id)
            coming = loads.under_way(context, supplier_id)
            references = [*purchase_orders.under_way(context, supplier_id), *asked, *coming]
            if not able(context, context.get(Supplier, supplier_id, "supplier"), Ability.answers):
                # Nobody there knows of a purchase again; its answer was all, and the rest comes by sheet, mail or hand.
                references = []
        try:
            with self.visit("supplier", supplier_id):
                link = self.opened(self.connectors.supplier, supplier_id)
                for start in range(0, len(references), 50):
                    part = references[start : start + 50]
                    found, _ = self.again(lambda: link.find_purchases(part))  # noqa: B023
                    for first in range(0, len(found), TAKEN):
                        self._take_answers(found[first : first + TAKEN], asked, coming)
                if isinstance(link, PrintLink):
                    read_proofs(self.db, lambda s: self.context(s, "Orders"), link, supplier_id)
                if isinstance(link, DepotLink):
                    self.depots.read(supplier_id, link)
                if isinstance(link, ClaimLink):
                    read_claims(self.db, lambda s: self.context(s, "Claims"), self.again, link, supplier_id)
        finally:
            with self.db.writing() as s:
                self.context(s, "Orders").get(Supplier, supplier_id, "supplier").next_ask = self.clock.now() + timedelta(minutes=5)

    def _take_answers(self, found: Sequence[PurchaseAnswer], samples_asked: Collection[str], coming: Collection[str]) -> None:
        with self.db.writing(patient=True) as s:
            context = self.context(s, "Orders")
            for answer in found:
                if answer.reference in samples_asked:
                    samples.take_answer(context, answer)
                elif answer.reference in coming:
                    loads.take_answer(context, answer)
                else:
                    supplier_answers.take_answer(context, answer, corrects=True)

    def parcels(self, carrier_id: int) -> None:
        """What a carrier says of the parcels on the road."""
        with self.db.reading() as s:
            context = self.context(s, "Transit")
            numbers = [*parcel_tracking.on_the_road(context, carrier_id), *returns.on_the_road(context, carrier_id)]
        try:
            with self.visit("carrier", carrier_id):
                link = self.opened(self.connectors.carrier, carrier_id)
                for start in range(0, len(numbers), 50):
                    part = numbers[start : start + 50]
                    words, _ = self.again(lambda: link.track(part))  # noqa: B023
                    with self.db.writing() as s:
                        parcel_tracking.take_words(self.context(s, "Transit"), carrier_id, words)
                        returns.take_words(self.context(s, "Transit"), carrier_id, words)
        finally:
            with self.db.writing() as s:
                self.context(s, "Transit").get(Carrier, carrier_id, "carrier").next_ask = self.clock.now() + timedelta(minutes=30)

    def rates(self, source_id: int) -> None:
        """The exchange rates of the day."""
        try:
            link = self.opened(self.connectors.rates, source_id)
            table, _ = self.again(link.table)
            with self.db.writing() as s:
                context = self.context(s, "Watch")
                exchange_rates.take_table(context, context.get(RateSource, source_id, "source of rates"), table)
            self._health("rates", source_id, None)
        except OutsideError as error:
            self._health("rates", source_id, error)
            with self.db.writing() as s:
                self.context(s, "Watch").get(RateSource, source_id, "source of rates").next_ask = self.clock.now() + timedelta(minutes=30)

    def check(self, store_id: int) -> int:
        """A store's own listings, compared with what we asked; the next time is a day later. Returns how many differ."""
        with self.db.writing() as s:
            self.context(s, "Watch").get(Store, store_id, "store").next_check = self.clock.now() + timedelta(days=1)
        try:
            link = self.opened(self.connectors.store, store_id)
            begun, seen = self.clock.now(), set()
            for page in link.listings():
                with self.db.writing() as s:
                    context = self.context(s, "Watch")
                    seen |= drift.compare(context, context.get(Store, store_id, "store"), page.listings, begun)
            with self.db.writing() as s:
                context = self.context(s, "Watch")
                found = drift.missing(context, context.get(Store, store_id, "store"), seen, begun)
            self._health("store", store_id, None)
        except OutsideError as error:
            self._health("store", store_id, error)
            with self.db.writing() as s:
                self.context(s, "Watch").get(Store, store_id, "store").next_check = self.clock.now() + timedelta(hours=1)
            return 0
        return found

    def catalogue(self, supplier_id: int) -> int:
        """A supplier's origins, services and whole catalogue; the next time is a day later. Returns how many items were new."""
        link = self.opened(self.connectors.supplier, supplier_id)
        terms, _ = self.again(link.origins)
        with self.db.writing() as s:
            context = self.context(s, "Watch")
            supplier = context.get(Supplier, supplier_id, "supplier")
            partner_terms.follow_origins(context, supplier, terms)
            supplier.next_catalogue = context.now + timedelta(days=1)
        fresh, told = 0, link.blanks() if isinstance(link, PrintLink) else None
        for page in link.catalogue():
            with self.db.writing() as s:
                context = self.context(s, "Watch")
                new, refused = ingest.bring_in(context, context.get(Supplier, supplier_id, "supplier"), page.items)
                fresh += new
                untaken = [*(f"{number}: {reason}" for number, reason in refused), *page.unreadable]
                if untaken:
                    context.log("item.refused", "catalogue", f"{len(untaken)} items not taken, the first: {untaken[0]}")
        if told is not None:
            with self.db.writing() as s:
                context = self.context(s, "Watch")
                houses.take_blanks(context, context.get(Supplier, supplier_id, "supplier"), told)
        return fresh

    def items(self, supplier_id: int, numbers: Sequence[str]) -> tuple[int, dict[str, str]]:
        """Bring single items in by their numbers. Returns how many were new, and what failed with why."""
        link = self.opened(self.connectors.supplier, supplier_id)
        found: list[CatalogueItem] = []
        failed: dict[str, str] = {}
        for number in numbers:
            try:
                one, _ = self.again(lambda: link.item(number))  # noqa: B023
                if one is None:
                    failed[number] = "the supplier does not have it"
                else:
                    found.append(one)
            except OutsideError as error:
                failed[number] = error.message
        with self.db.writing() as s:
            context = self.context(s, "Source")
            fresh, refused = ingest.bring_in(context, context.get(Supplier, supplier_id, "supplier"), found)
            connections.note_budget(context, "supplier", supplier_id, link)
        return fresh, failed | dict(refused)

    def listings(self, store_id: int) -> int:
        """A store's listings as it shows them."""
        link = self.opened(self.connectors.store, store_id)
        fresh = 0
        for page in link.listings():
            with self.db.writing() as s:
                context = self.context(s, "Watch")
                fresh += store_listings.bring_in(context, context.get(Store, store_id, "store"), page.listings)
                if page.unreadable:
                    context.log("listing.refused", "listings", f"{len(page.unreadable)} listings not read, the first: {page.unreadable[0]}")
        with self.db.writing() as s:
            self.context(s, "Watch").get(Store, store_id, "store").next_check = self.clock.now() + timedelta(days=1)
        return fresh

    def due(self, kind: Any, column: Any, at: datetime) -> list[int]:  # noqa: ANN401 - a table of partners and its column
        """Numbers of partners whose time has come, of those that are called at all; who was never looked at comes first."""
        with self.db.reading() as s:
            return list(s.scalars(_due(kind, column), {"at": at}))


@cache
def _due(kind: Any, column: Any) -> Select[int]:  # noqa: ANN401 - as above
    """Asked several times a second, so made once."""
    called = (kind.kind.not_in(UNCALLED), kind.paused_at.is_(None), kind.ended_at.is_(None))
    return select(kind.id).where((column.is_(None)) | (column <= bindparam("at")), *called).order_by(kind.id)
