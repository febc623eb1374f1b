"""Buyers' mails: what they write about which order, with their pictures, until a case is opened of it or it is read."""

from __future__ import annotations

from datetime import datetime

from pydantic import BaseModel

from ...core.permissions import Permission as P
from ...data.orders import Order
from ...data.setup import Letter, Store
from ...services.base.context import Context
from ...services.claims import cases
from ...services.inbound import buyer_letters
from ...services.orders.routing import lines_of
from ..deps import ReadContext, WriteContext
from ..guard import GuardedRouter
from ..schemas import Big, Done, Money, sure

router = GuardedRouter("/buyer-mails", tags=["claims"], read=(P.SEE_ORDERS, P.SEE_MONEY), write=(P.CLAIM,), limited=True)


class MailRow(BaseModel):
    """is_buyers: the address is the one that they ordered with; known: whether their store told any."""

    id: int
    at: datetime
    sender: str
    subject: str
    order: str
    order_id: int
    buyer: str
    store: str
    is_buyers: bool
    known: bool
    needs: bool


class MailLine(BaseModel):
    """case: the one that is open for it, null = none."""

    id: int
    title: str
    units: int
    state: str
    paid: Money
    case: int | None


class MailOut(BaseModel):
    """reason: what it seems to be about, '' = it does not say."""

    row: MailRow
    body: str
    pictures: list[int]
    reason: str
    lines: list[MailLine]


def _row(context: Context, row: Letter, order: Order) -> MailRow:
    return MailRow(
        id=row.id,
        at=row.at,
        sender=row.sender,
        subject=row.subject,
        order=order.number,
        order_id=order.id,
        buyer=order.buyer,
        store=context.get(Store, order.store_id, "store").name,
        is_buyers=row.is_buyers,
        known=bool(order.mail),
        needs=row.needs,
    )


@router.get("")
def all_mails(context: ReadContext) -> list[MailRow]:
    """Those that nobody has read, the oldest first."""
    return [_row(context, row, order) for row, order in buyer_letters.to_read(context)]


@router.get("/{number}")
def mail(context: ReadContext, number: Big) -> MailOut:
    """One of them with what it says, and the lines of its order of which a case can be opened."""
    row, order = buyer_letters.one(context, number)
    reason = buyer_letters.likely(row)
    lines = lines_of(context, [order.id])[order.id]
    return MailOut(
        row=_row(context, row, order),
        body=row.body,
        pictures=row.pictures,
        reason=reason.value if reason else "",
        lines=[
            MailLine(
                id=line.id,
                title=line.title or line.sku_code,
                units=line.quantity,
                state=line.state,
                paid=sure(line.total, order.currency),
                case=cases.open_for(context, line.id),
            )
            for line in lines
        ],
    )


@router.post("/{number}/read")
def close(context: WriteContext, number: Big) -> Done:
    """It is read, and no case comes of it."""
    buyer_letters.close(context, number)
    return Done(message="Read; Z brings it back")
