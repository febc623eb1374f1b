"""The journal follows what happens to orders: the difference between what it has to say and what it says is written, once, at the end of
the transaction that caused it. Nothing is changed: what is otherwise now is taken back by an entry of its own, and written anew."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from datetime import date
from functools import cache
from typing import Any

from sqlalchemy import Select, bindparam, case, func, select

from ...core.books import MOVES, Basis, Kind
from ...data.base import day_ms, from_ms, to_ms
from ...data.books import ClosedMonth, JournalEntry, JournalEvent
from ...data.bulk import bulk_insert, in_chunks, quiet
from ...data.statements import among
from ..base import house_days
from ..base.context import Context
from .targets import About, Before, Key, Part, Rates, Targets, of_orders

QUARTER_MS = 900_000
MANY = 1000
ENTRY_COLUMNS = (
    "event_id", "kind", "basis", "account", "against", "order_id", "order_line_id", "purchase_id", "store_id", "supplier_id", "sku_id",
    "item_id", "category", "country", "units", "currency", "amount", "rate", "home", "home_currency", "day", "own_day",
)  # fmt: skip
EVENT_COLUMNS = ("id", "source", "about", "at", "who", "note")
SOURCES = {
    Basis.bill: "bill",
    Basis.statement: "statement",
    Basis.fee: "settlement",
    Basis.refund: "refund",
    Basis.reversal: "reversal",
    Basis.rate: "payment",
}


@dataclass
class Said:
    """What the journal says of one figure: rated and unrated apart, since what has no rate is in no sum."""

    amount: int = 0
    home: int = 0
    unrated: int = 0
    units: int = 0
    against: str = ""
    rate: int | None = None

    def is_as(self, part: Part, against: str) -> bool:
        if part.rate is None:
            return self.unrated == part.amount and not self.amount and self.units == part.units
        return (self.amount, self.home, self.unrated, self.units, self.against) == (part.amount, part.home, 0, part.units, against)

    @property
    def nothing(self) -> bool:
        return not (self.amount or self.home or self.unrated or self.units)


@dataclass
class Days:
    """The house's days of moments, and on which of them something may still be written."""

    context: Context
    closed: set[date] = field(init=False)
    known: dict[int, date] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self.closed = set(self.context.session.scalars(select(ClosedMonth.month)))
        self.zone = house_days.zone_of(self.context)
        self.today = house_days.today(self.context)

    def of(self, at: int) -> date:
        quarter = at // QUARTER_MS
        if quarter not in self.known:
            self.known[quarter] = from_ms(quarter * QUARTER_MS).astimezone(self.zone).date()
        return self.known[quarter]

    def entry(self, day: date) -> tuple[int, int | None]:
        """The day that an entry counts on, and its own where that month is closed; as `Day` columns keep them."""
        return (day_ms(self.today), day_ms(day)) if day.replace(day=1) in self.closed else (day_ms(day), None)


class Ledgers:
    """Entries on their way into the journal; written all at once."""

    def __init__(self, context: Context) -> None:
        self.context, self.days, self.rates = context, Days(context), Rates(context)
        self.events: list[tuple[Any, ...]] = []
        self.entries: list[tuple[Any, ...]] = []
        self.next = int(context.session.scalar(select(func.max(JournalEvent.id))) or 0) + 1
        self.now = to_ms(context.now)

    def event(self, source: str, about: str, note: str = "") -> int:
        number = self.next + len(self.events)
        self.events.append((number, source, about, self.now, self.context.actor, note))
        return number

    def entry(self, event: int, kind: Kind, basis: Basis, part: Part, day: date, about: About, key: Key | None = None) -> None:
        account, against = MOVES[kind]
        counts, own = self.days.entry(day)
        line, purchase = (key.line or None, key.purchase or None) if key else (None, None)
        self.entries.append(
            (
                *(event, kind.value, basis.value, account.value, (part.against or against).value),
                *(
                    about.order or None,
                    line,
                    purchase,
                    about.store or None,
                    part.supplier,
                    about.sku,
                    part.item,
                    about.category,
                    about.country,
                ),
                *(part.units, part.currency, part.amount, part.rate, part.home, self.rates.home, counts, own),
            )
        )

    def write(self) -> int:
        s = self.context.session
        bulk_insert(s, JournalEvent, EVENT_COLUMNS, self.events)
        bulk_insert(s, JournalEntry, ENTRY_COLUMNS, self.entries)
        return len(self.entries)


def post_orders(context: Context, orders: Iterable[int], past: bool = False) -> int:
    """Bring the journal up to what orders say. Returns how many entries that took. past: for what happened before the journal was there."""
    numbers = sorted(set(orders))
    if not numbers:
        return 0
    context.session.flush()
    with quiet(len(numbers) > MANY):
        out = Ledgers(context)
        for chunk in in_chunks(numbers, 2000):
            said, kept = _said(context, chunk, out.rates.home)
            sold = {key.line for figures in said.values() for key, one in figures.items() if key.kind is Kind.sale and not one.nothing}
            targets = of_orders(context, chunk, Before(sold, kept, past), out.now, out.rates)
            for number in chunk:
                _post(out, number, targets, said.get(number, {}))
        return out.write()


