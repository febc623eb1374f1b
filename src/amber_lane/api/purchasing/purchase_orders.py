"""How we order, purchase orders as documents, and the documents that come back."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Literal

from fastapi import Request, Response
from pydantic import BaseModel, Field

from ...core.permissions import Permission as P
from ...data.setup import UNCALLED
from ...services.inbound import mailbox, supplier_replies
from ...services.partners import rosters
from ...services.purchasing import order_settings, po_documents
from ..deps import ReadContext, SignedIn, TheApp, WriteContext, context_of
from ..files import DocumentFile
from ..guard import GuardedRouter, needs
from ..schemas import DOCUMENT, Ask, Big, Done

router = GuardedRouter("/ordering", tags=["orders"], read=(P.SEE_ORDERS, P.SEE_MONEY), write=(P.SETTINGS,))


class SupplierOrdering(BaseModel):
    """called: orders go by its interface, so form and road do not matter."""

    id: int
    version: int
    name: str
    called: bool
    kind: str
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
    # Where its parcels can be followed, with {number}; '' = nowhere.
    page: str


class SenderOut(BaseModel):
    """Whom our mails come from."""

    id: int
    version: int
    name: str
    sender: str


class LetterOut(BaseModel):
    """A mail that came. needs: a person must read it."""

    id: int
    at: datetime
    who: str
    sender: str
    subject: str
    body: str
    message: str
    needs: bool
    held: bool


class MailboxOut(BaseModel):
    """trusts: the receiving server whose word on who wrote a mail counts."""

    id: int
    name: str
    trusts: str


class OrderingOut(BaseModel):
    """mailboxes: those that are read; letters: the newest that came from suppliers."""

    suppliers: list[SupplierOrdering]
    stores: list[StoreOrdering]
    carriers: list[CarrierShape]
    senders: list[SenderOut]
    mailboxes: list[MailboxOut]
    letters: list[LetterOut]


@router.get("")
def see(context: ReadContext) -> OrderingOut:
    suppliers = [
        SupplierOrdering(
            id=one.id,
            version=one.version,
            name=one.name,
            called=one.kind not in UNCALLED,
            kind=one.kind,
            **{n: getattr(one, n) for n in order_settings.SUPPLIER},
        )
        for one in rosters.suppliers(context, by_name=True)
    ]
    stores = [StoreOrdering.model_validate(one, from_attributes=True) for one in rosters.stores(context, by_name=True)]
    carriers = [CarrierShape.model_validate(one, from_attributes=True) for one in rosters.carriers(context)]
    senders = [SenderOut.model_validate(one, from_attributes=True) for one in rosters.mailboxes(context)]
    letters = [
        LetterOut(who=who, **{name: getattr(row, name) for name in ("id", "at", "sender", "subject", "body", "message", "needs", "held")})
        for row, who in mailbox.recent(context)
    ]
    boxes = [MailboxOut(id=one.id, name=one.name, trusts=one.trusts) for one in rosters.inboxes(context)]
    return OrderingOut(suppliers=suppliers, stores=stores, carriers=carriers, senders=senders, mailboxes=boxes, letters=letters)


class SupplierAsk(Ask):
    version: int
    parcel_note: str = Field(max_length=300)
    phone_rule: str
    order_form: str
    order_road: str
    mail: str = Field("", max_length=200)


@router.post("/suppliers/{number}")
def keep_supplier(context: WriteContext, number: Big, ask: SupplierAsk) -> Done:
    return Done(message=order_settings.save(context, "supplier", number, ask.version, ask.model_dump(exclude={"version"})))


class StoreOrderingAsk(Ask):
    version: int
    greeting: str = Field("", max_length=250)
    phone: str = Field("", max_length=40)


@router.post("/stores/{number}")
def keep_store(context: WriteContext, number: Big, ask: StoreOrderingAsk) -> Done:
    return Done(message=order_settings.save(context, "store", number, ask.version, ask.model_dump(exclude={"version"})))


class ShapeAsk(Ask):
    version: int
    shape: str = Field(max_length=60)
    page: str = Field("", max_length=500)


class SenderAsk(Ask):
    version: int
    name: str = Field(max_length=80)
    sender: str = Field(max_length=200)


@router.post("/senders/{number}")
def keep_sender(context: WriteContext, number: Big, ask: SenderAsk) -> Done:
    return Done(message=order_settings.save(context, "mailbox", number, ask.version, ask.model_dump(exclude={"version"})))


@router.post("/letters/{number}/read")
@needs(P.ORDER)
def read_letter(context: WriteContext, number: Big) -> Done:
    mailbox.close_letter(context, number)
    return Done(message="Read")


@router.post("/letters/{number}/take")
@needs(P.ORDER)
def take_letter(app: TheApp, who: SignedIn, request: Request, number: Big) -> Done:
    """A person says that a mail is of whom it says it is: its files are had once more from the mailbox, and taken."""
    came = app.worker.letters.held(number)
    with app.db.writing() as s:
        return Done(message=mailbox.take_in_held(context_of(request, s), number, came, app.worker.letters.folder).message)


class TrustAsk(Ask):
    """server: the receiving server whose word on who wrote a mail counts; '' = none."""

    server: Annotated[str, Field(max_length=200, pattern=r"^[A-Za-z0-9.-]*$")]


@router.post("/mailboxes/{number}/trust")
def trust_server(context: WriteContext, number: Big, ask: TrustAsk) -> Done:
    return Done(message=mailbox.trust(context, number, ask.server))


@router.post("/carriers/{number}")
def keep_shape(context: WriteContext, number: Big, ask: ShapeAsk) -> Done:
    return Done(message=order_settings.keep_shape(context, number, ask.version, ask.shape, ask.page))


@router.get("/purchases/{number}.{form}", response_class=Response, responses=DOCUMENT)
def document(context: ReadContext, number: Big, form: Literal["xml", "pdf"]) -> Response:
    """A purchase order as UBL (xml), or the packing slip that goes with it (pdf)."""
    made = po_documents.of_purchase(context, number, form)
    return Response(made.data, media_type=made.kind, headers={"Content-Disposition": f'attachment; filename="{made.name}"'})


@router.post("/documents")
@needs(P.ORDER)
def bring(said: DocumentFile, context: WriteContext) -> Done:
    """An OrderResponse or DespatchAdvice of UBL 2.1: what it says is done at once."""
    message, n, wrong = supplier_replies.of_document(context, said)
    return Done(message=wrong or message, count=n)
