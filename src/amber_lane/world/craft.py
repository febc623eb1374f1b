"""The craft market: no open interface, only pages for people. Who signs in may fill in forms and save sheets.

The note field of a form is its seller's own; it is kept in the journal, so that one can look up what was done.
"""

from __future__ import annotations

import csv
import io
import secrets
from typing import Any

from fastapi import Form, HTTPException, Request, Response
from fastapi.responses import RedirectResponse

from . import counter, lands
from .counter import world_of
from .partners import SHOPS
from .routes import Router
from .state import World, iso

router = Router(prefix="/craft")
SHOP = SHOPS["craft"]
LISTINGS = ("code", "title", "price", "pieces", "state", "group", "barcode", "makers number", "maker", "comes in", "grams")
ORDERS = (
    "seq",
    "order",
    "placed",
    "state",
    "by",
    "line",
    "code",
    "title",
    "pieces",
    "each",
    "name",
    "street",
    "street_2",
    "town",
    "region",
    "postcode",
    "country",
    "phone",
    "email",
)
_sessions: set[str] = set()


def _page(text: str) -> Response:
    return Response(f"<html><body><h1>{SHOP.name}</h1><p>{text}</p></body></html>", media_type="text/html")


def enter(request: Request) -> World:
    if request.cookies.get("seat") not in _sessions:
        raise HTTPException(401, "sign in first")
    return world_of(request)


@router.post("/sign-in")
def sign_in(request: Request, name: str = Form(""), word: str = Form("")) -> Response:
    if (name, word) != ("dusk-dial", f"{world_of(request).key}-craft"):
        raise HTTPException(401, "wrong name or password")
    seat = secrets.token_urlsafe(16)
    _sessions.add(seat)
    answer = RedirectResponse("/craft/home", 303)
    answer.set_cookie("seat", seat, httponly=True)
    return answer


@router.get("/home")
def home(request: Request) -> Response:
    enter(request)
    return _page(f"Signed in as the keeper of a stall. Country {lands.here().country}, money {lands.here().currency}, stall number H-118.")


def _sheet(header: tuple[str, ...], rows: list[list[Any]]) -> Response:
    out = io.StringIO(newline="")
    csv.writer(out).writerows([header, *rows])
    return Response(out.getvalue(), media_type="text/csv")


@router.get("/carriers.csv")
def carriers(request: Request) -> Response:
    """The carriers that the form for a parcel offers."""
    enter(request)
    return _sheet(("carrier",), [[name] for name in SHOP.carriers])


@router.get("/stall.csv")
def stall(request: Request) -> Response:
    rows = counter.listings_of(enter(request), "craft", "", 100_000)
    return _sheet(LISTINGS, [_listing(row) for row in rows])


@router.get("/stall/{sku}.csv")
def one(request: Request, sku: str) -> Response:
    return _sheet(LISTINGS, [_listing(counter.listing_of(enter(request), "craft", sku))])


def _listing(row: dict[str, Any]) -> list[Any]:
    words = [row[name] for name in ("category", "gtin", "mpn", "brand", "options", "weight_g")]
    return [row["sku"], row["title"], lands.text(row["price"]), row["quantity"], row["state"], *words]


@router.post("/stall/{sku}")
def edit(
    request: Request,
    sku: str,
    price: str = Form(None),
    pieces: int = Form(None),
    state: str = Form(None),
    title: str = Form(None),
    text: str = Form(None),
    group: str = Form(None),
    comes_in: str = Form(None),
    one_of: str = Form(None),
    note: str = Form(""),
) -> Response:
    words = {"title": title, "description": text, "category": group, "options": comes_in, "family": one_of}
    given = {"price": price, "quantity": pieces, "state": state, **words}
    counter.change(enter(request), "craft", sku, given, note, make=title is not None)
    return _page(f"{sku} is changed.")


@router.get("/journal.csv")
def journal(request: Request, note: str) -> Response:
    """What was done by the form with that note."""
    world = enter(request)
    rows = world.rows("select at, sku, key as note from shop_show where store = 'craft' and key = ?", (note,))
    sent = world.rows("select at, number as sku, reference as note from shop_fulfilment where store = 'craft' and reference = ?", (note,))
    return _sheet(("at", "what", "note"), [[iso(row["at"]), row["sku"], row["note"]] for row in (*rows, *sent)])


@router.get("/orders.csv")
def orders(request: Request, after: int = 0) -> Response:
    world = enter(request)
    rows = []
    for row in world.rows("select * from shop_order where store = 'craft' and seq > ? order by seq limit 100", (after,)):
        order = counter.order_out(row)
        to = order["buyer"]
        where = [to[key] for key in ("name", "address_1", "address_2", "city", "region", "postcode", "country", "phone", "email")]
        for line in order["lines"]:
            head = [row["seq"], order["number"], order["ordered_at"], order["state"], order["promised_by"]]
            rows.append([*head, line["line_no"], line["sku"], line["title"], line["quantity"], line["unit_price"], *where])
    return _sheet(ORDERS, rows)


@router.post("/orders/{number}/sent")
def sent(request: Request, number: str, parcel: str = Form(), carrier: str = Form(), note: str = Form("")) -> Response:
    counter.fulfil(enter(request), "craft", number, note, parcel, carrier)
    return _page(f"{number} is marked as sent.")


@router.post("/orders/{number}/refund")
def refund(request: Request, number: str, lines: str = Form(), reference: str = Form()) -> Response:
    counter.refund(enter(request), "craft", number, _counted(lines), reference)
    return _page(f"{number} is refunded.")


def _counted(lines: str) -> list[tuple[int, int, str | None]]:
    """Lines with how many of each and what is paid for them, as the form has them: 1:0,2:3,3:1:4.50."""
    parts = (one.split(":") for one in lines.split(","))
    return [(int(one[0]), int(one[1] or 0) if len(one) > 1 else 0, one[2] if len(one) > 2 else None) for one in parts if one[0].isdigit()]


@router.post("/orders/{number}/cancel")
def cancel(request: Request, number: str) -> Response:
    counter.cancel(enter(request), "craft", number)
    return _page(f"{number} is cancelled.")
