"""Currencies: how many decimals each has, amounts read and written. No binary float anywhere."""

from __future__ import annotations

from decimal import Decimal

from . import writing
from .numbers import parse_decimal, scaled

# The widest amounts and rates that keep every product below inside int64.
AMOUNT_MAX = 10**10

# ISO 4217 minor digits of the currencies that we accept; the rest is refused as unknown.
_TWO = "AUD BGN BRL CAD CHF CNY CZK DKK EUR GBP HKD HUF ILS INR MXN MYR NOK NZD PHP PLN RON SEK SGD THB TRY TWD UAH USD ZAR"
MINOR_DIGITS: dict[str, int] = {
    **dict.fromkeys(_TWO.split(), 2),
    **dict.fromkeys(("JPY", "KRW", "VND", "CLP", "ISK"), 0),
    **dict.fromkeys(("KWD", "BHD", "TND"), 3),
}

# About how many of its minor units make a euro cent, where that is not one: only for limits that nobody has typed yet.
_ABOUT = {
    "JPY": "1.6", "KRW": "15", "VND": "270", "CLP": "10", "ISK": "1.4", "HUF": "390", "CZK": "25", "PLN": "4", "SEK": "11",
    "NOK": "11", "DKK": "7", "INR": "95", "THB": "38", "TRY": "45", "MXN": "20", "ZAR": "20", "PHP": "62", "HKD": "9", "CNY": "8",
    "MYR": "5", "ILS": "4", "BRL": "6", "RON": "5", "BGN": "2", "UAH": "45", "KWD": "3.3", "BHD": "4.1", "TND": "34",
}  # fmt: skip

SIGNS = {"GBP": "£", "EUR": "€", "USD": "$", "JPY": "¥"}


def minor_digits(currency: str) -> int:
    """Minor digits of an ISO 4217 currency; ValueError when we do not know it."""
    try:
        return MINOR_DIGITS[currency]
    except KeyError:
        raise ValueError(f"unknown currency {currency!r}; use an ISO 4217 code such as EUR or JPY") from None


def usual_amount(cents: int, currency: str) -> int:
    """A round amount of about so many euro cents, in minor units of a currency: where a limit begins that nobody has typed.

    >>> usual_amount(150, "EUR"), usual_amount(150, "JPY"), usual_amount(1500, "KWD")
    (150, 240, 4900)
    """
    about = int(Decimal(_ABOUT.get(currency, "1")) * cents)
    place = 10 ** max(len(str(about)) - 2, 0)
    return about // place * place if currency in _ABOUT else cents


def parse_money(text: str, currency: str, what: str = "amount") -> int:
    """Major units as text to minor units.

    >>> parse_money("19.95", "EUR")
    1995
    """
    return scaled(parse_decimal(text, what), minor_digits(currency), what, AMOUNT_MAX)


def plain(minor: int, currency: str) -> str:
    """Minor units as plain major units for sheets and JSON.

    >>> plain(-85, "EUR"), plain(1995, "EUR"), plain(5, "JPY")
    ('-0.85', '19.95', '5')
    """
    digits = minor_digits(currency)
    if not digits:
        return str(minor)
    whole, part = divmod(abs(minor), 10**digits)
    return f"{'-' if minor < 0 else ''}{whole}.{part:0{digits}d}"


def show(minor: int, currency: str) -> str:
    """Money in a sentence, with its sign, as the house writes it; minus is a real minus.

    >>> show(-318, "EUR"), show(1250, "PLN")
    ('−€3.18', '12.50 PLN')
    """
    return writing.money(plain(minor, currency), SIGNS.get(currency, ""), currency)
