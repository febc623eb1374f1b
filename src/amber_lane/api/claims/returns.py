"""Returns: what buyers ask for in their store, and goods on their way back, each as a part of its case."""

from __future__ import annotations

from datetime import date, datetime
from typing import Annotated, Literal

from fastapi import Response
from pydantic import BaseModel, Field

from ...core.claims import ClaimReason
from ...core.permissions import Permission as P
from ...data.orders import Order, OrderLine
from ...data.returns import GoodsReturn, ReturnRequest
from ...data.setup import Carrier, Store, Supplier
from ...services.base.context import Context
from ...services.base.errors import NotFound
from ...services.claims import buyer_side, return_requests, returns
from ...services.claims.letters import WORDS
from ...services.depot import goods_back
from ...services.fulfilment.parcel_tracking import page_of
from ..deps import ReadContext, WriteContext
from ..guard import GuardedRouter
from ..schemas import Ask, Big, Done, Money, money, sure
from .cases import LetGoAsk, Opened

router = GuardedRouter("/returns", tags=["returns"], read=(P.SEE_ORDERS, P.SEE_MONEY), write=(P.CLAIM,), limited=True)


class ReturnAskedRow(BaseModel):
    """A return that a buyer asked for in their store. answer_by: then the store decides; case: the one that was opened of it."""

    id: int
    version: int
    number: str
    order: str
    order_id: int
    store: str
    buyer: str
    title: str
    units: int
    paid: Money
    reason: str
    words: str
    asked_at: datetime
    answer_by: datetime | None
    case: int | None


class RefuseReturnAsk(Ask):
    version: int
    reason: Annotated[str, Field(max_length=500)]


class ReturnPlace(BaseModel):
    """supplier: null = to us."""

    supplier: int | None
    name: str
    address: str
    is_depot: bool


class ReturnCarrier(BaseModel):
    id: int
    name: str
    labels: bool


class ReturnOut(BaseModel):
    """to: who gets it; stocks: whether it can go into that depot's stock; ours: it goes to us or a depot of ours;
    label: '' = none, asked, made or refused."""

    id: int
    version: int
    number: str
    case: int
    order: str
    buyer: str
    title: str
    units: int
    to: str
    address: str
    stocks: bool
    ours: bool
    refund_when: str
    state: str
    opened_at: datetime
    send_by: date
    label: str
    label_message: str
    label_cost: Money | None
    carrier: str
    tracking: str
    page: str
    last_word: str
    arrived_at: datetime | None
    sound: int
    note: str


class ReturnOfCase(BaseModel):
    """What can be done about sending the goods of a case back, and what was."""

    there: ReturnOut | None
    places: list[ReturnPlace]
    carriers: list[ReturnCarrier]
    asked: ReturnAskedRow | None


class OpenReturnAsk(Ask):
    """version: of the case. supplier: null = to us; carrier: who makes a label, null = the buyer sends it by themselves."""

    case: Big
    version: int
    supplier: Big | None = None
    address: Annotated[str, Field(max_length=400)]
    refund_when: Literal["at_once", "sent", "arrived", "looked_at"] = "arrived"
    days: Annotated[int, Field(ge=1, le=returns.DAYS_MOST)] = returns.SEND_DAYS
    carrier: Big | None = None


class ReturnSentAsk(Ask):
    version: int
    tracking: Annotated[str, Field(max_length=60)] = ""
    carrier: Big | None = None


class ReturnVersionAsk(Ask):
    version: int


class ReturnLookAsk(Ask):
    """sound: units that can be sold again, and go into the depot's stock."""

    version: int
    sound: Annotated[int, Field(ge=0, le=100_000)]
    note: Annotated[str, Field(max_length=300)] = ""


@router.get("/asked")
def asked_for(context: ReadContext) -> list[ReturnAskedRow]:
    """Returns that wait for an answer, those of the nearest deadline first."""
    return [_asked(context, row, order, line) for row, order, line in return_requests.waiting(context)]


def _asked(context: Context, row: ReturnRequest, order: Order, line: OrderLine) -> ReturnAskedRow:
    return ReturnAskedRow(
        id=row.id,
        version=row.version,
        number=row.number,
        order=order.number,
        order_id=order.id,
        store=context.get(Store, row.store_id, "store").name,
        buyer=order.buyer,
        title=line.title or line.sku_code,
        units=row.units,
        paid=sure(line.total, order.currency),
        reason=WORDS[ClaimReason(row.reason)],
        words=row.words,
        asked_at=row.asked_at,
        answer_by=row.answer_by,
        case=row.claim_id,
    )


@router.post("/asked/{number}/case", status_code=201)
def open_case(context: WriteContext, number: Big) -> Opened:
    """Open a case of it; the store is answered by what is done there."""
    row = return_requests.open_case(context, number)
    return Opened(message=f"case {row.reference} is open", id=row.id)


