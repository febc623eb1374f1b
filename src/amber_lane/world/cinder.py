"""A supplier that takes forms, each signed with a hash of the call, and answers in sheets of text."""

from __future__ import annotations

import csv
import hashlib
import hmac
import io
import re
import time
from collections.abc import Callable
from typing import Any
from urllib.parse import parse_qsl

from fastapi import HTTPException, Request, Response
from fastapi.responses import HTMLResponse
from pydantic import ValidationError

from .counter import world_of
from .newcomers import CINDER, item, paper_of, shelf, stock
from .routes import Router
from .state import World, iso
from .trade import Purchase, as_of, let_go, place, purchases_of, told_cost, told_stock

router = Router(prefix="/cinder")
_SIZE = 20
_STATES = {"received": "10", "accepted": "20", "refused": "90", "shipped": "30", "withdrawn": "80"}
Fields = dict[str, str]


class _No(Exception):
    def __init__(self, code: str, text: str) -> None:
        self.code, self.text = code, text


def _sheet(head: list[str], rows: list[list[Any]]) -> Response:
    out = io.StringIO(newline="")
    writer = csv.writer(out, delimiter=";")
    writer.writerow(head)
    writer.writerows(rows)
    return Response(out.getvalue(), media_type="text/csv; charset=utf-8")


async def _signed(request: Request) -> tuple[World, Fields]:
    """The fields of a form, where it is signed with the secret; _No where it is not."""
    world, body = world_of(request), await request.body()
    at = request.headers.get("cinder-time", "")
    secret = f"{world.key}-cinder"
    wanted = hmac.new(secret.encode(), f"POST\n{request.url.path}\n{at}\n".encode() + body, hashlib.sha256).hexdigest()
    known = request.headers.get("cinder-account") == "dusk-dial" and at.isdecimal() and abs(time.time() - int(at)) < 300
    if not known or not hmac.compare_digest(wanted, request.headers.get("cinder-sign", "")):
        raise _No("1", "the signature is wrong")
    stock(world, CINDER)
    return world, dict(parse_qsl(body.decode(), keep_blank_values=True))


async def _say(request: Request, do: Callable[[World, Fields], Response]) -> Response:
    try:
        return do(*await _signed(request))
    except _No as no:
        return _sheet(["error_code", "error_text"], [[no.code, no.text]])
    except HTTPException as error:
        codes = {404: "4", 409: "9"}
        return _sheet(["error_code", "error_text"], [[codes.get(error.status_code, "2"), error.detail]])


_GOODS = ["art", "name", "net", "cur", "qty", "ean", "maker", "maker_art", "group", "kind", "pack", "grams", "from", "at"]


def _row(world: World, one: dict[str, Any]) -> list[Any]:
    words = [one[name] for name in ("gtin", "brand", "mpn", "category", "options", "pack_size", "weight_g", "origin")]
    net = CINDER.text(told_cost(world, CINDER, one)).replace(".", ",")
    return [one["number"], one["title"], net, CINDER.currency, told_stock(world, CINDER, one), *words, iso(as_of(world, CINDER))]


@router.post("/do/account")
async def account(request: Request) -> Response:
    """Who is calling."""
    row = [CINDER.name, CINDER.country, CINDER.currency, "CR-0091"]
    return await _say(request, lambda world, form: _sheet(["name", "land", "cur", "account"], [row]))


@router.post("/do/goods")
async def goods(request: Request) -> Response:
    """Goods from the one after so many on, twenty at a time."""

    def say(world: World, form: Fields) -> Response:
        skip = int(form.get("skip", "0")) if form.get("skip", "0").isdecimal() else 0
        rows = shelf(world, CINDER, "", 10_000)[skip : skip + _SIZE]
        return _sheet(_GOODS, [_row(world, one) for one in rows])

    return await _say(request, say)


@router.post("/do/good")
async def good(request: Request) -> Response:
    """One of the goods."""
    return await _say(request, lambda world, form: _sheet(_GOODS, [_row(world, item(world, CINDER, form.get("art", "")))]))


_ORDER = ["no", "ref", "state", "why", "bill", "cur", "parcel", "carrier"]


def _order_row(row: dict[str, Any]) -> list[Any]:
    bill = row["billed"].replace(".", ",")
    return [row["number"], row["reference"], _STATES[row["state"]], row["message"], bill, row["currency"], row["tracking_number"] or "",
            row["carrier"] or ""]  # fmt: skip


def _wish(form: Fields) -> Purchase:
    found: dict[int, dict[str, Any]] = {}
    for name, value in form.items():
        if match := re.fullmatch(r"line\[(\d+)\]\[(pos|art|qty)\]", name):
            key = {"pos": "line_no", "art": "item", "qty": "quantity"}[match[2]]
            found.setdefault(int(match[1]), {})[key] = value
    names = {"name": "to_name", "address_1": "to_street", "address_2": "to_extra", "city": "to_town", "postcode": "to_code"}
    address = {ours: form.get(theirs, "") for ours, theirs in {**names, "country": "to_land", "phone": "to_phone"}.items()}
    wish = {"reference": form.get("ref", ""), "origin": form.get("from", ""), "service": form.get("by", ""), "note": form.get("note", "")}
    try:
        return Purchase.model_validate({**wish, "address": address, "lines": [found[n] for n in sorted(found)]})
    except ValidationError as error:
        raise _No("2", str(error).splitlines()[0]) from error


@router.post("/do/order")
async def order(request: Request) -> Response:
    """Take an order."""
    return await _say(request, lambda world, form: _sheet(_ORDER, [_order_row(place(world, CINDER, _wish(form)))]))


@router.post("/do/state")
async def state(request: Request) -> Response:
    """What became of orders, by the buyer's own references with commas between."""

    def say(world: World, form: Fields) -> Response:
        refs = [one for one in form.get("refs", "").split(",") if one][:50]
        return _sheet(_ORDER, [_order_row(row) for row in purchases_of(world, CINDER, refs)] if refs else [])

    return await _say(request, say)


@router.post("/do/undo")
async def undo(request: Request) -> Response:
    """Do not send it."""

    def say(world: World, form: Fields) -> Response:
        let_go(world, CINDER, form.get("ref", ""))
        return _sheet(_ORDER, [_order_row(row) for row in purchases_of(world, CINDER, [form["ref"]])])

    return await _say(request, say)


@router.get("/paper", response_class=HTMLResponse, include_in_schema=False)
def paper() -> str:
    return paper_of("cinder")
