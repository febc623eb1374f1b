"""Section 3 for many listings, against a bare closed form and a Decimal loop."""

from __future__ import annotations

from decimal import ROUND_CEILING, ROUND_HALF_UP, Decimal
from fractions import Fraction
from typing import Any

import numpy as np

from amber_lane.core.price import NONE, Endings, Limits, Terms, proceeds, solve

from .measure import Report, in_turn, seconds


def columns(n: int, seed: int = 1) -> tuple[Terms, Limits, Endings]:
    """Listings with every kind of rule and limit."""
    rng = np.random.default_rng(seed)
    endings = Endings()
    sets = np.array([0, endings.add([95]), endings.add([49, 99])])

    def ints(low: int, high: int) -> np.ndarray:
        return rng.integers(low, high, n).astype(np.int64)

    def some(values: np.ndarray, share: float) -> np.ndarray:
        return np.where(rng.random(n) < share, values, NONE)

    landed = ints(200, 9000)
    rule = ints(0, 4)
    value = np.choose(rule, [ints(1_200_000, 3_000_000), ints(100, 900), ints(100_000, 300_000), ints(200_000, 700_000)])
    terms = Terms(
        landed,
        ints(0, 3) * 10_000,
        ints(8, 14) * 10_000,
        ints(0, 50),
        some(ints(500, 3000), 0.2),
        ints(0, 30),
        np.full(n, 19_000),
        np.full(n, 20),
        np.where(rng.random(n) < 0.5, 200_000, 0),
    )
    limits = Limits(
        rule,
        value,
        some(ints(5, 25) * 10_000, 0.6),
        some(ints(50, 400), 0.8),
        some(ints(300, 9000), 0.1),
        some(ints(2000, 20_000), 0.3),
        sets[rng.integers(0, 3, n)],
        some(landed * 2, 0.7),
        some(ints(5, 15) * 10_000, 0.7),
    )
    return terms, limits, endings


def closed_form(terms: Terms, limits: Limits) -> np.ndarray:
    """The closed form of the whole question: every condition, the fee with its least and its cap; no roundings, no endings, no old price."""
    fee, kept_of = terms.fee / 1e6, 1e6 / (1e6 + terms.tax)
    taken = (terms.payment + terms.reserve) / 1e6
    cap = np.where(terms.fee_cap == NONE, np.inf, terms.fee_cap)
    base = terms.landed + terms.fee_fixed + terms.payment_fixed
    asked = np.where(
        limits.rule == 0, terms.landed * limits.rule_value / 1e6, np.where(limits.rule == 1, terms.landed + limits.rule_value, 0)
    )
    by_profit = limits.rule > 1
    shares = [
        np.where(limits.rule == 2, limits.rule_value, 0),
        np.where(limits.min_margin == NONE, 0, limits.min_margin),
        np.zeros_like(base),
    ]
    amounts: list[Any] = [
        np.where(limits.rule == 3, terms.landed * limits.rule_value, 0),
        0,
        np.where(limits.min_profit == NONE, 0, limits.min_profit * 1_000_000),
    ]
    for share, amount, there in zip(shares, amounts, (by_profit, limits.min_margin != NONE, limits.min_profit != NONE), strict=True):
        slope = (1 - share / 1e6) * kept_of - taken
        need = base + amount / 1e6
        lowest = np.minimum((need + cap) / slope, np.maximum((need + terms.fee_least) / slope, need / (slope - fee)))
        asked = np.maximum(asked, np.where(there, lowest, 0))
    return np.maximum(asked, np.where(limits.least_price == NONE, 0, limits.least_price))


