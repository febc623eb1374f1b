"""Orders by the thousand: brought in by a sheet and planned, bought, and Today with all the past behind it."""

from __future__ import annotations

import csv
import io
import random
import statistics
import tempfile
import time
from pathlib import Path

from amber_lane.api.app import make_app_state
from amber_lane.connectors.protocols import Purchase, PurchaseAnswer
from amber_lane.data.base import to_ms
from amber_lane.data.session import Database
from amber_lane.jobs.delivery import Delivery
from amber_lane.services.base.context import Context
from amber_lane.services.imports.sheet_kinds import kind_of
from amber_lane.services.orders.routing import replan
from amber_lane.services.purchasing import purchase_orders
from amber_lane.settings import Settings
from amber_lane.sheets.table import read_sheet

from . import big
from .measure import Report, seconds, signed_in

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
        checked = kind.check(Context(s, big.CLOCK, "bench"), rows, lambda done: None)
    assert not checked.bad, checked.bad[:3]
    with db.writing() as s:
        context = Context(s, big.CLOCK, "bench")
        kind.take(context, checked)
        replan(context, here=True)
    return time.perf_counter() - start


def fill(db: Database, n: int) -> None:
    """n past orders that have arrived, each bought, sent in a parcel and followed; the last two hundred still on the road, some late."""
    rng, day = random.Random(5), 86_400_000
    now = to_ms(big.CLOCK.now())
    at = [now - (i * 90 * day) // n for i in range(n, 0, -1)]
    skus = [rng.randint(1, SKUS) for _ in range(n)]
    ids = range(1, n + 1)
    road = {i: "moving" if i > n - 200 else "delivered" for i in ids}
    with db.writing() as s:
        run = s.connection().exec_driver_sql
        run("insert into carrier(id, version, code, name, kind, store_names, shape) values (1, 1, 'POST', 'Post', 'post_api', '{}', '')")
        run(
            'insert into "order"(id, version, store_id, number, buyer, mail, phone, address, country, currency, ordered_at, came_at, promised_by, note,'
            " channel, manual_release, allowed, wants, wants_message) values (?, 1, 1, ?, 'Buyer', '', '', '{}', 'GB', 'GBP', ?, ?, ?, '', 'link', 0, '[]', '', '')",
            [(i, f"P{i}", at[i - 1], at[i - 1], at[i - 1] + (4 if i % 3 else 1) * day) for i in ids],
        )
        run(
            "insert into order_line(id, version, order_id, line_no, sku_code, sku_id, title, quantity, paid, tax, store_fee, payment_fee, net_revenue, state, reason, lane_id, chosen_by)"
            " values (?, 1, ?, 1, ?, ?, '', 1, 2000, 0, 200, 40, 1760, ?, '', ?, 'plan')",
            [(i, i, f"SKU-{skus[i - 1]:06d}", skus[i - 1], "on_the_road" if road[i] == "moving" else "arrived", skus[i - 1]) for i in ids],
        )
        run(
            "insert into plan(order_id, at, goods, shipping, handling, risk, profit, parcels, lanes, next_best) values (?, ?, 900, 160, 30, 5, 665, 1, '[]', '{}')",
            [(i, at[i - 1]) for i in ids],
        )
        run(
            "insert into purchase_order(id, version, reference, supplier_id, order_id, origin_id, service, state, currency, goods, shipping, handling, their_number, made_at, message)"
            " values (?, 1, ?, 1, ?, 1, 't48', 'shipped', 'GBP', 900, 160, 30, '', ?, '')",
            [(i, f"BIG-P{i}-1", i, at[i - 1]) for i in ids],
        )
        run(
            "insert into purchase_line(id, purchase_id, order_line_id, line_no, item_id, quantity, planned_cost, live, refused) values (?, ?, ?, 1, ?, 1, 900, 1, 0)",
            [(i, i, i, skus[i - 1]) for i in ids],
        )
        run(
            "insert into parcel(id, version, carrier_id, number, state, made_at, moved_at, ended_at, last_word, ended_by) values (?, 1, 1, ?, ?, ?, ?, ?, 'Sorted', ?)",
            [
                (
                    i,
                    f"N{i}",
                    road[i],
                    at[i - 1],
                    at[i - 1],
                    None if road[i] == "moving" else at[i - 1] + 2 * day,
                    "" if road[i] == "moving" else "carrier",
                )
                for i in ids
            ],
        )
        run("insert into parcel_line(id, parcel_id, purchase_id) values (?, ?, ?)", [(i, i, i) for i in ids])


def run(report: Report) -> None:
    with tempfile.TemporaryDirectory() as name:
        db = big.make(Path(name), SKUS)
        took = bring(db, sheet(10_000))
        report.add("orders: 10,000 brought in by a sheet and planned", f"{took:.1f} s", "under 15 s", took < 15)

        def plan() -> None:
            with db.writing() as s:
                replan(Context(s, big.CLOCK, "bench"), here=True)

        again = seconds(plan)
        report.add("orders: 10,000 open ones planned anew", f"{again:.1f} s", "under 15 s", again < 15)
        db.close()
    for part in (_buy, _today):
        with tempfile.TemporaryDirectory() as name:
            part(report, Path(name))


class _Slow:
    """A supplier that takes an order a hundredth of a second after it was asked, one at a time."""

    ANSWER = 0.01

    def __init__(self) -> None:
        self.bought: list[str] = []

    def budget(self) -> None:
        return None

    def find_purchases(self, references: list[str]) -> list[PurchaseAnswer]:
        return []

    def buy(self, purchase: Purchase) -> PurchaseAnswer:
        time.sleep(self.ANSWER)
        self.bought.append(purchase.reference)
        return PurchaseAnswer(purchase.reference, "", "accepted", "", None, None)


def _buy(report: Report, folder: Path, n: int = 1000) -> None:
    db = big.make(folder, SKUS)
    bring(db, sheet(4 * n))
    link = _Slow()

    class Door:
        deadline = 5.0

        def supplier(self, context: Context, number: int) -> _Slow:
            return link

    with db.writing() as s:
        context = Context(s, big.CLOCK, "bench")
        s.connection().exec_driver_sql(
            "insert into link(version, owner, owner_id, address, sealed_key, state, message, may, failures) values (1, 'supplier', 1, '', '', 'good', '', '[]', 0)"
        )
        made = purchase_orders.send(context, purchase_orders.ready_orders(context)[:n])
    delivery = Delivery(db, big.CLOCK, Door())  # type: ignore[arg-type]
    took = seconds(lambda: delivery.run("supplier:1"))
    assert len(link.bought) == len(set(link.bought)) == len(made)
    waited = len(made) * link.ANSWER
    report.add(
        f"orders: {len(made):,} bought, answered after {link.ANSWER * 1000:.0f} ms each",
        f"{took:.1f} s, {waited / took:.0%} of it waiting for the supplier",
        "limited by the supplier: at least half",
        waited / took >= 0.5,
    )
    db.close()


def _today(report: Report, folder: Path) -> None:
    db = big.make(folder, SKUS)
    fill(db, PAST)
    bring(db, sheet(300))
    db.close()
    house = make_app_state(Settings(data=folder, database_url=f"sqlite:///{folder / 'big.db'}", jobs=False), clock=big.CLOCK)
    with signed_in(house) as client:

        def see(path: str) -> float:
            return statistics.median(seconds(lambda: client.get(path).raise_for_status()) for _ in range(7))

        asked = (
            ("Today", "/api/v1/today"),
            ("orders: a page of the list", "/api/v1/orders?limit=100"),
            ("parcels: a page", "/api/v1/transit/parcels?limit=100"),
        )
        for what, path in asked:
            took = see(path)
            report.add(f"{what}, with {PAST:,} orders behind it", f"{took * 1000:.0f} ms", "under 300 ms", took < 0.3)
