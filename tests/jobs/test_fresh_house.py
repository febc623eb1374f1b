"""A fresh house that joined the practice world and said nothing else: a day goes by, and nothing is sent to anybody."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest
from sqlalchemy import func, select

from amber_lane.data.lanes import Lane
from amber_lane.data.orders import Hold, Order, PurchaseOrder
from amber_lane.data.outbox import Outbox
from amber_lane.data.prices import PriceRule
from amber_lane.data.setup import Store
from amber_lane.data.shelf import Listing
from amber_lane.services.alerts import today
from amber_lane.services.partners import connections, first_steps

from ..business import KEYS, Business


@pytest.mark.parametrize("ruled", [False, True])
def test_nothing_is_sent_for_a_day_before_its_person_says_so(world: Any, tmp_path: Path, ruled: bool) -> None:
    business = Business(world, tmp_path / "house", joined=False)
    with business.app_state.db.writing() as s:
        context = business.context(s)
        for owner, kind, path in (
            ("store", "own_site", "/shop/api"),
            ("supplier", "wholesale_api", "/wholesale/api"),
            ("carrier", "post_api", "/post/api"),
        ):
            given = connections.Join(owner, kind, "", f"{world.address}{path}", KEYS[owner])
            connections.join_partner(
                context, business.app_state.connectors, given, connections.ask_account(business.app_state.connectors, given)
            )
        if ruled:
            s.add(PriceRule(scope="house", scope_key="", rule="margin", rule_value=280_000, endings="95"))
    business.app_state.reader.catalogue(1)
    business.app_state.reader.listings(1)
    before = world.record()
    shown = {row.id: (row.shown_price, row.shown_quantity, row.shown_state) for row in business.all(select(Listing))}
    for hour in range(24):
        if hour % 8 == 3:
            world.post("buy")
        business.round(60)
    after = world.record()
    assert business.one(select(func.count(Lane.id)).where(Lane.closed_at.is_(None))) > 20, "what is sure was mapped"
    assert business.all(select(Order)) and {row.limit for row in business.all(select(Hold).where(Hold.ended.is_(None)))} <= {
        "practice",
        "no_lane",
        "no_stock",
    }
    assert not business.all(select(Outbox)) and not business.all(select(PurchaseOrder))
    for what in ("purchases", "fulfilments"):
        assert after.get(what, []) == before.get(what, []), what
    now = {row.id: (row.wanted_price, row.state) for row in business.all(select(Listing))}
    assert all(now[number] == (price, state) for number, (price, _, state) in shown.items())
    with business.app_state.db.reading() as s:
        context = business.context(s)
        assert first_steps.open_steps(context) and not business.one(select(Store)).write_prices
        assert sum(one.kind == "No rule yet" for one in today.open_alerts(context)) == 0, "it is a first step as long as nothing is written"
    business.close()
