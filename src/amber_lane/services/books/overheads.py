"""Fixed costs a month, spread over its days; and months that are closed, after which nothing of them changes."""

from __future__ import annotations

from calendar import monthrange
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, timedelta
from typing import Any

from sqlalchemy import func, or_, select

from ...core.books import Kind, allocate
from ...core.currency import minor_digits, show
from ...data.books import ClosedMonth, JournalEntry, Overhead
from ...data.outbox import AuditEntry
from ...data.setup import Store, Supplier
from ..base import house_days, undoing
from ..base.context import Context
from ..base.errors import Conflict, Invalid
from ..pricing.inputs import plans_of
from . import apart
from .apart import Apart
from .posting import Ledgers

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
    counts = or_(Overhead.last.is_(None), Overhead.last >= Overhead.first)
    return context.session.scalars(select(Overhead).where(counts).order_by(Overhead.last.is_not(None), Overhead.name, Overhead.id)).all()


def save(context: Context, terms: OverheadTerms, number: int | None = None, version: int | None = None) -> Overhead:
    """Write a fixed cost down, or change one; what it comes to on the days of open months follows at once."""
    row = _checked(context, terms, _own(context.get_version(Overhead, number, version, "fixed cost")) if number else Overhead())
    before = None if number is None else {"id": row.id, **_terms_of(row)}
    for name, value in _terms_of(terms).items():
        setattr(row, name, date.fromisoformat(value) if name in ("first", "last") and value else value)
    context.session.add(row)
    context.session.flush()
    told = f"{row.name}: {show(row.amount, row.currency)} a month from {row.first:%Y-%m}" + (f" to {row.last:%Y-%m}" if row.last else "")
    context.log("overhead.save", row.name, told, before=before, after={"id": row.id, "version": row.version}, undo=True)
    post(context)
    return row


def _own(row: Overhead) -> Overhead:
    if row.plan:
        raise Conflict(f"{row.name} follows the supplier's plans: change it there, under Price, Plans")
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
    row = _own(context.get_version(Overhead, number, version, "fixed cost"))
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
    had = apart.told(context, SOURCE, out.rates.home)
    wanted: dict[str, Apart] = {}
    rows = context.session.scalars(select(Overhead)).all()
    for row in rows:
        for day, amount in _wanted(row, out.days.today).items():
            about = f"{row.id}:{day.isoformat()}"
            wanted[about] = Apart(Kind(row.kind), day, -amount, row.currency, row.name, row.store_id, row.supplier_id)
    whose = {row.id: row for row in rows}
    for about, one in had.items():
        # What is no cost of that day any more is still its own, so that it is taken back from where it stood.
        row = whose[int(about.partition(":")[0])]
        wanted.setdefault(about, Apart(Kind(one.kind), one.day, 0, one.currency, row.name, row.store_id, row.supplier_id))
    apart.bring(out, SOURCE, had, wanted, closed_stay=True)
    return out.write()


def follow_plans(context: Context) -> int:
    """Plans of suppliers that cost a fee each month are fixed costs from the month in which they were taken; as the terms say now.

    What was taken and given up on one day costs nothing. Returns how many entries that took.
    """
    today, s = house_days.today(context), context.session
    month = today.replace(day=1)
    running = {
        (row.supplier_id or 0, row.plan): row
        for row in s.scalars(select(Overhead).where(Overhead.kind == Kind.plan_fee.value, Overhead.last.is_(None)))
    }
    wanted = {
        (one.id, plan.name): (one, plan)
        for one in s.scalars(select(Supplier).where(Supplier.ended_at.is_(None)))
        for plan in plans_of(one)
        if plan.taken and plan.fee
    }
    for key, row in running.items():
        found = wanted.get(key)
        if found is not None and (found[1].fee, found[0].currency) == (row.amount, row.currency):
            continue
        made = row.made_at and house_days.day_of(context, row.made_at)
        # Another fee counts for the whole of this month; what was given up has been paid for it.
        row.last = row.first - timedelta(days=1) if made == today else month - timedelta(days=1) if found else month
    for key, (supplier, plan) in wanted.items():
        old = running.get(key)
        if old is not None and old.last is None:
            continue
        s.add(
            Overhead(
                name=f"{supplier.name}: {plan.name}", kind=Kind.plan_fee.value, supplier_id=supplier.id, plan=plan.name, amount=plan.fee,
                currency=supplier.currency, first=month, made_at=context.now,
            )
        )  # fmt: skip
    s.flush()
    return post(context)


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
