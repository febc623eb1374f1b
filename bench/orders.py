"""Orders by the thousand: brought in by a sheet and planned, bought, and Today with all the past behind it."""

from __future__ import annotations

import csv
import io
import random
import tempfile
import time
from pathlib import Path

from sqlalchemy import func, select

from amber_lane.data.orders import OrderLine
from amber_lane.data.session import Database
from amber_lane.services.desk import Desk
from amber_lane.services.planning import replan
from amber_lane.services.sheets_in import kind_of
from amber_lane.sheets.table import read_sheet

from . import big
from .measure import Report, seconds

SKUS = 20_000
PAST = 100_000


def sheet(n: int, first: int = 0) -> bytes:
    """n orders of one to three lines over all SKUs, with the beloved ones more often."""
    luck, out = random.Random(11 + first), io.StringIO()
    writer = csv.writer(out)
    head = ["store", "order_no", "sku", "quantity", "name", "address_1", "city", "postcode", "country", "unit_price", "promised_by"]
    writer.writerow(head)
    for number in range(first, first + n):
        for _ in range(luck.choice((1, 1, 1, 1, 2, 3))):
            sku = min(int(luck.expovariate(8 / SKUS)) + 1, SKUS)
            where = (f"Buyer {number % 900}", "4 Row", "Whitby", "YO21 3PR", "GB")
            units, price = luck.choice((1, 1, 1, 2)), f"{luck.uniform(6, 60):.2f}"
            writer.writerow(("Big shop", f"N{number}", f"SKU-{sku:06d}", units, *where, price, ""))
    return out.getvalue().encode()


def bring(db: Database, data: bytes) -> float:
    """Seconds to read, check and take a sheet of orders, and to plan them."""
    kind = kind_of("orders")
    start = time.perf_counter()
    with db.reading() as s:
        rows = read_sheet(data, kind.required, kind.optional).rows
        checked = kind.check(Desk(s, big.CLOCK, "bench"), rows, lambda done: None)
    assert not checked.bad, checked.bad[:3]
    with db.writing() as s:
        desk = Desk(s, big.CLOCK, "bench")
        kind.take(desk, checked)
        replan(desk, here=True)
    return time.perf_counter() - start


def states(db: Database) -> dict[str, int]:
    with db.reading() as s:
        return dict(s.execute(select(OrderLine.state, func.count()).group_by(OrderLine.state)).tuples().all())


def run(report: Report) -> None:
    with tempfile.TemporaryDirectory() as name:
        db = big.make(Path(name), SKUS)
        took = bring(db, sheet(10_000))
        report.add("orders: 10,000 brought in by a sheet and planned", f"{took:.1f} s", "under 15 s", took < 15)
        print(states(db))

        def plan() -> None:
            with db.writing() as s:
                replan(Desk(s, big.CLOCK, "bench"), here=True)

        again = seconds(plan)
        report.add("orders: 10,000 open ones planned anew", f"{again:.1f} s", "under 15 s", again < 15)
        db.close()
