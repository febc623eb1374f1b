"""The house's own money: what sums over stores are in, and that nothing is added one to one where nobody knows a rate."""

from __future__ import annotations

import re
from pathlib import Path

import pytest
from sqlalchemy import delete, select

from amber_lane.api.hidden import without_money
from amber_lane.core import writing
from amber_lane.core.currency import parse_money, plain, show
from amber_lane.core.numbers import show_percent
from amber_lane.core.writing import grouped
from amber_lane.data.prices import Rate
from amber_lane.data.setup import Store
from amber_lane.services.activity import undo
from amber_lane.services.alerts import today
from amber_lane.services.base import regional
from amber_lane.services.base.context import Context
from amber_lane.services.base.errors import Invalid
from amber_lane.services.partners import place_changes
from amber_lane.services.pricing import exchange_rates, replay_summary, what_if
from amber_lane.services.pricing.inputs import house_ppm
from amber_lane.services.purchasing import purchase_orders

from ...small import Small

SOURCE = Path(regional.__file__).parents[2]
# Where currencies and countries may be named: their tables, the calculators' fixed one, the words of sheets, and what is made up.
NAMED = (
    "core/currency.py", "core/address.py", "core/address_parts.py", "cli.py", "sheets/values.py", "sheets/opened.py",
    "services/base/regional.py", "services/fulfilment/buyer_notifications.py", "demo/", "world/",
)  # fmt: skip


def test_no_currency_country_or_zone_is_written_into_the_program() -> None:
    names = re.compile(
        r"[\"'](GBP|EUR|USD|JPY|PLN|GB|US|UK|DE|en-GB|en-US)[\"']|[£€¥]|(Europe|America|Asia)/[A-Z]|timeZone: 'UTC'|\.toLocale\w*\("
    )
    found = []
    for path in sorted(SOURCE.rglob("*.py")):
        where = path.relative_to(SOURCE).as_posix()
        if not where.startswith(NAMED) and "versions" not in where:
            code = re.sub(r'"""[\s\S]*?"""|#.*', "", path.read_text("utf-8"))
            found += [f"{where}: {line.strip()}" for line in code.splitlines() if names.search(line)]
    pages = SOURCE.parents[1] / "web" / "src"
    for path in sorted([*pages.rglob("*.vue"), *pages.rglob("*.ts")]):
        if path.name not in ("format.ts", "schema.d.ts") and not path.name.endswith(".test.ts"):
            found += [f"{path.name}: {line.strip()}" for line in path.read_text("utf-8").splitlines() if names.search(line)]
    assert not found


def home(small: Small) -> str:
    with small.db.reading() as s:
        return regional.home_of(s)


def place(small: Small, currency: str, country: str = "GB") -> None:
    small.write(lambda context: regional.set_place(context, regional.Place(country, "Europe/London", "dmy", ".", currency)))


def test_it_is_what_was_said_else_that_of_the_oldest_store_else_of_the_country(small: Small) -> None:
    assert home(small) == "GBP"
    place(small, "USD")
    assert home(small) == "USD"
    with pytest.raises(Invalid, match="currency such as"):
        place(small, "XXX")
    place(small, "", "JP")
    small.write(lambda context: [setattr(one, "currency", "KWD") for one in context.session.scalars(select(Store))])
    assert home(small) == "KWD"


