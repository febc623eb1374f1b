"""What of a sweep is believed, what is put before a person, and that nothing is done on what is not."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from sqlalchemy import select

from amber_lane.data.setup import Supplier
from amber_lane.data.shelf import Listing
from amber_lane.data.source import Item
from amber_lane.data.watch import ListingDecision, Sighting, Sweep
from amber_lane.services.base.context import Context
from amber_lane.services.base.errors import Conflict
from amber_lane.services.monitoring import sweeps
from amber_lane.services.pricing.drafts import PolicyChange

from ...small import Small


@pytest.fixture
def watched(small: Small) -> Small:
    """Twenty-six items, six of them sold: enough to tell a broken feed from a bad day."""

    def more(context: Context) -> None:
        for n in range(100, 120):
            context.session.add(Item(id=n, supplier_id=1, origin_id=1, number=f"I-{n}", title="More", currency="GBP", cost=n, stock=9))
        PolicyChange("house", "", {"doubt_again": 2, "hold_agree": 4, "stale_hours": 6}).keep(context)

    small.write(more)
    small.respond()
    return small


def item(small: Small, number: int) -> Item:
    return small.all(select(Item).where(Item.id == number))[0]


def look(small: Small, rows: list[tuple[str, int, str, int]], whole: bool = True) -> Sweep:
    """A sweep that says just this: number, cost, currency, stock."""
    small.later(minutes=15)

    def do(context: Context) -> Sweep:
        sweep = sweeps.begin(context, context.get(Supplier, 1, "supplier"))
        cost, stock = (np.array([row[i] for row in rows], dtype=np.int64) for i in (1, 3))
        told = sweeps.SweepData([row[0] for row in rows], cost, [row[2] for row in rows], stock, context.now, whole=whole)
        sweeps.take_sweep(context, sweep, told)
        return sweep

    return small.write(do)


def everything(small: Small, **changed: tuple[int, str, int] | None) -> list[tuple[str, int, str, int]]:
    """All items as we know them, with some told otherwise; None = not told at all. Keys are I_3 for I-3."""
    rows: dict[str, Any] = {row.number: (row.cost, row.currency, row.stock) for row in small.all(select(Item))}
    rows |= {name.replace("_", "-"): value for name, value in changed.items()}
    return [(name, *value) for name, value in sorted(rows.items()) if value is not None]


def test_a_far_move_waits_until_it_is_seen_again_and_again(watched: Small) -> None:
    before = watched.listing(3).wanted_price
    for seen in range(2):
        watched.sweep({3: (500, 20)})
        assert (item(watched, 3).offer, item(watched, 3).cost, item(watched, 3).doubt_seen) == ("doubted", 300, seen)
        assert watched.listing(3).wanted_price == before
    watched.sweep({3: (500, 20)})
    assert (item(watched, 3).offer, item(watched, 3).cost) == ("good", 500) and watched.listing(3).wanted_price > before


def test_a_doubt_that_changes_its_mind_starts_anew_and_one_that_goes_is_forgotten(watched: Small) -> None:
    for cost in (500, 510, 500):
        watched.sweep({3: (cost, 20)})
        assert (item(watched, 3).offer, item(watched, 3).doubt_seen) == ("doubted", 0)
    watched.sweep({})
    assert (item(watched, 3).offer, item(watched, 3).cost) == ("good", 300)


@pytest.mark.parametrize(("believe", "cost"), [(True, 500), (False, 300)])
def test_a_persons_word_settles_a_doubt_once(watched: Small, believe: bool, cost: int) -> None:
    watched.sweep({3: (500, 20)})
    watched.write(lambda context: sweeps.settle_doubt(context, 3, believe))
    assert (item(watched, 3).offer, item(watched, 3).cost) == ("good", cost)
    with pytest.raises(Conflict, match="not in doubt any more"):
        watched.write(lambda context: sweeps.settle_doubt(context, 3, not believe))
    for _ in range(4):
        watched.sweep({3: (500, 20)})
    # Set aside, the same is not asked again, nor does it become true by being repeated.
    assert (item(watched, 3).offer, item(watched, 3).cost) == ("good", cost)


def test_next_to_nothing_never_becomes_true_by_itself(watched: Small) -> None:
    for _ in range(6):
        watched.sweep({3: (1, 20)})
    assert item(watched, 3).cost == 300 and item(watched, 3).offer == "doubted"
    watched.write(lambda context: sweeps.settle_doubt(context, 3, True))
    assert item(watched, 3).cost == 1


@pytest.mark.parametrize(
    "told", [(300, "EUR", 20), (0, "GBP", 20), (-5, "GBP", 20), (10**9, "GBP", 20), (300, "GBP", -7), (300, "XXX", 20)]
)
def test_what_cannot_be_is_refused_and_the_last_good_stands(watched: Small, told: tuple[int, str, int]) -> None:
    before = watched.listing(3)
    look(watched, everything(watched, I_3=told))
    after = watched.listing(3)
    assert (item(watched, 3).cost, item(watched, 3).stock) == (300, 20)
    assert (after.wanted_price, after.wanted_quantity, after.state) == (before.wanted_price, before.wanted_quantity, "live")
    assert "refused" in watched.all(select(Sighting.verdict).where(Sighting.item_id == 3))


def test_an_item_that_is_not_told_is_gone_and_comes_back(watched: Small) -> None:
    look(watched, everything(watched, I_3=None), whole=False)
    assert item(watched, 3).offer == "good", "a part of the feed says nothing of the rest"
    look(watched, everything(watched, I_3=None))
    assert item(watched, 3).offer == "gone" and watched.listing(3).state == "paused"
    for _ in range(3):
        look(watched, everything(watched, I_3=(300, "GBP", 20)))
    assert item(watched, 3).offer == "good" and watched.listing(3).state == "live"


def test_an_item_whose_stock_is_not_told_keeps_what_it_had(watched: Small) -> None:
    look(watched, everything(watched, I_3=(310, "GBP", -1)))
    assert (item(watched, 3).cost, item(watched, 3).stock) == (310, 20)


@pytest.mark.parametrize("broken", ["zero", "vanished", "median"])
def test_a_feed_that_breaks_is_held_whole_and_touches_nothing(watched: Small, broken: str) -> None:
    before = {row.id: (row.wanted_price, row.wanted_quantity, row.state) for row in watched.all(select(Listing))}
    rows = everything(watched)
    told = {
        "zero": [(n, c, cur, 0 if i % 2 else s) for i, (n, c, cur, s) in enumerate(rows)],
        "vanished": rows[::2],
        "median": [(n, c * 13 // 10, cur, s) for n, c, cur, s in rows],
    }[broken]
    sweep = look(watched, told)
    assert sweep.state == "held" and sweep.message
    assert {row.id: (row.wanted_price, row.wanted_quantity, row.state) for row in watched.all(select(Listing))} == before
    assert {row.offer for row in watched.all(select(Item))} == {"good"}
    with pytest.raises(Conflict, match="not held any more"):
        watched.write(lambda context: [sweeps.settle_held(context, sweep.id, False) for _ in range(2)])


def test_a_held_feed_is_used_once_a_person_says_so_or_it_has_agreed_with_itself(watched: Small) -> None:
    zeros = [(n, c, cur, 0) for n, c, cur, _ in everything(watched)]
    sweep = look(watched, zeros)
    watched.write(lambda context: sweeps.settle_held(context, sweep.id, True))
    assert {row.state for row in watched.all(select(Listing))} == {"paused"}
    full = [(n, c, cur, 20) for n, c, cur, _ in zeros]
    for _ in range(3):
        look(watched, full)
    assert {row.state for row in watched.all(select(Listing))} == {"live"}
    states = [look(watched, zeros).state for _ in range(5)]
    assert states == ["held"] * 4 + ["good"]
    assert {row.state for row in watched.all(select(Listing))} == {"paused"}


def test_no_answer_for_long_takes_everything_off_sale_and_the_first_good_one_brings_it_back(watched: Small) -> None:
    watched.sweep({})
    shown = {row.id: row.wanted_quantity for row in watched.all(select(Listing))}
    for _ in range(6):
        watched.later(hours=1)
        watched.write(lambda context: sweeps.fail(context, sweeps.begin(context, context.get(Supplier, 1, "supplier")), "no answer"))
    assert {row.state for row in watched.all(select(Listing))} == {"live"}
    watched.later(minutes=10)
    watched.write(lambda context: sweeps.fail(context, sweeps.begin(context, context.get(Supplier, 1, "supplier")), "no answer"))
    assert {row.state for row in watched.all(select(Listing))} == {"paused"} and item(watched, 1).stock == 20
    for _ in range(3):
        watched.sweep({})
    rows = watched.all(select(Listing))
    assert {row.state for row in rows} == {"live"} and {row.id: row.wanted_quantity for row in rows} == shown


def test_a_sweep_that_changes_nothing_writes_nothing_but_its_own_record(watched: Small) -> None:
    watched.sweep({})
    counts = [len(watched.all(select(table.id))) for table in (Sighting, ListingDecision)]
    for _ in range(3):
        assert watched.sweep({}) == {}
    assert [len(watched.all(select(table.id))) for table in (Sighting, ListingDecision)] == counts
    assert watched.all(select(Sweep.state)) == ["good"] * 4


def test_one_sweep_at_a_time_unless_the_last_was_cut_off(watched: Small) -> None:
    def begin(context: Context) -> Sweep:
        return sweeps.begin(context, context.get(Supplier, 1, "supplier"))

    first = watched.write(begin)
    with pytest.raises(Conflict, match="running already"):
        watched.write(begin)
    watched.later(minutes=31)
    watched.write(begin)
    assert watched.all(select(Sweep.state).where(Sweep.id == first.id)) == ["failed"]
