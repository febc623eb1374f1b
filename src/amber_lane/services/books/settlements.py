"""What stores really paid out: settlements, row by row, held against what was expected of each order."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from statistics import median
from typing import Any

from sqlalchemy import case, func, select

from ...connectors.protocols import SettlementLine, SettlementPage
from ...core.books import Basis, Kind
from ...core.currency import show
from ...core.numbers import PPM, half_up
from ...core.states import OrderLineState
from ...data.base import to_ms
from ...data.books import JournalEntry, Settlement, SettlementRow
from ...data.bulk import in_chunks
from ...data.orders import Order, OrderLine
from ...data.outbox import AuditEntry
from ...data.setup import Store
from ...data.shelf import Sku
from ..base import journal_marks, undoing
from ..base.context import Context
from ..base.errors import Conflict
from ..pricing.inputs import fee_of, fee_rows
from .posting import Ledgers
from .targets import About, Part

SOURCE = "settlement"
# What each kind does to a payout: of these only the amount is said, whatever its sign.
GIVES, TAKES = ("sale", "shipping", "fee_back", "payout"), ("fee", "payment_fee", "refund", "discount", "tax")
# Over so many days of settled orders it is asked whether a store takes what is set.
LOOK_BACK = timedelta(days=28)
# A fee is another one only where that many orders say so, and it is not a matter of rounding.
LEAST_ORDERS, LEAST_PPM = 5, 3000


def signed(kind: str, amount: int) -> int:
    """An amount as it adds to what the store pays out."""
    return abs(amount) if kind in GIVES else -abs(amount) if kind in TAKES else amount


def take(context: Context, store: Store, lines: Iterable[SettlementLine]) -> int:
    """Take rows of a store's settlements; those that are known change nothing. Returns how many were new."""
    by_number: dict[str, list[SettlementLine]] = {}
    for one in lines:
        by_number.setdefault(one.settlement, []).append(one)
    taken = 0
    for number, rows in by_number.items():
        taken += _take_one(context, store, number, rows)
    if taken:
        message = f"{taken} row{'' if taken == 1 else 's'} of {store.name}'s settlements read"
        context.log("settlement.read", store.code, message, count=taken, after={"settlements": sorted(by_number)[:50]})
    return taken


def take_page(context: Context, store: Store, page: SettlementPage, whole: bool = True) -> int:
    """What a store told of its settlements. whole: no page before could not be read; only then it is not asked for again."""
    n = take(context, store, page.lines)
    if whole and not page.unreadable:
        store.settled_cursor = page.cursor
    if page.unreadable:
        told = f"{len(page.unreadable)} settlement{'' if len(page.unreadable) == 1 else 's'} of {store.name} could not be read"
        context.log("settlement.unreadable", store.code, told, reason="; ".join(page.unreadable)[:500])
    return n


def _take_one(context: Context, store: Store, number: str, rows: Sequence[SettlementLine]) -> int:
    s = context.session
    found = s.scalar(select(Settlement).where(Settlement.store_id == store.id, Settlement.number == number))
    if found is None:
        found = Settlement(store_id=store.id, number=number, currency=store.currency, at=max(one.at for one in rows), read_at=context.now)
        s.add(found)
        s.flush()
    known = set(s.scalars(select(SettlementRow.line).where(SettlementRow.settlement_id == found.id)))
    fresh = [one for one in rows if one.line not in known and one.kind != "payout"]
    orders = _orders(context, store, {one.order_no for one in fresh})
    for one in fresh:
        s.add(
            SettlementRow(
                settlement_id=found.id,
                line=one.line,
                order_no=one.order_no,
                order_id=orders.get(one.order_no),
                kind=one.kind,
                amount=signed(one.kind, one.amount),
                at=one.at,
            )
        )
    s.flush()
    journal_marks.mark(s, {orders[one.order_no] for one in fresh if one.order_no in orders})
    _book(context, store, found, [one for one in fresh if one.kind == "adjustment" and one.order_no not in orders])
    payout = next((one for one in rows if one.kind == "payout"), None)
    if payout is not None and found.paid is None:
        found.paid, found.at = abs(payout.amount), payout.at
        out = Ledgers(context)
        _entry(out, store, found, Kind.payout, found.paid, payout.at)
        out.write()
        return len(fresh) + 1
    return len(fresh)


def _orders(context: Context, store: Store, numbers: Iterable[str]) -> dict[str, int]:
    found: dict[str, int] = {}
    for chunk in in_chunks(numbers):
        rows = context.session.execute(select(Order.number, Order.id).where(Order.store_id == store.id, Order.number.in_(chunk)))
        found |= dict(rows.tuples().all())
    return found


