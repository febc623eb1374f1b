"""What can be described of each kind of partner: its operations, what is given to their calls, and our fields that answers fill.

A field's `words` are how partners tend to call it, so that it can be proposed.
"""

from __future__ import annotations

from ..claim_protocol import CLAIM_STATES
from ..partner_states import CARRIER_KINDS, PURCHASE_STATES
from .shared_fields import ASKED, CURRENCY, KEPT, PAGE, REFERENCE, TRACKING, WORDS
from .specs import OperationSpec, Spec, Type, text
from .store_fields import STORE

_NUMBER = text("its number there", "number", "id", "code", "sku", "artno", "article", "no", "nr", needed=True)
_TIERS = Spec(
    Type.rows,
    "cost by quantity",
    words=("tiers", "breaks", "scale"),
    fields={
        "at": Spec(Type.whole, "from so many", True, ("at", "from", "quantity", "min")),
        "cost": Spec(Type.money, "cost of one", True, ("cost", "price")),
    },
)
_OFFER = {
    "number": _NUMBER,
    "cost": Spec(Type.money, "what one costs us", True, ("cost", "price", "net", "netprice")),
    "currency": CURRENCY,
    "stock": Spec(Type.whole, "units in stock", True, ("stock", "left", "qty", "quantity", "available", "onhand")),
    "tiers": _TIERS,
    "pack": Spec(Type.whole, "units in a pack", words=("packsize", "piecesinpack", "pack")),
}
_ITEM = {
    **{name: spec for name, spec in _OFFER.items() if name != "pack"},
    "title": Spec(Type.caption, "title", True, ("title", "name", "label", "description")),
    "origin": text("the warehouse that it comes from", "origin", "warehouse", "depot"),
    **WORDS,
    "pack_size": Spec(Type.whole, "units in a pack", words=("packsize", "piecesinpack", "pack")),
    "lead_days": Spec(Type.whole, "days until it is ready", words=("leaddays", "lead")),
    "link": text("its page", "link", "url"),
}
_PURCHASE = {
    "number": text("their number for it", "number", "id"),
    "reference": text("our reference", "reference", "ref", "customerref", needed=True),
    "state": Spec(Type.code, "what became of it", True, ("state", "status"), PURCHASE_STATES),
    "message": text("why", "message", "reason", "note"),
    "billed": Spec(Type.money, "what they bill for it", words=("billed", "total", "amount")),
    "currency": CURRENCY,
    **TRACKING,
}
_CLAIM = {
    "number": text("their number for it", "number", "id"),
    "reference": text("our reference", "reference", "ref", needed=True),
    "state": Spec(Type.code, "what became of it", True, ("state", "status"), CLAIM_STATES),
    "message": text("why", "message", "reason"),
    "amount": Spec(Type.money, "what they pay", words=("amount", "paid")),
    "currency": CURRENCY,
    **TRACKING,
}
_SERVICES = {
    "code": text("the service's code", "code", needed=True),
    "name": text("its name", "name", needed=True),
    "country": text("the country that it goes to", "country", needed=True),
    "first": Spec(Type.money, "price of the first unit", True, ("first",)),
    "following": Spec(Type.money, "price of each next", True, ("following", "next")),
    "free_over": Spec(Type.money, "free from goods of so much", words=("freeover",)),
    "days_low": Spec(Type.whole, "days at least", True, ("dayslow", "mindays")),
    "days_high": Spec(Type.whole, "days at most", True, ("dayshigh", "maxdays")),
    "tracked": Spec(Type.flag, "whether parcels can be followed", words=("tracked",)),
    "bands": Spec(
        Type.rows,
        "prices by weight",
        words=("bands",),
        fields={
            "up_to_g": Spec(Type.whole, "up to so many grams", True, ("uptog",)),
            "first": Spec(Type.money, "first unit", True, ("first",)),
            "following": Spec(Type.money, "each next", True, ("following",)),
        },
    ),
}
_ORIGIN = {
    "code": text("the warehouse's code", "code", needed=True),
    "name": text("its name", "name", needed=True),
    "country": text("its country", "country", needed=True),
    "cut_off": text("until when orders go out the same day, as 16:00", "cutoff"),
    "handling": Spec(Type.money, "handling of an order", words=("handling",)),
    "return_address": text("where returns go", "returnaddress"),
    "holidays": Spec(Type.texts, "days on which it is closed", words=("holidays", "closed")),
    "services": Spec(Type.rows, "its ways of sending", True, ("services", "ways"), fields=_SERVICES),
}
_REFERENCES = {"references": "our references, a list", "reference": "the first of them"}

