"""Delivery of the outbox: claim, call with a deadline, record. After a loss the outside is asked before anything is sent again.

A claim is committed before the call and the answer after it, so whenever the process dies in between the row stands
claimed; the next worker turns it into unknown and asks by our reference.
"""

from __future__ import annotations

import random
import time
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from datetime import datetime, timedelta
from functools import cache
from threading import Event
from typing import Any

import structlog
from sqlalchemy import Select, select, update
from sqlalchemy.orm import Session

from ..clock import Clock
from ..connectors.claim_payloads import ClaimPayload
from ..connectors.depot_payloads import HoldPayload
from ..connectors.errors import (
    CannotAsk,
    Denied,
    OutsideError,
    RateLimited,
    Refused,
    Unavailable,
    UnknownOutcome,
    fault_of,
)
from ..connectors.payloads import Answer, ListingPayload
from ..connectors.protocols import PartnerLink
from ..core.states import LINK, OUTBOX, LinkState, OutboxState
from ..data.base import to_ms
from ..data.bulk import bulk_update
from ..data.outbox import Outbox, party_of
from ..data.session import Database
from ..data.setup import UNCALLED, Link, Store, Supplier
from ..data.statements import find_link
from ..services.base.context import Context
from ..services.base.errors import UseCaseError
from ..services.delivery import effects
from ..services.outbox import queue
from ..services.outbox.store_switches import writing
from ..services.partners.connections import note_budget, note_health
from ..services.partners.life_cycle import set_apart
from ..services.partners.registry import ConnectorRegistry, link_of
from .batches import Batches
from .file_polling import FileDesk
from .our_faults import SENDING, TAKING_IN, OurFault, given_up, is_ours, is_theirs
from .outbox_senders import ClaimDesk, HoldDesk, OpenLink, OpenStore, PictureDesk, PrintDesk, opened

# What the outside does not take for the moment is tried again with growing waits, up to this many seconds.
WAIT_MAX = 300.0
BATCH = 48
# Calls that may be under way at once to one partner.
AT_ONCE = 4
WHO = "Delivery"
log = structlog.get_logger()


@dataclass(frozen=True)
class Carried:
    """What came of one row: state, the sentence to keep, when to look again, and the partner's answer."""

    state: OutboxState
    message: str = ""
    wait: float = 0.0
    answer: Answer = None
    error: OutsideError | None = None


@cache
def _uncalled(table: type[Store] | type[Supplier]) -> Select[int]:
    return select(table.id).where(table.kind.in_(UNCALLED))


def _is_resting(link: Link | None, now: datetime) -> bool:
    return link is not None and link.circuit_open_until is not None and link.circuit_open_until > now


