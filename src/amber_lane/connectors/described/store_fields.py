"""What can be described of a store."""

from __future__ import annotations

from ...core.claims import ClaimReason
from ..partner_states import LISTING_STATES, ORDER_STATES
from ..return_protocol import STATES as RETURN_STATES
from .shared_fields import ASKED, CURRENCY, KEPT, PAGE, REFERENCE, TRACKING, WORDS
from .specs import OperationSpec, Spec, Type, text

_LISTING = {
    "sku": text("our SKU", "sku", "code", "number", needed=True),
    "title": Spec(Type.caption, "title", True, ("title", "name")),
    "price": Spec(Type.money, "price", True, ("price", "amount")),
    "currency": CURRENCY,
    "quantity": Spec(Type.whole, "units that it shows", True, ("quantity", "pieces", "stock", "qty")),
    "state": Spec(Type.code, "whether it is on sale", True, ("state", "status"), LISTING_STATES),
    **WORDS,
    "description": Spec(Type.long, "description", words=("description", "text")),
}
_ADDRESS = {
    name: text(about, *words, needed=name in ("name", "address_1", "city", "country"))
    for name, about, words in (
        ("name", "name", ("name", "fullname")),
        ("address_1", "street and number", ("address1", "street", "line1")),
        ("address_2", "second line", ("address2", "line2")),
        ("city", "city", ("city", "town")),
        ("region", "region", ("region", "state", "province")),
        ("postcode", "postcode", ("postcode", "zip", "postalcode")),
        ("country", "country, as DE", ("country", "land")),
        ("phone", "phone", ("phone", "tel")),
        ("email", "mail address", ("email", "mail")),
    )
}
_ORDER = {
    "number": text("the order's number", "number", "order", "id", needed=True),
    "ordered_at": Spec(Type.time, "when it was ordered", True, ("orderedat", "at", "createdat", "placed")),
    "currency": CURRENCY,
    "state": Spec(Type.code, "open, sent, cancelled or refunded", True, ("state", "status"), ORDER_STATES),
    "promised_by": Spec(Type.date, "the day by which it is promised", words=("promisedby", "arriveby", "due")),
    "shipping": Spec(Type.money, "what the buyer paid for sending", words=("shipping", "postage")),
    "discount": Spec(Type.money, "what was taken off", words=("discount",)),
    "tax": Spec(Type.money, "the tax in it", words=("tax", "vat")),
    "tax_by": Spec(Type.code, "who hands the tax over; empty = we do", codes=("store", "")),
    "note": text("the buyer's note", "note", "comment"),
    "buyer": Spec(Type.one, "whom it goes to", True, ("buyer", "sendto", "shippingaddress", "address", "recipient"), fields=_ADDRESS),
    "lines": Spec(
        Type.rows,
        "its lines",
        True,
        ("lines", "items", "positions"),
        fields={
            "line_no": Spec(Type.whole, "the line's number", True, ("lineno", "line", "position")),
            "sku": text("our SKU", "sku", "code", needed=True),
            "quantity": Spec(Type.whole, "how many", True, ("quantity", "pieces", "qty")),
            "unit_price": Spec(Type.money, "price of one", True, ("unitprice", "each", "price")),
            "title": Spec(Type.caption, "title", words=("title", "name")),
        },
    ),
}
_CHANGE = {
    "sku": "our SKU",
    "price": "the price as text, as 19.95; empty where it stays",
    "price_minor": "the price in the smallest unit",
    "currency": "its currency",
    "quantity": "units that it shall show; empty where that stays",
    "state": "live, paused or ended; empty where that stays",
    "key": "a reference of its own for this change",
    "words": "what it says (title, description, category, gtin, mpn, brand, options, tags, weight_g, compare_at, pictures, family)",
}
_RETURN = {
    "number": text("its number there", "number", "ticket", "id", needed=True),
    "order": text("the order's number", "order", needed=True),
    "line": Spec(Type.whole, "the line's number", True, ("line",)),
    "units": Spec(Type.whole, "how many", True, ("quantity", "pieces", "units")),
    "reason": Spec(Type.code, "why", True, ("reason", "why"), tuple(one.value for one in ClaimReason)),
    "words": Spec(Type.long, "what the buyer writes", words=("words", "text")),
    "at": Spec(Type.time, "when it was asked", True, ("askedat", "at")),
    "answer_by": Spec(Type.time, "until when it has to be answered", words=("answerby", "until")),
    "state": Spec(Type.code, "where it stands", True, ("state", "status"), RETURN_STATES),
    "paid_back": Spec(Type.money, "what the store paid back by itself", words=("paidback", "givenback")),
    "currency": CURRENCY,
    **TRACKING,
}
_WHOLE_CURSOR = {
    "cursor": text("where the next reading goes on", "cursor", "since", "after", "next"),
    "more": Spec(Type.flag, "whether there is more", words=("more", "hasmore")),
}
STORE: dict[str, OperationSpec] = {
    **ASKED,
    "listings": OperationSpec("all listings", PAGE, _LISTING, many=True, paged=True, words=("listings", "offers", "products")),
    "listing": OperationSpec("one listing", {"sku": "our SKU"}, _LISTING, words=("listing", "offer", "product")),
    "change": OperationSpec("change price, quantity or state", _CHANGE, writes=True, words=("change", "update")),
    "publish": OperationSpec("make a listing, or change what it says", _CHANGE, writes=True, words=("create", "publish")),
    "send_batch": OperationSpec("many changes in one call", {"key": "a reference of its own", "changes": "a list of changes"}, writes=True),
    "batch": OperationSpec(
        "what became of a batch",
        {"key": "the reference that it was sent with"},
        {
            "sku": text("our SKU", "sku", "code", needed=True),
            "ok": Spec(Type.flag, "whether it was done", True, ("ok", "success")),
            "reason": text("why not", "reason", "message"),
            "again": Spec(Type.flag, "whether it would be taken another time"),
        },
        {"done": Spec(Type.flag, "whether all of it has its result", True, ("done", "state"))},
        many=True,
    ),
    "orders": OperationSpec("orders since the last reading", PAGE, _ORDER, _WHOLE_CURSOR, many=True, paged=True, words=("orders",)),
    "fulfil": OperationSpec(
        "tell that an order was sent",
        {"order": "its number", "tracking_number": "of the parcel", "carrier": "as the store names it", **REFERENCE},
        writes=True,
        words=("fulfil", "fulfilment", "shipment", "parcels"),
    ),
    "fulfilments": OperationSpec(
        "parcels of an order",
        {"order": "its number"},
        {"reference": text("our reference", "reference", "note", needed=True)},
        many=True,
        words=("fulfilments", "parcels", "shipments"),
    ),
    "cancel": OperationSpec("cancel an order", {"order": "its number"}, writes=True, words=("cancel",)),
    "refund": OperationSpec(
        "pay the buyer back",
        {
            "order": "its number",
            "lines": "a list of line, quantity, amount (text) and amount_minor",
            "currency": "of the amounts",
            **REFERENCE,
        },
        writes=True,
        words=("refund",),
    ),
    "settlements": OperationSpec(
        "what it paid out, since the last reading",
        PAGE,
        {
            "settlement": text("the payout's number", "payout", "settlement", needed=True),
            "paid": Spec(Type.money, "what was paid out", True, ("paid", "amount")),
            "at": Spec(Type.time, "when", True, ("at", "date")),
            "rows": Spec(
                Type.rows,
                "what it is made of",
                True,
                ("rows", "lines"),
                fields={
                    "line": text("the row's number", "row", "line", needed=True),
                    "order": text("the order's number", "order"),
                    "kind": Spec(
                        Type.code, "what it is", True, ("about", "kind", "type"), ("sale", "fee", "fee_back", "refund", "adjustment")
                    ),
                    "amount": Spec(Type.money, "how much", True, ("amount",)),
                    "at": Spec(Type.time, "when", True, ("at", "date")),
                },
            ),
        },
        _WHOLE_CURSOR,
        many=True,
        paged=True,
        words=("settlements", "payouts"),
    ),
    "picture": OperationSpec("hand a picture over", {}, KEPT, writes=True, words=("pictures", "images")),
    "returns": OperationSpec("returns that buyers ask for", PAGE, _RETURN, _WHOLE_CURSOR, many=True, paged=True, words=("returns",)),
    "answer_return": OperationSpec(
        "answer a return",
        {
            "number": "its number",
            "state": "accepted, kept or refused",
            "our_number": "ours",
            "address": "where it goes",
            "reason": "why not",
        },
        writes=True,
    ),
    "tell_of_orders": OperationSpec(
        "give the store an address of ours that it tells of new orders",
        {"address": "the address", "secret": "what it signs with"},
        writes=True,
    ),
}
