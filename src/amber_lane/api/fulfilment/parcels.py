"""Parcels against their promises, wrong numbers, and what was mailed."""

from __future__ import annotations

from datetime import date, datetime
from typing import Annotated

from fastapi import Depends, Response
from pydantic import BaseModel, Field

from ...core.permissions import Permission as P
from ...data.bulk import by_id
from ...data.orders import Order, OrderLine
from ...data.setup import Carrier, Store, Supplier
from ...data.transit import Parcel
from ...services.base.context import Context
from ...services.base.errors import NotFound
from ...services.base.regional import home_of
from ...services.claims import cases
from ...services.fulfilment import buyer_notifications, delivery_exceptions, parcel_tracking
from ...services.grids import goods_grids
from ...services.grids.goods_grids import GridQuery
from ...services.partners import rosters
from ..deps import ReadContext, WriteContext
from ..guard import GuardedRouter, needs
from ..schemas import Ask, Big, Done, Money, Page, rows_out, sure, wish, written

router = GuardedRouter("/transit", tags=["transit"], read=(P.SEE_ORDERS,), write=(P.CLAIM,))


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
    promised_by: date | None
    supplier: str
    reference: str
    store: str
    ended_by: str
    orders: int
    trouble: str
    at_risk: Money | None
    asked: datetime | None


@router.get("/parcels", response_model=Page[ParcelRow])
def parcel_rows(context: ReadContext, ask: Annotated[GridQuery, Depends(wish)]) -> Response:
    rows, total = goods_grids.page(context, "parcels", ask)
    out = rows_out(rows, {})
    for one in out:
        wrong = delivery_exceptions.trouble_of(context, one["state"], one["ended_by"], one["made_at"], one["moved_at"], one["promised_by"])
        one["trouble"], one["at_risk"], one["asked"] = delivery_exceptions.WORDS.get(wrong, ""), None, None
    return written({"rows": out, "total": total})


@router.get("/troubled", response_model=Page[ParcelRow])
def troubled(context: ReadContext, ask: Annotated[GridQuery, Depends(wish)]) -> Response:
    """Parcels in trouble, dearest first."""
    found = delivery_exceptions.troubled(context)
    shown = found[ask.offset : ask.offset + ask.limit]
    rows = {row.id: row for row in goods_grids.of_ids(context, "parcels", [one.parcel.id for one in shown])}
    out = rows_out([rows[one.parcel.id] for one in shown if one.parcel.id in rows], {})
    about, home = {one.parcel.id: one for one in shown}, home_of(context.session)
    for row in out:
        one = about[row["id"]]
        row["trouble"], row["at_risk"], row["asked"] = (
            delivery_exceptions.WORDS[one.trouble],
            sure(one.at_risk, home).model_dump(),
            one.asked,
        )
    return written({"rows": out, "total": len(found)})


class EventOut(BaseModel):
    at: datetime
    kind: str
    message: str
    place: str


class MailOut(BaseModel):
    kind: str
    to: str
    subject: str
    body: str
    at: datetime
    state: str


class OtherOrder(BaseModel):
    id: int
    number: str


class HelpOut(BaseModel):
    """What may be done about a parcel; a message that goes with it is looked over first."""

    key: str
    label: str
    message: str
    to: str
    subject: str
    body: str


class InParcel(BaseModel):
    """An order line that a parcel carries; case: the claim that is open for it."""

    id: int
    title: str
    case: int | None


class ParcelOut(BaseModel):
    number: str
    carrier: str
    # Its carrier tells nothing by itself: a person says how it goes. page: where anybody can follow it, '' = nowhere.
    by_hand: bool
    page: str
    # The store works by sheets: its number goes there by a sheet.
    by_sheets: bool
    state: str
    trouble: str
    made_at: datetime
    order: str
    order_id: int
    others: list[OtherOrder]
    buyer: str
    promised_by: date | None
    ended_by: str
    at_risk: Money | None
    asked: datetime | None
    steps: list[HelpOut]
    events: list[EventOut]
    passed_on: datetime | None
    confirmed: datetime | None
    mails: list[MailOut]
    lines: list[InParcel]


@router.get("/parcels/{number}")
def parcel(context: ReadContext, number: Big) -> ParcelOut:
    row = context.get(Parcel, number, "parcel")
    orders = parcel_tracking.orders_of(context, number)
    if not orders:
        raise NotFound("nothing of ours is in this parcel: its number was put right")
    order = orders[0]
    now = delivery_exceptions.by_parcel(context).get(number)
    passed = parcel_tracking.passed_on(context, number)
    carrier = context.get(Carrier, row.carrier_id, "carrier")
    return ParcelOut(
        number=row.number,
        carrier=carrier.name,
        by_hand=carrier.kind == "by_hand",
        page=parcel_tracking.page_of(carrier, row.number),
        by_sheets=context.get(Store, order.store_id, "store").kind == "sheet",
        state=row.state,
        made_at=row.made_at,
        order=order.number,
        trouble=delivery_exceptions.WORDS[now.trouble] if now else "",
        others=[OtherOrder(id=one.id, number=one.number) for one in orders[1:]],
        ended_by=row.ended_by,
        at_risk=sure(now.at_risk, home_of(context.session)) if now else None,
        asked=now.asked if now else None,
        steps=[HelpOut(**vars(one)) for one in delivery_exceptions.steps(context, number)] if now else [],
        order_id=order.id,
        buyer=order.buyer,
        promised_by=order.promised_by,
        events=[EventOut.model_validate(e, from_attributes=True) for e in parcel_tracking.events_of(context, number)],
        passed_on=passed.at if passed else None,
        confirmed=passed.confirmed_at if passed else None,
        mails=[MailOut.model_validate(m, from_attributes=True) for m in buyer_notifications.mails_of(context, order.id)],
        lines=[
            InParcel(id=one.id, title=one.title or one.sku_code, case=cases.open_for(context, one.id)) for one in _lines(context, number)
        ],
    )


