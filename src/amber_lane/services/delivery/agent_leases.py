"""Stores that only a program on a person's machine can reach: it takes waiting changes in hand for a while and reports.

A change is handed to one run of the program at a time, the oldest of each listing or order first. When the time is up
without a report it is handed out again, marked as perhaps done, and the program looks in the store before doing it.
"""

from __future__ import annotations

import hashlib
import secrets
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

from sqlalchemy import select, update

from ...connectors.errors import FINAL, PASSING
from ...core.states import LINK, OUTBOX, OutboxState
from ...data.outbox import Outbox
from ...data.setup import Store, Token
from ...data.statements import find_link
from ..base.context import Context
from ..base.errors import Conflict, UseCaseError
from ..base.partner_identity import refuse_twin
from ..fulfilment import carrier_names
from ..outbox import queue
from ..outbox.store_switches import writes
from . import effects

LEASE = timedelta(seconds=60)
MOST = 50


class NoSuchToken(UseCaseError):
    """The token is unknown, or was replaced by a newer one."""


@dataclass(frozen=True)
class Handed:
    """A change in a program's hand. perhaps_done: it was in hand before, so the store is looked at first."""

    id: int
    key: str
    kind: str
    body: dict[str, Any]
    perhaps_done: bool


@dataclass(frozen=True)
class Report:
    """What became of a change. outcome: done, refused (the store said no), failed (surely not done), unknown.

    fault: why, as one of the outbox's codes, where it is not done.
    """

    id: int
    key: str
    outcome: str
    message: str = ""
    fault: str = ""


def _hash(token: str) -> str:
    return hashlib.sha256(token.encode()).hexdigest()


def make_token(context: Context, store_id: int) -> str:
    """A new token for a store's program; the one before it ends at once. It is shown this one time only."""
    store = context.get(Store, store_id, "store")
    if store.kind != "program":
        raise Conflict(f"{store.name} is reached by its interface; no program is needed")
    token = f"lane-{secrets.token_urlsafe(32)}"
    row = context.session.scalar(select(Token).where(Token.store_id == store_id))
    if row is None:
        context.session.add(Token(store_id=store_id, name=store.name, hash=_hash(token)))
    else:
        row.hash, row.holder, row.held_until = _hash(token), "", None
        row.version += 1
        # Whatever the old program has in hand may or may not be done.
        _expire(context, store_id, None)
    context.log("token.make", store.name, f"{store.name}: a new token for its program; any older one has ended")
    context.session.flush()
    return token


def enter(context: Context, token: str) -> tuple[Token, Store]:
    """The store that a token opens; NoSuchToken otherwise."""
    row = context.session.scalar(select(Token).where(Token.hash == _hash(token)))
    if row is None:
        raise NoSuchToken("this token is not known here; make a new one under Set-up, Stores and suppliers, and start the program with it")
    store = context.get(Store, row.store_id, "store")
    if store.ended_at is not None:
        raise NoSuchToken(f"{store.name} is disconnected; connect it again under Set-up, Stores and suppliers, and start the program then")
    return row, store


def ask_to_read(context: Context, store: Store) -> None:
    """Have a store's program read its listings again with its next round."""
    row = context.session.scalar(select(Token).where(Token.store_id == store.id))
    if row is None:
        raise Conflict(f"{store.name} has no program; make a token under Set-up, Stores and suppliers, and start it")
    row.read_anew = True
    context.log("token.read", store.name, f"{store.name}: its program is asked to read its listings again")


def _hold(token: Token, run: str, wall: datetime) -> None:
    """One run of the program at a time; Conflict while another one holds the store."""
    if token.holder and token.holder != run and token.held_until and token.held_until > wall:
        seconds = int((token.held_until - wall).total_seconds()) + 1
        raise Conflict(f"another program works for this store; it is free again in {seconds} s at the latest, if that one has stopped")
    token.holder, token.held_until, token.used_at = run, wall + LEASE, wall


def _expire(context: Context, store_id: int, wall: datetime | None) -> None:
    """Changes whose time in a program's hand is up (wall None: all of them) have an unknown outcome."""
    rows = [Outbox.target == f"store:{store_id}", Outbox.state == OutboxState.claimed]
    if wall is not None:
        rows.append(Outbox.until <= wall)
    context.session.execute(update(Outbox).where(*rows).values(state=OUTBOX.target("lose"), until=None, ticket=None))


