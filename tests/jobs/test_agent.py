"""A closed store worked by a program: nothing lost, done twice or out of order, however often the program dies."""

from __future__ import annotations

import json
import tempfile
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

import httpx
import pytest
from fastapi.testclient import TestClient
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from sqlalchemy import select

from amber_lane.agent import Agent, Office, TokenEnded, main
from amber_lane.api.app import make_app
from amber_lane.clock import WALL
from amber_lane.connectors.kinds import connect
from amber_lane.connectors.protocols import Account, ListingPage, OrderPage, StoreOrder, StoreOrderLine
from amber_lane.data.orders import Order
from amber_lane.data.outbox import AuditEntry, Outbox
from amber_lane.data.setup import Link, Store
from amber_lane.data.shelf import Listing
from amber_lane.services.base.errors import Conflict
from amber_lane.services.delivery import agent_leases
from amber_lane.services.delivery.agent_leases import Report
from amber_lane.services.listings import going_live
from amber_lane.services.outbox import listing_changes
from amber_lane.services.partners import connections

from ..business import Business
from ..small import BUYER, Small


def close_row(small: Small) -> tuple[Small, str]:
    """A house whose second store is closed, with two listings there; and its token."""

    def make(context: Any) -> str:
        store = connections.join_uncalled(context, connections.Join("store", "program", "Closed Row", "", "", "GB", "GBP"))
        going_live.all_on(context, store)
        for number in (1, 2):
            small.list_sku(context.session, number, store.id)
        return agent_leases.make_token(context, store.id)

    return small, small.write(make)


@pytest.fixture
def closed(small: Small) -> tuple[Small, str]:
    return close_row(small)


def wish(small: Small, sku: int, price: int) -> None:
    small.write(
        lambda context: listing_changes.want(
            context, context.session.scalars(select(Listing).where(Listing.sku_id == sku, Listing.store_id == 2)).one(), price=price
        )
    )


def prices(small: Small) -> dict[str, list[str]]:
    out: dict[str, list[str]] = {}
    for row in small.all(select(Outbox).where(Outbox.target == "store:2").order_by(Outbox.id)):
        out.setdefault(row.state, []).append(row.body["price"])
    return out


class Program:
    """Leases and reports by hand, at a wall clock of the test's own."""

    def __init__(self, small: Small, token: str, at: datetime) -> None:
        self.small, self.token, self.at = small, token, at

    def lease(self, run: str) -> list[agent_leases.Handed]:
        return self.small.write(lambda context: agent_leases.lease(context, *agent_leases.enter(context, self.token), run, self.at))

    def report(self, run: str, *told: Report) -> int:
        return self.small.write(lambda context: agent_leases.report(context, *agent_leases.enter(context, self.token), run, self.at, told))


def test_only_the_oldest_of_each_listing_is_handed_out_and_one_program_at_a_time(closed: tuple[Small, str]) -> None:
    small, token = closed
    hand = Program(small, token, WALL.now())
    wish(small, 1, 1100)
    first = hand.lease("run-one-1")
    wish(small, 1, 1200)
    wish(small, 2, 2100)
    assert [one.body["price"] for one in first] == ["11.00"] and [one.body["price"] for one in hand.lease("run-one-1")] == ["21.00"]
    with pytest.raises(Conflict, match="another program"):
        hand.lease("run-two-2")
    assert hand.report("run-one-1", Report(first[0].id, first[0].key, "done")) == 1
    assert [one.body["price"] for one in hand.lease("run-one-1")] == ["12.00"]
    assert small.listing(1, 2).shown_price == 1100


def test_a_lease_that_runs_out_is_handed_on_as_perhaps_done_and_late_words_count_only_as_the_truth(closed: tuple[Small, str]) -> None:
    small, token = closed
    hand = Program(small, token, WALL.now())
    wish(small, 1, 1100)
    one = hand.lease("run-one-1")[0]
    hand.at += timedelta(seconds=61)
    again = hand.lease("run-two-2")[0]
    assert again.id == one.id and again.perhaps_done and not one.perhaps_done
    hand.at += timedelta(seconds=61)
    assert hand.report("run-one-1", Report(one.id, one.key, "refused", "late")) == 0
    assert hand.report("run-one-1", Report(one.id, "another key", "done")) == 0
    assert hand.report("run-one-1", Report(one.id, one.key, "done")) == 1
    assert hand.report("run-one-1", Report(one.id, one.key, "refused")) == 0 and prices(small) == {"done": ["11.00"]}
    with pytest.raises(agent_leases.NoSuchToken):
        Program(small, "lane-wrong", hand.at).lease("run-one-1")
    small.write(lambda context: agent_leases.make_token(context, 2))
    with pytest.raises(agent_leases.NoSuchToken):
        hand.lease("run-one-1")


