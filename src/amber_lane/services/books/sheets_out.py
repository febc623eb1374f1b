"""Books as sheets: every sold line with its money, and the tax of a period for the accountant."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from sqlalchemy import case, func, select

from ...core.books import Basis, Kind, Ledger
from ...core.currency import plain
from ...data.books import JournalEntry
from ...data.orders import Order, OrderLine
from ...data.setup import Store, Supplier
from ...data.shelf import Sku
from ..base.context import Context
from ..base.regional import home_of
from .grouping import Period

BOOKS = (
    "date", "store", "order_no", "sku", "supplier", "sale", "shipping_paid", "discount", "tax", "store_fee", "payment_fee", "goods",
    "shipping", "handling", "refund", "claim", "rebate", "other", "profit", "planned_profit",
)  # fmt: skip
# Column -> the kinds that are in it; all else that changes profit is `other`.
_COLUMNS: dict[str, tuple[Kind, ...]] = {
    "sale": (Kind.sale,), "shipping_paid": (Kind.shipping_paid,), "discount": (Kind.discount,), "tax": (Kind.tax,),
    "store_fee": (Kind.store_fee,), "payment_fee": (Kind.payment_fee,), "goods": (Kind.goods, Kind.supplier_tax),
    "shipping": (Kind.shipping,), "handling": (Kind.handling,), "refund": (Kind.refund, Kind.fee_back), "claim": (Kind.claim,),
    "rebate": (Kind.rebate,),
}  # fmt: skip


def _sum(kinds: tuple[Kind, ...]) -> Any:  # noqa: ANN401 - an expression of SQL
    return func.coalesce(func.sum(case((JournalEntry.kind.in_([kind.value for kind in kinds]), JournalEntry.home), else_=0)), 0)


def book_rows(context: Context, period: Period) -> Iterator[list[Any]]:
    """One row per order line with money in the period, and one per day for what belongs to no order; in the house's currency."""
    e, home = JournalEntry, home_of(context.session)
    planned = case((e.basis.in_((Basis.planned.value, Basis.reversal.value)), e.home), else_=0)
    rows = context.session.execute(
        select(
            func.min(e.day), func.max(Store.name), func.max(Order.number), func.max(Sku.code), func.max(Supplier.name),
            *(_sum(kinds) for kinds in _COLUMNS.values()), func.sum(e.home), func.sum(planned),
        )
        .outerjoin(Order, Order.id == e.order_id)
        .outerjoin(Store, Store.id == e.store_id)
        .outerjoin(Sku, Sku.id == e.sku_id)
        .outerjoin(Supplier, Supplier.id == e.supplier_id)
        .where(e.account == Ledger.profit.value, e.home_currency == home, e.home.is_not(None), e.day >= period.first, e.day <= period.last)
        .group_by(e.order_line_id, case((e.order_line_id.is_(None), e.day), else_=0))
        .order_by(func.min(e.day), func.min(e.id))
        .execution_options(yield_per=1000)
    )  # fmt: skip
    for day, store, order, sku, supplier, *money in rows:
        *parts, profit, plan = (int(one) for one in money)
        other = profit - sum(parts)
        yield [
            day.isoformat(), store or "", order or "", sku or "", supplier or "",
            *(plain(one, home) for one in (*parts, other, profit, plan)),
        ]  # fmt: skip


TAX = ("country", "store", "rate_pct", "handed_over_by", "orders", "buyers_paid", "tax", "currency")


def tax_rows(context: Context, period: Period) -> list[list[Any]]:
    """Tax of the sales of a period by country, store, rate and who hands it over; refunds taken off. In the house's currency."""
    e, home = JournalEntry, home_of(context.session)
    base = OrderLine.total - OrderLine.tax
    rate = case((base > 0, func.round(1000.0 * OrderLine.tax / base)), else_=0)
    by = case((OrderLine.tax_by == "store", "store"), else_="we")
    sales = (Kind.sale.value, Kind.shipping_paid.value, Kind.discount.value, Kind.refund.value)
    rows = context.session.execute(
        select(
            e.country, Store.name, rate, by, func.count(e.order_id.distinct()),
            func.sum(case((e.kind.in_(sales), e.home), else_=0)), func.sum(case((e.kind == Kind.tax.value, -e.home), else_=0)),
        )
        .join(OrderLine, OrderLine.id == e.order_line_id)
        .join(Store, Store.id == e.store_id)
        .where(
            e.account == Ledger.profit.value, e.home_currency == home, e.home.is_not(None), e.day >= period.first, e.day <= period.last,
            e.kind.in_((*sales, Kind.tax.value)),
        )
        .group_by(e.country, Store.id, rate, by)
        .order_by(e.country, Store.name, rate)
    )  # fmt: skip
    return [
        [country, store, f"{(ppm or 0) / 10:g}", who, n, plain(int(paid or 0), home), plain(int(tax or 0), home), home]
        for country, store, ppm, who, n, paid, tax in rows
    ]
