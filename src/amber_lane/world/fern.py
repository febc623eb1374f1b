"""A trader that speaks XML with a namespace: lists by a cursor, amounts in the smallest unit, moments in seconds."""

from __future__ import annotations

from typing import Any
from xml.sax.saxutils import escape, quoteattr

from fastapi import HTTPException, Request, Response
from fastapi.responses import HTMLResponse
from lxml import etree
from pydantic import ValidationError

from .counter import world_of
from .newcomers import FERN, item, paper_of, shelf, stock
from .partners import Seller
from .routes import Router
from .state import World
from .trade import Purchase, as_of, let_go, place, purchases_of, told_cost, told_stock

router = Router(prefix="/fern")
SPACE = "urn:fernmoor:trade:2"
_N = f"{{{SPACE}}}"
_SIZE = 25
_STATES = {"received": "taken", "accepted": "confirmed", "refused": "declined", "shipped": "gone", "withdrawn": "stopped"}


def enter(request: Request) -> World:
    world = world_of(request)
    if request.headers.get("fern-token") != f"{world.key}-fernmoor":
        raise HTTPException(401, "we do not know this token")
    stock(world, FERN)
    return world


def _xml(name: str, inside: str, attributes: str = "", status: int = 200) -> Response:
    text = f'<?xml version="1.0" encoding="UTF-8"?>\n<f:{name} xmlns:f="{SPACE}"{attributes}>{inside}</f:{name}>\n'
    return Response(text, status, media_type="application/xml")


def _said(do: Any) -> Response:
    """An answer, or a fault as this trader tells it."""
    try:
        answer: Response = do()
        return answer
    except HTTPException as error:
        codes = {401: "E01", 404: "E04", 409: "E09", 422: "E22"}
        inside = f"<f:Text>{escape(str(error.detail))}</f:Text>"
        return _xml("Fault", inside, f" code={quoteattr(codes.get(error.status_code, 'E99'))}", error.status_code)


def _t(name: str, text: object) -> str:
    return f"<f:{name}>{escape(str(text))}</f:{name}>"


def _article(world: World, row: dict[str, Any], full: bool) -> str:
    words = ""
    if full:
        pairs = {"Name": "title", "Barcode": "gtin", "Maker": "brand", "MakerNo": "mpn", "Kind": "category", "ComesIn": "options"}
        pairs |= {"Grams": "weight_g", "Pack": "pack_size", "Yard": "origin"}
        words = "".join(_t(name, row[key]) for name, key in pairs.items())
    cost = f'<f:Net cur="{FERN.currency}">{told_cost(world, FERN, row)}</f:Net>'
    return f"<f:Article no={quoteattr(row['number'])}>{words}{cost}{_t('OnHand', told_stock(world, FERN, row))}</f:Article>"


@router.get("/v2/who")
def who(request: Request) -> Response:
    """Who we are to them."""

    def say() -> Response:
        enter(request)
        inside = _t("Firm", FERN.name) + _t("Land", FERN.country) + _t("Money", FERN.currency) + _t("Customer", "FM-77120")
        return _xml("Who", inside)

    return _said(say)


def _list(request: Request, start: str, full: bool) -> Response:
    world = enter(request)
    rows = shelf(world, FERN, start, _SIZE)
    inside = "".join(_article(world, row, full) for row in rows)
    if len(rows) == _SIZE:
        inside += _t("Next", rows[-1]["number"])
    return _xml("Articles" if full else "Stock", inside, f' made="{as_of(world, FERN) // 1000}"')


@router.get("/v2/stock")
def stock_list(request: Request, start: str = "") -> Response:
    """Cost and stock of all articles, 25 at a time."""
    return _said(lambda: _list(request, start, False))


@router.get("/v2/articles")
def articles(request: Request, start: str = "") -> Response:
    """All articles in full, 25 at a time."""
    return _said(lambda: _list(request, start, True))


@router.get("/v2/articles/{number}")
def article(request: Request, number: str) -> Response:
    """One article in full."""

    def say() -> Response:
        world = enter(request)
        return _xml("Articles", _article(world, item(world, FERN, number), True), f' made="{as_of(world, FERN) // 1000}"')

    return _said(say)


