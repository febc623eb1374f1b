"""Profit by anything, the entries behind every number, and why it changed."""

from __future__ import annotations

from datetime import date, datetime
from typing import Annotated, Literal

from fastapi import Depends, Query, Response
from pydantic import BaseModel

from ...core.currency import plain
from ...core.permissions import Permission as P
from ...services.base.errors import Invalid
from ...services.base.regional import home_of
from ...services.books import entries, profit, why
from ...services.books.grouping import Figures, Period
from ...services.books.profit import Group, View
from ..deps import ReadContext
from ..guard import GuardedRouter
from ..imports.sheets import as_file
from ..schemas import SHEET, Big, Form, Money, money, sure

router = GuardedRouter("/books", tags=["books"], read=(P.SEE_BOOKS,), write=(P.KEEP_BOOKS,))

Dimension = Literal["order", "sku", "category", "supplier", "item", "artwork", "store", "country", "day", "week", "month"]
Against = Literal["before", "year"]
Effect = Literal["new", "ended", "volume", "mix", "price", "cost", "fees", "other"]
MOST_DAYS = 3700
FIRST_YEAR, LAST_YEAR = 1990, 2200


def period_asked(first: date, last: date) -> Period:
    if first.year < FIRST_YEAR or last.year > LAST_YEAR:
        raise Invalid(f"days lie between {FIRST_YEAR} and {LAST_YEAR}")
    if last < first:
        raise Invalid("the last day is before the first one")
    if (last - first).days > MOST_DAYS:
        raise Invalid("at most ten years can be looked at at once")
    return Period(first, last)


PeriodAsked = Annotated[Period, Depends(period_asked)]


def against_of(period: Period, against: Against) -> Period:
    return period.year_before() if against == "year" else period.before()


def filters_asked(
    context: ReadContext, only: Annotated[str, Query(max_length=300, description="name:value pairs, separated by ;")] = ""
) -> dict[str, int]:
    pairs = dict(one.partition(":")[::2] for one in only.split(";") if one)
    return {name.strip(): profit.filter_value(context, name.strip(), value.strip()) for name, value in pairs.items()}


FiltersAsked = Annotated[dict[str, int], Depends(filters_asked)]


class FiguresOut(BaseModel):
    """Sums in the house's currency; what is taken off has a minus. margin: profit of the net revenue, in ppm."""

    orders: int
    units: int
    sales: Money
    tax: Money
    net: Money
    fees: Money
    goods: Money
    sending: Money
    refunds: Money
    claims: Money
    contribution: Money
    below: Money
    other: Money
    profit: Money
    planned: Money
    margin: int | None


class ProfitRow(BaseModel):
    key: int
    name: str
    code: str
    now: FiguresOut
    before: FiguresOut
    change: Money


class ProfitOut(BaseModel):
    first: date
    last: date
    against_first: date
    against_last: date
    rows: list[ProfitRow]
    total: ProfitRow
    count: int
    left_out: list[str]


MONEYS = ("sales", "tax", "net", "fees", "goods", "sending", "refunds", "claims", "contribution", "below", "other", "profit", "planned")


def _figures(one: Figures, home: str) -> FiguresOut:
    amounts = {name: sure(one[name], home) for name in MONEYS}
    return FiguresOut(orders=one["orders"], units=one["units"], margin=one.margin, **amounts)


def _group(one: Group, home: str) -> ProfitRow:
    change = sure(one.now["profit"] - one.before["profit"], home)
    return ProfitRow(
        key=one.key, name=one.name, code=one.code, now=_figures(one.now, home), before=_figures(one.before, home), change=change
    )


class TableAsked(BaseModel):
    """How the rows stand."""

    sort: str = "profit"
    down: bool = True
    offset: int = 0
    limit: int = 200


def table_asked(
    sort: Annotated[str, Query(max_length=20)] = "profit",
    down: bool = True,
    offset: Annotated[int, Query(ge=0, le=10_000_000)] = 0,
    limit: Annotated[int, Query(ge=1, le=500)] = 200,
) -> TableAsked:
    return TableAsked(sort=sort, down=down, offset=offset, limit=limit)


Asked = Annotated[TableAsked, Depends(table_asked)]


