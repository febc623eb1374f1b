"""The outbox: in order for each thing, once each, patient with a partner in trouble, and never sure of what it cannot know."""

from __future__ import annotations

from collections import Counter
from datetime import timedelta
from itertools import pairwise
from typing import Any

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from sqlalchemy import delete, select, update

from amber_lane.connectors.errors import CannotAsk, Denied, Malformed, Postponed, RateLimited, Refused, Unavailable, UnknownOutcome
from amber_lane.connectors.protocols import PurchaseAnswer
from amber_lane.data.orders import OrderLine, PurchaseOrder
from amber_lane.data.outbox import Outbox
from amber_lane.data.setup import Link
from amber_lane.data.shelf import Listing
from amber_lane.data.transit import Message, PassedOn
from amber_lane.data.turns import TooLong
from amber_lane.jobs.delivery import Delivery
from amber_lane.jobs.our_faults import TRIES_MAX
from amber_lane.services.alerts import today
from amber_lane.services.base.context import Context
from amber_lane.services.base.errors import Conflict
from amber_lane.services.delivery import effects
from amber_lane.services.fulfilment import parcel_tracking
from amber_lane.services.listings import going_live
from amber_lane.services.orders import orders
from amber_lane.services.outbox import listing_changes, queue
from amber_lane.services.purchasing import purchase_orders

from ..small import Small


class Outside:
    """A partner that does what a script says: for each call 'fine', or the name of a failure."""

    def __init__(self) -> None:
        self.script: list[str] = []
        self.calls: list[tuple[str, str]] = []
        self.has: dict[str, Any] = {}
        self.deadline = 0.0
        self.meanwhile: Any = None
        self.cannot_ask = False

    batch_most = 0

    def store(self, context: Context, number: int) -> Outside:
        return self

    supplier = mailbox = store

    def budget(self) -> None:
        return None

    def _do(self, name: str, key: str, value: Any) -> Any:
        self.calls.append((name, key))
        if self.meanwhile:
            self.meanwhile, then = None, self.meanwhile
            then()
        turn = self.script.pop(0) if self.script else "fine"
        if turn in ("fine", "lost"):
            self.has[key] = value
        if turn != "fine":
            raise {
                "lost": UnknownOutcome("no answer in time"),
                "away": UnknownOutcome("no answer in time"),
                "down": Unavailable("cannot be reached"),
                "busy": RateLimited("too many calls", 3.0),
                "torn": Malformed("the answer is torn"),
                "later": Postponed("423: not now"),
                "no": Refused("422: not like this"),
                "key": Denied("401: wrong key"),
                "broken": RuntimeError("a fault of ours"),
            }[turn]
        return value

    def change_listing(self, change: Any, key: str) -> None:
        self._do("change", key, change)

    def find_change(self, change: Any, key: str) -> bool:
        self.calls.append(("ask", key))
        return key in self.has

    def buy(self, purchase: Any) -> PurchaseAnswer:
        return self._do("buy", purchase.reference, PurchaseAnswer(purchase.reference, "N", "accepted", "", None, None))

    def find_purchases(self, keys: list[str]) -> list[Any]:
        self.calls.extend(("ask", key) for key in keys)
        return [self.has[key] for key in keys if key in self.has]

    def fulfil(self, order: str, tracking: Any, key: str) -> None:
        self._do("fulfil", key, tracking)

    def find_fulfilment(self, order: str, key: str) -> bool:
        return key in self.has

    def cancel(self, order: str) -> None:
        self._do("cancel", order, True)

    def send(self, mail: Any) -> None:
        self._do("mail", mail.reference, mail)

    def find_mail(self, key: str) -> bool:
        if self.cannot_ask:
            raise CannotAsk("nobody can be asked")
        return key in self.has


@pytest.fixture
def outside() -> Outside:
    return Outside()


@pytest.fixture
def delivery(small: Small, outside: Outside) -> Delivery:
    small.write(lambda context: context.session.execute(delete(Outbox)))
    return Delivery(small.db, small.clock, outside)  # type: ignore[arg-type]


