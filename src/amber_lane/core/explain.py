"""Why a price is what it is: a sentence, the waterfall and the limits, from the terms that were kept."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, fields
from typing import Any, NamedTuple

import numpy as np

from . import price
from .currency import show
from .money import Ints
from .numbers import show_percent
from .price import NONE, Endings, Outcome, Rule, SetBy
from .writing import short


@dataclass(frozen=True)
class PriceStep:
    """One bar of the waterfall; amount is what is taken (negative) or what stands (first and last)."""

    name: str
    amount: int
    kind: str


@dataclass(frozen=True)
class Bound:
    """One limit: the lowest (or highest) price it allows; None = not set, or no price meets it."""

    name: str
    price: int | None
    sets: bool
    message: str = ""
    # Whose rule gave the limit's value; '' = nobody's.
    by: str = ""


@dataclass(frozen=True)
class Explained:
    """Everything the bench shows about a price. Money in minor units; margin in ppm of what is left after tax."""

    price: int
    sentence: str
    steps: list[PriceStep]
    bounds: list[Bound]
    set_by: str
    outcome: str
    best: int | None
    profit: int
    margin: int | None
    on_cost: int | None
    # What is expected and not counted, in words; empty where there is nothing.
    apart: str = ""


def _column(terms: Mapping[str, Any], name: str) -> Ints:
    value = terms.get(name)
    return np.array([NONE if value is None else value], dtype=np.int64)


def rebuild(terms: Mapping[str, Any]) -> tuple[price.Terms, price.Limits, Endings]:
    """Kept terms as the solver's own columns of one row."""
    endings = Endings()
    which = endings.add(terms.get("endings") or [])
    parts = price.Terms(*(_column(terms, f.name) for f in fields(price.Terms)))
    limits = price.Limits(
        **{f.name: _column(terms, f.name) for f in fields(price.Limits) if f.name != "endings"}, endings=np.array([which], dtype=np.int64)
    )
    return parts, limits, endings


def explain(terms: Mapping[str, Any], shown: int, currency: str, old: int | None = None) -> Explained:
    """Explain the price `shown` by the terms behind it. The same solver that made the price is asked again."""
    parts, limits, endings = rebuild(terms)
    best = price.solve(parts, limits, endings)
    lows = [int(own[0]) for own in price.lowest(parts, price.without_endings(limits), Endings()).own]
    kept = price.proceeds(np.array([shown], dtype=np.int64), parts)
    net, profit = int(kept.net[0]), int(kept.profit[0])
    margin = None if net <= 0 else (2 * profit * 1_000_000 + net) // (2 * net)
    landed = int(parts.landed[0])
    set_by, outcome = SetBy(int(best.set_by[0])), Outcome(int(best.outcome[0]))
    best_price = None if int(best.price[0]) == NONE else int(best.price[0])
    return Explained(
        shown,
        _sentence(terms, _Solved(lows, best_price, set_by, outcome), shown, currency, _leaves(profit, margin, currency)),
        _steps(terms, kept, currency),
        _bounds(terms, lows, set_by, currency, best_price),
        set_by.name,
        outcome.name,
        best_price,
        profit,
        margin,
        None if landed <= 0 else (2 * profit * 1_000_000 + landed) // (2 * landed),
        _apart(terms, currency),
    )


def _apart(terms: Mapping[str, Any], currency: str) -> str:
    if not terms.get("rebate") or terms.get("rebate_counts"):
        return ""
    return f"A rebate of {show(terms['rebate'], currency)} is expected beside it and not counted."


def _rate(terms: Mapping[str, Any], percent: str, fixed: str, currency: str) -> str:
    text = show_percent(terms[percent], 2) if terms[percent] else ""
    if terms[fixed]:
        text = f"{text} + {show(terms[fixed], currency)}" if text else show(terms[fixed], currency)
    return f" {text}" if text else ""


