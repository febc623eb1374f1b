"""Changes for a store that takes them in batches: each once, in order, whatever is lost; failures alone and with their reason."""

from __future__ import annotations

import time
from collections.abc import Iterator
from typing import Any

import pytest
from sqlalchemy import select

from amber_lane.connectors.described import store as described_store
from amber_lane.connectors.errors import Refused
from amber_lane.connectors.payloads import ListingPayload
from amber_lane.data.outbox import Outbox
from amber_lane.data.setup import Link, Store
from amber_lane.data.shelf import Listing, Sku
from amber_lane.data.turns import TooLong
from amber_lane.jobs.our_faults import TRIES_MAX
from amber_lane.services.alerts import today
from amber_lane.services.delivery import effects
from amber_lane.services.listings import going_live
from amber_lane.services.outbox import listing_changes
from amber_lane.services.partners import connections

from ..business import Business


@pytest.fixture
def fair(business: Business) -> Iterator[Business]:
    """A business that sells at the marketplace too; its listings are brought in and nothing waits."""
    business.at("at the marketplace too", lambda: sell_there(business))
    yield business
    business.world.post("facts", name="fair_pass_minutes", value=10)


def sell_there(business: Business) -> None:
    world = business.world
    for name, value in (("fair_calls", 100_000), ("fair_batch_minutes", 1), ("fair_pass_minutes", 10)):
        world.post("facts", name=name, value=value)
    given = connections.Join("store", "market_api", "", f"{world.address}/fair/api", "dusk-dial:practice-fair")
    with business.app_state.db.writing() as s:
        context = business.context(s)
        store = connections.join_partner(
            context, business.app_state.connectors, given, connections.ask_account(business.app_state.connectors, given)
        )
        going_live.all_on(context, store)
        store.orders_cursor = "1000000"
    business.app_state.reader.listings(2)


def wish(business: Business, price: int, most: int = 100) -> list[str]:
    """Want a new price of the first so many listings. Returns their SKUs."""
    with business.app_state.db.writing() as s:
        context = business.context(s)
        rows = s.scalars(select(Listing).where(Listing.store_id == 2).order_by(Listing.id).limit(most)).all()
        for row in rows:
            listing_changes.want(context, row, price=price)
        return [s.get(Sku, row.sku_id).code for row in rows]


def states(business: Business, price: int) -> dict[str, int]:
    out: dict[str, int] = {}
    text = f"{price // 100}.{price % 100:02d}"
    for row in business.all(select(Outbox).where(Outbox.target == "store:2")):
        if row.body["price"] == text:
            out[row.state] = out.get(row.state, 0) + 1
    return out


def shown(business: Business, sku: str) -> list[int]:
    told = business.world.client.get(f"/world/record/listings/{sku}?store=fair").json()["shown"]
    return [row["price"] for row in told if row["by"] == "api"]


def until_done(business: Business, rounds: int = 30, minutes: float = 2) -> None:
    for _ in range(rounds):
        business.on(minutes)
        business.settle()
        if not business.all(
            select(Outbox.id).where(Outbox.target == "store:2", Outbox.state.in_(("waiting", "claimed", "unknown", "posted")))
        ):
            return
        # A lost call is asked for only when it can no longer be at work.
        business.app_state.worker.delivery.batches.not_before.clear()
    raise AssertionError("changes are still under way")


def test_joining_takes_over_what_the_marketplace_says_of_itself(fair: Business) -> None:
    store = fair.one(select(Store).where(Store.id == 2))
    assert (store.allowance_listings, store.allowance_units, store.currency) == (800, 5200, "GBP")
    from amber_lane.data.setup import Carrier, FeeRow

    fees = {row.category: (row.percent, row.least) for row in fair.all(select(FeeRow).where(FeeRow.store_id == 2))}
    assert fees[""] == (95_000, 30) and fees["optics"] == (70_000, 60)
    assert fair.one(select(Carrier)).store_names["2"] == "Swiftwing"


def test_many_changes_are_one_call_and_its_result_is_fetched_later(fair: Business) -> None:
    skus = wish(fair, 4321)
    before = fair.one(select(Link).where(Link.owner == "store", Link.owner_id == 2)).calls_left
    fair.settle()
    assert states(fair, 4321) == {"posted": len(skus)} and fair.listing_in(2, skus[0]).shown_price != 4321
    after = fair.one(select(Link).where(Link.owner == "store", Link.owner_id == 2))
    assert before is None or before - after.calls_left <= 2
    until_done(fair)
    assert states(fair, 4321) == {"done": len(skus)} and {tuple(shown(fair, sku)[-1:]) for sku in skus} == {(4321,)}
    assert fair.listing_in(2, skus[0]).shown_price == 4321