@pytest.mark.parametrize(
    ("money", "home_money", "nano", "minor", "turned"),
    [
        ("JPY", "GBP", 5_300_000, 1000, 530),
        ("GBP", "JPY", 188_000_000_000, 250, 470),
        ("KWD", "JPY", 480_000_000_000, 1500, 720),
        ("USD", "KWD", 307_000_000, 999, 3067),
    ],
)
def test_yen_without_decimals_and_dinars_with_three_are_turned_to_the_minor_unit(
    money: str, home_money: str, nano: int, minor: int, turned: int
) -> None:
    ppm = house_ppm({(money, home_money): nano}, money, home_money)
    assert ppm is not None and (2 * minor * ppm + 10**6) // (2 * 10**6) == turned
    back = house_ppm({(home_money, money): 10**18 // nano}, money, home_money)
    assert back is not None and abs(back - ppm) <= max(ppm // 10**5, 1)
    assert parse_money(plain(minor, money), money) == minor and show(minor, money)


@pytest.mark.parametrize(
    ("country", "amount", "number", "share"),
    [
        ("GB", "−€1,234.50", "12,000", "12.5 %"),
        ("DE", "−1.234,50 €", "12.000", "12,5 %"),
        ("FR", "−1\u00a0234,50 €", "12\u00a0000", "12,5 %"),
        ("CH", "−€1’234.50", "12’000", "12.5 %"),
        ("JP", "−€1,234.50", "12,000", "12.5 %"),
    ],
)
def test_sentences_write_numbers_as_is_usual_where_the_house_is(small: Small, country: str, amount: str, number: str, share: str) -> None:
    small.write(lambda context: regional.set_place(context, regional.usual(country, "UTC")))
    writing.use(writing.Writing())
    with small.db.reading() as s:
        # Another process finds it where it reads anything of the place.
        assert regional.place_of(s).country == country
    assert show(-123_450, "EUR") == amount and grouped(12_000) == number and show_percent(125_000) == share
    assert plain(-123_450, "EUR") == "-1234.50", "sheets and programs are written alike everywhere"
    hidden = without_money({"message": f"it rose to {amount} and 12,50 PLN, {number} times"})
    assert hidden == {"message": f"it rose to (amount) and (amount), {number} times"}
    step = {"step": "Order 144, £1,478.88", "more": "8 £4.20", "after": "2 for 1.234,50 £, 3 left"}
    assert without_money(step) == {"step": "Order 144, (amount)", "more": "8 (amount)", "after": "2 for (amount), 3 left"}


def test_another_manner_is_shown_before_it_is_kept_and_can_be_taken_back(small: Small) -> None:
    with small.db.reading() as s:
        found = place_changes.changes(small.context(s), regional.Place("DE", decimal=",", sign_after=True))
        assert ("Numbers and amounts are written", "£1,234.50", "1.234,50 £") in [(one.name, one.now, one.then) for one in found]
        assert not place_changes.changes(small.context(s), regional.Place(zone="Nowhere/Far", currency="-"))
    small.write(lambda context: regional.set_place(context, regional.Place("DE", decimal=",", sign_after=True)))
    assert show(123_450, "EUR") == "1.234,50 €"
    with pytest.raises(Invalid, match="another than before decimals"):
        small.write(lambda context: regional.set_place(context, regional.Place("DE", decimal=",", group=",")))
    small.write(lambda context: undo.undo(context, small.act("place.set").id))
    with small.db.reading() as s:
        assert regional.place_of(s).decimal == "." and show(123_450, "EUR") == "€1,234.50"


def test_what_has_no_rate_is_left_out_told_and_asked_for_and_counts_once_it_has_one(small: Small) -> None:
    def abroad(context: Context) -> None:
        small.second_store(context.session, "PL", "PLN")
        small.list_sku(context.session, 1, store=2, price=5000, currency="PLN")
        context.session.add(Rate(base="GBP", quote="PLN", day=context.now, nano=5 * 10**9))

    def no_rate(context: Context) -> None:
        context.session.execute(delete(Rate))

    small.write(abroad)
    small.respond()
    here, there = small.order("A", ("S-1", 1, 2000)), small.order("B", ("S-1", 1, 9000), store=2)

    def sums() -> tuple[int, int, list[str], list[str], list[str]]:
        with small.db.reading() as s:
            context = small.context(s)
            found, left_out = purchase_orders.money_of(context, [here.id, there.id])
            days, also = today._profit_by_day(context, 14)
            return found["profit"], days[-1].expected, left_out, also, what_if.what_if(context, None).left_out

    # By the rate back, while only that is known.
    both, expected, *left_out = sums()
    assert expected == both and left_out == [[], [], []]
    small.write(no_rate)
    alone, expected, *left_out = sums()
    assert expected == alone < both and left_out[:2] == [["PLN"], ["PLN"]]
    with small.db.reading() as s:
        assert ("PLN", "GBP") in exchange_rates.needed(small.context(s))
        # The rate that its prices need as well, the other way round, would do.
        assert {one.key for one in today.open_alerts(small.context(s)) if one.kind == "No rate"} == {"rate:GBP-PLN"}
        run = replay_summary.beside(small.context(s), 5, None, None)
    assert run["one"]["earned"]["currency"] == "GBP"
    place(small, "USD")
    with small.db.reading() as s:
        asked = {one.key: one.message for one in today.open_alerts(small.context(s)) if one.kind == "No rate"}
    assert set(asked) == {"rate:GBP-PLN", "homerate:GBP-USD", "homerate:PLN-USD"}
    assert asked["homerate:PLN-USD"] == "No exchange rate from PLN to USD: sums over all stores leave out Second shop"
    assert sums()[1:4] == (0, ["GBP", "PLN"], ["GBP", "PLN"])
