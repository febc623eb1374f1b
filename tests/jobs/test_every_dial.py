"""A practice day with every dial turned up: in the end each of the three stores shows just what we want of it, and has every number."""

from __future__ import annotations

from typing import Any

from fastapi.testclient import TestClient
from sqlalchemy import func, select

from amber_lane.agent import Agent, Office
from amber_lane.api.app import make_app
from amber_lane.connectors.errors import OutsideError
from amber_lane.connectors.kinds import connect
from amber_lane.data.books import JournalEntry
from amber_lane.data.orders import Order, PurchaseOrder
from amber_lane.data.outbox import Outbox
from amber_lane.data.setup import Store, Token
from amber_lane.data.shelf import Listing, Sku
from amber_lane.services.books import settlements
from amber_lane.services.delivery import agent_leases
from amber_lane.services.listings import going_live
from amber_lane.services.partners import connections
from amber_lane.services.pricing.drafts import PolicyChange
from amber_lane.services.purchasing import payment_batches

from ..business import Business
from ..services.books.journal import is_whole, writes_nothing
from .test_agent import Hallway

HARM = 0.4
# Dials that count in shares; how late an answer is and how many calls are taken have measures of their own.
UNITS = {"slow": 0.1, "rate_limit": 20}
UNDER_WAY = ("waiting", "claimed", "unknown", "posted")
PATHS = {"shop": "own_site", "fair": "market_api", "craft": "craft_pages"}


def join_others(business: Business) -> Agent:
    """The marketplace and the closed store too, the latter by its program."""
    world = business.world
    for name, value in (("fair_calls", 100_000), ("fair_batch_minutes", 1)):
        world.post("facts", name=name, value=value)
    given = connections.Join("store", "market_api", "", f"{world.address}/fair/api", "dusk-dial:practice-fair")
    cursor = str(max([0, *(one["seq"] for one in world.record()["orders"])]))
    with business.app_state.db.writing() as s:
        context = business.context(s)
        fair = connections.join_partner(
            context, business.app_state.connectors, given, connections.ask_account(business.app_state.connectors, given)
        )
        fair.orders_cursor = cursor
        closed = connections.join_uncalled(context, connections.Join("store", "program", "Hearthmade Row", "", "", "GB", "GBP"))
        for store in (fair, closed):
            going_live.all_on(context, store)
        closed.orders_cursor = cursor
        token = agent_leases.make_token(context, closed.id)
    business.app_state.reader.listings(2)
    link = connect("store", "craft_pages", f"{world.address}/craft", "dusk-dial:practice-craft", 0.2)
    agent = Agent(Office("http://test", token, Hallway(TestClient(make_app(business.app_state)))), link, rest=lambda seconds: None)
    agent.once()
    return agent


def work(business: Business, agent: Agent) -> None:
    business.app_state.worker.delivery.not_before.clear()
    business.app_state.worker.delivery.batches.not_before.clear()
    business.app_state.worker.once()
    with business.app_state.db.writing() as s:
        # A lease is in real seconds; a test cannot wait for it.
        s.execute(Token.__table__.update().values(holder="", held_until=None))
    try:
        agent.once()
    except OutsideError:
        agent.link.call.client.cookies.clear()  # type: ignore[attr-defined]


def shown_by(business: Business, path: str) -> dict[str, tuple[int, int, str]]:
    keys = {"shop": "practice-shop", "fair": "practice-fair", "craft": "practice-craft"}
    root = "" if path == "craft" else "/api"
    link = connect("store", PATHS[path], f"{business.world.address}/{path}{root}", f"dusk-dial:{keys[path]}", 5)
    return {one.sku: (one.price, one.quantity, one.state) for page in link.listings() for one in page.listings}


