"""Claims by mail: what a supplier that takes none by an interface is written, of one or of many at once."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy import select

from ...core.claims import ClaimReason
from ...core.currency import show
from ...data.claims import Claim
from ...data.orders import Order, OrderLine, PurchaseLine, PurchaseOrder
from ...data.setup import Store, Supplier
from ...data.source import Item
from ...sheets import ubl_claim
from ...sheets.ubl_claim import ClaimDocument, ClaimedLine
from ..base.context import Context

WORDS = {
    ClaimReason.no_number: "no tracking number",
    ClaimReason.no_movement: "the parcel does not move",
    ClaimReason.lost: "lost",
    ClaimReason.late: "late",
    ClaimReason.damaged: "damaged",
    ClaimReason.defective: "defective",
    ClaimReason.wrong_item: "wrong item",
    ClaimReason.missing: "item missing",
    ClaimReason.not_as_described: "not as described",
    ClaimReason.changed_mind: "the buyer changed their mind",
}


BY_DOCUMENT = "A ReceiptAdvice is with this mail; a CreditNote is read by itself where it names our number"


def of_one(context: Context, row: Claim, supplier: Supplier) -> tuple[str, str]:
    """Subject and text of a claim to a supplier that takes none by its interface."""
    purchase = context.get(PurchaseOrder, row.purchase_id, "purchase order")
    lines = [f"Hello {supplier.name},", "", f"of our order {purchase.reference}: {_what(context, row)}.", row.words, _please(row)]
    if row.evidence:
        lines.append(f"{len(row.evidence)} pictures are kept here; we send them on request.")
    if supplier.order_form == "ubl":
        lines.append(f"{BY_DOCUMENT} ({row.reference}).")
    return f"Claim {row.reference} for {purchase.reference}", "\n".join(one for one in lines if one or one == "") + "\n"


def of_many(context: Context, rows: Sequence[Claim], supplier: Supplier) -> tuple[str, str]:
    """Subject and text of one mail over many claims: each with its own number, by which it is answered."""
    lines = [f"Hello {supplier.name},", "", f"we claim {len(rows)} things of our orders to you; please answer each by its number.", ""]
    for row in rows:
        purchase = context.get(PurchaseOrder, row.purchase_id, "purchase order")
        more = f" {row.words}" if row.words else ""
        shown = f" ({len(row.evidence)} pictures on request)" if row.evidence else ""
        lines.append(f"{row.reference}, order {purchase.reference}: {_what(context, row)}.{more}{shown} {_please(row)}")
    sums: dict[str, int] = {}
    for row in rows:
        if row.wish == "money":
            sums[row.currency] = sums.get(row.currency, 0) + row.amount
    if sums:
        lines += ["", f"In all: {' and '.join(show(amount, currency) for currency, amount in sums.items())}."]
    if supplier.order_form == "ubl":
        lines += ["", f"{BY_DOCUMENT}s."]
    return f"{len(rows)} claims, the first {rows[0].reference}", "\n".join(lines) + "\n"


def files(context: Context, rows: Sequence[Claim], supplier: Supplier) -> list[tuple[str, str, str]]:
    """What goes with a mail of claims, as (name, kind, text): a ReceiptAdvice, where the supplier is ordered from by UBL."""
    if supplier.order_form != "ubl":
        return []
    lines = []
    for row in rows:
        line = context.get(OrderLine, row.order_line_id, "order line")
        bought = context.session.execute(
            select(PurchaseLine.line_no, Item.number, Item.title)
            .join(Item, Item.id == PurchaseLine.item_id)
            .where(PurchaseLine.purchase_id == row.purchase_id, PurchaseLine.order_line_id == row.order_line_id)
        ).first()
        number, item, title = bought or (1, line.sku_code, line.title)
        purchase = context.get(PurchaseOrder, row.purchase_id, "purchase order").reference
        reason = ClaimReason(row.reason)
        lines.append(ClaimedLine(row.reference, purchase, number, item, title, row.units, reason, row.words, _please(row)))
    name = rows[0].reference if len(rows) == 1 else f"claims-{rows[0].reference}"
    order = context.get(Order, rows[0].order_id, "order")
    made = ClaimDocument(name, context.now, context.get(Store, order.store_id, "store").name, supplier.name, tuple(lines))
    return [(f"{name}.xml", "application/xml", ubl_claim.advice_xml(made).decode())]


def _please(row: Claim) -> str:
    return f"Please pay back {show(row.amount, row.currency)}." if row.wish == "money" else "Please send it once more, at no cost."


def _what(context: Context, row: Claim) -> str:
    """What is wrong with what of a purchase, by the supplier's own number."""
    line = context.get(OrderLine, row.order_line_id, "order line")
    bought = context.session.scalars(
        select(Item)
        .join(PurchaseLine, PurchaseLine.item_id == Item.id)
        .where(PurchaseLine.purchase_id == row.purchase_id, PurchaseLine.order_line_id == row.order_line_id)
    ).first()
    what = f"{row.units} × {bought.number if bought else line.sku_code} {bought.title if bought else line.title}"
    return f"{what}: {WORDS[ClaimReason(row.reason)]}"
