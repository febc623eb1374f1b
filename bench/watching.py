"""What if and replay over a catalogue, a million listings with three lanes each, the calls plan, and what sightings weigh."""

from __future__ import annotations

import sqlite3
import statistics
import tempfile
from datetime import UTC, datetime
from pathlib import Path

import numpy as np

from amber_lane.clock import PacedClock
from amber_lane.core import calls
from amber_lane.core.cost import Conversion, landed_cost
from amber_lane.core.price import solve
from amber_lane.core.stock import first_of, serves, shown
from amber_lane.core.terms import Terms
from amber_lane.data.base import from_ms
from amber_lane.data.session import Database
from amber_lane.data.setup import Supplier
from amber_lane.services.base.context import Context
from amber_lane.services.monitoring import sweeps
from amber_lane.services.pricing import replay
from amber_lane.services.pricing import what_if as outcomes
from amber_lane.services.pricing.drafts import Draft, RuleChange

from . import big
from .measure import Report, seconds
from .prices import columns

DAY = 86_400_000
DRAFT = RuleChange([Draft("house", "", 0, {"rule": "margin", "rule_value": 270_000, "min_profit": 150, "endings": "95"})])


def million(report: Report, n: int = 1_000_000) -> None:
    """Landed cost of three lanes each, the choice among them, the price and the quantity: all on one core."""
    rng = np.random.default_rng(9)
    terms, limits, endings = columns(n)
    rows = np.repeat(np.arange(n), 3)
    cost, stock = rng.integers(150, 8000, 3 * n), rng.integers(0, 60, 3 * n)
    num, den = rng.integers(1, 4, 3 * n), np.ones(3 * n, dtype=np.int64)
    tax, ship, use = np.full(3 * n, 200_000), rng.integers(100, 600, 3 * n), np.tile(np.arange(3), n)
    convert = Conversion()

    def run() -> None:
        landed = landed_cost(convert.apply(cost), num, den, tax, ship, np.full(3 * n, 30))
        left = serves(stock, np.zeros_like(stock), num, den)
        best = first_of(rows, left <= 0, use)
        mine = Terms(landed[best], *(getattr(terms, name) for name in list(Terms.__dataclass_fields__)[1:]))
        solve(mine, limits, endings)
        shown(left[best], np.full(n, 8), np.full(n, 2))

    took = statistics.median(seconds(run) for _ in range(3))
    report.add("prices: a million listings with three lanes each, cost, choice, price and quantity", f"{took:.2f} s", "under 3 s", took < 3)


def what_if(report: Report) -> None:
    for n, most, times in ((1300, 0.15, 21), (100_000, 2.0, 5)):
        with tempfile.TemporaryDirectory() as folder:
            db = big.make(Path(folder), n)

            kept = outcomes.Catalogue()

            def run(kept: outcomes.Catalogue = kept, db: Database = db) -> None:
                with db.reading() as s:
                    context = Context(s, big.CLOCK, "bench")
                    view = outcomes.what_if(context, DRAFT, lambda facts: kept.read(context, facts))
                    outcomes.histogram(view.then_margin, np.flatnonzero(view.book.counted))

            first = seconds(run)
            took = statistics.median(seconds(run) for _ in range(times))
            db.close()
        report.add(
            f"what if: a changed rule over {n:,} listings",
            f"{took * 1000:.0f} ms (the first, which reads, {first * 1000:.0f} ms)",
            f"under {most * 1000:,.0f} ms",
            took < most,
        )


