"""Money that belongs to no order: fixed costs of a day, samples. What it comes to is held against what the journal says of it."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass
from datetime import date

from sqlalchemy import func, select

from ...core.books import Basis, Kind
from ...data.books import JournalEntry, JournalEvent
from ..base.context import Context
from .posting import Ledgers
from .targets import About, Part


@dataclass(frozen=True)
class Apart:
    """What one thing comes to on a day. amount: as it changes profit, minor units; note: its name in the journal."""

    kind: Kind
    day: date
    amount: int
    currency: str
    note: str = ""
    store: int | None = None
    supplier: int | None = None
    item: int | None = None
    sku: int | None = None


@dataclass(frozen=True)
class Told:
    """What the journal says of one thing. home: 0 where no rate was known; day: of its newest entry."""

    amount: int
    home: int
    currency: str
    rate: int | None
    day: date
    kind: str


def told(context: Context, source: str, home: str, about: Collection[str] | None = None) -> dict[str, Told]:
    """By what they are about. about: only these; None = all of the source."""
    e = JournalEntry
    sums = func.sum(e.amount), func.sum(e.home), func.max(e.currency), func.max(e.rate), func.max(e.day), func.max(e.kind)
    query = (
        select(JournalEvent.about, *sums)
        .join(e, e.event_id == JournalEvent.id)
        .where(JournalEvent.source == source, e.home_currency == home)
        .group_by(JournalEvent.about)
    )
    rows = context.session.execute(query if about is None else query.where(JournalEvent.about.in_(about)))
    return {name: Told(int(amount), int(worth or 0), currency, rate, day, kind) for name, amount, worth, currency, rate, day, kind in rows}


def bring(out: Ledgers, source: str, had: Mapping[str, Told], wanted: Mapping[str, Apart], closed_stay: bool = False) -> None:
    """Take back what is otherwise now, and write what is new. closed_stay: days of closed months are left as they are."""
    for about in sorted({*had, *wanted}):
        old, new = had.get(about), wanted.get(about)
        day = new.day if new else old.day if old else out.days.today
        if closed_stay and day.replace(day=1) in out.days.closed:
            continue
        rate = out.rates.of(new.currency) if new else None
        want, was = new.amount if new else 0, old.amount if old else 0
        same = old is not None and want == was and (not want or new is None or new.currency == old.currency)
        if (same or (not want and not was)) and (not want or (old and old.home) or rate is None):
            continue
        event = out.event(source, about, new.note if new else "")
        if old is not None and was:
            back = Part(-was, -old.home if old.rate else None, old.rate, old.currency, out.now, 0, *_from(new))
            out.entry(event, Kind(old.kind), Basis.reversal, back, day, _about(new))
        if new is not None and want:
            part = Part(want, out.rates.turn(want, new.currency, rate), rate, new.currency, out.now, 0, *_from(new))
            out.entry(event, new.kind, Basis.planned, part, day, _about(new))


def _from(one: Apart | None) -> tuple[int | None, int | None]:
    return (one.supplier, one.item) if one else (None, None)


def _about(one: Apart | None) -> About:
    return About(0, one.store or 0 if one else 0, "", one.sku if one else None, "")