def deliver(small: Small, delivery: Delivery, rounds: int = 1, to: str = "") -> None:
    for _ in range(rounds):
        for target in delivery.targets():
            if target.startswith(to):
                delivery.run(target)
        small.later(minutes=10)


def want(small: Small, number: int, price: int) -> None:
    small.write(lambda context: listing_changes.want(context, context.get(Listing, number, "listing"), price=price))


def rows(small: Small, kind: str) -> list[Outbox]:
    return small.all(select(Outbox).where(Outbox.kind == kind).order_by(Outbox.id))


def test_the_newest_wish_is_what_is_shown_and_what_was_overtaken_is_never_sent(small: Small, delivery: Delivery, outside: Outside) -> None:
    for price in (500, 600, 700):
        want(small, 1, price)
    want(small, 2, 900)
    deliver(small, delivery)
    assert [row.state for row in rows(small, "listing")] == ["dropped", "dropped", "done", "done"]
    assert sorted(outside.has[key].price for _, key in outside.calls) == [700, 900]
    row = small.listing(1)
    assert (row.shown_price, row.wanted_price, row.shown_at is not None) == (700, 700, True)


@settings(max_examples=40, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.lists(st.sampled_from(["fine", "lost", "away", "down", "busy", "torn"]), max_size=10))
def test_whatever_happens_on_the_way_an_order_is_bought_once(small: Small, script: list[str]) -> None:
    outside = Outside()
    delivery = Delivery(small.db, small.clock, outside)  # type: ignore[arg-type]
    number = f"O-{len(small.all(select(PurchaseOrder.id)))}"
    small.write(lambda context: context.session.execute(update(Link).values(failures=0, circuit_open_until=None)))
    order = small.order(number, ("S-1", 1, 900))
    if small.all(select(OrderLine.state).where(OrderLine.order_id == order.id)) != ["ready"]:
        return
    small.write(lambda context: purchase_orders.send(context, [order.id]))
    outside.script = list(script)
    deliver(small, delivery, rounds=len(script) + 2, to="supplier")
    bought = Counter(key for name, key in outside.calls if name == "buy" and key in outside.has)
    row = rows(small, "purchase")[-1]
    assert row.state == "done" and outside.has.keys() == {row.key}
    # It was sent again only where it surely had not arrived: every call after the one that worked was a question.
    worked = next(i for i, (name, _) in enumerate(outside.calls) if name == "buy" and i >= 0 and _did(outside, script, i))
    assert all(name == "ask" for name, _ in outside.calls[worked + 1 :]) and bought[row.key] >= 1
    assert small.all(select(OrderLine.state).where(OrderLine.order_id == order.id)) == ["with_supplier"]


def _did(outside: Outside, script: list[str], at: int) -> bool:
    """Whether the call at a place did its work, by what the script said then."""
    turn = [name for name, _ in outside.calls[: at + 1]].count("buy") - 1
    return (script[turn] if turn < len(script) else "fine") in ("fine", "lost")


def test_a_worker_that_dies_after_the_call_asks_before_anything_else(small: Small, delivery: Delivery, outside: Outside) -> None:
    order = small.order("A", ("S-1", 1, 900))
    small.write(lambda context: purchase_orders.send(context, [order.id]))

    def died(context: Context) -> None:
        context.session.execute(update(Outbox).where(Outbox.kind == "purchase").values(state="claimed", tries=1, claimed_at=context.now))

    small.write(died)
    key = rows(small, "purchase")[0].key
    outside.has[key] = PurchaseAnswer(key, "N", "accepted", "", None, None)
    assert delivery.recover() == 1 and rows(small, "purchase")[0].state == "unknown"
    deliver(small, delivery, to="supplier")
    assert outside.calls == [("ask", key)] and rows(small, "purchase")[0].state == "done"


@pytest.mark.parametrize(
    ("turn", "state"),
    [("no", "dead"), ("key", "waiting"), ("down", "waiting"), ("busy", "waiting"), ("torn", "waiting"), ("away", "unknown")],
)
def test_each_failure_has_its_own_way_on(small: Small, delivery: Delivery, outside: Outside, turn: str, state: str) -> None:
    want(small, 1, 777)
    outside.script = [turn]
    deliver(small, delivery)
    row = rows(small, "listing")[0]
    assert row.state == state and row.answer and small.listing(1).shown_price != 777
    small.later(minutes=10)
    deliver(small, delivery)
    assert (rows(small, "listing")[0].state == "done") is (state != "dead")