@cache
def _entries() -> Select[Any]:
    """What the journal says, summed by what `Key` tells apart."""
    e = JournalEntry
    basis = case((e.basis == Basis.reversal.value, Basis.planned.value), else_=e.basis)
    item = case((e.purchase_id.is_(None), 0), else_=e.item_id)
    return (
        select(
            e.order_id, e.order_line_id, e.purchase_id, item, e.kind, basis, func.max(e.against), func.max(e.rate), func.sum(e.units),
            func.sum(case((e.home.is_not(None), e.amount), else_=0)), func.coalesce(func.sum(e.home), 0),
            func.sum(case((e.home.is_(None), e.amount), else_=0)),
        )
        .where(e.order_id.in_(among("orders")), e.order_id.is_not(None), e.home_currency == bindparam("home"))
        .group_by(e.order_id, e.order_line_id, e.purchase_id, item, e.kind, basis)
    )  # fmt: skip


def _said(context: Context, orders: list[int], home: str) -> tuple[dict[int, dict[Key, Said]], dict[tuple[str, int], int]]:
    """What the journal says of orders, and the rates by which it does."""
    rows = context.session.execute(_entries(), {"orders": orders, "home": home})
    said: dict[int, dict[Key, Said]] = {}
    kept: dict[tuple[str, int], int] = {}
    for order, line, purchase, part_item, kind, why, against, rate, units, amount, worth, unrated in rows:
        key = Key(line or 0, purchase or 0, part_item or 0, Kind(kind), Basis(why))
        said.setdefault(order, {})[key] = Said(int(amount), int(worth), int(unrated), int(units), against, rate)
        if rate is None or why != Basis.planned.value:
            continue
        if key.kind is Kind.supplier_paid:
            kept["paid", key.purchase] = rate
        elif key.kind is Kind.return_cost:
            kept["label", key.line] = rate
        elif key.purchase:
            kept["purchase", key.purchase] = rate
        elif key.kind is Kind.prepaid:
            kept["order", order] = rate
    return said, kept


def _post(out: Ledgers, order: int, targets: Targets, said: Mapping[Key, Said]) -> None:
    """What differs of one order, as one event."""
    parts = targets.parts[order]
    back = [
        (key, one)
        for key, one in said.items()
        if not one.nothing and (key not in parts or not one.is_as(parts[key], _against(key, parts[key])))
    ]
    gone = {key for key, _ in back}
    fresh = [(key, part) for key, part in parts.items() if key in gone or said.get(key) is None or said[key].nothing]
    if not back and not fresh:
        return
    event = out.event(_source(fresh, bool(back)), str(order))
    for key, one in back:
        _take_back(out, event, key, one, targets.about[key.line])
    for key, part in fresh:
        # What was there before in another way changes now; what is new counts when it happened.
        day = out.days.today if key in gone else out.days.of(part.at)
        out.entry(event, key.kind, key.basis, part, day, targets.about[key.line], key)


def _against(key: Key, part: Part) -> str:
    return (part.against or MOVES[key.kind][1]).value


def _source(fresh: list[tuple[Key, Part]], back: bool) -> str:
    bases = {key.basis for key, _ in fresh}
    for basis, name in SOURCES.items():
        if basis in bases:
            return name
    if not fresh:
        return "reversal"
    return "order" if {key.kind for key, _ in fresh} == {Kind.prepaid} and not back else "purchase"


def _take_back(out: Ledgers, event: int, key: Key, one: Said, about: About) -> None:
    basis = Basis.reversal if key.basis is Basis.planned else key.basis
    against = MOVES[key.kind][1]
    to = None if one.against == against.value else type(against)(one.against)
    supplier, item, currency = _whose(out.context, key, about)
    rated = bool(one.amount or one.home) or not one.unrated
    if rated:
        home = None if one.rate is None else -one.home
        part = Part(-one.amount, home, one.rate, currency, out.now, -one.units, supplier, item, to)
        out.entry(event, key.kind, basis, part, out.days.today, about, key)
    if one.unrated:
        part = Part(-one.unrated, None, None, currency, out.now, 0 if rated else -one.units, supplier, item, to)
        out.entry(event, key.kind, basis, part, out.days.today, about, key)


def _whose(context: Context, key: Key, about: About) -> tuple[int | None, int | None, str]:
    """Whose an entry is that is taken back: supplier, item and currency of the newest of its kind."""
    e = JournalEntry
    mine = [e.order_id == about.order, e.order_line_id == key.line, e.kind == key.kind.value]
    mine += [e.purchase_id == key.purchase, e.item_id == key.item] if key.purchase else [e.purchase_id.is_(None)]
    found = context.session.execute(select(e.supplier_id, e.item_id, e.currency).where(*mine).order_by(e.id.desc()).limit(1)).one()
    return found.supplier_id, found.item_id, found.currency
