"""Sheets brought in: every row checked first, the good taken in one step, the bad handed back with their reason."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from sqlalchemy import select

from ...core.currency import plain
from ...core.numbers import plain_rate
from ...data.setup import Store, Supplier
from ...data.shelf import Listing, Sku
from ..base import house_days
from ..base.context import Context
from ..base.errors import Invalid
from ..base.import_frame import Checked, SheetKind
from ..base.regional import home_of, place_of
from ..pricing import exchange_rates
from . import books_sheets, price_sheets, print_sheets, stock_sheets
from .claim_sheets import check_claims, take_claims
from .goods_sheets import carry_items, check_items, check_listings, take_items, take_listings
from .lane_sheets import check_lanes, out_lanes, take_lanes
from .order_sheets import check_answers, check_orders, check_tracking, take_answers, take_orders, take_tracking

# In an example: what the house itself has.
HOUSE_MONEY, HOUSE_LAND = "{currency}", "{country}"
KINDS = {
    kind.name: kind
    for kind in (
        SheetKind(
            "lanes",
            ("store", "sku", "supplier", "item"),
            ("units_per_sale", "origin", "service", "use"),
            ("Dusk & Dial shop", "DD-LAMP-1", "Northlight Trade", "NT-LAMP-1", "1", "leeds", "tracked48", "main"),
            check_lanes,
            take_lanes,
            key=lambda one: one[1][0].sku,
        ),
        SheetKind(
            "orders",
            ("store", "order_no", "sku", "quantity", "name", "address_1", "city", "postcode", "country"),
            (
                "address_2",
                "region",
                "phone",
                "email",
                "unit_price",
                "currency",
                "ordered_at",
                "promised_by",
                "note",
                "shipping_paid",
                "discount",
                "tax",
            ),
            ("Dusk & Dial shop", "5001", "DD-LAMP-1", "1", "Wren Sorrel", "4 Lantern Row", "Whitby", "YO21 3PR", HOUSE_LAND),
            check_orders,
            take_orders,
        ),
        SheetKind(
            "tracking",
            ("purchase_order", "tracking_number", "carrier"),
            ("shipped_at", "state"),
            ("DDS-5001-1", "SW000012349GB", "Swiftwing Post"),
            check_tracking,
            take_tracking,
        ),
        SheetKind(
            "answers",
            ("purchase_order", "answer"),
            ("reason", "their_number", "billed", "tracking_number", "carrier", "line_no", "shipped_at"),
            ("DDS-5001-1", "accepted", "", "A-77", "12.40"),
            check_answers,
            take_answers,
        ),
        SheetKind(
            "claim_answers",
            ("claim", "answer"),
            ("amount", "message", "their_number", "tracking_number", "carrier"),
            ("DDS-5001-C1a2b", "accepted", "7.40", "comes with the next bill", "CL-81", "", ""),
            check_claims,
            take_claims,
        ),
        SheetKind(
            "listings",
            ("store", "sku", "title", "price", "quantity"),
            ("gtin", "mpn", "brand", "description", "weight_g", "options", "category", "state"),
            ("Dusk & Dial shop", "DD-LAMP-1", "Clip-on red lamp", "8.95", "8"),
            check_listings,
            take_listings,
            key=lambda one: one[1].sku,
        ),
        SheetKind(
            "prices",
            ("store", "sku"),
            ("price", "until", "reason", "least_price", "ceiling"),
            ("Dusk & Dial shop", "DD-LAMP-1", "8.95", "2026-12-31", "as agreed with the maker", "7.50", "12.00"),
            price_sheets.check,
            price_sheets.apply_sheet,
            key=lambda one: one.listing,
        ),
        SheetKind(
            "rates",
            ("from", "to", "rate"),
            ("day",),
            ("CHF", HOUSE_MONEY, "0.92", "2026-03-12"),
            exchange_rates.check_sheet,
            exchange_rates.take_sheet,
        ),
        SheetKind(
            "settlements",
            ("store", "settlement", "kind", "amount", "currency", "at"),
            ("order_no",),
            ("Dusk & Dial shop", "P-118", "fee", "1.20", HOUSE_MONEY, "2026-03-12", "5001"),
            books_sheets.check_settlements,
            books_sheets.take_settlements,
        ),
        SheetKind(
            "statements",
            ("supplier", "purchase_order", "kind", "amount", "currency", "at"),
            (),
            ("Northlight Trade", "DDS-5001-1", "goods", "12.40", HOUSE_MONEY, "2026-03-12"),
            books_sheets.check_statements,
            books_sheets.take_statements,
        ),
        SheetKind(
            "overheads",
            ("name", "amount", "currency", "first"),
            ("last", "store"),
            ("Mail and bookkeeping tools", "48.00", HOUSE_MONEY, "2026-01"),
            books_sheets.check_overheads,
            books_sheets.take_overheads,
        ),
        SheetKind(
            "print_lanes",
            ("store", "sku", "house", "blank", "colour", "size", "artwork", "side", "x_mm", "y_mm", "w_mm"),
            (),
            (
                "Hearthmade Row",
                "HR-BAG-1",
                "Tarn Print House",
                "Moor canvas bag",
                "navy",
                "field bag",
                "New moon",
                "front",
                "8.0",
                "12.0",
                "224.0",
            ),
            print_sheets.check_print_lanes,
            print_sheets.take_print_lanes,
            key=lambda one: one[1],
        ),
        SheetKind(
            "items",
            ("supplier", "item", "title", "cost", "currency", "stock"),
            ("gtin", "mpn", "brand", "pack_size", "origin", "weight_g", "lead_days", "category", "options", "link", "least_price"),
            ("Northlight Trade", "NT-LAMP-1", "Clip-on red lamp", "2.60", HOUSE_MONEY, "120"),
            check_items,
            take_items,
            carry=carry_items,
        ),
        SheetKind(
            "stock",
            ("supplier", "item", "stock"),
            ("cost", "currency"),
            ("Northlight Trade", "NT-LAMP-1", "120", "2.60", HOUSE_MONEY),
            stock_sheets.check,
            stock_sheets.take,
            carry=stock_sheets.carry,
        ),
    )
}


def example_of(context: Context, kind: SheetKind) -> list[str]:
    """A row as it might be, in the house's own money and country."""
    own = {"currency": home_of(context.session), "country": place_of(context.session).country}
    return [one.format(**own) for one in kind.example]


