"""The craft market's pages: a store without an interface, worked as a person would by the program on their own machine."""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Callable, Iterator
from datetime import date, datetime
from typing import TypeVar

import httpx

from ..core.currency import plain
from .errors import CarrierUnknown, Denied, Malformed, Refused
from .http import Caller
from .partner_states import LISTING_STATES
from .protocols import (
    Account,
    Address,
    BatchAnswer,
    Budget,
    ListingChange,
    ListingPage,
    OrderPage,
    SettlementPage,
    StoreListing,
    StoreOrder,
    Tracking,
    Word,
)
from .refund_line import RefundLine
from .wire import clip, minor, order_lines, order_state, path_part, rows_of

R = TypeVar("R")
_NEEDED = {
    "/stall.csv": ("code", "title", "price", "pieces", "state", "group", "barcode", "makers number", "maker", "comes in", "grams"),
    "/orders.csv": (
        *("seq", "order", "placed", "state", "by", "line", "code", "title", "pieces", "each", "name", "street", "street_2"),
        *("town", "region", "postcode", "country", "phone", "email"),
    ),
    "/journal.csv": ("note",),
    "/carriers.csv": ("carrier",),
}


class CraftPages:
    """key: 'name:password' of the person's own account there."""

    batch_most = 0
    tells_settlements = False

    def __init__(self, address: str, key: str, deadline: float, transport: httpx.BaseTransport | None = None) -> None:
        self.name, _, self.word = key.partition(":")
        self.call = Caller("the craft market", address, {}, deadline, transport, {"unknown_carrier": CarrierUnknown})

    def _signed_in(self, do: Callable[[], R]) -> R:
        """Do something signed in. Being sent to the door says that nothing was done, so it may be done again after signing in."""
        if self.call.client.cookies:
            try:
                return do()
            except Denied:
                self.call.client.cookies.clear()
        try:
            self.call.send("POST", "/sign-in", data={"name": self.name, "word": self.word})
        except Denied:
            raise
        except Refused:
            # Who is let in is led on to another page.
            if not self.call.client.cookies:
                raise
        return do()

    def _rows(self, path: str, **params: str) -> list[dict[str, str]]:
        text = self._signed_in(lambda: self.call.fetch(path, params=params)).text
        if "\n" not in text or text.lstrip().startswith("<"):
            raise Malformed("the craft market's sheet cannot be read; its pages may have changed")
        rows = list(csv.DictReader(io.StringIO(text, newline="")))
        if rows and not set(_NEEDED[path]) <= set(rows[0]):
            raise Malformed("the craft market's sheet has other columns now; its pages may have changed")
        if any(None in row or None in row.values() for row in rows):
            raise Malformed("the craft market's sheet is torn")
        return rows

    def _home(self) -> str:
        return self._signed_in(lambda: self.call.fetch("/home")).text

    def account(self) -> Account:
        page = self._home()
        land, money = _said_of(page)
        name = page.partition("<h1>")[2].partition("</h1>")[0]
        may = ["read listings", "write listings", "make listings", "read orders", "write fulfilments"]
        number = page.partition("stall number ")[2].partition(".")[0]
        carriers = tuple(row["carrier"] for row in self._rows("/carriers.csv"))
        return Account(name, land, money, may, carriers=carriers, number=number)

    def budget(self) -> Budget | None:
        return None

    def listings(self) -> Iterator[ListingPage]:
        rows: list[dict[str, object]] = [dict(row) for row in self._rows("/stall.csv")]
        money = _said_of(self._home())[1] if rows else ""
        bad: list[str] = []
        yield ListingPage(rows_of(rows, lambda row: _listing({k: str(v) for k, v in row.items()}, money), "code", bad), bad)

    def orders(self, cursor: str) -> OrderPage:
        rows = self._rows("/orders.csv", after=cursor or "0")
        money = _said_of(self._home())[1] if rows else ""
        whole: dict[str, list[dict[str, str]]] = {}
        for row in rows:
            whole.setdefault(row["order"], []).append(row)
        bad: list[str] = []
        given: list[dict[str, object]] = [{"order": number, "rows": lines} for number, lines in whole.items()]
        orders = rows_of(given, lambda one: _order(whole[str(one["order"])], money), "order", bad)
        last = max((int(row["seq"]) for row in rows if row["seq"].isdecimal()), default=int(cursor or 0))
        return OrderPage(orders, str(last), len(whole) >= 100, bad)

    def change_listing(self, change: ListingChange, key: str) -> None:
        form = {"note": key}
        if change.price is not None:
            form["price"] = plain(change.price, change.currency)
        if change.quantity is not None:
            form["pieces"] = str(change.quantity)
        if change.state is not None:
            form["state"] = change.state
        if change.words is not None:
            words = change.words
            form |= {"title": words.title, "text": words.description, "group": words.category}
            form |= {"comes_in": words.options, "one_of": words.family}
        self._signed_in(lambda: self.call.send("POST", f"/stall/{path_part(change.sku)}", data=form))

    def find_change(self, change: ListingChange, key: str) -> bool:
        return bool(self._rows("/journal.csv", note=key))

    def send_batch(self, changes: list[ListingChange], key: str) -> None:
        raise Refused("the craft market takes changes one by one")

    def find_batch(self, key: str) -> BatchAnswer | None:
        raise Refused("the craft market takes changes one by one")

    def keep_picture(self, data: bytes, kind: str) -> str:
        raise Refused("the craft market takes pictures by hand alone")

    def fulfil(self, order: str, tracking: Tracking, reference: str) -> None:
        form = {"parcel": tracking.number, "carrier": tracking.carrier, "note": reference}
        self._signed_in(lambda: self.call.send("POST", f"/orders/{path_part(order)}/sent", data=form))

    def find_fulfilment(self, order: str, reference: str) -> bool:
        return bool(self._rows("/journal.csv", note=reference))

    def refund(self, order: str, lines: list[RefundLine], currency: str, reference: str) -> None:
        self._signed_in(
            lambda: self.call.send(
                "POST",
                f"/orders/{path_part(order)}/refund",
                data={"lines": ",".join(_back(one, currency) for one in lines), "reference": reference},
            )
        )

    def cancel(self, order: str) -> None:
        self._signed_in(lambda: self.call.send("POST", f"/orders/{path_part(order)}/cancel", data={}))

    def settlements(self, cursor: str) -> SettlementPage:
        raise Refused("the craft market tells no settlements; import the sheet of what it paid out")

    def tell_of_orders(self, address: str, secret: str) -> None:
        raise Refused("the craft market does not tell of orders")

    def read_word(self, headers: dict[str, str], body: bytes, secret: str) -> Word:
        raise Denied("the craft market does not tell of orders")


