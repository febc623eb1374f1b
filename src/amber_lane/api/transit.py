"""Parcels against their promises, wrong numbers, and what was mailed."""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import Annotated

from fastapi import APIRouter, Depends, Response
from pydantic import BaseModel, Field
from sqlalchemy import func, select

from ..data.orders import Order, PurchaseOrder
from ..data.setup import Carrier, Supplier
from ..data.transit import (
    CarrierEvent,
    Message,
    MessageTemplate,
    Parcel,
    ParcelLine,
    PassedOn,
)
from ..services import lists, transit
from ..services.desk import by_id
from ..services.lists import Wish
from .deps import ReadDesk, WriteDesk
from .shapes import Ask, Big, Done, Page, rows_out, wish, written

router = APIRouter(prefix="/transit", tags=["transit"])


class ParcelRow(BaseModel):
    id: int
    number: str
    carrier: str
    state: str
    last_word: str
    made_at: datetime
    moved_at: datetime | None
    ended_at: datetime | None
    order: str
    order_id: int
    buyer: str
    country: str
    promised_by: datetime | None
    supplier: str
    reference: str
    store: str
    trouble: str


@router.get("/parcels", response_model=Page[ParcelRow])
def parcels(desk: ReadDesk, ask: Annotated[Wish, Depends(wish)]) -> Response:
    rows, total = lists.page(desk, "parcels", ask)
    out = rows_out(rows, {})
    for one in out:
        shape = Parcel(state=one["state"], made_at=one["made_at"], moved_at=one["moved_at"])
        one["trouble"] = transit.trouble_of(shape, one["promised_by"], desk.now)
    return written({"rows": out, "total": total})


class EventOut(BaseModel):
    at: datetime
    kind: str
    told: str
    place: str


class MailOut(BaseModel):
    kind: str
    to: str
    subject: str
    body: str
    at: datetime
    state: str


class ParcelOut(BaseModel):
    number: str
    carrier: str
    state: str
    trouble: str
    made_at: datetime
    order: str
    order_id: int
    buyer: str
    promised_by: datetime | None
    events: list[EventOut]
    passed_on: datetime | None
    confirmed: datetime | None
    mails: list[MailOut]


@router.get("/parcels/{number}")
def parcel(desk: ReadDesk, number: Big) -> ParcelOut:
    row = desk.get(Parcel, number, "parcel")
    s = desk.s
    order = s.scalars(
        select(Order)
        .join(PurchaseOrder, PurchaseOrder.order_id == Order.id)
        .join(ParcelLine, ParcelLine.purchase_id == PurchaseOrder.id)
        .where(ParcelLine.parcel_id == number)
        .limit(1)
    ).one()
    passed = s.scalar(select(PassedOn).where(PassedOn.parcel_id == number))
    return ParcelOut(
        number=row.number,
        carrier=desk.get(Carrier, row.carrier_id, "carrier").name,
        state=row.state,
        made_at=row.made_at,
        order=order.number,
        trouble=transit.trouble_of(row, order.promised_by, desk.now),
        order_id=order.id,
        buyer=order.buyer,
        promised_by=order.promised_by,
        events=[
            EventOut.model_validate(e, from_attributes=True)
            for e in s.scalars(select(CarrierEvent).where(CarrierEvent.parcel_id == number).order_by(CarrierEvent.at))
        ],
        passed_on=passed.at if passed else None,
        confirmed=passed.confirmed_at if passed else None,
        mails=[
            MailOut.model_validate(m, from_attributes=True)
            for m in s.scalars(select(Message).where(Message.order_id == order.id).order_by(Message.id))
        ],
    )


class ParcelsStanding(BaseModel):
    states: dict[str, int]
    late: int
    wrong_numbers: int


@router.get("/standing")
def standing(desk: ReadDesk) -> ParcelsStanding:
    states = dict(desk.s.execute(select(Parcel.state, func.count()).group_by(Parcel.state)).tuples().all())
    rows = desk.s.execute(
        select(Parcel, func.min(Order.promised_by))
        .join(ParcelLine, ParcelLine.parcel_id == Parcel.id)
        .join(PurchaseOrder, PurchaseOrder.id == ParcelLine.purchase_id)
        .join(Order, Order.id == PurchaseOrder.order_id)
        .where(Parcel.state.in_(("label", "moving")))
        .group_by(Parcel.id)
    )
    late = sum(bool(transit.trouble_of(one, promised, desk.now)) for one, promised in rows)
    return ParcelsStanding(states=states, late=late, wrong_numbers=len(wrong_numbers(desk)))


class WrongNumber(BaseModel):
    purchase: int
    reference: str
    supplier: str
    order: str
    told: str
    since: datetime


@router.get("/numbers")
def wrong_numbers(desk: ReadDesk) -> list[WrongNumber]:
    """Purchases whose supplier gave a number that cannot be right."""
    rows = desk.s.scalars(
        select(PurchaseOrder).where(PurchaseOrder.state == "accepted", PurchaseOrder.told != "").order_by(PurchaseOrder.id)
    ).all()
    suppliers, orders = by_id(desk.s, Supplier, (r.supplier_id for r in rows)), by_id(desk.s, Order, (r.order_id for r in rows))
    return [
        WrongNumber(
            purchase=r.id,
            reference=r.reference,
            supplier=suppliers[r.supplier_id].name,
            order=orders[r.order_id].number,
            told=r.told,
            since=r.answered_at or r.made_at,
        )
        for r in rows
    ]


class NumberAsk(Ask):
    reference: str = Field(max_length=100)
    number: str = Field(max_length=60)
    carrier: str = Field("", max_length=80)


@router.post("/numbers")
def enter_number(desk: WriteDesk, ask: NumberAsk) -> Done:
    row = transit.enter_tracking(desk, ask.reference, ask.number, ask.carrier)
    return Done(told=f"{row.number} is passed on to the store and the buyer")


class AskAgain(Ask):
    pass


@router.post("/carriers/ask")
def ask_carriers(desk: WriteDesk, ask: AskAgain) -> Done:
    """Look at all parcels now instead of at the next round."""
    for carrier in desk.s.scalars(select(Carrier)):
        carrier.next_ask = desk.now - timedelta(seconds=1)
    return Done(told="The carriers are asked now")


class TemplateOut(BaseModel):
    id: int
    version: int
    kind: str
    subject: str
    body: str
    on: bool


@router.get("/templates")
def templates(desk: ReadDesk) -> list[TemplateOut]:
    return [
        TemplateOut.model_validate(row, from_attributes=True)
        for row in desk.s.scalars(select(MessageTemplate).order_by(MessageTemplate.id))
    ]


class TemplateAsk(Ask):
    version: int
    subject: str = Field(min_length=1, max_length=200)
    body: str = Field(min_length=1, max_length=5000)
    on: bool


@router.put("/templates/{number}")
def set_template(desk: WriteDesk, number: Big, ask: TemplateAsk) -> Done:
    row = desk.get_version(MessageTemplate, number, ask.version, "template")
    row.subject, row.body, row.on = ask.subject, ask.body, ask.on
    desk.log("template.change", row.kind, f"mail '{row.kind}' changed, {'on' if row.on else 'off'}")
    return Done(told="Template kept")