@pytest.mark.parametrize("turn", ["torn", "later"])
def test_tries_grow_apart_never_end_by_themselves_and_are_told(small: Small, delivery: Delivery, outside: Outside, turn: str) -> None:
    want(small, 1, 777)
    outside.script = [turn] * (TRIES_MAX + 3)
    waits = []
    for _ in range(TRIES_MAX + 3):
        now = small.clock.now()
        delivery.run("store:1")
        waits.append((rows(small, "listing")[0].after - now) / timedelta(seconds=1))
        small.later(minutes=10)
    row = rows(small, "listing")[0]
    assert row.state == "waiting" and len(outside.calls) == TRIES_MAX + 3
    assert all(later > 1.3 * sooner for sooner, later in pairwise(waits[:7])) and max(waits) <= 360
    with small.db.reading() as s:
        told = [one for one in today.open_alerts(small.context(s)) if one.kind == "Not taken yet"]
    assert len(told) == 1 and told[0].count == 1 and row.answer in told[0].reason
    small.write(lambda context: today.do_step(context, told[0].key))
    delivery.run("store:1")
    assert rows(small, "listing")[0].state == "done" and small.listing(1).shown_price == 777


def test_what_breaks_here_each_time_ends_before_a_person(small: Small, delivery: Delivery, outside: Outside) -> None:
    want(small, 1, 777)
    outside.script = ["broken"] * TRIES_MAX * 2
    for _ in range(TRIES_MAX):
        delivery.not_before.clear()
        delivery.run("store:1")
        small.later(minutes=10)
    row = rows(small, "listing")[0]
    assert (row.state, row.fault) == ("dead", "ours") and "something broke here" in row.answer


def test_a_newer_wish_never_waits_behind_one_that_is_not_taken(small: Small, delivery: Delivery, outside: Outside) -> None:
    want(small, 1, 777)
    ours = small.db

    def meanwhile() -> None:
        with ours.writing() as s:
            listing_changes.want(small.context(s), s.scalars(select(Listing).where(Listing.sku_id == 1)).one(), price=888)

    outside.script, outside.meanwhile = ["later"], meanwhile
    delivery.run("store:1")
    assert [row.state for row in rows(small, "listing")] == ["dropped", "waiting"]
    delivery.run("store:1")
    assert small.listing(1).shown_price == 888


def test_a_partner_in_trouble_is_left_alone_and_nothing_is_lost(small: Small, delivery: Delivery, outside: Outside) -> None:
    for number in range(1, 7):
        want(small, number, 777)
    outside.script = ["down"] * 100
    for _ in range(10):
        delivery.run("store:1")
        small.later(seconds=20)
    link = small.all(select(Link).where(Link.owner == "store"))[0]
    assert link.failures >= 5 and link.circuit_open_until and link.state == "failing" and "cannot be reached" in link.message
    calls = len(outside.calls)
    small.write(lambda context: context.session.execute(update(Link).values(circuit_open_until=context.now + timedelta(minutes=1))))
    delivery.run("store:1")
    assert len(outside.calls) == calls, "while it rests nobody calls"
    outside.script = []
    deliver(small, delivery, rounds=3)
    assert {row.state for row in rows(small, "listing")} == {"done"} and small.all(select(Link.state).where(Link.owner == "store")) == [
        "good"
    ]


