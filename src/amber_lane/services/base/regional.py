"""Where the house is: its country, currency and time zone, and how dates and numbers are written there. Sheets are read by it."""

from __future__ import annotations

from dataclasses import asdict, dataclass, replace
from functools import cache
from zoneinfo import ZoneInfo, available_timezones

from babel import Locale, UnknownLocaleError
from babel.numbers import get_territory_currencies
from sqlalchemy import Select, select
from sqlalchemy.orm import Session

from ...core.currency import MINOR_DIGITS
from ...core.ids import check_country
from ...core.writing import Writing, use
from ...data.kept import NEVER_OLD, kept
from ...data.outbox import AuditEntry
from ...data.setup import Setting, Store
from ...data.statements import setting
from ...sheets.mapping import Manner
from . import undoing
from .context import Context
from .errors import Invalid

PLACE = "place"
# How a day is written in numbers: which of day, month and year comes when.
DATES = ("dmy", "mdy", "ymd")
DECIMALS = (".", ",")
# What may stand between thousands. '' = as is usual with the mark before decimals.
NO_BREAK = "\u00a0"
GROUPS = ("", ",", ".", NO_BREAK, "’")
# Of a house that said nothing and has nothing, so that every sum in it is nought.
ANY_CURRENCY = "EUR"


@dataclass(frozen=True)
class Place:
    """country: two letters; zone: an IANA name; dates: one of DATES; decimal: the mark before the minor part; group: one of GROUPS;
    sign_after: amounts are written 12.50 € instead of €12.50.

    currency: what sums over stores are in; '' = not said, so that of the oldest store.
    """

    country: str = ""
    zone: str = "UTC"
    dates: str = "dmy"
    decimal: str = "."
    currency: str = ""
    group: str = ""
    sign_after: bool = False

    @property
    def writing(self) -> Writing:
        """How sentences and papers write numbers and amounts."""
        return Writing(self.group or ("." if self.decimal == "," else ","), self.decimal, self.sign_after)

    @property
    def manner(self) -> Manner:
        """How sheets are read that do not say themselves how they are meant."""
        return Manner(self.decimal, self.dates, ZoneInfo(self.zone))


def place_of(s: Session) -> Place:
    """What was said of the house's place; until then times are UTC and days come before months."""
    if PLACE not in s.info:
        s.info[PLACE] = kept(s, PLACE, NEVER_OLD, _place)
        # Read by every use case, in each process: so all of them write as was said last.
        use(s.info[PLACE].writing)
    place: Place = s.info[PLACE]
    return place


@cache
def _oldest_currency() -> Select[str]:
    return select(Store.currency).order_by(Store.id).limit(1)


def _place(s: Session) -> Place:
    row = s.scalar(setting(PLACE))
    return Place(**row.value) if row else Place()


def home_of(s: Session) -> str:
    """The house's currency: as it was said, else that of its oldest store, else that of its country."""
    return kept(s, "home", NEVER_OLD, _home)


def _home(s: Session) -> str:
    place = place_of(s)
    if place.currency:
        return place.currency
    if oldest := s.scalar(_oldest_currency()):
        return oldest
    return currency_of(place.country) or ANY_CURRENCY


def currency_of(country: str) -> str:
    """The currency that is paid with in a country; '' where we do not know it."""
    return next((money for money in get_territory_currencies(country, tender=True) if money in MINOR_DIGITS), "")


def usual(country: str, zone: str) -> Place:
    """A house in a country, which writes as is usual there. ValueError for a wrong code."""
    country = check_country(country)
    try:
        there = Locale.parse(f"und_{country}")
    except (UnknownLocaleError, ValueError):
        return Place(country, zone, currency=currency_of(country))
    order = "".join(dict.fromkeys(one for one in there.date_formats["short"].pattern.lower() if one in "dmy"))
    marks = there.number_symbols.get(there.default_numbering_system, {})
    decimal = marks.get("decimal", ".") if marks.get("decimal") in DECIMALS else "."
    # Spaces of every width are one here, and so are the two shapes of an apostrophe.
    group = NO_BREAK if marks.get("group", "").isspace() else marks.get("group", "").replace("'", "’")
    group = group if group in GROUPS and group != decimal else ""
    after = not there.currency_formats["standard"].pattern.lstrip("\u200f\u200e").startswith("¤")
    return Place(country, zone, order if order in DATES else "dmy", decimal, currency_of(country), group, after)


def rules_of(s: Session) -> str:
    """What amounts in price rules are in: they hold in each store's own currency, so the one that all stores share, else the house's."""
    kinds = set(s.scalars(select(Store.currency).distinct()))
    return kinds.pop() if len(kinds) == 1 else home_of(s)


def set_usual_place(context: Context, country: str, zone: str, currency: str = "") -> str:
    """Say where the house is by its country alone: dates and amounts are written as is usual there."""
    try:
        place = usual(country, zone)
    except ValueError as error:
        raise Invalid(f"country {error}", {"country": str(error)}) from error
    return set_place(context, replace(place, currency=currency or place.currency))


def set_place(context: Context, place: Place) -> str:
    """Say where the house is. Can be undone."""
    wrong = {}
    try:
        place = replace(place, country=check_country(place.country))
    except ValueError as error:
        wrong["country"] = str(error)
    if place.currency and place.currency not in MINOR_DIGITS:
        wrong["currency"] = "must be a currency such as EUR, USD or JPY"
    if place.zone not in available_timezones():
        wrong["zone"] = "must be a time zone such as Europe/London or America/Chicago"
    if place.dates not in DATES:
        wrong["dates"] = f"must be one of {', '.join(DATES)}"
    if place.decimal not in DECIMALS:
        wrong["decimal"] = "must be a point or a comma"
    if place.group not in GROUPS or place.group == place.decimal:
        wrong["group"] = "must be a comma, a point, a space or ’, and another than before decimals"
    if wrong:
        raise Invalid("; ".join(f"{name} {message}" for name, message in wrong.items()), wrong)
    row = context.session.scalar(select(Setting).where(Setting.name == PLACE))
    before = dict(row.value) if row else None
    if row is None:
        row = Setting(name=PLACE, value={})
        context.session.add(row)
    row.value = asdict(place)
    context.session.info.pop(PLACE, None)
    use(place.writing)
    money = f", its sums in {place.currency}" if place.currency else ""
    message = f"the business is in {place.country}, time zone {place.zone}{money}, numbers written {place.writing.digits('1234.50')}"
    context.log("place.set", "house", message, before={"place": before}, undo=True)
    context.session.flush()
    return message[0].upper() + message[1:]


def restore(context: Context, before: dict[str, dict[str, str] | None]) -> None:
    """Undo: as it was said before, or not at all."""
    row = context.session.scalar(select(Setting).where(Setting.name == PLACE))
    if row is not None and before["place"] is None:
        context.session.delete(row)
    elif row is not None and before["place"] is not None:
        row.value = before["place"]
    context.session.info.pop(PLACE, None)
    context.session.flush()


@undoing.undoes("place.set")
def undo_place_set(context: Context, act: AuditEntry) -> None:
    restore(context, undoing.before(act))
