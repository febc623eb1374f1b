"""The price solver against a plain restatement of the rules that tries every price in turn."""

from __future__ import annotations

from fractions import Fraction

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from amber_lane.core.price import NONE, Endings, Limits, Outcome, Rule, SetBy, Terms, solve

PPM = 1_000_000
TERMS = ("landed", "reserve", "fee", "fee_least", "fee_cap", "fee_fixed", "payment", "payment_fixed", "tax")
LIMITS = ("rule", "rule_value", "min_margin", "min_profit", "least_price", "ceiling", "old", "step")


def half_up(value: Fraction) -> int:
    return (value + Fraction(1, 2)).__floor__()


def kept(p: int, t: dict[str, int]) -> tuple[int, int]:
    tax = half_up(Fraction(p * t["tax"], PPM + t["tax"]))
    fee = max(t["fee_least"], half_up(Fraction(p * t["fee"], PPM)))
    if t["fee_cap"] != NONE:
        fee = min(t["fee_cap"], fee)
    payment = half_up(Fraction(p * t["payment"], PPM)) + t["payment_fixed"]
    reserve = half_up(Fraction(p * t["reserve"], PPM))
    return p - tax, p - tax - fee - t["fee_fixed"] - payment - reserve - t["landed"]


def conditions(t: dict[str, int]):
    value = Fraction(t["rule_value"], PPM)
    rule = {
        Rule.multiple: lambda p, net, profit: p >= value * t["landed"],
        Rule.add: lambda p, net, profit: p >= t["landed"] + t["rule_value"],
        Rule.margin: lambda p, net, profit: profit >= value * net,
        Rule.ret: lambda p, net, profit: profit >= value * t["landed"],
    }[Rule(t["rule"])]
    yield SetBy.rule, rule
    if t["min_margin"] != NONE:
        yield SetBy.min_margin, lambda p, net, profit: profit >= Fraction(t["min_margin"], PPM) * net
    if t["min_profit"] != NONE:
        yield SetBy.min_profit, lambda p, net, profit: profit >= t["min_profit"]
    if t["least_price"] != NONE:
        yield SetBy.least_price, lambda p, net, profit: p >= t["least_price"]


def by_trying(t: dict[str, int], ends: tuple[int, ...], most: int):
    """(price, set_by, outcome) by walking up; None when no price up to `most` meets the conditions."""
    allowed = [p for p in range(1, most + 1) if not ends or p % 100 in ends]
    own: dict[SetBy, int] = {}
    price = None
    asked = list(conditions(t))
    for p in allowed:
        net, profit = kept(p, t)
        met = [name for name, test in asked if test(p, net, profit)]
        for name in met:
            own.setdefault(name, p)
        if len(met) == len(asked):
            price = p
            break
    if price is None:
        return None
    set_by = max(own, key=lambda name: (own[name], -name))
    lowered = False
    if t["ceiling"] != NONE and price > t["ceiling"]:
        under = [p for p in allowed if p <= t["ceiling"]]
        if not under:
            return None, SetBy.ceiling, Outcome.no_price
        price, set_by, lowered = under[-1], SetBy.ceiling, True
    elif t["old"] != NONE and t["step"] != NONE:
        high = (Fraction(t["old"]) * (PPM + t["step"]) / PPM).__floor__()
        low = (Fraction(t["old"]) * max(PPM - t["step"], 0) / PPM).__ceil__()
        if price > high:
            under = [p for p in allowed if p <= high]
            if not under:
                return price, SetBy.step, Outcome.held
            price, set_by, lowered = under[-1], SetBy.step, True
        elif price < low:
            above = next(p for p in range(low, low + 200) if not ends or p % 100 in ends)
            if t["ceiling"] == NONE or above <= t["ceiling"]:
                price, set_by = above, SetBy.step
    if not lowered:
        return price, set_by, Outcome.ok
    net, profit = kept(price, t)
    if profit < 0:
        return price, set_by, Outcome.loss
    rest = all(test(price, net, profit) for name, test in asked if name is not SetBy.rule)
    return price, set_by, Outcome.ok if rest else Outcome.held


