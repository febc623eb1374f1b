"""What stores paid out and suppliers billed, fixed costs, closed months, tax, and what to do more of."""

from __future__ import annotations

from datetime import date, datetime, timedelta
from typing import Annotated

from fastapi import APIRouter, Query, Response
from pydantic import BaseModel, Field

from ...data.setup import Store
from ...services.alerts import weekly_mail
from ...services.base import house_days
from ...services.base.regional import home_of
from ...services.books import overheads, partners_compared, ranking, settlements, sheets_out, statements
from ...services.books.profit import Period
from ..deps import ReadContext, WriteContext
from ..files import InvoiceFile
from ..imports.sheets import as_file
from ..schemas import SHEET, Ask, Big, Done, Form, Money, minor, money, sure
from .profit import PeriodAsked

router = APIRouter(prefix="/books", tags=["books"])


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


class OverheadOut(BaseModel):
    id: int
    version: int
    name: str
    store: str
    amount: Money
    first: date
    last: date | None


class MonthOut(BaseModel):
    month: date
    at: datetime
    who: str


class CostsOut(BaseModel):
    overheads: list[OverheadOut]
    closed: list[MonthOut]
    # The month that may be closed next: the oldest one that is over and open; None where there is none.
    next: date | None


@router.get("/costs")
def fixed_costs(context: ReadContext) -> CostsOut:
    """Fixed costs, and which months are closed."""
    return CostsOut(
        overheads=[
            OverheadOut(
                id=one.id,
                version=one.version,
                name=one.name,
                store=context.get(Store, one.store_id, "store").name if one.store_id else "",
                amount=sure(one.amount, one.currency),
                first=one.first,
                last=one.last,
            )
            for one in overheads.overheads(context)
        ],
        closed=[MonthOut(month=one.month, at=one.at, who=one.who) for one in overheads.closed(context)],
        next=overheads.next_to_close(context),
    )


class OverheadAsk(Ask):
    """A fixed cost of every month from first to last; days of those months."""

    version: int | None = None
    name: str = Field(min_length=1, max_length=120)
    amount: Money
    first: date
    last: date | None = None
    store: Big | None = None


def _terms(ask: OverheadAsk) -> overheads.OverheadTerms:
    amount = minor(ask.amount, "amount")
    return overheads.OverheadTerms(ask.name, amount or 0, ask.amount.currency, ask.first, ask.last, ask.store)


@router.post("/overheads")
def add_overhead(context: WriteContext, ask: OverheadAsk) -> Done:
    row = overheads.save(context, _terms(ask))
    return Done(message=f"{row.name} saved")


@router.put("/overheads/{number}")
def change_overhead(context: WriteContext, number: Big, ask: OverheadAsk) -> Done:
    row = overheads.save(context, _terms(ask), number, ask.version)
    return Done(message=f"{row.name} saved")


class EndAsk(Ask):
    version: int | None = None


@router.post("/overheads/{number}/end")
def end_overhead(context: WriteContext, number: Big, ask: EndAsk) -> Done:
    row = overheads.end(context, number, ask.version)
    return Done(message=f"{row.name} ends with this month")


class CloseAsk(Ask):
    month: date


@router.post("/months")
def close_month(context: WriteContext, ask: CloseAsk) -> Done:
    row = overheads.close(context, ask.month)
    return Done(message=f"{row.month:%B %Y} is closed: nothing of it changes any more")


@router.get("/tax.{form}", responses=SHEET)
def tax_sheet(context: ReadContext, form: Form, period: PeriodAsked) -> Response:
    """Tax by country, store, rate and who hands it over."""
    return as_file(f"tax-{period.first}-{period.last}", form, sheets_out.TAX, sheets_out.tax_rows(context, period))


@router.get("/books.{form}", responses=SHEET)
def books_sheet(context: ReadContext, form: Form, period: PeriodAsked) -> Response:
    """Every sold line of a period with its money."""
    return as_file(f"books-{period.first}-{period.last}", form, sheets_out.BOOKS, sheets_out.book_rows(context, period))


class TaxOut(BaseModel):
    country: str
    store: str
    rate: str
    by: str
    orders: int
    paid: Money
    tax: Money


@router.get("/tax")
def tax(context: ReadContext, period: PeriodAsked) -> list[TaxOut]:
    return [
        TaxOut(
            country=country,
            store=store,
            rate=rate,
            by=by,
            orders=n,
            paid=Money(amount=paid, currency=home),
            tax=Money(amount=due, currency=home),
        )
        for country, store, rate, by, n, paid, due, home in sheets_out.tax_rows(context, period)
    ]


