"""What the tests of buying do again and again: sell, send, answer, and tell an order once more."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from sqlalchemy import select

from amber_lane.connectors.protocols import PurchaseAnswer, StoreOrder, StoreOrderLine
from amber_lane.data.orders import Hold, Order, OrderLine, PurchaseOrder
from amber_lane.data.setup import Store, Supplier
from amber_lane.services.base.context import Context
from amber_lane.services.orders import orders
from amber_lane.services.purchasing import order_settings, purchase_orders, supplier_answers

from ...small import BUYER, Small


def states(small: Small, order: Order) -> list[str]:
    return small.all(select(OrderLine.state).where(OrderLine.order_id == order.id).order_by(OrderLine.line_no))


def send(small: Small, *ids: int, **more: Any) -> list[PurchaseOrder]:
    return small.write(lambda context: purchase_orders.send(context, ids, **more))


def answer(small: Small, reference: str, state: str, **more: Any) -> None:
    told = replace(PurchaseAnswer(reference, "", state, "", None, None), **more)
    small.write(lambda context: supplier_answers.take_answer(context, told))


def holds(small: Small) -> list[str]:
    return small.all(select(Hold.message).where(Hold.ended.is_(None)))


def by_mail(small: Small, form: str) -> None:
    def change(context: Context) -> None:
        context.get(Supplier, 1, "supplier").kind = "sheet"
        given = {
            "parcel_note": "No adverts",
            "phone_rule": "none",
            "order_form": form,
            "order_road": "mail",
            "mail": "orders@supply.example",
        }
        order_settings.save(context, "supplier", 1, None, given)
        order_settings.save(context, "store", 1, None, {"greeting": "Clear skies, {name}!", "phone": ""})

    small.write(change)


def again(small: Small, number: str, *lines: tuple[str, int, int], **more: Any) -> None:
    """The store tells an order once more, as it stands there now."""
    told = [StoreOrderLine(n, sku, quantity, price, sku) for n, (sku, quantity, price) in enumerate(lines, 1)]

    def do(context: Context) -> None:
        given = StoreOrder(number, context.now, "GBP", more.pop("buyer", BUYER), told, None, **more)
        orders.take_page(context, context.get(Store, 1, "store"), [given], "x")

    small.write(do)


def moved(name: str) -> Any:
    return replace(BUYER, address_1=name)


def wants(small: Small, order: Order) -> str:
    return str(small.all(select(Order.wants).where(Order.id == order.id))[0])
