"""Amounts as people read them: every currency, manner and size; and the pages write them as the server does."""

from __future__ import annotations

import json
from itertools import product
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from amber_lane.core.currency import MINOR_DIGITS, minor_digits, parse_money, plain, show, usual_amount
from amber_lane.core.writing import Writing, decimals, grouped, short, use

MANNERS = [
    Writing(group, decimal, after)
    for (group, decimal), after in product(((",", "."), (".", ","), ("\xa0", ","), ("’", ".")), (False, True))
]
manners, currencies = st.sampled_from(MANNERS), st.sampled_from(sorted(MINOR_DIGITS))
amounts = st.integers(-(10**9), 10**9)
# What both sides write, for the tests of the pages too (web/src/parts/written.test.ts).
BOTH = Path(__file__).resolve().parents[2] / "web" / "src" / "parts" / "written.json"
SIZES = (0, 5, -5, 99, 100, -318, 1_000, 12_345, -123_450, 1_234_567, 999_999_999)


def cases() -> list[dict[str, object]]:
    """Every currency in one manner, and every manner in a few of them."""
    asked = [(MANNERS[0], code) for code in sorted(MINOR_DIGITS)]
    asked += [(manner, code) for manner in MANNERS[1:] for code in ("GBP", "JPY", "KWD", "PLN")]
    out: list[dict[str, object]] = []
    for manner, code in asked:
        use(manner)
        place = {"decimal": manner.decimal, "group": manner.group, "sign_after": manner.sign_after}
        told = [[minor, plain(minor, code), show(minor, code)] for minor in SIZES]
        out.append({"place": place, "currency": code, "digits": minor_digits(code), "told": told})
    return out


def test_the_pages_write_amounts_as_the_server_does() -> None:
    """Their test reads this file; it is written anew by `python -m tests.core.test_writing`."""
    assert json.loads(BOTH.read_text("utf-8")) == cases()


@given(amounts, currencies)
def test_an_amount_survives_being_written_for_sheets_and_programs(minor: int, code: str) -> None:
    assert parse_money(plain(minor, code), code) == minor
    whole, _, part = plain(minor, code).partition(".")
    assert len(part) == minor_digits(code) and int(whole or 0) == int(minor / 10 ** minor_digits(code))


@given(amounts, currencies, manners)
def test_an_amount_is_read_back_from_what_people_see(minor: int, code: str, manner: Writing) -> None:
    use(manner)
    text = show(minor, code)
    bare = "".join(letter for letter in text if letter.isdigit() or letter in "−" + manner.decimal)
    assert parse_money(bare.replace("−", "-").replace(manner.decimal, "."), code) == minor
    assert text.count("−") == (minor < 0) and (not text.startswith("−")) == (minor >= 0)


@given(amounts, manners)
def test_thousands_stand_in_threes_from_the_right(n: int, manner: Writing) -> None:
    use(manner)
    parts = grouped(n).removeprefix("−").split(manner.group)
    assert 1 <= len(parts[0]) <= 3 and all(len(one) == 3 for one in parts[1:])
    assert int("".join(parts)) == abs(n)


@given(st.floats(-1e6, 1e6), st.integers(0, 4))
def test_a_number_with_decimals_has_so_many_and_a_short_one_none_for_nothing(value: float, places: int) -> None:
    use(Writing())
    assert len(decimals(value, places).partition(".")[2]) == places
    assert not short(value).endswith((".", "0")) or short(value).partition(".")[2] == ""
    assert abs(float(short(value).replace(",", "").replace("−", "-")) - value) < 1e-5


@pytest.mark.parametrize("code", ["XXX", "gbp", "", "£"])
def test_a_currency_that_nobody_knows_is_refused_with_what_to_write(code: str) -> None:
    with pytest.raises(ValueError, match="ISO 4217"):
        parse_money("1", code)


@given(st.integers(1, 10**6), currencies)
def test_a_limit_that_nobody_typed_begins_at_a_round_amount(cents: int, code: str) -> None:
    found = usual_amount(cents, code)
    assert found >= 0 and (code in ("EUR", "GBP", "USD") or len(str(found).rstrip("0")) <= 2 or found == cents)


if __name__ == "__main__":
    BOTH.write_text(json.dumps(cases(), ensure_ascii=False, indent=1) + "\n", "utf-8")
