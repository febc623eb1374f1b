"""What changes where the house's place does: told before it is kept."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime, time
from zoneinfo import ZoneInfo

from sqlalchemy import select

from ...core.currency import MINOR_DIGITS, SIGNS, plain, show
from ...core.numbers import show_rate
from ...core.writing import short
from ...data.setup import Store
from ..base import house_days
from ..base.context import Context
from ..base.regional import Place, currency_of, home_of, place_of
from ..pricing import exchange_rates
from ..pricing.policy import AMOUNTS, policy_for

NAMES = {
    "refund_cost": "What one refund costs beside the goods",
    "late_cost": "What a late parcel costs on average",
    "split_over": "Parcels that cost more to send are looked at",
    "least_order_profit": "Orders that earn less are held",
    "look_over": "Orders worth more are looked at",
}


@dataclass(frozen=True)
class PlaceChange:
    """One thing that another place changes, as it is and as it would be."""

    name: str
    now: str
    then: str


def changes(context: Context, wish: Place) -> list[PlaceChange]:
    """Everything that would be another than now. wish: checked when it is kept, so a zone or a currency that nobody knows changes nothing
    here."""
    out: list[PlaceChange] = []
    was, home = place_of(context.session), home_of(context.session)
    if wish.zone != was.zone and wish.zone in house_days.ZONES:
        day = house_days.today(context)
        begins = [house_days.begin(context, day), datetime.combine(day, time(), ZoneInfo(wish.zone)).astimezone(UTC)]
        later = (begins[1] - begins[0]).total_seconds() / 3600
        out.append(
            PlaceChange(
                "A day begins, for Today, promises and a day's limits",
                f"at midnight in {_zone(was.zone)}",
                f"at midnight in {_zone(wish.zone)}, {short(abs(later))} h {'later' if later > 0 else 'earlier'}"
                if later
                else "at the same moment",
            )
        )
    if wish.writing != was.writing:
        out.append(PlaceChange("Numbers and amounts are written", _example(was, home), _example(wish, home)))
    asked = wish.currency if wish.currency in MINOR_DIGITS else ""
    money = asked or context.session.scalar(select(Store.currency).order_by(Store.id).limit(1)) or currency_of(wish.country) or home
    if money != home:
        out.append(PlaceChange("Sums over stores are in", home, money))
        limits = policy_for(context.session)
        out += [PlaceChange(NAMES[one], show(int(limits[one]), home), show(int(limits[one]), money)) for one in AMOUNTS if limits[one]]
        rates = exchange_rates.newest(context)
        for store in context.session.scalars(select(Store).where(Store.ended_at.is_(None)).order_by(Store.id)):
            if store.currency != money:
                rate = rates.get((store.currency, money))
                known = (
                    f"counted at {show_rate(rate.nano)}" if rate else f"left out until you enter a rate from {store.currency} to {money}"
                )
                out.append(
                    PlaceChange(f"Sales of {store.name} in sums", "as they are" if store.currency == home else "at their rate", known)
                )
    return out


def _zone(name: str) -> str:
    return name.rpartition("/")[2].replace("_", " ")


def _example(place: Place, currency: str) -> str:
    """How an amount is written there."""
    return place.writing.money(plain(123_450, currency), SIGNS.get(currency, ""), currency)
