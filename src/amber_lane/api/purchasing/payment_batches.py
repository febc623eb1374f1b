"""Purchase orders paid together: batches, their sums and statements."""

from __future__ import annotations

from datetime import datetime

from fastapi import Response
from pydantic import BaseModel

from ...core.permissions import Permission as P
from ...services.purchasing import payment_batches
from ..deps import ReadContext, WriteContext
from ..guard import GuardedRouter
from ..imports.sheets import as_file
from ..schemas import SHEET, Ask, Big, Done, Form, Money, sure

router = GuardedRouter("/batches", tags=["orders"], read=(P.SEE_ORDERS, P.SEE_MONEY), write=(P.ORDER,))


class BatchOut(BaseModel):
    code: str
    supplier: str
    made_at: datetime
    count: int
    gone: int
    planned: Money
    billed: Money
    bills: int
    paid_at: datetime | None


@router.get("")
def batches(context: ReadContext) -> list[BatchOut]:
    return [
        BatchOut(
            code=one.code,
            supplier=one.supplier,
            made_at=one.made_at,
            count=one.count,
            gone=one.gone,
            planned=sure(one.planned, one.currency),
            billed=sure(one.billed, one.currency),
            bills=one.bills,
            paid_at=one.paid_at,
        )
        for one in payment_batches.batches(context)
    ]


class CollectAsk(Ask):
    supplier: Big


@router.post("")
def collect(context: WriteContext, ask: CollectAsk) -> Done:
    code, n = payment_batches.collect(context, ask.supplier)
    return Done(message=f"{n} purchase order{'' if n == 1 else 's'} put together as {code}", count=n)


@router.post("/{code}/paid")
def pay(context: WriteContext, code: str) -> Done:
    return Done(message=f"{code} is paid", count=payment_batches.pay(context, code))


@router.get("/{code}/statement.{form}", response_class=Response, responses=SHEET)
def statement(context: ReadContext, code: str, form: Form) -> Response:
    return as_file(f"statement-{code}", form, payment_batches.HEADER, payment_batches.statement(context, code))