def _lines(context: Context, parcel: int) -> list[OrderLine]:
    found = {
        line.id: line for one in parcel_tracking.purchases_in(context, parcel) for line in parcel_tracking.lines_of_purchase(context, one)
    }
    return list(found.values())


class ParcelsStanding(BaseModel):
    states: dict[str, int]
    late: int
    wrong_numbers: int
    cases: int


@router.get("/standing")
def standing(context: ReadContext) -> ParcelsStanding:
    states = parcel_tracking.counted(context)
    return ParcelsStanding(
        states=states,
        late=len(delivery_exceptions.troubled(context)),
        wrong_numbers=len(wrong_numbers(context)),
        cases=cases.open_count(context),
    )


class WrongNumber(BaseModel):
    purchase: int
    reference: str
    supplier: str
    order: str
    message: str
    since: datetime


@router.get("/numbers")
def wrong_numbers(context: ReadContext) -> list[WrongNumber]:
    """Purchases whose supplier gave a number that cannot be right."""
    rows = parcel_tracking.wrong_numbers(context)
    suppliers, orders = (
        by_id(context.session, Supplier, (r.supplier_id for r in rows)),
        by_id(context.session, Order, (r.order_id for r in rows)),
    )
    return [
        WrongNumber(
            purchase=r.id,
            reference=r.reference,
            supplier=suppliers[r.supplier_id].name,
            order=orders[r.order_id].number,
            message=r.message,
            since=r.answered_at or r.made_at,
        )
        for r in rows
    ]


class ParcelStepAsk(Ask):
    """subject, body: the message as it was looked over; empty as it was proposed."""

    key: str = Field(max_length=20)
    subject: str = Field("", max_length=200)
    body: str = Field("", max_length=5000)


@router.post("/parcels/{number}/steps")
def take_step(context: WriteContext, number: Big, ask: ParcelStepAsk) -> Done:
    message = delivery_exceptions.take_step(context, number, ask.key, ask.subject, ask.body)
    return Done(message=message[0].upper() + message[1:])


class NumberAsk(Ask):
    reference: str = Field(max_length=100)
    number: str = Field(max_length=60)
    carrier: str = Field("", max_length=80)


@router.post("/numbers")
def enter_number(context: WriteContext, ask: NumberAsk) -> Done:
    row = parcel_tracking.enter_tracking(context, ask.reference, ask.number, ask.carrier)
    return Done(message=f"{row.number} is passed on to the store and the buyer")


class MarkAsk(Ask):
    """what: moving, delivered, returned; at: since when, None = now."""

    what: str = Field(max_length=20)
    at: datetime | None = None


@router.post("/parcels/{number}/mark")
def mark(context: WriteContext, number: Big, ask: MarkAsk) -> Done:
    """A person's word on a parcel whose carrier tells nothing. Cannot be undone."""
    row = parcel_tracking.mark(context, number, ask.what, ask.at)
    return Done(message=f"{row.number}: {parcel_tracking.MARKS[ask.what]}")


class DropAsk(Ask):
    reference: str = Field(max_length=100)


@router.post("/numbers/drop")
def drop_number(context: WriteContext, ask: DropAsk) -> Done:
    """Set a wrong number aside; the one that was passed on before stands."""
    parcel_tracking.drop_wrong(context, ask.reference)
    return Done(message=f"{ask.reference}: set aside")


class AskAgain(Ask):
    pass


@router.post("/carriers/ask")
def ask_carriers(context: WriteContext, ask: AskAgain) -> Done:
    """Look at all parcels now instead of at the next round."""
    rosters.ask_carriers_now(context)
    return Done(message="The carriers are asked now")


class TemplateOut(BaseModel):
    id: int
    version: int
    kind: str
    store: str | None
    store_id: int | None
    language: str
    subject: str
    body: str
    on: bool
    delay_minutes: int


@router.get("/templates")
def templates(context: ReadContext) -> list[TemplateOut]:
    stores, rows = rosters.store_names(context), buyer_notifications.templates(context)
    names = ("id", "version", "kind", "store_id", "language", "subject", "body", "on", "delay_minutes")
    return [TemplateOut(**{name: getattr(row, name) for name in names}, store=stores.get(row.store_id or 0)) for row in rows]


class TemplateAsk(Ask):
    """id: None for a new one, of a store or in a language of its own."""

    id: Big | None = None
    version: int | None = None
    kind: str = Field(max_length=20)
    store: Big | None = None
    language: str = Field("en", max_length=5)
    subject: str = Field(min_length=1, max_length=200)
    body: str = Field(min_length=1, max_length=5000)
    on: bool
    delay_minutes: int = 0


@router.post("/templates")
@needs(P.SETTINGS)
def set_template(context: WriteContext, ask: TemplateAsk) -> Done:
    given = ask.model_dump()
    buyer_notifications.keep_template(context, given.pop("id"), given.pop("version"), **given)
    return Done(message="Mail saved")
