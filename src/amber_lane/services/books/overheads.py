"""Fixed costs a month, spread over its days; and months that are closed, after which nothing of them changes."""

from __future__ import annotations

from calendar import monthrange
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, timedelta
from typing import Any

from sqlalchemy import func, select

from ...core.books import Basis, Kind, allocate
from ...core.currency import minor_digits, show
from ...data.books import ClosedMonth, JournalEntry, JournalEvent, Overhead
from ...data.outbox import AuditEntry
from ...data.setup import Store
from ..base import house_days, undoing
from ..base.context import Context
from ..base.errors import Conflict, Invalid
from .posting import Ledgers
from .targets import About, Part

SOURCE = "overhead"
MOST = 10**9
# Each day of a fixed cost is an entry.
YEARS = 10


@dataclass(frozen=True)
class OverheadTerms:
    """A fixed cost as a person types it. amount: a month, minor units; first, last: any day of its first and last month."""

    name: str
    amount: int
    currency: str
    first: date
    last: date | None = None
    store: int | None = None
    kind: str = "overhead"


def overheads(context: Context) -> Sequence[Overhead]:
    return context.session.scalars(select(Overhead).order_by(Overhead.last.is_not(None), Overhead.name, Overhead.id)).all()


def save(context: Context, terms: OverheadTerms, number: int | None = None, version: int | None = None) -> Overhead:
    """Write a fixed cost down, or change one; what it comes to on the days of open months follows at once."""
    row = _checked(context, terms, context.get_version(Overhead, number, version, "fixed cost") if number else Overhead())
    before = None if number is None else {"id": row.id, **_terms_of(row)}
    for name, value in _terms_of(terms).items():
        setattr(row, name, date.fromisoformat(value) if name in ("first", "last") and value else value)
    context.session.add(row)
    context.session.flush()
    told = f"{row.name}: {show(row.amount, row.currency)} a month from {row.first:%Y-%m}" + (f" to {row.last:%Y-%m}" if row.last else "")
    context.log("overhead.save", row.name, told, before=before, after={"id": row.id, "version": row.version}, undo=True)
    post(context)
    return row


def _terms_of(of: OverheadTerms | Overhead) -> dict[str, Any]:
    first, last = of.first.replace(day=1), of.last.replace(day=1) if of.last else None
    store = of.store if isinstance(of, OverheadTerms) else of.store_id
    return {
        "name": of.name, "kind": of.kind, "store_id": store, "amount": of.amount, "currency": of.currency, "first": first.isoformat(),
        "last": last.isoformat() if last else None,
    }  # fmt: skip


def _checked(context: Context, terms: OverheadTerms, row: Overhead) -> Overhead:
    try:
        minor_digits(terms.currency)
    except ValueError as error:
        raise Invalid(str(error), {"currency": str(error)}) from None
    if not terms.name.strip():
        raise Invalid("say what it is for", {"name": "is empty"})
    if not 0 < terms.amount <= MOST:
        raise Invalid("a fixed cost is an amount above nought", {"amount": "must be more than 0"})
    if terms.first < house_days.today(context) - timedelta(days=366 * YEARS):
        raise Invalid(f"it may begin {YEARS} years ago at most", {"first": f"is more than {YEARS} years ago"})
    if terms.last is not None and terms.last.replace(day=1) < terms.first.replace(day=1):
        raise Invalid("it ends before it begins", {"last": "is before the first month"})
    if terms.store is not None:
        context.get(Store, terms.store, "store")
    return row


def end(context: Context, number: int, version: int | None) -> Overhead:
    """It is paid for the last time in this month."""
    row = context.get_version(Overhead, number, version, "fixed cost")
    if row.last is not None:
        raise Conflict(f"{row.name} has ended already")
    before = {"id": row.id, **_terms_of(row)}
    row.last = max(house_days.today(context).replace(day=1), row.first)
    context.log("overhead.save", row.name, f"{row.name} ends with {row.last:%Y-%m}", before=before, undo=True)
    return row


@undoing.undoes("overhead.save")
def undo_save(context: Context, act: AuditEntry) -> None:
    """As it was before; one that was new is ended before it began, and what it came to is taken back."""
    before = undoing.before(act) if act.before else None
    row = context.get(Overhead, int(before["id"] if before else undoing.after(act)["id"]), "fixed cost")
    row.version += 1
    if before is None:
        row.last = row.first - timedelta(days=1)
    else:
        for name in ("name", "kind", "store_id", "amount", "currency"):
            setattr(row, name, before[name])
        row.first, row.last = date.fromisoformat(before["first"]), date.fromisoformat(before["last"]) if before["last"] else None
    context.session.flush()
    post(context)