def test_a_newer_change_waits_for_the_batch_before_it(fair: Business) -> None:
    sku = wish(fair, 5000, 1)[0]
    fair.settle()
    wish(fair, 6000, 1)
    fair.settle()
    assert states(fair, 6000) == {"waiting": 1}
    until_done(fair)
    assert shown(fair, sku)[-2:] == [5000, 6000]


def test_a_part_that_is_put_off_goes_again_by_itself_and_a_newer_wish_takes_its_place(fair: Business) -> None:
    fair.world.dial("fair", "part_fails", 0.4)
    skus = wish(fair, 7000)
    for _ in range(2):
        fair.on(2)
        fair.settle()
    off = fair.all(select(Outbox).where(Outbox.target == "store:2", Outbox.state == "waiting", Outbox.fault == "later"))
    assert off and {row.answer for row in off} == {"the group of this offer is being sorted; send it again later"}
    newer = wish(fair, 7100, 3)
    until_done(fair, 60)
    assert set(states(fair, 7000)) <= {"done", "dropped"} and set(states(fair, 7100)) == {"done"}
    assert {shown(fair, sku)[-1] for sku in skus if sku not in newer} == {7000} and {shown(fair, sku)[-1] for sku in newer} == {7100}


def test_what_is_refused_for_one_reason_is_one_row_and_goes_again_by_one_key(fair: Business) -> None:
    fair.world.post("facts", name="fair_title_most", value=3)
    with fair.app_state.db.writing() as s:
        context = fair.context(s)
        rows = s.scalars(select(Listing).where(Listing.store_id == 2).order_by(Listing.id).limit(5)).all()
        for row in rows:
            row.words_due = True
            listing_changes.want(context, row, price=7300)
    until_done(fair)
    with fair.app_state.db.reading() as s:
        told = [one for one in today.open_alerts(fair.context(s)) if one.kind == "Rejected"]
    assert len(told) == 1 and told[0].count == 5 == len(told[0].members) and "5 changes of listings" in told[0].message
    fair.world.post("facts", name="fair_title_most", value=200)
    with fair.app_state.db.writing() as s:
        today.do_step(fair.context(s), told[0].members[0].key)
    assert states(fair, 7300) == {"waiting": 1, "dead": 4}
    with fair.app_state.db.writing() as s:
        today.do_step(fair.context(s), told[0].key)
    until_done(fair)
    assert states(fair, 7300) == {"done": 5}


@pytest.mark.parametrize("whom", ["the store", "us"])
def test_one_that_is_to_blame_does_not_keep_the_others_from_going(fair: Business, whom: str, monkeypatch: pytest.MonkeyPatch) -> None:
    price = {"the store": 7700, "us": 7800}[whom]
    skus = wish(fair, price, 9)
    wrong, given = {"title": "x", "tags": ["a list is no text"]}, described_store.given_of
    with fair.app_state.db.writing() as s:
        bad = s.scalars(select(Outbox).where(Outbox.target == "store:2", Outbox.state == "waiting").order_by(Outbox.id)).all()[4]
        sku = bad.body["sku"]
        if whom == "us":
            bad.body = {**bad.body, "words": wrong}
        else:
            words = {"tags": wrong["tags"]}
            monkeypatch.setattr(described_store, "given_of", lambda one: given(one) | ({"words": words} if one.sku == sku else {}))
    until_done(fair)
    assert states(fair, price) == {"done": 8, "dead": 1} and [one for one in skus if price not in shown(fair, one)] == [sku]
    with fair.app_state.db.reading() as s:
        fault = s.scalars(select(Outbox.fault).where(Outbox.state == "dead").order_by(Outbox.id.desc())).first()
        assert fault == ("ours" if whom == "us" else "refused") and today.open_alerts(fair.context(s))


