"""The lanes sheet: one row for each item of a lane, several rows of one SKU, store and use being a kit."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable
from fractions import Fraction
from typing import Any, NamedTuple

from sqlalchemy import func, select

from ...core.numbers import parse_units
from ...core.states import LANE
from ...core.writing import grouped
from ...data.base import to_ms
from ...data.bulk import bulk_insert, bulk_update, in_chunks
from ...data.lanes import Lane, LanePart
from ...data.setup import Origin, Service, Store, Supplier
from ...data.shelf import Sku
from ...data.source import Item
from ..base.context import Context
from ..base.import_frame import SHOWN, Checked, KnownNames, Row, each, need
from ..mapping import bulk_changes, lanes

ALL, ALONE = ("", "*", "all", "all stores"), " alone"
INSTEAD = "replacement"
_POWER = re.compile(r"^\d([.,]\d+)?[eE]\+?\d+$")
ONE = Fraction(1)


class _LaneRow(NamedTuple):
    """One row read. A plain tuple, since there may be hundreds of thousands."""

    sku: int
    code: str
    store: int | None
    use: int
    item: int
    num: int
    den: int
    supplier: int
    origin: int
    service: str
    cost: int
    instead: bool


# Where replacements stand while places are compared; they are numbered after the others when they are taken.
_LAST = 500


class _Known:
    """What a lanes sheet is checked against, read once."""

    def __init__(self, context: Context) -> None:
        s = context.session
        self.context, self.names = context, KnownNames(context)
        run = s.connection().execute
        self.skus: dict[str, int] = dict(run(select(Sku.code, Sku.id)).tuples().all())
        self.low: dict[str, list[str]] = {}
        rows = run(select(Item.id, Item.supplier_id, Item.number, Item.origin_id, Item.cost)).tuples()
        self.items: dict[tuple[int, str], tuple[int, int | None, int]] = {(row[1], row[2]): (row[0], row[3], row[4]) for row in rows}
        self.stores: dict[str, tuple[int | None, bool]] = {}
        self.suppliers: dict[str, Supplier] = {}
        self.origins = {row.id: row for row in s.scalars(select(Origin))}
        self.offered = set(s.execute(select(Service.origin_id, Service.code)).tuples().all())
        self.services: dict[tuple[int, int | None], str] = {}
        own = select(Lane.sku_id, Lane.store_id).where(Lane.closed_at.is_(None), Lane.store_id.is_not(None))
        self.own: set[tuple[int, int]] = set(s.execute(own).tuples().all())  # type: ignore[arg-type]

    def sku(self, code: str) -> int:
        """A SKU as it is written; in other capitals where that is only one."""
        found = self.skus.get(code)
        if found is not None:
            return found
        if not self.low:
            for one in self.skus:
                self.low.setdefault(one.lower(), []).append(one)
        alike = self.low.get(code.lower(), [])
        if len(alike) == 1:
            return self.skus[alike[0]]
        if alike:
            raise ValueError(f"several SKUs are written like {code!r} but for capitals ({', '.join(sorted(alike)[:3])}); write it exactly")
        if _POWER.match(code):
            raise ValueError(f"sku {code} is written in powers of ten, so its digits are lost; format the column as text and save anew")
        raise ValueError(f"there is no SKU {code!r}")

    def item(self, supplier: Supplier, number: str) -> tuple[int, int, int]:
        found = self.items.get((supplier.id, number))
        if found is None:
            raise ValueError(self._no_item(supplier, number))
        item, origin, cost = found
        if origin is None:
            raise ValueError(f"{supplier.name} does not say where {number} is sent from")
        return item, origin, cost

    def _no_item(self, supplier: Supplier, number: str) -> str:
        if _POWER.match(number):
            return f"item {number} is written in powers of ten, so its digits are lost; format the column as text and save anew"
        if number.isdecimal():
            bare = number.lstrip("0")
            near = next((n for s, n in self.items if s == supplier.id and n.lstrip("0") == bare), None)
            if near:
                return f"{supplier.name} has no item {number!r}, but {near!r}: are its zeros lost? Format the column as text and save anew"
        low = next((n for s, n in self.items if s == supplier.id and n.lower() == number.lower()), None)
        return f"{supplier.name} has no item {number!r}" + (f", but {low!r}" if low else "")

    def store(self, row: Row, sku: int) -> int | None:
        """None = for all stores; a store's number = for it alone, as it says or as stands; a negative one = only named, see `_named`."""
        text = row.get("store", "")
        found = self.stores.get(text)
        if found is None:
            found = self.stores[text] = self._store(text.strip())
        number, alone = found
        if number is None:
            return None
        return number if alone or (self.own and (sku, number) in self.own) else -number

    def _store(self, text: str) -> tuple[int | None, bool]:
        if text.lower() in ALL:
            return None, False
        alone = text.lower().endswith(ALONE)
        return self.names.store({"store": text[: -len(ALONE)] if alone else text}).id, alone

    def supplier(self, row: Row) -> Supplier:
        text = row.get("supplier", "")
        found = self.suppliers.get(text)
        if found is None:
            found = self.suppliers[text] = self.names.supplier(row)
        return found

    def service(self, row: Row, origin: int, store: int | None) -> str:
        code = row.get("service", "").strip()
        if code:
            if (origin, code) not in self.offered:
                raise ValueError(f"there is no service {code!r} from {self.origins[origin].name}")
            return code
        one = store if store is None or store > 0 else None
        if (origin, one) not in self.services:
            self.services[origin, one] = lanes.cheapest_service(self.context, origin, one)
        return self.services[origin, one]

    def check_origin(self, text: str, origin: int) -> None:
        row = self.origins[origin]
        if text.lower() not in (row.code.lower(), row.name.lower()):
            raise ValueError(f"this item is sent from {row.name}, not from {text!r}")