class Delivery:
    """Carries out the outbox of one database. One process does so at a time (see jobs.worker)."""

    def __init__(self, db: Database, clock: Clock, connectors: ConnectorRegistry) -> None:
        self.db, self.clock, self.connectors = db, clock, connectors
        self.luck = random.Random()
        self.pool = ThreadPoolExecutor(AT_ONCE, thread_name_prefix="delivery")
        # Real seconds that a lost call may still be at work outside; asking earlier could miss it.
        self.settle = connectors.deadline
        self.not_before: dict[int, float] = {}
        self.pictures, self.prints, self.holds, self.claims = PictureDesk(db, clock), PrintDesk(db), HoldDesk(db), ClaimDesk(db)
        self.files = FileDesk(db, lambda s: Context(s, clock, WHO))
        self.batches = Batches(db, clock, self.settle, self.pictures)

    def recover(self) -> int:
        """After a start: whatever was claimed when the last worker died has an unknown outcome."""
        with self.db.writing() as s:
            # What a program on somebody's machine has in hand is not ours to lose; its time runs out by itself.
            ours = Outbox.until.is_(None)
            lost = list(s.scalars(select(Outbox.id).where(Outbox.state.in_((OutboxState.claimed, OutboxState.unknown)), ours)))
            s.execute(update(Outbox).where(Outbox.state == OutboxState.claimed, ours).values(state=OUTBOX.target("lose")))
            self.batches.not_before |= {
                ticket: time.monotonic() + self.settle
                for ticket in s.scalars(
                    select(Outbox.ticket).where(Outbox.state == OutboxState.unknown, Outbox.ticket.is_not(None)).distinct()
                )
                if ticket
            }
        for number in lost:
            self.not_before[number] = time.monotonic() + self.settle
        return len(lost)

    def _lose(self, rows: list[int]) -> None:
        """Something broke here between the calls and the record: what was in hand has an unknown outcome.

        Whoever holds the database is waited for, or it would stand as in hand until the next start.
        """
        with self.db.writing(patient=True) as s:
            s.execute(update(Outbox).where(Outbox.id.in_(rows), Outbox.state == OutboxState.claimed).values(state=OUTBOX.target("lose")))
        for number in rows:
            self.not_before[number] = time.monotonic() + self.settle

    def targets(self) -> list[str]:
        """Targets with something to carry out now."""
        with self.db.reading() as s:
            waits, now = queue.targets(s), self.clock.now()
            if not waits:
                return []
            uncalled = {
                f"{owner}:{number}" for owner, table in (("store", Store), ("supplier", Supplier)) for number in s.scalars(_uncalled(table))
            }
            uncalled |= set_apart(Context(s, self.clock, WHO))
            # What waits for those who are not called is never gone through, however much it is.
            return [target for target in waits if target not in uncalled and queue.any_due(s, target, now)]

    def run(self, target: str, most: int = 100_000) -> int:
        """Carry out what is due for one target, in batches. Returns how many rows were taken in hand."""
        done = 0
        try:
            partner = self._opened(target)
        except (OutsideError, UseCaseError) as error:
            self._unusable(target, error.message)
            return 0
        batched = isinstance(partner, OpenStore) and partner.link.batch_most > 0
        if isinstance(partner, OpenStore) and batched:
            owner, number = party_of(target)
            if self._resting(target):
                return 0
            done, trouble = self.batches.run(target, partner.link, most, self._may_write(number))
            if done or trouble:
                with self.db.writing() as s:
                    context = Context(s, self.clock, WHO)
                    self._health(context, owner, number, [trouble])
                    note_budget(context, owner, number, partner.link)
            if trouble:
                return done
        while done < most:
            rows = self._claim(target, batched)
            if not rows:
                return done
            try:
                results = self._carry_all(partner, rows)
                self._record_all(target, results, partner.link)
            except BaseException:
                self._lose([row.id for row in rows])
                raise
            done += len(rows)
            if any(is_theirs(carried.error) for _, carried in results):
                return done
        return done

    def _unusable(self, target: str, message: str) -> None:
        """The link itself cannot be used: its key cannot be opened, or its address is none."""
        owner, number = party_of(target)
        with self.db.writing() as s:
            link = find_link(s, owner, number)
            if link is not None:
                link.state, link.message = LINK.step(link.state, "break"), message

    def _carry_all(self, partner: OpenLink, rows: list[Outbox]) -> list[tuple[Outbox, Carried]]:
        """Rows of a batch are of different subjects, so a few may be under way at once; purchases go one by one.

        Once the partner is in trouble, what has not been begun is handed back untouched.
        """
        trouble = Event()

        def carry(row: Outbox) -> tuple[Outbox, Carried]:
            if trouble.is_set():
                return row, Carried(OutboxState.waiting if row.claimed_at is None else OutboxState.unknown, row.answer)
            carried = self._carry(partner, row)
            if is_theirs(carried.error) and isinstance(carried.error, (Unavailable, RateLimited, UnknownOutcome, Denied)):
                trouble.set()
            return row, carried

        if len(rows) == 1 or any(row.kind in ("purchase", "sample") for row in rows):
            return [carry(row) for row in rows]
        return list(self.pool.map(carry, rows))

    def _resting(self, target: str) -> bool:
        owner, number = party_of(target)
        with self.db.reading() as s:
            return _is_resting(find_link(s, owner, number), self.clock.now())

    def _may_write(self, store: int) -> bool:
        with self.db.reading() as s:
            return writing(s, store)

    def _claim(self, target: str, batched: bool = False) -> list[Outbox]:
        """Take the next rows in hand: for each subject only its oldest unfinished one. batched: listing changes go elsewhere."""
        owner, number = party_of(target)
        with self.db.writing() as s:
            link = find_link(s, owner, number)
            if link is None or _is_resting(link, self.clock.now()):
                return []
            wanted = []
            if batched or (owner == "store" and not writing(s, number)):
                # Price and stock wait; tracking numbers and cancellations are the buyers' and go on.
                wanted.append(Outbox.kind != "listing")
            early = {number for number, at in self.not_before.items() if at > time.monotonic()}
            taken = queue.next_due(s, target, self.clock.now(), BATCH, *wanted, but=early)
            for row in taken:
                s.expunge(row)
            s.execute(
                update(Outbox)
                .where(Outbox.id.in_([row.id for row in taken]))
                .values(state=OUTBOX.target("claim"), tries=Outbox.tries + 1, claimed_at=self.clock.now())
            )
        return taken

    def _opened(self, target: str) -> OpenLink:
        with self.db.reading() as s:
            return opened(self.connectors, Context(s, self.clock, WHO), target, self.files)

    def _carry(self, partner: OpenLink, row: Outbox) -> Carried:
        """One row; what breaks here with it must not hold up all others of its partner."""
        try:
            return self._carry_one(partner, row)
        except Exception:
            log.exception("sending failed", kind=row.kind, key=row.key)
            return self._failed(row, OurFault(SENDING))

    def _carry_one(self, partner: OpenLink, row: Outbox) -> Carried:
        """Ask first where it may have arrived, then send. `row` is as it was before the claim."""
        payload = queue.payload(row)
        if payload is None:
            log.error("a change cannot be read", kind=row.kind, key=row.key)
            return Carried(OutboxState.dead, queue.UNREADABLE, error=OurFault(queue.UNREADABLE))
        # Claimed before and still here: whatever was sent then may have arrived.
        asked = row.claimed_at is not None
        try:
            known = partner.ask(payload, row.key) if asked else None
        except CannotAsk as error:
            return Carried(OutboxState.dead, error.message, error=error)
        except OutsideError as error:
            return self._later(row, OutboxState.unknown, error)
        if known:
            return Carried(OutboxState.done, "was known already", answer=known)
        try:
            if isinstance(payload, ListingPayload) and isinstance(partner, OpenStore):
                payload = self.pictures.named(partner.link, party_of(row.target)[1], payload)
        except OutsideError as error:
            # Handing a picture over changes nothing that is shown; it may be done again at will.
            return self._later(row, OutboxState.waiting, error)
        try:
            self.prints.hand_over(partner.link, payload)
            if isinstance(payload, HoldPayload):
                payload = self.holds.named(partner.link, payload)
            elif isinstance(payload, ClaimPayload):
                payload = self.claims.named(partner.link, payload)
            return Carried(OutboxState.done, answer=partner.send(payload, row.key))
        except OutsideError as error:
            return self._failed(row, error)

    def _failed(self, row: Outbox, error: OutsideError) -> Carried:
        if isinstance(error, UnknownOutcome):
            self.not_before[row.id] = time.monotonic() + self.settle
            return self._later(row, OutboxState.unknown, error)
        # A refusal is final, unless a new key would mend it; else it surely did not arrive, and is tried again.
        return self._later(row, OutboxState.waiting, error)

    def _later(self, row: Outbox, state: OutboxState, error: OutsideError) -> Carried:
        if isinstance(error, Refused) and not isinstance(error, Denied):
            return Carried(OutboxState.dead, error.message, error=error)
        if isinstance(error, OurFault) and (last := given_up(error.message, row.tries + 1)):
            return Carried(OutboxState.dead, last, error=error)
        wait = error.wait if isinstance(error, RateLimited) else min(2.0 ** min(row.tries + 1, 12), WAIT_MAX)
        return Carried(state, error.message, wait * self.luck.uniform(0.8, 1.2), error=error)

    def _record_all(self, target: str, results: list[tuple[Outbox, Carried]], link: PartnerLink) -> None:
        """Write down what came of a batch. Where one of its answers cannot be taken in, the others are, each alone."""
        try:
            self._record(target, results, link)
        except Exception as error:
            if not is_ours(error):
                raise
            if len(results) > 1:
                for one in results:
                    self._record_all(target, [one], link)
                return
            ((row, _),) = results
            log.exception("an answer could not be taken in", kind=row.kind, key=row.key)
            self._record(target, [(row, self._later(row, OutboxState.unknown, OurFault(TAKING_IN)))], link)

    def _record(self, target: str, results: list[tuple[Outbox, Carried]], link: PartnerLink) -> None:
        """Write down what came of a batch, in one transaction with all that follows from it."""
        owner, number = party_of(target)
        with self.db.writing() as s:
            context = Context(s, self.clock, WHO)
            now = context.now
            done = [(row, carried) for row, carried in results if carried.state == OutboxState.done]
            at = to_ms(now)
            bulk_update(
                s, Outbox, ("state", "answer", "done_at"), [(OutboxState.done, carried.message[:500], at, row.id) for row, carried in done]
            )
            for row, _ in done:
                self.not_before.pop(row.id, None)
            back = [(row, carried) for row, carried in results if carried.state != OutboxState.done]
            for row, carried in back:
                self._put_back(s, row, carried, now)
            queue.overtaken(s, [row.id for row, carried in back if carried.state == OutboxState.waiting])
            effects.follow(context, [(row, carried.answer) for row, carried in done])
            effects.failed(context, [(row, carried.message) for row, carried in results if carried.state == OutboxState.dead])
            self._health(context, owner, number, [carried.error for _, carried in results])
            note_budget(context, owner, number, link)

    def _put_back(self, s: Session, row: Outbox, carried: Carried, now: datetime) -> None:
        """A row that is not done: when to look at it again, and whether it counts as a try."""
        values: dict[str, Any] = {"state": carried.state, "answer": carried.message[:500]}
        if carried.error is not None:
            values["fault"] = "ours" if isinstance(carried.error, OurFault) else fault_of(carried.error)
        if carried.wait:
            values["after"] = now + timedelta(seconds=carried.wait)
        if carried.error is None:
            # Handed back without a call: it does not count as a try, nor as having been in hand.
            values |= {"tries": row.tries, "claimed_at": row.claimed_at}
        elif carried.state == OutboxState.waiting:
            values["claimed_at"] = None
        s.execute(update(Outbox).where(Outbox.id == row.id, Outbox.state == OutboxState.claimed).values(**values))

    def _health(self, context: Context, owner: str, number: int, errors: list[OutsideError | None]) -> None:
        """The breaker: a partner that fails again and again is left alone for a growing while."""
        link = link_of(context, owner, number)
        bad = [error for error in errors if is_theirs(error)]
        if any(error is None for error in errors) and not bad:
            if link.failures or link.state != LinkState.good:
                note_health(context, owner, number, None)
            link.failures, link.circuit_open_until = 0, None
        for error in bad:
            if isinstance(error, Denied):
                # Only a person can mend the key; until then one try now and then is enough.
                note_health(context, owner, number, error)
                link.circuit_open_until = context.now + timedelta(minutes=5)
            elif isinstance(error, (Unavailable, UnknownOutcome)):
                link.failures += 1
                note_health(context, owner, number, error)
                if link.failures >= 5:
                    link.circuit_open_until = context.now + timedelta(seconds=min(5.0 * 2 ** (link.failures - 5), 120.0))
