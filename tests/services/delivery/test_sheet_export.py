"""Sheets for partners without an interface: each row goes out once, and comes back only where nobody answered it and nothing overtook it."""

from __future__ import annotations

from typing import Any

import pytest
from sqlalchemy import select

from amber_lane.core.states import PurchaseState
from amber_lane.data.orders import PurchaseOrder
from amber_lane.data.outbox import AuditEntry, Outbox, SheetOut
from amber_lane.data.setup import Store, Supplier
from amber_lane.services.activity import undo
from amber_lane.services.base.context import Context
from amber_lane.services.base.errors import Conflict
from amber_lane.services.delivery import sheet_export
from amber_lane.services.fulfilment import delivery_exceptions
from amber_lane.services.orders import orders
from amber_lane.services.outbox import listing_changes
from amber_lane.services.pricing.drafts import PolicyChange

from ...small import Small
from ..purchasing.steps import again, answer, send, states


@pytest.fixture
def sheets(small: Small) -> Small:
    """The supplier and the store work by sheets, which a person takes out."""

    def make(context: Context) -> None:
        context.get(Supplier, 1, "supplier").kind = "sheet"
        context.get(Store, 1, "store").kind = "sheet"
        PolicyChange("house", "", {"send": "hand"}).keep(context)

    small.write(make)
    return small


def take(sheets: Small, what: str, owner: str = "supplier", most: int | None = None) -> SheetOut:
    return sheets.write(lambda context: sheet_export.take_out(context, owner, 1, what, most))


def back(sheets: Small, number: int) -> str:
    return str(sheets.write(lambda context: sheet_export.take_back(context, number)))


def waiting(sheets: Small) -> list[tuple[int, Any]]:
    """How many purchase orders wait for the supplier, and since when."""
    with sheets.db.reading() as s:
        return [
            (one.count, one.since) for one in sheet_export.waiting(sheets.context(s)) if (one.owner, one.what) == ("supplier", "purchases")
        ]


def purchases(sheets: Small) -> dict[str, PurchaseState]:
    return {row.reference: row.state for row in sheets.all(select(PurchaseOrder).order_by(PurchaseOrder.id))}


def test_each_purchase_goes_out_once_and_what_was_answered_stays_out(sheets: Small) -> None:
    sold = [sheets.order(name, ("S-1", 1, 1900)) for name in ("A", "B", "C")]
    began = sheets.clock.now()
    send(sheets, sold[0].id)
    sheets.later(hours=2)
    send(sheets, sold[1].id, sold[2].id)
    assert waiting(sheets) == [(3, began)], "since the first of them"
    first, second = take(sheets, "purchases", most=2), take(sheets, "purchases")
    assert [[row[0] for row in one.rows] for one in (first, second)] == [["ONE-A-1", "ONE-B-1"], ["ONE-C-1"]]
    assert first.header[0] == "purchase_order" and first.who == "Tester" and waiting(sheets) == []
    with pytest.raises(Conflict, match="nothing waits"):
        take(sheets, "purchases")
    answer(sheets, "ONE-A-1", "accepted")
    assert back(sheets, first.id) == "1 purchase order of a sheet taken back; 1 were answered or overtaken since"
    assert purchases(sheets) == {"ONE-A-1": "accepted", "ONE-B-1": "waiting", "ONE-C-1": "sent"}
    with pytest.raises(Conflict, match="taken back already"):
        back(sheets, first.id)
    # It stands in the next sheet, and that one is taken back from the log as well.
    third = take(sheets, "purchases")
    assert [row[0] for row in third.rows] == ["ONE-B-1"]
    act = sheets.all(select(AuditEntry).where(AuditEntry.kind == "sheet.purchases").order_by(AuditEntry.id.desc()))[0]
    sheets.write(lambda context: undo.undo(context, act.id))
    assert purchases(sheets)["ONE-B-1"] == "waiting"
    answer(sheets, "ONE-C-1", "refused", message="sold out")
    with pytest.raises(Conflict, match="all of it was answered"):
        back(sheets, second.id)
    kept = sheets.write(lambda context: [(one.id, one.back_at is not None) for one in sheet_export.sheets_out(context, "supplier", 1)])
    assert kept == [(third.id, True), (second.id, False), (first.id, True)], "each is kept as it was"