def _steps(terms: Mapping[str, Any], kept: price.Proceeds, currency: str) -> list[PriceStep]:
    taken = [
        ("Tax in price", kept.tax),
        (f"Store fee{_rate(terms, 'fee', 'fee_fixed', currency)}", kept.fee),
        (f"Payment{_rate(terms, 'payment', 'payment_fixed', currency)}", kept.payment),
        (f"Returns reserve {show_percent(terms['reserve'], 2)}", kept.reserve),
    ]
    steps = [PriceStep("Sells at", int(kept.price[0]), "total")]
    steps += [PriceStep(name, -int(column[0]), "part") for name, column in taken if int(column[0])]
    steps += [
        PriceStep(name, -terms[key], "part")
        for name, key in (("Item", "goods"), ("Shipping", "ship"), ("Handling", "handling"), ("Risk of selling one twice", "risk"))
        if terms.get(key)
    ]
    if terms.get("rebate") and terms.get("rebate_counts"):
        steps.append(PriceStep("Expected rebate", terms["rebate"], "part"))
    return [*steps, PriceStep("Profit", int(kept.profit[0]), "total")]


_ASKS = {
    Rule.multiple: "{} times landed cost",
    Rule.add: "landed cost plus {}",
    Rule.margin: "a margin of {}",
    Rule.ret: "a return of {} on cost",
}


def _asked(terms: Mapping[str, Any], currency: str) -> str:
    rule, value = Rule(terms["rule"]), terms["rule_value"]
    if rule is Rule.add:
        return _ASKS[rule].format(show(value, currency))
    return _ASKS[rule].format(short(value / 1_000_000) if rule is Rule.multiple else show_percent(value))