def kind_of(name: str) -> SheetKind:
    if name not in KINDS:
        raise Invalid(f"there is no sheet called {name!r}; there are {', '.join(KINDS)}")
    return KINDS[name]


def lists_of(context: Context, name: str) -> dict[str, list[str]]:
    """What may stand in some columns of a sheet, for its template."""
    kind = kind_of(name)
    columns = {*kind.required, *kind.optional}
    out: dict[str, list[str]] = {}
    if "store" in columns:
        stores = list(context.session.scalars(select(Store.name).order_by(Store.name)))
        out["store"] = ["all", *stores, *(f"{one} alone" for one in stores)] if name == "lanes" else stores
    if "supplier" in columns:
        out["supplier"] = list(context.session.scalars(select(Supplier.name).order_by(Supplier.name)))
    if "use" in columns:
        out["use"] = ["main", "spare 1", "spare 2", "spare 3", "replacement"]
    return out


def out_rows(context: Context, name: str) -> Iterator[list[Any]]:
    """What we have, in the same columns as the sheet brought in."""
    if name == "lanes":
        yield from out_lanes(context)
    elif name == "prices":
        yield from price_sheets.out_rows(context)
    elif name == "rates":
        for (base, quote), rate in sorted(exchange_rates.newest(context).items()):
            yield [base, quote, plain_rate(rate.nano), house_days.day_of(context, rate.day).isoformat()]
    elif name == "listings":
        for shop, thing, row in context.session.execute(
            select(Store.name, Sku, Listing)
            .join(Sku, Sku.id == Listing.sku_id)
            .join(Store, Store.id == Listing.store_id)
            # As their stores show them, which is what the sheet says; what is not there yet has nothing to show.
            .where(Listing.shown_state != "", Listing.shown_price > 0)
            .order_by(Sku.code)
            .execution_options(yield_per=1000)
        ):
            theirs = row.theirs or {}
            yield [
                shop,
                thing.code,
                theirs.get("title", row.title),
                plain(row.shown_price, row.currency),
                row.shown_quantity,
                thing.gtin,
                thing.mpn,
                thing.brand,
                theirs.get("description", row.description),
                thing.weight_g or "",
                thing.options,
                thing.category,
                row.shown_state,
            ]


__all__ = ["KINDS", "Checked", "SheetKind", "kind_of", "out_rows"]
