"""Purchase orders as documents: as a sheet or as UBL, by mail, with a packing slip; and the answers that come back so."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import select

from ...connectors.folder_sheet import PURCHASE_HEADER
from ...connectors.payloads import PurchasePayload
from ...connectors.protocols import PurchaseAnswer, Tracking
from ...connectors.wire import said_with
from ...core.address_parts import lines as address_lines
from ...core.currency import parse_money, plain
from ...core.states import OUTBOX, PURCHASE, OutboxState
from ...data.bulk import by_id
from ...data.orders import Order, OrderLine, PurchaseLine, PurchaseOrder
from ...data.outbox import Outbox
from ...data.setup import BY_SHEETS, Store, Supplier
from ...data.source import Item
from ...sheets import ubl
from ...sheets.table import csv_bytes
from ..base.context import Context
from ..base.errors import Conflict, Invalid
from ..outbox import queue

FORMS = ("sheet", "ubl")
ROADS = ("hand", "mail")
ANSWER_HEADER = ("purchase_order", "answer", "reason", "their_number", "billed", "tracking_number", "carrier")


@dataclass(frozen=True)
class File:
    """A document to hand out: what it is called, what kind it is, and what is in it."""

    name: str
    kind: str
    data: bytes


def purchase_rows(row: Outbox) -> list[list[Any]]:
    """A purchase order of the outbox as rows of the purchase-order sheet."""
    one = PurchasePayload.model_validate(row.body)
    to = one.address
    address = [to.name, to.address_1, to.address_2, to.city, to.region, to.postcode, to.country, to.phone]
    note = said_with(one.note, one.greeting)
    return [[one.reference, line.line_no, line.item, line.quantity, *address, one.service, note] for line in one.lines]


def sheet_file(rows: Iterable[Outbox], name: str) -> File:
    out = [cells for row in rows for cells in purchase_rows(row)]
    return File(f"{name}.csv", "text/csv; charset=utf-8", csv_bytes(PURCHASE_HEADER, out))


def answer_file(references: Iterable[str]) -> File:
    """The sheet that a supplier fills in and sends back: accepted, refused with a reason, or shipped with its number."""
    return File("answers.csv", "text/csv; charset=utf-8", csv_bytes(ANSWER_HEADER, [[one, *[""] * 6] for one in references]))


def _parts(context: Context, number: int) -> tuple[PurchaseOrder, Order, Store, list[tuple[PurchaseLine, Item]]]:
    purchase = context.get(PurchaseOrder, number, "purchase order")
    order = context.get(Order, purchase.order_id, "order")
    rows = context.session.scalars(select(PurchaseLine).where(PurchaseLine.purchase_id == number).order_by(PurchaseLine.line_no)).all()
    items = by_id(context.session, Item, (row.item_id for row in rows))
    return purchase, order, context.get(Store, order.store_id, "store"), [(row, items[row.item_id]) for row in rows]


def ubl_file(context: Context, number: int) -> File:
    """A purchase order as a UBL 2.1 Order; what it says is what stands in the outbox."""
    purchase, order, store, rows = _parts(context, number)
    supplier = context.get(Supplier, purchase.supplier_id, "supplier")
    sent = context.session.scalar(select(Outbox).where(Outbox.key == purchase.reference))
    bought = PurchasePayload.model_validate(sent.body) if sent else None
    given = bought.address.model_dump(exclude_none=True) if bought else order.address_override or order.address
    address = {name: str(value or "") for name, value in given.items()}
    lines = tuple(
        ubl.DocumentLine(row.line_no, item.number, item.title, row.quantity, plain(row.planned_cost, purchase.currency))
        for row, item in rows
    )
    document = ubl.OrderDocument(
        purchase.reference, purchase.made_at, purchase.currency, store.name, supplier.name, address, purchase.service,
        bought.note if bought else supplier.parcel_note, bought.greeting if bought else "", lines,
    )  # fmt: skip
    return File(f"{purchase.reference}.xml", "application/xml", ubl.order_xml(document))


def slip_file(context: Context, number: int) -> File:
    """The packing slip of a purchase order: what the buyer ordered, in the store's name, without prices or our supplier."""
    # Loaded where it is used: what draws pages takes a third of a second of every start.
    from ...sheets.slip import slip_pdf

    purchase, order, store, rows = _parts(context, number)
    lines = by_id(context.session, OrderLine, {row.order_line_id for row, _ in rows})
    address = order.address_override or order.address
    receiver = address_lines({**address, "country": order.country})
    what = [(line.quantity, line.title or line.sku_code) for line in sorted(lines.values(), key=lambda one: one.line_no)]
    greeting = store.greeting.replace("{name}", order.buyer)
    return File(f"{purchase.reference}-slip.pdf", "application/pdf", slip_pdf(store.name, order.number, receiver, what, greeting))


