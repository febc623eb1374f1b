"""When to send how many, over ten thousand SKUs with a year of days each, against asking SciPy for one SKU after the other."""

from __future__ import annotations

import numpy as np
from scipy.stats import nbinom, poisson

from amber_lane.core.reorder_plan import Stocks, choose, moments, wanted
from amber_lane.core.stock_ahead import ahead, day_law

from .measure import Report, in_turn

SKUS, DAYS = 10_000, 365
BUDGET = 5_000_000.0


def _stocks() -> Stocks:
    rng = np.random.default_rng(7)
    pace = rng.gamma(0.7, 2.0, (SKUS, 1))
    demand = rng.poisson(pace * rng.gamma(2.0, 0.5, (SKUS, DAYS))).astype(float)
    demand[rng.random((SKUS, DAYS)) < 0.05] = np.nan

    def some(*values: float) -> np.ndarray:
        return rng.choice(values, SKUS).astype(float)

    return Stocks(
        demand, np.ones(SKUS), some(5, 9, 16), some(0, 1, 3), some(7), some(0.9, 0.95, 0.98), rng.integers(0, 80, SKUS),
        rng.integers(0, 30, SKUS), rng.integers(0, 5, SKUS), rng.choice([6, 12, 24], SKUS), rng.choice([0, 12], SKUS), some(150, 700, 2400),
        some(0.25), some(1500), some(120, 480, 900), some(0.4, 1.5),
    )  # fmt: skip


def run(report: Report) -> None:
    of = _stocks()

    def plan() -> None:
        choose(of, wanted(of), BUDGET)

    def one_by_one() -> None:
        """What nobody is spared who asks the library for the reorder point of each SKU by itself; no order, no budget."""
        for n in range(SKUS):
            sold = of.demand[n][~np.isnan(of.demand[n])]
            mean, variance = float(sold.mean()), float(sold.var(ddof=1))
            span = of.lead[n] + of.review[n]
            mu, spread = mean * span, variance * span + mean**2 * of.lead_sd[n] ** 2
            if mu:
                law = poisson(mu) if spread <= mu else nbinom(mu * mu / (spread - mu), mu / spread)
                law.ppf(of.service[n])

    found = moments(of)
    law = day_law(float(found.mean.mean()), float(found.variance.mean()))

    def picture() -> None:
        for n in range(200):
            ahead(20 + n, {9: 48}, [law] * 60)

    mine, plain, _ = in_turn(plan, one_by_one, 3)
    told = f"{mine:.2f} s, {plain / mine:.0f} times faster than SciPy for each"
    report.add(f"Reorder plan, {SKUS:,} SKUs of {DAYS} days, within a budget", told, "under 2 s", mine < 2)
    own, _, times = in_turn(picture, plan, 3)
    report.add("Stock ahead, 200 SKUs of 60 days", f"{own:.2f} s, {times:.2f} times that plan", "under 2 times", times < 2)