def test_writing_turned_off_takes_back_what_waits_but_not_a_buyers_number(small: Small, delivery: Delivery, outside: Outside) -> None:
    order, other = small.order("A", ("S-1", 1, 900)), small.order("B", ("S-2", 1, 1500))
    made = small.write(lambda context: purchase_orders.send(context, [order.id]))[0]
    want(small, 3, 999)
    for what in ("prices", "stock"):
        small.write(lambda context, what=what: going_live.turn_off(context, 1, None, what))
    with pytest.raises(Conflict, match="not written yet"):
        want(small, 3, 950)
    deliver(small, delivery)
    small.write(lambda context: parcel_tracking.enter_tracking(context, made.reference, "RR473124829GB", "Hill Post"))
    small.write(lambda context: orders.cancel(context, other.id))
    deliver(small, delivery, rounds=2)
    assert Counter(name for name, _ in outside.calls) == Counter(["buy", "fulfil", "mail", "cancel"])
    assert [row.state for row in rows(small, "listing")][-1] == "dropped"
    assert small.all(select(PassedOn.confirmed_at))[0] is not None and small.all(select(Message.state)) == ["sent"]
    assert small.listing(3).wanted_price == small.listing(3).shown_price == 1000, "what is not written is what the store shows"


def test_a_number_and_its_mail_go_once_however_often_it_is_told(small: Small, delivery: Delivery, outside: Outside) -> None:
    order = small.order("A", ("S-1", 2, 900))
    made = small.write(lambda context: purchase_orders.send(context, [order.id]))[0]
    deliver(small, delivery)
    for _ in range(3):
        small.write(lambda context: parcel_tracking.enter_tracking(context, made.reference, " rr 473124829 gb ", "hill post"))
        deliver(small, delivery)
    assert Counter(name for name, _ in outside.calls if name != "change") == Counter(buy=1, fulfil=1, mail=1)
    mail = next(value for key, value in outside.has.items() if key.startswith("mail-"))
    assert "RR473124829GB" in mail.body and "2 × " in mail.body and mail.to == "wren@post.example"


def test_a_refused_change_is_not_sent_after_a_newer_one_that_was_decided_meanwhile(
    small: Small, delivery: Delivery, outside: Outside
) -> None:
    want(small, 1, 700)

    def in_hand(context: Context) -> None:
        context.session.execute(update(Outbox).values(state="claimed", tries=1, claimed_at=context.now))

    small.write(in_hand)
    want(small, 1, 900)
    small.write(
        lambda context: context.session.execute(update(Outbox).where(Outbox.state == "claimed").values(state="dead", answer="422: no"))
    )
    deliver(small, delivery)
    old = rows(small, "listing")[0]
    small.write(lambda context: queue.retry(context, old.id))
    deliver(small, delivery, rounds=2)
    assert [row.state for row in rows(small, "listing")] == ["dropped", "done"] and small.listing(1).shown_price == 900
    assert [outside.has[key].price for _, key in outside.calls] == [900]


def test_a_fault_of_ours_holds_up_its_own_row_and_ends_before_a_person(small: Small, delivery: Delivery, outside: Outside) -> None:
    want(small, 1, 1100)
    want(small, 2, 1200)
    outside.script = ["broken"] * 40
    outside.change_listing = lambda change, key: outside._do("change", key, change) if change.sku == "S-1" else None  # type: ignore[method-assign]
    deliver(small, delivery, 3)
    rows = {row.body["sku"]: row for row in small.all(select(Outbox).where(Outbox.kind == "listing"))}
    assert rows["S-2"].state == "done" and rows["S-1"].state == "unknown" and "broke here" in rows["S-1"].answer
    assert small.all(select(Link.failures).where(Link.owner == "store")) == [0], "the store is not to blame"
    small.later(days=1)
    deliver(small, delivery, 40)
    assert small.all(select(Outbox.state).where(Outbox.id == rows["S-1"].id)) == ["dead"]


@pytest.mark.parametrize("where", ["buy", "find_purchases"])
def test_a_purchase_that_breaks_here_leaves_the_next_one_to_be_bought(
    small: Small, delivery: Delivery, outside: Outside, where: str
) -> None:
    """Purchases go one by one, so what the first one did is known before the second: a fault of ours says nothing of the supplier."""
    orders = [small.order(number, ("S-1", 1, 900)).id for number in ("A", "B")]
    first, second = (made.reference for made in small.write(lambda context: purchase_orders.send(context, orders)))
    whole = getattr(outside, where)

    def breaks(asked: Any) -> Any:
        assert first not in (asked if isinstance(asked, list) else [asked.reference])
        return whole(asked)

    if where == "find_purchases":
        outside.script = ["away", "away"]
        deliver(small, delivery, 2, to="supplier")
    setattr(outside, where, breaks)
    small.later(hours=1)
    deliver(small, delivery, to="supplier")
    state = {row.key: row.state for row in rows(small, "purchase")}
    assert state == {first: "unknown", second: "done"}
    setattr(outside, where, whole)
    deliver(small, delivery, 2, to="supplier")
    assert [row.state for row in rows(small, "purchase")] == ["done", "done"] and set(outside.has) >= {first, second}