def test_what_is_on_a_sheet_is_taken_back_by_that_alone_and_what_only_looks_like_it_by_its_own_act(sheets: Small) -> None:
    like, same = sheets.order("A-1", ("S-2", 1, 1900)), sheets.order("A", ("S-1", 1, 1900))
    send(sheets, same.id)
    send(sheets, like.id)
    assert list(purchases(sheets)) == ["ONE-A-1", "ONE-A-1-1"]
    take(sheets, "purchases", most=1)
    acts = sheets.all(select(AuditEntry).where(AuditEntry.kind == "order.send").order_by(AuditEntry.id))
    assert [one.undo for one in acts] == ["", "open"], "the reference of one stands within that of the other"
    sheets.write(lambda context: undo.undo(context, acts[1].id))
    assert states(sheets, like) == ["ready"] and states(sheets, same) == ["bought"]
    with pytest.raises(Conflict):
        sheets.write(lambda context: undo.undo(context, acts[0].id))


def test_changes_are_shown_once_they_are_taken_out_and_the_newest_is_what_counts(sheets: Small) -> None:
    def want(price: int) -> None:
        sheets.write(lambda context: listing_changes.want(context, listing_of(context), price=price))

    def listing_of(context: Context) -> Any:
        return context.session.merge(sheets.listing(1))

    assert {row[0] for row in take(sheets, "changes", "store").rows} == {"First shop"}
    want(1295)
    want(1395)
    sheet = take(sheets, "changes", "store")
    assert [(row[1], row[3]) for row in sheet.rows] == [("S-1", "13.95")] and sheets.listing(1).shown_price == 1395
    want(1495)
    with pytest.raises(Conflict, match="overtaken since"):
        back(sheets, sheet.id)
    later = take(sheets, "changes", "store")
    assert "1 change of a sheet taken back" in back(sheets, later.id)
    assert [row[3] for row in take(sheets, "changes", "store").rows] == ["14.95"]


def test_a_store_is_told_of_parcels_refunds_and_cancellings_on_one_sheet(sheets: Small) -> None:
    sold = {name: sheets.order(name, ("S-1", 1, 1900), ("S-2", 2, 1900)) for name in ("GONE", "PART", "BACK")}
    for row in sold.values():
        assert row.channel == "link"
    made = send(sheets, sold["GONE"].id, sold["PART"].id)
    take(sheets, "purchases")
    head = "purchase_order,answer,tracking_number,carrier\n"
    sheets.sheet("answers", head + "".join(f"{one.reference},shipped,RR473124829GB,Hill Post\n" for one in made))
    line = sheets.all(select(orders.OrderLine).where(orders.OrderLine.order_id == sold["PART"].id).order_by(orders.OrderLine.line_no))[1]
    sheets.write(lambda context: delivery_exceptions.refund_part(context, context.session.merge(line), 450, "C-1"))
    sheets.write(lambda context: orders.cancel(context, sold["BACK"].id, "sold out everywhere"))
    rows = take(sheets, "tracking", "store").rows
    assert sorted(row[1:] for row in rows) == [
        ["BACK", "cancelled", "", "", ""],
        ["GONE", "shipped", "RR473124829GB", "Hill Post", ""],
        ["PART", "refunded", "", "", "line 2: 4.50 GBP"],
        ["PART", "shipped", "RR473124829GB", "Hill Post", ""],
    ]
    assert sheets.all(select(Outbox.state).where(Outbox.kind.in_(("fulfilment", "refund", "cancel")))) == ["done"] * 4


def test_no_sheet_is_made_for_whom_an_interface_tells_and_none_of_another_kind(sheets: Small) -> None:
    order = sheets.order("A", ("S-1", 1, 1900))
    send(sheets, order.id)
    for owner, what in (("store", "purchases"), ("supplier", "changes"), ("supplier", "lists")):
        with pytest.raises(Conflict, match="no such sheet"):
            take(sheets, what, owner)
    sheets.write(lambda context: setattr(context.get(Supplier, 1, "supplier"), "kind", "wholesale_api"))
    with pytest.raises(Conflict, match="would buy them twice"):
        take(sheets, "purchases")
    assert purchases(sheets) == {"ONE-A-1": "waiting"} and waiting(sheets) == []
    # A buyer who cancels before the sheet goes out stops it there.
    sheets.write(lambda context: setattr(context.get(Supplier, 1, "supplier"), "kind", "sheet"))
    again(sheets, "A", cancelled=True)
    with pytest.raises(Conflict, match="nothing waits"):
        take(sheets, "purchases")
    assert states(sheets, order) == ["cancelled"] and purchases(sheets) == {"ONE-A-1": "stopped"}
