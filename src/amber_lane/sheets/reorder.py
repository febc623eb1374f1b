"""The reorder calculator's sheets (`amber-lane calc reorder`): daily sales and terms by SKU in, when to order how many out."""

from __future__ import annotations

from decimal import ROUND_HALF_UP, Decimal
from fractions import Fraction

from ..core import currency, numbers
from ..core.reorder import Stocked, reorder
from ..core.writing import grouped
from .table import read_sheet

REQUIRED = (
    "sku", "demand", "lead_days", "lead_sd", "review_days", "service_pct", "on_hand", "on_the_way", "owed", "carton_units", "min_units",
    "unit_cost", "hold_pct", "order_cost",
)  # fmt: skip
HEADER = ("sku", "mean_daily", "reorder_point", "position", "order_units", "days_of_cover", "reason")
MOST = 10**9


def reorder_sheet(data: bytes, money: str) -> list[list[str]]:
    """One row out for each in; rows that cannot be read say why in the last column. ValueError where nobody knows that currency."""
    currency.minor_digits(money)
    out = []
    for row in read_sheet(data, REQUIRED).rows:
        sku = row.get("sku", "")
        try:
            found = reorder(_read(row, money))
        except ValueError as error:
            out.append([sku, "", "", "", "", "", str(error)])
            continue
        mean = Decimal(found.mean.numerator) / Decimal(found.mean.denominator)
        cover = "" if found.cover is None else str(Decimal(found.cover).scaleb(-1))
        figures = [str(mean.quantize(Decimal("0.0001"), ROUND_HALF_UP)), found.point, found.position, found.order, cover]
        out.append([sku, *(str(one) for one in figures), ""])
    return out


def _read(row: dict[str, str], money: str) -> Stocked:
    if not row.get("sku"):
        raise ValueError("sku is empty")

    def number(name: str, least: int = 0) -> Fraction:
        value = Fraction(numbers.parse_decimal(row.get(name) or "0", name))
        if not least <= value <= MOST:
            raise ValueError(f"{name}: {row[name]!r} must lie between {least} and {grouped(MOST)}")
        return value

    def whole(name: str, least: int = 0) -> int:
        value = number(name, least)
        if value.denominator != 1:
            raise ValueError(f"{name}: {row[name]!r} is not a whole number")
        return int(value)

    def amount(name: str) -> Fraction:
        value = currency.parse_money(row.get(name) or "0", money, name)
        if value < 0:
            raise ValueError(f"{name} is negative")
        return Fraction(value)

    service = number("service_pct")
    if not 0 < service < 100:
        raise ValueError(f"service_pct: {row['service_pct']!r} must be more than 0 and less than 100")
    return Stocked(
        _demand(row.get("demand", "")),
        number("lead_days"),
        number("lead_sd"),
        number("review_days"),
        service / 100,
        whole("on_hand"),
        whole("on_the_way"),
        whole("owed"),
        whole("carton_units", 1) if row.get("carton_units") else 1,
        whole("min_units"),
        amount("unit_cost"),
        number("hold_pct") / 100,
        amount("order_cost"),
    )


def _demand(text: str) -> tuple[Fraction, ...]:
    days = tuple(Fraction(numbers.parse_decimal(one, "demand")) for part in text.split("|") if (one := part.strip()))
    if any(not 0 <= one <= MOST for one in days):
        raise ValueError("demand: a day cannot be negative, or that much")
    return days
