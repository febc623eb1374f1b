"""Listing changes for a store that takes them in batches: sent under a key of ours, their result fetched later.

The key stands in the rows before the call, so whatever happens in between, the store is asked by it before anything goes again.
"""

from __future__ import annotations

import secrets
import time
from collections.abc import Callable, Iterable
from datetime import timedelta
from typing import Any

import structlog
from sqlalchemy import select, update

from ..clock import Clock
from ..connectors.errors import Denied, OutsideError, RateLimited, Refused, UnknownOutcome, fault_of
from ..connectors.payloads import ListingPayload
from ..connectors.protocols import BatchAnswer, StoreLink
from ..core.states import OUTBOX, OutboxState
from ..data.bulk import in_chunks
from ..data.outbox import Outbox, party_of
from ..data.session import Database
from ..services.base.context import Context
from ..services.delivery import effects
from ..services.outbox import queue
from .our_faults import SENDING, TAKING_IN, given_up, is_ours
from .outbox_senders import PictureDesk

LOOK_AGAIN = timedelta(seconds=30)
WHO = "Delivery"
WAIT_MAX = 900.0
log = structlog.get_logger()
# What takes in the answer about one batch: (its key, the answer) to how many rows were in hand.
Take = Callable[[str, BatchAnswer | None], int]


def _passing_wait(tries: int) -> float:
    """Seconds until what was not taken for the moment goes again: growing, and never more than a quarter of an hour."""
    return min(15.0 * 2.0 ** min(tries, 10), WAIT_MAX)


def _wait(error: OutsideError, rows: list[Outbox]) -> float:
    return error.wait if isinstance(error, RateLimited) else min(5.0 * 2.0 ** min(min(row.tries for row in rows), 10), WAIT_MAX)


def _apart(due: list[Outbox]) -> list[Outbox]:
    """The next batch of what is due: what broke something here goes apart, in ever smaller ones, until one change stands alone."""
    broke = due[0].fault == "ours" if due else False
    same = [row for row in due if (row.fault == "ours") == broke]
    return same[: max(1, len(same) >> same[0].tries)] if broke else same


