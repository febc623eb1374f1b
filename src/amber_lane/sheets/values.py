"""Values as people write them in sheets: amounts, pieces, weights, days, countries. Each becomes our plain way of writing it."""

from __future__ import annotations

import re
from collections.abc import Iterable
from datetime import UTC, date, datetime, tzinfo
from decimal import Decimal
from functools import lru_cache

from babel import Locale
from dateutil import parser as dates

_MARKS = re.compile(r"[.,]")
_CLEAN = re.compile(r"[\s\u00a0\u202f'’]")
# Signs and letters around an amount: $4.50, USD 4.50, 4,50 zł, EUR, 12.- and the like.
_AROUND = re.compile(
    r"^(?:[A-Z]{3}|[^\w\s.,()+-]{1,3}|kr\.?|zł|Rs\.?)?\s*(.*?)\s*(?:[A-Z]{3}|[^\w\s.,()+-]{1,3}|kr\.?|zł)?$", re.IGNORECASE
)
_DIGITS = re.compile(r"\d+(?:[.,]\d+)*")
_PIECES = re.compile(r"\s*(?:pcs?|pieces?|st(?:k|ck|ück)?|szt|units?|ea)\.?$", re.IGNORECASE)
_NONE_LEFT = ("out of stock", "sold out", "ausverkauft", "nicht lieferbar", "épuisé", "en rupture", "agotado", "sin existencias")
GRAMS = {
    "g": Decimal(1),
    "gr": Decimal(1),
    "gram": Decimal(1),
    "grams": Decimal(1),
    "kg": Decimal(1000),
    "kgs": Decimal(1000),
    "lb": Decimal("453.59237"),
    "lbs": Decimal("453.59237"),
    "pound": Decimal("453.59237"),
    "pounds": Decimal("453.59237"),
    "oz": Decimal("28.349523125"),
    "ounce": Decimal("28.349523125"),
    "ounces": Decimal("28.349523125"),
}
_UNIT = re.compile(r"(?<![a-z])(kgs?|lbs?|pounds?|ounces?|oz|grams?|gr|g)(?![a-z])", re.IGNORECASE)
_LANGUAGES = ("en", "de", "fr", "es", "pl", "it", "nl")


def decimal_of(values: Iterable[str], house: str = ".") -> str:
    """Which sign stands before the decimals in a column of amounts; the house's where no value shows it.

    >>> decimal_of(["1.234,50", "7,2"]), decimal_of(["1,234.50"]), decimal_of(["12"], ",")
    (',', '.', ',')
    """
    votes = {",": 0, ".": 0}
    for text in values:
        marks = [(found.group(), found.start()) for found in _MARKS.finditer(text)]
        if not marks:
            continue
        last, at = marks[-1]
        other = {",": ".", ".": ","}[last]
        tail = len(re.sub(r"\D.*$", "", text[at + 1 :]))
        kinds = {sign for sign, _ in marks}
        if len(kinds) == 2 or (len(marks) == 1 and tail != 3):
            votes[last] += 1
        elif len(marks) > 1:
            votes[other] += 1
    return house if votes[","] == votes["."] else max(votes, key=lambda sign: votes[sign])


def money_text(text: str, decimal: str = ".") -> str:
    """An amount in plain writing: point before the decimals, nothing between thousands, minus in front. ValueError if it is none.

    >>> money_text("$4.50"), money_text("1.234,50 €", ","), money_text("(4.50)"), money_text("USD 1,234.50"), money_text("4,50", ".")
    ('4.50', '1234.50', '-4.50', '1234.50', '4.50')
    """
    given = text
    text = text.strip()
    minus = (text.startswith("(") and text.endswith(")")) or text.endswith("-")
    text = text.strip("()").strip().removesuffix("-").removesuffix(".-").removesuffix(",-").strip()
    around = _AROUND.match(text)
    text = around[1] if around else text
    if text[:1] in "+-−":
        minus, text = minus != (text[:1] in "-−"), _AROUND.sub(r"\1", text[1:].strip())
    number = _CLEAN.sub("", text)
    if not number.isascii() or not _DIGITS.fullmatch(number):
        raise ValueError(f"{given[:40]!r} is not an amount")
    return ("-" if minus else "") + _point(number, decimal, given)


