"""What to do more of, and suppliers and stores side by side."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query
from pydantic import BaseModel

from ...core.permissions import Permission as P
from ...services.base.regional import home_of
from ...services.books import partners_compared, steps_worth
from ...services.books import ranking as ranked_skus
from ..deps import ReadContext, WriteContext
from ..guard import GuardedRouter
from ..schemas import Big, Done, Money, sure

router = GuardedRouter("/books", tags=["books"], read=(P.SEE_BOOKS,), write=(P.KEEP_BOOKS,))


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
    home, rows = home_of(context.session), ranked_skus.ranked(context, 10**6)
    counts = {name: sum(one.group == name for one in rows) for name in ranked_skus.GROUPS}
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


class AtPriceOut(BaseModel):
    """A price, what a unit leaves at it, what that is a day, and how many sales leave as much as now (ppm of those of now)."""

    price: Money
    unit: Money
    a_day: Money
    sales: int | None


class ByLaneOut(BaseModel):
    lane: int
    supplier: str
    priority: int
    unit: Money
    a_day: Money


class StepsWorthOut(BaseModel):
    store: str
    prices: list[AtPriceOut]
    lanes: list[ByLaneOut]


@router.get("/ranking/{sku}/steps")
def steps(context: ReadContext, sku: Big) -> StepsWorthOut:
    """What another price, or another lane first, would bring for one SKU."""
    home, found = home_of(context.session), steps_worth.steps_worth(context, sku)
    return StepsWorthOut(
        store=found.store,
        prices=[
            AtPriceOut(
                price=sure(one.price, found.currency), unit=sure(one.unit, found.currency), a_day=sure(one.a_day, home), sales=one.sales
            )
            for one in found.prices
        ],
        lanes=[ByLaneOut(**{**vars(one), "unit": sure(one.unit, home), "a_day": sure(one.a_day, home)}) for one in found.lanes],
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
    # What is lost on claims of what its goods cost, in ppm; null = nothing was claimed yet.
    lost: int | None


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
