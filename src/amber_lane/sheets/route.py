"""The routing calculator's sheets (`amber-lane calc route`): waiting orders, lanes, origins and limits in, the plan out."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import date, timedelta
from fractions import Fraction
from typing import TypeVar

from ..core import currency, numbers
from ..core.cost import ParcelTerms
from ..core.route import Cap, LaneChoice, Leg, LineToFill, OrderPlan, OrderToFill
from ..core.routing import Routed, route
from .table import read_sheet

ORDERS = ("order_no", "line_no", "sku", "quantity", "country", "promised_by", "sale_net")
LANES = ("sku", "lane", "supplier", "item", "origin", "unit_cost", "pack_units", "stock", "risk_cost")
ORIGINS = ("supplier", "origin", "country", "handling", "ship_first", "ship_next", "free_ship_over", "arrive_in_days")
LIMITS = ("supplier", "spend_cap")
HEADER = ("order_no", "line_no", "outcome", "lane", "goods", "next_lane", "next_costs_more", "reason")

T = TypeVar("T")
Place = tuple[int, str, str]
"""Supplier, origin, country."""


class BadSheet(ValueError):
    """A row of a sheet that cannot be read; says which."""


@dataclass(frozen=True)
class _Lane:
    """A row of the lanes sheet; supplier and item as numbers, amounts in minor units."""

    name: str
    supplier: int
    origin: str
    place: int
    item: int
    units: Fraction
    cost: int
    stock: int
    risk: int


@dataclass(frozen=True)
class _Line:
    """A row of the orders sheet."""

    order_no: str
    line_no: str
    sku: str
    quantity: int
    country: str
    promised: date | None
    net: int


@dataclass
class RouteNames:
    """Numbers for the names of a sheet."""

    found: dict[object, int] = field(default_factory=dict)

    def __call__(self, name: object) -> int:
        return self.found.setdefault(name, len(self.found))


def _rows(data: bytes, what: str, columns: tuple[str, ...], read: Callable[[dict[str, str]], T]) -> list[T]:
    out = []
    for number, row in enumerate(read_sheet(data, columns).rows, 2):
        try:
            out.append(read(row))
        except ValueError as error:
            raise BadSheet(f"{what}, row {number}: {error}") from error
    return out


def _amount(row: dict[str, str], money: str, name: str, least: int | None = 0) -> int:
    value = currency.parse_money(row[name], money, name)
    if least is not None and value < least:
        raise ValueError(f"{name}: {row[name]} is negative")
    return value


def _count(row: dict[str, str], name: str, least: int = 0) -> int:
    text = row[name]
    if not text.isascii() or not text.isdecimal() or not least <= int(text) < 10**9:
        raise ValueError(f"{name}: {text!r} is not a whole number of {least} or more")
    return int(text)


def _name(row: dict[str, str], name: str) -> str:
    if not row[name]:
        raise ValueError(f"{name}: is empty")
    return row[name]


def route_sheets(  # noqa: PLR0913 - four sheets and their options
    orders: bytes,
    lanes: bytes,
    origins: bytes,
    limits: bytes,
    *,
    money: str,
    today: date,
    min_profit: int,
    cancel_cost: int,
    seconds: float = 60.0,
) -> tuple[list[list[str]], Routed]:
    """Route the orders of a sheet, its amounts in one currency; min_profit and cancel_cost in its minor units.

    Returns rows for HEADER and the plan; BadSheet where a row is wrong.
    """
    supplier, item = RouteNames(), RouteNames()
    parcels = dict(_rows(origins, "origins", ORIGINS, lambda row: _origin(row, money, supplier)))
    stock: dict[int, int] = {}
    rows = _rows(lanes, "lanes", LANES, lambda row: _lane(row, money, supplier, item, stock))
    by_sku: dict[str, list[int]] = {}
    for number, (sku, _) in enumerate(rows):
        by_sku.setdefault(sku, []).append(number)
    caps = dict(_rows(limits, "limits", LIMITS, lambda row: _limit(row, money, supplier)))
    waiting: dict[str, list[_Line]] = {}
    for line in _rows(orders, "orders", ORDERS, lambda row: _line(row, money)):
        waiting.setdefault(line.order_no, []).append(line)
    asked: list[OrderToFill] = []
    for its in waiting.values():
        _one_order(its)
        fillable = tuple(
            LineToFill(
                place, one.quantity, one.net, tuple(_choice(n, rows[n][1], one.country, parcels, today) for n in by_sku.get(one.sku, []))
            )
            for place, one in enumerate(its)
        )
        asked.append(OrderToFill(len(asked), tuple(fillable), its[0].promised, min_profit))
    done = route(asked, caps, cancel_cost, seconds)
    names = [lane.name for _, lane in rows]
    return [row for number, its in enumerate(waiting.values()) for row in _out(its, done.plans[number], names, money)], done


def _one_order(lines: list[_Line]) -> None:
    name = lines[0].order_no
    if len({(one.country, one.promised) for one in lines}) > 1:
        raise BadSheet(f"orders: the lines of order {name} go to more than one country, or by more than one day")
    if len({one.line_no for one in lines}) < len(lines):
        raise BadSheet(f"orders: a line number of order {name} is there twice")


def _origin(row: dict[str, str], money: str, supplier: RouteNames) -> tuple[Place, tuple[ParcelTerms, int]]:
    over = _amount(row, money, "free_ship_over") if row["free_ship_over"] else None
    parcel = ParcelTerms(_amount(row, money, "handling"), _amount(row, money, "ship_first"), _amount(row, money, "ship_next"), over)
    place = (supplier(_name(row, "supplier")), _name(row, "origin"), _name(row, "country"))
    return place, (parcel, _count(row, "arrive_in_days"))


def _lane(row: dict[str, str], money: str, supplier: RouteNames, item: RouteNames, stock: dict[int, int]) -> tuple[str, _Lane]:
    units = numbers.parse_units(row["pack_units"], "pack_units")
    whose, where = supplier(_name(row, "supplier")), _name(row, "origin")
    number = item((whose, where, _name(row, "item")))
    there = _count(row, "stock")
    if stock.setdefault(number, there) != there:
        raise ValueError(f"stock: {row['item']} has another stock on an earlier row")
    risk = _amount(row, money, "risk_cost") if row["risk_cost"] else 0
    return _name(row, "sku"), _Lane(
        _name(row, "lane"), whose, where, item((whose, where)), number, units, _amount(row, money, "unit_cost"), there, risk
    )


def _limit(row: dict[str, str], money: str, supplier: RouteNames) -> tuple[int, Cap]:
    return supplier(_name(row, "supplier")), Cap(_amount(row, money, "spend_cap") if row["spend_cap"] else None)


def _line(row: dict[str, str], money: str) -> _Line:
    text = row["promised_by"]
    try:
        promised = date.fromisoformat(text) if text else None
    except ValueError:
        raise ValueError(f"promised_by: {text!r} is not a date such as 2026-03-26") from None
    quantity, net = _count(row, "quantity", 1), _amount(row, money, "sale_net", None)
    return _Line(_name(row, "order_no"), row["line_no"], row["sku"], quantity, _name(row, "country"), promised, net)


def _choice(number: int, lane: _Lane, country: str, parcels: dict[Place, tuple[ParcelTerms, int]], today: date) -> LaneChoice:
    parcel, days = parcels.get((lane.supplier, lane.origin, country), (None, 0))
    part = (lane.item, lane.units.numerator, lane.units.denominator, lane.cost, lane.stock)
    leg = Leg(lane.supplier, lane.place, (part,), parcel)
    return LaneChoice(number, (leg,), today + timedelta(days=days) if parcel else None, risk=lane.risk)


def _out(lines: list[_Line], plan: OrderPlan, names: list[str], money: str) -> list[list[str]]:
    out = []
    goods = {(one.line, one.lane): one.goods for one in plan.considered}
    for place, line in enumerate(lines):
        if plan.reason is not None:
            out.append([line.order_no, line.line_no, "held", "", "", "", "", plan.reason])
            continue
        lane, other = plan.chosen[place], plan.next_best.get(place)
        row = [line.order_no, line.line_no, "filled", names[lane], currency.plain(goods[place, lane], money)]
        out.append([*row, *((names[other.lane], currency.plain(other.costs_more, money)) if other else ("", "")), ""])
    return out
