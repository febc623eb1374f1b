"""The lanes sheet."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass
from fractions import Fraction

from sqlalchemy import select

from ..core.money import parse_units
from ..data.base import to_ms
from ..data.lanes import Lane, LanePart
from ..data.shelf import Sku
from ..data.source import Item
from . import lanes
from .desk import Desk, bulk_insert, in_chunks
from .planning import replan
from .respond import respond
from .sheets_frame import Checked, Names, Row, each, need

# Up to so many SKUs are looked at in the very transaction that takes the rows.
FEW = 2000


@dataclass(frozen=True)
class _LaneRow:
    sku: int
    code: str
    use: int
    item: int
    units: Fraction
    supplier: int
    origin: int
    service: str


def check_lanes(desk: Desk, rows: Iterable[Row], progress: Callable[[int], None]) -> Checked:
    names, out = Names(desk), Checked()
    skus = dict(desk.s.execute(select(Sku.code, Sku.id)).tuples().all())
    items = {(s, n): (i, o) for i, s, n, o in desk.s.execute(select(Item.id, Item.supplier_id, Item.number, Item.origin_id))}
    services: dict[int, str] = {}
    have = {
        (sku, use): (number, lane_service)
        for number, sku, use, lane_service in desk.s.execute(
            select(Lane.id, Lane.sku_id, Lane.use, Lane.service).where(Lane.until.is_(None), Lane.store_id.is_(None))
        )
    }
    parts: dict[int, set[tuple[int, int, int]]] = {}
    for lane, item, num, den in desk.s.execute(select(LanePart.lane_id, LanePart.item_id, LanePart.units_num, LanePart.units_den)):
        parts.setdefault(lane, set()).add((item, num, den))
    groups: dict[tuple[int, int], list[tuple[_LaneRow, Row]]] = {}

    def read(row: Row) -> None:
        names.store(row)
        supplier = names.supplier(row)
        code, number = need(row, "sku"), need(row, "item")
        if code not in skus:
            raise ValueError(f"there is no SKU {code!r}")
        if (supplier.id, number) not in items:
            raise ValueError(f"{supplier.name} has no item {number!r}")
        item, origin = items[supplier.id, number]
        if origin is None:
            raise ValueError(f"{supplier.name} does not say where {number} is sent from")
        units = parse_units(row["units_per_sale"], "units_per_sale") if row.get("units_per_sale") else Fraction(1)
        if origin not in services:
            services[origin] = lanes.cheapest_service(desk, origin, None)
        service = row.get("service") or services[origin]
        one = _LaneRow(skus[code], code, _use(row.get("use", "")), item, units, supplier.id, origin, service)
        group = groups.setdefault((one.sku, one.use), [])
        if any(other.item == item for other, _ in group):
            raise ValueError("this SKU, place and item stand in the sheet twice")
        if group and (group[0][0].supplier, group[0][0].origin) != (one.supplier, one.origin):
            raise ValueError("the items of one lane must be sent by one supplier from one place")
        group.append((one, row))

    each(rows, progress, out, read)
    for key, group in sorted(groups.items()):
        wanted = {(one.item, one.units.numerator, one.units.denominator) for one, _ in group}
        lane, service = have.get(key, (0, ""))
        told = f"{group[0][0].code}: {'main lane' if key[1] == 0 else f'spare {key[1]}'}"
        kind = "new" if not lane else "same" if parts.get(lane) == wanted and service == group[0][0].service else "changed"
        for place, (_, _row) in enumerate(group):
            out.add(kind, (lane, [one for one, _ in group]) if place == 0 else None, told)
    out.good = [one for one in out.good if one]
    return out


def _use(text: str) -> int:
    word = text.strip().lower()
    if word in ("", "main"):
        return 0
    number = word.removeprefix("spare").strip() or "1"
    if not number.isdigit() or not 1 <= int(number) <= 99:
        raise ValueError(f"use: {text!r} is not main, spare 1, spare 2, …")
    return int(number)


def take_lanes(desk: Desk, checked: Checked) -> int:
    at, s = to_ms(desk.now), desk.s
    closed = [lane for lane, _ in checked.good if lane]
    for chunk in in_chunks(closed):
        for row in s.scalars(select(Lane).where(Lane.id.in_(chunk))):
            row.until = desk.now
    s.flush()
    used = {(sku, use) for sku, use in s.execute(select(Lane.sku_id, Lane.use).where(Lane.until.is_(None), Lane.store_id.is_(None)))}
    fresh = [group for _, group in checked.good if (group[0].sku, group[0].use) not in used]
    bulk_insert(
        s,
        Lane,
        ("version", "sku_id", "supplier_id", "origin_id", "service", "use", "state", "why", "opened_at", "opened_by"),
        [(1, g[0].sku, g[0].supplier, g[0].origin, g[0].service, g[0].use, "new", "brought in by a sheet", at, desk.who) for g in fresh],
    )
    numbers = {
        (sku, use): number
        for number, sku, use in s.execute(select(Lane.id, Lane.sku_id, Lane.use).where(Lane.until.is_(None), Lane.store_id.is_(None)))
    }
    bulk_insert(
        s,
        LanePart,
        ("lane_id", "item_id", "units_num", "units_den"),
        [(numbers[one.sku, one.use], one.item, one.units.numerator, one.units.denominator) for g in fresh for one in g],
    )
    desk.log("lane.sheet", "lanes", f"{len(fresh)} lanes brought in by a sheet", count=len(fresh))
    checked.follow = {group[0].sku for group in fresh}
    if len(checked.follow) <= FEW:
        follow_lanes(desk, checked.follow)
        checked.follow = set()
    return len(fresh)


def follow_lanes(desk: Desk, skus: set[int]) -> None:
    """What new lanes mean: prices, quantities, and orders that waited for them."""
    respond(desk, skus)
    replan(desk)
