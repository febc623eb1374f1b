"""Open troubles of what goes out: what the outside did not take, one row for each cause, and partners that are broken or paused."""

from __future__ import annotations

import hashlib
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime, timedelta
from functools import cache, cached_property, partial

from sqlalchemy import func, literal, select

from ...core.currency import parse_money
from ...core.numbers import PPM, half_up
from ...core.states import LinkState, OutboxState
from ...core.writing import grouped
from ...data.base import by_index
from ...data.outbox import HAS_FAILED, IS_DELAYED, Job, Outbox, party_of
from ...data.setup import Link
from ...data.shelf import Listing, Sku
from ...data.statements import find_link
from ..base import portions
from ..base.context import Context
from ..base.errors import Conflict
from ..base.partner_identity import OWNERS
from ..delivery import effects, sheet_export
from ..fulfilment import carrier_names
from ..outbox import queue
from ..pricing import exchange_rates
from ..pricing.policy import refund_cost
from .alert import SHOWN, Alert, AlertKey, AlertStep, Doing, Member, Source, acts

NAMES = {
    "purchase": ("purchase order", "purchase orders"),
    "sample": ("sample", "samples"),
    "load": ("load for a depot", "loads for depots"),
    "load_notice": ("notice of a load", "notices of loads"),
    "hold": ("question to a depot", "questions to a depot"),
    "hold_answer": ("answer to a depot", "answers to a depot"),
    "claim": ("claim", "claims"),
    "return_answer": ("answer to a return", "answers to returns"),
    "label": ("label", "labels"),
    "event": ("event", "events"),
    "count_again": ("request to count again", "requests to count again"),
    "cancel": ("cancellation", "cancellations"),
    "recall": ("request to stop a purchase order", "requests to stop purchase orders"),
    "refund": ("refund", "refunds"),
    "fulfilment": ("tracking number", "tracking numbers"),
    "mail": ("mail", "mails"),
    "file": ("sheet", "sheets"),
    "listing": ("change of a listing", "changes of listings"),
}
STATIONS = {"purchase": "orders", "sample": "orders", "cancel": "orders", "recall": "orders", "refund": "orders", "listing": "watch"}
STATIONS |= dict.fromkeys(("claim", "return_answer", "label"), "transit")
STATIONS["file"] = "orders"
STATIONS |= dict.fromkeys(("load", "load_notice", "hold", "hold_answer", "count_again"), "depot")


_FAULT = func.coalesce(func.nullif(Outbox.fault, ""), "refused")
_CAUSE = (Outbox.target, Outbox.kind, _FAULT, Outbox.answer)
# A carrier's name has a row of its own.
_IS_DEAD = (Outbox.state == OutboxState.dead, _FAULT != "carrier")


def _key(target: str, kind: str, fault: str, said: str) -> AlertKey:
    """The same for the same cause, however many rows it has."""
    return AlertKey("dead", target, kind, fault, hashlib.sha256(said.encode()).hexdigest()[:10])


@dataclass(frozen=True)
class RejectedGroup:
    """What one partner did not take for one reason. count: how many, the oldest made at `since`."""

    target: str
    kind: str
    fault: str
    said: str
    count: int
    since: datetime

    @cached_property
    def key(self) -> AlertKey:
        return _key(self.target, self.kind, self.fault, self.said)

    def rows(self, context: Context, only: int | None = None) -> list[Outbox]:
        """What it stands for, oldest first: all, or one."""
        these = (Outbox.target == self.target, Outbox.kind == self.kind, literal(self.fault) == _FAULT, Outbox.answer == self.said)
        query = select(Outbox).where(Outbox.state == OutboxState.dead, *these).order_by(Outbox.id)
        return list(context.session.scalars(query if only is None else query.where(Outbox.id == only)))


def dead_groups(context: Context) -> list[RejectedGroup]:
    """What was refused for good, by partner, kind and reason."""
    query = select(*_CAUSE, func.count(), func.min(Outbox.made_at)).where(*_IS_DEAD)
    return [RejectedGroup(*row) for row in context.session.execute(query.group_by(*_CAUSE).order_by(func.min(Outbox.id))).tuples()]


def change_message(row: Outbox, count: int) -> str:
    """How many of what, or which one; row: the first of them."""
    one, many = NAMES.get(row.kind, (row.kind, f"{row.kind}s"))
    return f"{grouped(count)} {many}" if count > 1 else f"{one} {queue.about(row)}"


def _name(context: Context, target: str) -> str:
    owner, number = party_of(target)
    row = context.session.get(OWNERS[owner], number)
    return str(row.name) if row else owner


