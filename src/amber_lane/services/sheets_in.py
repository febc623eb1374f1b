"""Sheets brought in: every row checked first, the good taken in one step, the bad handed back with their reason."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field
from datetime import UTC, date, datetime
from fractions import Fraction
from typing import Any

import numpy as np
from sqlalchemy import select

from ..connectors.protocols import (
    Address,
    CatalogueItem,
    StoreListing,
    StoreOrder,
    StoreOrderLine,
)
from ..connectors.wire import clip
from ..core.ids import check_country, check_gtin
from ..core.money import parse_money, parse_units, plain
from ..data.base import to_ms
from ..data.lanes import Lane, LanePart
from ..data.setup import Origin, Store, Supplier
from ..data.shelf import Listing, Sku
from ..data.source import Item
from ..sheets.table import unsafe
from . import lanes, orders, shelf, source, transit, watch
from .desk import Desk, DeskError, Invalid, bulk_insert, in_chunks
from .respond import respond

Row = dict[str, str]


@dataclass
class Checked:
    """What a sheet would do: counts by kind of change, the changes, the rows that cannot be taken."""

    counts: dict[str, int] = field(default_factory=lambda: {"new": 0, "changed": 0, "same": 0, "bad": 0})
    changes: list[dict[str, Any]] = field(default_factory=list)
    good: list[Any] = field(default_factory=list)
    bad: list[tuple[Row, str]] = field(default_factory=list)

    def add(self, kind: str, good: Any, told: str) -> None:
        self.counts[kind] += 1
        if kind != "same":
            self.good.append(good)
            if len(self.changes) < 200:
                self.changes.append({"kind": kind, "told": told})

    def refuse(self, row: Row, why: str) -> None:
        self.counts["bad"] += 1
        self.bad.append((row, why))


@dataclass(frozen=True)
class Kind:
    """One sheet: its columns, an example for its template, how it is checked and taken."""

    name: str
    required: tuple[str, ...]
    optional: tuple[str, ...]
    example: tuple[str, ...]
    check: Callable[[Desk, Iterable[Row], Callable[[int], None]], Checked]
    take: Callable[[Desk, Checked], int]


class _Names:
    """Stores and suppliers by code or name, whatever the capitals."""

    def __init__(self, desk: Desk) -> None:
        self.stores = _by_name(desk.s.scalars(select(Store)))
        self.suppliers = _by_name(desk.s.scalars(select(Supplier)))

    def store(self, row: Row) -> Store:
        found: Store = self._find(self.stores, row.get("store", ""), "store")
        return found

    def supplier(self, row: Row) -> Supplier:
        found: Supplier = self._find(self.suppliers, row.get("supplier", ""), "supplier")
        return found

    def _find(self, names: dict[str, Any], text: str, what: str) -> Any:
        if not text:
            raise ValueError(f"{what} is empty")
        try:
            return names[text.strip().lower()]
        except KeyError:
            raise ValueError(f"there is no {what} {text!r}; use one of {', '.join(sorted({n.name for n in names.values()})) or 'none yet'}") from None


def _by_name(rows: Iterable[Any]) -> dict[str, Any]:
    return {name: row for row in rows for name in (row.code.lower(), row.name.lower())}


def _need(row: Row, name: str) -> str:
    value = unsafe(row.get(name, "").strip())
    if not value:
        raise ValueError(f"{name} is empty")
    if len(value) > 500:
        raise ValueError(f"{name} is longer than 500 letters")
    return value


def _whole(row: Row, name: str, least: int, most: int) -> int:
    text = _need(row, name)
    if not text.lstrip("-").isdigit() or not least <= int(text) <= most:
        raise ValueError(f"{name}: {text!r} is not a whole number from {least} to {most:,}")
    return int(text)


def _each(rows: Iterable[Row], progress: Callable[[int], None], out: Checked, read: Callable[[Row], None]) -> None:
    for n, row in enumerate(rows, 1):
        try:
            read(row)
        except (ValueError, DeskError) as error:
            out.refuse(row, error.told if isinstance(error, DeskError) else str(error))
        if n % 2000 == 0:
            progress(n)


# Lanes -----------------------------------------------------------------------------------------------------------


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


def _check_lanes(desk: Desk, rows: Iterable[Row], progress: Callable[[int], None]) -> Checked:
    names, out = _Names(desk), Checked()
    skus = dict(desk.s.execute(select(Sku.code, Sku.id)).tuples().all())
    items = {(s, n): (i, o) for i, s, n, o in desk.s.execute(select(Item.id, Item.supplier_id, Item.number, Item.origin_id))}
    services: dict[int, str] = {}
    have = {(sku, use): (number, lane_service) for number, sku, use, lane_service in
            desk.s.execute(select(Lane.id, Lane.sku_id, Lane.use, Lane.service).where(Lane.until.is_(None), Lane.store_id.is_(None)))}
    parts: dict[int, set[tuple[int, int, int]]] = {}
    for lane, item, num, den in desk.s.execute(select(LanePart.lane_id, LanePart.item_id, LanePart.units_num, LanePart.units_den)):
        parts.setdefault(lane, set()).add((item, num, den))
    groups: dict[tuple[int, int], list[tuple[_LaneRow, Row]]] = {}

    def read(row: Row) -> None:
        names.store(row)
        supplier = names.supplier(row)
        code, number = _need(row, "sku"), _need(row, "item")
        if code not in skus:
            raise ValueError(f"there is no SKU {code!r}")
        if (supplier.id, number) not in items:
            raise ValueError(f"{supplier.name} has no item {number!r}")
        item, origin = items[supplier.id, number]
        if origin is None:
            raise ValueError(f"{supplier.name} does not say where {number} is sent from")
        units = parse_units(row["units_per_sale"], "units_per_sale") if row.get("units_per_sale") else Fraction(1)
        service = row.get("service") or services.setdefault(origin, lanes.cheapest_service(desk, origin, None))
        one = _LaneRow(skus[code], code, _use(row.get("use", "")), item, units, supplier.id, origin, service)
        group = groups.setdefault((one.sku, one.use), [])
        if any(other.item == item for other, _ in group):
            raise ValueError("this SKU, place and item stand in the sheet twice")
        if group and (group[0][0].supplier, group[0][0].origin) != (one.supplier, one.origin):
            raise ValueError("the items of one lane must be sent by one supplier from one place")
        group.append((one, row))

    _each(rows, progress, out, read)
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


def _take_lanes(desk: Desk, checked: Checked) -> int:
    at, s = to_ms(desk.now), desk.s
    closed = [lane for lane, _ in checked.good if lane]
    for chunk in in_chunks(closed):
        for row in s.scalars(select(Lane).where(Lane.id.in_(chunk))):
            row.until = desk.now
    s.flush()
    used = {(sku, use) for sku, use in s.execute(select(Lane.sku_id, Lane.use).where(Lane.until.is_(None), Lane.store_id.is_(None)))}
    fresh = [group for _, group in checked.good if (group[0].sku, group[0].use) not in used]
    bulk_insert(s, Lane, ("version", "sku_id", "supplier_id", "origin_id", "service", "use", "state", "why", "opened_at", "opened_by"), [
        (1, g[0].sku, g[0].supplier, g[0].origin, g[0].service, g[0].use, "new", "brought in by a sheet", at, desk.who) for g in fresh])
    numbers = {(sku, use): number for number, sku, use in
               s.execute(select(Lane.id, Lane.sku_id, Lane.use).where(Lane.until.is_(None), Lane.store_id.is_(None)))}
    bulk_insert(s, LanePart, ("lane_id", "item_id", "units_num", "units_den"), [
        (numbers[one.sku, one.use], one.item, one.units.numerator, one.units.denominator) for g in fresh for one in g])
    act = desk.log("lane.sheet", "lanes", f"{len(fresh)} lanes brought in by a sheet", count=len(fresh))
    respond(desk, {group[0].sku for group in fresh}, act=act.id)
    orders.replan(desk)
    return len(fresh)


# Orders ----------------------------------------------------------------------------------------------------------


def _check_orders(desk: Desk, rows: Iterable[Row], progress: Callable[[int], None]) -> Checked:
    names, out = _Names(desk), Checked()
    prices = {(store, code): price for store, code, price in desk.s.execute(
        select(Listing.store_id, Sku.code, Listing.wanted_price).join(Sku, Sku.id == Listing.sku_id))}
    known = set(desk.s.execute(select(orders.Order.store_id, orders.Order.number)).tuples())
    groups: dict[tuple[int, str], list[tuple[Row, StoreOrderLine]]] = {}

    def read(row: Row) -> None:
        store, number = names.store(row), _need(row, "order_no")
        currency = row.get("currency") or store.currency
        if currency != store.currency:
            raise ValueError(f"currency: {currency} is not the store's, {store.currency}")
        check_country(_need(row, "country"))
        for name in ("name", "address_1", "city", "postcode"):
            _need(row, name)
        sku = _need(row, "sku")
        unit = parse_money(row["unit_price"], currency, "unit_price") if row.get("unit_price") else prices.get((store.id, sku))
        if unit is None:
            raise ValueError(f"unit_price is empty, and {store.name} has no listing of {sku}")
        if unit < 0:
            raise ValueError("unit_price is negative")
        for name in ("ordered_at", "promised_by"):
            _time(row.get(name, ""), name)
        group = groups.setdefault((store.id, number), [])
        group.append((row, StoreOrderLine(len(group) + 1, sku, _whole(row, "quantity", 1, 10_000), unit)))

    _each(rows, progress, out, read)
    stores = {store.id: store for store in names.stores.values()}
    for (store_id, number), group in groups.items():
        first = group[0][0]
        kind = "same" if (store_id, number) in known else "new"
        promised = _time(first.get("promised_by", ""), "promised_by")
        buyer = Address(first["name"], first["address_1"], first["city"], first["postcode"], check_country(first["country"]),
                        first.get("address_2", ""), first.get("region", ""), first.get("phone", ""), first.get("email", ""))
        order = StoreOrder(number, _time(first.get("ordered_at", ""), "ordered_at") or desk.now, stores[store_id].currency, buyer,
                           [line for _, line in group], promised.date() if promised else None, False, first.get("note", ""))
        out.add(kind, (store_id, order), f"order {number}: {buyer.name}, {len(group)} line{'s' if len(group) > 1 else ''}")
    return out


def _time(text: str, name: str) -> datetime | None:
    if not text:
        return None
    try:
        value = datetime.fromisoformat(text) if len(text) > 10 else datetime.combine(date.fromisoformat(text), datetime.min.time(), UTC)
    except ValueError:
        raise ValueError(f"{name}: {text!r} is not a date such as 2026-03-12") from None
    return value if value.tzinfo else value.replace(tzinfo=UTC)


def _take_orders(desk: Desk, checked: Checked) -> int:
    fresh = []
    stores = {row.id: row for row in desk.s.scalars(select(Store))}
    for store_id, order in checked.good:
        taken = orders.take_in(desk, stores[store_id], order, "sheet")
        if taken is not None:
            fresh.append(taken)
    desk.log("order.sheet", "orders", f"{len(fresh)} orders brought in by a sheet", count=len(fresh))
    orders.after_sales(desk, fresh)
    return len(fresh)


# Tracking --------------------------------------------------------------------------------------------------------


def _check_tracking(desk: Desk, rows: Iterable[Row], progress: Callable[[int], None]) -> Checked:
    out = Checked()
    states = dict(desk.s.execute(select(orders.PurchaseOrder.reference, orders.PurchaseOrder.state)).tuples().all())

    def read(row: Row) -> None:
        reference, number = _need(row, "purchase_order"), _need(row, "tracking_number")
        if reference not in states:
            raise ValueError(f"there is no purchase order {reference!r}")
        if transit.find_carrier(desk, _need(row, "carrier")) is None:
            raise ValueError(f"the carrier {row['carrier']!r} is not joined")
        transit.check_s10(number)
        out.add("same" if states[reference] == "shipped" else "new", (reference, number, row["carrier"]), f"{reference}: {number}")

    _each(rows, progress, out, read)
    return out


def _take_tracking(desk: Desk, checked: Checked) -> int:
    for reference, number, carrier in checked.good:
        transit.enter_tracking(desk, reference, number, carrier)
    return len(checked.good)


# Listings and supplier items -------------------------------------------------------------------------------------


def _check_listings(desk: Desk, rows: Iterable[Row], progress: Callable[[int], None]) -> Checked:
    names, out = _Names(desk), Checked()
    known = {(store, code): (price, quantity, state) for store, code, price, quantity, state in desk.s.execute(
        select(Listing.store_id, Sku.code, Listing.shown_price, Listing.shown_quantity, Listing.shown_state).join(Sku, Sku.id == Listing.sku_id))}

    def read(row: Row) -> None:
        store, sku = names.store(row), _need(row, "sku")
        price = parse_money(_need(row, "price"), store.currency, "price")
        if not 1 <= price <= 100_000_000:
            raise ValueError(f"price: {row['price']} must lie between 0.01 and 1,000,000")
        state = row.get("state") or "live"
        if state not in ("live", "paused", "ended"):
            raise ValueError(f"state: {state!r} is not live, paused or ended")
        gtin = check_gtin(row["gtin"]) if row.get("gtin") else ""
        weight = _whole(row, "weight_g", 0, 10_000_000) if row.get("weight_g") else 0
        one = StoreListing(sku, clip(_title(row)), price, store.currency, _whole(row, "quantity", 0, 1_000_000), state, gtin,
                           row.get("mpn", ""), row.get("brand", ""), row.get("category", ""), row.get("options", ""), weight)
        was = known.get((store.id, sku))
        out.add("new" if was is None else "same" if was == (price, one.quantity, state) else "changed", (store.id, one), f"{sku}: {one.title}")

    _each(rows, progress, out, read)
    return out


def _title(row: Row) -> str:
    title = unsafe(row.get("title", "").strip())
    if not title:
        raise ValueError("title is empty")
    return title


def _take_listings(desk: Desk, checked: Checked) -> int:
    for store in desk.s.scalars(select(Store)).all():
        shelf.bring_in(desk, store, [one for number, one in checked.good if number == store.id])
    desk.log("listing.sheet", "listings", f"{len(checked.good)} listings brought in by a sheet", count=len(checked.good))
    return len(checked.good)


def _check_items(desk: Desk, rows: Iterable[Row], progress: Callable[[int], None]) -> Checked:
    names, out = _Names(desk), Checked()
    known = {(s, n): (c, q) for s, n, c, q in desk.s.execute(select(Item.supplier_id, Item.number, Item.cost, Item.stock))}
    origins: dict[int, list[str]] = {}
    for supplier_id, code in desk.s.execute(select(Origin.supplier_id, Origin.code)):
        origins.setdefault(supplier_id, []).append(code)

    def read(row: Row) -> None:
        supplier, number = names.supplier(row), _need(row, "item")
        currency = _need(row, "currency").upper()
        if currency != supplier.currency:
            raise ValueError(f"currency: {currency} is not {supplier.name}'s, {supplier.currency}")
        cost = parse_money(_need(row, "cost"), currency, "cost")
        if not 0 < cost <= 100_000_000:
            raise ValueError(f"cost: {row['cost']} must lie between 0.01 and 1,000,000")
        places = origins.get(supplier.id, [])
        origin = row.get("origin") or (places[0] if places else "")
        if origin not in places:
            raise ValueError(f"origin: {origin!r} is not one of {', '.join(places) or 'none yet'}")
        pack = _whole(row, "pack_size", 1, 100_000) if row.get("pack_size") else 1
        gtin = check_gtin(row["gtin"]) if row.get("gtin") else ""
        one = CatalogueItem(number, clip(_title(row)), cost, currency, _whole(row, "stock", 0, 100_000_000), origin, gtin, row.get("mpn", ""),
                            row.get("brand", ""), row.get("category", ""), row.get("options", ""), pack,
                            _whole(row, "weight_g", 0, 10_000_000) if row.get("weight_g") else 0)
        was = known.get((supplier.id, number))
        out.add("new" if was is None else "same" if was == (cost, one.stock) else "changed", (supplier.id, one), f"{number}: {one.title}")

    _each(rows, progress, out, read)
    return out


def _take_items(desk: Desk, checked: Checked) -> int:
    """New items enter; for known ones the sheet is a sweep like any other, with its doubts and holds."""
    for supplier in desk.s.scalars(select(Supplier)).all():
        mine = [one for number, one in checked.good if number == supplier.id]
        if not mine:
            continue
        source.bring_in(desk, supplier, mine)
        sweep = watch.begin(desk, supplier, desk.who)
        watch.take(desk, sweep, watch.Told([one.number for one in mine], np.array([one.cost for one in mine], dtype=np.int64),
                                           [one.currency for one in mine], np.array([one.stock for one in mine], dtype=np.int64), desk.now, whole=False))
    desk.log("item.sheet", "items", f"{len(checked.good)} supplier items brought in by a sheet", count=len(checked.good))
    return len(checked.good)


KINDS = {kind.name: kind for kind in (
    Kind("lanes", ("store", "sku", "supplier", "item"), ("units_per_sale", "origin", "service", "use"),
         ("Dusk & Dial shop", "DD-LAMP-1", "Northlight Trade", "NT-LAMP-1", "1", "leeds", "tracked48", "main"), _check_lanes, _take_lanes),
    Kind("orders", ("store", "order_no", "sku", "quantity", "name", "address_1", "city", "postcode", "country"),
         ("address_2", "region", "phone", "email", "unit_price", "currency", "ordered_at", "promised_by", "note"),
         ("Dusk & Dial shop", "5001", "DD-LAMP-1", "1", "Wren Sorrel", "4 Lantern Row", "Whitby", "YO21 3PR", "GB"), _check_orders, _take_orders),
    Kind("tracking", ("purchase_order", "tracking_number", "carrier"), ("shipped_at",), ("DDS-5001-1", "SW000012349GB", "Swiftwing Post"),
         _check_tracking, _take_tracking),
    Kind("listings", ("store", "sku", "title", "price", "quantity"),
         ("gtin", "mpn", "brand", "description", "weight_g", "options", "category", "state"),
         ("Dusk & Dial shop", "DD-LAMP-1", "Clip-on red lamp", "8.95", "8"), _check_listings, _take_listings),
    Kind("items", ("supplier", "item", "title", "cost", "currency", "stock"),
         ("gtin", "mpn", "brand", "pack_size", "origin", "weight_g", "lead_days", "category", "options", "link", "least_price"),
         ("Northlight Trade", "NT-LAMP-1", "Clip-on red lamp", "2.60", "GBP", "120"), _check_items, _take_items),
)}


def kind_of(name: str) -> Kind:
    if name not in KINDS:
        raise Invalid(f"there is no sheet called {name!r}; there are {', '.join(KINDS)}")
    return KINDS[name]


def out_rows(desk: Desk, name: str) -> Iterator[list[Any]]:
    """What we have, in the same columns as the sheet brought in."""
    if name == "lanes":
        rows = desk.s.execute(
            select(Store.name, Sku.code, Supplier.name, Item.number, LanePart.units_num, LanePart.units_den, Origin.code, Lane.service, Lane.use)
            .select_from(Lane).join(LanePart, LanePart.lane_id == Lane.id).join(Sku, Sku.id == Lane.sku_id).join(Item, Item.id == LanePart.item_id)
            .join(Supplier, Supplier.id == Lane.supplier_id).join(Origin, Origin.id == Lane.origin_id)
            .outerjoin(Listing, Listing.sku_id == Sku.id).outerjoin(Store, Store.id == Listing.store_id)
            .where(Lane.until.is_(None)).order_by(Sku.code, Lane.use))
        for store, sku, supplier, item, num, den, origin, service, use in rows:
            yield [store, sku, supplier, item, f"{num}/{den}" if den > 1 else num, origin, service, "main" if use == 0 else f"spare {use}"]
    elif name == "listings":
        for store, sku, row, code in desk.s.execute(select(Store.name, Sku, Listing, Sku.code).join(Sku, Sku.id == Listing.sku_id).join(Store, Store.id == Listing.store_id).order_by(Sku.code)):
            yield [store, code, row.title, plain(row.wanted_price, row.currency), row.wanted_quantity, sku.gtin, sku.mpn, sku.brand, row.description,
                   sku.weight_g, sku.options, sku.category, row.state]


__all__ = ["KINDS", "Checked", "Kind", "kind_of", "out_rows"]