def bare(terms: Terms, limits: Limits) -> np.ndarray:
    """The least that can be called pricing: one condition, a plain percentage fee, and what is kept at that price."""
    share = np.where(limits.rule == 2, limits.rule_value, 0)
    slope = (1_000_000 - share) * 1_000_000 // (1_000_000 + terms.tax) - terms.fee - terms.payment - terms.reserve
    need = terms.landed + terms.fee_fixed + terms.payment_fixed + np.where(limits.min_profit == NONE, 0, limits.min_profit)
    return proceeds(np.minimum(-(-need * 1_000_000 // np.maximum(slope, 1)), 10**9), terms).profit


def decimal_loop(terms: Terms, limits: Limits, endings: Endings, rows: range) -> list[Decimal]:
    """The same rules as one would write them with Decimal: walk up from the bound until every condition holds."""
    out = []
    for i in rows:
        t = {name: int(getattr(terms, name)[i]) for name in terms.__dataclass_fields__}
        m = {name: int(getattr(limits, name)[i]) for name in limits.__dataclass_fields__}
        ends = endings.listed(m["endings"])
        ppm = Decimal(1_000_000)

        def kept(p: Decimal, t: dict[str, int] = t, ppm: Decimal = ppm) -> tuple[Decimal, Decimal]:
            tax = (p * t["tax"] / (ppm + t["tax"])).quantize(Decimal(1), ROUND_HALF_UP)
            fee = max(Decimal(t["fee_least"]), (p * t["fee"] / ppm).quantize(Decimal(1), ROUND_HALF_UP))
            fee = min(Decimal(t["fee_cap"]), fee) if t["fee_cap"] != NONE else fee
            pay = (p * t["payment"] / ppm).quantize(Decimal(1), ROUND_HALF_UP) + t["payment_fixed"]
            reserve = (p * t["reserve"] / ppm).quantize(Decimal(1), ROUND_HALF_UP)
            return p - tax, p - tax - fee - t["fee_fixed"] - pay - reserve - t["landed"]

        landed, value = Decimal(t["landed"]), Decimal(m["rule_value"])
        floor = {0: landed * value / ppm, 1: landed + value}.get(m["rule"], landed)
        share = max(value if m["rule"] == 2 else Decimal(0), Decimal(max(m["min_margin"], 0)))
        extra = max(value * landed / ppm if m["rule"] == 3 else Decimal(0), Decimal(max(m["min_profit"], 0)))
        slope = (ppm - share) / (ppm + t["tax"]) - Decimal(t["fee"] + t["payment"] + t["reserve"]) / ppm
        start = (landed + t["fee_fixed"] + t["payment_fixed"] + extra - 4) / slope if slope > 0 else floor
        p = max(floor, start, Decimal(m["least_price"]) if m["least_price"] != NONE else Decimal(1)).to_integral_value(ROUND_CEILING)
        while True:
            net, profit = kept(p)
            good = (m["rule"] != 2 or profit * ppm >= value * net) and (m["rule"] != 3 or profit * ppm >= value * landed)
            good = (
                good
                and (m["min_margin"] == NONE or profit * ppm >= m["min_margin"] * net)
                and (m["min_profit"] == NONE or profit >= m["min_profit"])
            )
            if good and (not ends or int(p) % 100 in ends):
                break
            p += 1
            if p > 200_000:
                break
        out.append(p)
    return out


def run(report: Report) -> None:
    n = 100_000
    terms, limits, endings = columns(n)
    solved, whole, ratio = in_turn(lambda: solve(terms, limits, endings), lambda: closed_form(terms, limits))
    _, plain, least = in_turn(lambda: solve(terms, limits, endings), lambda: bare(terms, limits))
    report.add(
        "price: 100,000 listings, all of section 3",
        f"{solved * 1000:.0f} ms, {ratio:.1f} times the closed form of all conditions ({whole * 1000:.0f} ms); "
        f"{least:.1f} times one that knows a single condition ({plain * 1000:.0f} ms)",
        "at most 5 times",
        ratio <= 5,
    )
    part = 2000
    loop = seconds(lambda: decimal_loop(terms, limits, endings, range(part))) * n / part
    report.add(
        "price: against a Decimal loop",
        f"{loop / solved:.0f} times faster (loop {loop:.1f} s for 100,000)",
        "at least 50 times faster",
        loop / solved >= 50,
    )
    million = columns(1_000_000)
    large = seconds(lambda: solve(*million))
    growth = Fraction(int(large * 1e6), int(solved * 1e7))
    report.add("price: a million listings", f"{large:.2f} s, {float(growth):.2f} times linear", "linear", float(growth) < 1.5)
