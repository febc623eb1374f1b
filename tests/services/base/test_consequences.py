"""What a transaction's changes mean for prices and orders: looked at once, at its end, prices before orders."""

from __future__ import annotations

from collections.abc import Iterator

import pytest
from sqlalchemy import func, select

from amber_lane.data.orders import OrderLine
from amber_lane.data.outbox import Outbox
from amber_lane.data.source import Item
from amber_lane.data.watch import ListingDecision
from amber_lane.services.base import consequences
from amber_lane.services.base.consequences import Repricing
from amber_lane.services.base.context import Context
from amber_lane.services.mapping import bulk_changes
from amber_lane.services.pricing import manual_price

from ...small import Small


@pytest.fixture
def looks(monkeypatch: pytest.MonkeyPatch) -> Iterator[list[str | Repricing]]:
    """Every look at listings and at orders, in their order; each still does its work."""
    seen: list[str | Repricing] = []
    prices, orders = consequences._REPRICE[0], consequences._REROUTE[0]
    monkeypatch.setattr(consequences, "_REPRICE", [lambda context, one: (seen.append(one), prices(context, one))[1]])
    monkeypatch.setattr(consequences, "_REROUTE", [lambda context: (seen.append("orders"), orders(context))[1]])
    yield seen


def test_however_often_it_is_marked_prices_are_looked_at_once_and_before_orders(small: Small, looks: list[str | Repricing]) -> None:
    small.respond()
    looks.clear()

    def change(context: Context) -> None:
        context.reroute()
        for number in (1, 2, 3):
            context.session.get(Item, number).cost += 200
            context.reprice([number], alone=True)
            context.reroute()
        context.reprice([4], alone=True, items={4: 4})
        assert not looks, "nothing is looked at while the change goes on"

    small.write(change)
    first, second = looks
    assert isinstance(first, Repricing) and first.skus == {1, 2, 3, 4} and first.items == {4: 4} and second == "orders"
    assert small.listing(1).landed == 100 + 200 + 100 + 30


def test_what_is_asked_for_otherwise_is_looked_at_by_itself(small: Small, looks: list[str | Repricing]) -> None:
    counts: dict[str, int] = {}

    def change(context: Context) -> None:
        context.reprice([1], alone=True)
        context.reprice([2], seen=True)
        context.reprice([3], alone=True, only={small.listing(3).id})
        context.reprice([4], alone=True, then=counts.update)
        context.reprice(None, alone=True)

    small.write(change)
    asked = [(one.skus, one.how.seen, one.only is not None) for one in looks if isinstance(one, Repricing)]
    assert asked == [(None, False, False), ({2}, True, False), ({3}, False, True), ({4}, False, False)]


def test_what_is_not_kept_is_not_looked_at(small: Small, looks: list[str | Repricing]) -> None:
    def change(context: Context) -> None:
        context.reprice(None)
        context.reroute()
        raise KeyboardInterrupt

    with pytest.raises(KeyboardInterrupt):
        small.write(change)
    assert not looks


def test_one_listing_that_several_changes_of_one_moment_move_is_written_to_its_store_once(small: Small) -> None:
    small.respond()
    row = small.listing(2)
    sent = small.all(select(func.count()).select_from(Outbox).where(Outbox.subject == f"listing:{row.id}"))[0]

    def change(context: Context) -> None:
        manual_price.fix_price(context, row.id, row.version, 4000)
        manual_price.fix_price(context, row.id, row.version + 1, 5000)

    small.write(change)
    bodies = small.all(select(Outbox.body).where(Outbox.subject == f"listing:{row.id}").order_by(Outbox.id))[sent:]
    assert [body["price"] for body in bodies] == ["50.00"]
    decided = small.all(select(ListingDecision.new_price).where(ListingDecision.listing_id == row.id).order_by(ListingDecision.id.desc()))
    assert decided[0] == 5000 and 4000 not in decided


def test_an_order_is_planned_by_the_lanes_that_the_same_transaction_leaves(small: Small) -> None:
    order = small.order("A", ("S-1", 1, 2000), ("S-2", 1, 3000))

    def close(context: Context) -> None:
        bulk_changes.change_many(context, [small.lane(n).id for n in (1, 2)], "shut", "not sent any more")
        states = set(context.session.scalars(select(OrderLine.state).where(OrderLine.order_id == order.id)))
        assert states == {"ready"}, "as it was, until all of it is done"

    small.write(close)
    assert set(small.all(select(OrderLine.state).where(OrderLine.order_id == order.id))) == {"held"}
    assert {small.listing(n).state for n in (1, 2)} == {"paused"}
