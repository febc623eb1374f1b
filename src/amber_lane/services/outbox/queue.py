"""The only door out: what is decided here is written in the same transaction, and carried out after it."""

from __future__ import annotations

import base64
import secrets
from collections.abc import Collection, Mapping, Sequence
from datetime import datetime
from functools import cache
from typing import Any

from sqlalchemy import ColumnElement, Select, Update, bindparam, func, select, update
from sqlalchemy.orm import Session, aliased

from ...connectors import claim_payloads, depot_payloads, payloads, return_payloads
from ...connectors.file_servers import payload as file_payload
from ...connectors.payloads import ListingPayload, MailPayload, Payload
from ...core.states import OUTBOX, OutboxState
from ...data.base import Q, by_index, to_ms
from ...data.bulk import bulk_insert, bulk_update, in_chunks
from ...data.orders import Order, PurchaseOrder
from ...data.outbox import IS_OPEN, OPEN, Outbox
from ...data.setup import Mailbox, MailKey
from ...data.statements import among
from ...data.tallies import tally
from ..base.context import Context
from ..base.errors import Conflict


@cache
def _overtaken() -> Update:
    newer, row = aliased(Outbox), Outbox
    same = (newer.target == row.target, newer.subject == row.subject, newer.kind == "listing", newer.id > row.id)
    key = select(func.max(newer.key)).where(*same, newer.state == OutboxState.waiting).scalar_subquery()
    mine = (row.id.in_(among("ids")), row.kind == "listing", row.state == OutboxState.waiting, key.is_not(None))
    return update(row).where(*mine).values(state=OUTBOX.target("drop"), overtaken_by=key).execution_options(synchronize_session=False)


def overtaken(s: Session, ids: Sequence[int]) -> None:
    """Changes of listings that surely have not arrived are dropped where a newer one of the same listing waits."""
    s.execute(_overtaken(), {"ids": list(ids)})


def of_subjects(query: Q) -> Q:
    """A query for changes of some subjects, which goes by these however many changes there are in a state."""
    return by_index(query, Outbox, "ix_outbox_subject_id")


@cache
def _droppable() -> Select[int, str]:
    mine = (Outbox.subject.in_(among("subjects")), Outbox.state.in_(OUTBOX.sources("drop")), Outbox.kind == "listing")
    return of_subjects(select(Outbox.id, Outbox.subject).where(*mine))


def overtake(context: Context, newest: Mapping[str, str]) -> None:
    """Changes of listings that wait already are dropped for a newer one: its key by their subject."""
    for chunk in in_chunks(newest):
        waiting = context.session.execute(_droppable(), {"subjects": chunk}).all()
        bulk_update(
            context.session, Outbox, ("state", "overtaken_by"), [("dropped", newest[subject], number) for number, subject in waiting]
        )


def put_listings(context: Context, rows: Sequence[tuple[str, str, ListingPayload]]) -> None:
    """One change for each of some listings: (key, target, what it holds); what waits there for it already is overtaken."""
    subjects = [f"listing:{one.listing}" for _, _, one in rows]
    overtake(context, dict(zip(subjects, (key for key, *_ in rows), strict=True)))
    at = to_ms(context.now)
    bulk_insert(
        context.session,
        Outbox,
        ("key", "target", "subject", "kind", "body", "state", "made_at", "after", "tries", "answer", "fault"),
        [
            (key, target, subject, one.kind, one.model_dump_json(exclude_none=True), OUTBOX.first, at, at, 0, "", "")
            for (key, target, one), subject in zip(rows, subjects, strict=True)
        ],
    )


def batch_mark() -> str:
    """The part of a listing change's key that is drawn by lot: a store must never take a change of a house that was
    set up anew for one that it has had from the old house."""
    return secrets.token_hex(3)


def put(context: Context, target: str, subject: str, key: str, payload: Payload, after: datetime | None = None) -> Outbox:
    """Write one change to the outbox. `key` is unique and goes with the call; a key that is there already is refused."""
    row = Outbox(
        key=key,
        target=target,
        subject=subject,
        kind=payload.kind,
        body=payload.stored(),
        state=OUTBOX.first,
        made_at=context.now,
        after=after or context.now,
    )
    context.session.add(row)
    context.session.flush()
    return row


