"""What keeps the journal whole by itself: orders that were there before it was, entries that wait for a rate, the day's fixed costs."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy import func, select

from ...data.books import JournalEntry
from ...data.orders import Order
from ...data.setup import Setting
from ..base.context import Context
from ..base.regional import home_of
from . import overheads, stock_costs
from .posting import post_orders
from .targets import Rates

DONE = "journal_from"


def due(context: Context) -> list[int]:
    """Orders that the journal has to look at again: once all of before it was there, or before the house took another currency; and those
    with money that has a rate by now."""
    s, home = context.session, home_of(context.session)
    found: set[int] = set()
    done = s.scalar(select(Setting).where(Setting.name == DONE))
    if done is None or done.value.get("home") != home:
        there = select(JournalEntry.order_id).where(JournalEntry.order_id.is_not(None), JournalEntry.home_currency == home)
        found |= set(s.scalars(select(Order.id).where(Order.id.not_in(there))))
    rates = Rates(context)
    waiting = select(JournalEntry.order_id, JournalEntry.currency).where(JournalEntry.home.is_(None), JournalEntry.order_id.is_not(None))
    unrated = waiting.group_by(JournalEntry.order_id, JournalEntry.currency).having(func.sum(JournalEntry.amount) != 0)
    found |= {int(order or 0) for order, currency in s.execute(unrated) if rates.of(currency) is not None}
    return sorted(found)


def catch_up(context: Context, orders: Sequence[int]) -> None:
    """One portion of them."""
    e, home = JournalEntry, home_of(context.session)
    known = select(e.order_id).where(e.order_id.in_(orders), e.order_id.is_not(None), e.home_currency == home).distinct()
    there = {int(one or 0) for one in context.session.scalars(known)}
    post_orders(context, [one for one in orders if one not in there], past=True)
    post_orders(context, there)


def finish(context: Context) -> None:
    """After the last portion: it is not asked for again; and what fixed costs and storage come to until today is
    written."""
    s, value = context.session, {"at": context.now.isoformat(), "home": home_of(context.session)}
    done = s.scalar(select(Setting).where(Setting.name == DONE))
    if done is None:
        s.add(Setting(name=DONE, value=value))
    elif done.value.get("home") != value["home"]:
        done.value = value
    overheads.follow_plans(context)
    stock_costs.store(context)