def check_lanes(context: Context, rows: Iterable[Row], progress: Callable[[int], None]) -> Checked:
    """Rows read one by one, then looked at lane by lane against what stands."""
    known, out = _Known(context), Checked()
    groups: dict[tuple[int, int | None, int], list[tuple[_LaneRow, Row]]] = {}

    def read(row: Row) -> None:
        supplier = known.supplier(row)
        code, number = need(row, "sku"), need(row, "item")
        sku = known.sku(code)
        item, origin, cost = known.item(supplier, number)
        given = row.get("units_per_sale")
        units = parse_units(given, "units_per_sale") if given and given != "1" else ONE
        if row.get("origin"):
            known.check_origin(row["origin"].strip(), origin)
        store = known.store(row, sku)
        use = _use(row.get("use", ""))
        service = known.service(row, origin, store)
        one = _LaneRow(sku, code, store, use, item, units.numerator, units.denominator, supplier.id, origin, service, cost, use >= _LAST)
        group = groups.setdefault((sku, store, use), [])
        if group and any(other.item == item for other, _ in group):
            raise ValueError("this SKU, place and item stand in the sheet twice")
        group.append((one, row))

    each(rows, progress, out, read)
    _compare(context, _named(groups, out), out)
    return out


def _named(
    groups: dict[tuple[int, int | None, int], list[tuple[_LaneRow, Row]]], out: Checked
) -> dict[tuple[int, int | None, int], list[tuple[_LaneRow, Row]]]:
    """A row names the store that sells the SKU, and its lane is for all of them; only where the sheet fills one SKU differently
    in two stores is each lane its store's own."""
    found: dict[tuple[int, int | None, int], list[tuple[_LaneRow, Row]]] = {}
    named: dict[tuple[int, int], dict[int, list[tuple[_LaneRow, Row]]]] = {}
    for (sku, store, use), group in groups.items():
        if store is not None and store < 0:
            named.setdefault((sku, use), {})[-store] = group
        else:
            found[sku, store, use] = group
    for (sku, use), by_store in named.items():
        rest = list(by_store.items())
        if len(rest) == 1 or len({frozenset((one.item, one.num, one.den, one.service) for one, _ in group) for _, group in rest}) == 1:
            first = rest.pop(0)[1]
            if (sku, None, use) not in found:
                found[sku, None, use] = first
            else:
                rest.insert(0, (0, first))
            for _, group in rest:
                for _ in group:
                    out.add("same", None, "")
        else:
            for store, group in rest:
                found[sku, store, use] = [(one._replace(store=store), row) for one, row in group]
    return {key: [(one if one.store == key[1] else one._replace(store=key[1]), row) for one, row in group] for key, group in found.items()}


