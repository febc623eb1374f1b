"""What the worker does by itself, over HTTP: rates, items told one a call, saved searches, publishing, a key that opens nothing, one at a time."""

from __future__ import annotations

import json
import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import httpx
from sqlalchemy import select, update

from amber_lane.data.outbox import Job, Outbox
from amber_lane.data.prices import Rate
from amber_lane.data.setup import Link, RateSource, Supplier
from amber_lane.data.shelf import Listing
from amber_lane.data.source import Item, SavedSearch
from amber_lane.data.watch import Sweep
from amber_lane.services.alerts import today
from amber_lane.services.base import regional
from amber_lane.services.base.job_queue import start
from amber_lane.services.catalogue.search import Search
from amber_lane.services.listings import preparation
from amber_lane.services.outbox.listing_changes import want
from amber_lane.services.partners import connections
from amber_lane.services.sourcing import saved_searches
from amber_lane.settings import Settings

from ..browser.conftest import WEB, Served
from ..business import KEYS, Business


def until(check: Callable[[], object], within: float = 15.0) -> None:
    end = time.monotonic() + within
    while not check():
        assert time.monotonic() < end, "it did not come about in time"
        time.sleep(0.05)


def join(business: Business, owner: str, kind: str, path: str, key: str) -> None:
    with business.app_state.db.writing() as s:
        given = connections.Join(owner, kind, "", f"{business.world.address}{path}", key)
        registry = business.app_state.connectors
        connections.join_partner(business.context(s), registry, given, connections.ask_account(registry, given))


def test_rates_are_read_by_the_clock_and_an_odd_one_waits(business: Business) -> None:
    with business.app_state.db.writing() as s:
        regional.set_place(business.context(s), regional.Place("IE", "Europe/Dublin", currency="EUR"))
    join(business, "rates", "rates_api", "/bank/api", "practice-bank")
    business.round()
    first = business.one(select(Rate).where(Rate.base == "GBP", Rate.quote == "EUR"))
    assert abs(first.nano / 1e9 - 1.19) < 0.1 and business.one(select(RateSource)).next_ask > business.app_state.clock.now()
    business.round(24 * 60)
    rates = business.all(select(Rate).where(Rate.base == "GBP", Rate.quote == "EUR").order_by(Rate.day))
    assert rates[-1].day > first.day and len({one.nano for one in rates}) == len(rates)


