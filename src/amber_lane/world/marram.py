"""A supplier that is asked by GraphQL: everything at one address, failures inside answers of success."""

from __future__ import annotations

from typing import Any

from fastapi import HTTPException, Request
from fastapi.responses import HTMLResponse, JSONResponse
from graphql import GraphQLError, build_schema, graphql_sync
from pydantic import ValidationError

from . import consent
from .counter import world_of
from .newcomers import MARRAM, item, paper_of, shelf, stock
from .routes import Router
from .state import World, iso
from .trade import Purchase, as_of, let_go, origins_out, place, purchases_of, told_cost, told_stock

router = Router(prefix="/marram")
SCHEMA = """
type Query {
  us: Us!
  goods(first: Int!, after: String): Goods!
  good(sku: String!): Good
  ways: [Place!]!
  orders(refs: [String!]!): [Bought!]!
}
type Mutation { place(order: OrderIn!): Bought!  drop(ref: String!): Bought! }
type Us { company: String! country: String! currency: String! customerNo: String! }
type Goods { at: String! nodes: [Good!]! endCursor: String hasMore: Boolean! }
type Good { sku: String! label: String! price: Price! onHand: Int! barcode: String maker: String makerCode: String group: String
  variant: String packOf: Int! grams: Int! shipsFrom: String! }
type Price { amount: String! currency: String! }
type Place { code: String! label: String! country: String! until: String! fee: String! back: String! ways: [Way!]! }
type Way { code: String! label: String! to: String! first: String! next: String! low: Int! high: Int! }
type Bought { id: String! ref: String! status: String! reason: String total: Price! parcel: Parcel }
type Parcel { number: String! by: String! }
input OrderIn { ref: String! from: String! way: String! note: String to: ToIn! lines: [LineIn!]! }
input ToIn { name: String! street: String! extra: String town: String! zip: String! country: String! phone: String }
input LineIn { no: Int! sku: String! qty: Int! }
"""
_SCHEMA = build_schema(SCHEMA)
_STATES = {"received": "NEW", "accepted": "OK", "refused": "NO", "shipped": "SENT", "withdrawn": "DROPPED"}


class _Root:
    """Answers the fields of queries and mutations."""

    def __init__(self, world: World) -> None:
        self.world = world

    def us(self, info: Any) -> dict[str, str]:
        return {"company": MARRAM.name, "country": MARRAM.country, "currency": MARRAM.currency, "customerNo": "M-4451"}

    def goods(self, info: Any, first: int, after: str | None = None) -> dict[str, Any]:
        size = max(1, min(first, 50))
        rows = shelf(self.world, MARRAM, after or "", size)
        more = len(rows) == size
        nodes = [self._good(row) for row in rows]
        return {"at": iso(as_of(self.world, MARRAM)), "nodes": nodes, "endCursor": rows[-1]["number"] if more else None, "hasMore": more}

    def good(self, info: Any, sku: str) -> dict[str, Any] | None:
        try:
            return self._good(item(self.world, MARRAM, sku))
        except HTTPException:
            return None

    def ways(self, info: Any) -> list[dict[str, Any]]:
        return [
            {"code": one["code"], "label": one["name"], "country": one["country"], "until": one["cut_off"], "fee": one["handling"],
             "back": one["return_address"], "ways": [
                {"code": way["code"], "label": way["name"], "to": way["country"], "first": way["first"], "next": way["following"],
                 "low": way["days_low"], "high": way["days_high"]} for way in one["services"]]}
            for one in origins_out(MARRAM)
        ]  # fmt: skip

    def orders(self, info: Any, refs: list[str]) -> list[dict[str, Any]]:
        return [_bought(row) for row in purchases_of(self.world, MARRAM, refs[:50])] if refs else []

    def place(self, info: Any, order: dict[str, Any]) -> dict[str, Any]:
        to = order["to"]
        address = {"name": to["name"], "address_1": to["street"], "address_2": to.get("extra") or "", "city": to["town"]}
        address |= {"postcode": to["zip"], "country": to["country"], "phone": to.get("phone") or ""}
        lines = [{"line_no": one["no"], "item": one["sku"], "quantity": one["qty"]} for one in order["lines"]]
        wish = {"reference": order["ref"], "origin": order["from"], "service": order["way"], "note": order.get("note") or ""}
        try:
            return _bought(place(self.world, MARRAM, Purchase.model_validate({**wish, "address": address, "lines": lines})))
        except HTTPException as error:
            raise _failed(error) from error
        except ValidationError as error:
            raise GraphQLError(str(error).splitlines()[0], extensions={"code": "WRONG"}) from error

    def drop(self, info: Any, ref: str) -> dict[str, Any]:
        try:
            let_go(self.world, MARRAM, ref)
        except HTTPException as error:
            raise _failed(error) from error
        return _bought(purchases_of(self.world, MARRAM, [ref])[0])

    def _good(self, row: dict[str, Any]) -> dict[str, Any]:
        price = {"amount": MARRAM.text(told_cost(self.world, MARRAM, row)), "currency": MARRAM.currency}
        return {
            "sku": row["number"], "label": row["title"], "price": price, "onHand": told_stock(self.world, MARRAM, row),
            "barcode": row["gtin"], "maker": row["brand"], "makerCode": row["mpn"], "group": row["category"], "variant": row["options"],
            "packOf": row["pack_size"], "grams": row["weight_g"], "shipsFrom": row["origin"],
        }  # fmt: skip


def _failed(error: HTTPException) -> GraphQLError:
    codes = {404: "NOT_THERE", 409: "TOO_LATE", 422: "WRONG"}
    return GraphQLError(str(error.detail), extensions={"code": codes.get(error.status_code, "OTHER")})


def _bought(row: dict[str, Any]) -> dict[str, Any]:
    parcel = {"number": row["tracking_number"], "by": row["carrier"]} if row["tracking_number"] else None
    total = {"amount": row["billed"], "currency": row["currency"]}
    said = {"id": row["number"], "ref": row["reference"], "status": _STATES[row["state"]], "reason": row["message"] or None}
    return said | {"total": total, "parcel": parcel}


@router.post("/graphql")
async def ask(request: Request) -> JSONResponse:
    """Every question and every order."""
    world = world_of(request)
    said = request.headers.get("authorization", "")
    if said != f"Bearer {world.key}-marram" and not consent.knows(world, said):
        return JSONResponse({"errors": [{"message": "who are you?", "extensions": {"code": "WHO"}}]})
    stock(world, MARRAM)
    try:
        body = await request.json()
        found = graphql_sync(_SCHEMA, str(body["query"]), _Root(world), variable_values=body.get("variables"))
    except (ValueError, KeyError, TypeError):
        return JSONResponse({"errors": [{"message": "that is no query"}]}, 400)
    return JSONResponse(dict(found.formatted))


@router.get("/paper", response_class=HTMLResponse, include_in_schema=False)
def paper() -> str:
    return paper_of("marram").replace("{schema}", SCHEMA)