def _book(context: Context, store: Store, found: Settlement, adjusted: Sequence[SettlementLine]) -> None:
    """What belongs to no order: adjustments are a gain or a loss of their own."""
    out = Ledgers(context)
    for one in adjusted:
        _entry(out, store, found, Kind.correction, one.amount, one.at)
    out.write()


def _entry(out: Ledgers, store: Store, found: Settlement, kind: Kind, amount: int, at: datetime) -> None:
    rate = out.rates.of(found.currency)
    part = Part(amount, out.rates.turn(amount, found.currency, rate), rate, found.currency, to_ms(at))
    event = out.event(SOURCE, found.number, store.name)
    out.entry(event, kind, Basis.statement, part, out.days.of(to_ms(at)), About(0, store.id, "", None, ""))


def match_again(context: Context, orders: Iterable[int]) -> None:
    """Rows that were nobody's find their orders among these."""
    s = context.session
    lost = SettlementRow.order_id.is_(None) & (SettlementRow.order_no != "")
    if s.scalar(select(SettlementRow.id).where(lost).limit(1)) is None:
        return
    for chunk in in_chunks(orders):
        rows = s.execute(
            select(SettlementRow, Order.id)
            .join(Settlement, Settlement.id == SettlementRow.settlement_id)
            .join(Order, (Order.number == SettlementRow.order_no) & (Order.store_id == Settlement.store_id))
            .where(lost, Order.id.in_(chunk))
        ).all()
        for row, order in rows:
            row.order_id = order


@dataclass(frozen=True)
class Settled:
    """A settlement as a person looks at it. rows: how many; sum: what they come to; lost: rows that belong to no order of ours;
    differs: orders that came to something else than expected, and by how much in all."""

    id: int
    store: str
    number: str
    at: datetime
    currency: str
    rows: int
    sum: int
    paid: int | None
    lost: int
    lost_sum: int
    differs: int
    difference: int
    settled: bool

    @property
    def gap(self) -> int:
        """What was paid out more or less than the rows say."""
        return 0 if self.paid is None else self.paid - self.sum


def overview(context: Context, most: int = 200) -> list[Settled]:
    """The newest settlements with what is odd about each."""
    r = SettlementRow
    lost = (r.order_id.is_(None)) & (r.kind != "adjustment")
    newest = select(Settlement.id).order_by(Settlement.at.desc(), Settlement.id.desc()).limit(most)
    rows = context.session.execute(
        select(
            Settlement,
            Store.name,
            func.count(r.id),
            func.coalesce(func.sum(r.amount), 0),
            func.sum(case((lost, 1), else_=0)),
            func.sum(case((lost, r.amount), else_=0)),
        )
        .join(Store, Store.id == Settlement.store_id)
        .outerjoin(r, r.settlement_id == Settlement.id)
        .where(Settlement.id.in_(newest))
        .group_by(Settlement.id)
        .order_by(Settlement.at.desc(), Settlement.id.desc())
    ).all()
    differs = _differences(context, [one.id for one, *_ in rows])
    return [
        Settled(
            one.id, store, one.number, one.at, one.currency, int(n), int(total), one.paid, int(gone or 0), int(gone_sum or 0),
            *differs.get(one.id, (0, 0)), one.settled_at is not None,
        )
        for one, store, n, total, gone, gone_sum in rows
    ]  # fmt: skip


def _differences(context: Context, settlements: list[int]) -> dict[int, tuple[int, int]]:
    """Per settlement: orders whose money is not as expected, and by how much in all, in the store's money."""
    mine = (
        select(SettlementRow.settlement_id, SettlementRow.order_id)
        .where(SettlementRow.settlement_id.in_(settlements))
        .distinct()
        .subquery()
    )
    e = JournalEntry
    rows = context.session.execute(
        select(mine.c.settlement_id, func.count(e.order_id.distinct()), func.sum(e.amount))
        .join(e, e.order_id == mine.c.order_id)
        .where(e.basis.in_((Basis.fee.value, Basis.statement.value)), e.purchase_id.is_(None), e.account == "profit")
        .group_by(mine.c.settlement_id)
    )
    return {number: (int(n), int(total or 0)) for number, n, total in rows}


def accept(context: Context, number: int) -> Settlement:
    """A person takes a settlement as it is."""
    row = context.get(Settlement, number, "settlement")
    if row.settled_at is not None:
        raise Conflict("it was taken as it is already")
    row.settled_at = context.now
    context.log("settlement.accept", row.number, f"settlement {row.number} taken as it is", after={"id": row.id}, undo=True)
    return row