@router.get("/profit")
def profit_table(
    context: ReadContext, by: Dimension, period: PeriodAsked, only: FiltersAsked, asked: Asked, against: Against = "before"
) -> ProfitOut:
    """Profit by a dimension, beside the period before or the same days of last year."""
    other = against_of(period, against)
    found = profit.table(context, View(by, period, other, only, **asked.model_dump()))
    home = home_of(context.session)
    return ProfitOut(
        first=period.first,
        last=period.last,
        against_first=other.first,
        against_last=other.last,
        rows=[_group(one, home) for one in found.rows],
        total=_group(found.total, home),
        count=found.count,
        left_out=found.left_out,
    )


HEADER = (
    "name", "code", "orders", "units", "sales", "tax", "net_revenue", "fees", "goods", "sending", "refunds", "claims", "contribution",
    "fixed_costs", "other", "profit", "planned_profit", "profit_before", "currency",
)  # fmt: skip


# Columns of the table on the page -> what they are called in the sheet.
HIDES = {"net": "net_revenue", "other": "other", "change": "profit_before", "planned": "planned_profit"}


class SheetAsked(TableAsked):
    """How the rows stand, and which columns (as the page calls them) are left out."""

    hide: str = ""


def sheet_asked(asked: Asked, hide: Annotated[str, Query(max_length=200)] = "") -> SheetAsked:
    return SheetAsked(**asked.model_dump(), hide=hide)


@router.get("/profit.{form}", responses=SHEET)
def profit_sheet(
    context: ReadContext,
    form: Form,
    by: Dimension,
    period: PeriodAsked,
    only: FiltersAsked,
    asked: Annotated[SheetAsked, Depends(sheet_asked)],
    against: Against = "before",
) -> Response:
    """The same table as a sheet, with all of its rows, and without the columns that were taken out of sight."""
    view = View(by, period, against_of(period, against), only, asked.sort, asked.down, 0, 1_000_000)
    found, home = profit.table(context, view), home_of(context.session)
    rows = [
        [one.name, one.code, one.now["orders"], one.now["units"], *(plain(one.now[name], home) for name in MONEYS),
         plain(one.before["profit"], home), home]
        for one in (*found.rows, found.total)
    ]  # fmt: skip
    gone = {HIDES.get(one, one) for one in asked.hide.split(",")}
    kept = [n for n, name in enumerate(HEADER) if name not in gone or name in ("name", "profit", "currency")]
    head = [HEADER[n] for n in kept]
    return as_file(f"profit-by-{by}-{period.first}-{period.last}", form, head, [[row[n] for n in kept] for row in rows])


class CrossRow(BaseModel):
    key: int
    name: str
    code: str
    cells: list[Money | None]
    total: Money


class CrossOut(BaseModel):
    columns: list[str]
    rows: list[CrossRow]


@router.get("/cross")
def cross(
    context: ReadContext,
    by: Dimension,
    across: Dimension,
    period: PeriodAsked,
    only: FiltersAsked,
    figure: Annotated[str, Query(max_length=20)] = "profit",
) -> CrossOut:
    """One figure by two dimensions, one as rows and one as columns."""
    if figure not in MONEYS:
        raise Invalid(f"there is no figure {figure!r}; there are {', '.join(MONEYS)}")
    home = home_of(context.session)
    heads, rows = profit.cells(context, by, across, period, figure, only)
    return CrossOut(
        columns=[name for _, name in heads],
        rows=[
            CrossRow(key=key, name=name, code=code, cells=[money(found.get(head), home) for head, _ in heads], total=sure(total, home))
            for key, name, code, found, total in rows[:500]
        ],
    )


class DayOut(BaseModel):
    day: date
    sales: Money
    profit: Money


class DaysOut(BaseModel):
    """Every day of a period. level: profit of a usual day before it; low and high: between them nine of ten usual days lie."""

    days: list[DayOut]
    level: Money
    low: Money
    high: Money


@router.get("/days")
def days(context: ReadContext, period: PeriodAsked, only: FiltersAsked) -> DaysOut:
    home = home_of(context.session)
    level, low, high = profit.usual(context, period, only)
    return DaysOut(
        days=[
            DayOut(day=day, sales=sure(sales, home), profit=sure(left, home)) for day, sales, left in profit.days_of(context, period, only)
        ],
        level=sure(level, home),
        low=sure(low, home),
        high=sure(high, home),
    )


class BridgeEffect(BaseModel):
    effect: str
    amount: Money


class WhyOut(BaseModel):
    first: date
    last: date
    against_first: date
    against_last: date
    before: Money
    after: Money
    change: Money
    effects: list[BridgeEffect]
    left_out: list[str]


