"""What is done about a depot's goods: asked for, answered, changed, ordered, counted, written off."""

from __future__ import annotations

from datetime import date
from typing import Annotated, Any

from pydantic import Field

from ...core.currency import parse_money
from ...core.permissions import Permission as P
from ...core.states import HeldState
from ...data.depot import HeldGoods
from ...data.setup import Supplier
from ...services.base import house_days
from ...services.base.errors import Invalid
from ...services.depot import goods, ledger, loads
from ..deps import WriteContext
from ..guard import GuardedRouter
from ..schemas import Ask, Big, Done, Money

router = GuardedRouter("/depot", tags=["depot"], read=(P.SEE_GOODS, P.SEE_MONEY), write=(P.ORDER,))
Word = Annotated[str, Field(max_length=300)]
Units = Annotated[int, Field(ge=0, le=10**7)]


class VersionedAsk(Ask):
    version: int


def amount_of(given: Money, currency: str, what: str) -> int:
    """An amount in minor units. Invalid where it is in another money, or none."""
    if given.currency != currency:
        raise Invalid(f"{what.replace('_', ' ')} is in {currency}", {what: f"must be in {currency}"})
    try:
        return parse_money(given.amount, currency, what)
    except ValueError as error:
        raise Invalid(str(error), {what: str(error)}) from error


class HoldAsk(Ask):
    """sides: of one unit as it is packed, mm."""

    sku: Big
    depot: Big
    sides: Annotated[list[int], Field(min_length=3, max_length=3)]
    weight_g: int
    inner: int = 1
    carton: int = 0
    least: int = 0
    source: Big | None = None


class SeasonAsk(Ask):
    name: Annotated[str, Field(max_length=60)] = ""
    first: date
    last: date
    times: Annotated[int, Field(ge=0, le=20_000_000)]


class HeldChangeAsk(VersionedAsk):
    """What is not given stays. service: percent, 0 = as the house wishes."""

    sides: Annotated[list[int], Field(min_length=3, max_length=3)] | None = None
    weight_g: int | None = None
    inner: int | None = None
    carton: int | None = None
    least: int | None = None
    service: Annotated[float, Field(ge=0, le=100)] | None = None
    seasons: Annotated[list[SeasonAsk], Field(max_length=30)] | None = None


class OrderLineAsk(Ask):
    held: Big
    units: Annotated[int, Field(gt=0, le=loads.UNITS_MOST)]


class OrderAsk(Ask):
    lines: Annotated[list[OrderLineAsk], Field(min_length=1, max_length=500)]


class NotNowAsk(Ask):
    days: Annotated[int, Field(ge=1, le=366)] = 7


class DepotLaneAsk(Ask):
    use: Annotated[int, Field(ge=0, le=20)] = 0


class TextAsk(VersionedAsk):
    text: Annotated[str, Field(max_length=1000)]


class SendBackAsk(VersionedAsk):
    """paid: what its supplier pays for all of it."""

    units: Units
    paid: Money


class SayAsk(VersionedAsk):
    state: Annotated[str, Field(pattern="^(question|agreed|refused)$")]
    message: Word = ""


class UnitsAsk(VersionedAsk):
    units: Units
    reason: Word = ""


@router.post("/goods", status_code=201)
def ask(context: WriteContext, wish: HoldAsk) -> Done:
    """Ask a depot to hold a SKU."""
    sides = (wish.sides[0], wish.sides[1], wish.sides[2])
    row = goods.ask(
        context, goods.HoldWish(wish.sku, wish.depot, sides, wish.weight_g, wish.inner, wish.least, wish.carton, source=wish.source)
    )
    depot = context.get(Supplier, row.supplier_id, "depot")
    return Done(
        message=f"{depot.name} is asked to hold {row.number}" if row.state == HeldState.asked else f"{row.number} is held there again"
    )


@router.patch("/goods/{number}")
def change(context: WriteContext, number: Big, wish: HeldChangeAsk) -> Done:
    sides = (wish.sides[0], wish.sides[1], wish.sides[2]) if wish.sides else None
    seasons: list[dict[str, Any]] | None = None
    if wish.seasons is not None:
        seasons = [one.model_dump(mode="json") for one in wish.seasons]
    service = None if wish.service is None else round(wish.service * 10_000)
    made = goods.HeldChange(sides, wish.weight_g, wish.inner, wish.carton, wish.least, service, seasons)
    return Done(message=f"{goods.change(context, number, wish.version, made).number} is saved")


@router.post("/goods/{number}/answer")
def answer(context: WriteContext, number: Big, wish: TextAsk) -> Done:
    """Answer what the depot asked."""
    row = goods.answer_question(context, number, wish.version, wish.text)
    return Done(message=f"{context.get(Supplier, row.supplier_id, 'depot').name} is told")


@router.post("/goods/{number}/say")
def say(context: WriteContext, number: Big, wish: SayAsk) -> Done:
    """What a depot without an interface said."""
    row = context.get_version(HeldGoods, number, wish.version, "goods of a depot")
    goods.say(context, row, wish.state, wish.message)
    return Done(message=f"{row.number}: {row.state}")


@router.post("/goods/{number}/end")
def end(context: WriteContext, number: Big, wish: VersionedAsk) -> Done:
    """Send no more of it there; what is there is still sold."""
    return Done(message=f"no more of {goods.end(context, number, wish.version).number} is sent there")


@router.post("/goods/{number}/not-now")
def not_now(context: WriteContext, number: Big, wish: NotNowAsk) -> Done:
    row = goods.not_now(context, number, wish.days)
    until = house_days.day_text(context, row.quiet_until) if row.quiet_until else ""
    return Done(message=f"nothing is proposed for {row.number} before {until}")


@router.post("/goods/{number}/lane", status_code=201)
def lane(context: WriteContext, number: Big, wish: DepotLaneAsk) -> Done:
    """Open a lane to what the depot holds: use 0 = main."""
    goods.open_lane(context, number, wish.use)
    return Done(message="It is the main lane now" if wish.use == 0 else "It is a spare now")


@router.post("/goods/{number}/write-off")
def write_off(context: WriteContext, number: Big, wish: UnitsAsk) -> Done:
    row = ledger.write_off(context, number, wish.version, wish.units, wish.reason)
    return Done(message=f"{wish.units} of {row.number} are written off")


@router.post("/goods/{number}/send-back")
def send_back(context: WriteContext, number: Big, wish: SendBackAsk) -> Done:
    """It went back to its supplier, who pays so much for it in all."""
    held = context.get(HeldGoods, number, "goods of a depot")
    paid = amount_of(wish.paid, context.get(Supplier, held.supplier_id, "depot").currency, "paid")
    row = ledger.send_back(context, number, wish.version, wish.units, paid)
    return Done(message=f"{wish.units} of {row.number} are gone from the stock")


@router.post("/goods/{number}/count")
def count_goods(context: WriteContext, number: Big, wish: UnitsAsk) -> Done:
    """What is really there: the ledger gets the difference."""
    row = ledger.take_count(context, number, wish.version, wish.units, wish.reason)
    return Done(message=f"{wish.units} of {row.number} are there")


@router.post("/order", status_code=201)
def order_goods(context: WriteContext, wish: OrderAsk) -> Done:
    """Make loads of these goods and buy them: one for each depot and supplier."""
    made = loads.order_all(context, [(one.held, one.units) for one in wish.lines])
    names = ", ".join(one.reference for one in made)
    return Done(message=f"ordered as {names}", count=len(made))
