"""Fixed costs, closed months, tax, sheets for the accountant, the weekly mail."""

from __future__ import annotations

from datetime import date, datetime, timedelta
from typing import Annotated

from fastapi import Response
from pydantic import BaseModel, Field

from ...core.permissions import Permission as P
from ...data.setup import Store
from ...services.alerts import weekly_mail
from ...services.base import house_days
from ...services.books import overheads, sheets_out
from ...services.books.grouping import Period
from ..deps import ReadContext, WriteContext
from ..guard import GuardedRouter
from ..imports.sheets import as_file
from ..schemas import SHEET, Ask, Big, Done, Form, Money, minor, sure
from .profit import PeriodAsked

router = GuardedRouter("/books", tags=["books"], read=(P.SEE_BOOKS,), write=(P.KEEP_BOOKS,))


class OverheadOut(BaseModel):
    id: int
    version: int
    name: str
    store: str
    # Of a supplier's plan: it follows the supplier's terms.
    plan: str
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
                plan=one.plan,
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