def test_with_every_dial_at_two_fifths_every_store_ends_as_we_want_it(business: Business) -> None:
    world, house = business.world, business.app_state
    # Deadlines are short, since four calls in ten end by them.
    house.connectors.deadline, house.worker.delivery.settle, house.reader.rest = 0.2, 0.0, lambda seconds: None
    house.connectors.forget()
    world.post("facts", name="hold_seconds", value=0.25)
    with house.db.writing() as s:
        PolicyChange("house", "", {"send": "once"}).keep(business.context(s))
    agent = join_others(business)
    for service in world.client.get("/world/dials").json()["services"]:
        for dial in service["dials"]:
            world.dial(service["service"], dial["name"], UNITS.get(dial["name"], HARM))
    _sku, item = business.laned()
    numbers = [world.post("buy", store=store)["number"] for store in ("shop", "fair", "craft") for _ in range(2)]
    for lap in range(12):
        world.post("items", number=item.number, cost=item.cost + 7 * lap, stock=40 - lap)
        business.on(120)
        work(business, agent)
    world.calm()
    for _ in range(40):
        business.on(120)
        work(business, agent)
        given = {row.body["order"] for row in business.all(select(Outbox).where(Outbox.kind == "fulfilment", Outbox.state == "done"))}
        if given >= set(numbers) and not business.all(select(Outbox.id).where(Outbox.state.in_(UNDER_WAY))):
            break
    dead: list[Any] = business.all(select(Outbox).where(Outbox.state == "dead"))
    assert not dead, [(row.kind, row.target, row.fault, row.answer) for row in dead]
    stores = {row.kind: row.id for row in business.all(select(Store))}
    for path, kind in (("shop", "own_site"), ("fair", "market_api"), ("craft", "program")):
        told = shown_by(business, path)
        with business.app_state.db.reading() as s:
            rows = s.execute(select(Sku.code, Listing).join(Sku, Sku.id == Listing.sku_id).where(Listing.store_id == stores[kind])).all()
        assert rows
        for code, row in rows:
            if row.state in ("live", "paused"):
                assert told[code] == (row.wanted_price, row.wanted_quantity, row.state), (path, code)
    # Each store has the number of its every order, under a carrier's name that it knows.
    sent = {one["number"] for one in world.record()["orders"] if one["state"] == "sent"}
    assert set(numbers) <= sent
    books_agree(business)


def books_agree(business: Business) -> None:
    """To the penny: the journal, the orders, what suppliers were paid, what the marketplace paid out, and what the practice world counts."""
    world, house = business.world, business.app_state
    business.on(36 * 60)
    (fair,) = (row.id for row in business.all(select(Store)) if row.kind == "market_api")
    house.reader.settlements(fair)
    record = world.record()
    paid = {one["number"]: one["paid"] for one in record["orders"]}
    billed = {one["reference"]: one["billed"] for one in record["purchases"] if one["state"] in ("accepted", "shipped")}
    with house.db.writing() as s:
        context = business.context(s)
        is_whole(context, settled=True)
        assert writes_nothing(context)
        e = JournalEntry
        prepaid = select(Order.number, func.sum(e.amount)).join(Order, Order.id == e.order_id).where(e.kind == "prepaid")
        rows = s.execute(prepaid.group_by(Order.id)).tuples().all()
        assert rows and all(amount == paid[number] for number, amount in rows)
        charges = ("goods", "shipping", "handling", "supplier_tax")
        cost = select(PurchaseOrder.reference, func.sum(e.amount)).join(PurchaseOrder, PurchaseOrder.id == e.purchase_id)
        costs = {ref: -amount for ref, amount in s.execute(cost.where(e.kind.in_(charges)).group_by(PurchaseOrder.id)) if amount}
        assert costs == billed
        # What the marketplace paid out is what it told of, and nothing is owed any more.
        link = connect("store", "market_api", f"{world.address}/fair/api", "dusk-dial:practice-fair", 5)
        told = sum(one.amount for one in link.settlements("").lines if one.kind == "payout")
        assert s.scalar(select(func.sum(e.amount)).where(e.kind == "payout")) == told > 0
        assert settlements._balance(context) == []
        # All batches paid: no supplier is owed anything.
        for supplier in s.scalars(select(PurchaseOrder.supplier_id).where(PurchaseOrder.batch.is_(None)).distinct()).all():
            code, _ = payment_batches.collect(context, supplier)
            payment_batches.pay(context, code)
    with house.db.reading() as s:
        there, taken = (
            s.scalar(select(func.coalesce(func.sum(JournalEntry.home), 0)).where(column == "supplier"))
            for column in (JournalEntry.account, JournalEntry.against)
        )
        assert there == taken
