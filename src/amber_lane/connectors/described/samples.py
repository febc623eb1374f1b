"""What the calls of each operation are shown with before there is anything real: made-up things of every kind that can be given."""

from __future__ import annotations

from typing import Any

_ADDRESS = {
    "name": "Wren Sorrel", "address_1": "4 Lantern Row", "address_2": "", "city": "Alder", "region": "", "postcode": "1234",
    "country": "XX", "phone": "",
}  # fmt: skip
_WORDS = {
    "title": "Night lamp, red", "description": "<p>Kind to the eyes.</p>", "category": "lights", "gtin": "", "mpn": "", "brand": "",
    "options": "red", "tags": "", "family": "", "weight_g": 300, "compare_at": "", "pictures": [],
}  # fmt: skip
_PAGE = {"page": 1, "offset": 0, "cursor": "", "size": 100}
_CHANGE = {"sku": "SKU-1", "price": "19.95", "price_minor": 1995, "currency": "XXX", "quantity": 3, "state": "live", "key": "key-1"}

SAMPLES: dict[str, Any] = {
    **_PAGE,
    **_CHANGE,
    "words": _WORDS,
    "changes": [_CHANGE | {"words": None}],
    "order": "1001",
    "tracking_number": "TR123456789",
    "carrier": "the carrier",
    "reference": "AL-1001-1",
    "references": ["AL-1001-1"],
    "number": "N-1",
    "numbers": ["TR123456789"],
    "lines": [{"line_no": 1, "item": "N-1", "quantity": 2, "line": 1, "amount": None, "amount_minor": None}],
    "origin": "main",
    "service": "standard",
    "note": "Please put no prices in the parcel.",
    "greeting": "",
    "address": _ADDRESS,
    "purchase": "AL-1001-1",
    "line_no": 1,
    "units": 1,
    "reason": "damaged",
    "wish": "money",
    "amount": "4.00",
    "pictures": [],
    "our_number": "R-1",
    "sender": "Wren Sorrel, 4 Lantern Row, Alder",
    "to": "Returns, 1 Quay, Alder",
    "weight_g": 300,
    "secret": "(secret)",
}