@settings(deadline=None, max_examples=25, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.lists(st.sampled_from(["wish", "work", "die before", "die after", "fail", "unknown", "wait"]), max_size=14))
def test_however_it_dies_the_store_sees_every_newest_price_in_order(house_file: Path, steps: list[str]) -> None:
    small, token = close_row(Small(Path(tempfile.mkdtemp(dir=house_file.parent)), house_file))
    hand, shop, runs = Program(small, token, WALL.now()), [], 0
    done: set[str] = set()
    price = small.listing(1, 2).wanted_price

    def work(dies: str = "") -> None:
        nonlocal runs
        for one in hand.lease(f"run-{runs:06d}"):
            if dies == "before":
                break
            known = one.perhaps_done and one.key in done
            if dies in ("fail", "unknown"):
                hand.report(
                    f"run-{runs:06d}", Report(one.id, one.key, "failed" if dies == "fail" and not one.perhaps_done else "unknown", dies)
                )
                continue
            if not known:
                shop.append(one.body["price"])
                done.add(one.key)
            if dies != "after":
                hand.report(f"run-{runs:06d}", Report(one.id, one.key, "done"))
        if dies in ("before", "after"):
            runs += 1
            hand.at += timedelta(seconds=61)

    for step in steps:
        if step == "wish":
            price += 100
            wish(small, 1, price)
        elif step == "wait":
            hand.at += timedelta(seconds=61)
            small.later(seconds=400)
        else:
            work("" if step == "work" else step.removeprefix("die "))
    for _ in range(4):
        hand.at += timedelta(seconds=61)
        small.later(seconds=400)
        work()
    assert shop == sorted(set(shop), key=float) and (not shop or float(shop[-1]) * 100 == price)
    assert set(prices(small)) <= {"done", "dropped"}


class Hallway(httpx.BaseTransport):
    """The program's way to the application, without a network."""

    def __init__(self, client: TestClient) -> None:
        self.client = client

    def handle_request(self, request: httpx.Request) -> httpx.Response:
        body = request.read()
        said = self.client.request(request.method, request.url.raw_path.decode(), content=body, headers=dict(request.headers))
        return httpx.Response(
            said.status_code, content=said.content, headers={"content-type": said.headers.get("content-type", "")}, request=request
        )


def test_the_program_brings_listings_and_orders_in_and_carries_changes_out(business: Business) -> None:
    world = business.world
    with business.app_state.db.writing() as s:
        context = business.context(s)
        store = connections.join_uncalled(context, connections.Join("store", "program", "Hearthmade Row", "", "", "GB", "GBP"))
        going_live.all_on(context, store)
        store.orders_cursor = str(max([0, *(one["seq"] for one in world.record()["orders"])]))
        token, number = agent_leases.make_token(context, store.id), store.id
    link = connect("store", "craft_pages", f"{world.address}/craft", "dusk-dial:practice-craft", 5)
    office = Office("http://test", token, Hallway(TestClient(make_app(business.app_state))))
    agent = Agent(office, link, rest=lambda seconds: None)
    bought = world.post("buy", store="craft")["number"]
    agent.once()
    listings = business.all(select(Listing).where(Listing.store_id == number))
    assert len(listings) == 6 and business.one(select(Order).where(Order.store_id == number)).number == bought
    with business.app_state.db.writing() as s:
        context = business.context(s)
        for row in s.scalars(select(Listing).where(Listing.store_id == number)):
            listing_changes.want(context, row, price=4200)
    assert agent.once() == 6 and agent.once() == 0
    told = [
        world.client.get(f"/world/record/listings/{one.body['sku']}?store=craft").json()["shown"][-1]
        for one in business.all(select(Outbox).where(Outbox.target == f"store:{number}", Outbox.kind == "listing"))
    ]
    assert {row["price"] for row in told} == {4200} and {row["by"] for row in told} == {"api"}
    assert business.one(select(Link).where(Link.owner == "store", Link.owner_id == number)).state == "good"
    # The store does not let it in: it says so, and nothing is lost.
    with business.app_state.db.writing() as s:
        listing_changes.want(business.context(s), s.get(Listing, listings[0].id), price=4300)
    locked = Agent(office, connect("store", "craft_pages", f"{world.address}/craft", "dusk-dial:wrong", 5), rest=lambda seconds: None)
    locked.listed = True
    locked.run = agent.run
    locked._changes()
    waiting = business.all(select(Outbox).where(Outbox.target == f"store:{number}", Outbox.state == "waiting"))
    assert [json.loads(json.dumps(row.body))["price"] for row in waiting] == ["43.00"]
    assert "wrong name" in business.one(select(Link).where(Link.owner == "store", Link.owner_id == number)).message
    # A page of listings with their words is large; only of whom nobody knows is it not even read.
    one = {"sku": "L-1", "title": "Lamp", "price": 100, "currency": "GBP", "quantity": 1, "state": "live", "description": "x" * 19_000}
    for word, status in ((token, 200), ("lane-no", 401)):
        page = {"listings": [one | {"sku": f"L-{n}"} for n in range(100)]}
        head = {"Authorization": f"Bearer {word}"}
        answer = TestClient(make_app(business.app_state)).post("/api/v1/program/listings", json=page, headers=head)
        assert answer.status_code == status, answer.text[:300]
    with pytest.raises(TokenEnded):
        Office("http://test", "lane-no", Hallway(TestClient(make_app(business.app_state)))).call("GET", "/hello")
    assert business.one(select(Store).where(Store.id == number)).write_stock


