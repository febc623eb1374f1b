"""Buying accounts of a supplier: daily limits and approvals."""

from __future__ import annotations

from pydantic import BaseModel, Field

from ...core.permissions import Permission as P
from ...data.setup import Supplier
from ...services.base.errors import Invalid
from ...services.orders.routing_inputs import room_of
from ...services.partners import rosters
from ...services.purchasing import buying_accounts
from ..deps import ReadContext, WriteContext
from ..guard import GuardedRouter
from ..schemas import Ask, Big, Done, Money, minor, money

router = GuardedRouter("/accounts", tags=["orders"], read=(P.SEE_ORDERS, P.SEE_MONEY), write=(P.SETTINGS,))


class AccountOut(BaseModel):
    """left: what may still be bought by it today; None where there is no limit."""

    id: int
    version: int
    supplier: int
    supplier_name: str
    currency: str
    name: str
    cap_money: Money | None
    cap_orders: int | None
    left_money: Money | None
    left_orders: int | None
    send: str | None
    send_minutes: int | None


@router.get("")
def rows(context: ReadContext) -> list[AccountOut]:
    suppliers = {one.id: one for one in rosters.suppliers(context)}
    out = []
    for row in buying_accounts.every(context):
        supplier = suppliers[row.supplier_id]
        left = room_of(context, row)
        out.append(
            AccountOut(
                id=row.id,
                version=row.version,
                supplier=row.supplier_id,
                supplier_name=supplier.name,
                currency=supplier.currency,
                name=row.name,
                cap_money=money(row.cap_money, supplier.currency),
                cap_orders=row.cap_orders,
                left_money=money(left[0], supplier.currency),
                left_orders=left[1],
                send=row.send,
                send_minutes=row.send_minutes,
            )
        )
    return out


class AccountAsk(Ask):
    """id: None for a new one. Limits are for a day; None = none. send: None as the policy says."""

    id: Big | None = None
    version: int | None = None
    supplier: Big
    name: str = Field(max_length=80)
    cap_money: Money | None = None
    cap_orders: int | None = Field(None, ge=0, le=1_000_000)
    send: str | None = None
    send_minutes: int | None = Field(None, ge=0, le=100_000)


@router.post("")
def keep(context: WriteContext, ask: AccountAsk) -> Done:
    supplier = context.get(Supplier, ask.supplier, "supplier")
    if ask.cap_money and ask.cap_money.currency != supplier.currency:
        message = f"{supplier.name} is paid in {supplier.currency}, so its limit is in that money too"
        raise Invalid(message, {"cap_money": message})
    row = buying_accounts.save_account(
        context,
        ask.supplier,
        ask.id,
        ask.version,
        name=ask.name,
        cap_money=minor(ask.cap_money, "cap_money"),
        cap_orders=ask.cap_orders,
        send=ask.send,
        send_minutes=ask.send_minutes,
    )
    return Done(message=f"Limits of {row.name} set; waiting orders are planned anew")


@router.post("/{number}/remove")
def remove(context: WriteContext, number: Big, version: int) -> Done:
    buying_accounts.remove(context, number, version)
    return Done(message="Account taken away")
