"""A store by its description."""

from __future__ import annotations

import hmac
from collections.abc import Iterator
from dataclasses import asdict
from typing import Any

import orjson

from ...core.currency import plain
from ..errors import Denied, Malformed, NotThere, Refused
from ..protocols import (
    Address,
    BatchAnswer,
    ListingChange,
    ListingPage,
    OrderPage,
    SettlementLine,
    SettlementPage,
    StoreListing,
    StoreOrder,
    Tracking,
    Word,
)
from ..refund_line import RefundLine
from ..return_protocol import ReturnAsked, ReturnPage, ReturnWord
from ..wire import BesidePrices, order_lines, order_state
from .partner import DescribedPartner
from .records import Record, words_of
from .sign_in import digest
from .templates import fill
from .values import moment


class DescribedStore(DescribedPartner):
    def listings(self) -> Iterator[ListingPage]:
        currency = self.money("listings")
        for found in self.call.all_of("listings"):
            yield ListingPage([_listing(row, currency) for row in found.rows], found.bad)

    def orders(self, cursor: str) -> OrderPage:
        currency = self.money("orders")
        found, after, more = self.call.since("orders", cursor)
        orders, bad = [], list(found.bad)
        for row in found.rows:
            try:
                orders.append(_order(row, currency))
            except ValueError as error:
                bad.append(f"{row['number']}: {error}"[:300])
        return OrderPage(orders, after, more, bad)

    def settlements(self, cursor: str) -> SettlementPage:
        self.money("settlements")
        found, after, more = self.call.since("settlements", cursor)
        lines = [line for row in found.rows for line in _payout(row)]
        return SettlementPage(lines, after, more, found.bad)

    def change_listing(self, change: ListingChange, key: str) -> None:
        name = "change" if change.words is None else "publish"
        self.call.done(name, given_of(change) | {"key": key})

    def find_change(self, change: ListingChange, key: str) -> bool:
        if change.words is not None:
            # Words may be sent again at will; whether all of them are there is not asked one by one.
            return False
        if not self.call.has("listing"):
            # Price and quantity may be sent again at will, too.
            return False
        currency = self.money("listing")
        return change.shown_by(_listing(self.call.one("listing", {"sku": change.sku}), currency))

    def send_batch(self, changes: list[ListingChange], key: str) -> None:
        self.call.done("send_batch", {"key": key, "changes": [given_of(one) for one in changes]})

    def find_batch(self, key: str) -> BatchAnswer | None:
        try:
            found = self.call.rows("batch", {"key": key})
        except NotThere:
            return None
        if found.bad:
            raise Malformed(f"{self.call.name}'s results of a batch cannot be read: {found.bad[0]}")
        results = {row["sku"]: "" if row["ok"] else row.get("reason") or "no reason was given" for row in found.rows}
        later = frozenset(row["sku"] for row in found.rows if row.get("again") and not row["ok"])
        return BatchAnswer(found.whole["done"], results, later)

    def keep_picture(self, data: bytes, kind: str) -> str:
        return str(self.call.one("picture", {}, data, kind)["name"])

    def fulfil(self, order: str, tracking: Tracking, reference: str) -> None:
        given = {"order": order, "tracking_number": tracking.number, "carrier": tracking.carrier, "reference": reference}
        self.call.done("fulfil", given)

    def find_fulfilment(self, order: str, reference: str) -> bool:
        self.call.must_find("fulfil")
        found = self.call.rows("fulfilments", {"order": order})
        return any(row["reference"] == reference for row in found.rows)

    def cancel(self, order: str) -> None:
        self.call.done("cancel", {"order": order})

    def refund(self, order: str, lines: list[RefundLine], currency: str, reference: str) -> None:
        told = [
            {
                "line": one.line,
                "quantity": one.quantity,
                "amount": None if one.amount is None else plain(one.amount, currency),
                "amount_minor": one.amount,
            }
            for one in lines
        ]
        self.call.done("refund", {"order": order, "lines": told, "currency": currency, "reference": reference})

    def returns(self, cursor: str) -> ReturnPage:
        if not self.call.has("returns"):
            return ReturnPage([], cursor, False)
        self.money("returns")
        found, after, more = self.call.since("returns", cursor)
        return ReturnPage([_return(row) for row in found.rows], after, more, found.bad)

    def answer_return(self, word: ReturnWord) -> None:
        self.call.done("answer_return", asdict(word))

    def tell_of_orders(self, address: str, secret: str) -> None:
        if self.description.word is None or not self.call.has("tell_of_orders"):
            raise Refused(f"{self.call.name} does not tell of orders; they are read by the clock")
        self.call.done("tell_of_orders", {"address": address, "secret": secret})

    def read_word(self, headers: dict[str, str], body: bytes, secret: str) -> Word:
        how = self.description.word
        if how is None:
            raise Denied(f"{self.call.name} does not tell of orders")
        at, signature = headers.get(how.time.lower(), ""), headers.get(how.signature.lower(), "")
        text = fill(how.text, {"time": at, "body": body.decode("utf-8", "replace")})
        wanted = digest(how.hash, secret, text, how.encoding)
        if not hmac.compare_digest(wanted.encode(), signature.encode("utf-8", "replace")):
            raise Denied("the word of a new order is not signed by the shop")
        try:
            row = self.call.reader("orders").row.read(orjson.loads(body), self.call.currency)
            when = moment(at, self.description.time)
            return Word(when, wanted, _order(row, self.call.currency), how.tolerance)
        except (ValueError, LookupError) as error:
            raise Malformed("the word of a new order cannot be read") from error