@undoing.undoes("settlement.accept")
def undo_accept(context: Context, act: AuditEntry) -> None:
    context.get(Settlement, int(undoing.after(act)["id"]), "settlement").settled_at = None


@dataclass(frozen=True)
class TakesMore:
    """A store takes another share of a category's sales than is set. set_ppm, real_ppm: of what buyers paid; a_day: what that costs a day,
    in the store's minor units."""

    store: int
    store_name: str
    category: str
    set_ppm: int
    real_ppm: int
    orders: int
    a_day: int
    currency: str
    since: datetime


def fees_differ(context: Context) -> list[TakesMore]:
    """Stores whose fees are not those that are set, by category; of the settled orders of the last weeks with one category alone."""
    return context.kept("books fees", _fees_differ, minutes=30)


def _fees_differ(context: Context) -> list[TakesMore]:
    since = context.now - LOOK_BACK
    fee = func.sum(case((SettlementRow.kind == "fee", -SettlementRow.amount), else_=0))
    settled = (
        select(SettlementRow.order_id, fee.label("fee"))
        .where(SettlementRow.order_id.is_not(None), SettlementRow.at >= since, SettlementRow.kind == "fee")
        .group_by(SettlementRow.order_id)
        .subquery()
    )
    rows: Any = context.session.execute(
        select(
            Order.store_id, func.max(Sku.category), func.count(Sku.category.distinct()), settled.c.fee, func.sum(OrderLine.total),
            func.sum(OrderLine.store_fee), Order.ordered_at,
        )
        .join(settled, settled.c.order_id == Order.id)
        .join(OrderLine, OrderLine.order_id == Order.id)
        .join(Sku, Sku.id == OrderLine.sku_id)
        .where(OrderLine.state != OrderLineState.cancelled)
        .group_by(Order.id)
    )  # fmt: skip
    sums: dict[tuple[int, str], list[Any]] = {}
    shares: dict[tuple[int, str], list[int]] = {}
    for store, category, kinds, real, paid, planned, at in rows:
        if kinds == 1 and paid:
            one = sums.setdefault((store, category), [0, 0, 0, 0, at])
            shares.setdefault((store, category), []).append(half_up((real - planned) * PPM, paid))
            one[0], one[1], one[2], one[3], one[4] = one[0] + real, one[1] + paid, one[2] + planned, one[3] + 1, min(one[4], at)
    stores = {row.id: row for row in context.session.scalars(select(Store))}
    fees = fee_rows(context.session)
    out = []
    for (store, category), (real, _, planned, n, at) in sums.items():
        row = fee_of(fees, store, category)
        set_ppm = row.percent if row else 0
        # The order in the middle: a least fee, or the days before the store changed, move it little.
        real_ppm = set_ppm + round(median(shares[store, category]))
        if n >= LEAST_ORDERS and abs(real_ppm - set_ppm) >= LEAST_PPM:
            a_day = (real - planned) // max((context.now - at).days, 1)
            said = half_up(real_ppm, 1000) * 1000
            shop = stores[store]
            out.append(TakesMore(store, shop.name, category, set_ppm, said, n, a_day, shop.currency, at))
    return sorted(out, key=lambda one: -abs(one.a_day))


def balance(context: Context) -> list[tuple[str, str, int]]:
    """(store, currency, what it owes us by the journal) of every store that has told of a payout; looked up every half hour."""
    return context.kept("books balance", _balance, minutes=30, still=True)


def _balance(context: Context) -> list[tuple[str, str, int]]:
    e = JournalEntry
    owed = case((e.account == "store", -e.amount), (e.against == "store", e.amount), else_=0)
    pays = select(Settlement.store_id).where(Settlement.paid.is_not(None)).distinct()
    rows = context.session.execute(
        select(Store.name, e.currency, func.sum(owed))
        .join(Store, Store.id == e.store_id)
        .where(e.store_id.in_(pays))
        .group_by(Store.id, e.currency)
        .order_by(Store.name)
    )
    return [(name, currency, int(total)) for name, currency, total in rows if total]


def told(context: Context, one: Settled) -> str:
    """What is odd about a settlement, in a sentence; '' where nothing is."""
    parts = []
    if one.gap:
        parts.append(f"{show(abs(one.gap), one.currency)} {'more' if one.gap > 0 else 'less'} was paid out than its rows say")
    if one.lost:
        parts.append(f"{one.lost} row{'' if one.lost == 1 else 's'} of {show(abs(one.lost_sum), one.currency)} belong to no order here")
    return "; ".join(parts)
