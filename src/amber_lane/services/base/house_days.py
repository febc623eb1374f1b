"""The days of the house: each begins at midnight in its time zone, also where clocks change. And moments as people there write them."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import UTC, date, datetime, time, timedelta, tzinfo
from zoneinfo import ZoneInfo, available_timezones

import numpy as np
from babel.core import get_global
from babel.dates import format_date

from ...core.money import Ints
from ...data.base import to_ms
from .context import Context
from .regional import Place, place_of

DAY_MS = 86_400_000
ZONES = available_timezones()
# A day in each order of day, month and year, as babel's patterns say it; with the year, and without it.
_PATTERNS = {"dmy": ("d MMM", "d MMM y"), "mdy": ("MMM d", "MMM d y"), "ymd": ("MMM d", "y-MM-dd")}


def zone_of(context: Context) -> ZoneInfo:
    return ZoneInfo(place_of(context.session).zone)


def today(context: Context) -> date:
    """The day that it is now where the house is."""
    return day_of(context, context.now)


def day_of(context: Context, at: datetime) -> date:
    """The house's day that a moment falls on."""
    return at.astimezone(zone_of(context)).date()


def begin(context: Context, day: date) -> datetime:
    """The moment a day of the house begins, in UTC. Where the clocks skip midnight, the first moment after it."""
    return datetime.combine(day, time(), zone_of(context)).astimezone(UTC)


def end(context: Context, day: date) -> datetime:
    """The last minute of a day of the house, in UTC."""
    return begin(context, day + timedelta(days=1)) - timedelta(minutes=1)


def ends_ms(context: Context, days: Ints) -> Ints:
    """When days of the house are over. days: as `Day` columns are stored, midnight UTC in milliseconds; all else is passed through."""
    kinds, place = np.unique(days, return_inverse=True)
    over = [
        to_ms(begin(context, date(1970, 1, 1) + timedelta(days=one // DAY_MS + 1))) if 0 < one < 4 * 10**12 else one
        for one in kinds.tolist()
    ]
    return np.array(over, dtype=np.int64)[place.reshape(-1)] if len(over) else days


def local(context: Context, at: datetime) -> datetime:
    """A moment as the house's clocks show it."""
    return at.astimezone(zone_of(context))


def day_text(context: Context, at: datetime | date, weekday: bool = False) -> str:
    """A day in a sentence, such as 6 Apr or Apr 6."""
    return f"{_text(context, at, 'EEE') if weekday else ''} {_text(context, at)}".strip()


def moment_text(context: Context, at: datetime, year: bool = False) -> str:
    """A moment in a sentence, such as 6 Apr 14:05."""
    return f"{_text(context, at, year=year)} {clock_text(context, at)}"


def clock_text(context: Context, at: datetime) -> str:
    return f"{local(context, at):%H:%M}"


def _text(context: Context, at: datetime | date, pattern: str = "", year: bool = False) -> str:
    day = day_of(context, at) if isinstance(at, datetime) else at
    return format_date(day, pattern or _PATTERNS[place_of(context.session).dates][year], locale="en")


def zone_in(country: str, place: Place) -> tzinfo:
    """The clocks of a country: the house's where it is there itself, or where nobody knows them. Of several zones the one where an hour
    comes first, so that a cut-off is never thought to be still ahead."""
    zones: Iterable[str] = get_global("territory_zones").get(country, ()) if country != place.country else ()
    return max((ZoneInfo(one) for one in zones), key=_ahead, default=ZoneInfo(place.zone))


def _ahead(zone: ZoneInfo) -> timedelta:
    return datetime(2026, 1, 1, tzinfo=zone).utcoffset() or timedelta()