class WeeklyShape(Ask):
    """Who gets the weekly mail (none = nobody), and on which day of the week (0 = Monday)."""

    to: list[Annotated[str, Field(max_length=200)]] = Field(max_length=20)
    day: int = Field(ge=0, le=6)


class WeeklyOut(BaseModel):
    to: list[str]
    day: int
    # What it would say now.
    subject: str
    text: str


@router.get("/weekly")
def weekly(context: ReadContext) -> WeeklyOut:
    """The weekly mail: to whom it goes, and how the last whole week reads."""
    found, day = weekly_mail.settings_of(context), house_days.today(context)
    monday = day - timedelta(days=day.weekday() + 7)
    subject, text = weekly_mail.written(context, Period(monday, monday + timedelta(days=6)))
    return WeeklyOut(to=list(found.to), day=found.day, subject=subject, text=text)


@router.put("/weekly")
def set_weekly(context: WriteContext, ask: WeeklyShape) -> Done:
    fresh = weekly_mail.save(context, weekly_mail.WeeklyMail(tuple(one for one in ask.to if one), ask.day))
    return Done(
        message=f"The weekly mail goes to {len(fresh.to)} people" if fresh.to else "Nobody gets the weekly mail", count=len(fresh.to)
    )


class RankedOut(BaseModel):
    """A SKU by what it earns a day. group: loses, comes_back, often_out, rising, falling, never_sold, '' = nothing is to be done.

    chance: that it sells faster than before; worth: what is at stake a day.
    """

    id: int
    code: str
    title: str
    units: int
    days_on: int
    days_out: int
    pace: float
    unit: Money
    a_day: Money
    earned: Money
    chance: float
    group: str
    worth: Money
    cause: str
    step: str
    go: str


class RankingOut(BaseModel):
    rows: list[RankedOut]
    counts: dict[str, int]


@router.get("/ranking")
def ranking_list(context: ReadContext, group: Annotated[str, Query(max_length=20)] = "") -> RankingOut:
    """SKUs where something is to be done, by what is at stake a day; with `best`, by what they earn a day."""
    home, rows = home_of(context.session), ranking.ranked(context, 10**6)
    counts = {name: sum(one.group == name for one in rows) for name in ranking.GROUPS}
    chosen = (
        sorted(rows, key=lambda one: -one.a_day)
        if group == "best"
        else [one for one in rows if one.group == group or (not group and one.group not in ("", "never_sold"))]
    )
    return RankingOut(
        rows=[
            RankedOut(
                **{name: value for name, value in vars(one).items() if name not in ("sku", "unit", "a_day", "earned", "worth")},
                id=one.sku,
                unit=sure(one.unit, home),
                a_day=sure(one.a_day, home),
                earned=sure(one.earned, home),
                worth=sure(one.worth, home),
            )
            for one in chosen[:200]
        ],
        counts=counts,
    )


class SupplierCompared(BaseModel):
    """The last four weeks of a supplier. better: how many SKUs would leave more by another supplier's lane, and what that brings a week."""

    id: int
    name: str
    orders: int
    profit: Money
    margin: int | None
    taken: int
    answered: int
    in_time: int
    decided: int
    billed_more: Money
    claims: Money
    refunds: Money
    changes: int
    better: int
    better_a_week: Money


class StoreCompared(BaseModel):
    """The last four weeks of a store. takes, refunded: of what buyers paid, in ppm."""

    id: int
    name: str
    orders: int
    sales: Money
    takes: int | None
    refunded: int | None
    profit: Money
    margin: int | None


class PartnersCompared(BaseModel):
    suppliers: list[SupplierCompared]
    stores: list[StoreCompared]


@router.get("/partners")
def partners(context: ReadContext) -> PartnersCompared:
    """Suppliers and stores side by side."""
    home, period = home_of(context.session), partners_compared.weeks(context)
    moneys = ("profit", "billed_more", "claims", "refunds", "better_a_week")
    return PartnersCompared(
        suppliers=[
            SupplierCompared(**{**vars(one), **{name: sure(getattr(one, name), home) for name in moneys}})
            for one in partners_compared.suppliers(context, period)
        ],
        stores=[
            StoreCompared(**{**vars(one), "sales": sure(one.sales, home), "profit": sure(one.profit, home)})
            for one in partners_compared.stores(context, period)
        ],
    )


@router.post("/partners/{supplier}/first")
def put_first(context: WriteContext, supplier: Big) -> Done:
    """The better lanes of other suppliers become the main ones of all SKUs that come by this supplier."""
    n = partners_compared.put_first(context, supplier)
    return Done(message=f"{n} lane{'' if n == 1 else 's'} made main", count=n)
