"""An answer says of which tables it was made: a page asks again for what is old, and for nothing else."""

from __future__ import annotations

import asyncio
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from typing import Any, NamedTuple

import pytest
from fastapi.testclient import TestClient
from sqlalchemy import update

from amber_lane.api.app import make_app
from amber_lane.api.pulse import Live, pulse_of
from amber_lane.data import revisions
from amber_lane.data.lanes import Lane
from amber_lane.data.orders import Order
from amber_lane.data.outbox import AuditEntry
from amber_lane.data.prices import PriceRule
from amber_lane.data.setup import Store, Supplier
from amber_lane.data.shelf import Listing, Sku
from amber_lane.data.source import Item
from tests.business import Business

OURS = {"X-Amber-Lane": "1"}
API = "/api/v1"
CHANGED = (
    (Sku.title, "Another lamp"),
    (Item.title, "Another title"),
    (Listing.wanted_price, 4321),
    (Store.name, "Another shop"),
    (Supplier.name, "Another house"),
    (Order.buyer, "Another buyer"),
    (Lane.priority, 7),
    (AuditEntry.message, "Another act"),
    (PriceRule.min_profit, 987),
)
# These stream, or give a file away.
NOT_ASKED = ("/events", "/sheets/", "/pictures/", "/documents", "/labels", "/slips", ".pdf", "/backups")


class Answer(NamedTuple):
    body: Any
    made_of: dict[str, int]


@pytest.fixture
def client(business: Business) -> Iterator[TestClient]:
    clock = business.app_state.clock
    clock.set(clock.now(), 0.0)
    with TestClient(make_app(business.app_state), headers=OURS) as client:
        signed = client.post(f"{API}/session", json={"mail": "tester@amber-lane.example", "password": "long-enough-word"})
        assert signed.status_code == 200, signed.text
        yield client


def answers(client: TestClient, paths: list[str]) -> dict[str, Answer]:
    found = {}
    for path in paths:
        got = client.get(path)
        if got.status_code == 200 and "json" in got.headers["content-type"]:
            said = got.headers.get("x-made-of", "")
            found[path] = Answer(got.json(), {name: int(n) for name, n in (one.split(":") for one in said.split())})
    return found


def test_what_an_answer_does_not_name_does_not_change_it(business: Business, client: TestClient) -> None:
    for place in (0, 1):
        business.buy(sku=business.laned(place)[0], quantity=1)
    document = client.get("/api/openapi.json").json()["paths"]
    paths = [
        path.replace("{kind}", "order").format_map(_Firsts())
        for path, calls in document.items()
        if "get" in calls and not any(part in path for part in NOT_ASKED)
    ]
    before = answers(client, paths)
    before = {path: one for path, one in before.items() if one.made_of}
    assert len(before) > 60, "most answers say it"
    spared = told = 0
    # Each changes what is seen of one table alone; what an act does touches many at once, and would hide a name that is missing.
    for column, value in CHANGED:
        with business.app_state.db.writing() as s:
            s.execute(update(column.class_).values({column.key: value}))
            s.flush()
        with business.app_state.db.reading() as s:
            tables = revisions.of(s)
        after = answers(client, list(before))
        for path, had in before.items():
            if all(tables.get(name, 0) <= n for name, n in had.made_of.items()):
                spared += 1
                assert after[path].body == had.body, f"{path} shows {column}, and does not say that it was made of it"
            told += after[path].body != had.body
        before = after
    assert told > 30, "the changes are seen"
    assert spared > 4 * len(before), "and what others do makes a page ask for little again"


class _Firsts(dict[str, str]):
    """The first of whatever stands in a path."""

    def __missing__(self, _: str) -> str:
        return "1"


def test_a_page_hears_what_changed_while_it_was_being_told_of_the_last(business: Business, monkeypatch: pytest.MonkeyPatch) -> None:
    class Request:
        async def is_disconnected(self) -> bool:
            return False

    async def listen() -> list[str]:
        live = Live(business.app_state)
        monkeypatch.setattr(live, "_still", lambda _: True)
        told = live.listen(Request(), 1)  # type: ignore[arg-type]
        await anext(told)
        for name in ("first", "second"):
            # Nobody waits at this moment: whoever listens is between two pulses.
            live.latest = pulse_of(business.app_state).model_copy(update={"tables": {name: 1}})
            live.told += 1
            if name == "first":
                first = await asyncio.wait_for(anext(told), 20)
        second = await asyncio.wait_for(anext(told), 20)
        return [first["data"], second["data"]]

    # In a thread of its own: a browser's tests leave a loop running in this one.
    with ThreadPoolExecutor(1) as beside:
        first, second = beside.submit(asyncio.run, listen()).result()
    assert '"first":1' in first and '"second":1' in second