def mail(  # noqa: PLR0913 - the parts of a mail
    context: Context,
    key: str,
    subject: str,
    to: str,
    title: str,
    text: str,
    message: int | None = None,
    after: datetime | None = None,
    files: Sequence[tuple[str, str, str]] = (),
    supplier: int | None = None,
) -> bool:
    """Write a mail to the outbox, sent once by its key; False where the house has no mailbox.

    message: the one it is kept as; files: (name, kind, text) that go with it; supplier: who is to answer it, by a key that it carries.
    """
    mailbox = context.session.scalar(select(Mailbox).order_by(Mailbox.id).limit(1))
    if mailbox is None:
        return False
    sender = f"{mailbox.name} <{mailbox.sender}>"
    answer_key = ""
    if supplier is not None:
        answer_key = f"AL-{base64.b32encode(secrets.token_bytes(10)).decode()}"
        context.session.add(MailKey(key=answer_key, supplier_id=supplier, at=context.now))
        text = f"{text.rstrip()}\n\nPlease leave {answer_key} in your answer: by it we know that it is yours.\n"
        title = f"{title} [{answer_key}]"
    made = MailPayload(key=answer_key, reference=key, sender=sender, to=to, subject=title, body=text, message=message, files=tuple(files))
    put(context, f"mailbox:{mailbox.id}", subject, key, made, after)
    return True


def is_there(context: Context, key: str) -> bool:
    """Whether a row with this key was written already, whatever became of it."""
    return context.session.scalar(select(Outbox.id).where(Outbox.key == key)) is not None


# Payloads of parts of their own are known once their files are loaded.
BESIDE = (claim_payloads.ClaimPayload, depot_payloads.HoldPayload, return_payloads.LabelPayload, file_payload.FilePayload)

UNREADABLE = "what was to be sent cannot be read here; the server's log says what"


def payload(row: Outbox) -> Payload | None:
    """What a row holds, as the model of its kind; None where it cannot be read."""
    return payloads.read(row.kind, row.body)


def about(row: Outbox) -> str:
    """What a change is about, as a person calls it."""
    said = payload(row)
    return said.about if said else row.subject


def stop(context: Context, key: str) -> None:
    """Take back a change that has not gone out; Conflict when it has (or may have)."""
    changed = context.session.execute(
        update(Outbox)
        .where(Outbox.key == key, Outbox.state == OutboxState.waiting, Outbox.tries == 0)
        .values(state=OUTBOX.target("stop"), answer="taken back")
    )
    if not changed.rowcount:  # type: ignore[attr-defined]
        raise Conflict("it has gone out already, so it cannot be taken back")


def _cancelled(context: Context, reference: str) -> bool:
    when = select(Order.cancelled_at).join(PurchaseOrder, PurchaseOrder.order_id == Order.id).where(PurchaseOrder.reference == reference)
    return context.session.scalar(when) is not None


def give_up(context: Context, key: str) -> None:
    """A change that was not taken is not wanted any more, so nobody tries it again."""
    row = context.session.scalar(select(Outbox).where(Outbox.key == key, Outbox.state == OutboxState.dead))
    if row:
        row.state, row.done_at = OUTBOX.step(row.state, "drop"), context.now


def retry(context: Context, number: int) -> Outbox:
    """Send a dead change again. Whether the outside knows it is asked first, as after every loss."""
    row = context.get(Outbox, number, "change")
    retry_many(context, [row])
    return row


