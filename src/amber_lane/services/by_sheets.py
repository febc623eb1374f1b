"""Partners who work by sheets: what waits for them in the outbox is taken out as a sheet, each row once."""

from __future__ import annotations

from typing import Any

from sqlalchemy import select

from ..connectors.folder_sheet import PURCHASE_HEADER
from ..connectors.protocols import PurchaseAnswer
from ..core.states import OUTBOX
from ..data.outbox import Outbox
from ..data.setup import Store, Supplier
from ..data.shelf import Listing
from . import delivered, purchases, samples
from .desk import Conflict, Desk
from .documents import purchase_rows


def _taken(desk: Desk, target: str, *kinds: str) -> list[Outbox]:
    rows = list(
        desk.s.scalars(select(Outbox).where(Outbox.target == target, Outbox.kind.in_(kinds), Outbox.state == "waiting").order_by(Outbox.id))
    )
    if not rows:
        raise Conflict("nothing waits for this partner")
    for row in rows:
        confirm(desk, row, "taken out as a sheet")
    return rows


def confirm(desk: Desk, row: Outbox, told: str) -> None:
    """What goes out by a person's hand is done with it."""
    row.state, row.done_at, row.answer = OUTBOX.step(OUTBOX.step(row.state, "claim"), "confirm"), desk.now, told


def take_purchases(desk: Desk, number: int) -> tuple[list[str], list[list[Any]]]:
    """Waiting purchase orders of a supplier, one row per line; from now on they count as accepted."""
    supplier = desk.get(Supplier, number, "supplier")
    if supplier.kind != "sheet":
        raise Conflict(f"{supplier.name} takes purchase orders by its interface; a sheet too would buy them twice")
    out = []
    for row in _taken(desk, f"supplier:{number}", "purchase", "sample"):
        out += purchase_rows(row.body)
        taken = samples if row.kind == "sample" else purchases
        taken.take_answer(desk, PurchaseAnswer(row.key, "", "accepted", "", None, None))
    desk.log("purchase.sheet", supplier.name, f"{len({line[0] for line in out})} purchase orders taken out as a sheet for {supplier.name}")
    return list(PURCHASE_HEADER), out


def take_changes(desk: Desk, number: int) -> tuple[list[str], list[list[Any]]]:
    """Waiting listing changes of a store; from now on the store is taken to show them."""
    store = desk.get(Store, number, "store")
    if store.kind != "sheet":
        raise Conflict(f"{store.name} takes changes by its interface")
    out = []
    for row in _taken(desk, f"store:{number}", "listing"):
        body = row.body
        listing = desk.get(Listing, body["listing"], "listing")
        delivered.shown(desk, [body])
        out.append([store.name, body["sku"], listing.title, body.get("price", ""), body.get("quantity", ""), body.get("state", "")])
    desk.log("listing.sheet_out", store.name, f"{len(out)} changes taken out as a sheet for {store.name}")
    return ["store", "sku", "title", "price", "quantity", "state"], out
