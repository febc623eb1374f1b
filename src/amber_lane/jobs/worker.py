"""The worker: finds what is due, once a moment, and has it done. It goes on where the last one stood."""

from __future__ import annotations

import fcntl
import threading
from collections.abc import Callable
from datetime import datetime, timedelta
from functools import partial
from pathlib import Path
from typing import IO, Any

import structlog
from apscheduler.schedulers.background import BackgroundScheduler
from sqlalchemy import select

from ..clock import Clock, PacedClock, ask_world
from ..connectors.errors import OutsideError
from ..data.files import FileServer
from ..data.lanes import Lane
from ..data.outbox import Job
from ..data.session import Database
from ..data.setup import UNCALLED, Carrier, Inbox, RateSource, Store, Supplier
from ..data.source import SavedSearch
from ..memory import give_back
from ..services.base import portions
from ..services.base.context import Context
from ..services.base.errors import UseCaseError
from ..services.base.job_queue import start
from ..services.catalogue.search import Finder
from ..services.files import sending
from ..services.mapping import auto_matching, lane_terms
from ..services.monitoring import polling_plan
from ..services.orders import routing
from ..services.partners import registry
from ..services.partners.registry import ConnectorRegistry
from ..services.purchasing import purchase_orders
from ..services.sourcing import saved_searches
from ..sheets import apart
from .background_jobs import LongJobs
from .delivery import Delivery
from .file_polling import FileReader
from .hourly import Hourly
from .mail_polling import LetterReader
from .polling import Reader
from .portions import Portions

log = structlog.get_logger()
# So many times slower are the beats where the clock is the real one.
REAL_TIME = 3.0


