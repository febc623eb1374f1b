"""The cheapest right way of a claim: exact cases, and what must hold of every one."""

from __future__ import annotations

from fractions import Fraction

from hypothesis import given
from hypothesis import strategies as st

from amber_lane.core.claims import CaseMoney, ClaimReason, Record, Way, leaves, records, ways

SUMS = st.integers(0, 100_000)


def test_each_way_costs_what_its_terms_say():
    money = CaseMoney(paid_back=2000, fees_back=200, claim=1000, again=1100, dispute=600, days=8)
    record = Record(paid=7, refused=1, asked=7000, came=6300)
    # (3 + 7) / (5 + 8) that it pays, nine tenths of what is asked: 692.3.
    assert record.chance * record.share == Fraction(10, 13) * Fraction(9, 10)
    found = {one.way: one for one in ways(money, record, ClaimReason.lost)}
    assert found[Way.refund].terms == {"refund": 2000, "fees": -200, "recovery": -692} and found[Way.refund].cost == 1108
    assert found[Way.again].cost == 1100 - 692 and Way.let_go not in found
    # Waiting a week over: 15 in 100 leave, which is 90, and then the best of both.
    assert leaves(8) == Fraction(3, 20) and found[Way.ask].terms == {"waiting": 90, "after": 408}
    assert [one.way for one in ways(money, record, ClaimReason.lost)] == [Way.again, Way.ask, Way.refund]
    late = {one.way: one.cost for one in ways(money, record, ClaimReason.late)}
    assert late[Way.let_go] == (408 + 600) // 4


@given(
    SUMS,
    SUMS,
    SUMS,
    st.none() | SUMS,
    SUMS,
    st.integers(-20, 90),
    st.sampled_from(list(ClaimReason)),
    st.integers(0, 50),
    st.integers(0, 50),
)
def test_the_ways_are_whole_and_in_order(paid, fees, claim, again, dispute, days, reason, yes, no):
    found = ways(CaseMoney(paid, fees, claim, again, dispute, days), Record(yes, no, 100 * yes, 80 * yes), reason)
    assert [one.cost for one in found] == sorted(one.cost for one in found)
    assert all(sum(one.terms.values()) == one.cost for one in found)
    assert (Way.again in {one.way for one in found}) == (again is not None)
    # A supplier that pays more surely never makes a way dearer.
    better = {
        one.way: one.cost
        for one in ways(CaseMoney(paid, fees, claim, again, dispute, days), Record(yes + 5, no, 100 * (yes + 5), 80 * (yes + 5)), reason)
    }
    if yes:
        assert all(better[one.way] <= one.cost + 1 for one in found)


def test_records_are_by_reason_and_of_all():
    found = records([("lost", True, 1000, 800), ("lost", False, 500, 0), ("late", True, 0, 0)])
    assert found["lost"] == Record(1, 1, 1000, 800) and found[""] == Record(2, 1, 1000, 800)
    assert found["late"].share == Fraction(9, 10)
