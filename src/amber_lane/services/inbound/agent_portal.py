"""What an agent or an assistant sees and does: purchase orders of their suppliers or stores, and nothing else."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date, datetime, timedelta
from typing import Any

from sqlalchemy import ColumnElement, false, select

from ...connectors.folder_sheet import PURCHASE_HEADER
from ...connectors.payloads import PurchasePayload
from ...connectors.protocols import PurchaseAnswer
from ...core.permissions import AGENT, ASSISTANT
from ...core.states import OutboxState, PurchaseState
from ...data.bulk import by_id, in_chunks
from ...data.orders import Order, PurchaseLine, PurchaseOrder
from ...data.outbox import Outbox
from ...data.setup import BY_SHEETS, Person, Supplier
from ...data.source import Item
from ...data.transit import Parcel, ParcelLine
from ..base.context import Context
from ..base.errors import Conflict, Invalid, NotFound
from ..delivery import sheet_export
from ..fulfilment import parcel_tracking
from ..purchasing import supplier_answers
from ..purchasing.po_documents import purchase_rows
from . import supplier_replies
from .supplier_replies import OPEN

# What has left stays to be seen for so long.
SEEN_FOR = timedelta(days=30)
ROWS_MOST = 5000


def _theirs(person: Person) -> ColumnElement[bool]:
    """Which purchase orders are a person's; of somebody without any scope none are."""
    if person.role == AGENT:
        return PurchaseOrder.supplier_id.in_(person.scope.get("suppliers") or [0])
    if person.role == ASSISTANT:
        return Order.store_id.in_(person.scope.get("stores") or [0])
    return false()


@dataclass(frozen=True)
class Mine:
    """A purchase order as an agent sees it: what to send where, no prices of ours and no mail address."""

    id: int
    reference: str
    supplier: str
    state: str
    made_at: datetime
    promised_by: date | None
    lines: list[tuple[int, str, str, int]]
    address: dict[str, str]
    service: str
    note: str
    greeting: str
    numbers: list[str]
    message: str


def mine(context: Context, person: Person) -> list[Mine]:
    """A person's purchase orders: the open ones first, then what left in the last month."""
    late = PurchaseOrder.state.in_(OPEN) | (
        (PurchaseOrder.state == PurchaseState.shipped) & (PurchaseOrder.made_at > context.now - SEEN_FOR)
    )
    rows = context.session.execute(
        select(PurchaseOrder, Order, Supplier)
        .join(Order, Order.id == PurchaseOrder.order_id)
        .join(Supplier, Supplier.id == PurchaseOrder.supplier_id)
        .where(_theirs(person), late)
        .order_by((PurchaseOrder.state == PurchaseState.shipped), PurchaseOrder.id)
        .limit(ROWS_MOST)
    ).all()
    ids = [one.id for one, _, _ in rows]
    lines: dict[int, list[PurchaseLine]] = {}
    numbers: dict[int, list[str]] = {}
    bought: dict[str, PurchasePayload] = {}
    for chunk in in_chunks(ids):
        for line in context.session.scalars(select(PurchaseLine).where(PurchaseLine.purchase_id.in_(chunk)).order_by(PurchaseLine.line_no)):
            lines.setdefault(line.purchase_id, []).append(line)
        named = select(ParcelLine.purchase_id, Parcel.number).join(Parcel, Parcel.id == ParcelLine.parcel_id)
        for purchase, number in context.session.execute(named.where(ParcelLine.purchase_id.in_(chunk))):
            numbers.setdefault(purchase, []).append(number)
    for names in in_chunks([one.reference for one, _, _ in rows]):
        rows_of = select(Outbox).where(Outbox.key.in_(names))
        bought |= {row.key: PurchasePayload.model_validate(row.body) for row in context.session.scalars(rows_of)}
    items = by_id(context.session, Item, (line.item_id for many in lines.values() for line in many))
    out = []
    for one, order, supplier in rows:
        said = bought.get(one.reference)
        address = said.address.model_dump(exclude_none=True) if said else {}
        its = [(line.line_no, items[line.item_id].number, items[line.item_id].title, line.quantity) for line in lines.get(one.id, [])]
        out.append(
            Mine(
                one.id, one.reference, supplier.name, one.state, one.made_at, order.promised_by, its, address, one.service,
                said.note if said else "", said.greeting if said else "", numbers.get(one.id, []), one.message,
            )
        )  # fmt: skip
    return out


def _one(context: Context, person: Person, reference: str) -> PurchaseOrder:
    """A purchase order of a person's; NotFound for any other, so that nothing of others is told."""
    found = context.session.scalar(
        select(PurchaseOrder).join(Order, Order.id == PurchaseOrder.order_id).where(_theirs(person), PurchaseOrder.reference == reference)
    )
    if found is None:
        raise NotFound(f"there is no purchase order {reference!r} of yours")
    return found


def take_out(context: Context, person: Person) -> tuple[list[str], list[list[Any]]]:
    """All open purchase orders as a sheet; those that an agent takes for the first time are handed over."""
    if person.role == AGENT:
        for number in person.scope.get("suppliers") or []:
            supplier = context.get(Supplier, number, "supplier")
            waits = select(Outbox.id).where(
                Outbox.target == f"supplier:{number}", Outbox.kind == "purchase", Outbox.state == OutboxState.waiting
            )
            if supplier.kind in BY_SHEETS and context.session.scalar(waits.limit(1)):
                sheet_export.take_out(context, "supplier", number, "purchases")
    open_ones = select(PurchaseOrder.reference).join(Order, Order.id == PurchaseOrder.order_id)
    names = list(
        context.session.scalars(
            open_ones.where(_theirs(person), PurchaseOrder.state.in_((PurchaseState.sent, PurchaseState.accepted))).order_by(
                PurchaseOrder.id
            )
        )
    )
    rows = []
    for chunk in in_chunks(names):
        for row in context.session.scalars(select(Outbox).where(Outbox.key.in_(chunk)).order_by(Outbox.id)):
            rows += purchase_rows(row)
    if not rows:
        raise Conflict("there is nothing for you to send now")
    return list(PURCHASE_HEADER), rows


def answer(context: Context, person: Person, reference: str, state: str, message: str) -> None:
    """Accept or refuse a purchase order that goes by sheets."""
    purchase = _one(context, person, reference)
    if state not in ("accepted", "refused"):
        raise Invalid("a purchase order is accepted or refused", {"state": "is neither"})
    supplier_replies.may_say(context, purchase, state, person)
    if state == "refused" and not message.strip():
        raise Invalid("say why you cannot send it", {"message": "is empty"})
    supplier_replies.as_taken(context, reference)
    supplier_answers.take_answer(context, PurchaseAnswer(reference, "", state, message.strip(), None, None))
    context.log("agent.answer", reference, f"{person.name} {state} {reference}", reason=message)


def number(context: Context, person: Person, reference: str, tracking: str, carrier: str) -> str:
    """A tracking number for one of a person's purchase orders; Invalid says what is wrong with it."""
    purchase = _one(context, person, reference)
    supplier_replies.may_say(context, purchase, "shipped", person)
    supplier_replies.as_taken(context, reference)
    parcel = parcel_tracking.enter_tracking(context, purchase.reference, tracking, carrier)
    return parcel.number


def take_in(context: Context, person: Person, name: str, data: bytes) -> tuple[int, list[tuple[int, str]]]:
    """A tracking or answers sheet of a person: how many rows were taken, and the others as (row, why)."""
    return supplier_replies.of_sheet(context, name, data, lambda reference: _one(context, person, reference), person)
