"""Currencies: how many decimals each has, amounts read and written. No binary float anywhere."""

from __future__ import annotations

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

SIGNS = {"GBP": "£", "EUR": "€", "USD": "$", "JPY": "¥"}


def minor_digits(currency: str) -> int:
    """Minor digits of an ISO 4217 currency; ValueError when we do not know it."""
    try:
        return MINOR_DIGITS[currency]
    except KeyError:
        raise ValueError(f"unknown currency {currency!r}; use an ISO 4217 code such as EUR or JPY") from None


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
    """Money in a sentence, with its sign; minus is a real minus.

    >>> show(-318, "EUR"), show(1250, "PLN")
    ('−€3.18', '12.50 PLN')
    """
    digits = plain(abs(minor), currency)
    whole, _, part = digits.partition(".")
    text = f"{int(whole):,}" + (f".{part}" if part else "")
    sign = "−" if minor < 0 else ""
    return f"{sign}{SIGNS[currency]}{text}" if currency in SIGNS else f"{sign}{text} {currency}"
