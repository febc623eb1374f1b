"""What stands in an outbox row, as the connectors take it, and how each kind is sent and asked for."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from ..clock import Clock
from ..connectors.errors import NotThere
from ..connectors.protocols import Address, ListingChange, ListingWords, Mail, Purchase, PurchaseAnswer, PurchaseLine, Tracking
from ..core.money import parse_money
from ..data.bulk import by_id
from ..data.session import Database
from ..data.shelf import Picture
from ..services.base.context import Context
from ..services.listings import images


def change_of(body: dict[str, Any]) -> ListingChange:
    words = body.get("words")
    said = None
    if words:
        pictures = tuple(words.get("pictures", ()))
        said = ListingWords(**{**words, "pictures": pictures})
    price = parse_money(body["price"], body["currency"]) if "price" in body else None
    return ListingChange(body["sku"], price, body["currency"], body.get("quantity"), body.get("state"), said)


def purchase_of(body: dict[str, Any]) -> Purchase:
    return Purchase(
        body["reference"],
        body["origin"],
        body["service"],
        Address(**body["address"]),
        [PurchaseLine(**line) for line in body["lines"]],
        body["note"],
        body.get("greeting", ""),
    )


def mail_of(body: dict[str, Any]) -> Mail:
    files = tuple((name, kind, text) for name, kind, text in body.get("files", ()))
    return Mail(body["reference"], body["sender"], body["to"], body["subject"], body["body"], files, body.get("key", ""))


def refund_of(body: dict[str, Any]) -> list[tuple[int, int]]:
    """Lines to refund with how many of each; a bare line number is all of it."""
    return [(one, 0) if isinstance(one, int) else (int(one[0]), int(one[1])) for one in body["lines"]]


def _find_purchase(link: Any, body: dict[str, Any], key: str) -> Any:
    found = link.find_purchases([key])
    return found[0] if found else None


def _recall(link: Any, body: dict[str, Any], key: str) -> Any:
    try:
        return link.recall(body["reference"])
    except NotThere:
        # It never got there, so there is nothing to let go.
        return PurchaseAnswer(body["reference"], "", "withdrawn", "it was never there", None, None)


def _find_recall(link: Any, body: dict[str, Any], key: str) -> Any:
    found = _find_purchase(link, body, body["reference"])
    return found if found and found.state == "withdrawn" else None


def _find_cancel(link: Any, body: dict[str, Any], key: str) -> Any:
    # Cancelling twice does no harm: the store says that it is done.
    return None


# kind -> (send, ask). `ask` answers something true when the outside has it already.
SEND: dict[str, tuple[Callable[[Any, dict[str, Any], str], Any], Callable[[Any, dict[str, Any], str], Any]]] = {
    "listing": (lambda link, b, key: link.change_listing(change_of(b), key), lambda link, b, key: link.find_change(change_of(b), key)),
    # A sample is bought like anything else; only what it is for differs.
    "sample": (lambda link, b, key: link.buy(purchase_of(b)), _find_purchase),
    "purchase": (lambda link, b, key: link.buy(purchase_of(b)), _find_purchase),
    "recall": (_recall, _find_recall),
    "fulfilment": (
        lambda link, b, key: link.fulfil(b["order"], Tracking(b["tracking_number"], b["carrier"]), key),
        lambda link, b, key: link.find_fulfilment(b["order"], key),
    ),
    # The store knows a refund by its reference, so the same one again does no harm.
    "refund": (lambda link, b, key: link.refund(b["order"], refund_of(b), b["reference"]), _find_cancel),
    "cancel": (lambda link, b, key: link.cancel(b["order"]), _find_cancel),
    "mail": (lambda link, b, key: link.send(mail_of(b)), lambda link, b, key: link.find_mail(key)),
}


class PictureDesk:
    """Hands a store those of our pictures that it has not got, so that a listing can name them.

    A picture's name there is made by the store from the picture itself, so handing one over twice does no harm.
    """

    def __init__(self, db: Database, clock: Clock) -> None:
        self.db, self.clock = db, clock

    def named(self, link: Any, store: int, body: dict[str, Any]) -> dict[str, Any]:
        """The same letter with the store's names for pictures. Errors are the connectors'."""
        numbers = [number for number in (body.get("words") or {}).get("pictures", []) if isinstance(number, int)]
        if not numbers:
            return body
        with self.db.reading() as s:
            names = images.names_at(Context(s, self.clock, ""), store, numbers)
            missing = [(row.id, row.data, row.kind) for row in by_id(s, Picture, set(numbers) - set(names)).values()]
        for number, data, kind in missing:
            names[number] = link.keep_picture(data, kind)
            with self.db.writing() as s:
                images.note_name(Context(s, self.clock, ""), store, number, names[number])
        return {**body, "words": {**body["words"], "pictures": [names[number] for number in numbers if number in names]}}