def _wanted(row: Overhead, upto: date) -> dict[date, int]:
    """What each day of a fixed cost comes to: a month's sum shared out over its days, to the last minor unit."""
    out: dict[date, int] = {}
    month = row.first.replace(day=1)
    while month <= upto and (row.last is None or month <= row.last):
        days = monthrange(month.year, month.month)[1]
        for n, amount in enumerate(allocate(row.amount, [1] * days)):
            if (day := month + timedelta(days=n)) <= upto:
                out[day] = amount
        month = (month + timedelta(days=days)).replace(day=1)
    return out


def post(context: Context) -> int:
    """Bring fixed costs into the journal up to today. Days of closed months stay as they are. Returns how many entries that took."""
    out = Ledgers(context)
    e = JournalEntry
    said: dict[str, tuple[int, int, str, int | None]] = {}
    rows = context.session.execute(
        select(JournalEvent.about, func.sum(e.amount), func.sum(e.home), func.max(e.currency), func.max(e.rate))
        .join(e, e.event_id == JournalEvent.id)
        .where(JournalEvent.source == SOURCE, e.home_currency == out.rates.home)
        .group_by(JournalEvent.about)
    )
    for about, amount, home, currency, rate in rows:
        said[about] = (int(amount), int(home or 0), currency, rate)
    for row in context.session.scalars(select(Overhead)).all():
        rate = out.rates.of(row.currency)
        wanted = _wanted(row, out.days.today)
        had = {date.fromisoformat(about.split(":")[1]) for about in said if about.startswith(f"{row.id}:")}
        for day in sorted({*wanted, *had}):
            if day.replace(day=1) in out.days.closed:
                continue
            about = f"{row.id}:{day.isoformat()}"
            amount, home, currency, old_rate = said.get(about, (0, 0, row.currency, rate))
            want = -wanted.get(day, 0)
            if (amount, currency) == (want, row.currency) and (home or rate is None or not want):
                continue
            event = out.event(SOURCE, about, row.name)
            whose = About(0, row.store_id or 0, "", None, "")
            if amount:
                back = Part(-amount, -home if old_rate else None, old_rate, currency, out.now)
                out.entry(event, Kind(row.kind), Basis.reversal, back, day, whose)
            if want:
                part = Part(want, out.rates.turn(want, row.currency, rate), rate, row.currency, out.now)
                out.entry(event, Kind(row.kind), Basis.planned, part, day, whose)
    return out.write()


def closed(context: Context) -> list[ClosedMonth]:
    return list(context.session.scalars(select(ClosedMonth).order_by(ClosedMonth.month.desc())))


def next_to_close(context: Context) -> date | None:
    """The oldest month with entries that is over and open; None where there is none."""
    oldest = context.session.scalar(select(func.min(JournalEntry.day)))
    if oldest is None:
        return None
    done, month = {row.month for row in closed(context)}, oldest.replace(day=1)
    while month in done:
        month = (month + timedelta(days=32)).replace(day=1)
    return month if month < house_days.today(context).replace(day=1) else None


def close(context: Context, month: date) -> ClosedMonth:
    """Close a month that is over. From then on nothing of it changes; what comes later counts in the month in which it comes."""
    first = month.replace(day=1)
    if first >= house_days.today(context).replace(day=1):
        raise Conflict("this month is not over yet")
    post(context)
    if context.session.scalar(select(ClosedMonth.id).where(ClosedMonth.month == first)) is not None:
        raise Conflict(f"{first:%B %Y} is closed already")
    row = ClosedMonth(month=first, at=context.now, who=context.actor)
    context.session.add(row)
    context.session.flush()
    context.log("month.close", f"{first:%Y-%m}", f"{first:%B %Y} closed", after={"month": first.isoformat()}, undo=True)
    return row


@undoing.undoes("month.close")
def undo_close(context: Context, act: AuditEntry) -> None:
    """Open it again, as long as nothing of it has gone into a later month."""
    first = date.fromisoformat(undoing.after(act)["month"])
    row = context.session.scalar(select(ClosedMonth).where(ClosedMonth.month == first))
    if row is None:
        raise Conflict("it is open already")
    nxt = (first + timedelta(days=32)).replace(day=1)
    if context.session.scalar(select(JournalEntry.id).where(JournalEntry.own_day >= first, JournalEntry.own_day < nxt).limit(1)):
        raise Conflict(f"what came later for {first:%B %Y} stands in a later month already, so it stays closed")
    context.session.delete(row)
    context.session.flush()
