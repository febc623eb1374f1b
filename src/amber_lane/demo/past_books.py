"""The money of the weeks before the doors opened: what the marketplace paid out, what a supplier billed, fixed costs, a closed month."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import date, datetime, timedelta

from sqlalchemy import select

from ..connectors.protocols import SettlementLine
from ..core.numbers import half_up
from ..core.states import PURCHASE_LIVE, OrderLineState
from ..data.orders import Order, OrderLine, PurchaseOrder
from ..data.setup import FeeRow, Store, Supplier
from ..data.shelf import Sku
from ..data.transit import Parcel, ParcelLine
from ..services.base import house_days
from ..services.base.context import Context
from ..services.books import overheads, settlements, statements
from ..services.books.statements import StatementLine
from .partners import Land

# In this category the marketplace has taken more for three weeks than it tells; its percent, as the practice world is told too.
TAKES_MORE = ("optics", 8.5, timedelta(days=21))
# Statements come for what is older than this.
STATED_UNTIL = timedelta(days=10)


def write_money(context: Context, land: Land) -> None:
    """Settlements, a statement with its oddities, two fixed costs, and the first month closed."""
    _pay_out(context)
    _bill(context)
    home = land.currency
    first = house_days.day_of(context, context.now - timedelta(days=56)).replace(day=1)
    fair = context.session.scalars(select(Store).where(Store.kind == "market_api")).one()
    overheads.save(context, overheads.OverheadTerms("Mail, labels and bookkeeping tools", land.amount(8900), home, first))
    overheads.save(context, overheads.OverheadTerms("Advertising on Bramble Fair", land.amount(15000), home, first, None, fair.id))
    overheads.close(context, first)


def _pay_out(context: Context) -> None:
    """A payout for each day of the marketplace's past orders, as it pays out now. One of them came short."""
    s = context.session
    store = s.scalars(select(Store).where(Store.kind == "market_api")).one()
    least = {row.category: row for row in s.scalars(select(FeeRow).where(FeeRow.store_id == store.id))}
    rows = s.execute(
        select(Order.number, Order.ordered_at, OrderLine.paid, OrderLine.store_fee, OrderLine.state, Sku.category, Parcel.ended_at)
        .join(OrderLine, OrderLine.order_id == Order.id)
        .join(Sku, Sku.id == OrderLine.sku_id)
        .join(PurchaseOrder, PurchaseOrder.order_id == Order.id)
        .join(ParcelLine, ParcelLine.purchase_id == PurchaseOrder.id)
        .join(Parcel, Parcel.id == ParcelLine.parcel_id)
        .where(Order.store_id == store.id, Order.channel == "past")
        .order_by(Order.ordered_at)
    )
    days: dict[date, list[tuple[str, str, int, datetime]]] = {}

    def put(at: datetime, order: str, kind: str, amount: int) -> None:
        days.setdefault(at.date(), []).append((order, kind, amount, at))

    for number, at, paid, fee, state, category, ended in rows:
        if category == TAKES_MORE[0] and at > context.now - TAKES_MORE[2]:
            row = least.get(category)
            fee = max(half_up(paid * int(TAKES_MORE[1] * 10), 1000), row.least if row else 0)
        put(at, number, "sale", paid)
        put(at, number, "fee", fee)
        if state == OrderLineState.cancelled and ended is not None:
            put(ended, number, "refund", paid)
            put(ended, number, "fee_back", fee)
    today = context.now.date()
    settlements.take(context, store, _lines(days, today))


def _lines(days: dict[date, list[tuple[str, str, int, datetime]]], today: date) -> Iterable[SettlementLine]:
    for day, rows in sorted(days.items()):
        if day >= today:
            continue
        number = f"FP-{day.isoformat()}"
        total = 0
        for n, (order, kind, amount, at) in enumerate(rows, 1):
            total += settlements.signed(kind, amount)
            yield SettlementLine(number, str(n), order, kind, amount, at)
        short = 1240 if day == today - timedelta(days=3) else 0
        yield SettlementLine(number, "payout", "", "payout", total - short, rows[-1][3].replace(hour=2, minute=0) + timedelta(days=1))


def _bill(context: Context) -> None:
    """The wholesaler's statement: as its purchases were billed, but for one twice, one dearer, one that nobody ordered; and a rebate."""
    s = context.session
    supplier = s.scalars(select(Supplier).where(Supplier.name == "Northlight Trade")).one()
    bought = s.scalars(
        select(PurchaseOrder)
        .where(PurchaseOrder.supplier_id == supplier.id, PurchaseOrder.state.in_(PURCHASE_LIVE))
        .where(PurchaseOrder.made_at < context.now - STATED_UNTIL)
        .order_by(PurchaseOrder.id)
    ).all()
    lines: list[StatementLine] = []
    for n, one in enumerate(bought):
        billed = one.billed if one.billed is not None else one.goods + one.shipping + one.handling
        parts = {"goods": billed - one.shipping - one.handling, "shipping": one.shipping, "handling": one.handling}
        if n == len(bought) - 40:
            parts["goods"] += parts["goods"] // 4
        for kind, amount in parts.items():
            if amount:
                lines.append(StatementLine(one.reference, kind, amount, one.currency, one.made_at, kind))
                if n == len(bought) - 90:
                    lines.append(StatementLine(one.reference, kind, amount, one.currency, one.made_at + timedelta(days=3), f"{kind} again"))
    when = context.now - STATED_UNTIL
    lines.append(StatementLine("DDS-9117-1", "goods", 2340, supplier.currency, when, "goods"))
    turnover = sum(one.goods for one in bought)
    lines.append(StatementLine("Rebate of the last quarter", "rebate", turnover // 200, supplier.currency, when, "rebate"))
    statements.take(context, supplier, lines)
