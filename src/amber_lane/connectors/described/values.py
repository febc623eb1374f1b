"""What an answer tells, made into our values: amounts in minor units, moments in UTC, numbers and short texts.

ValueError says what is wrong.
"""

from __future__ import annotations

import base64
import binascii
from collections.abc import Callable
from datetime import UTC, date, datetime, timedelta
from decimal import Decimal, InvalidOperation
from typing import Any
from zoneinfo import ZoneInfo

from ...core.currency import minor_digits
from ...core.texts import seen_whole
from ..wire import MONEY_MOST, clip, minor, ppm
from .schema import FieldRead, MoneyManner, TimeManner
from .specs import Spec, Type

Make = Callable[[Any], Any]
_SHORT, _LONG, _FILE = 300, 20_000, 4_000_000
_TRUE, _FALSE = ("true", "1", "yes", "y"), ("false", "0", "no", "n", "")


def as_text(raw: object) -> str:
    """A told value as text; ValueError where it is a list or an object."""
    if isinstance(raw, str):
        return raw.strip()
    if isinstance(raw, bool):
        return "true" if raw else "false"
    if isinstance(raw, int):
        return str(raw)
    if isinstance(raw, float):
        text = repr(raw)
        return text.removesuffix(".0")
    if isinstance(raw, list) and len(raw) == 1:
        return as_text(raw[0])
    raise ValueError("it holds several values where there is one" if isinstance(raw, list) else "it is an object, not a value")


def _short(raw: object) -> str:
    text = raw.strip() if type(raw) is str else as_text(raw)
    if len(text) > _SHORT:
        raise ValueError(f"it is longer than {_SHORT} letters")
    return seen_whole(text)


def _number(raw: object, mark: str) -> str:
    text = as_text(raw)
    if mark == ",":
        text = text.replace(".", "").replace(",", ".") if "," in text else text
    return text.replace(" ", "").replace("\u00a0", "")


def money(raw: object, currency: str, manner: MoneyManner) -> int:
    """An amount in minor units of a currency."""
    if not currency:
        raise ValueError("nothing says what money it is in")
    if type(raw) is str and manner.mark == "." and manner.unit == "major":
        return minor(raw, currency)
    text = _number(raw, manner.mark)
    if manner.unit == "minor":
        minor_digits(currency)
        value = int(text)
        if abs(value) > MONEY_MOST:
            raise ValueError("it is beyond all measure")
        return value
    return minor(text, currency)


def whole(raw: object) -> int:
    """A whole number."""
    if isinstance(raw, int) and not isinstance(raw, bool):
        value = raw
    else:
        text = as_text(raw)
        head, _, tail = text.partition(".")
        if tail.strip("0") or len(text) > 30:
            raise ValueError(f"{text[:40]!r} is not a whole number")
        value = int(head)
    if abs(value) > 10**12:
        raise ValueError("it is beyond all measure")
    return value


def moment(raw: object, manner: TimeManner) -> datetime:
    """A moment in UTC."""
    text = as_text(raw)
    try:
        if manner.kind in ("seconds", "milliseconds"):
            at = datetime(1970, 1, 1, tzinfo=UTC) + timedelta(seconds=float(text) / (1000 if manner.kind == "milliseconds" else 1))
        elif manner.kind == "pattern":
            at = datetime.strptime(text, manner.pattern)
        else:
            at = datetime.fromisoformat(text)
    except (OverflowError, ValueError) as error:
        raise ValueError(f"{text[:40]!r} is not a moment") from error
    if at.tzinfo is None:
        at = at.replace(tzinfo=ZoneInfo(manner.zone))
    if not 2000 <= at.year <= 2200:
        raise ValueError("it is of a year in which nothing was sold yet")
    return at.astimezone(UTC)


def _day(raw: object, manner: TimeManner) -> date:
    text = as_text(raw)
    try:
        return date.fromisoformat(text[:10])
    except ValueError:
        return moment(raw, manner).astimezone(ZoneInfo(manner.zone)).date()


def _flag(raw: object) -> bool:
    if isinstance(raw, bool):
        return raw
    text = as_text(raw).lower()
    if text not in _TRUE + _FALSE:
        raise ValueError(f"{text[:40]!r} is neither yes nor no; say by its codes what it means")
    return text in _TRUE


def _decimal(raw: object) -> Decimal:
    try:
        return Decimal(as_text(raw))
    except InvalidOperation as error:
        raise ValueError(f"{as_text(raw)[:40]!r} is not a number") from error


def _file(raw: object) -> bytes:
    try:
        data = base64.b64decode(as_text(raw), validate=True)
    except binascii.Error as error:
        raise ValueError("it is no file in base64") from error
    if len(data) > _FILE:
        raise ValueError("it is larger than a file may be")
    return data


def _texts(raw: object, split: str) -> tuple[str, ...]:
    if not isinstance(raw, list | str):
        raise ValueError("it is neither a list nor a text")
    parts = raw if isinstance(raw, list) else as_text(raw).split(split) if split else [raw]
    return tuple(text for one in parts if (text := _short(one)))


def _coded(make: Make, read: FieldRead) -> Make:
    codes, otherwise = read.codes, read.otherwise

    def code(raw: object) -> Any:  # noqa: ANN401 - what its type makes
        word = as_text(raw)
        if word in codes:
            return make(codes[word])
        if otherwise is not None:
            return make(otherwise)
        raise ValueError(f"{word[:60]!r} is not among the words that the description knows")

    return code


def maker(spec: Spec, read: FieldRead, time: TimeManner) -> Make:
    """What makes a told value into ours, for all types but amounts and rows."""
    manner = read.time or time
    made: dict[Type, Make] = {
        Type.text: _short,
        Type.caption: lambda raw: clip(as_text(raw)),
        Type.long: lambda raw: as_text(raw)[:_LONG],
        Type.whole: whole,
        Type.percent: lambda raw: ppm(as_text(raw)),
        Type.decimal: _decimal,
        Type.time: lambda raw: moment(raw, manner),
        Type.date: lambda raw: _day(raw, manner),
        Type.flag: _flag,
        Type.file: _file,
        Type.texts: lambda raw: _texts(raw, read.split),
    }
    if spec.type is Type.code:
        return _one_of(spec.codes, read)
    make = made[spec.type]
    return _coded(make, read) if read.codes else make


def _one_of(known: tuple[str, ...], read: FieldRead) -> Make:
    def known_one(raw: object) -> str:
        word = as_text(raw)
        if word not in known:
            raise ValueError(f"{word[:60]!r} is none of {', '.join(known)}")
        return word

    return _coded(known_one, read) if read.codes else known_one
