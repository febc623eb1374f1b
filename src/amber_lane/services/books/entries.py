"""The entries behind a number, and an order's money as it was planned beside what it came to."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date, datetime
from functools import cache
from typing import Any

from sqlalchemy import Select, bindparam, case, func, select

from ...core.books import PROFIT_KINDS, Basis, Kind, Ledger
from ...data.books import JournalEntry, JournalEvent
from ...data.orders import Order, PurchaseOrder
from ...data.setup import Store, Supplier
from ...data.shelf import Sku
from ...data.statements import among
from ..base.context import Context
from ..base.regional import home_of
from ..orders.order_profit import rate_between, turn
from ..pricing.exchange_rates import HomeWorth
from . import columns
from .grouping import FIGURES, FINE, Period, keys_of, narrowed

MOST = 500


@dataclass(frozen=True)
class Shown:
    """An entry as a person reads it. home: None where no rate is known."""

    id: int
    at: datetime
    day: date
    own_day: date | None
    kind: str
    basis: str
    source: str
    order: int | None
    order_number: str
    purchase: str
    sku: str
    store: str
    supplier: str
    units: int
    amount: int
    currency: str
    home: int | None
    who: str


@dataclass(frozen=True)
class Number:
    """A number in a table of profit: key: its row's (None: the total), figure: its column."""

    period: Period
    by: str
    key: int | None
    figure: str
    filters: Mapping[str, int]


def behind(context: Context, number: Number, offset: int = 0) -> tuple[list[Shown], int, int]:
    """The entries that a number is the sum of, newest first, how many there are, and their sum in the house's currency."""
    of, by, key, figure = columns.read(context.session), number.by, number.key, number.figure
    chosen = number.period.mask(of)
    some = narrowed(of, number.filters)
    if some is not None:
        chosen = chosen & some
    if key is not None:
        chosen = chosen & (keys_of(of, by) == key)
    kinds = {**FIGURES, **FINE}.get(figure)
    if kinds is not None:
        places = [n for n, name in enumerate(columns.KINDS) if name in {kind.value for kind in kinds}]
        refund, tax = columns.BASES.index(Basis.refund.value), columns.KINDS.index(Kind.tax.value)
        mine = sum((of["kind"] == n for n in places), start=of["kind"] < 0)
        back = (of["kind"] == tax) & (of["basis"] == refund)
        # Tax that goes back with a refund counts there.
        chosen = chosen & ((mine & ~back) | back if figure == "refunds" else mine & ~back)
    ids = of["id"][chosen]
    page = [int(one) for one in ids[::-1][offset : offset + MOST].tolist()]
    return shown(context, page), len(ids), int(of["home"][chosen].sum())


def shown(context: Context, ids: Sequence[int]) -> list[Shown]:
    """Entries by number, in that order."""
    e = JournalEntry
    rows = context.session.execute(
        select(e, JournalEvent, Order.number, PurchaseOrder.reference, Sku.code, Store.name, Supplier.name)
        .join(JournalEvent, JournalEvent.id == e.event_id)
        .outerjoin(Order, Order.id == e.order_id)
        .outerjoin(PurchaseOrder, PurchaseOrder.id == e.purchase_id)
        .outerjoin(Sku, Sku.id == e.sku_id)
        .outerjoin(Store, Store.id == e.store_id)
        .outerjoin(Supplier, Supplier.id == e.supplier_id)
        .where(e.id.in_(ids))
    )
    found = {one.id: _shown(one, event, *names) for one, event, *names in rows}
    return [found[number] for number in ids if number in found]


def _shown(one: JournalEntry, event: JournalEvent, order: str | None, purchase: str | None, *rest: str | None) -> Shown:
    sku, store, supplier = rest
    return Shown(
        one.id, event.at, one.day, one.own_day, one.kind, one.basis, event.source, one.order_id, order or "", purchase or "", sku or "",
        store or "", supplier or "", one.units, one.amount, one.currency, one.home, event.who or "",
    )  # fmt: skip


def of_order(context: Context, order: int) -> list[Shown]:
    """All entries of an order, in the order in which they were written; what only moves between accounts too."""
    ids = select(JournalEntry.id).where(JournalEntry.order_id == order, JournalEntry.order_id.is_not(None)).order_by(JournalEntry.id)
    return shown(context, list(context.session.scalars(ids)))


@cache
def _profits() -> Select[int | None, str, Any, Any]:
    e = JournalEntry
    own = case((e.currency == Order.currency, e.amount), else_=None)
    of_profit = (e.order_id.is_not(None), e.account == Ledger.profit.value, e.home_currency == bindparam("home"))
    return (
        select(e.order_id, Order.currency, func.sum(own), func.sum(case((own.is_(None), e.home), else_=0)))
        .join(Order, Order.id == e.order_id)
        .where(e.order_id.in_(among("orders")), *of_profit)
        .group_by(e.order_id)
    )


def profits(context: Context, orders: Sequence[int]) -> dict[int, int]:
    """What the journal says that orders left, in each order's own money: entries in another one are turned by the rate of the order."""
    home = home_of(context.session)
    rows = context.session.execute(_profits(), {"orders": list(orders), "home": home})
    worth = HomeWorth(context)
    out = {}
    for order, currency, amount, rest in rows:
        rate = rate_between(worth, home, currency)
        out[int(order or 0)] = int(amount or 0) + (turn(int(rest or 0), rate, home, currency) if rest and rate else 0)
    return out


def untold(context: Context, order: int) -> list[str]:
    """What of an order's money its store did not tell, so that it is counted as nought, or worked out: shipping_paid, discount, tax."""
    told = context.get(Order, order, "order").told
    return [name for name in ("shipping_paid", "discount", "tax") if name not in told]


@dataclass(frozen=True)
class Compared:
    """One kind of an order's money: as planned when it was bought, as it came to be, and why it differs. House minor units."""

    kind: str
    planned: int
    actual: int
    reasons: dict[str, int]


def planned_beside_actual(context: Context, order: int) -> list[Compared]:
    """Each kind of an order's profit; planned + the differences = actual. Empty before it is bought."""
    e = JournalEntry
    rows: Any = context.session.execute(
        select(e.kind, e.basis, func.sum(e.home))
        .where(
            e.order_id == order,
            e.order_id.is_not(None),
            e.account == Ledger.profit.value,
            e.home_currency == home_of(context.session),
            e.home.is_not(None),
        )
        .group_by(e.kind, e.basis)
    )
    planned: dict[str, int] = {}
    reasons: dict[str, dict[str, int]] = {}
    for kind, basis, home in rows:
        if basis in (Basis.planned.value, Basis.reversal.value):
            planned[kind] = planned.get(kind, 0) + int(home)
        else:
            reasons.setdefault(kind, {})[basis] = int(home)
    out = []
    for one in PROFIT_KINDS:
        was, why = planned.get(one.value, 0), {name: amount for name, amount in reasons.get(one.value, {}).items() if amount}
        if was or why:
            out.append(Compared(one.value, was, was + sum(why.values()), why))
    return out