def _point(number: str, decimal: str, given: str) -> str:
    """Digits and marks with a point before the decimals alone."""
    marks = _MARKS.findall(number)
    if not marks:
        return number
    last = marks[-1]
    head, _, tail = number.rpartition(last)
    whole = _MARKS.sub("", head)
    if len(set(marks)) == 2:
        if marks.count(last) > 1 or not _grouped(head):
            raise ValueError(f"{given[:40]!r} is not an amount")
        return f"{whole}.{tail}"
    if len(marks) > 1:
        if not _grouped(number):
            raise ValueError(f"{given[:40]!r} is not an amount")
        return _MARKS.sub("", number)
    # One mark alone: thousands where three digits follow and decimals are written with the other one.
    if len(tail) == 3 and last != decimal and 1 <= len(head) <= 3 and head != "0":
        return head + tail
    return f"{whole}.{tail}"


def _grouped(text: str) -> bool:
    groups = _MARKS.split(text)
    return 1 <= len(groups[0]) <= 3 and all(len(one) == 3 for one in groups[1:])


def thousands_in(values: Iterable[str], decimal: str = ".") -> str:
    """How whole numbers of a column are to be read: the sign before the decimals. Where every value has the same mark and then only
    noughts, the house's way counts (1.000 is one piece where decimals stand after a point); where some have none or other digits, the
    mark stands between thousands.

    >>> thousands_in(["1.000", "12.000"]), thousands_in(["1.250", "7"]), thousands_in(["1,250"]), thousands_in(["1.000"], ",")
    ('.', ',', '.', ',')
    """
    given = [text.strip() for text in values if text.strip()]
    for sign, other in ((".", ","), (",", ".")):
        marked = [text for text in given if re.fullmatch(rf"\d{{1,3}}\{sign}\d{{3}}", text)]
        if not marked:
            continue
        if len(marked) == len(given) and all(text.endswith(f"{sign}000") for text in marked):
            # Only noughts: the house's own way of writing says which it is.
            return decimal
        return other
    return decimal


def whole_text(text: str, decimal: str = ".") -> str:
    """A whole number in plain writing; ValueError if it is none. 50+ and >50 are at least so many; 'out of stock' is none.

    >>> whole_text("1,250"), whole_text("1.000", "."), whole_text("50+"), whole_text("12 pcs"), whole_text("Out of stock")
    ('1250', '1', '50', '12', '0')
    """
    if text.isascii() and text.isdecimal() and len(text) <= 9:
        return str(int(text))
    given = text
    text = text.strip()
    if text.casefold() in _NONE_LEFT:
        return "0"
    text = _PIECES.sub("", text.removesuffix("+").removeprefix(">").removeprefix("≥").strip())
    try:
        value = Decimal(money_text(text, decimal))
    except ValueError:
        raise ValueError(f"{given[:40]!r} is not a whole number of pieces") from None
    if value != value.to_integral_value() or abs(value) >= 10**9:
        raise ValueError(f"{given[:40]!r} is not a whole number of pieces")
    return str(int(value))


def unit_in(heading: str) -> str:
    """The unit of weight that a column's name says; grams where it says none.

    >>> unit_in("Weight (lb)"), unit_in("weight_kg"), unit_in("Gewicht")
    ('lb', 'kg', 'g')
    """
    found = _UNIT.findall(heading.replace("_", " ").lower())
    return found[-1] if found else "g"