def _lost_a_day(context: Context) -> Counter[AlertKey]:
    """What dearer prices that stores do not show cost with every sale of a day, by cause, from the newest change of each listing; in the
    house's money."""
    worth, in_body = exchange_rates.HomeWorth(context), partial(func.json_extract, Outbox.body)
    state = func.coalesce(in_body("$.state"), "live")
    columns = (Listing.id, state, in_body("$.price"), in_body("$.currency"), Listing.shown_price, Listing.currency, Sku.pace)
    query = select(*_CAUSE, *columns).join(Listing, Listing.id == in_body("$.listing")).join(Sku, Sku.id == Listing.sku_id)
    query = query.where(*_IS_DEAD, Outbox.kind == "listing", Listing.shown_state == "live").order_by(Outbox.id)
    newest = {(_key(*row[:4]), row[4]): row[5:] for row in context.session.execute(query).tuples()}
    out = Counter[AlertKey]()
    for (cause, _), (wanted, price, money, shown, shown_in, pace) in newest.items():
        if wanted == "live" and price is not None:
            out[cause] += half_up(pace * worth.of(max(parse_money(price, money) - shown, 0), shown_in), PPM)
    return out


def _first_of_each(context: Context) -> dict[AlertKey, list[Outbox]]:
    """Of each cause the oldest, as many as are shown."""
    place = func.row_number().over(partition_by=_CAUSE, order_by=Outbox.id).label("place")
    placed = select(Outbox.id, place).where(*_IS_DEAD).subquery()
    rows = select(*_CAUSE, Outbox).join(placed, placed.c.id == Outbox.id).where(placed.c.place <= SHOWN).order_by(Outbox.id)
    out: dict[AlertKey, list[Outbox]] = {}
    for *cause, row in context.session.execute(rows).tuples():
        out.setdefault(_key(*cause), []).append(row)
    return out


def _dead(context: Context) -> Iterator[Alert]:
    """A listing that should be off sale stands under oversell; of all but listings one refund each is likely."""
    groups = dead_groups(context)
    if not groups:
        return
    first, lost, refund, name = _first_of_each(context), _lost_a_day(context), refund_cost(context), cache(partial(_name, context))
    for one in groups:
        n, rows, per_day = one.count, first[one.key], one.kind == "listing"
        risk = lost[one.key] if per_day else refund * n
        what = change_message(rows[0], n)
        unsure = one.fault == "unsure"
        yield Alert(
            one.key,
            STATIONS.get(one.kind, "transit"),
            "Unsure" if unsure else "Rejected",
            f"Nobody knows whether {what} arrived" if unsure else f"{name(one.target)} rejected {what}",
            one.said or "no reason was given",
            one.since,
            AlertStep("Send again", act=True) if unsure else AlertStep("Try again" if n == 1 else f"Try all {grouped(n)} again", act=True),
            risk,
            per_day,
            "loss",
            count=n,
            other=AlertStep("It arrived" if n == 1 else "They arrived", act=True) if unsure else None,
            members=tuple(
                Member(f"{one.key}#{row.id}", queue.about(row), said.summary if (said := queue.payload(row)) else "", number=row.id)
                for row in rows
            ),
            members_of=n,
        )


def _delayed(context: Context) -> Iterator[Alert]:
    """What is tried again and again, and not taken: it goes on by itself, and a person should know."""
    cause, first = (Outbox.target, Outbox.fault), func.min(Outbox.id)
    counts = (func.count(), first, func.max(Outbox.id), func.count(Outbox.kind.distinct()), func.sum(Outbox.kind != "listing"))
    query = select(*cause, *counts).where(IS_DELAYED).group_by(*cause).order_by(first)
    for target, fault, n, oldest, newest, kinds, others in context.session.execute(by_index(query, Outbox, "ix_outbox_delayed")).tuples():
        begun, last = context.get(Outbox, oldest, "change"), context.get(Outbox, newest, "change")
        what = change_message(begun, n) if kinds == 1 else f"{grouped(n)} changes"
        yield Alert(
            AlertKey("delayed", target, fault),
            STATIONS.get(begun.kind, "transit"),
            "Not taken yet",
            f"{_name(context, target)} does not take {what} for the moment",
            f"{last.answer}; it is tried again by itself",
            begun.made_at,
            AlertStep("Try now", act=True),
            refund_cost(context) * others,
            False,
            "loss",
            count=n,
        )


def _carriers(context: Context) -> Iterator[Alert]:
    """Numbers that a store does not take since it does not know their carrier by that name."""
    for one in carrier_names.table(context):
        if not one.waits:
            continue
        choices = tuple((name, name) for name in carrier_names.likeliest(one))
        wait = f"{one.waits} tracking numbers wait" if one.waits > 1 else "a tracking number waits"
        yield Alert(
            AlertKey("carrier", one.store.id, one.carrier.id),
            "transit",
            "Carrier",
            f"{one.store.name} does not know the carrier {one.name or one.carrier.name}: {wait}",
            "choose how it is called there, once; what waits goes on at once",
            _since(context, one),
            AlertStep("Use it", act=True) if choices else AlertStep("Name it", go="/setup/carriers"),
            refund_cost(context) * one.waits,
            False,
            "loss",
            count=one.waits,
            choices=choices,
            other=AlertStep("See all carriers", go="/setup/carriers") if choices else None,
        )