def past(report: Report, n: int = 1300, days: int = 60) -> None:
    """Replay: each item changes every other day; 50 orders a day."""
    rng = np.random.default_rng(4)
    end = big.AT
    with tempfile.TemporaryDirectory() as folder:
        db = big.make(Path(folder), n)
        with db.writing() as s:
            run = s.connection().exec_driver_sql
            run("insert into sweep(id, supplier_id, started, state, asked_by, calls, retries, items, changes, doubted, refused, message)"
                " values (1, 1, ?, 'good', 'schedule', 0, 0, 0, 0, 0, 0, '')", (end - days * DAY,))  # fmt: skip
            rows, cost = [], {i: int(c) for i, c in run("select id, cost from item")}
            for at in range(end - days * DAY, end, DAY // 24):
                for item in rng.integers(1, n + 1, n // 48).tolist():
                    new = max(cost[item] * int(rng.integers(94, 107)) // 100, 50)
                    rows.append((1, item, at, cost[item], new, 20, int(rng.integers(0, 60)), "good"))
                    cost[item] = new
            run("insert into sighting(sweep_id, item_id, at, old_cost, cost, old_stock, stock, verdict) values (?,?,?,?,?,?,?,?)", rows)
            orders = [(k, end - days * DAY + k * DAY // 50, int(rng.integers(1, n + 1))) for k in range(1, 50 * days + 1)]
            run('insert into "order"(id, version, store_id, number, buyer, mail, phone, address, country, currency, ordered_at, came_at, note, channel, manual_release, allowed)'
                " values (?, 1, 1, ?, '', '', '', '{}', 'GB', 'GBP', ?, ?, '', 'link', 0, '[]')", [(k, f"N{k}", at, at) for k, at, _ in orders])  # fmt: skip
            run("insert into order_line(id, version, order_id, line_no, sku_code, sku_id, title, quantity, paid, tax, store_fee, payment_fee, net_revenue, state, reason, chosen_by)"
                " values (?, 1, ?, 1, ?, ?, '', 1, 2000, 0, 0, 0, 0, 'arrived', '', 'plan')", [(k, k, f"SKU-{i:06d}", i) for k, _, i in orders])  # fmt: skip

        def both() -> None:
            with db.reading() as s:
                context = Context(s, PacedClock(from_ms(end), 0), "bench")
                told = replay.read(context, days)
                replay.run(context, told, None)
                replay.run(context, told, DRAFT)

        took = statistics.median(seconds(both) for _ in range(3))
        db.close()
    report.add(
        f"replay: {days} days, {n:,} listings, {len(rows):,} sightings, {len(orders):,} orders, two sets side by side",
        f"{took:.1f} s",
        "under 5 s",
        took < 5,
    )


def plan(report: Report, n: int = 20_000) -> None:
    """The calls plan, and what it loses in a simulation: known rates, and rates estimated from 60 days in which all had their turn."""
    rng = np.random.default_rng(1)
    rate, weight = rng.lognormal(-0.7, 1.2, n), rng.lognormal(0, 1.5, n)
    least = np.zeros(n)
    took = statistics.median(seconds(lambda: calls.plan(rate, weight, n * 0.5, least)) for _ in range(5))
    report.add(f"calls plan: {n:,} items", f"{took:.2f} s", "under 2 s", took < 2)

    def lost(looks: np.ndarray, days: int = 200) -> float:
        """Money a day lost in a run of so many days: changes come by themselves, looks at even distances."""
        gap = 1.0 / np.maximum(looks, 1e-9)
        stale = np.zeros(n)
        laps = np.minimum(np.maximum((days * looks).astype(int), 1), 400)
        for lap in range(int(laps.max())):
            on = laps > lap
            first = rng.exponential(1.0 / rate[on])
            stale[on] += np.maximum(gap[on] - first, 0.0) / gap[on]
        return float((weight * stale / laps).sum())

    for share in (0.1, 0.5, 2.0):
        budget = n * share
        # 60 days with these calls, all in turn, and what they saw.
        looks = np.floor(60 * share + rng.random(n))
        seen = rng.binomial(looks.astype(int), 1 - np.exp(-rate / share)).astype(float)
        guess = calls.change_rates(seen, looks, np.full(n, 60.0))
        known, guessed = calls.plan(rate, weight, budget, least), calls.plan(guess, weight, budget, least)
        best, turns = calls.stale_loss(rate, weight, known), lost(calls.in_turn(n, budget))
        by_known, by_guess = lost(known) / best, lost(guessed) / best
        report.add(
            f"calls plan: loss in simulation, {share:g} calls a day and item",
            f"{by_known:.3f} of the optimum with known rates, {by_guess:.3f} with rates from 60 days; {lost(guessed) / turns:.2f} of taking turns",
            "at most 1.05 and 1.25",
            by_known <= 1.05 and by_guess <= 1.25,
        )


def weight(report: Report, n: int = 10_000, days: int = 60) -> None:
    """A day of real sweeps, one each quarter of an hour, in each of which 2 % of the items change; counted for 60 days."""
    rng = np.random.default_rng(8)
    with tempfile.TemporaryDirectory() as folder:
        db = big.make(Path(folder), n)
        path = Path(folder) / "big.db"
        with db.writing() as s:
            # Sightings alone: nothing is sold, so that no responses are weighed.
            s.connection().exec_driver_sql("update lane set closed_at = ?", (big.AT,))
            cost = np.array([row[0] for row in s.connection().exec_driver_sql("select cost from item order by id")], dtype=np.int64)
        stock = np.full(n, 40, dtype=np.int64)
        numbers = [f"IT-{i:06d}" for i in range(1, n + 1)]

        def size() -> int:
            db.engine.dispose()
            with sqlite3.connect(path) as raw:
                raw.execute("pragma wal_checkpoint(truncate)")
                return int(
                    raw.execute(
                        "select sum(pgsize) from dbstat where name = 'sighting' or name like 'ix_sighting%' or name = 'sweep'"
                    ).fetchone()[0]
                    or 0
                )

        try:
            before = size()
        except sqlite3.OperationalError:
            before = path.stat().st_size
        quiet = 0.0
        for lap in range(96):
            moved = rng.random(n) < 0.02
            # An item changes about twice a day; most sweeps see nothing new of it.
            cost = np.where(moved, np.maximum(cost * rng.integers(96, 105, n) // 100, 60), cost)
            stock = np.where(moved, rng.integers(1, 90, n), stock)
            at = datetime.fromtimestamp((big.AT + lap * 900_000) / 1000, UTC)
            told = sweeps.SweepData(numbers, cost, ["GBP"] * n, stock, at)

            def sweep(told: sweeps.SweepData = told, at: datetime = at) -> None:
                with db.writing() as s:
                    context = Context(s, PacedClock(at, 0), "Watch")
                    sweeps.take_sweep(context, sweeps.begin(context, context.get(Supplier, 1, "supplier")), told)

            took = seconds(sweep)
            quiet = took
        try:
            grown = size() - before
        except sqlite3.OperationalError:
            grown = path.stat().st_size - before
        db.close()
    whole = grown * days / 1e6
    report.add(
        f"sightings: {n:,} items swept every 15 minutes for {days} days, each changing twice a day",
        f"{whole:.0f} MB ({grown / 1e6:.1f} MB a day); such a sweep takes {quiet * 1000:.0f} ms",
        "under 1,000 MB",
        whole < 1000,
    )


def run(report: Report) -> None:
    million(report)
    what_if(report)
    past(report)
    plan(report)
    weight(report)