def grams_text(text: str, decimal: str = ".", unit: str = "g") -> str:
    """A weight in whole grams, half up; ValueError if it is none. unit: of a number that says none.

    >>> grams_text("12 lb"), grams_text("8 oz"), grams_text("0,5 kg", ","), grams_text("250"), grams_text("1 lb 8 oz")
    ('5443', '227', '500', '250', '680')
    """
    parts = re.findall(r"([\d.,]+)\s*([a-z]*)", text.strip().lower())
    rest = re.sub(r"([\d.,]+)\s*([a-z]*)", "", text.strip().lower()).strip()
    if not parts or rest or any(name and name not in GRAMS for _, name in parts):
        raise ValueError(f"{text[:40]!r} is not a weight such as 250 g or 1.5 lb")
    total = sum((Decimal(money_text(number, decimal)) * GRAMS[name or unit] for number, name in parts), Decimal(0))
    return str(int(total + Decimal("0.5")))


def when_text(text: str, order: str = "dmy", tz: tzinfo = UTC) -> str:
    """A day or a moment as 2026-03-12 or with time and zone. order: dmy, mdy or ymd, for days in numbers. ValueError if it is none.

    >>> when_text("11/24/2026 08:47 AM", "mdy"), when_text("24.11.2026"), when_text("24 Nov 2026"), when_text("2026-03-12")
    ('2026-11-24T08:47:00+00:00', '2026-11-24', '2026-11-24', '2026-03-12')
    """
    text = text.strip()
    try:
        value = date.fromisoformat(text) if len(text) == 10 else datetime.fromisoformat(text)
    except ValueError:
        value = _other_day(text, order)
    if isinstance(value, datetime):
        return (value if value.tzinfo else value.replace(tzinfo=tz)).isoformat()
    return value.isoformat()


def _other_day(text: str, order: str) -> date | datetime:
    numbers = re.match(r"(\d{1,4})[./-](\d{1,2})[./-](\d{1,4})(?!\d)", text)
    if numbers:
        at = {letter: int(numbers[n + 1]) for n, letter in enumerate("ymd" if len(numbers[1]) == 4 else order)}
        if at["y"] < 100:
            at["y"] += 2000
        try:
            day = date(at["y"], at["m"], at["d"])
        except ValueError:
            said = {"dmy": "day, month, year", "mdy": "month, day, year", "ymd": "year, month, day"}[order]
            raise ValueError(f"{text[:40]!r} is no day where dates are written {said}; that is said under Set-up, The house") from None
        rest = text[numbers.end() :].strip(" ,T")
        if not rest:
            return day
        try:
            time = dates.parse(rest, default=datetime(day.year, day.month, day.day))
        except (ValueError, OverflowError):
            raise ValueError(f"{text[:40]!r} is not a day or a time") from None
        return time if time.date() == day else datetime.combine(day, time.timetz())
    if not re.search(r"[^\W\d_]{3}", text) or not re.search(r"\d{4}", text):
        raise ValueError(f"{text[:40]!r} is not a day such as 2026-03-12")
    try:
        value = dates.parse(text, dayfirst=order == "dmy")
    except (ValueError, OverflowError):
        raise ValueError(f"{text[:40]!r} is not a day such as 2026-03-12") from None
    return value if value.hour or value.minute or ":" in text else value.date()


@lru_cache(maxsize=1)
def _countries() -> dict[str, str]:
    out: dict[str, str] = {}
    for language in _LANGUAGES:
        for code, name in Locale(language).territories.items():
            if len(code) == 2 and code.isalpha():
                out.setdefault(name.casefold(), code)
    return out | {
        "usa": "US",
        "u.s.a.": "US",
        "u.s.": "US",
        "uk": "GB",
        "u.k.": "GB",
        "great britain": "GB",
        "england": "GB",
        "scotland": "GB",
        "wales": "GB",
    }


def country_text(text: str) -> str:
    """A country by its two letters or its name in a common language; as it stands where nobody knows it.

    >>> country_text("United States"), country_text("Deutschland"), country_text("gb"), country_text("Atlantis")
    ('US', 'DE', 'GB', 'Atlantis')
    """
    plain = text.strip()
    if len(plain) == 2 and plain.casefold() != "uk":
        return plain.upper()
    return _countries().get(" ".join(plain.casefold().split()), plain)
