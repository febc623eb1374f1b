"""What a person may spend and refund in a day. Whoever spends or refunds for a person says so here, in the transaction that does it."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from sqlalchemy import select

from ...core.currency import show
from ...core.permissions import Limit
from ...data.orders import Order
from ...data.people import PersonSpending
from ..base import house_days
from ..base.context import Context
from ..base.errors import AboveLimit, DearerNow
from .exchange_rates import HomeWorth

_VERBS = {Limit.SPEND: "spend", Limit.REFUND: "refund"}


@dataclass(frozen=True)
class Part:
    """One thing of an act that can be approved by itself: its number in the call, its name, what it comes to in its own money.

    amount None: not known, as there is no rate.
    """

    id: int
    name: str
    amount: int | None
    currency: str


def count(context: Context, limit: Limit, what: str, parts: Sequence[Part], parts_in: str = "") -> None:
    """Count what an act comes to towards what whoever acts may spend or refund today. AboveLimit where it is too much, or not known.

    what: the act in words; parts_in: the field of the call that holds the parts' numbers, '' where it is done whole or not at all.
    DearerNow where somebody approved it and it comes to more by now.
    """
    if context.allowed is None or context.person is None:
        return
    worth = HomeWorth(context)
    amounts = [(one.id, one.name, worth.of(one.amount or 0, one.currency)) for one in parts]
    lacks = sorted(worth.left_out | {one.currency for one in parts if one.amount is None})
    amount = sum(part for _, _, part in amounts)
    so_far = context.counted[limit.value] = context.counted.get(limit.value, 0) + amount
    if context.approved is not None and so_far > context.approved:
        now, asked = show(so_far, worth.home), show(context.approved, worth.home)
        raise DearerNow(f"it comes to {now} now, and was asked for at {asked}; refuse it, and have it asked for anew")
    most = context.allowed.role.limit(limit)
    if most is None:
        return
    row = _today(context, context.person, limit)
    if row.amount + amount > most or lacks:
        used = f", of which {show(row.amount, worth.home)} is used" if row.amount else ""
        reason = f"{context.actor} may {_VERBS[limit]} {show(most, worth.home)} a day{used}"
        if lacks:
            reason = f"what it comes to is not known: there is no rate of {', '.join(lacks)}"
        raise AboveLimit(limit, None if lacks else so_far, f"{what}, {show(so_far, worth.home)}", reason, amounts, parts_in)
    row.amount += amount
    context.session.flush()


def _today(context: Context, person: int, limit: Limit) -> PersonSpending:
    today = house_days.today(context)
    mine = (PersonSpending.person_id == person, PersonSpending.day == today, PersonSpending.limit == limit.value)
    row = context.session.scalar(select(PersonSpending).where(*mine))
    if row is None:
        row = PersonSpending(person_id=person, day=today, limit=limit.value, amount=0)
        context.session.add(row)
    return row


def by_hand(context: Context, orders: Iterable[Order]) -> None:
    """What somebody with a limit lets go is not bought by itself: it waits for a hand, whose limit then counts."""
    if context.allowed is not None and context.allowed.role.spend is not None:
        for order in orders:
            order.manual_release, order.send_after = True, None
