"""Sheets of our own come back as they went out; rows that were mended join; what stands twice or lost its noughts is told."""

from __future__ import annotations

import io
from typing import Any

import pytest
from openpyxl import load_workbook
from sqlalchemy import delete, select, update

from amber_lane.data.lanes import LanePart
from amber_lane.data.orders import Order, OrderLine
from amber_lane.data.prices import PriceRule
from amber_lane.data.setup import Supplier
from amber_lane.data.shelf import Listing, Sku
from amber_lane.services.base.import_frame import Checked
from amber_lane.services.imports import sheet_kinds
from amber_lane.services.imports.column_memory import read_as
from amber_lane.services.purchasing import purchase_orders
from amber_lane.sheets.table import csv_bytes, xlsx_bytes

from ...small import Small

ORDERS = "store,order_no,sku,quantity,name,address_1,city,postcode,country,unit_price\n"


def check(small: Small, name: str, data: bytes, take: bool = False) -> Checked:
    kind = sheet_kinds.kind_of(name)

    def do(context: Any) -> Checked:
        checked = kind.check(context, list(read_as(context.session, kind, data).rows), lambda n: None)
        if take and checked.good:
            kind.take(context, checked)
        return checked

    return small.write(do)


def row(order: str, sku: str, quantity: int = 1, country: str = "GB") -> str:
    return f"First shop,{order},{sku},{quantity},Wren Sorrel,4 Row,Whitby,YO21 3PR,{country},9.95\n"


@pytest.mark.parametrize("name", ["lanes", "listings", "prices", "rates"])
@pytest.mark.parametrize("form", [csv_bytes, xlsx_bytes])
def test_what_we_give_out_comes_back_and_changes_nothing(small: Small, name: str, form: Any) -> None:
    def lived_in(context: Any) -> None:
        # A house as it is after a while: the store shows other words and prices, a barcode that no check digit fits, limits by hand.
        context.session.execute(update(Sku).where(Sku.id == 1).values(gtin="123", code="00120"))
        context.session.execute(update(Listing).where(Listing.id == 1).values(theirs={"title": "=Lamp"}, shown_price=777, shown_quantity=2))
        context.session.execute(
            update(Listing).where(Listing.id == 2).values(state="paused", shown_state="paused", description="One <b>two</b>")
        )
        context.session.execute(
            update(Listing).where(Listing.id == 3).values(ceiling=500, least_price=400, hand_price=300, hand_reason="so be it")
        )
        context.session.add(Supplier(code="PL", name="Far away", kind="sheet", country="PL", currency="PLN"))

    small.write(lived_in)
    if name == "rates":
        check(small, "rates", b"from,to,rate,day\nPLN,GBP,0.196,2026-03-01\n", take=True)
    kind = sheet_kinds.kind_of(name)
    with small.db.reading() as s:
        rows = list(sheet_kinds.out_rows(small.context(s), name))
    assert rows
    again = check(small, name, form([*kind.required, *kind.optional], rows))
    assert again.bad == [] and {n for n, count in again.counts.items() if count} == {"same"}, (again.bad, again.changes)


def test_a_workbook_has_numbers_days_and_text_each_as_what_it_is() -> None:
    made = xlsx_bytes(
        ["sku", "price", "quantity", "phone", "ordered_at", "note"],
        [["0012001", "1234.50", 7, "+49 170 1234", "2026-03-12", "=1+1"], ["=X", "", 0, "", "", "-5"]],
    )
    sheet = load_workbook(io.BytesIO(made)).active
    cells = [[cell.value for cell in one] for one in sheet.iter_rows()]
    assert cells[1][:4] == ["0012001", 1234.5, 7, "+49 170 1234"] and cells[1][4].year == 2026 and cells[1][5] == "=1+1"
    assert sheet["F2"].data_type == "s" and sheet["B2"].number_format == "0.00"
    assert sheet.freeze_panes == "A2" and sheet.auto_filter.ref == "A1:F3" and sheet.column_dimensions["D"].width > 12


def test_a_mended_row_joins_its_order_as_long_as_that_is_not_sent(small: Small) -> None:
    first = check(small, "orders", (ORDERS + row("7", "S-1") + row("7", "S-2", country="Nowhere")).encode(), take=True)
    assert first.counts["new"] == 1 and [why for _, why in first.bad] == ["country 'Nowhere' is not an ISO 3166-1 code such as GB or IE"]
    again = check(small, "orders", (ORDERS + row("7", "S-2") + row("7", "S-2")).encode(), take=True)
    assert again.counts["changed"] == 1 and "stands in it twice" in again.note
    lines = small.all(select(OrderLine).order_by(OrderLine.line_no))
    assert [(one.sku_code, one.quantity, one.paid) for one in lines] == [("S-1", 1, 995), ("S-2", 1, 995)]
    assert {one.state for one in lines} == {"ready"}
    assert check(small, "orders", (ORDERS + row("7", "S-1") + row("7", "S-2")).encode()).counts["same"] == 1
    assert "another quantity" in check(small, "orders", (ORDERS + row("7", "S-2", 3)).encode()).bad[0][1]
    small.write(lambda context: purchase_orders.send(context, [small.all(select(Order))[0].id]))
    late = check(small, "orders", (ORDERS + row("7", "S-3")).encode())
    assert "is sent" in late.bad[0][1] and late.bad[0][0]["sku"] == "S-3", "the row comes back as it stood"


def test_what_stands_twice_and_what_lost_its_noughts_is_told(small: Small) -> None:
    small.write(lambda context: context.session.execute(update(Sku).where(Sku.id == 1).values(code="0012001")))
    head = "store,sku,title,price,quantity\n"
    told = check(small, "listings", (head + "First shop,12001,Lamp,9.95,3\nFirst shop,12001,Lamp,9.95,3\n").encode())
    assert told.counts["new"] == 1 and "1 row stands twice" in told.note
    assert "1 new that differs from ours only in leading zeros: 12001 is 0012001 here" in told.note
    other = check(small, "listings", (head + "First shop,S-2,Lamp,9.95,3\nFirst shop,S-2,Lamp,8.95,3\n").encode())
    assert "stands twice in the sheet, and not alike" in other.bad[0][1] and other.counts["changed"] == 1


def test_a_pack_is_charged_whole_and_by_the_usual_order(small: Small) -> None:
    """A SKU of one out of a pack of twelve costs what an order really buys."""

    def dozen(context: Any) -> None:
        context.session.execute(delete(PriceRule))
        part = small.lane(4)
        context.session.execute(update(LanePart).where(LanePart.lane_id == part.id).values(units_num=1, units_den=12))

    small.write(dozen)
    small.respond()
    # 4.00 for the pack, 1.00 to send, 0.30 to pack.
    assert small.listing(4).landed == 530
    order = small.order("A", ("S-4", 6, 6000))
    small.respond()
    assert small.listing(4).landed == 67 + 130, "an order of six shares the pack"
    made = small.write(lambda context: purchase_orders.send(context, [order.id]))[0]
    assert made.goods == 400
