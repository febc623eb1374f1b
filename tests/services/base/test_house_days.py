"""A day is a day of the house, also where its clocks change; and another place says what it changes before it is kept."""

from __future__ import annotations

from datetime import UTC, date, datetime, timedelta
from zoneinfo import ZoneInfo

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from amber_lane.clock import PacedClock
from amber_lane.data.base import day_ms, to_ms
from amber_lane.data.orders import PurchaseOrder
from amber_lane.data.prices import Rate
from amber_lane.data.setup import BuyingAccount, Store
from amber_lane.services.alerts import today
from amber_lane.services.base import house_days, regional
from amber_lane.services.base.context import Context
from amber_lane.services.base.errors import Invalid
from amber_lane.services.orders.routing_inputs import arrival, room_of
from amber_lane.services.partners import place_changes
from amber_lane.services.pricing.policy import policy_for
from amber_lane.services.purchasing import purchase_orders

from ...small import Small

ZONES = ("America/Denver", "Asia/Tokyo", "Europe/London", "Asia/Kathmandu", "Australia/Lord_Howe", "America/Santiago", "Pacific/Kiritimati")


def lives_in(small: Small, country: str, zone: str, currency: str = "") -> None:
    with small.db.writing() as s:
        regional.set_usual_place(small.context(s), country, zone, currency)


@settings(max_examples=60, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(zone=st.sampled_from(ZONES), minute=st.integers(0, 3 * 366 * 1440))
def test_every_moment_is_in_one_day_of_the_house(small: Small, zone: str, minute: int) -> None:
    at = datetime(2025, 1, 1, tzinfo=UTC) + timedelta(minutes=minute)
    with small.db.reading() as s:
        s.info[regional.PLACE] = regional.Place("US", zone)
        context = Context(s, PacedClock(at, 0), "T")
        day = house_days.today(context)
        begins, ends = house_days.begin(context, day), house_days.begin(context, day + timedelta(days=1))
        assert begins <= at < ends and timedelta(hours=23) <= ends - begins <= timedelta(hours=25)
        # The days of Today are cut at quarters of an hour, so every day must begin at one.
        assert to_ms(begins) % today.QUARTER_MS == 0 and house_days.day_of(context, house_days.end(context, day)) == day
        assert house_days.ends_ms(context, np.array([day_ms(day), -1])).tolist() == [to_ms(ends), -1]
        assert day == at.astimezone(ZoneInfo(zone)).date()


def test_profit_stands_on_the_houses_day_over_a_change_of_clocks(small: Small) -> None:
    """The clocks of Denver go forward in the night to 8 March: that Sunday has 23 hours."""
    lives_in(small, "US", "America/Denver", "GBP")
    moments = {
        "2026-03-07T06:59:00+00:00": "2026-03-06",
        "2026-03-08T06:59:00+00:00": "2026-03-07",
        "2026-03-08T07:00:00+00:00": "2026-03-08",
        "2026-03-09T05:59:00+00:00": "2026-03-08",
        "2026-03-09T06:00:00+00:00": "2026-03-09",
    }
    now, expected = small.clock.now(), dict[str, int]()
    for n, (at, day) in enumerate(moments.items()):
        small.clock.set(datetime.fromisoformat(at), 0)
        number = small.order(f"D-{n}", ("S-6", 1, 3000 + n)).id
        small.write(lambda context, number=number: purchase_orders.send(context, [number]))
        expected[day] = expected.get(day, 0) + 3000 + n
    small.clock.set(now, 0)
    with small.db.reading() as s:
        days, _ = today.profit_by_day(small.context(s))
    assert {one.day.isoformat(): one.sales for one in days if one.sales} == expected and days[-1].day.isoformat() == "2026-03-12"


def test_a_days_limits_begin_anew_at_the_houses_midnight(small: Small) -> None:
    lives_in(small, "JP", "Asia/Tokyo")
    small.order("L-1", ("S-1", 1, 900))
    with small.db.writing() as s:
        context = small.context(s)
        account = BuyingAccount(supplier_id=1, name="Card", cap_money=10_000, cap_orders=5)
        s.add(account)
        s.flush()
        s.add(
            PurchaseOrder(
                supplier_id=1,
                order_id=1,
                origin_id=1,
                reference="R",
                service="slow",
                state="sent",
                currency="GBP",
                goods=700,
                shipping=0,
                handling=0,
                made_at=small.clock.now(),
                account_id=account.id,
            )
        )
        s.flush()
        assert room_of(context, account) == (9300, 4)
        # 14:59 UTC is 23:59 in Tokyo; a minute later another day has begun there.
        for hour, left in ((14, (9300, 4)), (15, (10_000, 5))):
            at = small.clock.now().replace(hour=hour, minute=59 if hour == 14 else 0)
            assert room_of(Context(s, PacedClock(at, 0), "T"), account) == left


def test_a_cut_off_is_read_by_the_clocks_of_its_origin() -> None:
    house = regional.Place("US", "America/Denver")
    assert str(house_days.zone_in("US", house)) == "America/Denver" and str(house_days.zone_in("PL", house)) == "Europe/Warsaw"
    # Of many zones the one whose hours come first, so that nothing is promised too early; an unknown land has the house's.
    assert str(house_days.zone_in("AU", house)) in (
        "Australia/Sydney",
        "Australia/Hobart",
        "Australia/Melbourne",
        "Australia/Lord_Howe",
        "Antarctica/Macquarie",
    )
    assert str(house_days.zone_in("XX", house)) == "America/Denver"
    now = datetime(2026, 3, 12, 15, 30, tzinfo=UTC)
    here, there = (now.astimezone(house_days.zone_in(country, house)) for country in ("US", "PL"))
    assert (arrival(here, "16:00", 1), arrival(there, "16:00", 1)) == (date(2026, 3, 13), date(2026, 3, 14))


def test_a_country_says_how_it_writes_and_what_is_paid_there() -> None:
    written = {code: (one.dates, one.decimal, one.currency) for code in ("US", "JP", "DE", "KW") for one in [regional.usual(code, "UTC")]}
    assert written == {"US": ("mdy", ".", "USD"), "JP": ("ymd", ".", "JPY"), "DE": ("dmy", ",", "EUR"), "KW": ("dmy", ".", "KWD")}


def test_what_another_place_changes_is_told_and_limits_begin_at_round_amounts_of_its_money(small: Small) -> None:
    with small.db.reading() as s:
        context = small.context(s)
        told = {one.name: (one.now, one.then) for one in place_changes.changes(context, regional.Place("JP", "Asia/Tokyo", currency="JPY"))}
    assert told["Sums over stores are in"] == ("GBP", "JPY") and told["What one refund costs beside the goods"] == ("£1.50", "¥150")
    assert told["Sales of First shop in sums"][1] == "left out until you enter a rate from GBP to JPY"
    assert "9 h earlier" in told["A day begins, for Today, promises and a day's limits"][1]
    with small.db.writing() as s:
        s.add(Rate(base="GBP", quote="JPY", day=small.clock.now(), nano=190 * 10**9))
        s.get(Store, 1).name = "First shop"
    lives_in(small, "JP", "Asia/Tokyo")
    with small.db.reading() as s:
        context = small.context(s)
        assert policy_for(s)["refund_cost"] == 240 and place_changes.changes(context, regional.place_of(s)) == []
        assert house_days.day_text(context, date(2026, 4, 6)) == "Apr 6"
    with small.db.writing() as s, pytest.raises(Invalid, match="country"):
        regional.set_usual_place(small.context(s), "J1", "Asia/Tokyo")