def test_a_supplier_that_tells_one_item_a_call_is_swept_and_costs_follow(business: Business) -> None:
    join(business, "supplier", "retail_site", "/retail/api", "practice-sable")
    retail = business.one(select(Supplier).where(Supplier.kind == "retail_site")).id
    numbers = business.world.client.get("/world/record/numbers", params={"supplier": "retail"}).json()["numbers"][:3]
    business.app_state.reader.catalogue(retail)
    fresh, failed = business.app_state.reader.items(retail, [*numbers, "SR-none"])
    assert fresh == 3 and failed == {"SR-none": "the supplier does not have it"}
    item = business.one(select(Item).where(Item.number == numbers[0]))
    business.world.post("items", number=numbers[0], supplier="retail", cost=item.cost * 104 // 100)
    calls = business.one(select(Supplier).where(Supplier.id == retail)).sweep_minutes
    for _ in range(8):
        business.round(max(calls, 60))
    assert business.one(select(Item.cost).where(Item.number == numbers[0])) == item.cost * 104 // 100
    sweep = business.all(select(Sweep).where(Sweep.supplier_id == retail, Sweep.state == "good").order_by(Sweep.id.desc()))[0]
    assert 1 <= sweep.calls <= 4


def test_a_saved_search_reports_and_a_published_listing_reaches_the_store(business: Business) -> None:
    house = business.app_state
    with house.db.writing() as s:
        saved_searches.save(business.context(s), "All there is", Search(1, ""), 12, 5, "report")
    business.round(1)
    business.round(13 * 60)
    later, begun = business.one(select(SavedSearch.reports))
    assert begun["fit"] == begun["fresh"] > 20 and later["fresh"] == 0
    with house.db.writing() as s:
        context = business.context(s)
        found = house.finder.find(context, Search(1, "", ours="no", sort="profit", limit=2))
        made = [one.listing for one in preparation.prepare(context, house.finder, found.ids, 1) if one.listing]
        assert made
        for number in made:
            listing = context.get(Listing, number, "listing")
            listing.description, listing.category = "<p>As it says.</p>", listing.category or "lights"
        start(context, "publish", "publish-test", "Publishing", {"listings": made})
    business.round(1)
    business.settle(2)
    told = json.loads(json.dumps(business.one(select(Job).where(Job.key == "publish-test")).result))
    shown = business.all(select(Listing).where(Listing.id.in_(told["sent"])))
    assert told["sent"] or told["failed"]
    assert all(one.state == "live" and one.shown_price == one.wanted_price for one in shown)


def test_a_key_that_opens_nothing_is_told_and_nothing_is_lost(business: Business) -> None:
    sku, _ = business.laned(2)
    with business.app_state.db.writing() as s:
        s.execute(update(Link).where(Link.owner == "store").values(sealed_key="not sealed by us"))
        listing = s.get(Listing, business.listing(sku).id)
        want(business.context(s), listing, price=listing.wanted_price + 100)
    before = business.world.shown(sku)[-1]["price"]
    business.settle()
    link = business.one(select(Link).where(Link.owner == "store"))
    assert link.state == "broken" and business.world.shown(sku)[-1]["price"] == before
    assert (
        business.one(select(Outbox.state).where(Outbox.subject == f"listing:{business.listing(sku).id}", Outbox.state != "done"))
        == "waiting"
    )
    with business.app_state.db.writing() as s:
        context, registry = business.context(s), business.app_state.connectors
        assert any(one.key.kind == "link" for one in today.open_alerts(context))
        given = connections.Join("store", "own_site", "", link.address, KEYS["store"])
        connections.renew_key(context, registry, "store", 1, "", KEYS["store"], connections.ask_account(registry, given))
    business.settle()
    assert business.world.shown(sku)[-1]["price"] == before + 100


def test_one_worker_at_a_time_and_what_the_last_had_in_hand_is_asked_about(business: Business) -> None:
    first, second = business.open(), business.open()
    try:
        first.worker.start()
        until(lambda: first.worker.scheduler.running)
        second.worker.start()
        with business.app_state.db.writing() as s:
            row = Outbox(
                kind="listing",
                key="k-1",
                target="store:9",
                subject="listing:9",
                body={},
                made_at=business.app_state.clock.now(),
                after=business.app_state.clock.now(),
                state="claimed",
            )
            s.add(row)
        until(lambda: first.worker.scheduler.get_job("delivery") is not None)
        assert not second.worker.scheduler.running
        first.worker.stop()
        until(lambda: second.worker.scheduler.running)
        assert business.one(select(Outbox.state).where(Outbox.key == "k-1")) == "unknown"
    finally:
        for one in (first, second):
            one.worker.stop()
            one.db.close()


@dataclass
class Stream:
    """The stream of the pulse, a message at a time."""

    lines: httpx.Response

    def __post_init__(self) -> None:
        self.rows = self.lines.iter_lines()

    def next(self) -> dict:
        for line in self.rows:
            if line.startswith("data:") and "tables" in line:
                return json.loads(line.removeprefix("data:"))
        raise AssertionError("the stream ended")


def test_a_page_is_told_at_once_when_something_changes(business: Business, tmp_path: Path) -> None:
    served = Served(Settings(data=business.folder, world=business.world.address, call_deadline=2, jobs=False, web=WEB / "dist"))
    try:
        with httpx.Client(base_url=served.address, headers={"x-amber-lane": "1"}, timeout=20, trust_env=False) as client:
            who = {"mail": "tester@amber-lane.example", "password": "long-enough-word"}
            assert client.post("/api/v1/session", json=who).is_success
            with client.stream("GET", "/api/v1/events") as lines:
                stream = Stream(lines)
                first = stream.next()
                assert first["house"]["home"] == "GBP" and first["practice"]
                with served.app_state.db.writing() as s:
                    regional.set_place(business.context(s), regional.Place("IE", "Europe/Dublin", currency="EUR"))
                later = stream.next()
                while later["tables"] == first["tables"]:
                    later = stream.next()
                assert later["house"]["home"] == "EUR" and later["house"]["zone"] == "Europe/Dublin"
    finally:
        served.stop()