def _compare(context: Context, groups: dict[tuple[int, int | None, int], list[tuple[_LaneRow, Row]]], out: Checked) -> None:
    """What each lane of the sheet would be: new, changed or the same; a spare without the one before it is refused."""
    have, parts = _standing(context)
    uses: dict[tuple[int, int | None], set[int]] = {}
    for sku, store, use in (*have, *groups):
        uses.setdefault((sku, store), set()).add(use)
    for (sku, store, use), group in groups.items():
        there = uses[sku, store]
        gap = next((n for n in range(use) if n not in there), None) if use < _LAST else None
        if gap is not None:
            for _, row in group:
                out.refuse(row, f"spare {use} needs {'a main lane' if gap == 0 else f'spare {gap}'} before it")
            there.discard(use)
            continue
        wanted = {(one.item, one.num, one.den) for one, _ in group}
        lane, service = have.get((sku, store, use), (0, ""))
        first = group[0][0]
        general, general_service = have.get((sku, None, use), (0, ""))
        if store and not lane and general and parts.get(general) == wanted and general_service == first.service:
            # For all stores it is so already; a lane of its own would say the same.
            lane, service = general, general_service
        message = (
            f"{first.code}: {_use_reported(use)}{f' in {_store_name(context, store)}' if store else ''}" if len(out.changes) < SHOWN else ""
        )
        kind = "new" if not lane else "same" if parts.get(lane) == wanted and service == first.service else "changed"
        for place, _ in enumerate(group):
            out.add(kind, (lane, [one for one, _ in group]) if place == 0 else None, message)
    out.good = [one for one in out.good if one]


def _standing(context: Context) -> tuple[dict[tuple[int, int | None, int], tuple[int, str]], dict[int, set[tuple[int, int, int]]]]:
    query = select(Lane.id, Lane.sku_id, Lane.store_id, Lane.priority, Lane.service, Lane.is_substitute).where(Lane.closed_at.is_(None))
    have: dict[tuple[int, int | None, int], tuple[int, str]] = {}
    run = context.session.connection().execute
    for number, sku, store, use, service, instead in run(query).tuples():
        have[sku, store, _LAST if instead else use] = (number, service)
    parts: dict[int, set[tuple[int, int, int]]] = {}
    if have:
        rows = select(LanePart.lane_id, LanePart.item_id, LanePart.units_num, LanePart.units_den)
        for lane, item, num, den in run(rows).tuples():
            parts.setdefault(lane, set()).add((item, num, den))
    return have, parts


def _store_name(context: Context, store: int) -> str:
    return context.get(Store, store, "store").name


def _use(text: str) -> int:
    word = text.strip().lower()
    if word in ("", "main"):
        return 0
    if word == INSTEAD:
        return _LAST
    number = word.removeprefix("spare").strip() or "1"
    if not number.isdecimal() or not 1 <= int(number) <= 99:
        raise ValueError(f"use: {text!r} is not main, spare 1, spare 2, … or {INSTEAD}")
    return int(number)


def _use_reported(use: int) -> str:
    return "main lane" if use == 0 else INSTEAD if use >= _LAST else f"spare {use}"


def take_lanes(context: Context, checked: Checked) -> int:
    """Rows of a lanes sheet, or a portion of them: lanes that change are closed and opened anew at their place, and prices follow."""
    if not checked.good:
        return 0
    skus = {group[0].sku for _, group in checked.good}
    before = bulk_changes.standing(context, skus)
    _close(context, checked)
    numbers = _insert(context, [group for _, group in checked.good])
    _drop_twins(context, skus, numbers)
    n, after = len(checked.good), {"places": bulk_changes.places(context, skus)}
    context.log_part(
        "lane.sheet", "lanes", lambda n: f"{grouped(n)} lane{'s' if n != 1 else ''} brought in by a sheet", after, n, {"lanes": before}
    )
    context.reprice(skus)
    context.reroute()
    return n


def _close(context: Context, checked: Checked) -> None:
    rows = [(to_ms(context.now), lane) for lane, _ in checked.good if lane]
    bulk_update(context.session, Lane, ("closed_at",), rows)


def _last_places(context: Context, groups: list[list[_LaneRow]]) -> dict[tuple[int, int | None], int]:
    """The last place of each SKU's lanes in each store, with those of the sheet; replacements come behind it."""
    last: dict[tuple[int, int | None], int] = {}
    places = (
        select(Lane.sku_id, Lane.store_id, func.max(Lane.priority)).where(Lane.closed_at.is_(None)).group_by(Lane.sku_id, Lane.store_id)
    )
    for chunk in in_chunks({g[0].sku for g in groups}):
        last |= {(sku, store): use for sku, store, use in context.session.execute(places.where(Lane.sku_id.in_(chunk)))}
    for g in groups:
        if not g[0].instead:
            last[g[0].sku, g[0].store] = max(last.get((g[0].sku, g[0].store), -1), g[0].use)
    return last


_LANE_COLUMNS = (
    "id", "version", "sku_id", "sku_code", "store_id", "supplier_id", "origin_id", "service", "services", "priority",
    "state", "reason", "opened_at", "opened_by", "begun", "is_substitute", "item_id", "items",
)  # fmt: skip