def _since(context: Context, one: carrier_names.Naming) -> datetime:
    first = select(func.min(Outbox.made_at)).where(
        Outbox.target == f"store:{one.store.id}", Outbox.state == OutboxState.dead, Outbox.fault == "carrier"
    )
    return context.session.scalar(first) or context.now


def _links(context: Context) -> Iterator[Alert]:
    for link in context.session.scalars(select(Link).where(Link.state == LinkState.broken)):
        row = context.session.get(OWNERS[link.owner], link.owner_id)
        if row is None or row.paused_at is not None or row.ended_at is not None:
            continue
        yield Alert(
            AlertKey("link", link.id),
            "watch",
            "Broken link",
            f"{row.name} does not answer as it should",
            link.message,
            link.good_at or context.now,
            AlertStep("Mend the link", go="/setup/partners"),
            0,
            False,
            "loss",
        )


def _jobs(context: Context) -> Iterator[Alert]:
    """Work on very many things of which some could not be done."""
    failed = select(Job).where(HAS_FAILED, Job.ended_at > context.now - timedelta(days=7)).order_by(Job.id.desc()).limit(20)
    for job in context.session.scalars(by_index(failed, Job, "ix_job_failed")):
        if job.kind not in portions.WORK or job.body.get("seen"):
            continue
        yield Alert(
            AlertKey("job", job.id),
            "watch",
            "Not all done",
            f"{job.title}: {grouped(job.failed)} of {grouped(job.total)} could not be done",
            job.message or "the others are done; look at those that are left, and do them anew",
            job.ended_at or job.made_at,
            AlertStep("I have seen it", act=True),
            0,
            count=job.failed,
        )


def seen(context: Context, number: int) -> None:
    """A person has seen of which work some is left."""
    job = context.get(Job, number, "job")
    job.body = {**job.body, "seen": True}


def retry(context: Context, key: str, only: int | None = None) -> int:
    """Try again what one row of Today stands for, all of it or one. Returns how many; Conflict when none of it waits any more."""
    group = next((one for one in dead_groups(context) if one.key == key), None)
    rows = group.rows(context, only=only) if group else []
    if not rows:
        raise Conflict("this is done already")
    queue.retry_many(context, rows)
    return len(rows)


def arrived(context: Context, key: str, only: int | None = None) -> int:
    """A person knows that what one row of Today stands for arrived, all of it or one. Returns how many."""
    group = next((one for one in dead_groups(context) if one.key == key), None)
    rows = group.rows(context, only=only) if group else []
    if not rows:
        raise Conflict("this is done already")
    effects.arrived(context, rows)
    return len(rows)


def try_now(context: Context, target: str, fault: str) -> int:
    """What waits for its next try is tried at once."""
    mine = (Outbox.target == target, Outbox.fault == fault, IS_DELAYED)
    rows = context.session.scalars(select(Outbox).where(*mine)).all()
    if not rows:
        raise Conflict("this is done already")
    for row in rows:
        row.after = context.now
    owner, number = party_of(target)
    link = find_link(context.session, owner, number)
    if link is not None:
        link.circuit_open_until = None
    context.log("outbox.retry", target, f"{len(rows)} changes for {_name(context, target)} are tried now", count=len(rows))
    return len(rows)


def _by_sheets(context: Context) -> Iterator[Alert]:
    """What waits for partners who work by sheets, and since when. Suppliers' purchase orders are told as overdue by themselves."""
    words = {"changes": ("change", "changes"), "tracking": ("word on an order", "words on orders")}
    for one in sheet_export.waiting(context):
        if one.what not in words:
            continue
        n = one.count
        yield Alert(
            AlertKey("sheet", one.owner, one.number, one.what),
            "watch" if one.what == "changes" else "transit",
            "Hand over",
            f"{grouped(n)} {words[one.what][n != 1]} {'wait' if n != 1 else 'waits'} to be given to {one.name}",
            "this store takes them as a sheet; until then it shows and knows what it did before",
            one.since,
            AlertStep("Take the sheet out", go=f"/setup/partners?sheets={one.number}&owner={one.owner}"),
            0,
            count=n,
        )


@acts("dead")
def _again(do: Doing) -> None:
    (arrived if do.other else retry)(do.context, do.alert.key, do.only)


@acts("job")
def _seen(do: Doing) -> None:
    seen(do.context, do.alert.key.about[0])


@acts("delayed")
def _now(do: Doing) -> None:
    try_now(do.context, *do.alert.key.about)


@acts("carrier")
def _name_it(do: Doing) -> str:
    store, carrier = do.alert.key.about
    return carrier_names.choose(do.context, store, carrier, do.choice or do.alert.choices[0][0])


SOURCES: dict[str, Source] = {
    "dead": _dead,
    "delayed": _delayed,
    "carrier": _carriers,
    "link": _links,
    "sheet": _by_sheets,
    "job": _jobs,
}
