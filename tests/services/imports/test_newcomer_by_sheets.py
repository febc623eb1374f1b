"""A business in the United States that has nothing but sheets: two stores, suppliers' price lists, a carrier without an interface."""

from __future__ import annotations

import shutil
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest
from sqlalchemy import select

from amber_lane.clock import PacedClock
from amber_lane.data.orders import OrderLine, PurchaseOrder
from amber_lane.data.prices import PriceRule
from amber_lane.data.session import Database
from amber_lane.data.setup import Store, Supplier
from amber_lane.data.shelf import Listing
from amber_lane.data.source import Item
from amber_lane.data.transit import Parcel
from amber_lane.services.base import regional
from amber_lane.services.base.context import Context
from amber_lane.services.base.errors import Conflict
from amber_lane.services.delivery import sheet_export
from amber_lane.services.fulfilment import parcel_tracking
from amber_lane.services.imports import sheet_kinds
from amber_lane.services.imports.column_memory import read_as, see
from amber_lane.services.listings import going_live
from amber_lane.services.mapping import auto_matching
from amber_lane.services.monitoring import catalogue_sheets, sweeps
from amber_lane.services.partners import connections, first_steps, partner_terms
from amber_lane.services.pricing.drafts import PolicyChange
from amber_lane.services.purchasing import purchase_orders
from amber_lane.sheets.mapped import Reading, look
from amber_lane.sheets.mapping import Columns

from ...business import empty_file

LIST = """Prairie Optics Supply
Dealer list, 11/20/2026
Part #,Description,UPC,Your Net,QOH,Ship Weight
0012001,Red lamp clip,200000120016,$4.50,1.000,8 oz
PO-2,Star map 24 in,,"$1,034.50",12.000,12 lb
PO-3,Eyepiece case,,$7.00,30.000,
PO-4,Dew strap,,call,3.000,
TOTAL,,,,46.000,
"""
LISTINGS = "SKU,Product name,Price,Qty,UPC\n0012001,Red lamp clip,$12.95,4,200000120016\nPO-3,Eyepiece case,$19.95,2,\n"
ORDERS = (
    "Order #,Order date,SKU,Qty,Item price,Ship to name,Address,City,State,Zip code,Country,Phone\n"
    "1001,11/24/2026 08:47 AM,0012001,2,$12.95,Wren Sorrel,4 Elm St,Springfield,IL,62701,United States,+1 217 555 0100\n"
)


@pytest.fixture
def house(tmp_path: Path) -> Any:
    shutil.copy(empty_file(), tmp_path / "house.db")
    db = Database(f"sqlite:///{tmp_path / 'house.db'}")
    clock = PacedClock(datetime(2026, 11, 25, 15, 0, tzinfo=UTC), 0)

    class Newcomer:
        def write(self, do: Any) -> Any:
            with db.writing() as s:
                return do(Context(s, clock, "Mira"))

        def one(self, query: Any) -> Any:
            with db.reading() as s:
                return s.scalars(query).one()

        def later(self, **span: float) -> None:
            clock.set(clock.now() + timedelta(**span), 0)

        def bring(self, name: str, text: str, **always: str) -> Any:
            kind = sheet_kinds.kind_of(name)

            def do(context: Context) -> Any:
                data = text.encode()
                found = see(context.session, kind, data)
                how = Columns({**found.columns.columns, **{key: f"= {value}" for key, value in always.items()}})
                checked = kind.check(context, list(read_as(context.session, kind, data, how).rows), lambda n: None)
                if checked.good:
                    kind.take(context, checked)
                return checked

            return self.write(do)

        def catalogue(self, supplier: int, text: str) -> dict[str, Any]:
            return catalogue_sheets.take_sheet(supplier, text.encode(), db, lambda s: Context(s, clock, "Mira"), lambda n, of: None)

        def states(self) -> dict[str, str]:
            with db.reading() as s:
                return {one.key: one.state for one in first_steps.steps(Context(s, clock, "Mira"))}

    yield Newcomer()
    db.close()