class Pages:
    """A store's pages as the program reads them: one page of orders, one of listings, counted."""

    def __init__(self, orders: list[StoreOrder], unreadable: list[str]) -> None:
        self.incoming, self.unreadable, self.reads = orders, unreadable, 0

    def account(self) -> Account:
        return Account("Closed Row", "GB", "GBP", [], carriers=("other", "hill post"), number="H-1")

    def listings(self) -> Any:
        self.reads += 1
        return iter([ListingPage([])])

    def orders(self, cursor: str) -> OrderPage:
        return OrderPage([] if cursor == "7" else self.incoming, "7", False, [] if cursor == "7" else self.unreadable)


def test_a_bad_order_keeps_no_other_waiting_and_listings_are_read_when_asked(business: Business) -> None:
    with business.app_state.db.writing() as s:
        context = business.context(s)
        store = connections.join_uncalled(context, connections.Join("store", "program", "Closed Row", "", "", "GB", "GBP"))
        going_live.all_on(context, store)
        token, number = agent_leases.make_token(context, store.id), store.id
    orders = [
        StoreOrder(f"C-{n}", business.app_state.clock.now(), "GBP", BUYER, [StoreOrderLine(1, "X-1", quantity, 900)])
        for n, quantity in enumerate((1, 2_000_000, 3))
    ]
    link: Any = Pages(orders, ["order C-9: its date cannot be read"])
    agent = Agent(Office("http://test", token, Hallway(TestClient(make_app(business.app_state)))), link, rest=lambda seconds: None)
    agent.once()
    agent.once()
    assert [one.number for one in business.all(select(Order).where(Order.store_id == number).order_by(Order.id))] == ["C-0", "C-2"]
    told = [one.message for one in business.all(select(AuditEntry).where(AuditEntry.kind == "order.unreadable").order_by(AuditEntry.id))]
    assert len(told) == 2 and "C-9" in told[0] and "C-1" in told[1] and "quantity" in told[1]
    with business.app_state.db.writing() as s:
        agent_leases.ask_to_read(business.context(s), business.context(s).get(Store, number, "store"))
    agent.once()
    agent.once()
    assert link.reads == 2


def test_the_command_says_why_it_cannot_go_on(capsys: pytest.CaptureFixture[str]) -> None:
    asked = ["--token", "lane-x", "--key", "a:b", "--store", "http://127.0.0.1:9", "--at", "http://127.0.0.1:9", "--once"]
    assert main(asked) == 2 and "refused" in capsys.readouterr().err.lower()
    assert main([*asked, "--kind", "by hand"]) == 2 and "it is one of craft_pages" in capsys.readouterr().err
    with pytest.raises(SystemExit):
        main(["--store", "http://127.0.0.1:9"])