def introduce(context: Context, store: Store, account: str, carriers: Sequence[str]) -> None:
    """A program says which account it works and which carriers that store knows. Conflict where the account is another store's."""
    link = find_link(context.session, "store", store.id)
    if link is not None and account:
        if link.account and link.account != account:
            raise Conflict(f"{store.name} is account {link.account}, this program works {account}; give it the token of that store")
        refuse_twin(context, "store", store.kind, link.address, account, besides=store.id)
        link.account = account
    carrier_names.take_list(context, store, carriers)


def lease(context: Context, token: Token, store: Store, run: str, wall: datetime, most: int = MOST) -> list[Handed]:
    """Hand out what waits for a store: of each listing or order its oldest unfinished change alone."""
    _hold(token, run, wall)
    _expire(context, store.id, wall)
    if store.paused_at is not None:
        return []
    query = select(Outbox).where(
        Outbox.target == f"store:{store.id}",
        Outbox.state.in_((OutboxState.waiting, OutboxState.unknown, OutboxState.claimed)),
        Outbox.kind != "mail",
    )
    if not writes(store):
        query = query.where(Outbox.kind != "listing")
    seen: set[str] = set()
    out: list[Handed] = []
    for row in context.session.scalars(query.order_by(Outbox.id).limit(most * 8)):
        if row.subject not in seen and row.state != OutboxState.claimed and row.after <= context.now and len(out) < most:
            out.append(Handed(row.id, row.key, row.kind, row.body, row.claimed_at is not None))
            row.state = OUTBOX.step(row.state, "claim")
            row.tries, row.claimed_at, row.ticket, row.until = row.tries + 1, context.now, run, wall + LEASE
        seen.add(row.subject)
    _healthy(context, store)
    context.session.flush()
    return out


def _healthy(context: Context, store: Store) -> None:
    link = find_link(context.session, "store", store.id)
    if link is not None:
        link.state, link.message, link.good_at = LINK.step(link.state, "work"), "", context.now


def report(context: Context, token: Token, store: Store, run: str, wall: datetime, reports: Sequence[Report]) -> int:
    """Take a program's reports. Returns how many counted; one that was counted before, or is not its own, changes nothing.

    That something is done is believed even after its time was up: it stands in the store. Anything else is believed
    only from the run that has the change in hand.
    """
    _hold(token, run, wall)
    done: list[tuple[Outbox, Any]] = []
    dead: list[tuple[Outbox, str]] = []
    back: list[int] = []
    counted = 0
    for one in reports:
        row = context.session.get(Outbox, one.id)
        if row is None or row.key != one.key or row.target != f"store:{store.id}":
            continue
        mine = row.state == OutboxState.claimed and row.ticket == run
        if one.outcome == "done" and (row.state == OutboxState.claimed or row.state == OutboxState.unknown):
            if row.state == OutboxState.unknown:
                row.state = OUTBOX.step(row.state, "claim")
            row.state, row.answer, row.done_at, row.until = OUTBOX.step(row.state, "confirm"), one.message[:500], context.now, None
            done.append((row, None))
        elif mine and one.outcome == "refused":
            row.state, row.answer, row.until = OUTBOX.step(row.state, "fail"), one.message[:500], None
            row.fault = one.fault if one.fault in FINAL else "refused"
            dead.append((row, one.message))
        elif mine and one.outcome == "failed":
            row.state, row.answer, row.until, row.claimed_at = OUTBOX.step(row.state, "delay"), one.message[:500], None, None
            row.after = context.now + timedelta(seconds=min(2.0 ** min(row.tries, 12), 300.0))
            row.fault = one.fault if one.fault in PASSING else "away"
            back.append(row.id)
        elif mine and one.outcome == "unknown":
            row.state, row.answer, row.until, row.fault = OUTBOX.step(row.state, "lose"), one.message[:500], None, "unknown"
        else:
            continue
        counted += 1
    context.session.flush()
    queue.overtaken(context.session, back)
    effects.follow(context, done)
    effects.failed(context, dead)
    if done:
        _healthy(context, store)
    return counted


def trouble(context: Context, store: Store, message: str) -> None:
    """The program cannot work its store; it says why."""
    link = find_link(context.session, "store", store.id)
    if link is not None:
        link.state, link.message = LINK.step(link.state, "fail"), message[:300]
