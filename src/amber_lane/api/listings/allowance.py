"""A store's allowance: what to show within it for the most expected profit, and keeping to it."""

from __future__ import annotations

from pydantic import BaseModel, Field

from ...core.permissions import Permission as P
from ...data.setup import Store
from ...services.base.errors import Invalid
from ...services.listings import allowance
from ..deps import ReadContext, WriteContext
from ..guard import GuardedRouter
from ..schemas import Ask, Big, Done, Money, sure

router = GuardedRouter("/shelf", tags=["shelf"], read=(P.SEE_GOODS, P.SEE_MONEY), write=(P.SETTINGS,))


class AllowanceRow(BaseModel):
    listing: int
    sku: str
    now: int
    planned: int
    pace: float
    profit: Money
    worth: Money


class AllowanceOut(BaseModel):
    hours: int
    listings_most: int | None
    units_most: int | None
    value_most: Money | None
    value_now: Money
    value: Money
    listings_now: int
    units_now: int
    listings: int
    units: int
    worth_now: Money
    worth: Money
    gains: Money
    gap: Money
    moved: int
    rows: list[AllowanceRow]


class HoursAsk(Ask):
    hours: int = Field(24, ge=1, le=24 * 30)


@router.get("/stores/{number}/allowance")
def allowance_plan(context: ReadContext, number: Big, hours: int = 24) -> AllowanceOut:
    """What to show within a store's limit for the most expected profit, against what it shows now."""
    if not 1 <= hours <= 24 * 30:
        raise Invalid("plan for 1 hour to 30 days")
    made = allowance.plan(context, number, hours)
    store = context.get(Store, number, "store")

    def cash(value: int) -> Money:
        return sure(value, store.currency)

    moved = [row for row in made.rows if row.planned != row.now]
    return AllowanceOut(
        hours=hours,
        listings_most=store.allowance_listings,
        units_most=store.allowance_units,
        value_most=None if store.allowance_value is None else cash(store.allowance_value),
        value_now=cash(made.value_now),
        value=cash(made.value),
        listings_now=made.listings_now,
        units_now=made.units_now,
        listings=made.listings,
        units=made.units,
        worth_now=cash(made.worth_now),
        worth=cash(made.worth),
        gains=cash(made.worth - made.worth_now),
        gap=cash(made.gap),
        moved=len(moved),
        rows=[
            AllowanceRow(
                listing=row.listing,
                sku=row.sku,
                now=row.now,
                planned=row.planned,
                pace=round(row.pace, 3),
                profit=cash(row.profit),
                worth=cash(row.worth),
            )
            for row in moved[:100]
        ],
    )


@router.post("/stores/{number}/allowance")
def allowance_apply(context: WriteContext, number: Big, ask: HoursAsk) -> Done:
    """Show what the plan says, no more. Can be undone."""
    n = allowance.apply(context, number, ask.hours)
    return Done(message=f"{n} listings follow the plan", count=n)