@router.get("/why")
def why_changed(context: ReadContext, period: PeriodAsked, only: FiltersAsked, against: Against = "before") -> WhyOut:
    """What the change of profit is made of; the effects add up to it exactly."""
    other, home = against_of(period, against), home_of(context.session)
    found = why.changed(context, period, other, only)
    return WhyOut(
        first=period.first,
        last=period.last,
        against_first=other.first,
        against_last=other.last,
        before=sure(found.before, home),
        after=sure(found.after, home),
        change=sure(found.after - found.before, home),
        effects=[BridgeEffect(effect=name, amount=sure(amount, home)) for name, amount in found.effects.items()],
        left_out=profit.left_out(context),
    )


class PartOut(BaseModel):
    sku: int
    code: str
    title: str
    amount: Money


class BehindAct(BaseModel):
    at: datetime
    who: str
    message: str


class EffectDetail(BaseModel):
    """parts: the SKUs with most of it; more: how many others, and what they come to; acts: what may be behind it."""

    effect: str
    amount: Money
    parts: list[PartOut]
    more: int
    rest: Money
    sentence: str
    acts: list[BehindAct]


@router.get("/why/{effect}")
def effect_detail(
    context: ReadContext, effect: Effect, period: PeriodAsked, only: FiltersAsked, against: Against = "before"
) -> EffectDetail:
    other, home = against_of(period, against), home_of(context.session)
    found = why.changed(context, period, other, only)
    parts, more, rest = why.parts_of(context, found, effect)
    return EffectDetail(
        effect=effect,
        amount=sure(found.effects[effect], home),
        parts=[PartOut(sku=one.sku, code=one.code, title=one.title, amount=sure(one.amount, home)) for one in parts],
        more=more,
        rest=sure(rest, home),
        sentence=why.sentence(context, found, effect, period, other),
        acts=[BehindAct(at=one.at, who=one.who, message=one.message) for one in why.acts_of(context, effect, period, other)],
    )


class EntryOut(BaseModel):
    """home: None where there is no rate, so that it is in no sum."""

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
    amount: Money
    home: Money | None
    who: str


class EntriesOut(BaseModel):
    rows: list[EntryOut]
    count: int
    total: Money


def _entry(one: entries.Shown, home: str) -> EntryOut:
    return EntryOut(**{**vars(one), "amount": sure(one.amount, one.currency), "home": money(one.home, home)})


@router.get("/entries")
def entries_behind(
    context: ReadContext,
    by: Dimension,
    period: PeriodAsked,
    only: FiltersAsked,
    figure: Annotated[str, Query(max_length=20)] = "profit",
    key: int | None = None,
    offset: Annotated[int, Query(ge=0, le=10_000_000)] = 0,
) -> EntriesOut:
    """The entries that a number is the sum of."""
    home = home_of(context.session)
    rows, count, total = entries.behind(context, entries.Number(period, by, key, figure, only), offset)
    return EntriesOut(rows=[_entry(one, home) for one in rows], count=count, total=sure(total, home))


class ReasonOut(BaseModel):
    basis: str
    amount: Money


class ComparedOut(BaseModel):
    kind: str
    planned: Money
    actual: Money
    reasons: list[ReasonOut]


class OrderBooks(BaseModel):
    """An order's money as it was planned when it was bought beside what it came to, and every entry of it.

    untold: what its store did not tell of it: shipping_paid and discount count as nought, tax is worked out.
    """

    parts: list[ComparedOut]
    planned: Money
    actual: Money
    entries: list[EntryOut]
    untold: list[str]


@router.get("/orders/{number}")
def order_books(context: ReadContext, number: Big) -> OrderBooks:
    home = home_of(context.session)
    parts = entries.planned_beside_actual(context, number)
    return OrderBooks(
        parts=[
            ComparedOut(
                kind=one.kind,
                planned=sure(one.planned, home),
                actual=sure(one.actual, home),
                reasons=[ReasonOut(basis=basis, amount=sure(amount, home)) for basis, amount in one.reasons.items()],
            )
            for one in parts
        ],
        planned=sure(sum(one.planned for one in parts), home),
        actual=sure(sum(one.actual for one in parts), home),
        entries=[_entry(one, home) for one in entries.of_order(context, number)],
        untold=entries.untold(context, number),
    )
