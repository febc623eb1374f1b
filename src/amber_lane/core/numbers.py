"""Numbers as people write and read them, and their rounding. Rates are integers in parts per million; no binary float anywhere."""

from __future__ import annotations

import re
from decimal import Decimal
from fractions import Fraction

from . import writing

PPM = 1_000_000
# The widest rate that keeps every product below inside int64.
RATE_MAX = 100 * PPM
# Digits as they are written; an exponent could ask for a number that fills the memory.
_PLAIN = re.compile(r"[+-]?([0-9]+\.?[0-9]*|\.[0-9]+)")
_UNITS = re.compile(r"[0-9]+([./][0-9]+)?")


def parse_decimal(text: str, what: str) -> Decimal:
    """A plain finite decimal number; ValueError says what was wrong with it."""
    if not _PLAIN.fullmatch(text.strip()):
        raise ValueError(f"{what}: {text!r} is not a number")
    return Decimal(text.strip())


def scaled(value: Decimal, digits: int, what: str, limit: int) -> int:
    """value x 10^digits as an exact integer; ValueError when digits would be lost or it is too large."""
    if value.copy_abs() > limit:
        raise ValueError(f"{what}: {value} is too large")
    shifted = value.scaleb(digits)
    whole = int(shifted)
    if shifted != whole:
        raise ValueError(f"{what}: {value} has more than {digits} decimals")
    if abs(whole) > limit:
        raise ValueError(f"{what}: {value} is too large")
    return whole


def half_up(numerator: int, denominator: int) -> int:
    """Round a quotient to the nearest integer, halves upward (towards plus infinity).

    >>> half_up(5, 2), half_up(-5, 2), half_up(-3, 2)
    (3, -2, -1)
    """
    return (2 * numerator + denominator) // (2 * denominator)


def parse_percent(text: str, what: str = "percent") -> int:
    """11 = 11 % to parts per million.

    >>> parse_percent("12.5")
    125000
    """
    return scaled(parse_decimal(text, what), 4, what, RATE_MAX)


def parse_times(text: str, what: str = "factor") -> int:
    """A plain factor (2.4) to parts per million."""
    return scaled(parse_decimal(text, what), 6, what, RATE_MAX)


def parse_rate(text: str, what: str = "rate") -> int:
    """What one unit of a currency is worth in another, to units of 1e-9.

    >>> parse_rate("0.87")
    870000000
    """
    return scaled(parse_decimal(text, what), 9, what, 10**13)


def plain_rate(nano: int) -> str:
    """A rate as sheets and fields have it.

    >>> plain_rate(870_000_000)
    '0.87'
    """
    return f"{Decimal(nano).scaleb(-9).normalize():f}"


def show_rate(nano: int) -> str:
    """A rate in a sentence.

    >>> show_rate(1_234_500_000_000)
    '1,234.5'
    """
    return writing.digits(plain_rate(nano))


def parse_units(text: str, what: str = "units") -> Fraction:
    """Supplier units per unit sold: '2', '0.2' or '1/5'.

    >>> parse_units("1/5") == parse_units("0.2")
    True
    """
    try:
        if not _UNITS.fullmatch(text.strip()):
            raise ValueError
        value = Fraction(text.strip())
    except (ValueError, ZeroDivisionError):
        raise ValueError(f"{what}: {text!r} is not a number of units such as 2 or 1/5") from None
    if not 0 < value <= 1000 or value.denominator > 1000:
        raise ValueError(f"{what}: {text} must lie between 1/1000 and 1000")
    return value


def show_units(num: int, den: int) -> str:
    """Units as a person writes them.

    >>> show_units(1, 5), show_units(2, 1)
    ('1/5', '2')
    """
    return str(num) if den == 1 else f"{num}/{den}"


def show_percent(ppm: int, places: int = 1) -> str:
    """Parts per million as a percentage.

    >>> show_percent(292000), show_percent(280000), show_percent(-60932)
    ('29.2 %', '28 %', '−6.1 %')
    """
    scaled_value = half_up(abs(ppm) * 10**places, PPM // 100)
    whole, part = divmod(scaled_value, 10**places)
    tail = f".{part:0{places}d}".rstrip("0").rstrip(".") if places else ""
    return f"{'−' if ppm < 0 and scaled_value else ''}{writing.digits(f'{whole}{tail}')} %"