def send_by_mail(context: Context, made: Iterable[PurchaseOrder]) -> None:
    """Purchase orders of suppliers who take them by mail go out as one mail each supplier, written in the same transaction."""
    by_supplier: dict[int, list[PurchaseOrder]] = {}
    for one in made:
        by_supplier.setdefault(one.supplier_id, []).append(one)
    for number, purchases in by_supplier.items():
        supplier = context.get(Supplier, number, "supplier")
        if supplier.kind not in BY_SHEETS or supplier.order_road != "mail" or "@" not in supplier.mail:
            continue
        keys = [one.reference for one in purchases]
        rows = list(
            context.session.scalars(select(Outbox).where(Outbox.key.in_(keys), Outbox.state == OutboxState.waiting).order_by(Outbox.id))
        )
        if supplier.order_form == "ubl":
            files = [ubl_file(context, one.id) for one in purchases]
        else:
            files = [sheet_file(rows, "purchase-orders"), answer_file(keys)]
        n = len(purchases)
        title = f"{n} purchase order{'' if n == 1 else 's'}: {keys[0]}" + (f" and {n - 1} more" if n > 1 else "")
        how = "OrderResponse and DespatchAdvice documents" if supplier.order_form == "ubl" else "the sheet answers.csv filled in"
        text = f"Please send these, and answer this mail with {how}: what you take, what it costs, and the tracking numbers.\n"
        key = f"orders-{keys[0]}-{n}"
        attached = [(one.name, one.kind, one.data.decode()) for one in files]
        if not queue.mail(context, key, key, supplier.mail, title, text, files=attached, supplier=number):
            continue
        for row in rows:
            row.state, row.done_at, row.answer = OUTBOX.step(OUTBOX.step(row.state, "claim"), "confirm"), context.now, f"in the mail {key}"
        for one in purchases:
            one.state, one.message = PURCHASE.step(one.state, "send"), ""
    context.session.flush()


def read(data: bytes) -> list[ubl.Answer]:
    """What a UBL document says; looks nothing up, so that it needs no transaction. Invalid says why it is none."""
    if not data:
        raise Invalid("the file is empty")
    try:
        return ubl.read_answer(data)
    except ubl.NotADocument as error:
        raise Invalid(str(error)) from error


def answers_of(context: Context, found: Sequence[ubl.Answer]) -> list[PurchaseAnswer]:
    """The answers of a UBL document, checked against our purchase orders. Invalid says what is wrong."""
    out = []
    for one in found:
        purchase = context.session.scalar(select(PurchaseOrder).where(PurchaseOrder.reference == one.reference))
        if purchase is None:
            raise Invalid(f"there is no purchase order {one.reference!r} here")
        if one.currency and one.currency != purchase.currency:
            raise Invalid(f"{one.reference} is paid in {purchase.currency}, the document says {one.currency}")
        try:
            billed = parse_money(one.billed, purchase.currency, "PayableAmount") if one.billed else None
        except ValueError as error:
            raise Invalid(f"{one.reference}: {error}") from error
        if billed is not None and billed < 0:
            raise Invalid(f"{one.reference}: the bill is below nothing")
        tracking = Tracking(one.tracking, one.carrier) if one.tracking else None
        if one.state == "shipped" and tracking is None:
            raise Invalid(f"{one.reference}: the advice names no tracking number")
        out.append(PurchaseAnswer(one.reference, one.their_number, one.state, one.message, billed, tracking, one.lacking))
    return out


def of_purchase(context: Context, number: int, form: str) -> File:
    """order.xml or slip.pdf of a purchase."""
    if form == "xml":
        return ubl_file(context, number)
    if form == "pdf":
        return slip_file(context, number)
    raise Conflict("a purchase order is there as xml, its packing slip as pdf")
