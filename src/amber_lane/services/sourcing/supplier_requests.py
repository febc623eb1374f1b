"""Asking a supplier to find a thing: what is wanted, their answer beside our listing, accepted or declined."""

from __future__ import annotations

from collections.abc import Sequence
from fractions import Fraction

from sqlalchemy import select

from ...core.states import REQUEST, RequestState
from ...core.texts import is_mail
from ...data.outbox import Outbox
from ...data.setup import Supplier
from ...data.shelf import Listing, Sku
from ...data.source import Item, SupplierRequest
from ..base.context import Context
from ..base.errors import Conflict, Invalid, NotFound
from ..mapping import lanes, similarity
from ..outbox import queue

OPEN = (RequestState.asked, RequestState.answered)


def ask(context: Context, supplier_id: int, sku_id: int, target: int | None, note: str, mail: str = "") -> SupplierRequest:
    """Ask a supplier for something like a SKU of ours; target: what it may cost, in the supplier's money.

    mail: where it is sent, remembered for next time; without one a person sends its words.
    """
    if mail and not is_mail(mail):
        raise Invalid(f"{mail!r} is not a mail address", {"mail": "is not a mail address"})
    supplier, sku = context.get(Supplier, supplier_id, "supplier"), context.get(Sku, sku_id, "SKU")
    known = select(SupplierRequest.id).where(
        SupplierRequest.supplier_id == supplier_id, SupplierRequest.sku_id == sku_id, SupplierRequest.state.in_(OPEN)
    )
    if context.session.scalar(known.limit(1)):
        raise Conflict(f"{supplier.name} has been asked for this already")
    row = SupplierRequest(
        supplier_id=supplier_id, sku_id=sku_id, state=REQUEST.first, asked_at=context.now, target=target, note=note.strip()
    )
    context.session.add(row)
    context.session.flush()
    supplier.mail = mail
    key = f"request-{row.id}-{queue.batch_mark()}"
    title = f"Do you have this? {sku.title}"
    sent = bool(mail) and queue.mail(context, key, _subject(row), mail, title, words(context, row), supplier=supplier_id)
    context.log("request.ask", sku.code, f"{supplier.name} asked to find {sku.title}" + (f", by mail to {mail}" if sent else ""))
    return row


def _subject(row: SupplierRequest) -> str:
    return f"request:{row.id}"


def mailed(context: Context, rows: Sequence[SupplierRequest]) -> dict[int, str]:
    """How the mail of each request stands: waiting, done, dead and so on; those that a person sends are left out."""
    subjects = {_subject(row): row.id for row in rows}
    states = context.session.execute(select(Outbox.subject, Outbox.state).where(Outbox.subject.in_(list(subjects)), Outbox.kind == "mail"))
    return {subjects[subject]: state for subject, state in states}


def picture(context: Context, sku: int) -> int | None:
    """A picture of what is wanted: the first one of a listing of ours."""
    for found in context.session.scalars(select(Listing.pictures).where(Listing.sku_id == sku).order_by(Listing.id)):
        if found:
            return int(found[0])
    return None


def words(context: Context, row: SupplierRequest) -> str:
    """The request as it can be sent to the supplier."""
    sku, supplier = context.get(Sku, row.sku_id, "SKU"), context.get(Supplier, row.supplier_id, "supplier")
    facts = [("It is", sku.title), ("Maker", sku.brand), ("Maker's number", sku.mpn), ("Barcode", sku.gtin), ("Options", sku.options)]
    message = "\n".join(f"{name}: {value}" for name, value in facts if value)
    cost = f"\nIt should cost at most {row.target // 100}.{row.target % 100:02d} {supplier.currency}." if row.target else ""
    note = f"\n{row.note}" if row.note else ""
    return f"Dear {supplier.name},\n\nwe are looking for this:\n{message}{cost}{note}\n\nWhich number of yours is it?"


def answer(context: Context, number: int, version: int, item_id: int) -> SupplierRequest:
    """The item that the supplier names."""
    row = context.get_version(SupplierRequest, number, version, "request")
    item = context.get(Item, item_id, "item")
    if item.supplier_id != row.supplier_id:
        raise Invalid("that item is another supplier's", {"item": "is another supplier's"})
    row.state, row.item_id = REQUEST.step(row.state, "answer"), item_id
    supplier = context.get(Supplier, row.supplier_id, "supplier")
    context.log("request.answer", item.number, f"{supplier.name} names {item.number}, {item.title}")
    context.session.flush()
    return row


def accept(context: Context, number: int, version: int) -> SupplierRequest:
    """Take the answer: the lane opens, after those that are there."""
    row = context.get_version(SupplierRequest, number, version, "request")
    row.state = REQUEST.step(row.state, "accept")
    row.ended_at = context.now
    lanes.open_lane(context, row.sku_id, [lanes.LaneItem(row.item_id or 0, Fraction(1))], use=99)
    return row


def decline(context: Context, number: int, version: int) -> SupplierRequest:
    row = context.get_version(SupplierRequest, number, version, "request")
    row.state = REQUEST.step(row.state, "decline")
    row.ended_at = context.now
    sku = context.get(Sku, row.sku_id, "SKU")
    context.log("request.decline", sku.code, f"the request for {sku.title} is closed")
    context.session.flush()
    return row


def comparison(context: Context, row: SupplierRequest) -> tuple[Item, list[str], list[str], int] | None:
    """The item named, what agrees with our SKU, what differs, how like it is; None before there is an answer."""
    if row.item_id is None:
        return None
    item, sku = context.get(Item, row.item_id, "item"), context.get(Sku, row.sku_id, "SKU")
    found = similarity.compare(sku, item)
    return item, found.agrees, found.differs, found.score


def all_of(context: Context) -> list[SupplierRequest]:
    """Open ones first, the newest of each first."""
    rows = context.session.scalars(select(SupplierRequest).order_by(SupplierRequest.id.desc()).limit(200))
    return sorted(rows, key=lambda row: row.state not in OPEN)


def sku_called(context: Context, code: str) -> Sku:
    """A SKU by its code; NotFound."""
    found = context.session.scalar(select(Sku).where(Sku.code == code))
    if found is None:
        raise NotFound(f"there is no SKU {code}")
    return found


def item_named(context: Context, request: int, number: str) -> Item:
    """The item that a supplier names in answer to a request; NotFound where it is not here."""
    row = context.get(SupplierRequest, request, "request")
    found = context.session.scalar(select(Item).where(Item.supplier_id == row.supplier_id, Item.number == number))
    if found is None:
        raise NotFound(f"this supplier has no item {number} with us; import it first")
    return found
