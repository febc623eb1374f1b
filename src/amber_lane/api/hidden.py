"""Answers without any money, for who may not see it: amounts are null, and in sentences a word stands in their place."""

from __future__ import annotations

import re

from ..core.currency import MINOR_DIGITS, SIGNS

_CODES = "|".join(sorted(MINOR_DIGITS))
_SIGNS = "".join(re.escape(one) for one in SIGNS.values())
_DIGITS = r"\d[\d,.’\u202f\u00a0 ]*"
# Before a sign that stands behind its amount: a number alone, and not one that another amount follows.
_ENDED = r"\d(?:[\d,.’\u202f\u00a0 ]*\d)?"
_AMOUNT = re.compile(
    rf"[−-]?(?:[{_SIGNS}]\s?{_DIGITS}|\b{_ENDED}\s?[{_SIGNS}](?!\s?\d)|\b{_DIGITS}\s?(?:{_CODES})\b|\b(?:{_CODES})\s?{_DIGITS})"
)
HIDDEN = "(amount)"


def without_money(value: object) -> object:
    """An answer without any amount of money: amounts are null, and in sentences a word stands in their place.

    >>> without_money({"cost": {"amount": "4.20", "currency": "GBP"}, "message": "it rose to £4.20 and −12.50 PLN", "stock": 3})
    {'cost': None, 'message': 'it rose to (amount) and (amount)', 'stock': 3}
    """
    if isinstance(value, dict):
        if value.keys() == {"amount", "currency"}:
            return None
        return {name: without_money(one) for name, one in value.items()}
    if isinstance(value, list):
        return [without_money(one) for one in value]
    return _AMOUNT.sub(lambda found: HIDDEN + found.group()[len(found.group().rstrip(" ,.")) :], value) if isinstance(value, str) else value
