"""A buyer's own data: all that we hold of them to hand out, and erased on their wish. The sums of their orders stay, and their country."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from datetime import datetime
from typing import Any

from sqlalchemy import delete, func, or_, select

from ...core.currency import show
from ...core.states import OUTBOX, OutboxState, ReturnRequestState
from ...data.bulk import by_id, in_chunks
from ...data.claims import Claim, ClaimEvent
from ...data.orders import Order, OrderLine, PurchaseOrder
from ...data.outbox import AuditEntry, Job, Outbox, SheetOut
from ...data.returns import GoodsReturn, ReturnLabel, ReturnRequest
from ...data.setup import Letter, Store, Supplier
from ...data.transit import Message, Parcel, ParcelLine
from ..base.context import Context
from ..base.errors import Conflict

ERASED = "erased"
# A word of a buyer's that is shorter could stand anywhere by chance; a city or a country alone tells nobody who it is.
LEAST = 4
# Of an order's lines, when nothing more is to come of it.
OVER = frozenset(("arrived", "cancelled"))


def orders_of(context: Context, number: int) -> list[Order]:
    """An order and all others of the same buyer, who is known by the mail address; without one it is this order alone."""
    order = context.get(Order, number, "order")
    if not order.mail.strip():
        return [order]
    return list(context.session.scalars(select(Order).where(func.lower(Order.mail) == order.mail.strip().lower()).order_by(Order.id)))


def held_data(context: Context, number: int) -> dict[str, Any]:
    """All that is held of the buyer of an order, as plain values under plain names."""
    orders = orders_of(context, number)
    ids = [one.id for one in orders]
    stores = by_id(context.session, Store, {one.store_id for one in orders})
    purchases = list(context.session.scalars(select(PurchaseOrder).where(PurchaseOrder.order_id.in_(ids)).order_by(PurchaseOrder.id)))
    suppliers = by_id(context.session, Supplier, {one.supplier_id for one in purchases})
    lines = list(context.session.scalars(select(OrderLine).where(OrderLine.order_id.in_(ids)).order_by(OrderLine.id)))
    messages = list(context.session.scalars(select(Message).where(Message.order_id.in_(ids)).order_by(Message.id)))
    claims = list(context.session.scalars(select(Claim).where(Claim.order_id.in_(ids)).order_by(Claim.id)))
    asked = list(context.session.scalars(select(ReturnRequest).where(ReturnRequest.order_id.in_(ids)).order_by(ReturnRequest.id)))
    letters = list(context.session.scalars(select(Letter).where(Letter.order_id.in_(ids)).order_by(Letter.id)))
    parcels = _parcels(context, [one.id for one in purchases])

    def of(order: Order) -> dict[str, Any]:
        mine = [one for one in purchases if one.order_id == order.id]
        return {
            "order": order.number,
            "store": stores[order.store_id].name,
            "ordered_at": order.ordered_at.isoformat(),
            "buyer": order.buyer,
            "mail": order.mail,
            "phone": order.phone,
            "address_given": order.address,
            "address_mended": order.address_override,
            "note": order.note,
            "asked_for": order.wants_message,
            "lines": [
                {"sku": one.sku_code, "title": one.title, "quantity": one.quantity, "paid": show(one.total, order.currency)}
                for one in lines
                if one.order_id == order.id
            ],
            "passed_to": sorted({suppliers[one.supplier_id].name for one in mine}),
            "claims": [_asked(one.opened_at, one) for one in claims if one.order_id == order.id],
            "returns": [_asked(one.asked_at, one) for one in asked if one.order_id == order.id],
            "wrote": [
                {"at": one.at.isoformat(), "subject": one.subject, "text": one.body, "pictures": len(one.pictures)}
                for one in letters
                if one.order_id == order.id
            ],
            "parcels": [parcel.number for purchase, parcel in parcels if purchase in {one.id for one in mine}],
            "mails": [
                {"at": one.at.isoformat(), "to": one.to, "subject": one.subject, "text": one.body}
                for one in messages
                if one.order_id == order.id
            ],
        }

    held = {"held_at": context.now.isoformat(), "orders": [of(one) for one in orders]}
    context.log("buyer.told", orders[0].number, f"what is held of the buyer of order {orders[0].number} was taken out", count=0)
    return held


def _asked(at: datetime, one: Claim | ReturnRequest) -> dict[str, str]:
    return {"at": at.isoformat(), "about": one.reason, "words": one.words}


def erase(context: Context, number: int) -> str:
    """Nothing tells any more who bought it. Cannot be undone. Conflict while an order of theirs is still under way."""
    orders = [one for one in orders_of(context, number) if one.erased_at is None]
    if not orders:
        raise Conflict("this buyer is erased already")
    ids = [one.id for one in orders]
    _must_be_over(context, orders)
    words = _words(orders)
    purchases = list(context.session.scalars(select(PurchaseOrder).where(PurchaseOrder.order_id.in_(ids))))
    messages = list(context.session.scalars(select(Message).where(Message.order_id.in_(ids))))
    subjects = {f"order:{one}" for one in ids} | {f"purchase:{one.reference}" for one in purchases} | {f"mail:{one.id}" for one in messages}
    subjects |= _leave_out_of_claims(context, ids, words) | {f"event:{one.number}" for one in orders}
    for part in in_chunks(subjects, 500):
        for row in context.session.scalars(select(Outbox).where(Outbox.subject.in_(part))):
            if row.kind == "mail" and row.state not in (OutboxState.done, OutboxState.dropped):
                _leave_unsent(row)
            row.body = _without(row.body, words)
    for message in messages:
        message.to, message.subject, message.body = "", _without(message.subject, words), _without(message.body, words)
    names, since = {one.number for one in orders} | {one.reference for one in purchases}, min(one.came_at for one in orders)
    for act in context.session.scalars(select(AuditEntry).where(AuditEntry.at >= since, AuditEntry.on.in_(names))):
        act.message, act.reason, act.before, act.after = (
            _without(part, words) for part in (act.message, act.reason, act.before, act.after)
        )
        # What it would bring back is not there any more.
        act.undo = ""
    for sheet in context.session.scalars(select(SheetOut).where(SheetOut.at >= since)):
        # Rows of their orders alone: a neighbour may have the same postcode.
        sheet.rows = [_without(row, words) if names & {str(cell) for cell in row} else row for row in sheet.rows]
    _leave_out_of_words(context, purchases, words)
    for order in orders:
        order.buyer, order.mail, order.phone, order.note, order.wants_message = ERASED, "", "", "", ""
        order.address, order.address_override = dict.fromkeys(order.address, "") | {"country": order.country}, None
        order.erased_at = context.now
        order.version += 1
    n = len(orders)
    sentence = f"the buyer of order {orders[0].number}" + (f" and {n - 1} more" if n > 1 else "") + " is erased"
    context.log("buyer.erased", orders[0].number, sentence, reason="on their wish; it cannot be undone", count=n)
    return sentence[0].upper() + sentence[1:]


def _must_be_over(context: Context, orders: list[Order]) -> None:
    ids = [one.id for one in orders]
    rows = context.session.execute(select(OrderLine.order_id, OrderLine.state).where(OrderLine.order_id.in_(ids)))
    open_ones = {order for order, state in rows.tuples() if state not in OVER}
    if open_ones:
        first = next(one.number for one in orders if one.id in open_ones)
        raise Conflict(f"order {first} of this buyer is still under way; it needs the address. Erase them once it is over")
    back = select(GoodsReturn.number).where(GoodsReturn.order_id.in_(ids), GoodsReturn.ended_at.is_(None))
    asked = select(ReturnRequest.number).where(ReturnRequest.order_id.in_(ids), ReturnRequest.state == ReturnRequestState.asked)
    if (number := context.session.scalar(back.limit(1)) or context.session.scalar(asked.limit(1))) is not None:
        raise Conflict(f"return {number} of this buyer is not over; erase them once it is")


def _leave_out_of_claims(context: Context, orders: list[int], words: re.Pattern[str] | None) -> set[str]:
    """What they wrote and sent, and labels with their address. Returns the subjects of what was sent for their claims and returns."""
    s = context.session
    claims = list(s.scalars(select(Claim).where(Claim.order_id.in_(orders))))
    for claim in claims:
        claim.words = _without(claim.words, words)
    for event in s.scalars(select(ClaimEvent).where(ClaimEvent.claim_id.in_([one.id for one in claims]))):
        event.message = _without(event.message, words)
    for asked in s.scalars(select(ReturnRequest).where(ReturnRequest.order_id.in_(orders))):
        asked.words = ""
    for letter in s.scalars(select(Letter).where(Letter.order_id.in_(orders))):
        letter.sender, letter.subject, letter.body, letter.pictures, letter.needs = "", "", "", [], False
    back = list(s.scalars(select(GoodsReturn).where(GoodsReturn.order_id.in_(orders))))
    s.execute(delete(ReturnLabel).where(ReturnLabel.return_id.in_([one.id for one in back])))
    of_claims = {name for one in claims for name in (f"claim:{one.id}", f"event:{one.reference}")}
    return of_claims | {name for one in back for name in (f"return:{one.id}", f"event:{one.number}")}


def _leave_out_of_words(context: Context, purchases: list[PurchaseOrder], words: re.Pattern[str] | None) -> None:
    # What a sheet of orders was told to be, and what suppliers wrote about these.
    for job in context.session.scalars(select(Job).where(Job.kind.in_(("sheet.check", "sheet.take")))):
        if job.body.get("sheet") == "orders":
            job.result = _without(job.result, words)
    for one in purchases:
        named = or_(Letter.subject.contains(one.reference), Letter.body.contains(one.reference))
        for letter in context.session.scalars(select(Letter).where(named)):
            letter.subject, letter.body = _without(letter.subject, words), _without(letter.body, words)


def _leave_unsent(row: Outbox) -> None:
    """A mail to who is erased does not go any more. Conflict where it may be on its way."""
    how = {"waiting": "stop", "dead": "drop"}.get(row.state)
    if how is None or (row.state == OutboxState.waiting and row.tries):
        raise Conflict("a mail to this buyer is on its way just now; erase them in a moment")
    row.state, row.answer = OUTBOX.step(row.state, how), "its buyer is erased"


def _parcels(context: Context, purchases: Sequence[int]) -> list[tuple[int, Parcel]]:
    query = select(ParcelLine.purchase_id, Parcel).join(Parcel, Parcel.id == ParcelLine.parcel_id)
    found = {
        (purchase, parcel.id): parcel
        for purchase, parcel in context.session.execute(query.where(ParcelLine.purchase_id.in_(purchases))).tuples()
    }
    return [(purchase, parcel) for (purchase, _), parcel in sorted(found.items())]


def _words(orders: Iterable[Order]) -> re.Pattern[str] | None:
    """All that tells who they are, wherever it stands in a text; None where there is nothing."""
    words: set[str] = set()
    for order in orders:
        words |= {order.buyer, order.mail, order.phone}
        for address in (order.address, order.address_override or {}):
            words |= {str(address.get(name) or "") for name in ("name", "address_1", "address_2", "postcode", "phone", "email")}
    found = sorted((word.strip() for word in words if len(word.strip()) >= LEAST), key=len, reverse=True)
    return re.compile("|".join(re.escape(word) for word in found), re.IGNORECASE) if found else None


def _without(value: object, words: re.Pattern[str] | None) -> Any:  # noqa: ANN401 - of the shape that it is given
    """The same value, of whatever shape, with a buyer's words taken out of its texts."""
    if words is None:
        return value
    if isinstance(value, str):
        return words.sub(ERASED, value)
    if isinstance(value, list):
        return [_without(one, words) for one in value]
    if isinstance(value, dict):
        return {name: _without(one, words) for name, one in value.items()}
    return value
