"""Books: tables of a million entries against raw SQLite doing the same sums, the first look after a start, and what the journal costs."""

from __future__ import annotations

import random
import sqlite3
import tempfile
from collections.abc import Callable
from datetime import date, timedelta
from functools import partial
from pathlib import Path

from amber_lane.data.base import day_ms
from amber_lane.data.session import Database
from amber_lane.services.base import journal_marks
from amber_lane.services.base.context import Context
from amber_lane.services.books import columns, profit, why
from amber_lane.services.books.grouping import DIMENSIONS, Period
from amber_lane.services.books.profit import View
from amber_lane.services.purchasing import purchase_orders

from . import big, orders
from .measure import Report, in_turn, percentile, seconds

LAST = date(2026, 3, 11)
# kind, against, what it is of 20.00 that a buyer paid.
ENTRIES = (
    ("sale", "open_orders", 2000),
    ("store_fee", "store", -200),
    ("payment_fee", "store", -40),
    ("goods", "supplier", -900),
    ("shipping", "supplier", -160),
)


def fill(db: Database, n: int, skus: int) -> None:
    """n orders of the last year in the journal, with five entries each."""
    luck = random.Random(3)
    days = [day_ms(LAST - timedelta(days=luck.randint(0, 364))) for _ in range(n)]
    of = [min(int(luck.expovariate(6 / skus)) + 1, skus) for _ in range(n)]
    with db.writing() as s:
        run = s.connection().exec_driver_sql
        run(
            'insert into "order"(id, version, store_id, number, buyer, mail, phone, address, country, currency, ordered_at, came_at, note,'
            " channel, manual_release, allowed, wants, wants_message) values (?, 1, 1, ?, 'Buyer', '', '', '{}', 'GB', 'GBP', ?, ?, '', 'past', 0, '[]', '', '')",
            [(i, f"P{i}", days[i - 1], days[i - 1]) for i in range(1, n + 1)],
        )
        run(
            "insert into journal_event(id, source, about, at, who, note) values (?, 'purchase', ?, ?, '', '')",
            [(i, str(i), days[i - 1]) for i in range(1, n + 1)],
        )
        for kind, against, amount in ENTRIES:
            run(
                "insert into journal_entry(event_id, kind, basis, account, against, order_id, store_id, supplier_id, sku_id, item_id, category, country,"
                " units, currency, amount, rate, home, home_currency, day) values (?, ?, 'planned', 'profit', ?, ?, 1, 1, ?, ?, ?, 'GB', ?, 'GBP', ?,"
                " 1000000000, ?, 'GBP', ?)",
                [
                    (
                        i,
                        kind,
                        against,
                        i,
                        of[i - 1],
                        of[i - 1],
                        f"C{of[i - 1] % 12}",
                        int(kind == "sale"),
                        amount,
                        amount + i % 7,
                        days[i - 1],
                    )
                    for i in range(1, n + 1)
                ],
            )


RAW = (
    "select sku_id, kind, sum(home), sum(units) from journal_entry where account = 'profit' and home_currency = 'GBP' and day >= ? and day <= ?"
    " group by sku_id, kind"
)


def run(report: Report, n: int = 200_000, skus: int = 20_000, bought: int = 10_000) -> None:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        db = big.make(folder, skus)
        fill(db, n, skus)
        _tables(report, db, folder, n)
        db.close()
    _journal(report, bought)


def _tables(report: Report, db: Database, folder: Path, n: int) -> None:
    year = Period(LAST - timedelta(days=364), LAST)
    half = Period(LAST - timedelta(days=181), LAST)
    month = Period(LAST - timedelta(days=27), LAST)

    def look(does: Callable[[Context], object]) -> object:
        with db.reading() as s:
            return does(Context(s, big.CLOCK, "bench"))

    entries = n * len(ENTRIES)
    first = seconds(partial(look, lambda context: profit.table(context, View("sku", month, month.before()))))
    columns._HOLDERS.clear()
    after = seconds(partial(look, lambda context: profit.table(context, View("sku", month, month.before()))))
    report.add(
        f"books: first table of {entries:,} entries after a start",
        f"{after:.2f} s ({first:.1f} s the very first time, before its file is there)",
        "within 1 s",
        after <= 1,
    )

    def by_period(by: str, period: Period, context: Context) -> object:
        return profit.table(context, View(by, period, period.before()))

    times = [
        seconds(partial(look, partial(by_period, by, period))) for by in DIMENSIONS for period in (month, half, year) for _ in range(3)
    ]
    p95 = percentile(times, 0.95)
    report.add(f"books: any table of {entries:,} entries, p95", f"{p95 * 1000:.0f} ms", "under 300 ms", p95 < 0.3)
    raw = sqlite3.connect(folder / "big.db")

    def plain() -> None:
        for period in (half, half.before()):
            raw.execute(RAW, (day_ms(period.first), day_ms(period.last))).fetchall()

    one, other, ratio = in_turn(partial(look, lambda context: profit.table(context, View("sku", half, half.before()))), plain, 5)
    report.add(
        "books: half a year by SKU beside the half before",
        f"{one * 1000:.0f} ms, {ratio:.2f} times the same sums in raw SQLite ({other * 1000:.0f} ms)",
        "at most half of it",
        ratio <= 0.5,
    )
    bridge = seconds(partial(look, lambda context: why.changed(context, half, half.before())))
    report.add("books: why half a year differs from the half before, by SKU", f"{bridge * 1000:.0f} ms", "under 1 s", bridge < 1)


def _journal(report: Report, n: int) -> None:
    """Taking in and buying n orders, with the journal and without it, each in a house of its own."""

    def take(follow: bool) -> float:
        kept = list(journal_marks._FOLLOW)
        if not follow:
            journal_marks._FOLLOW[:] = [lambda context, marks: None]
        try:
            with tempfile.TemporaryDirectory() as name:
                db = big.make(Path(name), orders.SKUS)
                took = orders.bring(db, orders.sheet(n))

                def send() -> None:
                    with db.writing() as s:
                        context = Context(s, big.CLOCK, "bench")
                        purchase_orders.send(context, purchase_orders.ready_orders(context))

                took += seconds(send)
                db.close()
                return took
        finally:
            journal_marks._FOLLOW[:] = kept

    without, with_it, again = take(False), take(True), take(False)
    base = min(without, again)
    share = with_it / base - 1
    report.add(
        f"books: what the journal adds to taking in and buying {n:,} orders",
        f"{share:.0%} ({with_it:.1f} s, {base:.1f} s without)",
        "at most 20 %",
        share <= 0.2,
    )
