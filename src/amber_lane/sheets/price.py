"""The price calculator's sheet (`amber-lane calc price`): a price list in, prices with their reasons out."""

from __future__ import annotations

from collections.abc import Callable
from decimal import Decimal
from fractions import Fraction

import numpy as np

from ..core import cost, currency, numbers, price
from ..core.price import NONE
from .table import read_sheet

REQUIRED = ("sku", "unit_cost", "rule", "rule_value")
OPTIONAL = (
    "pack_units",
    "supplier_tax_pct",
    "ship",
    "handling",
    "reserve_pct",
    "store_fee_pct",
    "store_fee_min",
    "store_fee_cap",
    "store_fee_fixed",
    "payment_pct",
    "payment_fixed",
    "tax_in_price_pct",
    "min_margin_pct",
    "min_profit",
    "least_price",
    "ceiling_price",
    "endings",
    "old_price",
    "max_step_pct",
)
HEADER = ("sku", "landed_cost", "price", "profit", "margin_pct", "set_by", "outcome", "reason")

# Column of the sheet -> how it is read, and what an empty cell means.
_AMOUNTS = {
    "ship": 0,
    "handling": 0,
    "store_fee_min": 0,
    "store_fee_cap": NONE,
    "store_fee_fixed": 0,
    "payment_fixed": 0,
    "min_profit": NONE,
    "least_price": NONE,
    "ceiling_price": NONE,
    "old_price": NONE,
}
_PERCENTS = {
    "supplier_tax_pct": 0,
    "reserve_pct": 0,
    "store_fee_pct": 0,
    "payment_pct": 0,
    "tax_in_price_pct": 0,
    "min_margin_pct": NONE,
    "max_step_pct": NONE,
}
_MAY_BE_NEGATIVE = frozenset({"min_profit"})


def _read(row: dict[str, str], name: str, parse: Callable[[str, str], int], empty: int) -> int:
    text = row.get(name, "")
    if not text:
        return empty
    value = parse(text, name)
    if value < 0 and name not in _MAY_BE_NEGATIVE:
        raise ValueError(f"{name}: {text} is negative")
    return value


def _row_values(row: dict[str, str], endings: price.Endings, money: str) -> dict[str, int]:
    if not row.get("sku"):
        raise ValueError("sku: is empty")

    def amount(text: str, what: str) -> int:
        return currency.parse_money(text, money, what)

    values = {name: _read(row, name, amount, empty) for name, empty in _AMOUNTS.items()}
    values |= {name: _read(row, name, numbers.parse_percent, empty) for name, empty in _PERCENTS.items()}
    values["unit_cost"] = _read(row, "unit_cost", amount, -1)
    if values["unit_cost"] < 0:
        raise ValueError("unit_cost: is empty")
    units = numbers.parse_units(row["pack_units"], "pack_units") if row.get("pack_units") else Fraction(1)
    values["num"], values["den"] = units.numerator, units.denominator
    rule = price.Rule.named(row.get("rule", ""))
    values["rule"] = int(rule)
    parsers = {price.Rule.multiple: numbers.parse_times, price.Rule.add: amount}
    values["rule_value"] = _read(row, "rule_value", parsers.get(rule, numbers.parse_percent), NONE)
    if values["rule_value"] == NONE:
        raise ValueError("rule_value: is empty")
    ends = [part.strip() for part in row.get("endings", "").split("|") if part.strip()]
    if any(not part.isdecimal() or len(part) > 2 for part in ends):
        raise ValueError(f"endings: {row['endings']!r} is not minor parts such as 49|99")
    values["endings"] = endings.add([int(part) for part in ends])
    if values["old_price"] == 0:
        values["old_price"] = NONE
    return values


def price_sheet(data: bytes, money: str) -> list[list[str]]:
    """Price every row of a sheet (bytes, its amounts in one currency) by the core; rows that cannot be read say why.

    NotASheet if it is none, ValueError where nobody knows that currency.
    """
    currency.minor_digits(money)
    endings = price.Endings()
    skus: list[str] = []
    good: list[int] = []
    columns: dict[str, list[int]] = {}
    reasons: dict[int, str] = {}
    for number, row in enumerate(read_sheet(data, REQUIRED, OPTIONAL).rows):
        skus.append(row.get("sku", ""))
        try:
            values = _row_values(row, endings, money)
            if values["unit_cost"] * values["num"] // values["den"] > currency.AMOUNT_MAX // 10:
                raise ValueError("unit_cost: is too large")
        except ValueError as error:
            reasons[number] = str(error)
            continue
        good.append(number)
        for name, value in values.items():
            columns.setdefault(name, []).append(value)
    out = [[sku, "", "", "", "", "", "bad_row", reasons.get(i, "")] for i, sku in enumerate(skus)]
    if good:
        for number, line in zip(good, _solve(columns, endings, money), strict=True):
            out[number][1:] = line
    return out


def _solve(columns: dict[str, list[int]], endings: price.Endings, money: str) -> list[list[str]]:
    col = {name: np.array(values, dtype=np.int64) for name, values in columns.items()}
    landed = cost.landed_cost(col["unit_cost"], col["num"], col["den"], col["supplier_tax_pct"], col["ship"], col["handling"])
    terms = price.Terms(
        landed,
        col["reserve_pct"],
        col["store_fee_pct"],
        col["store_fee_min"],
        col["store_fee_cap"],
        col["store_fee_fixed"],
        col["payment_pct"],
        col["payment_fixed"],
        col["tax_in_price_pct"],
    )
    limits = price.Limits(
        col["rule"],
        col["rule_value"],
        col["min_margin_pct"],
        col["min_profit"],
        col["least_price"],
        col["ceiling_price"],
        col["endings"],
        col["old_price"],
        col["max_step_pct"],
    )
    done = price.solve(terms, limits, endings)
    lines = []
    for i in range(len(landed)):
        head = [currency.plain(int(landed[i]), money)]
        set_by = price.SetBy(int(done.set_by[i]))
        tail = ["" if set_by is price.SetBy.nothing else set_by.name, price.Outcome(int(done.outcome[i])).name, ""]
        if done.price[i] == NONE:
            lines.append([*head, "", "", "", *tail])
            continue
        margin = price.margin_hundredths(int(done.kept.profit[i]), int(done.kept.net[i]))
        lines.append(
            [
                *head,
                currency.plain(int(done.price[i]), money),
                currency.plain(int(done.kept.profit[i]), money),
                "" if margin is None else str(Decimal(margin).scaleb(-2)),
                *tail,
            ]
        )
    return lines