def test_sheets_alone_are_enough(house: Any) -> None:
    assert set(house.states().values()) == {"open", "later"}
    house.write(lambda context: regional.set_place(context, regional.Place("US", "America/Chicago", "mdy", ".")))

    def join(context: Context) -> None:
        for name in ("Corner shop", "Market stand"):
            connections.join_uncalled(context, connections.Join("store", "sheet", name, "", "", "US", "USD"))
        supplier = connections.join_uncalled(context, connections.Join("supplier", "sheet", "Prairie Optics", "", "", "US", "USD"))
        partner_terms.write_one_origin(context, supplier, 595, 100, 4)
        connections.join_by_hand(
            context, connections.Join("carrier", "by_hand", "Plains Parcel", "", page="https://plains.example/t/{number}")
        )
        catalogue_sheets.keep_reading(context, supplier.id, Reading(**look(LIST.encode()).reading.kept()), whole=True)

    house.write(join)
    taken = house.catalogue(1, LIST)
    assert (taken["fresh"], taken["bad_count"]) == (3, 1) and taken["bad_sheet"][1][0][0][0] == "PO-4"
    lamp = house.one(select(Item).where(Item.number == "0012001"))
    assert (lamp.cost, lamp.stock, lamp.weight_g, lamp.gtin) == (450, 1, 227, "200000120016")
    assert house.one(select(Item.cost).where(Item.number == "PO-2")) == 103450
    assert house.bring("listings", LISTINGS, store="Corner shop").counts["new"] == 2
    house.write(lambda context: auto_matching.open_sure(context, auto_matching.find_sure(context, lambda n: None), "by their numbers"))
    assert house.states()["prices-1"] == "later", "there is no rule yet"

    # Nothing is set, so nothing is priced, and nothing is ready to be taken out.
    house.write(
        lambda context: context.session.add(PriceRule(scope="house", scope_key="", rule="margin", rule_value=200_000, endings="95"))
    )
    with pytest.raises(Conflict):
        house.write(lambda context: sheet_export.take_out(context, "store", 1, "changes"))
    for what in ("stock", "prices", "orders"):
        seen = house.write(lambda context, what=what: going_live.preview(context, 1, what).counts)
        house.write(lambda context, what=what, seen=seen: going_live.turn_on(context, 1, None, what, True, seen))
    sheet = house.write(lambda context: sheet_export.take_out(context, "store", 1, "changes"))
    assert {row[1] for row in sheet.rows} == {"0012001", "PO-3"} and all(row[3] for row in sheet.rows)
    assert not house.one(select(Store).where(Store.id == 2)).write_prices, "the other store is still in practice"

    house.catalogue(1, LIST.replace("1.000,8 oz", "21.000,8 oz"))
    assert house.bring("orders", ORDERS, store="Corner shop").counts["new"] == 1
    line = house.one(select(OrderLine))
    assert (line.state, line.paid, line.quantity) == ("ready", 2590, 2)
    house.write(lambda context: purchase_orders.send(context, [line.order_id]))
    out = house.write(lambda context: sheet_export.take_out(context, "supplier", 1, "purchases"))
    row = dict(zip(out.header, out.rows[0], strict=True))
    assert (row["item"], row["quantity"], row["region"], row["postcode"], row["phone"]) == ("0012001", 2, "IL", "62701", "+1 217 555 0100")
    reference = row["purchase_order"]
    assert house.one(select(PurchaseOrder)).state == "sent"
    answers = f"PO number,Status,Tracking #,Ship via,Ship date\n{reference},confirmed,PL0012345678US,Plains Parcel,11/24/2026\n"
    assert house.bring("answers", answers).counts["new"] == 1
    parcel = house.one(select(Parcel))
    assert (parcel.number, parcel.state, f"{parcel.made_at:%m/%d}") == ("PL0012345678US", "label", "11/24")
    back = house.write(lambda context: sheet_export.take_out(context, "store", 1, "tracking"))
    assert back.rows == [["Corner shop", "1001", "shipped", "PL0012345678US", "Plains Parcel", ""]]

    # Nobody tells where it is; after as many days as the limits have it, it is taken as arrived.
    house.write(lambda context: PolicyChange("house", "", {"arrived_after_days": 5}).keep(context))
    house.later(days=6)
    assert house.write(parcel_tracking.suppose_arrived) == 1
    assert house.one(select(OrderLine)).state == "arrived" and house.one(select(Parcel)).ended_by == "policy"

    # What is not in the new full list is gone; a list that nobody renews is not believed for ever.
    house.catalogue(1, "\n".join(line for line in LIST.splitlines() if "PO-3" not in line))
    assert house.one(select(Item.offer).where(Item.number == "PO-3")) == "gone"
    house.later(days=8)
    house.write(sweeps.grow_old_while_paused)
    assert house.one(select(Supplier)).stale
    assert {one.wanted_quantity for one in [house.one(select(Listing).where(Listing.id == 1))]} == {0}
