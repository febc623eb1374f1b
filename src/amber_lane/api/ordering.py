"""How we order, purchase orders as documents, and the documents that come back."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, File, Response, UploadFile
from pydantic import BaseModel, Field
from sqlalchemy import select

from ..data.setup import Carrier, Store, Supplier
from ..services import documents, ordering, purchases
from ..services.desk import Invalid
from ..services.setup import UNCALLED
from ..sheets.ubl import BYTES_MAX
from .deps import ReadDesk, WriteDesk
from .shapes import Ask, Big, Done

router = APIRouter(prefix="/ordering", tags=["orders"])


class SupplierOrdering(BaseModel):
    """called: orders go by its interface, so form and road do not matter."""

    id: int
    version: int
    name: str
    called: bool
    parcel_note: str
    phone_rule: str
    order_form: str
    order_road: str
    mail: str


class StoreOrdering(BaseModel):
    id: int
    version: int
    name: str
    greeting: str
    phone: str


class CarrierShape(BaseModel):
    """shape: A a letter, 9 a digit, others as they are; '' = UPU S10 with its check digit."""

    id: int
    version: int
    name: str
    shape: str


class OrderingOut(BaseModel):
    suppliers: list[SupplierOrdering]
    stores: list[StoreOrdering]
    carriers: list[CarrierShape]


@router.get("")
def see(desk: ReadDesk) -> OrderingOut:
    suppliers = [
        SupplierOrdering(
            id=one.id,
            version=one.version,
            name=one.name,
            called=one.kind not in UNCALLED,
            **{n: getattr(one, n) for n in ordering.SUPPLIER},
        )
        for one in desk.s.scalars(select(Supplier).order_by(Supplier.name))
    ]
    stores = [StoreOrdering.model_validate(one, from_attributes=True) for one in desk.s.scalars(select(Store).order_by(Store.name))]
    carriers = [CarrierShape.model_validate(one, from_attributes=True) for one in desk.s.scalars(select(Carrier).order_by(Carrier.name))]
    return OrderingOut(suppliers=suppliers, stores=stores, carriers=carriers)


class SupplierAsk(Ask):
    version: int
    parcel_note: str = Field(max_length=300)
    phone_rule: str
    order_form: str
    order_road: str
    mail: str = Field("", max_length=200)


@router.post("/suppliers/{number}")
def keep_supplier(desk: WriteDesk, number: Big, ask: SupplierAsk) -> Done:
    return Done(told=ordering.keep(desk, "supplier", number, ask.version, ask.model_dump(exclude={"version"})))


class StoreAsk(Ask):
    version: int
    greeting: str = Field("", max_length=250)
    phone: str = Field("", max_length=40)


@router.post("/stores/{number}")
def keep_store(desk: WriteDesk, number: Big, ask: StoreAsk) -> Done:
    return Done(told=ordering.keep(desk, "store", number, ask.version, ask.model_dump(exclude={"version"})))


class ShapeAsk(Ask):
    version: int
    shape: str = Field(max_length=60)


@router.post("/carriers/{number}")
def keep_shape(desk: WriteDesk, number: Big, ask: ShapeAsk) -> Done:
    return Done(told=ordering.keep_shape(desk, number, ask.version, ask.shape))


@router.get("/purchases/{number}.{form}")
def document(desk: ReadDesk, number: Big, form: str) -> Response:
    """A purchase order as UBL (xml), or the packing slip that goes with it (pdf)."""
    made = documents.of_purchase(desk, number, form)
    return Response(made.data, media_type=made.kind, headers={"Content-Disposition": f'attachment; filename="{made.name}"'})


@router.post("/documents")
def bring(desk: WriteDesk, file: Annotated[UploadFile, File()]) -> Done:
    """An OrderResponse or DespatchAdvice of UBL 2.1: what it says is done at once."""
    data = file.file.read(BYTES_MAX + 1)
    if not data:
        raise Invalid("the file is empty")
    answers = documents.answers_of(desk, data)
    wrong = purchases.take_answers(desk, answers)
    names = ", ".join(one.reference for one in answers)
    desk.log("purchase.document", names, f"a document brought in: {names} {answers[0].state}")
    return Done(told=f"{names}: {wrong or answers[0].state}", count=len(answers))