class Worker:
    """All that runs by itself for one database. Only one worker at a time: a lock on the data folder sees to it."""

    def __init__(self, db: Database, clock: Clock, connectors: ConnectorRegistry, folder: Path, world: str = "") -> None:
        self.db, self.clock, self.connectors, self.folder, self.world = db, clock, connectors, folder, world
        self.finder = Finder()
        apart.keep_marks(folder / "opening")
        connectors.keep_keys(self._keep_key)
        self.reader, self.delivery = Reader(db, clock, connectors), Delivery(db, clock, connectors)
        self.jobs, self.looks = (LongJobs(db, clock, connectors, self.finder, looks) for looks in (False, True))
        self.scheduler = BackgroundScheduler(timezone="UTC")
        self.stopping = threading.Event()
        # Its thread begins and ends in one piece: whoever stops it while it begins waits for that.
        self._turning = threading.Lock()
        self.portions = Portions(db, clock, self.stopping.is_set)
        self.hourly = Hourly(db, clock, folder, self.stopping.is_set)
        self.letters = LetterReader(self.reader, folder / "sheets")
        self.files = FileReader(db, lambda s: Context(s, clock, "Files"), connectors, folder / "sheets")
        self._lock: IO[str] | None = None
        self._laned: Any = None
        self._planned: Any = None
        self.strict = False

    def _keep_key(self, owner: str, number: int, key: str) -> None:
        """A partner renewed its key in the middle of a call; the next one may need the new one."""
        with self.db.writing() as s:
            registry.keep_key(Context(s, self.clock, "Delivery"), self.connectors.credentials, owner, number, key)

    def start(self) -> None:
        """Wait for the lock in the background, then work."""
        threading.Thread(target=self._begin, daemon=True).start()

    def _begin(self) -> None:
        self.folder.mkdir(parents=True, exist_ok=True)
        handle = (self.folder / "worker.lock").open("w")
        while not self.stopping.is_set():
            try:
                fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
                break
            except OSError:
                self.stopping.wait(0.5)
        else:
            return
        self._lock = handle
        lost = self.delivery.recover()
        self.reader.recover()
        self.jobs.recover()
        self.looks.recover()
        self.portions.recover()
        log.info("worker started", lost=lost)
        # Separate beats, so that a slow partner never keeps the outbox waiting; where time runs fast, things are due more often.
        slow = 1.0 if isinstance(self.clock, PacedClock) else REAL_TIME
        for name, beat, seconds in (
            ("reads", self.read, 0.5),
            ("delivery", self.deliver, 0.25),
            ("sweeps", self.sweep, 0.5),
            ("clock", self.follow_clock, 0.5),
            ("plan", self.plan, 0.5),
            ("jobs", self.jobs.run_due, 0.5),
            ("looks", self.looks.run_due, 0.5),
            ("portions", self.portions.run_due, 0.25),
            ("hourly", self.look_over, 1.0),
            ("tidy", self.db.tidy, 2.0),
            ("memory", give_back, 20.0),
        ):
            often = {"seconds": seconds * slow, "id": name, "max_instances": 1, "coalesce": True}
            self.scheduler.add_job(self._safely, "interval", args=[name, beat], **often)
        with self._turning:
            if not self.stopping.is_set():
                self.scheduler.start()

    def at_work(self) -> bool:
        """Whether there is long work to do."""
        with self.db.reading() as s:
            return s.scalar(select(Job.id).where(Job.state.in_(portions.GOING)).limit(1)) is not None

    def stop(self) -> None:
        self.stopping.set()
        with self._turning:
            if self.scheduler.running:
                self.scheduler.shutdown(wait=True)
        if self._lock:
            self._lock.close()

    def _safely(self, name: str, beat: Callable[..., object]) -> None:
        """One beat; a failure is written down and the next beat comes all the same."""
        if self.stopping.is_set():
            return
        try:
            beat()
        except (OutsideError, UseCaseError) as error:
            log.warning("beat failed", beat=name, message=error.message)
        except Exception:
            log.exception("beat failed", beat=name)

    def _alone(self, name: str, do: Callable[..., Any], *given: object) -> None:
        """A part of a beat that must not hold up the others: one partner's nonsense is that partner's alone."""
        if self.strict:
            do(*given)
        else:
            self._safely(name, partial(do, *given))

    def follow_clock(self) -> None:
        """In the practice world its clock is ours."""
        if self.world and isinstance(self.clock, PacedClock):
            self.clock.set(*ask_world(self.world, 2))

    def plan(self) -> None:
        """Open orders are planned anew when it was put off, and from time to time: hours pass, stock and prices move."""
        now = self.clock.now()
        with self.db.reading() as s:
            context = Context(s, self.clock, "Orders")
            due, n = routing.is_due(context), routing.open_orders(context)
        rest = timedelta(minutes=1 if n <= routing.AT_ONCE else 15)
        if due or (n and (self._planned is None or now - self._planned > rest)):
            self._planned = now
            with self.db.writing() as s:
                routing.replan(Context(s, self.clock, "Orders"), here=True)

    def sweep(self) -> None:
        for number in self.reader.due(Supplier, Supplier.next_sweep, self.clock.now()):
            with self.db.reading() as s:
                context, supplier = Context(s, self.clock, "Watch"), s.get(Supplier, number)
                if not supplier or not supplier.watching or supplier.next_sweep is None:
                    continue
                # Outside its hours, and once its calls of the day are used up, it is left alone.
                asks = polling_plan.may_ask(context, supplier) and polling_plan.calls_left(context, supplier) != 0
            if asks:
                self._alone("sweep", self.reader.sweep, number)

    def read(self) -> None:
        now = self.clock.now()
        for number in self.reader.due(Store, Store.next_read, now):
            with self.db.reading() as s:
                store = s.get(Store, number)
            if store and store.read_orders:
                self._alone("orders", self.reader.orders, number)
        self._alone("look again", self.look_again, now)
        self._alone("sending", self.send_due)
        self._alone("files", self.send_files)
        for kind, column, read in (
            (Supplier, Supplier.next_ask, self.reader.answers),
            (Carrier, Carrier.next_ask, self.reader.parcels),
            (RateSource, RateSource.next_ask, self.reader.rates),
            (Inbox, Inbox.next_read, self.letters.read),
            (Store, Store.next_settled, self.reader.settlements),
            (FileServer, FileServer.next_read, self.look_at_files),
        ):
            for number in self.reader.due(kind, column, now):
                self._alone(read.__name__, read, number)
        for number in self.reader.due(Store, Store.next_check, now):
            with self.db.reading() as s:
                store = s.get(Store, number)
            # A store that was just joined is read by the job that brings its listings in.
            if store and store.next_check is not None:
                self._alone("check", self.reader.check, number)
        if self._laned is None or now - self._laned > timedelta(minutes=1):
            self._laned = now
            self.follow_lanes()

    def look_at_files(self, server: int) -> None:
        with self.reader.visit("files", server):
            self.files.look(server)

    def send_files(self) -> None:
        """Our sheets that go to a server of files by themselves."""
        with self.db.reading() as s:
            due = sending.due(Context(s, self.clock, "Files"))
        for rule in due:
            with self.db.writing() as s:
                sending.send_out(Context(s, self.clock, "Files"), rule)

    def look_over(self) -> None:
        """The hourly look, when its hour has come."""
        if self.hourly.due():
            for name, step in self.hourly.steps():
                self._alone(name, step)

    def follow_lanes(self) -> None:
        """Lanes whose dates have come; and when new SKUs or items have, a look for those that map themselves."""
        with self.db.reading() as s:
            now = self.clock.now()
            turns = (Lane.begun.is_(False) & (Lane.starts <= now)) | (Lane.ends <= now)
            dated = s.scalar(select(Lane.id).where(Lane.closed_at.is_(None), turns).limit(1)) is not None
            fresh = auto_matching.is_due(Context(s, self.clock, "Lanes"))
        if dated or fresh:
            with self.db.writing() as s:
                context = Context(s, self.clock, "Lanes")
                lane_terms.follow_dates(context)
                if fresh and auto_matching.due(context) and auto_matching.alone(context):
                    start(context, "match", "match-all", "Matching SKUs without a lane", {})

    def look_again(self, now: datetime) -> None:
        """Catalogues and saved searches whose time has come."""
        with self.db.reading() as s:
            called = (Supplier.kind.not_in(UNCALLED), Supplier.paused_at.is_(None), Supplier.ended_at.is_(None))
            read = select(Supplier.id, Supplier.name).where(Supplier.next_catalogue <= now, Supplier.watching, *called)
            catalogues = s.execute(read).tuples().all()
        for number, name in catalogues:
            with self.db.writing() as s:
                context = Context(s, self.clock, "Watch")
                # Where it fails, the next try is an hour later; once it is read, a day.
                context.get(Supplier, number, "supplier").next_catalogue = now + timedelta(hours=1)
                start(context, "join", f"join-supplier-{number}", f"Reading {name}'s catalogue anew", {"owner": "supplier", "id": number})
        with self.db.reading() as s:
            if s.scalar(select(SavedSearch.id).where(SavedSearch.next_at <= now).limit(1)) is None:
                return
        with self.db.writing() as s:
            context = Context(s, self.clock, "Source")
            for one in saved_searches.due(context):
                start(context, "saved", f"saved-{one.id}", f"Looking for {one.name}", {"search": one.id})

    def send_due(self) -> None:
        """Orders that the policy sends by itself."""
        with self.db.reading() as s:
            due = purchase_orders.due_orders(Context(s, self.clock, "Orders"))
        if due:
            with self.db.writing() as s:
                purchase_orders.send(Context(s, self.clock, "Orders"), due, "their waiting time was over")

    def deliver(self) -> None:
        for target in self.delivery.targets():
            self._alone(target, self.delivery.run, target, 400)

    def once(self) -> None:
        """One round of everything, in order; for tests and the demo's first hours. Here a failure is told to whoever called."""
        self.strict = True
        try:
            self.sweep()
            self.read()
            self.look_over()
            self.plan()
            self.deliver()
            self.jobs.run_due()
            self.looks.run_due()
            self.portions.run_due()
        finally:
            self.strict = False
