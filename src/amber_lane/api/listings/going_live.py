"""Turning on what goes out to a store, one by one, each after a look at what would go out at once."""

from __future__ import annotations

from typing import Literal

from pydantic import BaseModel, Field

from ...core.permissions import Permission as P
from ...services.listings import going_live
from ..deps import ReadContext, WriteContext
from ..guard import GuardedRouter
from ..schemas import Ask, Big, Done, Money, money, sure

router = GuardedRouter(tags=["going live"], read=(P.SETTINGS,), write=(P.SETTINGS,))
AT = "/setup/stores/{number}/out/{what}"
What = Literal["prices", "stock", "orders"]


class OutRow(BaseModel):
    """old, new: prices, quantities (as text), or what was paid and what it costs. profit: a unit's, or the order's."""

    id: int
    code: str
    title: str
    old: str
    new: str
    percent: float | None
    profit: Money | None
    message: str


class OutLook(BaseModel):
    store: str
    version: int
    currency: str
    counts: dict[str, int]
    # Sums of money among the counts, to be shown.
    cost: Money | None
    paid: Money | None
    worst: list[OutRow]


class OutAsk(Ask):
    """seen: the counts that were looked at. start: what was looked at goes out now; else only what changes from now on."""

    version: int
    start: bool
    seen: dict[str, int] = Field(max_length=20)


class OffAsk(Ask):
    version: int


@router.get(AT)
def look(context: ReadContext, number: Big, what: What) -> OutLook:
    """What would go out at once. Nothing is written."""
    seen = going_live.preview(context, number, what)
    store = seen.store

    def row(one: going_live.GoingLiveRow) -> OutRow:
        cash = what != "stock"
        old, new = (sure(n, store.currency).amount if cash else str(n) for n in (one.old, one.new))
        percent = round((one.new - one.old) * 100 / one.old, 1) if what == "prices" and one.old else None
        profit = money(one.profit, store.currency)
        return OutRow(id=one.id, code=one.code, title=one.title, old=old, new=new, percent=percent, profit=profit, message=one.message)

    sums = {name: sure(seen.counts[name], store.currency) if name in seen.counts else None for name in ("cost", "paid")}
    return OutLook(
        store=store.name, version=store.version, currency=store.currency, counts=seen.counts, worst=[row(one) for one in seen.worst], **sums
    )


@router.post(AT)
def turn_on(context: WriteContext, number: Big, what: What, ask: OutAsk) -> Done:
    return Done(message=going_live.turn_on(context, number, ask.version, what, ask.start, ask.seen))


@router.post(f"{AT}/off")
def turn_off(context: WriteContext, number: Big, what: What, ask: OffAsk) -> Done:
    """At once: what had not gone out is taken back."""
    return Done(message=going_live.turn_off(context, number, ask.version, what))
