"""A week in the practice world with faults on: nothing is ever priced from what was doubted, and what has ended is not on sale."""

from __future__ import annotations

from bisect import bisect_right

from sqlalchemy import func, select

from amber_lane.data.watch import ListingDecision, Sighting, Sweep

from ..business import Business
from ..week import live


def test_a_week_with_faults_never_shows_what_was_doubted_and_loses_less_than_no_watch(business: Business) -> None:
    # So long that each fault has its turn.
    week = live(business, days=2)
    with business.app_state.db.reading() as s:
        verdicts = dict(s.execute(select(Sighting.verdict, func.count()).group_by(Sighting.verdict)).tuples().all())
        states = dict(s.execute(select(Sweep.state, func.count()).group_by(Sweep.state)).tuples().all())
        # The faults were really there: sightings doubted, sweeps held, feeds that stood still, calls made again.
        assert verdicts["doubted"] > 0 and states["held"] > 0 and states["stale"] > 0
        assert s.scalar(select(func.sum(Sweep.retries))) > 0
        # The kept terms of every response say which landed cost it was made of: never one that was doubted and not believed.
        costs = {line.sku: line for line in week.lines}
        for listing, terms in s.execute(select(ListingDecision.listing_id, ListingDecision.terms).where(ListingDecision.kind == "reprice")):
            assert terms["goods"] > 1, listing
    for line in costs.values():
        only_doubted = week.doubted.get(line.number, set()) - week.believed.get(line.number, set()) - {line.true[0][1]}
        for _, price, _, _ in line.shown[1:]:
            # A price made of a penny would be a tenth of any that a true cost asks for.
            assert price > min(cost for _, cost, _ in line.true)
        assert 1 not in week.believed.get(line.number, set()) and (not only_doubted or min(only_doubted) >= 1)
    # None stayed on sale more than a sweep and a minute after its end was seen, unless it was there again by then.
    limit = (30 + 1) * 60_000
    for line in week.lines:
        times = [at for at, *_ in line.shown]
        for seen in week.ends.get(line.number, []):
            later = seen + limit
            if later >= week.ended or any(seen < at <= later and stock > 0 for at, _, stock in line.true):
                continue
            _, _, quantity, on_sale = line.shown[max(bisect_right(times, later) - 1, 0)]
            assert not on_sale or quantity == 0, (line.sku, seen)
    with_watch, without = week.lost(True), week.lost(False)
    assert with_watch < without / 2, (with_watch, without)
