"""The only door out: what is decided here is written in the same transaction, and carried out after it."""

from __future__ import annotations

import secrets
from collections.abc import Sequence
from datetime import datetime
from typing import Any

from sqlalchemy import func, select, update

from ..core.money import parse_money, show
from ..core.states import OUTBOX
from ..data.orders import Order, PurchaseOrder
from ..data.outbox import Outbox
from ..data.setup import Mailbox
from .desk import Conflict, Desk


def batch_mark() -> str:
    """The part of a listing change's key that is drawn by lot: a store must never take a change of a house that was
    set up anew for one that it has had from the old house."""
    return secrets.token_hex(3)


def put(desk: Desk, target: str, subject: str, kind: str, key: str, body: dict[str, Any], after: datetime | None = None) -> Outbox:
    """Write one change to the outbox. `key` is unique and goes with the call; a key that is there already is refused."""
    row = Outbox(
        key=key, target=target, subject=subject, kind=kind, body=body, state=OUTBOX.first, made_at=desk.now, after=after or desk.now
    )
    desk.s.add(row)
    desk.s.flush()
    return row


def mail(
    desk: Desk,
    key: str,
    subject: str,
    to: str,
    title: str,
    text: str,
    message: int | None = None,
    after: datetime | None = None,
    files: Sequence[tuple[str, str, str]] = (),
) -> bool:
    """Write a mail to the outbox, sent once by its key; False where the house has no mailbox.

    message: the one it is kept as; files: (name, kind, text) that go with it.
    """
    mailbox = desk.s.scalar(select(Mailbox).order_by(Mailbox.id).limit(1))
    if mailbox is None:
        return False
    sender = f"{mailbox.name} <{mailbox.sender}>"
    body = {
        "reference": key,
        "sender": sender,
        "to": to,
        "subject": title,
        "body": text,
        "message": message,
        "files": [list(one) for one in files],
    }
    put(desk, f"mailbox:{mailbox.id}", subject, "mail", key, body, after)
    return True


def about(body: dict[str, Any]) -> str:
    """What a change is about, as a person calls it: a SKU, a purchase order, an order, or whom a mail goes to."""
    parts = (body.get("sku"), body.get("order"), body.get("to"), body.get("reference"))
    return str(next((part for part in parts if part), ""))


def tell(kind: str, body: dict[str, Any]) -> str:
    """What a change asks of the outside, in a few words."""
    if kind == "listing":
        state = {"live": "on sale", "paused": "off sale", "ended": "ended"}.get(str(body.get("state")), "")
        money = show(parse_money(str(body["price"]), body["currency"]), body["currency"])
        return f"{money}, shows {body.get('quantity')}, {state}"
    if kind == "fulfilment":
        return f"sent with {body.get('carrier')}, {body.get('tracking_number')}"
    if kind == "purchase":
        return ", ".join(f"{line['quantity']} x {line['item']}" for line in body.get("lines", [])[:4])
    if kind == "refund":
        return f"refund {len(body.get('lines', []))} lines"
    if kind == "recall":
        return "please do not send it"
    return str(body.get("subject", "")) if kind == "mail" else "cancel and refund"


def stop(desk: Desk, key: str) -> None:
    """Take back a change that has not gone out; Conflict when it has (or may have)."""
    changed = desk.s.execute(
        update(Outbox)
        .where(Outbox.key == key, Outbox.state == "waiting", Outbox.tries == 0)
        .values(state=OUTBOX.step("waiting", "stop"), answer="taken back")
    )
    if not changed.rowcount:  # type: ignore[attr-defined]
        raise Conflict("it has gone out already, so it cannot be taken back")


def _cancelled(desk: Desk, reference: str) -> bool:
    when = select(Order.cancelled_at).join(PurchaseOrder, PurchaseOrder.order_id == Order.id).where(PurchaseOrder.reference == reference)
    return desk.s.scalar(when) is not None


def give_up(desk: Desk, key: str) -> None:
    """A change that was not taken is not wanted any more, so nobody tries it again."""
    row = desk.s.scalar(select(Outbox).where(Outbox.key == key, Outbox.state == "dead"))
    if row:
        row.state, row.done_at = OUTBOX.step(row.state, "drop"), desk.now


def retry(desk: Desk, number: int) -> Outbox:
    """Send a dead change again. Whether the outside knows it is asked first, as after every loss."""
    row = desk.get(Outbox, number, "change")
    if row.state != "dead":
        raise Conflict("this change is not waiting for you any more")
    if row.kind == "purchase" and _cancelled(desk, row.key):
        raise Conflict("the buyer cancelled this order; settle that first")
    newer = select(Outbox.key).where(Outbox.subject == row.subject, Outbox.kind == "listing", Outbox.id > row.id).order_by(Outbox.id.desc())
    if row.kind == "listing" and (key := desk.s.scalar(newer.limit(1))):
        row.state, row.overtaken_by = OUTBOX.step(row.state, "drop"), key
        desk.log("outbox.drop", row.subject, f"not tried again, a newer change overtook it: {about(row.body)}")
        return row
    row.state = OUTBOX.step(row.state, "retry")
    row.tries, row.after, row.claimed_at = 0, desk.now, desk.now
    desk.log("outbox.retry", row.subject, f"tried again: {row.kind} {about(row.body)}")
    return row


def waiting(desk: Desk) -> int:
    """Changes that the outside does not have yet."""
    query = select(func.count()).select_from(Outbox).where(Outbox.state.in_(("waiting", "claimed", "unknown", "posted")))
    return int(desk.s.scalar(query) or 0)
