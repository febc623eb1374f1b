"""Partners who work by sheets: what waits for them in the outbox is taken out as a sheet, kept, and can be had again or taken back.

Each row goes out once. What was taken out is handed over, no more: a purchase is accepted when its supplier says so.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from sqlalchemy import select, update

from ...connectors.folder_sheet import PURCHASE_HEADER
from ...connectors.payloads import CancelPayload, FulfilmentPayload, ListingPayload, RefundPayload
from ...connectors.refund_line import RefundLine
from ...core.currency import plain
from ...core.states import OUTBOX, PURCHASE, InboundState, OutboxState, PurchaseState, SampleState
from ...data.base import by_index
from ...data.bulk import by_id
from ...data.depot import Inbound
from ...data.orders import PurchaseOrder
from ...data.outbox import IS_OPEN, AuditEntry, Outbox, SheetOut
from ...data.setup import BY_SHEETS, Store, Supplier
from ...data.shelf import Listing
from ...data.source import Sample
from ...data.tallies import tally
from ...data.transit import PassedOn
from ..base import undoing
from ..base.context import Context
from ..base.errors import Conflict
from ..outbox import queue
from ..purchasing.po_documents import purchase_rows
from ..purchasing.supplier_answers import cannot_be_taken_back
from . import effects

# What is taken out for whom: the kinds of outbox rows.
WHATS: dict[str, tuple[str, tuple[str, ...]]] = {
    "purchases": ("supplier", ("purchase", "sample", "load")),
    "changes": ("store", ("listing",)),
    "tracking": ("store", ("fulfilment", "cancel", "refund")),
}
CHANGES_HEADER = ("store", "sku", "title", "price", "quantity", "state")
TRACKING_HEADER = ("store", "order_no", "status", "tracking_number", "carrier", "note")


@dataclass(frozen=True)
class Waiting:
    """What waits for a partner by sheets, and since when."""

    owner: str
    number: int
    name: str
    what: str
    count: int
    since: datetime


def waiting(context: Context) -> list[Waiting]:
    """All that waits to be taken out, by partner and what it is."""
    counts = tally(context.session, "changes")
    found = []
    for owner, row in _partners(context):
        for what, (whose, kinds) in WHATS.items():
            target = f"{owner}:{row.id}"
            if whose == owner and (n := sum(counts.get((target, kind, "waiting"), 0) for kind in kinds)):
                mine = (IS_OPEN, Outbox.state == OutboxState.waiting, Outbox.target == target, Outbox.kind.in_(kinds))
                # What was written down first has waited longest.
                first = select(Outbox.made_at).where(*mine).order_by(Outbox.id).limit(1)
                if since := context.session.scalar(by_index(first, Outbox, "ix_outbox_open")):
                    found.append(Waiting(owner, row.id, row.name, what, n, since))
    return sorted(found, key=lambda one: one.since)


def _partners(context: Context) -> list[tuple[str, Any]]:
    return [
        (owner, row)
        for owner, table in (("store", Store), ("supplier", Supplier))
        for row in context.session.scalars(select(table).where(table.kind.in_(BY_SHEETS)))
    ]


def is_waiting(context: Context, owner: str, number: int, what: str) -> bool:
    """Whether anything waits for a partner to be taken out."""
    wanted = (IS_OPEN, Outbox.state == OutboxState.waiting, Outbox.target == f"{owner}:{number}", Outbox.kind.in_(WHATS[what][1]))
    return context.session.scalar(by_index(select(Outbox.id).where(*wanted).limit(1), Outbox, "ix_outbox_open")) is not None


def _rows(context: Context, owner: str, number: int, what: str, most: int | None = None) -> tuple[Any, list[Outbox]]:
    if what not in WHATS or WHATS[what][0] != owner:
        raise Conflict("there is no such sheet for this partner")
    row: Any = context.get(Supplier if owner == "supplier" else Store, number, owner)
    if row.kind not in BY_SHEETS:
        if what == "purchases":
            raise Conflict(f"{row.name} takes purchase orders by its interface; a sheet too would buy them twice")
        raise Conflict(f"{row.name} takes changes by its interface")
    wanted = (Outbox.target == f"{owner}:{number}", Outbox.kind.in_(WHATS[what][1]), Outbox.state == OutboxState.waiting)
    rows = list(context.session.scalars(select(Outbox).where(*wanted).order_by(Outbox.id).limit(most)))
    if not rows:
        raise Conflict("nothing waits for this partner")
    return row, rows


def confirm(context: Context, row: Outbox, message: str) -> None:
    """What goes out by a person's hand is done with it."""
    row.state, row.done_at, row.answer = OUTBOX.step(OUTBOX.step(row.state, "claim"), "confirm"), context.now, message