def retry_many(context: Context, rows: Sequence[Outbox]) -> None:
    """Send dead changes again, as one act. A listing's change that a newer one overtook is not; Conflict where one cannot be."""
    dropped = 0
    for row in rows:
        if row.state != OutboxState.dead:
            raise Conflict("this change is not waiting for you any more")
        if row.kind == "purchase" and _cancelled(context, row.key):
            raise Conflict(f"the buyer cancelled the order of {row.key}; settle that first")
        newer = select(Outbox.key).where(Outbox.target == row.target, Outbox.subject == row.subject, Outbox.kind == "listing")
        if row.kind == "listing" and (key := context.session.scalar(newer.where(Outbox.id > row.id).order_by(Outbox.id.desc()).limit(1))):
            row.state, row.overtaken_by = OUTBOX.step(row.state, "drop"), key
            dropped += 1
            continue
        row.state = OUTBOX.step(row.state, "retry")
        # A mail that was refused, and what a person says did not arrive, surely is not there; anything else is asked for first.
        row.claimed_at = None if row.fault == "unsure" or (row.kind == "mail" and row.fault == "refused") else context.now
        row.tries, row.after, row.fault = 0, context.now, ""
    n = len(rows) - dropped
    if n:
        message = f"tried again: {rows[0].kind} {about(rows[0])}" if len(rows) == 1 else f"{n} changes tried again"
        context.log("outbox.retry", rows[0].subject if len(rows) == 1 else rows[0].target, message, count=n)
    if dropped:
        context.log("outbox.drop", rows[0].target, f"{dropped} not tried again, newer changes overtook them", count=dropped)


def arrived(context: Context, rows: Sequence[Outbox]) -> None:
    """A person knows that these arrived although nobody could be asked: they are done."""
    for row in rows:
        if row.state != OutboxState.dead or row.fault != "unsure":
            raise Conflict("this change is not waiting for you any more")
        row.state, row.answer, row.done_at, row.fault = (
            OUTBOX.step(row.state, "arrived"),
            f"it arrived, says {context.actor}",
            context.now,
            "",
        )
    n = len(rows)
    what = "mail" if rows[0].kind == "mail" else "change"
    context.log("outbox.arrived", rows[0].target, f"{n} {what}{'s' if n > 1 else ''} arrived, says {context.actor}", count=n)


def waiting(context: Context) -> int:
    """Changes that the outside does not have yet."""
    return sum(n for (_, _, state), n in tally(context.session, "changes").items() if state in OPEN)


def _open(query: Select[Any]) -> Select[Any]:
    return by_index(query.where(IS_OPEN), Outbox, "ix_outbox_open")


@cache
def _next_target() -> Select[str]:
    return _open(select(func.min(Outbox.target)).where(Outbox.target > bindparam("after")))


def targets(s: Session) -> list[str]:
    """Whom something is open for: one step along the index for each, however much it is."""
    found: list[str] = []
    while one := s.scalar(_next_target(), {"after": found[-1] if found else ""}):
        found.append(one)
    return found


@cache
def _any_due() -> Select[int]:
    open_ones = Outbox.state.in_((OutboxState.waiting, OutboxState.unknown, OutboxState.posted))
    return _open(select(Outbox.id).where(Outbox.target == bindparam("to"), open_ones, Outbox.after <= bindparam("now"))).limit(1)


def any_due(s: Session, target: str, now: datetime) -> bool:
    """Whether something for a target can be gone on with now."""
    return s.scalar(_any_due(), {"to": target, "now": now}) is not None


@cache
def _due() -> Select[Outbox]:
    """What may be sent next: of each subject only its oldest open change. Asked all the time, so made once."""
    older = aliased(Outbox)
    first = (
        ~select(older.id)
        .where(
            older.target == Outbox.target,
            older.subject == Outbox.subject,
            older.id < Outbox.id,
            older.state.in_(OPEN),
        )
        .exists()
    )
    due = (Outbox.state.in_((OutboxState.waiting, OutboxState.unknown)), Outbox.after <= bindparam("now"))
    return _open(select(Outbox)).where(Outbox.target == bindparam("to"), *due, first).order_by(Outbox.id)


def next_due(s: Session, target: str, now: datetime, most: int, *wanted: ColumnElement[bool], but: Collection[int] = ()) -> list[Outbox]:
    """What a target is sent next, the oldest first: of each subject only its oldest open change, and none that is in hand.

    but: rows that are too early to be asked for. A change that waits for its next try holds up its subject and nothing else.
    """
    query = _due().where(*wanted).limit(most + len(but))
    return [row for row in s.scalars(query, {"to": target, "now": now}) if row.id not in but][:most]