@router.get("/v2/yards")
def yards(request: Request) -> Response:
    """Their yards, and how they send."""

    def say() -> Response:
        enter(request)
        return _xml("Yards", "".join(_yard(FERN, one) for one in FERN.origins))

    return _said(say)


def _yard(seller: Seller, origin: dict[str, Any]) -> str:
    ways = "".join(
        f'<f:Way code="{s["code"]}" land="{s["country"]}" days="{s["low"]}" most="{s["high"]}">'
        + _t("Name", s["name"])
        + _t("First", s["first"])
        + _t("More", s["following"])
        + ("" if s["free_over"] is None else _t("FreeFrom", s["free_over"]))
        + "</f:Way>"
        for s in seller.services
    )
    head = f'<f:Yard code="{origin["code"]}" land="{origin["country"]}" until="{origin["cut_off"]}" fee="{origin["handling"]}">'
    return f"{head}{_t('Name', origin['name'])}{_t('Back', origin['return_address'])}{ways}</f:Yard>"


def _receipt(row: dict[str, Any]) -> str:
    bill = FERN.minor(row["billed"])
    parcel = ""
    if row["tracking_number"]:
        parcel = f"<f:Parcel by={quoteattr(row['carrier'])}>{row['tracking_number']}</f:Parcel>"
    said = f"<f:Because>{escape(row['message'])}</f:Because>" if row["message"] else ""
    head = f"<f:Receipt no={quoteattr(row['number'])} yours={quoteattr(row['reference'])} is={quoteattr(_STATES[row['state']])}>"
    return f'{head}<f:Bill cur="{FERN.currency}">{bill}</f:Bill>{said}{parcel}</f:Receipt>'


def _order(body: bytes) -> Purchase:
    """HTTPException 422 where it is none."""
    try:
        root = etree.fromstring(body, etree.XMLParser(resolve_entities=False, no_network=True))
        to = root.find(f"{_N}To")
        if root.tag != f"{_N}Order" or to is None:
            raise HTTPException(422, "an order needs a f:To")
        names = {"name": "Name", "address_1": "Street", "address_2": "Street2", "city": "Town", "postcode": "Code", "phone": "Phone"}
        address = {key: to.findtext(f"{_N}{name}", "") for key, name in names.items()}
        lines = [
            {"line_no": int(one.get("pos", "0")), "item": one.get("no", ""), "quantity": int(one.get("count", "0"))}
            for one in root.iterfind(f"{_N}Line")
        ]
        return Purchase.model_validate(
            {
                "reference": root.get("yours", ""),
                "origin": root.get("yard", ""),
                "service": root.get("way", ""),
                "note": root.findtext(f"{_N}Note", ""),
                "address": address | {"country": to.get("land", "")},
                "lines": lines,
            }
        )
    except (etree.XMLSyntaxError, ValidationError, ValueError) as error:
        raise HTTPException(422, f"this is no order: {str(error).splitlines()[0]}") from error


@router.post("/v2/orders")
async def order(request: Request) -> Response:
    """Take an order. The same reference again is another order."""
    body = await request.body()

    def say() -> Response:
        return _xml("Receipts", _receipt(place(enter(request), FERN, _order(body))), status=201)

    return _said(say)


@router.get("/v2/orders/{reference}")
def orders(request: Request, reference: str) -> Response:
    """What became of an order, by the buyer's own reference."""

    def say() -> Response:
        found = purchases_of(enter(request), FERN, [reference])
        if not found:
            raise HTTPException(404, f"no order {reference}")
        return _xml("Receipts", "".join(map(_receipt, found)))

    return _said(say)


@router.post("/v2/orders/{reference}/stop")
def stop(request: Request, reference: str) -> Response:
    """Do not send it."""

    def say() -> Response:
        world = enter(request)
        let_go(world, FERN, reference)
        return _xml("Receipts", _receipt(purchases_of(world, FERN, [reference])[0]))

    return _said(say)


@router.get("/paper", response_class=HTMLResponse, include_in_schema=False)
def paper() -> str:
    return paper_of("fern")