def take_out(context: Context, owner: str, number: int, what: str, most: int | None = None) -> SheetOut:
    """Export what waits, as a sheet that is kept. Its rows count as handed over; all of it can be taken back. most: so many at most."""
    partner, rows = _rows(context, owner, number, what, most)
    for row in rows:
        confirm(context, row, "taken out as a sheet")
    header, out = _MAKE[what](context, partner, rows)
    kept = SheetOut(
        owner=owner, owner_id=number, what=what, at=context.now, who=context.actor, header=header, rows=out, outbox=[row.id for row in rows]
    )
    context.session.add(kept)
    context.session.flush()
    message = f"{_counted(len(rows), what)} taken out as a sheet for {partner.name}"
    context.log(f"sheet.{what}", partner.name, message, after={"sheet": kept.id}, undo=True, count=len(rows))
    return kept


def _counted(n: int, what: str) -> str:
    one, many = {
        "purchases": ("purchase order", "purchase orders"),
        "changes": ("change", "changes"),
        "tracking": ("word on an order", "words on orders"),
    }[what]
    return f"{n} {one if n == 1 else many}"


def _purchases(context: Context, partner: Supplier, rows: Sequence[Outbox]) -> tuple[list[str], list[list[Any]]]:
    references = [row.key for row in rows]
    for row in context.session.scalars(select(PurchaseOrder).where(PurchaseOrder.reference.in_(references))):
        row.state = PURCHASE.step(row.state, "send")
    # What is handed over is taken back by its sheet, not by the act that bought it.
    cannot_be_taken_back(context, references)
    return list(PURCHASE_HEADER), [line for row in rows for line in purchase_rows(row)]


def _changes(context: Context, partner: Store, rows: Sequence[Outbox]) -> tuple[list[str], list[list[Any]]]:
    changes = [ListingPayload.model_validate(row.body) for row in rows]
    effects.shown(context, changes)
    listings = by_id(context.session, Listing, (one.listing for one in changes))
    return list(CHANGES_HEADER), [
        [
            partner.name,
            one.sku,
            listings[one.listing].title,
            *("" if part is None else part for part in (one.price, one.quantity, one.state)),
        ]
        for one in changes
    ]


def _tracking(context: Context, partner: Store, rows: Sequence[Outbox]) -> tuple[list[str], list[list[Any]]]:
    effects.follow(context, [(row, None) for row in rows])
    out = []
    for row in rows:
        match queue.payload(row):
            case FulfilmentPayload() as one:
                out.append([partner.name, one.order, "shipped", one.tracking_number, one.carrier, ""])
            case RefundPayload() as one:
                lines = "; ".join(_back(line, one.currency) for line in one.units)
                out.append([partner.name, one.order, "refunded", "", "", lines])
            case CancelPayload() as one:
                out.append([partner.name, one.order, "cancelled", "", "", ""])
    return list(TRACKING_HEADER), out


def _back(line: RefundLine, currency: str) -> str:
    return f"line {line.line}" + (f": {plain(line.amount, currency)} {currency}" if line.amount is not None else "")