@pytest.mark.parametrize("where", ["while it is sent", "while its answer is taken in"])
def test_a_change_that_breaks_something_here_each_time_goes_apart_and_ends_before_a_person(
    fair: Business, where: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    sending = where == "while it is sent"
    price, given, follow = 7900 if sending else 7950, described_store.given_of, effects.follow
    skus = wish(fair, price, 9)

    def picky(one: Any) -> dict[str, Any]:
        assert one.sku != skus[4]
        return given(one)

    def forgetful(context: Any, done: Any) -> None:
        assert all(row.body["sku"] != skus[4] for row, _ in done)
        follow(context, done)

    monkeypatch.setattr(*((described_store, "given_of", picky) if sending else (effects, "follow", forgetful)))
    for _ in range(6):
        fair.on(16)
        fair.settle()
        fair.app_state.worker.delivery.batches.not_before.clear()
    assert states(fair, price).pop("done") == 8, "the others are not held up while it is tried again"
    wish(fair, price + 1, 4)
    until_done(fair, minutes=16)
    assert states(fair, price) == {"done": 8, "dead": 1} and states(fair, price + 1) == {"done": 4}
    stuck = fair.one(select(Outbox).where(Outbox.target == "store:2", Outbox.state == "dead"))
    assert (stuck.body["sku"], stuck.fault, stuck.tries) == (skus[4], "ours", TRIES_MAX) and f"tried {TRIES_MAX} times" in stuck.answer
    assert [sku for sku in skus if price not in shown(fair, sku)] == ([skus[4]] if sending else [])
    with fair.app_state.db.reading() as s:
        assert [one.kind for one in today.open_alerts(fair.context(s)) if stuck.key in one.key or skus[4] in one.message]


def test_a_database_that_others_hold_is_no_fault_of_a_change(fair: Business, monkeypatch: pytest.MonkeyPatch) -> None:
    skus = wish(fair, 7970, 5)
    fair.settle()
    fair.on(2)
    held = iter([TooLong("nobody could write for too long")])

    def follow(context: Any, done: Any) -> None:
        for error in held:
            raise error
        whole(context, done)

    whole = effects.follow
    monkeypatch.setattr(effects, "follow", follow)
    fair.settle()
    rows = fair.all(select(Outbox).where(Outbox.target == "store:2", Outbox.state == "posted"))
    assert next(held, None) is None and len(rows) == 5 and {(row.fault, row.tries) for row in rows} == {("", 1)}
    until_done(fair)
    assert states(fair, 7970) == {"done": 5} and {shown(fair, sku).count(7970) for sku in skus} == {1}


@pytest.mark.parametrize("fault", ["lost_answer", "errors", "malformed", "pass"])
def test_whatever_is_lost_each_change_is_made_once(fair: Business, fault: str) -> None:
    if fault == "pass":
        fair.world.post("facts", name="fair_pass_minutes", value=0.5)
    else:
        fair.world.dial("fair", fault, 0.5)
    # The world is the same for all faults, so each has a price of its own.
    price = 8000 + 10 * len(fault)
    skus = wish(fair, price, 12)
    for _ in range(6):
        fair.on(2)
        fair.settle()
        fair.app_state.worker.delivery.batches.not_before.clear()
        with fair.app_state.db.writing() as s:
            s.scalars(select(Link).where(Link.owner == "store", Link.owner_id == 2)).one().circuit_open_until = None
    fair.world.calm()
    until_done(fair)
    assert states(fair, price) == {"done": len(skus)}
    assert {shown(fair, sku).count(price) for sku in skus} == {1}


def test_killed_between_sending_and_the_answer_the_store_is_asked_first(fair: Business) -> None:
    skus = wish(fair, 9000, 8)
    batches = fair.app_state.worker.delivery.batches
    rows = batches._claim("store:2", 250)
    with fair.app_state.db.reading() as s:
        link = fair.app_state.connectors.store(fair.context(s), 2)
    link.send_batch([ListingPayload.model_validate(row.body).change() for row in rows], rows[0].ticket)
    # The machine dies here; another one comes up.
    again = Business(fair.world, fair.folder, joined=False)
    assert again.app_state.worker.delivery.recover() == 8
    assert again.app_state.worker.delivery.batches.not_before[rows[0].ticket] > time.monotonic()
    until_done(again)
    assert states(again, 9000) == {"done": 8} and {shown(again, sku).count(9000) for sku in skus} == {1}
    again.close()


def test_when_half_of_a_refused_batch_is_lost_the_other_half_still_goes(fair: Business) -> None:
    class Half:
        batch_most = 250

        def __init__(self) -> None:
            self.sizes: list[int] = []

        def send_batch(self, changes: list[Any], key: str) -> None:
            self.sizes.append(len(changes))
            if len(self.sizes) < 3:
                raise Refused("one of these is wrong") if len(self.sizes) == 1 else ValueError("a fault of our own")

    wish(fair, 6600, 6)
    half = Half()
    assert fair.app_state.worker.delivery.batches.run("store:2", half, 100, True) == (9, None)
    assert half.sizes == [6, 3, 3] and states(fair, 6600) == {"unknown": 3, "posted": 3}
    until_done(fair)
    assert states(fair, 6600) == {"done": 6}