def given_of(change: ListingChange) -> dict[str, Any]:
    """What the templates of a change are given."""
    given: dict[str, Any] = {
        "sku": change.sku,
        "price": None if change.price is None else plain(change.price, change.currency),
        "price_minor": change.price,
        "currency": change.currency,
        "quantity": change.quantity,
        "state": change.state,
        "words": None,
    }
    if change.words is not None:
        # Beside a price the one from before is said too: none, where there is none.
        before = (
            None if change.price is None else "" if change.words.compare_at is None else plain(change.words.compare_at, change.currency)
        )
        given["words"] = asdict(change.words) | {"pictures": list(change.words.pictures), "compare_at": before}
    return given


def _listing(row: Record, currency: str) -> StoreListing:
    words = words_of(row)
    shown = (max(row["quantity"], 0), row["state"])
    money = row.get("currency") or currency
    return StoreListing(
        row["sku"], row["title"], row["price"], money, *shown, *words, max(row.get("weight_g", 0), 0), row.get("description", "")
    )


def _order(row: Record, currency: str) -> StoreOrder:
    """ValueError where it cannot be."""
    money = row.get("currency") or currency

    def text(amount: int | None) -> str | None:
        return None if amount is None else plain(amount, money)

    beside = BesidePrices(text(row.get("shipping")), text(row.get("discount")), text(row.get("tax")), row.get("tax_by", ""))
    told = ((x["line_no"], x["sku"], x["quantity"], plain(x["unit_price"], money), x.get("title", "")) for x in row["lines"])
    return StoreOrder(
        row["number"], row["ordered_at"], money, Address(**{"postcode": "", **row["buyer"]}), order_lines(told, money, beside),
        row.get("promised_by"), *order_state(row["state"]), row.get("note", ""),
    )  # fmt: skip


def _payout(row: Record) -> list[SettlementLine]:
    number = row["settlement"]
    lines = [SettlementLine(number, one["line"], one.get("order", ""), one["kind"], one["amount"], one["at"]) for one in row["rows"]]
    return [*lines, SettlementLine(number, "payout", "", "payout", row["paid"], row["at"])]


def _return(row: Record) -> ReturnAsked:
    sent = Tracking(row["tracking_number"], row.get("carrier", "")) if row.get("tracking_number") else None
    return ReturnAsked(
        row["number"], row["order"], row["line"], row["units"], row["reason"], row.get("words", ""), row["at"], row.get("answer_by"),
        row["state"], sent, row.get("paid_back"),
    )  # fmt: skip
