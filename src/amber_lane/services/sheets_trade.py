"""The orders sheet and the tracking sheet."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from datetime import UTC, date, datetime

from sqlalchemy import select

from ..connectors.protocols import Address, StoreOrder, StoreOrderLine
from ..core.ids import check_country, check_s10
from ..core.money import parse_money
from ..data.orders import Order, PurchaseOrder
from ..data.setup import Store
from ..data.shelf import Listing, Sku
from . import orders, transit
from .desk import Desk
from .sheets_frame import Checked, Names, Row, each, need, whole


def check_orders(desk: Desk, rows: Iterable[Row], progress: Callable[[int], None]) -> Checked:
    names, out = Names(desk), Checked()
    prices = {
        (store, code): price
        for store, code, price in desk.s.execute(
            select(Listing.store_id, Sku.code, Listing.wanted_price).join(Sku, Sku.id == Listing.sku_id)
        )
    }
    known = set(desk.s.execute(select(Order.store_id, Order.number)).tuples())
    groups: dict[tuple[int, str], list[tuple[Row, StoreOrderLine]]] = {}

    def read(row: Row) -> None:
        store, number = names.store(row), need(row, "order_no")
        currency = row.get("currency") or store.currency
        if currency != store.currency:
            raise ValueError(f"currency: {currency} is not the store's, {store.currency}")
        check_country(need(row, "country"))
        for name in ("name", "address_1", "city", "postcode"):
            need(row, name)
        sku = need(row, "sku")
        unit = parse_money(row["unit_price"], currency, "unit_price") if row.get("unit_price") else prices.get((store.id, sku))
        if unit is None:
            raise ValueError(f"unit_price is empty, and {store.name} has no listing of {sku}")
        if unit < 0:
            raise ValueError("unit_price is negative")
        for name in ("ordered_at", "promised_by"):
            _time(row.get(name, ""), name)
        quantity = whole(row, "quantity", 1, 10_000)
        group = groups.setdefault((store.id, number), [])
        group.append((row, StoreOrderLine(len(group) + 1, sku, quantity, unit)))

    each(rows, progress, out, read)
    stores = {store.id: store for store in names.stores.values()}
    for (store_id, number), group in groups.items():
        first = group[0][0]
        kind = "same" if (store_id, number) in known else "new"
        promised = _time(first.get("promised_by", ""), "promised_by")
        buyer = Address(
            first["name"],
            first["address_1"],
            first["city"],
            first["postcode"],
            check_country(first["country"]),
            first.get("address_2", ""),
            first.get("region", ""),
            first.get("phone", ""),
            first.get("email", ""),
        )
        order = StoreOrder(
            number,
            _time(first.get("ordered_at", ""), "ordered_at") or desk.now,
            stores[store_id].currency,
            buyer,
            [line for _, line in group],
            promised.date() if promised else None,
            note=first.get("note", ""),
        )
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


def take_orders(desk: Desk, checked: Checked) -> int:
    by_store: dict[int, list[StoreOrder]] = {}
    for store_id, order in checked.good:
        by_store.setdefault(store_id, []).append(order)
    fresh = [one for number, told in by_store.items() for one in orders.take_many(desk, desk.get(Store, number, "store"), told, "sheet")]
    desk.log("order.sheet", "orders", f"{len(fresh)} orders brought in by a sheet", count=len(fresh))
    orders.after_sales(desk, fresh)
    return len(fresh)


def check_tracking(desk: Desk, rows: Iterable[Row], progress: Callable[[int], None]) -> Checked:
    out = Checked()
    states = dict(desk.s.execute(select(PurchaseOrder.reference, PurchaseOrder.state)).tuples().all())

    def read(row: Row) -> None:
        reference, number = need(row, "purchase_order"), need(row, "tracking_number")
        if reference not in states:
            raise ValueError(f"there is no purchase order {reference!r}")
        if transit.find_carrier(desk, need(row, "carrier")) is None:
            raise ValueError(f"the carrier {row['carrier']!r} is not joined")
        check_s10(number)
        out.add("same" if states[reference] == "shipped" else "new", (reference, number, row["carrier"]), f"{reference}: {number}")

    each(rows, progress, out, read)
    return out


def take_tracking(desk: Desk, checked: Checked) -> int:
    for reference, number, carrier in checked.good:
        transit.enter_tracking(desk, reference, number, carrier)
    return len(checked.good)
