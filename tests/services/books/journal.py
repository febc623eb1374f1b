"""What every house's journal has to be, whatever happened in it; used by the tests of many parts."""

from __future__ import annotations

from sqlalchemy import func, select

from amber_lane.core.books import Ledger
from amber_lane.data.books import JournalEntry
from amber_lane.data.orders import Order, OrderLine
from amber_lane.services.base.context import Context
from amber_lane.services.base.regional import home_of
from amber_lane.services.books import columns, entries
from amber_lane.services.books.posting import post_orders
from amber_lane.services.orders import order_profit


def profit_of(context: Context, order: int | None = None) -> int:
    """What the journal says that an order (or all) left, house minor units."""
    mine = [JournalEntry.account == Ledger.profit.value, JournalEntry.home_currency == home_of(context.session)]
    mine += [JournalEntry.order_id == order] if order else [JournalEntry.order_id.is_not(None)]
    return int(context.session.scalar(select(func.coalesce(func.sum(JournalEntry.home), 0)).where(*mine)) or 0)


def is_whole(context: Context, settled: bool = False) -> None:
    """It balances, agrees with the orders to the penny where all is in the house's money, and there is nothing left to write.

    settled: settlements or statements say of orders what the orders themselves do not know.
    """
    s = context.session
    # What buyers paid for what is not bought is all that the account of open orders holds.
    worth = func.coalesce(func.sum(JournalEntry.home), 0)
    there, taken = (s.scalar(select(worth).where(column == "open_orders")) for column in (JournalEntry.account, JournalEntry.against))
    waiting = select(func.sum(OrderLine.total)).where(OrderLine.state.in_(order_profit.OPEN))
    if not s.scalar(select(Order.id).where(Order.currency != home_of(s)).limit(1)):
        assert there - taken == (s.scalar(waiting) or 0)
    home = home_of(s)
    same = [row.id for row in s.scalars(select(Order)) if row.currency == home]
    bought = order_profit.bought(context, same)
    for number in same:
        if settled:
            continue
        one = bought.get(number)
        assert profit_of(context, number) == (one.kept - one.cost if one else 0), f"order {number}"
    for number in same[:50]:
        for part in entries.planned_beside_actual(context, number):
            assert part.planned + sum(part.reasons.values()) == part.actual
    of = columns.read(s)
    total = s.scalar(
        select(func.coalesce(func.sum(JournalEntry.home), 0)).where(
            JournalEntry.account == Ledger.profit.value, JournalEntry.home_currency == home
        )
    )
    assert int(of["home"].sum()) == int(total or 0)


def writes_nothing(context: Context) -> bool:
    """Whether all that orders say is in the journal already."""
    return post_orders(context, context.session.scalars(select(Order.id))) == 0