def _back(one: RefundLine, currency: str) -> str:
    return f"{one.line}:{one.quantity}" + (f":{plain(one.amount, currency)}" if one.amount is not None else "")


def _said_of(page: str) -> tuple[str, str]:
    """The country and the money that a stall's page names."""
    found = re.search(r"Country ([A-Z]{2}), money ([A-Z]{3})\b", page)
    if found is None:
        raise Malformed("the craft market's page of the stall cannot be read")
    return found[1], found[2]


def _listing(row: dict[str, str], money: str) -> StoreListing:
    if row["state"] not in LISTING_STATES:
        raise Refused(f"a state that we do not know: {row['state']}")
    words = (row["barcode"], row["makers number"], row["maker"], row["group"], row["comes in"])
    shown = (max(int(row["pieces"]), 0), row["state"])
    return StoreListing(row["code"], clip(row["title"]), minor(row["price"], money), money, *shown, *words, max(int(row["grams"]), 0))


def _order(rows: list[dict[str, str]], money: str) -> StoreOrder:
    first = rows[0]
    lines = order_lines(((int(x["line"]), x["code"], int(x["pieces"]), x["each"], x["title"]) for x in rows), money)
    to = Address(
        first["name"],
        first["street"],
        first["town"],
        first["postcode"],
        first["country"],
        first["street_2"],
        first["region"],
        first["phone"],
        first["email"],
    )
    placed = datetime.fromisoformat(first["placed"])
    if placed.tzinfo is None:
        raise ValueError("an order needs a time with its zone")
    return StoreOrder(first["order"], placed, money, to, lines, date.fromisoformat(first["by"]), *order_state(first["state"]))