def _reach(terms: Mapping[str, Any]) -> tuple[int, int]:
    """The highest and the lowest price within one step."""
    high = terms["old"] * (1_000_000 + terms["step"]) // 1_000_000
    return high, -(-terms["old"] * max(1_000_000 - terms["step"], 0) // 1_000_000)


def _nearest(terms: Mapping[str, Any], low: int, high: int) -> list[int]:
    """The allowed endings nearest to a stretch of prices that holds none: below and above it."""
    ends = terms.get("endings") or []
    around = [base * 100 + end for base in range(max(low // 100 - 1, 0), high // 100 + 2) for end in ends]
    under, over = [one for one in around if 0 < one < low], [one for one in around if one > high]
    return [*([max(under)] if under else []), *([min(over)] if over else [])]


def _bounds(terms: Mapping[str, Any], lows: list[int], set_by: SetBy, currency: str, best: int | None) -> list[Bound]:
    def lowest(place: int) -> int | None:
        return lows[place] if 0 < lows[place] <= price.PRICE_MAX else None

    said = terms.get("rule_of")
    by: Mapping[str, str] = said if isinstance(said, dict) else {"rule_value": said or ""}
    asked = "no rule" if terms["rule"] == Rule.unset else f"Lowest for {_asked(terms, currency)}"
    bounds = [Bound(asked, lowest(0), set_by is SetBy.rule, by=by.get("rule_value", ""))]
    if terms.get("min_margin") is not None:
        bounds.append(
            Bound(
                f"Lowest for {show_percent(terms['min_margin'])} margin", lowest(1), set_by is SetBy.min_margin, by=by.get("min_margin", "")
            )
        )
    if terms.get("min_profit") is not None:
        bounds.append(
            Bound(
                f"Lowest for {show(terms['min_profit'], currency)} profit",
                lowest(2),
                set_by is SetBy.min_profit,
                by=by.get("min_profit", ""),
            )
        )
    bounds.append(
        Bound("Least advertised price", lowest(3), set_by is SetBy.least_price, "none" if terms.get("least_price") is None else "")
    )
    none = "none" if terms.get("ceiling") is None else ""
    bounds.append(Bound("Ceiling", terms.get("ceiling"), set_by is SetBy.ceiling, none, by.get("ceiling", "")))
    if terms.get("old") is not None and terms.get("step") is not None:
        high, low = _reach(terms)
        falls = set_by is SetBy.step and best is not None and best < terms["old"]
        name = f"{'Lowest' if falls else 'Highest'} in one step of {show_percent(terms['step'])}"
        bounds.append(Bound(name, low if falls else high, set_by is SetBy.step, by=by.get("step", "")))
    ends = " or ".join(f"{end:02d}" for end in terms.get("endings") or [])
    bounds.append(Bound("Ends in", None, False, ends or "any", by.get("endings", "")))
    if terms.get("reserve"):
        bounds.append(Bound("Reserve for returns", None, False, show_percent(terms["reserve"], 2), by.get("reserve", "")))
    return bounds


class _Solved(NamedTuple):
    """What came out: the lowest price of each condition, the price (None = there is none), what set it, and how it stands."""

    lows: list[int]
    best: int | None
    set_by: SetBy
    outcome: Outcome


def _leaves(profit: int, margin: int | None, currency: str) -> str:
    """'leaves a profit of €3.18, 28.5 % margin'."""
    what = f"makes a loss of {show(-profit, currency)}" if profit < 0 else f"leaves a profit of {show(profit, currency)}"
    return what + ("" if margin is None else f", a margin of {show_percent(margin)} after tax")


def _sentence(terms: Mapping[str, Any], found: _Solved, shown: int, currency: str, leaves: str) -> str:
    lows, best, set_by, outcome = found
    asked = "" if outcome is Outcome.no_rule else _asked(terms, currency)
    at_shown = f"At {show(shown, currency)} it {leaves}."
    if outcome is Outcome.no_rule:
        return f"No price rule applies, so no price is made. {at_shown}"
    if best is None:
        if set_by is SetBy.ceiling:
            return f"No allowed price lies under the ceiling of {show(terms['ceiling'], currency)}. {at_shown}"
        return f"Fees and cost leave no price that meets what you ask. {at_shown}"
    need = max(*lows, 1)
    said = terms.get("rule_of")
    whose = said.get("rule_value", "") if isinstance(said, dict) else str(said or "")
    # A band's rule names its band: where a cost has crossed its edge, that is why the price moved.
    start = f"You ask for {asked}{f' ({whose})' if ' from ' in whose else ''}. Its landed cost is {show(terms['landed'], currency)}."
    if set_by is SetBy.ceiling:
        message = f"{start} That needs {show(need, currency)}, but the ceiling is {show(terms['ceiling'], currency)}"
        message += {Outcome.loss: ", where every sale loses money", Outcome.held: ", which breaks a limit of yours"}.get(outcome, "")
    elif set_by is SetBy.step:
        message = f"{start} That needs {show(need, currency)}; "
        step = f"step of {show_percent(terms['step'])} a day, counted from the day's first price of {show(terms['old'], currency)}"
        high, low = _reach(terms)
        if low <= best <= high and best != terms["old"]:
            message += f"the largest {step}, stops at {show(best, currency)}"
        else:
            near = " and ".join(show(one, currency) for one in _nearest(terms, low, high))
            other = "other " if best == terms["old"] else ""
            message += (
                f"no {other}allowed ending lies within the {step} ({show(low, currency)} to {show(high, currency)}); the nearest are {near}"
            )
        message += {Outcome.loss: ", where every sale loses money", Outcome.held: ", which breaks a limit of yours"}.get(outcome, "")
    else:
        by = {
            SetBy.rule: "The lowest price that gives it",
            SetBy.min_margin: "The least margin asks for more: the lowest price",
            SetBy.min_profit: "The least profit asks for more: the lowest price",
            SetBy.least_price: "The least advertised price asks for more: the lowest price",
        }[set_by]
        message = f"{start} {by} is {show(need, currency)}" + (
            f"; the next allowed ending is {show(best, currency)}" if best != need else ""
        )
    return f"{message}. {at_shown}" if shown != best else f"{message}. It {leaves}."
