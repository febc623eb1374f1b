"""What stores paid out and suppliers billed, held against what was expected."""

from __future__ import annotations

from datetime import datetime

from pydantic import BaseModel, Field

from ...core.permissions import Permission as P
from ...services.books import settlements, statements
from ..deps import ReadContext, WriteContext
from ..files import InvoiceFile
from ..guard import GuardedRouter
from ..schemas import Ask, Big, Done, Money, money, sure

router = GuardedRouter("/books", tags=["books"], read=(P.SEE_BOOKS,), write=(P.KEEP_BOOKS,))


class SettlementOut(BaseModel):
    """difference: what its orders came to beside what was expected; told: what is odd about the settlement itself, '' = nothing."""

    id: int
    store: str
    number: str
    at: datetime
    rows: int
    sum: Money
    paid: Money | None
    lost: int
    differs: int
    difference: Money
    told: str
    settled: bool


class TakesMoreOut(BaseModel):
    """A store takes another share than is set. Shares in ppm."""

    store: int
    store_name: str
    category: str
    set_ppm: int
    real_ppm: int
    orders: int
    a_day: Money


class OwedOut(BaseModel):
    store: str
    amount: Money


class SettlementsOut(BaseModel):
    rows: list[SettlementOut]
    fees: list[TakesMoreOut]
    owed: list[OwedOut]


@router.get("/settlements")
def settlements_list(context: ReadContext) -> SettlementsOut:
    """The newest settlements, fees that are not as set, and what each store owes by the journal."""
    return SettlementsOut(
        rows=[
            SettlementOut(
                id=one.id,
                store=one.store,
                number=one.number,
                at=one.at,
                rows=one.rows,
                sum=sure(one.sum, one.currency),
                paid=money(one.paid, one.currency),
                lost=one.lost,
                differs=one.differs,
                difference=sure(one.difference, one.currency),
                told=settlements.told(context, one),
                settled=one.settled,
            )
            for one in settlements.overview(context)
        ],
        fees=[
            TakesMoreOut(
                store=one.store,
                store_name=one.store_name,
                category=one.category,
                set_ppm=one.set_ppm,
                real_ppm=one.real_ppm,
                orders=one.orders,
                a_day=sure(one.a_day, one.currency),
            )
            for one in settlements.fees_differ(context)
        ],
        owed=[OwedOut(store=name, amount=sure(amount, currency)) for name, currency, amount in settlements.balance(context)],
    )


@router.post("/settlements/{number}/accept")
def accept_settlement(context: WriteContext, number: Big) -> Done:
    row = settlements.accept(context, number)
    return Done(message=f"Settlement {row.number} is taken as it is")


class OddOut(BaseModel):
    supplier: int
    supplier_name: str
    what: str
    reference: str
    planned: Money
    charged: Money
    more: Money
    since: datetime
    claimed: bool


@router.get("/statements")
def statements_odd(context: ReadContext) -> list[OddOut]:
    """What is odd about suppliers' statements, dearest first."""
    return [
        OddOut(
            supplier=one.supplier,
            supplier_name=one.supplier_name,
            what=one.what,
            reference=one.reference,
            planned=sure(one.planned, one.currency),
            charged=sure(one.charged, one.currency),
            more=sure(one.more, one.currency),
            since=one.since,
            claimed=one.claimed,
        )
        for one in statements.odd(context)
    ]


class StatementAsk(Ask):
    supplier: Big
    reference: str = Field(max_length=200)


@router.post("/statements/accept")
def accept_statement(context: WriteContext, ask: StatementAsk) -> Done:
    statements.accept(context, ask.supplier, ask.reference)
    return Done(message=f"What is billed for {ask.reference} is accepted")


@router.post("/statements/claim")
def claim_statement(context: WriteContext, ask: StatementAsk) -> Done:
    return Done(message=statements.claim(context, ask.supplier, ask.reference))


@router.post("/invoices")
def bring_invoice(given: InvoiceFile, context: WriteContext) -> Done:
    """A supplier's bill as an Invoice of UBL 2.1; held against what was ordered as a statement is."""
    return Done(message=statements.take_invoice(context, given))
