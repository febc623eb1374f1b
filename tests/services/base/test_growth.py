"""Twice the house costs at most 2.6 times as much of the processor: every look, and every act on many rows. The bench measures the
same in large, by the clock; here others run beside."""

from __future__ import annotations

import statistics
import time
from collections.abc import Callable, Iterator
from typing import Any

import pytest
from fastapi.testclient import TestClient
from sqlalchemy import select, update

from amber_lane.api.app import make_app, make_app_state
from amber_lane.data.prices import PriceRule
from amber_lane.data.shelf import Listing
from amber_lane.data.source import Item
from amber_lane.services.base.context import Context
from amber_lane.services.listings import on_sale
from amber_lane.services.mapping import performance
from amber_lane.settings import Settings
from bench.house.looks import looks

from ...growth import Grown

SMALL, MOST, NOTHING = 6_000, 2.6, 0.02


class GrownHouse(Grown):
    """A made house of n SKUs that is asked and changed without a server around it."""

    def __init__(self, folder: Any, n: int) -> None:
        super().__init__(folder, n)
        self.app_state = make_app_state(Settings(data=folder, database_url=f"sqlite:///{folder / 'house.db'}", jobs=False))
        self.client = TestClient(make_app(self.app_state), headers={"X-Amber-Lane": "1"})
        self.client.post(
            "/api/v1/session/first",
            json={
                "mail": "g@amber-lane.example",
                "password": "long-enough-word",
                "name": "Growth",
                "country": "GB",
                "zone": "Europe/London",
            },
        )

    def look(self, path: str, body: dict[str, Any] | None) -> float:
        begun = time.process_time()
        answer = self.client.get(f"/api/v1{path}") if body is None else self.client.post(f"/api/v1{path}", json=body)
        assert answer.status_code < 400, (path, answer.text[:200])
        return time.process_time() - begun

    def act(self, does: Callable[[Context], Any]) -> float:
        begun = time.process_time()
        with self.db.writing() as s:
            does(self.context(s))
        self.portions.run_due()
        return time.process_time() - begun


@pytest.fixture(scope="module")
def houses(tmp_path_factory: pytest.TempPathFactory, module_patch: pytest.MonkeyPatch) -> Iterator[list[GrownHouse]]:
    module_patch.setattr("amber_lane.jobs.portions.REST", 0.0)
    made = [GrownHouse(tmp_path_factory.mktemp(f"house-{n}"), n) for n in (SMALL, 2 * SMALL)]
    yield made
    for one in made:
        one.client.close()
        one.db.close()
        one.app_state.db.close()


@pytest.fixture(scope="module")
def module_patch() -> Iterator[pytest.MonkeyPatch]:
    with pytest.MonkeyPatch.context() as patch:
        yield patch


def grows(one: float, two: float) -> float:
    """How much more the second is; what takes next to nothing counts as that."""
    return max(two, NOTHING) / max(one, NOTHING)


def test_no_look_grows_faster_than_the_house(houses: list[GrownHouse]) -> None:
    told: dict[str, float] = {}
    for small, large in zip(*(looks(house.n) for house in houses), strict=True):
        pairs = []
        for _ in range(3):
            pairs.append([house.look(look.path, look.body) for house, look in zip(houses, (small, large), strict=True)])
            if grows(*pairs[-1]) <= MOST and len(pairs) > 1:
                break
        told[small.name] = min(grows(*pair) for pair in pairs)
    bad = {name: round(growth, 2) for name, growth in told.items() if growth > MOST}
    assert not bad, bad
    assert statistics.median(told.values()) < 2


def off_sale(house: GrownHouse, rows: int, on: bool) -> float:
    ids = house.db
    with ids.reading() as s:
        some = list(s.scalars(select(Listing.id).where(Listing.state == ("paused" if on else "live")).order_by(Listing.id).limit(rows)))
    return house.act(lambda context: on_sale.set_on_sale(context, some, on))


ACTS: dict[str, Callable[[GrownHouse, int], float]] = {
    "off sale": lambda house, n: off_sale(house, n, False),
    "back on sale": lambda house, n: off_sale(house, n, True),
    "a rule for a part": lambda house, n: house.act(
        lambda context: (
            context.session.execute(update(PriceRule).values(rule_value=PriceRule.rule_value + 20_000)),
            context.reprice(range(1, n + 1), seen=True),
        )
    ),
    "costs that moved": lambda house, n: house.act(
        lambda context: (
            context.session.execute(update(Item).where(Item.id <= 3 * n).values(cost=Item.cost + 9)),
            context.reprice(range(1, n + 1), seen=True),
        )
    ),
    "the look at trust": lambda house, n: house.act(lambda context: performance.seen(context)),
}


@pytest.mark.parametrize("name", list(ACTS))
def test_no_act_grows_faster_than_its_rows_whatever_waits(houses: list[GrownHouse], name: str) -> None:
    """Twice the rows in a house of twice the size, where twice as much waits to be sent."""
    # The middle of what each round says, the two side by side: others that run beside make either of the two slow now and then,
    # and a house that sends again and again is another one each time.
    took = [[ACTS[name](house, house.n // 10) for house in houses] for _ in range(5)]
    assert statistics.median(grows(*pair) for pair in took) <= MOST, took