@router.post("/asked/{number}/refuse")
def refuse(context: WriteContext, number: Big, ask: RefuseReturnAsk) -> Done:
    """Refuse it, with why."""
    row = return_requests.refuse(context, number, ask.version, ask.reason)
    return Done(message=f"return {row.number} is refused")


@router.get("")
def coming_back(context: ReadContext) -> list[ReturnOut]:
    """Goods on their way back, and those that nobody has looked at."""
    return [_return(context, one) for one in returns.open_ones(context)]


def _return(context: Context, row: GoodsReturn) -> ReturnOut:
    order, line = context.get(Order, row.order_id, "order"), context.get(OrderLine, row.order_line_id, "order line")
    carrier = context.session.get(Carrier, row.carrier_id or 0)
    return ReturnOut(
        id=row.id,
        version=row.version,
        number=row.number,
        case=row.claim_id,
        order=order.number,
        buyer=order.buyer,
        title=line.title or line.sku_code,
        units=row.units,
        to=context.get(Supplier, row.supplier_id, "supplier").name if row.supplier_id else "us",
        address=row.address,
        stocks=row.supplier_id is not None and goods_back.takes(context, row.supplier_id, row.order_line_id) is not None,
        ours=returns.is_ours(context, row),
        refund_when=row.refund_when,
        state=row.state,
        opened_at=row.opened_at,
        send_by=row.send_by,
        label=row.label,
        label_message=row.label_message,
        label_cost=money(row.label_cost, row.label_currency) if row.label == "made" else None,
        carrier=carrier.name if carrier else "",
        tracking=row.tracking,
        page=page_of(carrier, row.tracking) if carrier and row.tracking else "",
        last_word=row.last_word,
        arrived_at=row.arrived_at,
        sound=row.sound,
        note=row.note,
    )


@router.get("/of-case/{number}")
def of_case(context: ReadContext, number: Big) -> ReturnOfCase:
    """What is known of sending back the goods of a case."""
    claim = buyer_side.own(context, number)
    there, asked = returns.of_claim(context, number), return_requests.of_claim(context, number)
    labels = {one.id for one in returns.labelled_by(context)}
    order, line = context.get(Order, claim.order_id, "order"), context.get(OrderLine, claim.order_line_id, "order line")
    return ReturnOfCase(
        there=_return(context, there) if there else None,
        places=[
            ReturnPlace(supplier=one.supplier, name=one.name, address=one.address, is_depot=one.is_depot)
            for one in returns.places(context, claim)
        ],
        carriers=[ReturnCarrier(id=one.id, name=one.name, labels=one.id in labels) for one in returns.carriers(context)],
        asked=_asked(context, asked, order, line) if asked else None,
    )


@router.post("", status_code=201)
def open_return(context: WriteContext, ask: OpenReturnAsk) -> Opened:
    """Let the buyer send it back."""
    buyer_side.own(context, ask.case)
    start = returns.Start(ask.supplier, ask.address, ask.refund_when, ask.days, ask.carrier)
    row = returns.open_return(context, ask.case, ask.version, start)
    return Opened(message=f"it may come back as {row.number}", id=row.id)


def _own(context: Context, number: int) -> GoodsReturn:
    """A return of a case of whoever acts."""
    row = context.get(GoodsReturn, number, "return")
    buyer_side.own(context, row.claim_id)
    return row


@router.post("/{number}/sent")
def sent(context: WriteContext, number: Big, ask: ReturnSentAsk) -> Done:
    """The buyer has sent it."""
    _own(context, number)
    return Done(message=f"{returns.sent(context, number, ask.version, ask.tracking, ask.carrier).number} is on its way back")


@router.post("/{number}/here")
def here(context: WriteContext, number: Big, ask: ReturnVersionAsk) -> Done:
    """It has arrived."""
    _own(context, number)
    return Done(message=f"{returns.here(context, number, ask.version).number} has arrived")


@router.post("/{number}/look")
def look_at(context: WriteContext, number: Big, ask: ReturnLookAsk) -> Done:
    """How it came: so many into stock again, the rest written off."""
    _own(context, number)
    row = returns.look_at(context, number, ask.version, ask.sound, ask.note)
    told = f"{row.sound} of {row.units} in stock again" if row.sound else "written off" if returns.is_ours(context, row) else "noted"
    return Done(message=f"{row.number}: {told}")


@router.post("/{number}/drop")
def drop(context: WriteContext, number: Big, ask: LetGoAsk) -> Done:
    """It does not come."""
    _own(context, number)
    return Done(message=f"return {returns.drop(context, number, ask.version, ask.reason).number} is ended")


@router.get("/{number}/label.pdf", response_class=Response, responses={200: {"content": {"application/pdf": {}}}})
def label(context: ReadContext, number: Big) -> Response:
    """The label, as its carrier made it."""
    row = _own(context, number)
    data = returns.label_of(context, number)
    if data is None:
        raise NotFound("no label was made for this return")
    name = f'attachment; filename="{row.number}.pdf"'
    return Response(data, media_type="application/pdf", headers={"content-disposition": name, "content-security-policy": "sandbox"})