def _insert(context: Context, groups: list[list[_LaneRow]]) -> set[int]:
    """The lanes of a sheet with their items; returns their ids."""
    s, at = context.session, to_ms(context.now)
    first = int(s.scalar(select(func.coalesce(func.max(Lane.id), 0))) or 0) + 1
    last = _last_places(context, groups) if any(g[0].instead for g in groups) else {}
    # As the SKU is written, which a sheet may write in other capitals.
    codes: dict[int, str] = {}
    for chunk in in_chunks({g[0].sku for g in groups}):
        codes |= dict(s.execute(select(Sku.id, Sku.code).where(Sku.id.in_(chunk))).tuples().all())
    elsewhere: dict[tuple[int, str, int | None], str] = {}
    lanes_made, parts_made = [], []
    for number, group in enumerate(groups, first):
        one = group[0]
        use = last.get((one.sku, one.store), -1) + 1 if one.instead else one.use
        key = (one.origin, one.service, one.store)
        if key not in elsewhere:
            elsewhere[key] = lanes.ways_elsewhere(context, *key)
        whose = (number, 1, one.sku, codes[one.sku], one.store, one.supplier, one.origin, one.service, elsewhere[key], use)
        how = (LANE.first, "brought in by a sheet", at, context.actor, True, one.instead, one.item, len(group))
        lanes_made.append((*whose, *how))
        for part in group:
            away = (part.origin, part.service) if part.origin != one.origin else (None, "")
            parts_made.append((number, part.item, part.num, part.den, *away, part.cost))
    bulk_insert(s, Lane, _LANE_COLUMNS, lanes_made)
    bulk_insert(s, LanePart, ("lane_id", "item_id", "units_num", "units_den", "origin_id", "service", "cost_then"), parts_made)
    return set(range(first, first + len(groups)))


def _drop_twins(context: Context, skus: set[int], fresh: set[int]) -> None:
    """A lane that stood before and says the same as a new one at another place is closed, and the places are put in order."""
    touched: set[int] = set()
    for chunk in in_chunks(skus):
        rows = context.session.execute(
            select(Lane.id, Lane.sku_id, Lane.store_id, func.group_concat(LanePart.item_id))
            .join(LanePart, LanePart.lane_id == Lane.id)
            .where(Lane.sku_id.in_(chunk), Lane.closed_at.is_(None))
            .group_by(Lane.id)
        ).all()
        if len(rows) == len({row[1] for row in rows}):
            continue
        named: dict[tuple[int, int | None, frozenset[str]], list[int]] = {}
        for lane, sku, store, items in rows:
            named.setdefault((sku, store, frozenset(str(items).split(","))), []).append(lane)
        for (sku, _, _), mine in named.items():
            if len(mine) > 1 and (old := [one for one in mine if one not in fresh]):
                bulk_update(context.session, Lane, ("closed_at",), [(to_ms(context.now), one) for one in old])
                touched.add(sku)
    context.session.expire_all()
    if touched:
        bulk_changes.put_in_order(context, touched, set())


def out_lanes(context: Context) -> Iterable[list[Any]]:
    """All lanes in the sheet's own columns; `all` = for all stores, `… alone` = a lane of that store's own."""
    rows = context.session.execute(
        select(
            Store.name,
            Sku.code,
            Supplier.name,
            Item.number,
            LanePart.units_num,
            LanePart.units_den,
            Origin.code,
            func.coalesce(func.nullif(LanePart.service, ""), Lane.service),
            Lane.priority,
            Lane.is_substitute,
        )
        .select_from(Lane)
        .join(LanePart, LanePart.lane_id == Lane.id)
        .join(Sku, Sku.id == Lane.sku_id)
        .join(Item, Item.id == LanePart.item_id)
        .join(Supplier, Supplier.id == Item.supplier_id)
        .join(Origin, Origin.id == func.coalesce(LanePart.origin_id, Lane.origin_id))
        .outerjoin(Store, Store.id == Lane.store_id)
        .where(Lane.closed_at.is_(None))
        .order_by(Sku.code, Lane.store_id, Lane.priority, LanePart.id)
    )
    for store, sku, supplier, item, num, den, origin, service, use, instead in rows:
        units = f"{num}/{den}" if den > 1 else num
        yield [
            f"{store}{ALONE}" if store else "all",
            sku,
            supplier,
            item,
            units,
            origin,
            service,
            _use_reported(_LAST if instead else use).removesuffix(" lane"),
        ]