_MAKE: dict[str, Any] = {"purchases": _purchases, "changes": _changes, "tracking": _tracking}


def sheets_out(context: Context, owner: str, number: int) -> list[SheetOut]:
    """What was taken out for a partner, the newest first."""
    wanted = (SheetOut.owner == owner, SheetOut.owner_id == number)
    return list(context.session.scalars(select(SheetOut).where(*wanted).order_by(SheetOut.id.desc()).limit(200)))


def take_back(context: Context, number: int) -> str:
    """Take a sheet back: what nobody has answered since waits again, and stands in the next sheet."""
    sheet = context.get(SheetOut, number, "sheet")
    if sheet.back_at is not None:
        raise Conflict("this sheet was taken back already")
    _stop_its_file(context, sheet)
    rows = [row for row in by_id(context.session, Outbox, sheet.outbox).values() if row.state == OutboxState.done]
    back = [row for row in rows if _still(context, row)]
    if not back:
        raise Conflict("all of it was answered or overtaken since, so nothing can be taken back")
    for row in back:
        row.state, row.done_at, row.answer = OUTBOX.step(row.state, "take_back"), None, "its sheet was taken back"
        purchase = (
            context.session.scalar(select(PurchaseOrder).where(PurchaseOrder.reference == row.key)) if row.kind == "purchase" else None
        )
        if purchase is not None:
            purchase.state = PURCHASE.step(purchase.state, "take_back")
        elif row.kind == "fulfilment":
            one = FulfilmentPayload.model_validate(row.body)
            passed = (PassedOn.parcel_id == one.parcel, PassedOn.order_id == one.order_id)
            context.session.execute(update(PassedOn).where(*passed).values(confirmed_at=None))
    sheet.back_at = context.now
    left = len(sheet.outbox) - len(back)
    message = f"{_counted(len(back), sheet.what)} of a sheet taken back" + (f"; {left} were answered or overtaken since" if left else "")
    context.log("sheet.back", sheet.owner, message, count=len(back))
    context.session.flush()
    return message[0].upper() + message[1:]


def _stop_its_file(context: Context, sheet: SheetOut) -> None:
    """A sheet that goes to a server of files is taken back only while it surely is not there: else they would have it twice."""
    if not sheet.path:
        return
    row = context.session.scalar(queue.of_subjects(select(Outbox).where(Outbox.subject == f"sheet:{sheet.id}", Outbox.kind == "file")))
    if row is None or row.state in (OutboxState.dropped,):
        return
    if sheet.placing_at is not None and row.fault != "refused":
        raise Conflict(f"{sheet.path} is on their server, or may be; have them take it away there, and tell them by mail what changes")
    if row.state == OutboxState.waiting:
        row.state = OUTBOX.step(row.state, "stop")
    elif row.state == OutboxState.dead:
        row.state = OUTBOX.step(row.state, "drop")
    else:
        raise Conflict(f"{sheet.path} is on its way just now; try it again in a moment")


def _still(context: Context, row: Outbox) -> bool:
    """Whether what a sheet said still stands alone: a purchase nobody answered, a listing that nothing newer was said of."""
    if row.kind == "purchase":
        state = context.session.scalar(select(PurchaseOrder.state).where(PurchaseOrder.reference == row.key))
        return state == PurchaseState.sent
    if row.kind == "sample":
        return context.session.scalar(select(Sample.state).where(Sample.reference == row.key)) == SampleState.asked
    if row.kind == "load":
        return context.session.scalar(select(Inbound.state).where(Inbound.reference == row.key)) == InboundState.ordered
    newer = select(Outbox.id).where(Outbox.subject == row.subject, Outbox.id > row.id, Outbox.kind == row.kind)
    return context.session.scalar(newer.limit(1)) is None


@undoing.undoes(*(f"sheet.{what}" for what in WHATS))
def undo_sheet(context: Context, act: AuditEntry) -> None:
    take_back(context, undoing.after(act)["sheet"])