def by_solver(rows: list[tuple[dict[str, int], tuple[int, ...]]]):
    endings = Endings()
    sets = np.array([endings.add(ends) for _, ends in rows], dtype=np.int64)
    col = {name: np.array([t[name] for t, _ in rows], dtype=np.int64) for name in (*TERMS, *LIMITS)}
    done = solve(Terms(*(col[n] for n in TERMS)), Limits(endings=sets, **{n: col[n] for n in LIMITS}), endings)
    return [
        (None if p == NONE else int(p), SetBy(int(s)), Outcome(int(o)))
        for p, s, o in zip(done.price, done.set_by, done.outcome, strict=True)
    ]


def maybe(strategy):
    return st.one_of(st.just(NONE), strategy)


rows = st.fixed_dictionaries(
    {
        "landed": st.integers(0, 1500),
        "reserve": st.integers(0, 60_000),
        "fee": st.integers(0, 400_000),
        "fee_least": st.integers(0, 300),
        "fee_cap": maybe(st.integers(0, 600)),
        "fee_fixed": st.integers(0, 50),
        "payment": st.integers(0, 80_000),
        "payment_fixed": st.integers(0, 40),
        "tax": st.sampled_from([0, 200_000, 230_000]),
        "rule": st.sampled_from([int(r) for r in Rule if r is not Rule.unset]),
        "rule_value": st.integers(0, 900_000),
        "min_margin": maybe(st.integers(0, 700_000)),
        "min_profit": maybe(st.integers(-100, 900)),
        "least_price": maybe(st.integers(1, 3000)),
        "ceiling": maybe(st.integers(1, 4000)),
        "old": maybe(st.integers(1, 4000)),
        "step": maybe(st.integers(0, 500_000)),
    }
)
ends = st.sampled_from([(), (99,), (49, 99), (0, 50), (95,), (0,)])


@settings(max_examples=150, deadline=None)
@given(st.lists(st.tuples(rows, ends), min_size=1, max_size=4))
def test_the_price_is_what_trying_every_price_finds(batch):
    most = 12_000
    for (terms, endings), found in zip(batch, by_solver(batch), strict=True):
        expected = by_trying(terms, endings, most)
        if expected is not None:
            assert found == expected
        else:
            # Nothing meets the conditions within reach of trying; the solver may know a price beyond it.
            assert found[2] is Outcome.no_price or found[0] > most or found[1] in (SetBy.ceiling, SetBy.step)


def test_fees_that_eat_every_penny_have_no_price():
    base = dict.fromkeys((*TERMS, *LIMITS), 0) | dict.fromkeys(
        ("fee_cap", "min_margin", "min_profit", "least_price", "ceiling", "old", "step"), NONE
    )
    eaten = base | {"landed": 500, "fee": 900_000, "payment": 100_000, "rule": int(Rule.ret)}
    capped = eaten | {"fee_cap": 800}
    flat = base | {"landed": 500, "rule": int(Rule.margin), "rule_value": 999_999}
    found = by_solver([(eaten, ()), (capped, (99,)), (flat, ())])
    assert found[0] == (None, SetBy.nothing, Outcome.no_price)
    # With the fee capped the price is found far above where the fee alone would have eaten it.
    assert found[1] == by_trying(capped, (99,), 20_000)
    assert found[2] == (500_000_000, SetBy.rule, Outcome.ok)