def test_an_answer_that_cannot_be_taken_in_holds_up_no_other(
    small: Small, delivery: Delivery, outside: Outside, monkeypatch: pytest.MonkeyPatch
) -> None:
    want(small, 1, 1100)
    want(small, 2, 1200)
    follow = effects.follow

    def picky(context: Context, done: Any) -> None:
        if any(row.body["sku"] == "S-1" for row, _ in done):
            raise RuntimeError("not like this")
        follow(context, done)

    monkeypatch.setattr(effects, "follow", picky)
    deliver(small, delivery)
    rows = {row.body["sku"]: row for row in small.all(select(Outbox).where(Outbox.kind == "listing"))}
    assert rows["S-2"].state == "done" and rows["S-1"].state == "unknown" and "could not be taken in" in rows["S-1"].answer
    monkeypatch.undo()
    small.later(hours=1)
    deliver(small, delivery, 2)
    assert small.all(select(Outbox.state).where(Outbox.id == rows["S-1"].id)) == ["done"]
    assert [name for name, _ in outside.calls].count("change") == 2, "asked for, not sent again"


def test_a_database_that_others_hold_is_no_fault_of_an_answer(
    small: Small, delivery: Delivery, outside: Outside, monkeypatch: pytest.MonkeyPatch
) -> None:
    want(small, 1, 1100)
    want(small, 2, 1200)
    tried: list[int] = []

    def held(_: Context, done: Any) -> None:
        tried.append(len(done))
        raise TooLong("nobody could write for too long")

    monkeypatch.setattr(effects, "follow", held)
    with pytest.raises(TooLong):
        deliver(small, delivery)
    assert tried == [2], "the answers are not tried each alone while nobody can write"
    assert [(row.state, row.fault, row.tries) for row in rows(small, "listing")] == [("unknown", "", 1)] * 2
    monkeypatch.undo()
    small.later(hours=1)
    deliver(small, delivery)
    assert [row.state for row in rows(small, "listing")] == ["done"] * 2
    assert [name for name, _ in outside.calls].count("change") == 2, "asked for, not sent again"


def test_a_mail_of_unknown_outcome_is_put_to_a_person_and_never_called_sent(small: Small, delivery: Delivery, outside: Outside) -> None:
    """Where the mail server cannot be asked, neither the worker nor "try again" decides that a mail arrived."""
    order = small.order("A", ("S-1", 1, 900))
    made = small.write(lambda context: purchase_orders.send(context, [order.id]))[0]
    deliver(small, delivery)
    outside.cannot_ask = True
    small.write(lambda context: parcel_tracking.enter_tracking(context, made.reference, "RR473124829GB", "Hill Post"))
    outside.script = ["lost"]
    deliver(small, delivery, rounds=3, to="mailbox")
    (mail,) = rows(small, "mail")
    assert (mail.state, mail.fault) == ("dead", "unsure") and small.all(select(Message.state)) == ["waiting"]
    with small.db.reading() as s:
        (told,) = [one for one in today.open_alerts(small.context(s)) if one.kind == "Unsure"]
        assert told.step.label == "Send again" and told.other and told.other.label == "It arrived"
    small.write(lambda context: today.do_step(context, told.key, other=True))
    assert rows(small, "mail")[0].state == "done" and small.all(select(Message.state)) == ["sent"]
    sent = Counter(name for name, _ in outside.calls)["mail"]
    deliver(small, delivery)
    assert Counter(name for name, _ in outside.calls)["mail"] == sent