class Batches:
    """Batches of one store at a time. settle: real seconds that a lost call may still be at work outside."""

    def __init__(self, db: Database, clock: Clock, settle: float, pictures: PictureDesk) -> None:
        self.db, self.clock, self.settle, self.pictures = db, clock, settle, pictures
        self.not_before: dict[str, float] = {}

    def run(self, target: str, link: StoreLink, most: int, may_send: bool) -> tuple[int, OutsideError | None]:
        """Fetch results that are due and send what waits. Returns rows in hand, and the trouble that ended it."""
        done = 0
        try:
            for ticket in self._tickets(target, OutboxState.posted):
                done += self._look(self._fetch, link, ticket, OutboxState.posted)
            for ticket in self._tickets(target, OutboxState.unknown):
                if self.not_before.get(ticket, 0) <= time.monotonic():
                    done += self._look(self._ask, link, ticket, OutboxState.unknown)
            while may_send and done < most:
                rows = self._claim(target, link.batch_most)
                if not rows:
                    break
                done += len(rows)
                try:
                    self._send(link, rows, rows[0].ticket or "")
                except OutsideError:
                    raise
                except BaseException as error:
                    if not is_ours(error):
                        self._lose(rows)
                        raise
                    log.exception("sending failed", kind="listing", key=rows[0].ticket)
                    self._broke(rows, SENDING)
        except OutsideError as error:
            return done, error
        return done, None

    def _look(self, take: Take, link: StoreLink, ticket: str, state: OutboxState) -> int:
        """Ask what became of one batch; one that breaks something here keeps no other waiting."""
        try:
            return take(ticket, link.find_batch(ticket))
        except Exception as error:
            if not is_ours(error):
                raise
            log.exception("an answer could not be taken in", kind="listing", key=ticket)
            self._broke(self._rows(ticket, state), TAKING_IN)
            return 0

    def _tickets(self, target: str, state: OutboxState) -> list[str]:
        with self.db.reading() as s:
            query = select(Outbox.ticket).where(Outbox.target == target, Outbox.state == state, Outbox.ticket.is_not(None))
            return [ticket for ticket in s.scalars(query.where(Outbox.after <= self.clock.now()).distinct()) if ticket]

    def _claim(self, target: str, most: int) -> list[Outbox]:
        """Take the oldest unfinished change of each listing in hand, under one new key."""
        with self.db.writing() as s:
            due = queue.next_due(s, target, self.clock.now(), most, Outbox.kind == "listing", Outbox.state == OutboxState.waiting)
            taken = _apart(due)
            if not taken:
                return []
            key = f"batch-{taken[0].id}-{secrets.token_hex(5)}"
            for row in taken:
                s.expunge(row)
                row.ticket = key
            for chunk in in_chunks([row.id for row in taken]):
                s.execute(
                    update(Outbox)
                    .where(Outbox.id.in_(chunk))
                    .values(state=OUTBOX.target("claim"), ticket=key, tries=Outbox.tries + 1, claimed_at=self.clock.now())
                )
            return taken

    def _readable(self, rows: list[Outbox]) -> list[Outbox]:
        """Those of some rows whose change can be read; another one is put before a person, and keeps nobody waiting."""
        good, bad = [], {}
        for row in rows:
            if queue.payload(row) is None:
                log.error("a change cannot be read", kind=row.kind, key=row.key)
                bad[row.id] = queue.UNREADABLE
            else:
                good.append(row)
        if bad:
            self._settle(rows, {}, bad, "ours")
        return good

    def _send(self, link: StoreLink, rows: list[Outbox], key: str) -> None:
        """Send one batch. One that is refused as a whole is halved, until the change that is to blame stands alone."""
        rows = self._readable(rows)
        if not rows:
            return
        ids = [row.id for row in rows]
        try:
            store = party_of(rows[0].target)[1]
            changes = [self.pictures.named(link, store, ListingPayload.model_validate(row.body)) for row in rows]
        except OutsideError as error:
            self._set(ids, "waiting", error.message, wait=_wait(error, rows), fault=fault_of(error))
            raise
        try:
            link.send_batch([one.change() for one in changes], key)
        except UnknownOutcome as error:
            self.not_before[key] = time.monotonic() + self.settle
            self._set(ids, "unknown", error.message, ticket=key, fault="unknown")
            raise
        except Denied as error:
            self._set(ids, "waiting", error.message, wait=60.0, fault="denied")
            raise
        except Refused as error:
            if len(rows) == 1:
                self._settle(rows, {}, {rows[0].id: error.message})
                return
            middle = len(rows) // 2
            # The second half is handed back before the first goes out: whatever happens to that one, this one is not stuck.
            self._set([row.id for row in rows[middle:]], "waiting", "")
            fresh = f"{key}-{rows[0].id}"
            self._set([row.id for row in rows[:middle]], "claimed", "", ticket=fresh)
            self._send(link, rows[:middle], fresh)
            return
        except OutsideError as error:
            self._set(ids, "waiting", error.message, wait=_wait(error, rows), fault=fault_of(error))
            raise
        self._set(ids, "posted", "in a batch, its result is still to come", ticket=key, wait=LOOK_AGAIN.total_seconds())

    def _lose(self, rows: list[Outbox]) -> None:
        """Something broke here in between: what is still in hand may have arrived, and is asked for by its key."""
        with self.db.writing(patient=True) as s:
            mine = update(Outbox).where(Outbox.id.in_([row.id for row in rows]), Outbox.state == OutboxState.claimed)
            s.execute(mine.values(state=OUTBOX.target("lose")))

    def _broke(self, rows: list[Outbox], message: str) -> None:
        """Something broke here with some rows of a batch: what is still in hand is asked for by its key, at most so many times."""
        with self.db.writing() as s:
            context = Context(s, self.clock, WHO)
            at_hand = (OutboxState.claimed, OutboxState.posted, OutboxState.unknown)
            mine = s.scalars(select(Outbox).where(Outbox.id.in_([row.id for row in rows]), Outbox.state.in_(at_hand))).all()
            lost: dict[int, str] = {}
            for row in mine:
                if row.state == OutboxState.claimed:
                    row.state = OUTBOX.step(row.state, "lose")
                else:
                    row.tries += 1
                row.fault, row.answer, row.after = "ours", message, context.now + timedelta(seconds=_passing_wait(row.tries))
                if row.ticket:
                    self.not_before[row.ticket] = time.monotonic() + self.settle
                if last := given_up(message, row.tries):
                    row.state, row.answer = OUTBOX.step(row.state, "fail"), last
                    lost[row.id] = last
            s.flush()
            effects.failed(context, [(row, lost[row.id]) for row in mine if row.id in lost])

    def _set(self, ids: Iterable[int], state: str, message: str, ticket: str | None = None, wait: float = 0.0, fault: str = "") -> None:
        with self.db.writing() as s:
            values: dict[str, Any] = {"state": state, "answer": message[:500], "ticket": ticket, "fault": fault}
            values["after"] = self.clock.now() + timedelta(seconds=wait)
            if state == "waiting":
                values["claimed_at"] = None
            numbers = list(ids)
            s.execute(update(Outbox).where(Outbox.id.in_(numbers)).values(**values))
            if state == "waiting":
                queue.overtaken(s, numbers)

    def _rows(self, ticket: str, state: str) -> list[Outbox]:
        with self.db.reading() as s:
            return list(s.scalars(select(Outbox).where(Outbox.ticket == ticket, Outbox.state == state).order_by(Outbox.id)))

    def _ask(self, ticket: str, answer: BatchAnswer | None) -> int:
        """A batch whose sending was lost: known there, it is waited for; unknown there, it goes again under a new key."""
        rows = self._rows(ticket, "unknown")
        known = answer is not None
        # What broke something here keeps that mark, by which it goes again in smaller batches.
        fault = "" if known else rows[0].fault
        self._set([row.id for row in rows], "posted" if known else "waiting", "asked after a loss", ticket if known else None, fault=fault)
        self.not_before.pop(ticket, None)
        return len(rows)

    def _fetch(self, ticket: str, answer: BatchAnswer | None) -> int:
        rows = self._rows(ticket, "posted")
        if answer is not None and not answer.done:
            self._set([row.id for row in rows], "posted", "in a batch, its result is still to come", ticket, LOOK_AGAIN.total_seconds())
            return 0
        results = answer.results if answer is not None else {}
        later = answer.later if answer is not None else frozenset()
        skus = {row.id: ListingPayload.model_validate(row.body).sku for row in rows}
        good = {row.id: row for row in rows if results.get(skus[row.id]) == ""}
        passing = [row for row in rows if results.get(skus[row.id]) and skus[row.id] in later]
        bad = {row.id: results[skus[row.id]] for row in rows if results.get(skus[row.id]) and skus[row.id] not in later}
        self._settle(rows, good, bad)
        for tries in {row.tries for row in passing}:
            same = [row for row in passing if row.tries == tries]
            said = results[skus[same[0].id]]
            self._set([row.id for row in same], "waiting", said, wait=_passing_wait(tries), fault="later")
        # What the store has no result for goes again; a listing is set to what it shall be, so twice does no harm.
        settled = {*good, *bad, *(row.id for row in passing)}
        lost = [row.id for row in rows if row.id not in settled]
        if lost:
            self._set(lost, "waiting", "the store has no result for it; sent again", wait=5.0)
        return len(rows)

    def _settle(self, rows: list[Outbox], good: dict[int, Outbox], bad: dict[int, str], fault: str = "refused") -> None:
        """Write down what came of some rows. Where one of the answers cannot be taken in, the others are, each alone."""
        try:
            self._write_down(rows, good, bad, fault)
        except Exception as error:
            if not is_ours(error):
                raise
            mine = [row for row in rows if row.id in good or row.id in bad]
            if len(mine) > 1:
                for row in mine:
                    refused = {row.id: bad[row.id]} if row.id in bad else {}
                    self._settle([row], {} if refused else {row.id: row}, refused, fault)
                return
            log.exception("an answer could not be taken in", kind="listing", key=mine[0].key)
            self._broke(mine, TAKING_IN)

    def _write_down(self, rows: list[Outbox], good: dict[int, Outbox], bad: dict[int, str], fault: str) -> None:
        with self.db.writing() as s:
            context = Context(s, self.clock, WHO)
            for chunk in in_chunks(good):
                s.execute(
                    update(Outbox)
                    .where(Outbox.id.in_(chunk), Outbox.state == OutboxState.posted)
                    .values(state=OUTBOX.target("confirm"), answer="", done_at=context.now)
                )
            for number, reason in bad.items():
                s.execute(
                    update(Outbox)
                    .where(Outbox.id == number, Outbox.state.in_(OUTBOX.sources("fail")))
                    .values(state=OUTBOX.target("fail"), answer=reason[:500], fault=fault)
                )
            effects.follow(context, [(row, None) for row in good.values()])
            effects.failed(context, [(row, bad[row.id]) for row in rows if row.id in bad])
