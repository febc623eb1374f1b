"""Fields that several kinds of partners have."""

from __future__ import annotations

from .specs import OperationSpec, Spec, Type, text

PAGE = {
    "page": "the number of the portion",
    "offset": "rows before it",
    "cursor": "where the last portion ended",
    "size": "rows in a portion",
}
CURRENCY = text("its currency, as EUR", "currency", "money", "curr", "cur")
TRACKING = {
    "tracking_number": text("the parcel's tracking number", "tracking", "trackingnumber", "parcel", "consignment"),
    "carrier": text("the carrier, as they call it", "carrier", "courier"),
}
WORDS = {
    "gtin": text("barcode", "gtin", "barcode", "ean", "upc"),
    "mpn": text("the maker's number", "mpn", "makersnumber", "partnumber", "makerno"),
    "brand": text("brand or maker", "brand", "maker", "manufacturer", "madeby"),
    "category": text("category", "category", "group", "type"),
    "options": text("size, colour and such", "options", "variant", "comesin"),
    "weight_g": Spec(Type.whole, "weight in grams", words=("weight", "grams", "weightg")),
}
ACCOUNT = {
    "name": text("who answers", "name", "shop", "company", needed=True),
    "country": text("its country, as DE", "country", "land"),
    "currency": CURRENCY,
    "number": text("our account's number there", "account", "number", "customer"),
    "may": Spec(Type.texts, "what our key may do", words=("may", "scopes", "rights")),
    "site": text("what addresses of item pages begin with", "site", "pages"),
    "tax": Spec(Type.percent, "sales tax that comes on top, in percent", words=("tax", "vat")),
    "carriers": Spec(Type.texts, "carriers as the store names them", words=("carriers",)),
    "units_most": Spec(Type.whole, "units that may be on sale at once"),
    "listings_most": Spec(Type.whole, "listings that may be on sale at once"),
    "fees": Spec(
        Type.rows,
        "what it takes of a sale",
        words=("fees",),
        fields={
            "category": text("the category; empty = every other", "category", "group"),
            "percent": Spec(Type.percent, "percent of the sale", True, ("percent", "rate")),
            "least": Spec(Type.money, "at least", words=("least", "minimum")),
        },
    ),
}
REFERENCE = {"reference": "our reference"}
KEPT = {"name": text("the name that they gave it", "id", "name", needed=True)}
ASKED = {"account": OperationSpec("who we are there", fields=ACCOUNT, words=("account", "me", "profile", "whoami"))}
