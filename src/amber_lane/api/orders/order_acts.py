"""What is done with orders: sent, let go, cancelled whole or in part, mended."""

from __future__ import annotations

import json

from fastapi import Response
from pydantic import Field

from ...core.permissions import Permission as P
from ...services.base.errors import Conflict
from ...services.orders import buyer_data, cancellations, order_lines, orders
from ...services.purchasing import next_steps, purchase_orders
from ..deps import WriteContext
from ..guard import GuardedRouter, needs
from ..schemas import Ask, Big, Done, download

router = GuardedRouter("/orders", tags=["orders"], read=(P.SEE_ORDERS,), write=(P.ORDER,))


class SendAsk(Ask):
    """orders: those to send; empty = all that are ready."""

    orders: list[Big] = Field(default_factory=list, max_length=100_000)
    paid_together: bool = False


@router.post("/send")
def send(context: WriteContext, ask: SendAsk) -> Done:
    made = purchase_orders.send(context, ask.orders or purchase_orders.ready_orders(context), "sent by hand", ask.paid_together)
    if not made and purchase_orders.waits_for_files(context, ask.orders):
        raise Conflict("the print file is still being made; try again in a minute, nothing was sent")
    if not made:
        raise Conflict("none of these orders is ready any more; nothing was sent")
    n = len({one.order_id for one in made})
    return Done(message=f"{n} order{'' if n == 1 else 's'} sent to suppliers", count=n)


class WaitAsk(Ask):
    """by_hand: they wait until a person sends them; else they go by themselves again."""

    orders: list[Big] = Field(min_length=1, max_length=100_000)
    by_hand: bool = True


@router.post("/wait")
def wait(context: WriteContext, ask: WaitAsk) -> Done:
    n = purchase_orders.wait(context, ask.orders, ask.by_hand)
    return Done(message=f"{n} order{'' if n == 1 else 's'} {'wait for your hand' if ask.by_hand else 'go by themselves again'}", count=n)


class ReasonAsk(Ask):
    reason: str = Field("", max_length=300)


class PickedOrdersAsk(ReasonAsk):
    orders: list[Big] = Field(min_length=1, max_length=100_000)


@router.post("/many/allow")
def allow_many(context: WriteContext, ask: PickedOrdersAsk) -> Done:
    n, left = orders.allow_many(context, ask.orders, ask.reason)
    more = f"; {left} cannot be let go by a word, look at them one by one" if left else ""
    return Done(message=f"{n} order{'' if n == 1 else 's'} may go{more}", count=n)


@router.post("/many/cancel")
def cancel_many(context: WriteContext, ask: PickedOrdersAsk) -> Done:
    """Cancel orders that are not bought; their stores refund them. Cannot be undone."""
    n, messages = orders.cancel_many(context, ask.orders, ask.reason)
    more = f"; {len(messages)} were not, the first: {messages[0]}" if messages else ""
    return Done(message=f"{n} order{'' if n == 1 else 's'} cancelled, their stores refund them{more}", count=n)


@router.post("/{number}/cancel")
def cancel(context: WriteContext, number: Big, ask: ReasonAsk) -> Done:
    return Done(message=f"Order {orders.cancel(context, number, ask.reason).number} cancelled, the store refunds it")


class WayAsk(Ask):
    key: str = Field(min_length=1, max_length=2000)


@router.post("/{number}/way")
def go_on(context: WriteContext, number: Big, ask: WayAsk) -> Done:
    """Go one of the ways on that the order offers."""
    return Done(message=next_steps.take_way(context, number, ask.key))


class CutAsk(Ask):
    """units None = the whole line."""

    line: Big
    units: int | None = Field(None, ge=1, le=1_000_000)


class LinesAsk(ReasonAsk):
    lines: list[CutAsk] = Field(min_length=1, max_length=500)


@router.post("/{number}/cancel-lines")
def cancel_lines(context: WriteContext, number: Big, ask: LinesAsk) -> Done:
    """Cancel some lines, or some units of them, and have the store refund them. Cannot be undone."""
    return Done(message=order_lines.cancel_lines(context, number, {one.line: one.units for one in ask.lines}, ask.reason))


class SendPartAsk(Ask):
    lines: list[Big] = Field(min_length=1, max_length=500)


@router.post("/{number}/part")
def send_part(context: WriteContext, number: Big, ask: SendPartAsk) -> Done:
    """Let some lines go first."""
    return Done(message=order_lines.send_part(context, number, ask.lines))


class AddressAsk(Ask):
    version: int
    name: str = Field(max_length=100)
    address_1: str = Field(max_length=200)
    address_2: str = Field("", max_length=200)
    city: str = Field(max_length=100)
    region: str = Field("", max_length=100)
    postcode: str = Field(max_length=20)
    country: str = Field(max_length=40)
    phone: str = Field("", max_length=40)


@router.post("/{number}/settled")
def settled(context: WriteContext, number: Big) -> Done:
    """What the buyer asked for after buying was settled with them."""
    row = cancellations.close_wish(context, number)
    return Done(message=f"Order {row.number}: settled with the buyer")


@router.post("/{number}/address")
def mend(context: WriteContext, number: Big, ask: AddressAsk) -> Done:
    given = ask.model_dump()
    version = given.pop("version")
    orders.mend_address(context, number, version, given)
    return Done(message="Address mended; the one the buyer gave is kept")


class LaneAsk(Ask):
    lane: Big | None


@router.post("/lines/{line}/lane")
def choose_lane(context: WriteContext, line: Big, ask: LaneAsk) -> Done:
    orders.choose_lane(context, line, ask.lane)
    return Done(message="Lane chosen by hand" if ask.lane else "The plan chooses again")


@router.get("/{number}/buyer.json", response_class=Response, responses=download("application/json"))
@needs(P.ORDER)
def buyer_message(context: WriteContext, number: Big) -> Response:
    """All that is held of the buyer of an order, in this order and their others, as a file for them."""
    message = buyer_data.held_data(context, number)
    head = {"Content-Disposition": 'attachment; filename="buyer.json"'}
    return Response(json.dumps(message, ensure_ascii=False, indent=1), media_type="application/json", headers=head)


@router.post("/{number}/erase-buyer")
@needs(P.SETTINGS)
def erase_buyer(context: WriteContext, number: Big) -> Done:
    """Nothing tells any more who bought it, nor the others of this buyer; their sums stay. Cannot be undone."""
    return Done(message=buyer_data.erase(context, number))