OPERATIONS: dict[str, dict[str, OperationSpec]] = {
    "store": STORE,
    "supplier": {
        **ASKED,
        "origins": OperationSpec("its warehouses and ways of sending", {}, _ORIGIN, many=True, words=("origins", "warehouses", "services")),
        "items": OperationSpec(
            "its whole catalogue", PAGE, _ITEM, many=True, paged=True, words=("items", "products", "catalogue", "articles")
        ),
        "offers": OperationSpec(
            "price and stock of all items",
            PAGE,
            _OFFER,
            {"as_of": Spec(Type.time, "when the figures are from", words=("asof", "at", "generated", "made", "updated"))},
            many=True,
            paged=True,
            words=("offers", "stock", "prices", "availability"),
        ),
        "item": OperationSpec("one item", {"number": "its number"}, _ITEM, words=("item", "product", "article")),
        "buy": OperationSpec(
            "send a purchase order",
            {
                **REFERENCE,
                "origin": "the warehouse's code",
                "service": "the service's code",
                "note": "our note",
                "greeting": "a word to the receiver",
                "address": "name, address_1, address_2, city, region, postcode, country, phone",
                "lines": "a list of line_no, item, quantity",
            },
            _PURCHASE,
            writes=True,
            words=("purchases", "orders", "place"),
        ),
        "purchases": OperationSpec("what became of purchase orders", _REFERENCES, _PURCHASE, many=True, words=("purchases", "orders")),
        "recall": OperationSpec("ask that a purchase is not sent", REFERENCE, _PURCHASE, writes=True, words=("withdraw", "cancel")),
        "evidence": OperationSpec("hand a picture for a claim over", {}, KEPT, writes=True, words=("evidence", "pictures")),
        "claim": OperationSpec(
            "claim money or the goods again",
            {
                **REFERENCE,
                "purchase": "the purchase's reference",
                "line_no": "its line",
                "units": "how many",
                "reason": "why",
                "wish": "money or again",
                "amount": "as text",
                "currency": "of the amount",
                "words": "our words",
                "pictures": "names of pictures",
            },
            _CLAIM,
            writes=True,
            words=("claims",),
        ),
        "claims": OperationSpec("what became of claims", _REFERENCES, _CLAIM, many=True, words=("claims",)),
    },
    "carrier": {
        **ASKED,
        "track": OperationSpec(
            "where parcels are",
            {"numbers": "tracking numbers, a list", "number": "the first of them"},
            {
                "number": text("the tracking number", "number", "tracking", needed=True),
                "events": Spec(
                    Type.rows,
                    "what happened to it",
                    True,
                    ("events", "history", "scans"),
                    fields={
                        "at": Spec(Type.time, "when", True, ("at", "time")),
                        "kind": Spec(Type.code, "what", True, ("kind", "status", "type"), CARRIER_KINDS),
                        "message": text("in their words", "message", "text"),
                        "place": text("where", "place", "location"),
                    },
                ),
            },
            many=True,
            words=("tracking", "track", "parcels"),
        ),
        "label": OperationSpec(
            "make a label",
            {**REFERENCE, "sender": "the sender in one line", "to": "the receiver in one line", "weight_g": "grams"},
            {
                "reference": text("our reference", "reference", needed=True),
                "number": text("the tracking number", "number", needed=True),
                "pdf": Spec(Type.file, "the label", True, ("pdf", "label")),
                "cost": Spec(Type.money, "what it costs", True, ("costs", "cost", "price")),
                "currency": CURRENCY,
            },
            writes=True,
            words=("labels",),
        ),
    },
    "rates": {
        **ASKED,
        "table": OperationSpec(
            "exchange rates of the day",
            {},
            {
                "currency": text("the currency", "currency", "code", needed=True),
                "rate": Spec(Type.decimal, "units of it for one of the base", True, ("rate", "value")),
            },
            {
                "as_of": Spec(Type.time, "of which day", True, ("asof", "date")),
                "base": text("the base", "base", needed=True),
            },
            many=True,
            words=("table", "rates"),
        ),
    },
}
# What a partner must offer at least, beside whatever else; one of each set.
NEEDED: dict[str, tuple[frozenset[str], ...]] = {
    "store": (frozenset({"listings"}), frozenset({"orders"})),
    "supplier": (frozenset({"offers", "item"}),),
    "carrier": (frozenset({"track"}),),
    "rates": (frozenset({"table"}),),
}
# A write that must not be done twice -> what asks whether it was done, after a lost answer. A listing's change may be sent again at will.
FINDS = {"fulfil": "fulfilments", "buy": "purchases", "label": "find_label"}
OPERATIONS["carrier"]["find_label"] = OperationSpec(
    "a label that was made", REFERENCE, OPERATIONS["carrier"]["label"].fields, words=("labels",)
)