def test_many_rows_are_the_same_as_each_alone():
    """Rows are solved in blocks; where one is cut makes no difference to any price."""
    rng = np.random.default_rng(5)
    n = 16_000 * 2 + 7
    columns = {
        "landed": rng.integers(1, 40_000, n),
        "reserve": rng.integers(0, 30_000, n),
        "fee": rng.integers(0, 200_000, n),
        "fee_least": rng.integers(0, 60, n),
        "fee_cap": np.where(rng.random(n) < 0.5, NONE, rng.integers(60, 900, n)),
        "fee_fixed": rng.integers(0, 50, n),
        "payment": rng.integers(0, 40_000, n),
        "payment_fixed": rng.integers(0, 40, n),
        "tax": rng.choice([0, 50_000, 200_000], n),
        "rule": rng.integers(0, 4, n),
        "rule_value": rng.integers(100_000, 500_000, n),
        "min_margin": np.where(rng.random(n) < 0.5, NONE, 200_000),
        "min_profit": np.where(rng.random(n) < 0.5, NONE, 150),
        "least_price": np.full(n, NONE),
        "ceiling": np.where(rng.random(n) < 0.8, NONE, rng.integers(500, 60_000, n)),
        "old": rng.integers(100, 90_000, n),
        "step": np.where(rng.random(n) < 0.5, NONE, 200_000),
    }
    kinds = Endings()
    sets = np.array([kinds.add(ends) for ends in ((), (99,), (49, 95))], dtype=np.int64)[rng.integers(0, 3, n)]

    def solved(rows: np.ndarray):
        terms = Terms(*(columns[name][rows].astype(np.int64) for name in TERMS))
        limits = Limits(endings=sets[rows], **{name: columns[name][rows].astype(np.int64) for name in LIMITS})
        found = solve(terms, limits, kinds)
        return np.stack([found.price, found.set_by, found.outcome], axis=1)

    whole = solved(np.arange(n))
    for rows in (np.arange(15_990, 16_010), np.arange(31_990, n), rng.permutation(n)[:500], rng.permutation(n)):
        assert np.array_equal(solved(rows), whole[rows])
    assert len(solved(np.zeros(0, dtype=np.int64))) == 0


def first_by_columns(t: dict[str, int], most: int) -> int:
    """The first price of all up to `most` that meets every condition, with whole columns of prices at once."""
    p = np.arange(1, most + 1, dtype=np.int64)

    def up(value: np.ndarray, of: int) -> np.ndarray:
        return (2 * value + of) // (2 * of)

    net = p - up(p * t["tax"], PPM + t["tax"])
    fee = np.maximum(t["fee_least"], up(p * t["fee"], PPM))
    fee = fee if t["fee_cap"] == NONE else np.minimum(fee, t["fee_cap"])
    taken = fee + t["fee_fixed"] + up(p * t["payment"], PPM) + t["payment_fixed"] + up(p * t["reserve"], PPM) + t["landed"]
    profit = net - taken
    met = profit * PPM >= net * t["rule_value"]
    if t["min_profit"] != NONE:
        met &= profit >= t["min_profit"]
    return int(p[met.argmax()]) if met.any() else 0


def test_where_fees_leave_next_to_nothing_of_a_penny_the_first_price_is_found_all_the_same() -> None:
    """The line of profit is so flat that rounding goes up and down along it for very many prices."""
    base = dict.fromkeys((*TERMS, *LIMITS), 0) | dict.fromkeys(
        ("fee_cap", "min_margin", "min_profit", "least_price", "ceiling", "old", "step"), NONE
    )
    cases = [
        base | {"landed": landed, "fee": fee, "payment": payment, "payment_fixed": 20, "rule": int(Rule.margin), "rule_value": 700_000}
        for landed in (1, 3, 12)
        for fee, payment in ((299_980, 0), (270_000, 29_985), (299_990, 0))
    ]
    cases.append(
        base | {"landed": 4, "fee": 279_000, "payment": 20_970, "rule": int(Rule.margin), "rule_value": 700_000, "min_profit": 900}
    )
    for terms, (price, _, outcome) in zip(cases, by_solver([(one, ()) for one in cases]), strict=True):
        assert outcome is Outcome.ok and price == first_by_columns(terms, 6_000_000)
